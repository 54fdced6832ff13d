package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/store"
)

const copyPath = "/api/v1/records/copy"

// copyRecords hands a copy of all records out; the work is done at the desk.
func (s *Service) copyRecords(c *echo.Context) error {
	s.note(who(c), "records copied", from(c))
	return s.askDesk(c.Response(), c.Request(), who(c))
}

func (s *Service) workOutCopy(c *echo.Context) error {
	return s.store.WithCopy(c.Request().Context(), func(file string) error {
		f, err := os.Open(file)
		if err != nil {
			return err
		}
		defer f.Close()
		attach(c.Response(), "application/vnd.sqlite3", copyName(s.store.Now()))
		http.ServeContent(c.Response(), c.Request(), "", time.Time{}, f)
		return nil
	})
}

func (s *Service) listCopies(c *echo.Context) error {
	return c.JSON(http.StatusOK, s.copies.state())
}

// How copies are named that are made by themselves: by the instant, so that the names stand in its order.
const (
	copyStamp  = "20060102T150405Z"
	copyPrefix = "usher-"
	copyEnding = ".db"
)

func copyName(at time.Time) string { return copyPrefix + at.UTC().Format(copyStamp) + copyEnding }

// copyTime is the instant in the name of a copy.
func copyTime(name string) (time.Time, bool) {
	if len(name) != len(copyPrefix)+len(copyStamp)+len(copyEnding) {
		return time.Time{}, false
	}
	at, err := time.Parse(copyPrefix+copyStamp+copyEnding, name)
	return at, err == nil
}

// copies makes a copy of the records every so often, and keeps the newest ones. The zero value makes none.
type copies struct {
	store *store.Store
	asked bench.Copies
	log   *slog.Logger
	note  func(what, detail string)

	mu   sync.Mutex // guards what follows
	last *api.RecordsCopy
	made time.Time // when this service made the last one
	why  error     // the last one could not be made
}

// tryAgain is after what time a copy is tried again that could not be made.
const tryAgain = 10 * time.Minute

// run makes copies until the context ends.
func (k *copies) run(ctx context.Context) {
	for ctx.Err() == nil {
		wait := time.Until(k.due())
		if wait > 0 {
			timer := time.NewTimer(wait)
			select {
			case <-ctx.Done():
			case <-timer.C:
			}
			timer.Stop()
			continue
		}
		err := k.make(ctx)
		if ctx.Err() != nil {
			return
		}
		k.mu.Lock()
		before := k.why
		k.why = err
		k.mu.Unlock()
		switch {
		case err != nil && (before == nil || before.Error() != err.Error()):
			k.log.Error("copy of the records", "err", err)
			k.note("records not copied", err.Error())
		case err == nil && before != nil:
			k.note("records copied again", "")
		}
		if err != nil {
			timer := time.NewTimer(min(tryAgain, time.Duration(k.asked.Every)))
			select {
			case <-ctx.Done():
			case <-timer.C:
			}
			timer.Stop()
		}
	}
}

// due is when the next copy is made: so long after the last. What an earlier service has made counts by its name, but
// for one of an instant that is still to come: the clock was set back since.
func (k *copies) due() time.Time {
	k.mu.Lock()
	last := k.made
	k.mu.Unlock()
	if last.IsZero() {
		if last = k.newest(); last.After(time.Now()) {
			return time.Time{}
		}
	}
	return last.Add(time.Duration(k.asked.Every))
}

// all lists the copies in the folder, the oldest first.
func (k *copies) all() (names []string, err error) {
	entries, err := os.ReadDir(k.asked.Folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if _, ok := copyTime(e.Name()); ok {
			names = append(names, e.Name())
		}
	}
	slices.Sort(names)
	return names, err
}

// make makes a copy, reads it whole, and removes those that are too many. One that is not whole is not kept, and costs
// no earlier one.
func (k *copies) make(ctx context.Context) error {
	// It is not made here: below a disk that is not mounted it would lie on the disk that it is to guard against.
	if info, err := os.Stat(k.asked.Folder); err != nil || !info.IsDir() {
		return fmt.Errorf("the folder %s for copies is not there; make it, or mount its disk", k.asked.Folder)
	}
	file := filepath.Join(k.asked.Folder, copyName(k.store.Now()))
	if err := k.store.Copy(ctx, file); err != nil {
		return err
	}
	found, err := store.Inspect(ctx, file)
	if err != nil {
		return errors.Join(fmt.Errorf("the copy is not whole: %w", err), os.Remove(file))
	}
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	at, _ := copyTime(filepath.Base(file))
	k.mu.Lock()
	k.made = time.Now()
	k.last = &api.RecordsCopy{File: file, At: at, Bytes: info.Size(), Runs: found.Runs, Entries: found.Entries,
		Schema: found.Schema}
	k.mu.Unlock()
	all, err := k.all()
	others := slices.DeleteFunc(all, func(name string) bool { return name == filepath.Base(file) })
	for len(others) >= k.asked.Keep && err == nil {
		err = os.Remove(filepath.Join(k.asked.Folder, others[0]))
		others = others[1:]
	}
	return err
}

// state tells of the copies that are made by themselves.
func (k *copies) state() api.RecordsCopies {
	all := api.RecordsCopies{Copies: []api.RecordsCopy{}}
	if k == nil {
		return all
	}
	all.Folder, all.Every, all.Keep = k.asked.Folder, k.asked.Every, k.asked.Keep
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.why != nil {
		all.Why = k.why.Error()
	}
	names, err := k.all()
	if err != nil {
		all.Why = err.Error()
	}
	for _, name := range slices.Backward(names) {
		file := filepath.Join(k.asked.Folder, name)
		at, _ := copyTime(name)
		one := api.RecordsCopy{File: file, At: at}
		if info, err := os.Stat(file); err == nil {
			one.Bytes = info.Size()
		}
		if k.last != nil && k.last.File == file {
			one = *k.last
		}
		all.Copies = append(all.Copies, one)
	}
	return all
}

// newest is the instant of the newest copy by its name; zero: there is none.
func (k *copies) newest() time.Time {
	if k == nil {
		return time.Time{}
	}
	if names, err := k.all(); err == nil && len(names) > 0 {
		at, _ := copyTime(names[len(names)-1])
		return at
	}
	return time.Time{}
}

// PutBack makes a copy the records of a data folder that no service uses, and tells what it holds and where the records
// are that were there before.
func PutBack(ctx context.Context, file, data string, now time.Time) (found store.Inspected, aside string, err error) {
	held, err := lock(data)
	if err != nil {
		return found, "", err
	}
	defer func() { err = errors.Join(err, held.Close()) }()
	return store.PutBack(ctx, file, data, now)
}
