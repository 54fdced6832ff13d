// Package recordtest makes records for tests of figures: what a cycler saw of a battery, written down as samples, or
// columns over times.
package recordtest

import (
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// Sample is a frame of a battery that a test writes down.
type Sample struct{ T, Volts, Amps float64 }

// Battery makes a record of what a cycler saw of seven cells in series. Charge and energy are integrated from the
// samples.
func Battery(ratings map[string]quantity.Quantity, stages []record.Span, marks []record.Mark,
	samples ...Sample) *record.Record {
	series := map[string]*trace.Series{"cycler.volts": {}, "cycler.amps": {}}
	for _, f := range samples {
		for column, x := range map[string]float64{"cycler.volts": f.Volts, "cycler.amps": f.Amps} {
			series[column].T, series[column].X = append(series[column].T, f.T), append(series[column].X, x)
		}
	}
	return &record.Record{Stages: stages, Marks: marks, Ratings: ratings, Series: 7,
		Columns: []string{"cycler.volts", "cycler.amps"},
		Trace: func(column string, a, b float64) (trace.Series, error) {
			s, ok := series[column]
			if !ok {
				return trace.Series{}, trace.ErrNoData
			}
			return s.Between(a, b), nil
		}}
}

// Falling is a discharge of a current, without sign, whose volts are given over time, a sample each so many seconds.
func Falling(amps, from, to, every float64, volts func(t float64) float64) (samples []Sample) {
	for t := from; t <= to+1e-9; t += every {
		samples = append(samples, Sample{t, volts(t), -amps})
	}
	return samples
}

// Steady is a stretch at constant volts and amps, a sample each second.
func Steady(from, to, volts, amps float64) (samples []Sample) {
	for t := from; t < to; t++ {
		samples = append(samples, Sample{t, volts, amps})
	}
	return samples
}

// Command and Ended are the marks of something that was set, and of a half-cycle that a rule of its own ended.
func Command(t float64, label string) record.Mark {
	return record.Mark{T: t, Kind: record.MarkCommand, Label: label}
}

// Ended is the mark of a half-cycle, "charge" or "discharge", that a rule of its own ended.
func Ended(t float64, half, rule string) record.Mark {
	return record.Mark{T: t, Kind: record.MarkCondition, Label: half + " ended by " + rule,
		About: record.Ended{Stage: half, Rules: []string{rule}}}
}

// Trace reads columns that a test writes down over common times.
func Trace(t []float64, columns map[string][]float64) func(column string, a, b float64) (trace.Series, error) {
	return func(column string, a, b float64) (trace.Series, error) {
		x, ok := columns[column]
		if !ok {
			return trace.Series{}, trace.ErrNoData
		}
		return trace.Series{T: t, X: x}.Between(a, b), nil
	}
}
