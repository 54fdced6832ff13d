package record_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"usherbench/core/record"
)

// A gap belongs to the stages and rows that it touches, and to no others; what asks for neither hears of all.
func TestAGapBelongsToWhatItTouches(t *testing.T) {
	gap := record.Missed{From: 4, To: 6}
	rec := &record.Record{
		Stages: []record.Span{{Name: "warm", T0: 0, T1: 5}, {Name: "cool", T0: 5, T1: 10}, {Name: "rest", T0: 10, T1: 12}},
		Marks:  []record.Mark{gap.Mark()},
		Points: []record.Point{{Row: "hot", Stage: "cool"}, {Row: "cold", Stage: "rest"}},
	}
	for _, c := range []struct {
		stage, row string
		beside     bool
	}{
		{"warm", "", true}, {"cool", "", true}, {"rest", "", false}, {"never entered", "", false},
		{"", "hot", true}, {"", "cold", false}, {"", "never taken", false}, {"", "", true},
	} {
		assert.Equal(t, c.beside, len(rec.MissedBeside(c.stage, c.row, nil)) == 1, "%q %q", c.stage, c.row)
	}
}

// A few quantities are named; of many the seats are.
func TestAGapIsSaidShortly(t *testing.T) {
	few := record.Missed{Columns: []string{"load.volts", "load.amps"}, From: 3, To: 5}
	assert.Equal(t, "no readings of load.volts, load.amps for 2 s, from 3 s on", few.Words())
	many := record.Missed{From: 3, To: 5, Columns: []string{"meter.volts", "meter.amps", "meter.watts", "load.volts",
		"meter.volts.1", "load.amps", "source.volts"}}
	assert.Equal(t, "no readings of 7 quantities of meter, load, source for 2 s, from 3 s on", many.Words())
	assert.Equal(t, "no readings for 2 s, from 3 s on", record.Missed{From: 3, To: 5}.Words())
}
