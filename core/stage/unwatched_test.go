package stage_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/stage"
)

// watched plays a power up whose unit comes up at an instant, with frames every 20 ms but while nobody looks.
func watched(t *testing.T, up float64, blind ...[2]float64) stage.Finish {
	t.Helper()
	m, err := stage.New(program(t, powerUp+"  - name: hold\n    hold: {for: 1 s}\n"))
	require.NoError(t, err)
	b := newBench()
	effects := play(t, m, m.Start(), b, 0, func(now float64, b *bench) stage.Event {
		b.dead = now < up
		if slices.ContainsFunc(blind, func(span [2]float64) bool { return now > span[0] && now < span[1] }) {
			return stage.Due{T: -1} // nothing is due
		}
		return nil
	})
	return finish(t, effects)
}

// A unit that comes up while nobody looks is not blamed for it, however long that is; one that does not is, when it was
// watched for as long as it may take to come up.
func TestNobodyIsBlamedForWhatNobodySaw(t *testing.T) {
	assert.Equal(t, stage.Done, watched(t, 0.5).Ending)
	late := watched(t, 1e9)
	assert.Equal(t, stage.Failure, late.Ending)
	assert.InDelta(t, 2, late.T, 0.1)
	for _, blind := range [][2]float64{{0.01, 3}, {0.3, 3}, {1.9, 2.1}, {0.3, 600}} {
		good := watched(t, 0.5, blind)
		assert.Equal(t, stage.Done, good.Ending, "nobody looked from %g s to %g s: %s", blind[0], blind[1], good.Reason)
		bad := watched(t, 1e9, blind)
		assert.Equal(t, stage.Failure, bad.Ending)
		assert.InDelta(t, 2+blind[1]-blind[0], bad.T, 0.2, "%v", blind)
	}
}
