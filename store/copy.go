package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/mattn/go-sqlite3"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// While a copy is made, so many pages are read at a time, and others have the disk for so long in between.
const (
	pagesAtOnce = 512
	breath      = time.Millisecond
)

// Copy writes all records as they are at one instant into a new file, while everybody works on: SQLite's online backup
// from a connection that stays at that instant. The file is there when all of it is on the disk, or not at all.
func (s *Store) Copy(ctx context.Context, file string) (err error) {
	if _, err := os.Stat(file); err == nil {
		return fmt.Errorf("%s: %w; choose another name", file, fs.ErrExist)
	}
	if err := s.watch.look(); err != nil {
		return err
	}
	if err := roomFor(s.Size(), filepath.Dir(file)); err != nil {
		return fmt.Errorf("copy: %w", err)
	}
	folder, err := os.MkdirTemp(filepath.Dir(file), makings)
	if err != nil {
		return fmt.Errorf("copy: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	part := filepath.Join(folder, File)
	if err := copyPages(ctx, s.watch.path, part); err != nil {
		return fmt.Errorf("copy: %w", damage(err))
	}
	if err := errors.Join(os.Chmod(part, 0o600), onDisk(part)); err != nil {
		return fmt.Errorf("copy: %w", err)
	}
	if err := os.Rename(part, file); err != nil {
		return fmt.Errorf("copy: %w", err)
	}
	return onDisk(filepath.Dir(file))
}

// spareRoom is what a copy leaves free on a disk, on which a service may record.
const spareRoom = 256 << 20

// roomFor says why so many bytes are not written into a folder.
func roomFor(bytes int64, folder string) error {
	var disk syscall.Statfs_t
	if err := syscall.Statfs(folder, &disk); err != nil {
		return fmt.Errorf("%s: %w", folder, err)
	}
	if free := int64(disk.Bavail) * disk.Bsize; free < bytes+spareRoom {
		return fmt.Errorf("%s has room for %d MB, and a copy takes %d MB beside the %d MB that are left to others; "+
			"make room, or take another disk", folder, free>>20, bytes>>20, int64(spareRoom)>>20)
	}
	return nil
}

// WithCopy has somebody use a copy of all records, which is gone afterwards.
func (s *Store) WithCopy(ctx context.Context, use func(file string) error) (err error) {
	folder, err := os.MkdirTemp(filepath.Dir(s.watch.path), makings)
	if err != nil {
		return fmt.Errorf("copy: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	file := filepath.Join(folder, "copy.db")
	if err := s.Copy(ctx, file); err != nil {
		return err
	}
	return use(file)
}

// Size is how many bytes the records take on the disk, what was written last included.
func (s *Store) Size() (bytes int64) {
	for _, ending := range []string{"", "-wal"} {
		if info, err := os.Stat(s.watch.path + ending); err == nil {
			bytes += info.Size()
		}
	}
	return bytes
}

// copyPages copies a database as it is now.
func copyPages(ctx context.Context, from, to string) (err error) {
	source, closeSource, err := rawConn(ctx, source(from))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, closeSource()) }()
	// Within a transaction that has read something the connection stays at that instant, whoever writes meanwhile.
	for _, sql := range []string{"BEGIN DEFERRED", "SELECT count(*) FROM sqlite_master"} {
		if _, err := source.Exec(sql, nil); err != nil {
			return err
		}
	}
	target, closeTarget, err := rawConn(ctx, uriOf(to)+"?_synchronous=OFF")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, closeTarget()) }()
	backup, err := target.Backup("main", source, "main")
	if err != nil {
		return err
	}
	for done := false; !done; {
		if done, err = backup.Step(pagesAtOnce); err == nil && !done {
			err = rest(ctx, breath)
		}
		if err != nil {
			return errors.Join(err, backup.Close())
		}
	}
	if err := backup.Close(); err != nil {
		return err
	}
	// One file has all of it: a write-ahead log of its own would be left behind when it is carried away.
	_, err = target.Exec("PRAGMA journal_mode=DELETE", nil)
	return err
}

// rawConn is one connection of SQLite's own.
func rawConn(ctx context.Context, dsn string) (raw *sqlite3.SQLiteConn, closed func() error, err error) {
	db, err := sql.Open(driverName, dsn)
	if err != nil {
		return nil, nil, err
	}
	one, err := db.Conn(ctx)
	if err != nil {
		return nil, nil, errors.Join(err, db.Close())
	}
	err = one.Raw(func(conn any) error {
		raw = conn.(*utcConn).SQLiteConn
		return nil
	})
	return raw, func() error { return errors.Join(one.Close(), db.Close()) }, err
}

func rest(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-timer.C:
		return nil
	}
}

