package uncertainty

import (
	"cmp"
	"errors"
	"math"

	"gonum.org/v1/gonum/stat/distuv"
)

// ErrImplausible is returned for correlations outside ±1 or that make a variance negative, ErrMissing for a
// NaN among the inputs.
var (
	ErrImplausible = errors.New("correlations are impossible")
	ErrMissing     = errors.New("an input uncertainty is missing")
)

// Combined is √(Σ(c_i·u_i)² + 2·Σ_{i<j} c_i·c_j·r_ij·u_i·u_j) for sensitivities c, standard
// uncertainties u and a function r that gives the correlation of i and j (nil: independent).
func Combined(c, u []float64, r func(i, j int) float64) (float64, error) {
	var sum, scale float64
	for i := range c {
		if math.IsNaN(c[i]) || math.IsNaN(u[i]) {
			return math.NaN(), ErrMissing
		}
		sum += c[i] * u[i] * c[i] * u[i]
		scale += c[i] * u[i] * c[i] * u[i]
		if r == nil {
			continue
		}
		for j := i + 1; j < len(c); j++ {
			rij := r(i, j)
			if math.Abs(rij) > 1 {
				return math.NaN(), ErrImplausible
			}
			sum += 2 * c[i] * c[j] * rij * u[i] * u[j]
		}
	}
	if sum < -1e-12*scale {
		return math.NaN(), ErrImplausible
	}
	return math.Sqrt(max(sum, 0)), nil
}

// Product is the standard uncertainty of x1·x2, in the form that also holds at zero.
func Product(x1, u1, x2, u2, r float64) float64 {
	return root(x2*u1*x2*u1 + x1*u2*x1*u2 + 2*r*x1*x2*u1*u2)
}

// Ratio is the standard uncertainty of x1/x2, in the form that also holds at x1 = 0; NaN if x2 is zero.
func Ratio(x1, u1, x2, u2, r float64) float64 {
	if x2 == 0 {
		return math.NaN()
	}
	c1, c2 := 1/x2, -x1/(x2*x2)
	return root(c1*u1*c1*u1 + c2*u2*c2*u2 + 2*r*c1*c2*u1*u2)
}

// root is a square root of what rounding may have made a little negative: a perfect correlation that cancels.
func root(x float64) float64 { return math.Sqrt(max(x, 0)) }

// Reading is one input of a figure: a mean measured by one quantity of one instrument.
type Reading struct {
	Value float64 // SI
	// Group names instrument, quantity and range: readings of one group share their gain and their offset error.
	Group string
	// Gain and Offset bound the shared errors: share of the reading, and SI.
	Gain, Offset float64
	// Noise is the standard uncertainty that is new in each reading: u_A of a mean. Where it does not come up to the
	// Resolution, the step of the reading, that step rules, as a rectangle of half its width.
	Noise, Resolution float64
	// N is how many readings Noise was estimated from; 0 means that it is known exactly.
	N int
	// Leads is what the reading is corrected for, PerOhm what it changes by for each ohm of them.
	Leads  Leads
	PerOhm float64
}

// Expanded is the uncertainty of a figure.
type Expanded struct {
	U     float64 // expanded uncertainty, covers 95 %, in the figure's unit
	K     float64 // coverage factor
	Parts int     // inputs that contribute
}

