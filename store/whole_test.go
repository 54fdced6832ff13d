package store

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// written makes a database with something in it, and gives its path.
func written(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "usher.db")
	s, err := Open(path)
	require.NoError(t, err)
	for range 200 {
		require.NoError(t, s.Journal(JournalEntry{By: "mira", What: "looked", Detail: "at the bench, for a while, and went"}))
	}
	require.NoError(t, s.Close())
	return path
}

// What is not the database that was written is not opened, and stays as it is for whoever may save it.
func TestWhatIsNotWholeIsNotOpened(t *testing.T) {
	for name, c := range map[string]struct {
		damage func(path string, text []byte) error
		words  string
	}{
		"gone": {func(path string, _ []byte) error { return os.Remove(path) },
			"RECORDS.txt beside it says that it was there"},
		"empty":   {func(path string, _ []byte) error { return os.Truncate(path, 0) }, "is empty"},
		"cut off": {func(path string, text []byte) error { return os.Truncate(path, int64(len(text)/2)) }, "SQLite"},
		"another": {func(path string, _ []byte) error {
			return os.WriteFile(path, []byte("Dear reader, this is a letter and no database at all. It goes on."), 0o600)
		}, "not a database"},
		"flipped": {func(path string, text []byte) error {
			for page := 4096; page < len(text); page += 4096 {
				for i := range 64 {
					text[page+i] ^= 0xff
				}
			}
			return os.WriteFile(path, text, 0o600)
		}, "SQLite"},
	} {
		t.Run(name, func(t *testing.T) {
			path := written(t)
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			require.NoError(t, c.damage(path, text))
			before, _ := os.ReadFile(path)
			_, err = Open(path)
			require.ErrorIs(t, err, ErrNotWhole)
			assert.ErrorContains(t, err, c.words)
			assert.ErrorContains(t, err, "put a copy of it in its place")
			after, _ := os.ReadFile(path)
			assert.Equal(t, before, after)
		})
	}
}

func TestADatabaseOfAnotherProgramIsNotOpened(t *testing.T) {
	path := filepath.Join(t.TempDir(), "usher.db")
	s, err := Open(path)
	require.NoError(t, err)
	require.NoError(t, s.db.Exec("PRAGMA user_version = 0").Error)
	require.NoError(t, s.Close())
	_, err = Open(path)
	assert.ErrorIs(t, err, ErrNotWhole)
	assert.ErrorContains(t, err, "written by another program")
}

// A database that vanishes or is damaged under a service is noticed with the next write, which fails: what goes into a
// file that is gone is on no record.
func TestADatabaseThatVanishesIsNoticed(t *testing.T) {
	for name, damage := range map[string]func(path string) error{
		"gone":             os.Remove,
		"cut off":          func(path string) error { return os.Truncate(path, 0) },
		"log gone":         func(path string) error { return os.Remove(path + "-wal") },
		"another put here": func(path string) error { return replace(path, []byte("another")) },
	} {
		t.Run(name, func(t *testing.T) {
			path := written(t)
			s, err := Open(path)
			require.NoError(t, err)
			defer s.Close()
			require.NoError(t, s.Journal(JournalEntry{By: "mira", What: "looked"}))
			require.NoError(t, s.Whole())
			require.NoError(t, damage(path))
			assert.ErrorIs(t, s.Whole(), ErrNotWhole)
			assert.ErrorIs(t, s.Journal(JournalEntry{By: "mira", What: "looked"}), ErrNotWhole)
			_, failed, why := s.Failing()
			assert.ErrorIs(t, why, ErrNotWhole)
			assert.EqualValues(t, 1, failed)
			assert.ErrorIs(t, s.Check(t.Context()), ErrNotWhole)
		})
	}
}

func replace(path string, text []byte) error {
	if err := os.WriteFile(path+".new", text, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// What is damaged while the service runs is found by a check, and stays known.
func TestACheckFindsWhatIsDamaged(t *testing.T) {
	path := written(t)
	s, err := Open(path)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Check(t.Context()))
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	require.NoError(t, err)
	info, err := f.Stat()
	require.NoError(t, err)
	for at := int64(4096); at < info.Size(); at += 4096 {
		_, err = f.WriteAt(make([]byte, 64), at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	assert.ErrorIs(t, s.Check(t.Context()), ErrNotWhole)
	assert.ErrorIs(t, s.Whole(), ErrNotWhole)
}

// A write that the disk does not take is told until one goes well; one that is refused for what it says is not.
func TestWritesThatFailAreTold(t *testing.T) {
	var full error
	s, err := OpenOn(filepath.Join(t.TempDir(), "usher.db"), Surroundings{Disk: func() error { return full }})
	require.NoError(t, err)
	defer s.Close()
	_, err = s.CreateAccount(Account{Name: "mira"})
	require.NoError(t, err)
	_, err = s.CreateAccount(Account{Name: "mira"})
	assert.ErrorIs(t, err, ErrConflict)
	_, _, why := s.Failing()
	assert.NoError(t, why)
	full = os.ErrDeadlineExceeded
	assert.Error(t, s.Journal(JournalEntry{What: "looked"}))
	since, failed, why := s.Failing()
	assert.ErrorIs(t, why, full)
	assert.False(t, since.IsZero())
	assert.EqualValues(t, 1, failed)
	full = nil
	assert.NoError(t, s.Journal(JournalEntry{What: "looked"}))
	_, failed, why = s.Failing()
	assert.NoError(t, why)
	assert.EqualValues(t, 1, failed)
}

func TestTheDatabaseIsPrivateAndItsTextsAreBounded(t *testing.T) {
	path := written(t)
	require.NoError(t, os.Chmod(path, 0o644))
	s, err := Open(path)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Journal(JournalEntry{By: "mira", What: "looked", Detail: strings.Repeat("größer ", 100_000)}))
	for _, file := range []string{path, path + "-wal"} {
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), file)
	}
	entries, err := s.JournalEntries(JournalFilter{Limit: 1})
	require.NoError(t, err)
	assert.Less(t, len(entries[0].Detail), 4100)
	assert.True(t, utf8.ValidString(entries[0].Detail))
	assert.True(t, strings.HasSuffix(entries[0].Detail, "… (900000 bytes in all)"), entries[0].Detail[3980:])
	v, err := s.VerifyJournal()
	require.NoError(t, err)
	assert.Empty(t, v.Why)
}

// A service that was killed while it made its first database may try again.
func TestAFirstDatabaseThatWasNotFinishedIsMadeAnew(t *testing.T) {
	path := filepath.Join(t.TempDir(), "usher.db")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	s, err := Open(path)
	require.NoError(t, err)
	assert.NoError(t, s.Close())
}

// Connections come and go with the load; the log stays what it is.
func TestTheLogStaysWhenConnectionsGo(t *testing.T) {
	s, err := Open(written(t))
	require.NoError(t, err)
	defer s.Close()
	pool, err := s.db.DB()
	require.NoError(t, err)
	require.NoError(t, s.Journal(JournalEntry{By: "mira", What: "looked"}))
	pool.SetMaxIdleConns(0) // every connection that is given back is closed
	for range 3 {
		require.NoError(t, s.Journal(JournalEntry{By: "mira", What: "looked"}))
		assert.NoError(t, s.Whole())
	}
}
