package engine

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"usherbench/core/record"
	"usherbench/core/trace"
)

func TestARunSaysForHowLongItHadNoReadings(t *testing.T) {
	var s standstills
	assert.Empty(t, s.String())
	for _, gap := range [][2]float64{{0, 0.1}, {0.1, 0.49}, {0.49, 2}, {2, 2.1}, {2.1, 2.7}} {
		s.between(gap[0], gap[1], 100*time.Millisecond, 1)
	}
	assert.Equal(t, "readings stayed away 2 times, for 2.11 s in all and 1.51 s at most, from 0.49 s on", s.String())

	s = standstills{} // a frame each 5 ms on a fast bench: its 300 s are half a second of the computer's
	s.between(40, 100, 5*time.Millisecond, 600)
	assert.Empty(t, s.String(), "a tenth of a second is nothing")
	s.between(100, 400, 5*time.Millisecond, 600)
	assert.Equal(t, "readings stayed away once, for 300 s in all and 300 s at most, from 100 s on", s.String())
}

// A reading that comes every second stays away for a while: that is told once, when it is back, unless it can be read
// only at rest and something was on meanwhile.
func TestAnOhmmeterMissesNothingWhileAWindingIsFed(t *testing.T) {
	known, away := 2.5, math.NaN()
	told := func(atRest, fed bool) (all []record.Missed) {
		a := &absences{columns: []string{"ohmmeter.ohms", "meter.volts"}, places: []int{0, 1}, atRest: []bool{atRest, false},
			rhythms: make([]trace.Rhythm, 2), least: 1}
		a.forget()
		for s := range 60 {
			ohms := known
			if s >= 20 && s < 40 {
				ohms = away
			}
			all = append(all, a.frame(float64(s), []float64{ohms, 230}, fed && s >= 20 && s < 40)...)
		}
		return append(all, a.end(60)...)
	}
	gap := []record.Missed{{Columns: []string{"ohmmeter.ohms"}, From: 19, To: 40}}
	assert.Equal(t, gap, told(true, false))
	assert.Equal(t, gap, told(false, true))
	assert.Empty(t, told(true, true))
}
