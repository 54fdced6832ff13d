package record

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// ranged is a run of readings each half second whose instrument goes through ranges, and counts charge or not.
func ranged(ranges []float64, counts bool) *Record {
	columns := map[string][]float64{"source.range": ranges}
	var at []float64
	for k := range ranges {
		at = append(at, float64(k)/2)
		columns["source.amps"] = append(columns["source.amps"], ranges[k]/2)
		columns["source.charge"] = append(columns["source.charge"], float64(k))
	}
	rec := &Record{Stages: []Span{{Name: "all", T0: 0, T1: at[len(at)-1]}},
		Trace: func(column string, from, to float64) (trace.Series, error) {
			return trace.Series{T: at, X: columns[column]}.Between(from, to), nil
		}}
	if counts {
		rec.Specs = map[string]uncertainty.Spec{"source.charge": {{To: 1e6}}}
	}
	return rec
}

func TestRangesAndWhatWasLostBetweenThemAreTold(t *testing.T) {
	steps := []float64{2e-3, 2e-3, 200e-3, 200e-3, 20e-6, 20e-6}
	for words, rec := range map[string]*Record{
		"through 2 changes of range, 20 µA to 200 mA, counted without a gap":                       ranged(steps, true),
		"through 2 changes of range, 20 µA to 200 mA, up to 0.5 s between the readings around one": ranged(steps, false),
		"in the range of 2 A": ranged([]float64{2, 2, 2}, false),
	} {
		from, to := rec.Ends()
		d, err := rec.Drawn("source.amps", Visit{from, to})
		require.NoError(t, err)
		assert.Equal(t, words, d.Ranges.Words())
	}
	a, b := Ranges{Changes: 1, Least: 1, Most: 2, Gap: 0.5}, Ranges{Changes: 2, Least: 0.1, Most: 1}
	assert.Equal(t, Ranges{Changes: 3, Least: 0.1, Most: 2, Gap: 0.5}, a.And(b))
	assert.Equal(t, a, a.And(Ranges{}))
	assert.Equal(t, a, Ranges{}.And(a))
	assert.Empty(t, Ranges{}.Words(), "one that does not tell")
}
