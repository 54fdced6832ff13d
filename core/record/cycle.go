package record

import "slices"

// Cycle is a charge and a discharge in a row, or one half of it; nil: the other is missing.
type Cycle struct{ In, Out *Half }

// Complete tells whether both halves took place, and each was ended by a rule of its own.
func (c Cycle) Complete() bool {
	return c.In != nil && c.Out != nil && c.In.Ended != "" && c.Out.Ended != ""
}

// Began is when the first of its halves began, s.
func (c Cycle) Began() float64 {
	switch {
	case c.In == nil:
		return c.Out.T0
	case c.Out == nil:
		return c.In.T0
	}
	return min(c.In.T0, c.Out.T0)
}

// Cycles lists the cycles of a run: each discharge with the charge before it; what has no other half stands alone.
func (rec *Record) Cycles() (all []Cycle) {
	charges, discharges := rec.Halves("charge", ""), rec.Halves("discharge", "")
	var open *Half // a charge whose discharge is still to come
	for len(charges) > 0 || len(discharges) > 0 {
		if len(discharges) == 0 || len(charges) > 0 && charges[0].T0 < discharges[0].T0 {
			if open != nil {
				all = append(all, Cycle{open, nil})
			}
			open, charges = &charges[0], charges[1:]
			continue
		}
		all = append(all, Cycle{open, &discharges[0]})
		open, discharges = nil, discharges[1:]
	}
	if open != nil {
		all = append(all, Cycle{open, nil})
	}
	return all
}

// A charge or discharge that was measured out, by time, charge or energy, and took less than pulseShare of the longest
// of the run is a pulse: it says something about the battery on its way, and is no half of a cycle.
const pulseShare = 0.2

var measuredOut = []string{"time", "charge", "energy"}

// withoutPulses leaves the pulses out.
func (rec *Record) withoutPulses(halves []Half) []Half {
	longest := 0.0
	for _, s := range rec.Stages {
		if s.Kind == "charge" || s.Kind == "discharge" {
			longest = max(longest, s.T1-s.T0)
		}
	}
	return slices.DeleteFunc(halves, func(h Half) bool {
		return slices.Contains(measuredOut, h.Ended) && (h.Kind == "charge" || h.Kind == "discharge") &&
			h.T1-h.T0 < pulseShare*longest
	})
}
