package battery

import (
	"math"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
)

// Figures of the curve of a half-cycle, and of cycles in a row.
var curveFigures = []figure.Definition{
	{ID: "incremental-capacity", Title: "Incremental capacity, highest peak", Unit: "Ah/V", Least: 0, Most: math.Inf(1),
		Needs: figure.Discharge,
		Args: []figure.Arg{{Name: "bin", Dim: quantity.Voltage, Default: math.NaN(), Least: 1e-4, Most: 100},
			{Name: "passes", Dim: quantity.Number, Default: 2, Least: 0, Most: 50}}, Formula: incrementalCapacity},
	{ID: "knee", Title: "Knee of the discharge curve", Unit: "Ah", Least: 0, Most: math.Inf(1), Needs: figure.Discharge,
		Args: []figure.Arg{cutoffArg}, Formula: kneeOfVolts},
	{ID: "capacity-knee", Title: "Knee of capacity over cycles", Unit: "cycles", Least: 1, Most: math.Inf(1),
		Needs: figure.Discharge, Args: []figure.Arg{cutoffArg}, Formula: kneeOfCapacity},
	{ID: "cycle-table", Title: "Cycles", Unit: "cycles", Least: 0, Most: math.Inf(1), Needs: figure.Discharge,
		Exact: "counted", Args: []figure.Arg{cutoffArg}, Formula: cycleTable},
	{ID: "fade", Title: "Fade", Unit: "%", Least: math.Inf(-1), Most: 100, Needs: figure.Discharge,
		Args: []figure.Arg{cutoffArg, referenceArg}, Formula: fade},
	{ID: "fade-per-cycle", Title: "Fade per cycle", Unit: "%", Least: math.Inf(-1), Most: 100, Needs: figure.Discharge,
		Args: []figure.Arg{cutoffArg, referenceArg}, Formula: fadePerCycle},
	{ID: "cycle-life", Title: "Cycle life to 80 %", Unit: "cycles", Least: 0, Most: math.Inf(1), Needs: figure.Discharge,
		Args: []figure.Arg{cutoffArg, referenceArg}, Formula: cycleLife},
}

var referenceArg = figure.Arg{Name: "reference", Dim: quantity.Number, Default: 1, Least: 1, Most: 1e6}

// binPerCell is the usual width of a bin of the incremental capacity, V per cell.
const binPerCell = 5e-3

// incrementalCapacity is |dQ/dU| over volts of one half-cycle at constant current: Q at volts edges spaced bin,
// from the first crossing of each edge; then passes of (D₋ + 2·D₀ + D₊)/4. Peaks stand out by at least
// 10 % of the largest.
func incrementalCapacity(rec *record.Record, req figure.Request) (figure.Result, error) {
	h, err := rec.Half("discharge", req.Stage, req.Pass)
	if err != nil {
		return figure.Result{}, err
	}
	b, err := rec.Terminals(h.T0, h.T1)
	if err != nil {
		return figure.Result{}, err
	}
	m, err := rec.Over(b, h.From, h.To)
	r := figure.Result{N: m.N, Remarks: m.Gaps.Remarks}
	if err != nil {
		return r, err
	}
	w := b.Within(h.From, h.To)
	bin, given := req.Args["bin"]
	if !given {
		bin = binPerCell * float64(max(rec.Series, 1))
	}
	if err := sweptEvenly(w, m.Amps, bin); err != nil {
		return r, err
	}
	curve, err := binned(w, bin, m.Amps > 0)
	if err != nil {
		return r, err
	}
	for range int(req.Args["passes"]) {
		curve = smoothed(curve)
	}
	if q, err := ratedCapacity(rec); err == nil && math.Abs(m.Amps) > 0.1*q/record.AmpHour {
		r.Remarks = append(r.Remarks, "fast")
	}
	peaks := peaksOf(curve)
	r.Table = curveTable(curve, peaks)
	if len(peaks) == 0 {
		return r, record.Because(record.NotFound, "the curve has no peak that stands out")
	}
	for _, k := range peaks {
		r.Value = math.Max(r.Value, curve[k][1])
		r.Remarks = append(r.Remarks, quantity.Sprintf("peak at %.4g V", curve[k][0]))
	}
	// A share of the charge of the whole curve is known as well as that, and to the noise of the volts over a bin.
	noise := voltsNoise(w.Volts) / math.Sqrt(1+2*req.Args["passes"])
	perCharge := r.Value / m.Charge
	e, stated := rec.Account(m).Expand(func(charge, _ []float64) float64 { return charge[0] * perCharge })
	if !stated {
		r.Remarks = record.AddRemark(r.Remarks, figure.NotStated)
		return r, nil
	}
	r.K = e.K
	r.U = math.Hypot(e.U, e.K*r.Value*math.Sqrt2*noise/bin)
	return r, nil
}

