package engine

import (
	"usherbench/api"
	"usherbench/archive"
	"usherbench/store"
)

// Import brings a foreign log in as a run with its figures.
func (e *Engine) Import(by string, request api.ImportLog) (store.Run, error) {
	if err := CheckSerial(request.Serial); err != nil {
		return store.Run{}, err
	}
	run, err := archive.Import(e.store, by, request)
	if err != nil {
		return run, err
	}
	run.State = "done"
	columns := map[string]any{}
	if _, err := e.judge(run, columns); err != nil {
		return run, err
	}
	e.Journal(store.JournalEntry{By: by, RunID: run.ID, What: "log imported", Detail: run.Source + " as " + run.Serial})
	return e.store.Run(run.ID)
}
