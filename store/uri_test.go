package store_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/store"
)

// Two folders have two databases, whatever they are called.
func TestAFolderMayHaveAnyName(t *testing.T) {
	whole := t.TempDir()
	for _, name := range []string{"bench", "bench#1", "bench#2", "bench?2", "50 %", "50 %25", "a&b=c"} {
		folder := filepath.Join(whole, name)
		require.NoError(t, os.Mkdir(folder, 0o700))
		s, err := store.Open(filepath.Join(folder, store.File))
		require.NoError(t, err, name)
		plates, err := s.Nameplates()
		require.NoError(t, err, name)
		assert.Empty(t, plates, name)
		require.NoError(t, s.PutNameplate(store.Nameplate{Name: "tern", Text: "nameplate: tern", At: time.Now()}), name)
		require.NoError(t, s.Close())
		assert.FileExists(t, filepath.Join(folder, store.File), name)
	}
	files, err := os.ReadDir(whole)
	require.NoError(t, err)
	assert.Len(t, files, 7, "nothing was written beside them")
}
