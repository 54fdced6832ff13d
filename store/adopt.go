package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"gorm.io/gorm"
)

// makings is how folders are named in which records are made that are no part of these yet.
const makings = "making-"

// removeMakings removes what a service that was killed has left unfinished.
func removeMakings(folder string) error {
	left, err := filepath.Glob(filepath.Join(folder, makings+"*"))
	for _, one := range left {
		err = errors.Join(err, os.RemoveAll(one))
	}
	return err
}

// Adopt has records made in a database of their own and takes over their runs and mappings: all of them, or none.
// What makes them takes as long as it likes and may end halfway; nothing of it is on record then, and nobody waits
// for it.
func (s *Store) Adopt(make func(database string) error) (err error) {
	folder, err := os.MkdirTemp(filepath.Dir(s.watch.path), makings)
	if err != nil {
		return fmt.Errorf("folder for new records: %w", err)
	}
	defer func() { err = errors.Join(err, os.RemoveAll(folder)) }()
	database := filepath.Join(folder, File)
	if err := make(database); err != nil {
		return err
	}
	return s.writing(func(db *gorm.DB) error {
		return db.Connection(func(one *gorm.DB) error { return adopt(one, database) })
	})
}

// adopted are the tables that are taken over, and what happens to a row that is there already.
var adopted = []struct{ table, conflict string }{
	{"runs", "ABORT"}, {"chunks", "ABORT"}, {"pyramids", "ABORT"}, {"marks", "ABORT"}, {"points", "ABORT"},
	{"figures", "ABORT"}, {"captures", "ABORT"}, {"waves", "ABORT"}, {"mappings", "REPLACE"},
}

// adopt takes over a database by one connection: what is attached is so to a connection.
func adopt(one *gorm.DB, database string) (err error) {
	if err := one.Exec("ATTACH DATABASE ? AS made", uriOf(database)).Error; err != nil {
		return fmt.Errorf("records to take over: %w", err)
	}
	defer func() { err = errors.Join(err, one.Exec("DETACH DATABASE made").Error) }()
	return one.Transaction(func(tx *gorm.DB) error {
		for _, a := range adopted {
			var columns []string
			err := tx.Raw("SELECT name FROM pragma_table_info(?, 'made') ORDER BY cid", a.table).Scan(&columns).Error
			if err != nil {
				return err
			}
			names := `"` + strings.Join(columns, `", "`) + `"`
			if err := tx.Exec(fmt.Sprintf(`INSERT OR %s INTO main."%s" (%s) SELECT %s FROM made."%s" ORDER BY rowid`,
				a.conflict, a.table, names, names, a.table)).Error; err != nil {
				return fmt.Errorf("take over %s: %w", a.table, err)
			}
		}
		return nil
	})
}
