package rehearsal

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"usherbench/core/record"
)

// What instruments take of the time counts on the bench's clock, which may run faster than everybody's.
func TestAStageMayTakeWhatInstrumentsTake(t *testing.T) {
	rehearsed := func(length float64) *Result { return &Result{Spans: []record.Span{{Name: "shots", T1: length}}} }
	f := &Foretold{Result: rehearsed(0.4), Others: []*Result{rehearsed(0.45)}}
	late := func(took, factor float64) bool {
		run := Actual{Spans: []record.Span{{Name: "shots", T1: took}}, Ending: "done", TimeFactor: factor}
		return len(f.stageDeviations(run)) > 0
	}
	assert.False(t, late(1.4, 0))
	assert.True(t, late(1.6, 0))
	assert.True(t, late(3, 1))
	assert.False(t, late(3, 10), "a quarter of a second, on a clock ten times as fast")
	assert.True(t, late(4, 10))
}
