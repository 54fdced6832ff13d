package overlay

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// A curve deviates from itself by nothing, and from one that is moved by as much as that is.
func TestDeviationsOfCurves(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := Curve{Label: "a"}
		for k := range rapid.IntRange(2, 40).Draw(t, "places") {
			c.X = append(c.X, float64(k))
			c.Y = append(c.Y, rapid.Float64Range(-100, 100).Draw(t, "y"))
		}
		by := rapid.Float64Range(-10, 10).Draw(t, "by")
		from := Curve{X: c.X, Y: make([]float64, len(c.Y))}
		for k, y := range c.Y {
			from.Y[k] = y - by
		}
		d := c.Deviation(from)
		assert.Equal(t, c.X, d.X)
		for _, y := range d.Y {
			assert.InDelta(t, by, y, 1e-9)
		}
	})
	from := Curve{X: []float64{0, 8}, Y: []float64{1, 1}}
	assert.Equal(t, []float64{0, 8.05}, Curve{X: []float64{-3, 0, 8.05, 9}, Y: []float64{1, 1, 1, 1}}.Deviation(from).X,
		"beside the end is at it")
	assert.Empty(t, from.Deviation(Curve{}).X)
}
