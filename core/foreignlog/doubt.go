package foreignlog

import (
	"math"
	"slices"

	"usherbench/core/quantity"
	"usherbench/core/record"
)

// doubtful is how much the volts may go the wrong way, as a share, before the sign of the current is in doubt.
const doubtful = 0.02

// Doubt says why the sign of the current is not to be believed without asking: the volts of a discharge rise, or those
// of a charge fall. Empty: they go as they should.
func (l *Log) Doubt() string {
	for _, kind := range []string{"discharge", "charge"} {
		var longest record.Span
		for _, s := range record.LogSpans(l.T, l.Amps) {
			if s.Kind == kind && s.T1-s.T0 > longest.T1-longest.T0 {
				longest = s
			}
		}
		first, last, ok := l.course(longest)
		change := (last - first) / math.Abs(first)
		if ok && kind == "discharge" && change > doubtful {
			return quantity.Sprintf("the volts rise from %.4g V to %.4g V in %s: is a discharge positive in this log? Say "+
				"whether its amps are negative or positive", first, last, longest.Name)
		}
		if ok && kind == "charge" && change < -doubtful {
			return quantity.Sprintf("the volts fall from %.4g V to %.4g V in %s: is a discharge positive in this log? Say "+
				"whether its amps are negative or positive", first, last, longest.Name)
		}
	}
	return ""
}

// course is the median volts of the first and the last part of a span, past the steps at its ends.
func (l *Log) course(s record.Span) (first, last float64, ok bool) {
	var volts []float64
	for k, t := range l.T {
		if t >= s.T0 && t < s.T1 && !math.IsNaN(l.Volts[k]) {
			volts = append(volts, l.Volts[k])
		}
	}
	tenth := len(volts) / 10
	if tenth < 1 {
		return 0, 0, false
	}
	return medianOf(volts[tenth : 2*tenth]), medianOf(volts[len(volts)-2*tenth : len(volts)-tenth]), true
}

func medianOf(xs []float64) float64 {
	sorted := slices.Sorted(slices.Values(xs))
	return sorted[len(sorted)/2]
}

// Gaps lists the times without rows, of at least so many usual intervals and seconds.
func (l *Log) Gaps(intervals, seconds float64) (gaps []record.Missed) {
	steps := make([]float64, 0, len(l.T))
	for k := 1; k < len(l.T); k++ {
		steps = append(steps, l.T[k]-l.T[k-1])
	}
	usual := medianOf(steps)
	for k := 1; k < len(l.T); k++ {
		if h := l.T[k] - l.T[k-1]; h >= intervals*usual && h >= seconds {
			gaps = append(gaps, record.Missed{From: l.T[k-1], To: l.T[k]})
		}
	}
	return gaps
}