// sweptEvenly fails for a half-cycle whose current varies, or whose volts are too noisy for a bin.
func sweptEvenly(w *record.Battery, mean, bin float64) error {
	if len(w.T) < 3 {
		return record.Because(record.TooFew, "%d frames; three are needed", len(w.T))
	}
	for k, i := range w.Amps[1 : len(w.Amps)-1] {
		if math.Abs(i-mean) > 0.01*math.Abs(mean) && k > 0 {
			return record.Because(record.WrongConditions,
				"the current varies by more than 1 %%: %.4g A beside a mean of %.4g A; take one part at constant current", i,
				mean)
		}
	}
	if noise := voltsNoise(w.Volts); noise > bin {
		return record.Because(record.BelowFloor,
			"the volts are noisy by %.3g V, more than a bin of %.3g V; give a wider bin", noise, bin)
	}
	return nil
}

// curveTable is the curve with its peaks.
func curveTable(curve [][2]float64, peaks []int) *figure.Table {
	table := &figure.Table{Columns: []figure.TableColumn{{Name: "volts", Unit: "V"},
		{Name: "incremental capacity", Unit: "Ah/V"}, {Name: "peak"}}}
	for k, p := range curve {
		mark := ""
		if slices.Contains(peaks, k) {
			mark = "peak"
		}
		table.Rows = append(table.Rows, []any{p[0], p[1], mark})
	}
	return table
}

// voltsNoise is the noise of neighbouring readings, from second differences.
func voltsNoise(v []float64) float64 {
	var sum float64
	for k := 2; k < len(v); k++ {
		d := v[k] - 2*v[k-1] + v[k-2]
		sum += d * d / 6
	}
	return math.Sqrt(sum / math.Max(float64(len(v)-2), 1))
}

// binned is D = |ΔQ|/bin at bin centres, in Ah/V.
func binned(b *record.Battery, bin float64, rising bool) ([][2]float64, error) {
	sign := 1.0
	if !rising {
		sign = -1
	}
	first := math.Ceil(sign*b.Volts[0]/bin) * bin
	var edges [][2]float64 // volts × sign, charge
	level := first
	for k := 1; k < len(b.T); k++ {
		for sign*b.Volts[k] >= level {
			if sign*b.Volts[k-1] >= level {
				level += bin
				continue
			}
			share := (level - sign*b.Volts[k-1]) / (sign*b.Volts[k] - sign*b.Volts[k-1])
			edges = append(edges, [2]float64{level, b.Charge[k-1] + share*(b.Charge[k]-b.Charge[k-1])})
			level += bin
		}
	}
	if len(edges) < 21 {
		return nil, record.Because(record.TooFew, "the volts pass %d bins of %.3g V; 20 are needed", max(len(edges)-1, 0),
			bin)
	}
	curve := make([][2]float64, len(edges)-1)
	for k := range curve {
		curve[k] = [2]float64{sign * (edges[k][0] + bin/2), math.Abs(edges[k+1][1]-edges[k][1]) / bin / record.AmpHour}
	}
	return curve, nil
}

