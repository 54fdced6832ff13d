package engine

import (
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
)

// mayBeOn are files beside the database, one for each bay in which an output may be on: from before it is switched on
// until all are confirmed off. The records tell of it too, but a copy of them that is put in place may be older.
type mayBeOn struct {
	folder string // no folder: none are kept
	log    *slog.Logger
}

func (m mayBeOn) file(bay string) string { return filepath.Join(m.folder, bay) }

// left tells whether an output of the bay may have been left on. What cannot be looked up may be.
func (m mayBeOn) left(bay string) bool {
	if m.folder == "" {
		return false
	}
	_, err := os.Stat(m.file(bay))
	return !errors.Is(err, os.ErrNotExist)
}

// of keeps the file of one bay. That outputs are off is written beside the bay's goroutine, which has others to look
// after.
func (m mayBeOn) of(bay string, beside func(func())) func(on bool) {
	if m.folder == "" {
		return func(bool) {}
	}
	var mu sync.Mutex // guards what follows, and the order in which the file is written
	var on, written bool
	write := func() {
		mu.Lock()
		defer mu.Unlock()
		if on == written {
			return
		}
		var err error
		if on {
			err = errors.Join(os.MkdirAll(m.folder, 0o700), os.WriteFile(m.file(bay), nil, 0o600))
		} else {
			err = remove(m.file(bay))
		}
		if err != nil { // the records tell of it too
			m.log.Error("keep beside the records whether outputs may be on", "bay", bay, "err", err)
			return
		}
		written = on
	}
	written = m.left(bay)
	return func(now bool) {
		mu.Lock()
		on = now
		mu.Unlock()
		if now {
			write()
			return
		}
		beside(write)
	}
}
