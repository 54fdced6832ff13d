package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/mattn/go-sqlite3"
	"gorm.io/gorm"
)

// ErrNotWhole means that the database is not what this program has written: it is gone, empty, cut off, another one, or
// damaged. What was on record is not made up, and nothing is written over what may still be saved.
var ErrNotWhole = errors.New("the records are not whole")

// Remedy is what to do about records that are not whole.
const Remedy = "stop the service, keep the file for whoever may save it, and put a copy of it in its place"

func notWhole(format string, args ...any) error {
	return fmt.Errorf("%w: "+format+"; "+Remedy, append([]any{ErrNotWhole}, args...)...)
}

// note lies beside a database and tells that there is one, so that one that has vanished is not taken for one that was
// never made.
const (
	note     = "RECORDS.txt"
	noteText = "This folder holds the records of a service in usher.db. Without that file the service does not start\n" +
		"here: put a copy of it back. To begin without any records, take another folder, or remove this file too.\n"
)

func writeNote(folder string) error {
	return os.WriteFile(filepath.Join(folder, note), []byte(noteText), 0o600)
}

// lookBefore says why a file is not to be opened as a database. A new one is made where there never was one.
func lookBefore(path string) error {
	if _, err := os.Stat(filepath.Join(filepath.Dir(path), note)); err != nil {
		return nil // a service that was killed while it made the first one has left nothing behind that counts
	}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return notWhole("%s is gone, and %s beside it says that it was there", path, note)
	case err != nil:
		return err
	case info.Size() == 0:
		return notWhole("%s is empty", path)
	}
	return nil
}

// quickWithin is how large a database is checked before it is used; a larger one is checked while it is.
const quickWithin = 256 << 20

// checkOpened says why a database that was opened is not to be used.
func checkOpened(db *gorm.DB) error {
	version, err := schemaVersion(db)
	if err != nil {
		return damage(err)
	}
	var tables int64
	if err := db.Raw("SELECT count(*) FROM sqlite_master").Scan(&tables).Error; err != nil {
		return damage(err)
	}
	if version == 0 && tables > 0 {
		return notWhole("it was written by another program")
	}
	return nil
}

// check reads every page of the database from the disk, over a connection that has read none yet, and tells what is
// damaged.
func check(ctx context.Context, path string) (err error) {
	db, err := sql.Open(driverName, source(path))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	var found string
	if err := db.QueryRowContext(ctx, "PRAGMA quick_check(1)").Scan(&found); err != nil {
		return damage(err)
	}
	if found == "ok" {
		return nil
	}
	return notWhole("SQLite finds: %s", found)
}

// damage tells what an error of SQLite says about the records; other errors stay what they are.
func damage(err error) error {
	var code sqlite3.Error
	if errors.As(err, &code) && (code.Code == sqlite3.ErrCorrupt || code.Code == sqlite3.ErrNotADB) {
		return notWhole("SQLite says %w", err)
	}
	return err
}

// watch sees to it that the database stays the file that was opened, and knows whether it can be written.
type watch struct {
	path string

	mu      sync.Mutex // guards what follows
	file    fs.FileInfo
	ahead   fs.FileInfo // the write-ahead log; nil: not seen yet
	damaged error       // found in the file
	failed  uint64      // writes
	since   time.Time   // of failing; zero: the last write went well
	why     error
}

// look says why the database is no longer the one that was opened.
func (w *watch) look() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.damaged != nil {
		return w.damaged
	}
	now, err := os.Stat(w.path)
	switch {
	case err != nil:
		return notWhole("%s is gone", w.path)
	case w.file != nil && !os.SameFile(now, w.file):
		return notWhole("%s is another file than the one that was opened", w.path)
	case w.file != nil && now.Size() < w.file.Size():
		return notWhole("%s was cut off from %d to %d bytes", w.path, w.file.Size(), now.Size())
	}
	w.file = now
	ahead, err := os.Stat(w.path + "-wal")
	switch {
	case err == nil && w.ahead == nil:
		w.ahead = ahead
	case err == nil && !os.SameFile(ahead, w.ahead), err != nil && w.ahead != nil:
		return notWhole("%s-wal, which holds what was written last, is gone", w.path)
	}
	return nil
}

// wrote notes what became of a write.
func (w *watch) wrote(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if errors.Is(err, ErrNotWhole) && w.damaged == nil && w.file != nil && errors.As(err, new(sqlite3.Error)) {
		w.damaged = err
	}
	switch {
	case err == nil:
		w.since, w.why = time.Time{}, nil
	case isRefusal(err): // the disk has nothing to do with it
	default:
		w.failed++
		w.why = err
		if w.since.IsZero() {
			w.since = time.Now() // to be told, not recorded
		}
	}
}

// isRefusal tells whether a write failed for what was to be written.
func isRefusal(err error) bool {
	if errors.Is(err, ErrNotFound) || errors.Is(err, ErrConflict) || errors.Is(err, gorm.ErrDuplicatedKey) ||
		errors.Is(err, gorm.ErrForeignKeyViolated) || errors.Is(err, gorm.ErrRecordNotFound) {
		return true
	}
	var code sqlite3.Error
	return errors.As(err, &code) && code.Code == sqlite3.ErrConstraint
}

// Whole says why the records are not whole; nil: as far as is known they are.
func (s *Store) Whole() error { return s.watch.look() }

// Failing tells since when writes fail, and why; nil: the last one went well. failed counts them.
func (s *Store) Failing() (since time.Time, failed uint64, why error) {
	s.watch.mu.Lock()
	defer s.watch.mu.Unlock()
	return s.watch.since, s.watch.failed, s.watch.why
}

// Check reads the whole database and tells what is damaged, with ErrNotWhole. A large one takes its time, and the
// service works on meanwhile.
func (s *Store) Check(ctx context.Context) error {
	if err := s.watch.look(); err != nil {
		return err
	}
	err := check(ctx, s.watch.path)
	if errors.Is(err, ErrNotWhole) {
		s.watch.mu.Lock()
		s.watch.damaged = err
		s.watch.mu.Unlock()
	}
	return err
}

// Locked tells whether an error is that another program holds the database.
func Locked(err error) bool {
	var code sqlite3.Error
	return errors.As(err, &code) && (code.Code == sqlite3.ErrBusy || code.Code == sqlite3.ErrLocked)
}
