package store

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"
)

// The steps by which the schema grew, a file each, in the order of their names. A step that has been released is
// frozen: it is never edited, and what changes next is a new file. store/testdata holds a database of every schema.
//
//go:embed schema/*.sql
var schemaFiles embed.FS

// step is one file of the schema.
type step struct {
	id  string // the file's name without its ending
	sql string
}

// steps lists all steps, oldest first.
func steps() ([]step, error) {
	names, err := fs.Glob(schemaFiles, "schema/*.sql") // sorted by name
	if err != nil {
		return nil, err
	}
	var all []step
	for _, name := range names {
		text, err := schemaFiles.ReadFile(name)
		if err != nil {
			return nil, err
		}
		all = append(all, step{strings.TrimSuffix(path.Base(name), ".sql"), string(text)})
	}
	return all, nil
}

// stepsTable is where the steps that a database has taken are kept.
const stepsTable = "schema_steps"

// migrate brings a database to the newest schema. Before an older one is changed it is copied beside itself, as
// PATH.schema-N; a database that a newer program wrote is refused and left as it is.
func migrate(db *gorm.DB, file string) error {
	all, err := steps()
	if err != nil {
		return err
	}
	version, err := schemaVersion(db)
	if err != nil {
		return err
	}
	switch {
	case version > len(all):
		return fmt.Errorf("it was written by a newer program (schema %d, this one knows %d); "+
			"use that program, or another data folder", version, len(all))
	case version == len(all):
		return nil
	case version > 0:
		if err := copyBeside(db, fmt.Sprintf("%s.schema-%d", file, version)); err != nil {
			return fmt.Errorf("copy of the database before its schema is changed: %w; nothing was changed", err)
		}
	}
	if err := recordEarlier(db, all[:version]); err != nil {
		return err
	}
	options := *gormigrate.DefaultOptions
	options.TableName, options.UseTransaction, options.ValidateUnknownMigrations = stepsTable, true, true
	var migrations []*gormigrate.Migration
	for i, s := range all {
		migrations = append(migrations, &gormigrate.Migration{ID: s.id, Migrate: func(tx *gorm.DB) error {
			if err := tx.Exec(s.sql).Error; err != nil {
				return fmt.Errorf("step %s: %w", s.id, err)
			}
			// Programs from before the table of steps look at this number, and so does migrate itself.
			return tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", i+1)).Error
		}})
	}
	if err := gormigrate.New(db, &options, migrations).Migrate(); err != nil {
		return fmt.Errorf("change of the schema: %w; the database is as it was", err)
	}
	return nil
}

// schemaVersion is the number of steps that a database has taken; 0: it is empty.
func schemaVersion(db *gorm.DB) (version int, err error) {
	return version, db.Raw("PRAGMA user_version").Scan(&version).Error
}

// recordEarlier notes the steps that a database took before steps were noted by name.
func recordEarlier(db *gorm.DB, taken []step) error {
	if len(taken) == 0 || db.Migrator().HasTable(stepsTable) {
		return nil
	}
	return db.Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("CREATE TABLE " + stepsTable + " (id text PRIMARY KEY)").Error; err != nil {
			return err
		}
		for _, s := range taken {
			if err := tx.Exec("INSERT INTO "+stepsTable+" (id) VALUES (?)", s.id).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// copyBeside writes a copy of the database, complete in one file. One that is there already is of the same schema
// and from a migration that did not come to its end; it is made anew.
func copyBeside(db *gorm.DB, to string) error {
	if err := os.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return db.Exec("VACUUM INTO ?", to).Error
}
