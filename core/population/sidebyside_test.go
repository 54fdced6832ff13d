package population

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestBaysSideBySide(t *testing.T) {
	bay := []Attempt{{Began: 0, Ended: 48}, {Began: 60, Ended: 108}, {Began: 1000, Ended: 1048}}
	assert.InDelta(t, 100*144.0/156, Use(bay, 600), 1e-9, "108 s at work, a pause, 48 s at work")
	assert.InDelta(t, 0, Saved([][]Attempt{bay}, 600), 1e-9, "one alone saves nothing")
	other := []Attempt{{Began: 10, Ended: 58}, {Began: 70, Ended: 118}}
	assert.InDelta(t, 156+108-118-48, Saved([][]Attempt{bay, other}, 600), 1e-9)
}

// Bays that are at work at the same times save what all but one of them took, and bays one after another nothing.
func TestWhatIsSavedIsBetweenNothingAndAllButOne(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 6).Draw(t, "bays")
		apart := rapid.Float64Range(0, 5000).Draw(t, "apart")
		var bays [][]Attempt
		for b := range n {
			from := float64(b) * apart
			bays = append(bays, []Attempt{{Began: from, Ended: from + 30}, {Began: from + 40, Ended: from + 70}})
		}
		saved := Saved(bays, 600)
		assert.GreaterOrEqual(t, saved, -1e-9)
		assert.LessOrEqual(t, saved, float64(n-1)*70+1e-9)
		if apart > 70 {
			assert.InDelta(t, 0, saved, 1e-9)
		}
	})
}
