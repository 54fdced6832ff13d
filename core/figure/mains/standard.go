package mains

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
)

// Requirement is one of what IEC 62301 asks of a measurement of low power, with what was found.
type Requirement struct {
	Asked string `json:"asked"`
	Found string `json:"found"`
	// Met says whether it is met; nil: that is not known, as Found says.
	Met *bool `json:"met"`
}

// Standard holds the figures of a run against what the standard asks, in its order: the supply, the method and its
// stability, the uncertainty, the meter's own burden, and the power itself. of gives a figure by id; ok is false where
// the run has none. It is nil for a run that measured no low power.
func Standard(of func(id string) (figure.Result, bool)) (all []Requirement) {
	power, sampled := of("standby-power")
	if _, also := of("accumulated-power"); !sampled && !also {
		return nil
	}
	add := func(asked, id string, met func(figure.Result) bool, found func(figure.Result) string) {
		r, has := of(id)
		q := Requirement{Asked: asked}
		switch {
		case !has:
			q.Found = "not asked for (" + id + ")"
		case r.Undetermined != nil:
			q.Found = r.Undetermined.Code + ": " + r.Undetermined.Sentence
		default:
			is := met(r)
			q.Found, q.Met = found(r), &is
		}
		all = append(all, q)
	}
	plain := func(r figure.Result) string { return quantity.Uncertain(r.Value, r.U, r.Unit) }
	within := func(low, high float64) func(figure.Result) bool {
		return func(r figure.Result) bool { return r.Value >= low && r.Value <= high }
	}
	add("supply volts within 1 % of nominal", "supply-voltage-deviation", within(-supplyWithin, supplyWithin), plain)
	add("supply frequency within 1 % of nominal", "supply-frequency-deviation", within(-supplyWithin, supplyWithin), plain)
	add("harmonics of the supply up to 2 %", "supply-voltage-thd", within(0, supplyTHD), plain)
	add("crest factor of the supply 1.34 to 1.49", "supply-crest-factor", within(supplyCrestLow, supplyCrestTop), plain)
	add("power steady while it is measured", "power-stability", func(r figure.Result) bool {
		return math.Abs(r.Value) <= permittedDrift(power.Value)
	}, func(r figure.Result) string {
		return quantity.Sprintf("%.3g mW/h; %.3g mW/h are permitted", 1e3*r.Value, 1e3*permittedDrift(power.Value))
	})
	add("no bursts between the readings", "power-method-difference", func(r figure.Result) bool {
		return r.U == 0 || math.Abs(r.Value) <= r.U
	}, plain)
	add("uncertainty within what is permitted", "permitted-uncertainty", func(r figure.Result) bool {
		return sampled && power.Undetermined == nil && power.U > 0 && power.U <= r.Value
	}, func(r figure.Result) string {
		return quantity.Sprintf("U is %.3g mW; %.3g mW are permitted", 1e3*power.U, 1e3*r.Value)
	})
	add("the meter's own power taken off", "burden-corrected-power", func(figure.Result) bool { return true }, plain)
	return all
}

// Permitted is how large the expanded uncertainty of a low power may be, W, while nobody knows its maximum current
// ratio.
func Permitted(watts float64) float64 { return permitted(watts, 0) }