func smoothed(curve [][2]float64) [][2]float64 {
	if len(curve) < 3 {
		return curve
	}
	next := make([][2]float64, len(curve)-2)
	for k := range next {
		next[k] = [2]float64{curve[k+1][0], (curve[k][1] + 2*curve[k+1][1] + curve[k+2][1]) / 4}
	}
	return next
}

// peaksOf lists the local maxima whose prominence is at least 10 % of the largest value.
func peaksOf(curve [][2]float64) (peaks []int) {
	var most float64
	for _, p := range curve {
		most = math.Max(most, p[1])
	}
	for k := 1; k+1 < len(curve); k++ {
		y := curve[k][1]
		if !(y > curve[k-1][1] && y >= curve[k+1][1]) {
			continue
		}
		base := func(step int) float64 {
			low := y
			for i := k + step; i >= 0 && i < len(curve) && curve[i][1] <= y; i += step {
				low = math.Min(low, curve[i][1])
			}
			return low
		}
		if y-math.Max(base(-1), base(1)) >= 0.1*most {
			peaks = append(peaks, k)
		}
	}
	return peaks
}

// Knee finds the knee of a falling curve over the whole of what is given: both axes scaled to 0 … 1, the
// largest x̂ + ŷ − 1. It fails with too-few under 5 places, wrong-sign when the curve does not fall, and
// not-found when nothing stands out by 0.05.
func Knee(x, y []float64) (k int, height float64, err error) {
	n := len(x)
	if n < 5 {
		return 0, 0, record.Because(record.TooFew, "%d places; five are needed", n)
	}
	dx, dy := x[n-1]-x[0], y[0]-y[n-1]
	if dx <= 0 || dy <= 0 {
		return 0, 0, record.Because(record.WrongSign, "the curve does not fall from its first to its last place")
	}
	for i := range x {
		if h := (x[i]-x[0])/dx + (y[i]-y[n-1])/dy - 1; h > height {
			k, height = i, h
		}
	}
	if height < 0.05 || k == 0 || k == n-1 {
		return k, height,
			record.Because(record.NotFound, "nothing stands out: the largest distance from the straight line is %.2g",
				height)
	}
	return k, height, nil
}

// kneeOfVolts is the charge at the knee of the volts of a discharge, smoothed over 1 % of the charge.
func kneeOfVolts(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := discharged(rec, req)
	if err != nil {
		return figure.Result{N: d.moved.N}, withoutBounds(err)
	}
	w := d.b.Within(d.From, d.Crossing.T)
	q0, _ := d.b.Count(d.From)
	const places = 400
	total := d.charge()
	var x, y []float64
	k := 0
	for p := range places {
		from, to := q0-total*float64(p)/places, q0-total*float64(p+1)/places
		// Smoothed over 1 % of the charge: four places.
		low, high := to-1.5*total/places, from+1.5*total/places
		for k < len(w.T) && w.Charge[k] > high {
			k++
		}
		sum, n := 0.0, 0
		for i := k; i < len(w.T) && w.Charge[i] >= low; i++ {
			sum, n = sum+w.Volts[i], n+1
		}
		if n > 0 {
			x, y = append(x, (q0-(from+to)/2)/record.AmpHour), append(y, sum/float64(n))
		}
	}
	i, height, err := Knee(x, y)
	r := figure.Result{N: len(w.T), Remarks: d.remarks}
	if err != nil {
		return r, err
	}
	r.Value = x[i]
	r.Remarks = append(r.Remarks, quantity.Sprintf("at %.4g V, height %.2g, from the start to the cutoff", y[i], height))
	share := r.Value * record.AmpHour / total
	e, stated := rec.Account(d.moved).Expand(func(charge,
		_ []float64) float64 {
		return -charge[0] * share / record.AmpHour
	})
	if !stated {
		r.Remarks = record.AddRemark(r.Remarks, figure.NotStated)
		return r, nil
	}
	// The knee is one of the places: half the distance of two bounds it as a rectangle.
	r.K, r.U = e.K, math.Hypot(e.U, 0.95*total/places/2/record.AmpHour)
	return r, nil
}
