package engine

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"usherbench/core/stage"
)

// tombstones are files beside the database, one for each run that has ended but may not be on record as ended: the
// disk was full, or the service is killed before it is. A run that has one never goes on. A full disk has room for
// the name of a file even where it has none for its text.
//
// A run that is live has a file too, which goes when the run ends. One without it never goes on either: where an older
// copy of the records was put in place, runs are live in it that have long come to their end.
type tombstones struct{ folder string } // no folder: none are kept

// ended is how a run ended.
type ended struct {
	State  string  `json:"state"`
	Reason string  `json:"reason"`
	T      float64 `json:"t"`
}

func (t tombstones) file(run string) string { return filepath.Join(t.folder, run+".json") }

// begin notes that a run is live.
func (t tombstones) begin(run string) error {
	if t.folder == "" {
		return nil
	}
	return errors.Join(os.MkdirAll(t.folder, 0o700), os.WriteFile(t.live(run), nil, 0o600))
}

func (t tombstones) live(run string) string { return filepath.Join(t.folder, run+".live") }

// put notes that a run has ended.
func (t tombstones) put(run string, e ended) error {
	if t.folder == "" {
		return nil
	}
	if err := remove(t.live(run)); err != nil {
		return err
	}
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(t.folder, 0o700); err != nil {
		return err
	}
	return os.WriteFile(t.file(run), text, 0o600)
}

// drop forgets a run whose end is on record.
func (t tombstones) drop(run string) error {
	if t.folder == "" {
		return nil
	}
	return errors.Join(remove(t.live(run)), remove(t.file(run)))
}

// remove removes a file that may not be there.
func remove(file string) error {
	if err := os.Remove(file); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// of tells how a run ended that is on record as live; ok is false if nobody knows that it has.
func (t tombstones) of(run string) (e ended, ok bool) {
	if t.folder == "" {
		return e, false
	}
	text, err := os.ReadFile(t.file(run))
	if errors.Is(err, fs.ErrNotExist) {
		if _, err := os.Stat(t.live(run)); err != nil {
			return ended{State: string(stage.Aborted), Reason: "it had come to its end, of which these records do not " +
				"tell: they are an older copy, or an older program wrote them"}, true
		}
		return e, false
	}
	if err != nil || json.Unmarshal(text, &e) != nil || e.State == "" {
		e = ended{State: string(stage.Aborted), Reason: "it had ended, but why could not be written"}
	}
	return e, true
}
