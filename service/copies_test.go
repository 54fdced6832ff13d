package service_test

import (
	"bytes"
	"io"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/service"
	"usherbench/service/servicetest"
	"usherbench/store"
)

// A copy of the records that is taken in the middle of a run has all of it but its last second, and is put back where a
// service takes it up.
func TestTheRecordsAreCopiedDuringARun(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Start("bay1", "tern-soak", "TN-2208")
		time.Sleep(20 * time.Second)
		var text bytes.Buffer
		require.NoError(t, h.Local.CopyRecords(t.Context(), &text))
		file := filepath.Join(t.TempDir(), "copy.db")
		require.NoError(t, os.WriteFile(file, text.Bytes(), 0o600))
		found, err := store.Inspect(t.Context(), file)
		require.NoError(t, err)
		assert.Equal(t, 1, found.Runs)
		assert.WithinDuration(t, time.Now(), found.Newest, time.Second, "who took it is in the journal, and in the copy")

		_, _, err = service.PutBack(t.Context(), file, h.Data, time.Now())
		require.ErrorContains(t, err, "another service uses the data folder")
		elsewhere := t.TempDir()
		_, aside, err := service.PutBack(t.Context(), file, elsewhere, time.Now())
		require.NoError(t, err)
		assert.Empty(t, aside)
		copied, err := store.Open(filepath.Join(elsewhere, store.File))
		require.NoError(t, err)
		defer copied.Close()
		runs, err := copied.Runs(store.RunFilter{})
		require.NoError(t, err)
		require.Len(t, runs, 1)
		w, err := copied.Window(t.Context(), runs[0], []string{"load.volts"}, 0, 1e9, 100)
		require.NoError(t, err)
		assert.Greater(t, w.Buckets[0][len(w.Buckets[0])-1].T, 18.0*20, "all but the last second, at twenty times the pace")

		engineer := h.As(api.Engineer)
		assert.Equal(t, http.StatusForbidden, problemOf(t, engineer.CopyRecords(t.Context(), &text)).Status)
		left, err := filepath.Glob(filepath.Join(h.Data, "making-*"))
		require.NoError(t, err)
		assert.Empty(t, left)
	})
}

// Copies are made by themselves, so many are kept, and one that cannot be made is told once and made later.
func TestCopiesAreMadeByThemselves(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		folder := filepath.Join(t.TempDir(), "copies")
		require.NoError(t, os.Mkdir(folder, 0o700))
		h := servicetest.Start(t, servicetest.Options{Change: func(c *bench.Config) {
			c.Copies = &bench.Copies{Folder: folder, Every: api.Span(2 * time.Minute), Keep: 3}
		}})
		began := time.Now()
		require.NoError(t, h.Local.CopyRecords(t.Context(), io.Discard)) // which the journal tells
		time.Sleep(10*time.Minute + 30*time.Second)
		all, err := h.Local.Copies(t.Context())
		require.NoError(t, err)
		require.Len(t, all.Copies, 3)
		for k, c := range all.Copies {
			assert.WithinDuration(t, began.Add(time.Duration(5-k)*2*time.Minute), c.At, 10*time.Second)
			found, err := store.Inspect(t.Context(), c.File)
			require.NoError(t, err)
			assert.Positive(t, found.Entries)
		}
		assert.Positive(t, all.Copies[0].Entries, "it was read whole")
		metrics := metricsOf(t, h)
		assert.Contains(t, metrics, "usher_records_bytes")
		assert.NotContains(t, metrics, "usher_records_copied_timestamp_seconds 0\n")

		moved := folder + "-away" // the disk of the copies is not there
		require.NoError(t, os.Rename(folder, moved))
		time.Sleep(7 * time.Minute)
		all, err = h.Local.Copies(t.Context())
		require.NoError(t, err)
		assert.Contains(t, all.Why, "make it, or mount its disk")
		entries, err := h.Local.Journal(t.Context(), api.JournalFilter{})
		require.NoError(t, err)
		told := 0
		for _, e := range entries {
			if e.What == "records not copied" {
				told++
			}
		}
		assert.Equal(t, 1, told, "it is told once")
		require.NoError(t, os.Rename(moved, folder))
		time.Sleep(3 * time.Minute)
		all, err = h.Local.Copies(t.Context())
		require.NoError(t, err)
		assert.Empty(t, all.Why)
		assert.WithinDuration(t, time.Now(), all.Copies[0].At, 3*time.Minute)
	})
}

// Copies go on where the clock was set back since the newest was made, and none is made again and again.
func TestCopiesGoOnWhenTheClockWasSetBack(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		folder := t.TempDir()
		for k := range 3 {
			late := time.Now().AddDate(5, 0, k).UTC().Format("usher-20060102T150405Z.db")
			require.NoError(t, os.WriteFile(filepath.Join(folder, late), nil, 0o600))
		}
		h := servicetest.Start(t, servicetest.Options{Change: func(c *bench.Config) {
			c.Copies = &bench.Copies{Folder: folder, Every: api.Span(time.Minute), Keep: 2}
		}})
		time.Sleep(3*time.Minute + 30*time.Second)
		all, err := h.Local.Copies(t.Context())
		require.NoError(t, err)
		require.Empty(t, all.Why)
		assert.Len(t, all.Copies, 2)
		newest := all.Copies[1]
		assert.WithinDuration(t, time.Now(), newest.At, time.Minute)
		assert.Positive(t, newest.Bytes)
	})
}

func TestWhereCopiesGoIsChecked(t *testing.T) {
	for words, c := range map[string]bench.Copies{
		"into which folder":     {},
		"no path from the root": {Folder: "copies"},
		"copies.every":          {Folder: "/copies", Every: api.Span(time.Second)},
		"one is kept at least":  {Folder: "/copies", Keep: -1},
	} {
		data := t.TempDir()
		_, err := service.Start(service.Config{Data: data, Listen: "127.0.0.1:0", Bench: bench.Config{Copies: &c}},
			slog.New(slog.DiscardHandler))
		require.Error(t, err, words)
		assert.True(t, strings.Contains(err.Error(), words) || strings.Contains(err.Error(), "is not a path from the root"),
			"%s: %v", words, err)
	}
}

func metricsOf(t *testing.T, h *servicetest.House) string {
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, h.Running.URL+"/metrics", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+h.Local.Token)
	response, err := h.HTTP().Do(r)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return string(text)
}
