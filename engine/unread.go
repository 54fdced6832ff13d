package engine

import (
	"errors"
	"fmt"
	"log/slog"
	"sync"

	"usherbench/bench"
	"usherbench/engine/outputs"
	"usherbench/instrument/dialect"
	"usherbench/store"
)

// MakeSafeUnread makes safe every bay of which the file tells, for a service that does not start because it cannot read
// its records: one that was killed before may have left something on, and nobody knows what. The error names what could
// not be confirmed off.
func MakeSafeUnread(file bench.Config, dialects dialect.Library, log *slog.Logger, o Options) (err error) {
	b, err := bench.Open(bench.Options{File: file, Dialects: dialects, Memory: o.Memory,
		Journal: func(store.JournalEntry) {}})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, b.Close()) }()
	bays := b.Config().Bays
	errs := make(chan error, len(bays))
	var wg sync.WaitGroup
	for name, c := range bays {
		board := outputs.New(c.Seats, b.Opened(), outputs.Options{Bay: name, Log: log, Go: wg.Go,
			Journal: func(what, detail, _ string) { log.Warn(what, "bay", name, "detail", detail) }})
		wg.Go(func() {
			if err := board.MakeSafe("the records cannot be read, so that nobody knows what was left on", ""); err != nil {
				errs <- fmt.Errorf("%s: %w", name, err)
			}
		})
	}
	wg.Wait()
	close(errs)
	for failed := range errs {
		err = errors.Join(err, failed)
	}
	return err
}