// Propagate gives the expanded uncertainty of y = f(x) for the readings x. With c_γ = Σ(∂f/∂x_i)·x_i and
// c_ω = Σ∂f/∂x_i over a group, and c_R = Σ(∂f/∂x_i)·(∂x_i/∂R) over the readings that are corrected for
// leads R of one name,
//
//	u² = Σ_groups (c_γ·γ_max)²/3 + (c_ω·ω_max)²/3 + Σ_leads (c_R·a_R)²/3 + Σ_i (∂f/∂x_i·u_ν)²
//
// where u_ν is the noise of a reading, or its step q as a rectangle, q/√12, whichever is larger,
// so that the gain of one instrument cancels in a ratio of its readings and its offset in a difference. f must
// be smooth near the readings; the derivatives are central differences.
func Propagate(f func(x []float64) float64, readings []Reading) Expanded {
	x := make([]float64, len(readings))
	largest, alike := 0.0, map[string]float64{}
	for i, r := range readings {
		x[i] = r.Value
		largest = max(largest, math.Abs(r.Value))
		alike[r.Group] = max(alike[r.Group], math.Abs(r.Value), r.Offset)
	}
	type group struct{ gain, offset, gainMax, offsetMax float64 }
	groups := map[string]*group{}
	leads, known := map[string]float64{}, map[string]float64{}
	var order, corrected []string
	var noise []Normal
	var rectangles []float64
	for i, r := range readings {
		// A step that is small beside the reading or what it is known to, and not lost beside those of its group. Readings
		// of picoamperes stand beside those of kilovolts: only one that says nothing of its own size takes it from others.
		step := max(1e-4*math.Abs(r.Value), 0.01*max(r.Noise, r.Resolution, r.Offset), 1e-9*alike[r.Group])
		if step == 0 {
			step = cmp.Or(1e-9*largest, 1e-9)
		}
		x[i] = r.Value + step
		up := f(x)
		x[i] = r.Value - step
		down := f(x)
		x[i] = r.Value
		c := (up - down) / (2 * step)
		g := groups[r.Group]
		if g == nil {
			g = &group{}
			groups[r.Group] = g
			order = append(order, r.Group)
		}
		g.gain += c * r.Value
		g.offset += c
		g.gainMax, g.offsetMax = max(g.gainMax, r.Gain), max(g.offsetMax, r.Offset)
		if r.Leads.Within > 0 {
			if _, met := leads[r.Leads.Of]; !met {
				corrected = append(corrected, r.Leads.Of)
			}
			leads[r.Leads.Of] += c * r.PerOhm
			known[r.Leads.Of] = max(known[r.Leads.Of], r.Leads.Within)
		}
		switch {
		case c == 0:
		case r.Noise <= Resolution(r.Resolution)*(1+1e-9) && r.Resolution > 0:
			rectangles = append(rectangles, math.Abs(c)*r.Resolution/2)
		case r.Noise > 0:
			noise = append(noise, Normal{math.Abs(c) * r.Noise, r.N - 1})
		}
	}
	for _, name := range order {
		g := groups[name]
		for _, a := range []float64{math.Abs(g.gain) * g.gainMax, math.Abs(g.offset) * g.offsetMax} {
			if a > 0 {
				rectangles = append(rectangles, a)
			}
		}
	}
	for _, name := range corrected {
		if a := math.Abs(leads[name]) * known[name]; a > 0 {
			rectangles = append(rectangles, a)
		}
	}
	return Expand(rectangles, noise)
}

// Normal is a normally distributed part: its standard uncertainty, and the degrees of freedom of its estimate
// (≤ 0: known exactly).
type Normal struct {
	Standard float64
	Freedom  int
}

// fewReadings is the number of effective degrees of freedom from which Student's factor is left out.
const fewReadings = 30

// Expand combines rectangles (half-widths) and normal parts to an expanded uncertainty. Where the noise was
// estimated from few readings the factor grows by Student's t over 1.960, with the effective degrees of freedom
// ν = u⁴/Σ(u_i⁴/ν_i) of Welch and Satterthwaite; rectangles are bounds and count as known exactly.
func Expand(rectangles []float64, normal []Normal) Expanded {
	var u2, estimated float64
	for _, a := range rectangles {
		u2 += a * a / 3
	}
	standards := make([]float64, len(normal))
	for i, p := range normal {
		standards[i] = p.Standard
		u2 += p.Standard * p.Standard
		if p.Freedom > 0 {
			estimated += math.Pow(p.Standard, 4) / float64(p.Freedom)
		}
	}
	k := CoverageFactor(rectangles, standards)
	if freedom := u2 * u2 / estimated; estimated > 0 && freedom < fewReadings {
		k *= distuv.StudentsT{Mu: 0, Sigma: 1, Nu: max(freedom, 1)}.Quantile(0.975) / normalFactor
	}
	return Expanded{U: k * math.Sqrt(u2), K: k, Parts: len(rectangles) + len(normal)}
}