// onDisk waits until a file or folder is on the disk.
func onDisk(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// Inspected is what a copy of records holds.
type Inspected struct {
	Schema  int `json:"schema"`
	Runs    int `json:"runs"`
	Entries int `json:"entries"` // of the journal
	// Newest is when the last entry of the journal was written, or the last run began; zero: there is none.
	Newest time.Time `json:"newest"`
}

// Inspect reads a copy of records whole and tells what it holds. ErrNotWhole says what is damaged: a page, a reference
// to what is not there, or an entry of the journal that is not as it was written. The file is not changed.
func Inspect(ctx context.Context, file string) (found Inspected, err error) {
	if info, err := os.Stat(file); err != nil || info.IsDir() || info.Size() == 0 {
		return found, fmt.Errorf("%s is no copy of records: it is missing or empty", file)
	}
	if log, err := os.Stat(file + "-wal"); err == nil && log.Size() > 0 {
		return found, fmt.Errorf("%s has a write-ahead log beside it, in which the newest records are: it is the database "+
			"of a service; copy it by usher backup", file)
	}
	db, err := gorm.Open(&sqlite.Dialector{DriverName: driverName, DSN: uriOf(file) + "?mode=ro&immutable=1&_loc=auto"},
		&gorm.Config{Logger: logger.Discard, TranslateError: true})
	if err != nil {
		return found, damage(err)
	}
	defer func() { err = errors.Join(err, closeDB(db)) }()
	db = db.WithContext(ctx)
	if err := checkOpened(db); err != nil {
		return found, err
	}
	var said []string
	if err := db.Raw("PRAGMA integrity_check(1)").Scan(&said).Error; err != nil {
		return found, damage(err)
	}
	if len(said) != 1 || said[0] != "ok" {
		return found, notWhole("SQLite finds: %v", said)
	}
	var dangling int64
	if err := db.Raw("SELECT count(*) FROM pragma_foreign_key_check").Scan(&dangling).Error; err != nil {
		return found, damage(err)
	}
	if dangling > 0 {
		return found, notWhole("%d rows belong to what is not there", dangling)
	}
	return inspect(db)
}

func inspect(db *gorm.DB) (found Inspected, err error) {
	if found.Schema, err = schemaVersion(db); err != nil {
		return found, err
	}
	all, err := steps()
	if err != nil {
		return found, err
	}
	if found.Schema > len(all) {
		return found, fmt.Errorf("it was written by a newer program (schema %d, this one knows %d); use that program",
			found.Schema, len(all))
	}
	s := &Store{db: db}
	verified, err := s.VerifyJournal()
	switch {
	case err != nil:
		return found, damage(err)
	case verified.Broken != 0:
		return found, notWhole("%s", verified.Why)
	}
	found.Entries = verified.Entries + verified.Unsealed
	var runs int64
	if err := db.Table("runs").Count(&runs).Error; err != nil {
		return found, damage(err)
	}
	found.Runs = int(runs)
	for table, column := range map[string]string{"runs": "started_at", "journal_entries": "at"} {
		var newest []time.Time
		if err := db.Table(table).Order(column+" DESC").Limit(1).Pluck(column, &newest).Error; err != nil {
			return found, damage(err)
		}
		if len(newest) > 0 && newest[0].After(found.Newest) {
			found.Newest = newest[0]
		}
	}
	return found, nil
}

// PutBack makes a copy the records of a folder that no service uses. It is read whole before; what was there before is
// moved aside into a folder, which is returned, empty where there was nothing.
func PutBack(ctx context.Context, file, folder string, now time.Time) (found Inspected, aside string, err error) {
	if found, err = Inspect(ctx, file); err != nil {
		return found, "", err
	}
	making, err := os.MkdirTemp(folder, makings)
	if err != nil {
		return found, "", fmt.Errorf("put back: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(making)) }()
	part, place := filepath.Join(making, File), filepath.Join(folder, File)
	if err := copyFile(file, part); err != nil {
		return found, "", fmt.Errorf("put back: %w", err)
	}
	if aside, err = moveAside(folder, now); err != nil {
		return found, "", fmt.Errorf("put back: %w", err)
	}
	if err := os.Rename(part, place); err != nil {
		return found, aside, fmt.Errorf("put back: %w; what was there before is in %s", err, aside)
	}
	return found, aside, errors.Join(writeNote(folder), onDisk(folder))
}

func copyFile(from, to string) (err error) {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, in.Close()) }()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// moveAside moves the records of a folder into one beside them.
func moveAside(folder string, now time.Time) (aside string, err error) {
	for _, ending := range []string{"", "-wal", "-shm"} {
		path := filepath.Join(folder, File+ending)
		if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if aside == "" {
			aside = filepath.Join(folder, "replaced-"+now.UTC().Format("20060102T150405Z"))
			if err := os.Mkdir(aside, 0o700); err != nil {
				return "", err
			}
		}
		if err := os.Rename(path, filepath.Join(aside, File+ending)); err != nil {
			return aside, err
		}
	}
	return aside, nil
}
