package outputs

import (
	"context"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/seats"
)

// locked is a bench with a source-meter whose fake tells volts and how its interlock is.
func locked(t testing.TB) (*bench, *fake) {
	b := newBench(t, []string{"sourcemeter"})
	f := b.fakes["sourcemeter"]
	m := b.board.Seat("sourcemeter").First()
	m.gives = []string{"volts", seats.Unlocked}
	m.reading.values, m.reading.beyond = make([]float64, 2), make([]beyond, 2)
	f.reads = []float64{0, 0}
	return b, f
}

// read has the channel take a reading as its sampler does, and gives what is wrong.
func (b *bench) read(f *fake) string {
	s := &Sampler{seats: b.board.Seats()}
	m := b.board.Seat(f.name).First()
	m.readOnce(context.Background(), make([]float64, 2), &s.noted)
	return s.Trouble(time.Now(), time.Minute)
}

func TestNothingGoesOnBehindAnOpenInterlock(t *testing.T) {
	b, f := locked(t)
	for _, broken := range []struct {
		reads  []float64
		silent bool
		words  string
	}{
		{[]float64{0, 1}, false, "the interlock of sourcemeter is open, so its output stays off"},
		{[]float64{0, math.NaN()}, false, "the interlock of sourcemeter gives no reading"},
		{[]float64{0, 0}, true, "cannot be read, so its output stays off"},
	} {
		f.reads, f.silent = broken.reads, broken.silent
		require.ErrorContains(t, b.output(t, "sourcemeter", seats.On), broken.words)
		assert.False(t, f.on)
		assert.False(t, b.board.Seat("sourcemeter").Energised())
	}
	f.reads, f.silent = []float64{0, 0}, false
	require.NoError(t, b.output(t, "sourcemeter", seats.On))
	assert.Empty(t, b.read(f))
	f.reads = []float64{1500, 1}
	assert.Equal(t, "the interlock of sourcemeter is open while its output is on", b.read(f))
	f.reads = []float64{1500, math.NaN()}
	assert.Equal(t, "the interlock of sourcemeter gives no reading while its output is on", b.read(f))
}

func TestACoverIsSafeToOpenByItsVoltsAlone(t *testing.T) {
	b, f := locked(t)
	cover := func() string {
		c := b.board.Cover(time.Minute)
		require.Equal(t, c.SafeToOpen, c.Why == "")
		return c.Why
	}
	assert.Equal(t, "the volts of sourcemeter are not known", cover())
	b.read(f)
	assert.Empty(t, cover())
	require.NoError(t, b.output(t, "sourcemeter", seats.On))
	assert.Equal(t, "sourcemeter may be on", cover())
	require.NoError(t, b.output(t, "sourcemeter", seats.Off))
	for _, volts := range []float64{1500, -1500, 30} {
		f.reads[0] = volts
		b.read(f)
		assert.Contains(t, cover(), "sourcemeter still reads", "%g V", volts)
	}
	f.reads[0] = 29
	b.read(f)
	assert.Empty(t, cover())
	assert.Equal(t, "the volts of sourcemeter are not known", b.board.Cover(0).Why, "of an old reading nothing is told")
	assert.Nil(t, newBench(t, []string{"source"}).board.Cover(time.Minute), "nothing stands behind an interlock")
}

// Whatever is switched, opened, lost and mended: an output is on behind an interlock only as long as nobody has read
// that it is open, and a cover is never called safe over an output that is on or over volts.
func TestNoCoverIsSafeOverVolts(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b, f := locked(t)
		x := b.board.Seat("sourcemeter")
		for range rapid.IntRange(1, 20).Draw(rt, "steps") {
			switch rapid.SampledFrom([]string{"on", "off", "open", "close", "lose", "find", "volts", "read"}).Draw(rt, "step") {
			case "on":
				unknown := f.silent || f.reads[1] != 0
				was := f.on
				err := b.output(rt, "sourcemeter", seats.On)
				require.Equal(rt, unknown, err != nil)
				require.True(rt, f.on == was || !unknown, "it went on behind an interlock that is not closed")
			case "off":
				_ = b.output(rt, "sourcemeter", seats.Off)
			case "open":
				f.reads[1] = rapid.SampledFrom([]float64{1, math.NaN()}).Draw(rt, "how")
			case "close":
				f.reads[1] = 0
			case "lose":
				f.silent = true
			case "find":
				f.silent = false
			case "volts":
				f.reads[0] = rapid.Float64Range(-3000, 3000).Draw(rt, "volts")
			case "read":
				trouble := b.read(f)
				if f.on && !f.silent && f.reads[1] != 0 {
					require.NotEmpty(rt, trouble)
				}
				if c := b.board.Cover(time.Minute); !f.silent && c.SafeToOpen {
					require.Less(rt, math.Abs(f.reads[0]), 30.0)
				}
			}
			if b.board.Cover(time.Minute).SafeToOpen {
				require.False(rt, x.Energised() || f.on)
			}
		}
	})
}
