package record

import (
	"math"
	"sort"
)

// HalfCurve is the course of one half-cycle: equally long slices. Time counts from its start, s; charge (A·s)
// and energy (W·s) from 0 upwards in its direction; amps are without sign.
type HalfCurve struct {
	// Kind is charge or discharge, Name that of its stage, Pass which one of its kind it is, from 1.
	Kind, Name string
	Pass       int
	// T0 is when it began, s since the start of the run.
	T0                             float64
	Ended                          string
	T, Volts, Amps, Charge, Energy []float64
}

// HalfCurves reads every charge and discharge of the run, in order, up to where its own rule ended it.
func (rec *Record) HalfCurves() ([]HalfCurve, error) {
	var all []HalfCurve
	for _, kind := range []string{"charge", "discharge"} {
		for i, h := range rec.Halves(kind, "") {
			b, err := rec.Terminals(h.T0, h.T1)
			if err != nil {
				continue // a half-cycle without a record has no curve
			}
			w := b.Within(h.From, h.To)
			if len(w.T) < 2 {
				continue
			}
			q0, e0 := b.Count(h.From)
			c := HalfCurve{Kind: kind, Name: h.Name, Pass: i + 1, T0: h.From, Ended: h.Ended}
			sign := 1.0
			if kind == "discharge" {
				sign = -1
			}
			for k, t := range w.T {
				c.T, c.Volts, c.Amps = append(c.T, t-h.From), append(c.Volts, w.Volts[k]), append(c.Amps, math.Abs(w.Amps[k]))
				// a 0 has no sign: −0 would be shown as such
				c.Charge, c.Energy = append(c.Charge, sign*(w.Charge[k]-q0)+0), append(c.Energy, sign*(w.Energy[k]-e0)+0)
			}
			all = append(all, c)
		}
	}
	sort.SliceStable(all, func(i, j int) bool { return all[i].T0 < all[j].T0 })
	return all, nil
}

// AtPlaces gives the volts at n equal places of charge over the charge of the whole curve, 0 … 1 both
// included; nil if it has none.
func (c HalfCurve) AtPlaces(n int) []float64 {
	last := len(c.Charge) - 1
	if last < 1 || c.Charge[last] <= 0 {
		return nil
	}
	places := make([]float64, n)
	k := 0
	for i := range places {
		q := c.Charge[last] * float64(i) / float64(n-1)
		for k+1 < last && c.Charge[k+1] < q {
			k++
		}
		share := 0.0
		if dq := c.Charge[k+1] - c.Charge[k]; dq > 0 {
			share = min(max((q-c.Charge[k])/dq, 0), 1)
		}
		places[i] = c.Volts[k] + share*(c.Volts[k+1]-c.Volts[k])
	}
	return places
}
