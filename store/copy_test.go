package store

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/trace"
)

// A copy that is made while others write is one instant of the records: whole, with all that was written before it.
func TestACopyIsMadeWhileOthersWrite(t *testing.T) {
	s := open(t)
	run := Run{ID: "R", Bay: "bay1", Serial: "TN-1", Procedure: "tern-soak", State: "live", StartedAt: time.Now(),
		Columns: []string{"load.volts"}}
	require.NoError(t, s.CreateRun(&run))
	r := s.NewRecorder(run.ID, run.Columns)
	ended, stop := make(chan int), make(chan struct{})
	go func() {
		n := 0
		for ; ; n++ {
			select {
			case <-stop:
				ended <- n
				return
			default:
				r.Frame(trace.Frame{T: float64(n) / 100, Values: []float64{15}})
				if err := s.Journal(JournalEntry{By: "mira", What: "looked", Detail: fmt.Sprint(n)}); err != nil {
					t.Error(err)
				}
			}
		}
	}()
	before := 0
	for k := range 3 {
		file := filepath.Join(t.TempDir(), fmt.Sprint(k, ".db"))
		require.NoError(t, s.Copy(t.Context(), file))
		found, err := Inspect(t.Context(), file)
		require.NoError(t, err)
		assert.Equal(t, 1, found.Runs)
		assert.GreaterOrEqual(t, found.Entries, before, "nothing is lost from one copy to the next")
		assert.WithinDuration(t, time.Now(), found.Newest, time.Minute)
		before = found.Entries
		for _, beside := range []string{"-wal", "-shm", "-journal"} {
			assert.NoFileExists(t, file+beside, "one file has all of it")
		}
		assert.ErrorIs(t, s.Copy(t.Context(), file), fs.ErrExist)
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm(), "nobody else reads it")
	}
	close(stop)
	written := <-ended
	require.NoError(t, r.Finish(map[string]any{"state": "done"}))
	file := filepath.Join(t.TempDir(), "last.db")
	require.NoError(t, s.Copy(t.Context(), file))
	found, err := Inspect(t.Context(), file)
	require.NoError(t, err)
	assert.Equal(t, written, found.Entries)
}

// A database with a write-ahead log beside it is no copy: the newest of it would be left behind.
func TestTheDatabaseOfAServiceIsNoCopy(t *testing.T) {
	s := open(t)
	require.NoError(t, s.Journal(JournalEntry{By: "mira", What: "looked"}))
	_, err := Inspect(t.Context(), s.watch.path)
	assert.ErrorContains(t, err, "usher backup")
	assert.ErrorContains(t, roomFor(1<<60, t.TempDir()), "make room")
	assert.NoError(t, roomFor(1, t.TempDir()))
}

func TestACopyThatIsGivenUpLeavesNothing(t *testing.T) {
	s := open(t)
	folder := t.TempDir()
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, s.Copy(ctx, filepath.Join(folder, "copy.db")), context.Canceled)
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.Error(t, s.Copy(t.Context(), filepath.Join(folder, "nowhere", "copy.db")))
}

// What is wrong with a copy is found before anybody counts on it: a page, the end, a row that somebody changed.
func TestADamagedCopyIsFound(t *testing.T) {
	for name, damage := range map[string]func(t *testing.T, file string) error{
		"missing": func(_ *testing.T, file string) error { return os.Remove(file) },
		"empty":   func(_ *testing.T, file string) error { return os.Truncate(file, 0) },
		"cut off": func(_ *testing.T, file string) error { return os.Truncate(file, 8192) },
		"a letter": func(_ *testing.T, file string) error {
			return os.WriteFile(file, []byte("Dear reader, this is a letter and no database at all. It goes on."), 0o600)
		},
		"a row changed": func(t *testing.T, file string) error {
			return raw(t, file).Exec("UPDATE journal_entries SET detail = 'nothing' WHERE id = 100").Error
		},
		"a row removed": func(t *testing.T, file string) error {
			return raw(t, file).Exec("DELETE FROM journal_entries WHERE id = 100").Error
		},
		"newer": func(t *testing.T, file string) error { return raw(t, file).Exec("PRAGMA user_version = 999").Error },
	} {
		t.Run(name, func(t *testing.T) {
			s, err := Open(written(t))
			require.NoError(t, err)
			defer s.Close()
			file, folder := filepath.Join(t.TempDir(), "copy.db"), t.TempDir()
			require.NoError(t, s.Copy(t.Context(), file))
			_, err = Inspect(t.Context(), file)
			require.NoError(t, err)
			require.NoError(t, damage(t, file))
			_, err = Inspect(t.Context(), file)
			require.Error(t, err)
			_, _, err = PutBack(t.Context(), file, folder, time.Now())
			require.Error(t, err)
			left, err := os.ReadDir(folder)
			require.NoError(t, err)
			assert.Empty(t, left, "nothing is touched")
		})
	}
}

// A copy of every schema is put back and brought up to date; what was there before is kept beside it.
func TestACopyOfEverySchemaIsPutBack(t *testing.T) {
	all, err := steps()
	require.NoError(t, err)
	for schema := 1; schema < len(all); schema++ {
		t.Run(fmt.Sprint(schema), func(t *testing.T) {
			copied, there := oldDatabase(t, schema), written(t)
			folder := filepath.Dir(there)
			was, err := Inspect(t.Context(), there)
			require.NoError(t, err)
			found, aside, err := PutBack(t.Context(), copied, folder, time.Date(2031, 2, 3, 4, 5, 6, 0, time.UTC))
			require.NoError(t, err)
			assert.Equal(t, schema, found.Schema)
			assert.Positive(t, found.Runs)
			assert.Equal(t, filepath.Join(folder, "replaced-20310203T040506Z"), aside)
			kept, err := Inspect(t.Context(), filepath.Join(aside, File))
			require.NoError(t, err)
			assert.Equal(t, was, kept)
			s, err := Open(there)
			require.NoError(t, err)
			defer s.Close()
			runs, err := s.Runs(RunFilter{})
			require.NoError(t, err)
			assert.Len(t, runs, found.Runs)
		})
	}
}
