package store_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/store"
)

// made makes records of a run with so many frames.
func made(t *testing.T, id string, frames int) func(database string) error {
	return func(database string) error {
		s, err := store.Open(database)
		require.NoError(t, err)
		run := store.Run{ID: id, Serial: id, State: store.Live, Columns: []string{"load.volts"}, StartedAt: time.Now()}
		require.NoError(t, s.CreateRun(&run))
		r := s.NewRecorder(id, run.Columns)
		for k := range frames {
			r.Frame(trace.Frame{T: float64(k), Values: []float64{float64(k % 7)}})
		}
		r.Mark(record.Mark{T: 1, Kind: record.MarkNote, Label: "here"})
		require.NoError(t, r.Finish(map[string]any{"state": "done", "duration": float64(frames - 1)}))
		require.NoError(t, s.PutMapping(store.Mapping{Source: "cellar", Data: id, At: time.Now()}))
		return s.Close()
	}
}

// Records that were made apart are taken over whole, or not at all.
func TestAdopt(t *testing.T) {
	folder := t.TempDir()
	s, err := store.Open(filepath.Join(folder, store.File))
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	require.NoError(t, s.Adopt(made(t, "A", 10_000)))
	require.NoError(t, s.Adopt(made(t, "B", 100)))
	newest, err := s.Run("last")
	require.NoError(t, err)
	assert.Equal(t, "B", newest.ID)
	run, err := s.Run("A")
	require.NoError(t, err)
	volts, err := s.NewReader(run).Trace(t.Context(), "load.volts", 0, 1e9)
	require.NoError(t, err)
	assert.Len(t, volts.X, 10_000)
	marks, err := s.Marks("A")
	require.NoError(t, err)
	assert.Len(t, marks, 1)
	mapping, err := s.Mapping("cellar")
	require.NoError(t, err)
	assert.Equal(t, "B", mapping.Data, "the later one counts")

	assert.Error(t, s.Adopt(made(t, "A", 5)), "it is there already")
	run, err = s.Run("A")
	require.NoError(t, err)
	assert.InDelta(t, 9999, run.Duration, 0)
	broken := errors.New("broken")
	assert.ErrorIs(t, s.Adopt(func(database string) error {
		return errors.Join(made(t, "C", 5)(database), broken)
	}), broken)
	_, err = s.Run("C")
	assert.ErrorIs(t, err, store.ErrNotFound)
	left, err := filepath.Glob(filepath.Join(folder, "making-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What a service that was killed has begun to make is removed by its successor.
func TestUnfinishedRecordsAreRemoved(t *testing.T) {
	folder := t.TempDir()
	unfinished := filepath.Join(folder, "making-1")
	require.NoError(t, os.Mkdir(unfinished, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(unfinished, store.File), []byte("half"), 0o600))
	s, err := store.Open(filepath.Join(folder, store.File))
	require.NoError(t, err)
	require.NoError(t, s.Close())
	assert.NoDirExists(t, unfinished)
}
