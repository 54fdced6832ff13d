package engine

import (
	"log/slog"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The file is there from before an output goes on until all are confirmed off, for whoever comes next.
func TestThatAnOutputMayBeOnIsKeptBesideTheRecords(t *testing.T) {
	m := mayBeOn{filepath.Join(t.TempDir(), "on"), slog.New(slog.DiscardHandler)}
	assert.False(t, m.left("bay1"))
	var later []func()
	keep := m.of("bay1", func(f func()) { later = append(later, f) })
	keep(true)
	keep(true)
	assert.True(t, m.left("bay1"))
	assert.False(t, m.left("bay2"))
	keep(false)
	assert.True(t, m.left("bay1"), "nobody waits for the disk on the way to off")
	keep(true)
	for _, f := range later {
		f()
	}
	assert.True(t, m.left("bay1"), "it went on again meanwhile")
	keep(false)
	require.Len(t, later, 2)
	later[1]()
	assert.False(t, m.left("bay1"))

	m.of("bay2", func(f func()) { f() })(true)
	m.of("bay2", func(f func()) { f() })(false) // of the service that came next
	assert.False(t, m.left("bay2"))
	assert.False(t, mayBeOn{}.left("bay1"), "without a folder none are kept")
}
