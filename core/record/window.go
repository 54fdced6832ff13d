package record

import (
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Span is the time of a stage: of its last pass, or of another, counted from 1.
func (rec *Record) Span(stage string, pass int) (Span, error) {
	var found []Span
	for _, s := range rec.Stages {
		if s.Name == stage {
			found = append(found, s)
		}
	}
	switch {
	case len(found) == 0:
		return Span{}, Because(NoMark, "the stage %q did not happen", stage)
	case pass > len(found):
		return Span{}, Because(NoMark, "the stage %q happened %d times", stage, len(found))
	case pass > 0:
		return found[pass-1], nil
	}
	return found[len(found)-1], nil
}

// Commands are the times at which something was set, in order.
func (rec *Record) Commands() []float64 { return rec.commands() }

// ReadingOf makes the input of an uncertainty from a window of a column about a value of it; stated is false where
// the column has no accuracy.
func (rec *Record) ReadingOf(column string, w trace.Series, value float64) (reading uncertainty.Reading, stated bool) {
	reading, stated = rec.Input(column, value, rec.through(column, w))
	a, _ := trace.SettledAverage(w, 0) // of fewer than three readings nothing is known but their step
	reading.Noise, reading.N = a.SE, a.N
	return reading, stated
}

// through is the mean current of a seat in a window of one of its columns, A; 0 where nobody needs it.
func (rec *Record) through(column string, w trace.Series) float64 {
	if !rec.Corrected(column) || len(w.T) == 0 {
		return 0
	}
	amps, err := rec.Trace(seatOf(column)+".amps", w.T[0], w.T[len(w.T)-1])
	if err != nil {
		return 0
	}
	mean, err := amps.Mean()
	if err != nil {
		return 0
	}
	return mean
}
