package store

import (
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// oldDatabase makes a database of an earlier schema from its fixture.
func oldDatabase(t testing.TB, schema int) (file string) {
	file = filepath.Join(t.TempDir(), "usher.db")
	if packed, err := os.Open(fmt.Sprintf("testdata/schema-%d.db.gz", schema)); err == nil {
		defer packed.Close()
		plain, err := gzip.NewReader(packed)
		require.NoError(t, err)
		data, err := io.ReadAll(plain)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, data, 0o600))
		return file
	}
	text, err := os.ReadFile(fmt.Sprintf("testdata/schema-%d.sql", schema))
	require.NoError(t, err)
	db := raw(t, file)
	require.NoError(t, db.Exec(string(text)).Error)
	return file
}

// raw opens a database without migrating it, until the test ends.
func raw(t testing.TB, file string) *gorm.DB {
	db, err := gorm.Open(sqlite.Open("file:"+file), &gorm.Config{Logger: logger.Discard})
	require.NoError(t, err)
	t.Cleanup(func() {
		plain, err := db.DB()
		require.NoError(t, err)
		require.NoError(t, plain.Close())
	})
	return db
}

// layout lists the tables with their columns, in no particular order.
func layout(t testing.TB, db *gorm.DB) []string {
	var columns []string
	require.NoError(t, db.Raw(`SELECT m.name || '.' || c.name || ' ' || lower(c.type) FROM sqlite_master m, `+
		`pragma_table_info(m.name) c WHERE m.type = 'table' UNION SELECT name FROM sqlite_master WHERE type = 'index' `+
		`AND name NOT LIKE 'sqlite_%'`).Scan(&columns).Error)
	return columns
}

func TestADatabaseOfEverySchemaBecomesTheNewest(t *testing.T) {
	all, err := steps()
	require.NoError(t, err)
	fresh := open(t)
	want := layout(t, fresh.db)
	for schema := 1; schema < len(all); schema++ {
		t.Run(fmt.Sprint(schema), func(t *testing.T) {
			file := oldDatabase(t, schema)
			s, err := Open(file)
			require.NoError(t, err)
			defer s.Close()
			assert.ElementsMatch(t, want, layout(t, s.db), "it has what a fresh one has")
			runs, err := s.Runs(RunFilter{})
			require.NoError(t, err)
			require.NotEmpty(t, runs)
			marks, err := s.Marks(runs[0].ID)
			require.NoError(t, err)
			assert.NotEmpty(t, marks)

			copied := fmt.Sprintf("%s.schema-%d", file, schema)
			version, err := schemaVersion(raw(t, copied))
			require.NoError(t, err)
			assert.Equal(t, schema, version, "the copy is as it was before")
		})
	}
}

// TestEverySchemaHasAFixture fails when a step is added without a database of the schema before it.
func TestEverySchemaHasAFixture(t *testing.T) {
	all, err := steps()
	require.NoError(t, err)
	for schema := 1; schema < len(all); schema++ {
		files, err := filepath.Glob(fmt.Sprintf("testdata/schema-%d.*", schema))
		require.NoError(t, err)
		assert.Len(t, files, 1, "testdata needs one database of schema %d", schema)
	}
	for i, s := range all {
		assert.True(t, strings.HasPrefix(s.id, fmt.Sprintf("%04d-", i+1)), "%s is step %d", s.id, i+1)
	}
}

// TestTheModelsFitTheSchema holds the structs of this package against the steps: what a struct stores has a column.
func TestTheModelsFitTheSchema(t *testing.T) {
	s := open(t)
	models := []any{&Account{}, &Token{}, &Nameplate{}, &Revision{}, &Run{}, &chunk{}, &pyramidRow{}, &markRow{},
		&pointRow{}, &Figure{}, &JournalEntry{}, &BenchEntry{}, &Judgement{}, &Rehearsal{}, &snapshotRow{}, &Waiting{},
		&Mapping{}, &Latch{}, &captureRow{}, &waveRow{}, &Excerpt{}, &attachmentRow{}, &attachmentContent{},
		&Unit{}, &LotOrder{}, &placeRow{}, &seriesRow{},
		&Setting{}, &Message{}}
	tables := map[string]bool{stepsTable: true}
	for _, model := range models {
		parsed := &gorm.Statement{DB: s.db}
		require.NoError(t, parsed.Parse(model))
		tables[parsed.Schema.Table] = true
		for _, f := range parsed.Schema.Fields {
			if f.DBName != "" {
				assert.True(t, s.db.Migrator().HasColumn(model, f.DBName), "%s.%s needs a step", parsed.Schema.Table, f.DBName)
			}
		}
	}
	found, err := s.db.Migrator().GetTables()
	require.NoError(t, err)
	for _, table := range found {
		assert.True(t, tables[table] || table == "sqlite_sequence", "no struct stores into %s", table)
	}
}

func TestAMigrationThatFailsLeavesTheDatabaseAsItWas(t *testing.T) {
	file := oldDatabase(t, 4)
	db := raw(t, file)
	require.NoError(t, db.Exec("ALTER TABLE waitings ADD COLUMN released numeric").Error) // in the way of step 5
	before := layout(t, db)
	_, err := Open(file)
	assert.ErrorContains(t, err, "0005-releases")
	assert.ErrorContains(t, err, "the database is as it was")
	assert.Subset(t, layout(t, db), before)
	version, err := schemaVersion(db)
	require.NoError(t, err)
	assert.Equal(t, 4, version)
}

func TestADatabaseOfANewerProgramIsLeftAlone(t *testing.T) {
	file := oldDatabase(t, 1)
	db := raw(t, file)
	require.NoError(t, db.Exec("PRAGMA user_version = 99").Error)
	before := layout(t, db)
	_, err := Open(file)
	assert.ErrorContains(t, err, "written by a newer program (schema 99")
	assert.ErrorContains(t, err, "use that program, or another data folder")
	assert.Equal(t, before, layout(t, db))
	copies, err := filepath.Glob(file + ".schema-*")
	require.NoError(t, err)
	assert.Empty(t, copies)
}
