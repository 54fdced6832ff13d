package engine

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
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
