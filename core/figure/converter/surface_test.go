package converter

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
)

func TestASurfaceIsReadFromTheTableOfAMap(t *testing.T) {
	s, ok := SurfaceOf(&figure.Table{Columns: make([]figure.TableColumn, 3), Rows: [][]any{
		{48.0, 4.0, 94.1}, {60.0, 4.0, 93.6}, {48.0, 8.0, 93.3}, {60.0, 8.0, 92.9}, {60.0, 9.0, nil}, {48.0, 9.0, 93.0}}})
	require.True(t, ok)
	assert.InDelta(t, 93.66, s.Between(54, 5), 0.005, "the worked example of the map")
	assert.Equal(t, 94.1, s.Between(48, 4))
	assert.Equal(t, 92.9, s.Between(60, 8))
	for _, place := range [][2]float64{{54, 8.5}, {47, 5}, {54, 3}, {61, 5}, {math.NaN(), 5}} {
		assert.True(t, math.IsNaN(s.Between(place[0], place[1])), "%v: a hole, or beyond what was measured", place)
	}
	low, high := s.Body()
	assert.Equal(t, 94.1, high)
	assert.InDelta(t, 93.1, low, 0.05, "a tenth of it is lower")
	levels := s.Levels()
	require.NotEmpty(t, levels)
	for i, level := range levels {
		assert.InDelta(t, 93.2+0.2*float64(i), level, 1e-9, "round ones")
		assert.True(t, level > low && level < high)
	}

	_, ok = SurfaceOf(&figure.Table{Columns: make([]figure.TableColumn, 3),
		Rows: [][]any{{48.0, 4.0, 94.1}, {48.0, 8.0, 93.0}}})
	assert.False(t, ok, "one line only is a curve")
	_, ok = SurfaceOf(nil)
	assert.False(t, ok)
	flat, ok := SurfaceOf(&figure.Table{Columns: make([]figure.TableColumn, 3),
		Rows: [][]any{{1.0, 1.0, 9.0}, {2.0, 1.0, 9.0}, {1.0, 2.0, 9.0}, {2.0, 2.0, 9.0}}})
	require.True(t, ok)
	assert.Empty(t, flat.Levels())
}
