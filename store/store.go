// Package store keeps the records of the service in one SQLite file: accounts, nameplates, procedure revisions,
// runs with their traces, points, marks and figures, and the journal.
//
// Traces are written by [Recorder]s as compressed blocks of columns with a min/max pyramid above them; once a
// second one transaction takes the new frames of all bays. [Store.Window] reads any window of any run at a cost
// that does not grow with the length of the run.
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// Store is an open database. It is safe for use by several goroutines.
type Store struct {
	db *gorm.DB
	// turn is held while writing. SQLite has one writer at a time; waiting for it here costs nothing, waiting
	// inside SQLite a thread.
	turn  *semaphore.Weighted
	on    Surroundings
	watch watch

	outcomes outcomes

	mu        sync.Mutex // guards recorders
	recorders map[string]*Recorder
	flushing  *semaphore.Weighted // held while the pending data of all recorders is written; taken before any recorder's
	flushed   chan struct{}       // closed when the flusher has ended
	stop      context.CancelFunc
	enqueued  atomic.Uint64
	open      *sql.Conn // held for as long as the store is
}

// ErrNotFound is returned when a record does not exist, ErrConflict when it exists already or changed meanwhile.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("it exists already")
)

// FlushInterval is how often new frames become durable: nothing older is lost by a kill or a power cut.
const FlushInterval = time.Second

// Disk is asked before every write; its error is that of the write, and the time that it takes is too. It stands in for
// disks that are slow, full or broken.
type Disk func() error

// Surroundings are what a store finds on its computer; what is nil is the computer's own.
type Surroundings struct {
	Disk Disk
	// Clock tells the time of day. It may be set at any time.
	Clock func() time.Time
}

// Open opens or creates the database at path and brings it to the current schema.
func Open(path string) (*Store, error) { return OpenOn(path, Surroundings{}) }

// OpenOn is Open in surroundings that stand in for the computer's.
func OpenOn(path string, on Surroundings) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if err := lookBefore(path); err != nil {
		return nil, err
	}
	if err := removeMakings(filepath.Dir(path)); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	db, err := gorm.Open(&sqlite.Dialector{DriverName: driverName, DSN: source(path)},
		&gorm.Config{Logger: logger.Discard, TranslateError: true})
	if err != nil {
		return nil, fmt.Errorf("open database %s: %w", path, damage(err))
	}
	if err := prepare(db, path); err != nil {
		return nil, errors.Join(fmt.Errorf("open database %s: %w", path, err), closeDB(db))
	}
	ctx, cancel := context.WithCancel(context.Background())
	s, err := begin(ctx, cancel, db, path, on)
	if err == nil && s.watch.file.Size() > quickWithin {
		go func() { _ = s.Check(ctx) }() // the watch keeps what it finds
	}
	return s, err
}

// begin makes a store of a database that is open, whose work ends with the context.
func begin(ctx context.Context, cancel context.CancelFunc, db *gorm.DB, path string, on Surroundings) (*Store, error) {
	s := &Store{db: db, on: on, watch: watch{path: path}, turn: semaphore.NewWeighted(1),
		flushing: semaphore.NewWeighted(1), recorders: map[string]*Recorder{}, flushed: make(chan struct{}), stop: cancel}
	if err := errors.Join(s.stayOpen(ctx), s.watch.look()); err != nil {
		cancel()
		return nil, errors.Join(err, closeDB(db))
	}
	go s.flushRegularly(ctx)
	return s, nil
}

// File is the name of the database in the folder of the records.
const File = "usher.db"

// OpenBeside opens records that another process of this program has open, which has brought them up to date and looks
// after them.
func OpenBeside(path string) (*Store, error) {
	db, err := gorm.Open(&sqlite.Dialector{DriverName: driverName, DSN: source(path)},
		&gorm.Config{Logger: logger.Discard, TranslateError: true})
	if err != nil {
		return nil, fmt.Errorf("open database %s: %w", path, damage(err))
	}
	ctx, cancel := context.WithCancel(context.Background())
	return begin(ctx, cancel, db, path, Surroundings{})
}

