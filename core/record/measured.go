package record

import (
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Measured is a column over a time: its readings without the missing ones, and their mean as an input of an
// uncertainty.
type Measured struct {
	trace.Series
	Mean uncertainty.Reading
	// Stated is false where the column has no accuracy, Bridged true where a gap was taken as a straight line.
	Stated, Bridged bool
}

// Measured reads a column between two times. It fails with the codes of no data, and with gap.
func (rec *Record) Measured(column string, t0, t1 float64) (m Measured, err error) {
	if m.Series, m.Bridged, err = rec.Whole(column, t0, t1); err != nil {
		return m, err
	}
	mean, err := m.Series.Mean()
	if err != nil {
		return m, CodeOf(err, column)
	}
	m.Mean, m.Stated = rec.ReadingOf(column, m.Series, mean)
	return m, nil
}

// Floor is up to where the mean is not told from 0.
func (m Measured) Floor() float64 {
	if !m.Stated {
		return 0
	}
	return uncertainty.Propagate(func(x []float64) float64 { return x[0] }, []uncertainty.Reading{m.Mean}).U
}
