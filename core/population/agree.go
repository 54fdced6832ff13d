package population

import "math"

// Known is a value with its expanded uncertainty (95 %).
type Known struct{ Value, U float64 }

// Agreement says how far two values of the same thing are from each other.
type Agreement struct {
	// Difference is the second less the first, U its expanded uncertainty.
	Difference, U float64
	// Differ tells that the uncertainties do not explain the difference.
	Differ bool
}

// Agree compares two values that were measured with instruments of their own, by the normalised error of ISO 13528:
//
//	|b − a| ≤ √(Ua² + Ub²)
//
// Where both were measured with one instrument the uncertainty of the difference is smaller than this says, so that a
// difference that it finds is one all the more.
func Agree(a, b Known) Agreement {
	out := Agreement{Difference: b.Value - a.Value, U: math.Hypot(a.U, b.U)}
	out.Differ = math.Abs(out.Difference) > out.U
	return out
}

// Farthest are the two of several values that agree least, by their places in the list; the second is the later one.
// There must be two at least.
func Farthest(all []Known) (i, j int) {
	worst := -1.0
	for b := range all {
		for a := range b {
			d := Agree(all[a], all[b])
			by := math.Abs(d.Difference)
			if d.U > 0 {
				by /= d.U
			} else if by > 0 {
				by = math.Inf(1)
			}
			if by > worst {
				worst, i, j = by, a, b
			}
		}
	}
	return i, j
}