// keepPrivate has nobody but the account of the service read the database, whoever made the folder.
func keepPrivate(path string) error {
	for _, ending := range []string{"", "-wal", "-shm"} {
		err := os.Chmod(path+ending, 0o600)
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) { // it may be another's
			return fmt.Errorf("database: %w", err)
		}
	}
	return nil
}

// source is how SQLite opens the file. Times are kept in UTC and read in the zone of the computer, in which people are
// told of them.
func source(path string) string {
	return uriOf(path) + "?_journal_mode=WAL&_synchronous=FULL&_busy_timeout=10000&_foreign_keys=1" +
		"&_txlock=immediate&_loc=auto&_stmt_cache_size=100"
}

// uriOf is a path as SQLite takes it: a folder may have any name, and what begins a fragment or a query there would be
// cut off, so that two folders had one database.
func uriOf(path string) string {
	return "file:" + strings.NewReplacer("%", "%25", "#", "%23", "?", "%3f").Replace(path)
}

// stayOpen holds a connection for good: SQLite deletes the write-ahead log with the last one, and makes another later,
// which the watch would take for a log that somebody took away.
func (s *Store) stayOpen(ctx context.Context) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	if s.open, err = pool.Conn(ctx); err != nil {
		return err
	}
	var tables int // what has read something has the log open
	return s.open.QueryRowContext(ctx, "SELECT count(*) FROM sqlite_master").Scan(&tables)
}

// prepare checks a database, and brings it to the current schema.
func prepare(db *gorm.DB, path string) error {
	if err := checkOpened(db); err != nil {
		return err
	}
	if info, err := os.Stat(path); err == nil && info.Size() <= quickWithin {
		if err := check(context.Background(), path); err != nil {
			return err
		}
	}
	if err := errors.Join(migrate(db, path), keepPrivate(path)); err != nil {
		return err
	}
	folder := filepath.Dir(path)
	if _, err := os.Stat(filepath.Join(folder, note)); errors.Is(err, fs.ErrNotExist) {
		_ = writeNote(folder) // where there is no room for it now, the next start tries again
	}
	return nil
}

func closeDB(db *gorm.DB) error {
	pool, err := db.DB()
	if err != nil {
		return err
	}
	return pool.Close()
}

// Close writes what is pending and closes the database.
func (s *Store) Close() error {
	s.stop()
	<-s.flushed
	return errors.Join(s.flush(), s.open.Close(), closeDB(s.db))
}

// Now is the time of day, for what is put on record and what is held against it. Somebody may set the clock at any
// time: how long something takes is not measured with it.
func (s *Store) Now() time.Time {
	if s.on.Clock != nil {
		return s.on.Clock().Round(0)
	}
	return time.Now().Round(0) // without the reading of the monotonic clock
}

// write runs a transaction when it is this caller's turn.
func (s *Store) write(do func(tx *gorm.DB) error) error {
	return s.writing(func(db *gorm.DB) error { return db.Transaction(do) })
}

// writing does what writes, in whatever transactions, when it is this caller's turn.
func (s *Store) writing(do func(db *gorm.DB) error) error {
	defer takeTurn(s.turn)()
	err := s.watch.look()
	if err == nil && s.on.Disk != nil {
		err = s.on.Disk()
	}
	if err == nil {
		err = damage(do(s.db))
	}
	s.watch.wrote(err)
	return err
}

// takeTurn waits for what one at a time may have, and gives back how it is given up. It is no mutex: in simulated time
// whoever waits for a mutex keeps the clock from moving on.
func takeTurn(of *semaphore.Weighted) (giveUp func()) {
	_ = of.Acquire(context.Background(), 1) // it fails only with its context
	return func() { of.Release(1) }
}

// Checkpoint moves everything from the write-ahead log to the main file, so that a copy of that file is complete.
func (s *Store) Checkpoint() error { return s.db.Exec("PRAGMA wal_checkpoint(TRUNCATE)").Error }

func (s *Store) flushRegularly(ctx context.Context) {
	defer close(s.flushed)
	ticker := time.NewTicker(FlushInterval)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			_ = s.flush() // each recorder keeps the error for its bay
		}
	}
}

// notFound words gorm's missing record.
func notFound(err error, what, name string) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return fmt.Errorf("%s %q: %w", what, name, ErrNotFound)
	}
	return err
}
