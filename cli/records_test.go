package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/service/servicetest"
	"usherbench/store"
)

// What was copied while the service worked is checked, and put back where no service is.
func TestRecordsAreCopiedCheckedAndPutBack(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	h.Ended(h.Start("bay1", "tern-outgoing", "TN-2208"))
	file := filepath.Join(t.TempDir(), "monday.db")
	code, out, errOut := usher(t, "", "--data", h.Data, "backup", file)
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "1 run,")
	assert.Contains(t, out, "It was read whole.")
	code, _, errOut = usher(t, "", "--data", h.Data, "backup", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "nothing is written over a copy")
	code, out, _ = usher(t, "", "--data", h.Data, "backup")
	assert.Zero(t, code)
	assert.Contains(t, out, "makes no copies by itself")

	code, out, errOut = usher(t, "", "check", file, "--json")
	require.Zero(t, code, errOut)
	var found api.RecordsCopy
	require.NoError(t, json.Unmarshal([]byte(out), &found))
	assert.Equal(t, 1, found.Runs)
	assert.Positive(t, found.Entries)
	assert.Positive(t, found.Bytes)

	code, _, errOut = usher(t, "", "--data", h.Data, "restore", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "another service uses the data folder")
	elsewhere := filepath.Join(t.TempDir(), "bench")
	t.Setenv("USHER_DATA", elsewhere)
	for _, replaced := range []bool{false, true} {
		code, out, errOut = usher(t, "", "restore", file)
		require.Zero(t, code, errOut)
		assert.Contains(t, out, "is put back")
		if replaced {
			assert.Contains(t, out, "What was there before is in")
		}
	}
	s, err := store.Open(filepath.Join(elsewhere, store.File))
	require.NoError(t, err)
	require.NoError(t, s.Close())

	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, text[:len(text)/2], 0o600))
	for _, verb := range []string{"check", "restore"} {
		code, _, errOut = usher(t, "", "--data", elsewhere, verb, file)
		assert.Equal(t, 1, code)
		assert.Contains(t, errOut, "the records are not whole")
	}
}
