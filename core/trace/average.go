package trace

import "math"

// Average is the settled average of one quantity at one operating point.
type Average struct {
	Mean float64 `json:"mean"` // time-weighted, SI
	SD   float64 `json:"sd"`   // standard deviation of single readings, s
	SE   float64 `json:"se"`   // standard error of the mean u_A = s/√n_eff, autocorrelation taken into account
	R1   float64 `json:"r1"`   // lag-one autocorrelation, held in 0 … 0.95
	N    int     `json:"n"`    // readings averaged
	// Drift is the fitted slope times the length of the window where the slope stands out from its noise (|b| >
	// 2·s_b), else 0.
	Drift float64 `json:"drift,omitempty"`
}

// maximumR1 bounds the autocorrelation estimate, which is poor for short windows.
const maximumR1 = 0.95

// SettledAverage averages the present samples of a window: time-weighted mean, standard deviation with n − 1,
// and the standard error with n_eff = n·(1 − r₁)/(1 + r₁), never below resolution/√12 (resolution in
// SI, 0 if unknown). It needs three samples.
//
// Repeated equal readings (an instrument polled faster than it renews) raise r₁ and so widen the standard
// error by themselves.
func SettledAverage(window Series, resolution float64) (Average, error) {
	p := window.Present()
	n := p.Len()
	a := Average{N: n, Mean: math.NaN()}
	if n == 0 {
		return a, ErrNoData
	}
	if n < 3 {
		return a, ErrTooFew
	}
	mean, err := p.Mean()
	if err != nil {
		return a, err
	}
	var plain float64
	for _, x := range p.X {
		plain += x / float64(n)
	}
	var s2, lag float64
	for k, x := range p.X {
		s2 += (x - plain) * (x - plain)
		if k > 0 {
			lag += (x - plain) * (p.X[k-1] - plain)
		}
	}
	a.Mean = mean
	a.SD = math.Sqrt(s2 / float64(n-1))
	if s2 > 0 {
		a.R1 = min(max(lag/s2, 0), maximumR1)
	}
	effective := float64(n) * (1 - a.R1) / (1 + a.R1)
	a.SE = max(a.SD/math.Sqrt(effective), resolution/math.Sqrt(12))
	if line, err := p.Slope(); err == nil && math.Abs(line.Slope) > 2*line.SlopeSD {
		a.Drift = line.Slope * (p.T[n-1] - p.T[0])
	}
	return a, nil
}
