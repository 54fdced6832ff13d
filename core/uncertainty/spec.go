// Package uncertainty computes how well a figure is known: from accuracy specifications of instruments and the
// noise of the record to an expanded uncertainty that covers 95 %. It follows the Guide to the Expression of
// Uncertainty in Measurement (JCGM 100) and, for sums dominated by one rectangle, the convolution of a
// rectangle with a normal distribution.
package uncertainty

import (
	"math"
	"slices"
)

// Spec is the accuracy of one quantity of one channel: a set of ranges. An empty spec means the accuracy is not stated.
type Spec []Range

// Range is one measuring range. All values are SI.
type Range struct {
	// To is the full scale: readings up to this magnitude belong to the range.
	To float64 `json:"to"`
	// Reading is the bound of the gain error as a share of the reading (0.0005 for 0.05 %).
	Reading float64 `json:"reading"`
	// Offset is the bound of the offset error, from shares of the range, fixed amounts and counts together.
	Offset float64 `json:"offset"`
	// Resolution is the step of a reading.
	Resolution float64 `json:"resolution"`
	// Leads is what the reading is corrected for.
	Leads Leads `json:"leads,omitzero"`
	// Burden is the resistance of the meter's own input in this range, Ω, across the line or in series with the unit; 0:
	// it is not stated. Wiring says of a reading of power which of them it includes, empty: nobody says.
	Burden float64 `json:"burden,omitempty"`
	Wiring string  `json:"wiring,omitempty"`
}

// Leads are those between an instrument and a unit, by whose resistance readings are corrected. Readings of one name
// share the error of the correction.
type Leads struct {
	Of string `json:"of"`
	// Ohms is the resistance of both leads together, known to ± Within as a rectangle, Ω.
	Ohms   float64 `json:"ohms"`
	Within float64 `json:"within"`
}

// Find is the smallest range that holds the reading. Above every range it is the largest, and ok is false: the
// reading is clipped.
func (s Spec) Find(reading float64) (r Range, ok bool) {
	for _, r := range s {
		if math.Abs(reading) <= r.To {
			return r, true
		}
	}
	if len(s) == 0 {
		return Range{}, false
	}
	return s[len(s)-1], false
}

// Scaled is the specification of a reading that is multiplied: its gain error stays, everything else grows with it.
func (s Spec) Scaled(factor float64) Spec {
	if factor == 1 || len(s) == 0 {
		return s
	}
	scaled := slices.Clone(s)
	for i := range scaled {
		scaled[i].To *= math.Abs(factor)
		scaled[i].Offset *= math.Abs(factor)
		scaled[i].Resolution *= math.Abs(factor)
	}
	return scaled
}

// Behind is the specification of a reading that is corrected for leads.
func (s Spec) Behind(leads Leads) Spec {
	corrected := slices.Clone(s)
	for i := range corrected {
		corrected[i].Leads = leads
	}
	return corrected
}

// Wired is the specification of a power that is read in a wiring of the meter.
func (s Spec) Wired(wiring string) Spec {
	wired := slices.Clone(s)
	for i := range wired {
		wired[i].Wiring = wiring
	}
	return wired
}

// Input is a reading in this range as an input of an uncertainty, without its noise. perOhm is what the reading changes
// by for each ohm of its leads: the amps for volts, their square for watts.
func (r Range) Input(group string, value, perOhm float64) Reading {
	return Reading{Value: value, Group: group, Gain: r.Reading, Offset: r.Offset, Resolution: r.Resolution,
		Leads: r.Leads, PerOhm: perOhm}
}

// Bound is the half-width a of the rectangle in which the error of a reading lies.
func (r Range) Bound(reading float64) float64 { return r.Reading*math.Abs(reading) + r.Offset }

// Standard is the standard uncertainty of a single reading by the specification alone, a/√3.
func (r Range) Standard(reading float64) float64 { return r.Bound(reading) / math.Sqrt(3) }

// Resolution is the standard uncertainty of a step q: q/√12.
func Resolution(q float64) float64 { return q / math.Sqrt(12) }
