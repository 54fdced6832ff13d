// Package charger computes the figures of a charge that somebody else's charger makes and the bench only watches.
package charger

import (
	"math"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
)

// Figures of this family.
var Figures = []figure.Definition{
	{ID: "charger-stages", Title: "Stages of the charger", Unit: "Ah", Least: 0, Most: math.Inf(1),
		Args:    []figure.Arg{binArg},
		Formula: chargerStages},
	{ID: "charge-factor", Title: "Charge factor", Unit: "Ah/Ah", Least: 0, Most: 10, Needs: figure.Discharge,
		Args:    []figure.Arg{binArg, cutoffArg},
		Choices: map[string][]string{"until": {"absorption", "float", "end"}}, Formula: chargeFactor},
}

var (
	binArg = figure.Arg{Name: "bin", Dim: quantity.Time, Default: 30, Least: 1, Most: 3600}
	// The cutoff is that of the nameplate where none is given.
	cutoffArg = figure.Arg{Name: "cutoff", Dim: quantity.Voltage, Default: math.NaN(), Least: 1e-3, Most: 1e4}
)

// Shares and times by which the stages of a charger are told apart.
const (
	offShare       = 0.01
	preShare       = 0.30
	pickedUp       = 0.50
	taperLow       = 0.10
	taperHigh      = 0.80
	taperOver      = 600.0 // s
	taperVolts     = 0.005
	taperFall      = 0.01
	absorbBegins   = 0.997
	absorbLow      = 0.985
	absorbHigh     = 1.01
	bulkAmps       = 0.99
	shortestStage  = 120.0  // s
	shortestLog    = 1800.0 // s
	fewestBins     = 20
	longestLogGap  = 600.0 // s
	bulkAgainShare = 0.30
)

// logBin is the mean of a bin of a log; Missing when over half of it is.
type logBin struct {
	t0, t1, volts, amps float64
	missing             bool
	name                string
}

// ChargerStage is one stage of a charger: from T0 to T1, with mean volts, amps at both ends, and what it delivered, SI.
type ChargerStage struct {
	Name                   string
	T0, T1                 float64
	Volts, FirstAmps, Last float64
	Charge, Energy         float64
}

// logged is the stage that is looked at: the one named, else the longest watch or charge, else the whole record.
func logged(rec *record.Record, req figure.Request) (record.Span, error) {
	if req.Stage != "" {
		h, err := rec.Half("", req.Stage, req.Pass)
		return h.Span, err
	}
	var best record.Span
	for _, s := range rec.Stages {
		if (s.Kind == "watch" || s.Kind == "charge") && s.T1-s.T0 > best.T1-best.T0 {
			best = s
		}
	}
	if best.T1 == 0 && len(rec.Stages) > 0 {
		best = record.Span{Name: "the record", T0: rec.Stages[0].T0, T1: rec.Stages[len(rec.Stages)-1].T1}
	}
	if best.T1 == 0 {
		return best, record.Because(record.NoMark, "no charge was logged")
	}
	return best, nil
}

// chargerLog reads the stages of the charger from a log.
func chargerLog(rec *record.Record, span record.Span, bin float64) ([]ChargerStage, *record.Battery, error) {
	b, err := rec.Terminals(span.T0, span.T1)
	if err != nil {
		return nil, nil, err
	}
	w := b.Within(span.T0, span.T1)
	if len(w.T) < 2 || w.T[len(w.T)-1]-w.T[0] < shortestLog || (w.T[len(w.T)-1]-w.T[0])/bin < fewestBins {
		return nil, b, record.Because(record.TooFew, "the log is shorter than 30 min or %d bins of %.3g s", fewestBins, bin)
	}
	if w.Charge[len(w.Charge)-1] < w.Charge[0] {
		return nil, b, record.Because(record.WrongSign, "the battery was mostly discharged: %.4g Ah",
			(w.Charge[len(w.Charge)-1]-w.Charge[0])/record.AmpHour)
	}
	bins := binnedLog(w, bin, rec.AllowedInterval(b, span))
	nameBins(bins, rec.LeastFlow(b))
	return stagesOf(joinShort(bins), b), b, nil
}

// binnedLog cuts a log into bins, each with its time-weighted means. allowed is the longest interval that is no gap, s.
func binnedLog(w *record.Battery, width, allowed float64) []logBin {
	var bins []logBin
	last := w.T[len(w.T)-1]
	k := 0
	for t0 := w.T[0]; t0 < last; t0 += width {
		x := logBin{t0: t0, t1: math.Min(t0+width, last)}
		var covered, volts, amps float64
		for k > 0 && w.T[k] > t0 {
			k--
		}
		for i := k; i+1 < len(w.T) && w.T[i] < x.t1; i++ {
			from, to := math.Max(w.T[i], x.t0), math.Min(w.T[i+1], x.t1)
			if to <= from || w.T[i+1]-w.T[i] > math.Max(2*width, allowed) {
				continue
			}
			share := ((from+to)/2 - w.T[i]) / (w.T[i+1] - w.T[i])
			covered += to - from
			volts += (to - from) * (w.Volts[i] + share*(w.Volts[i+1]-w.Volts[i]))
			amps += (to - from) * (w.Amps[i] + share*(w.Amps[i+1]-w.Amps[i]))
			k = i
		}
		if x.missing = covered < (x.t1-x.t0)/2; !x.missing {
			x.volts, x.amps = volts/covered, amps/covered
		}
		bins = append(bins, x)
	}
	return bins
}

// nameBins gives each bin the first stage whose rule fits.
func nameBins(bins []logBin, floor float64) {
	top := topAmps(bins)
	absorb, tapers := absorptionVolts(bins, top)
	firstCharge, lastCharge := -1, -1
	reached, absorbing := len(bins), len(bins)
	for i, x := range bins {
		if x.missing {
			continue
		}
		if x.amps > math.Max(offShare*top, floor) {
			if firstCharge < 0 {
				firstCharge = i
			}
			lastCharge = i
		}
		if reached == len(bins) && x.amps >= pickedUp*top {
			reached = i
		}
		if tapers && absorbing == len(bins) && x.volts >= absorbBegins*absorb && x.amps <= bulkAmps*top {
			absorbing = i
		}
	}
	for i := range bins {
		x := &bins[i]
		switch {
		case x.missing:
			x.name = "unknown"
		case x.amps <= math.Max(offShare*top, floor) && i > firstCharge && i < lastCharge && firstCharge >= 0:
			x.name = "test"
		case x.amps <= math.Max(offShare*top, floor):
			x.name = "off"
		case x.amps <= preShare*top && i < reached:
			x.name = "precharge"
		case !tapers || i < absorbing || x.volts < absorbLow*absorb && x.amps > bulkAgainShare*top:
			x.name = "bulk"
		case x.volts > absorbHigh*absorb:
			x.name = "recondition"
		case x.volts >= absorbLow*absorb:
			x.name = "absorption"
		default:
			x.name = "float"
		}
	}
}

// topAmps is the largest median of five neighbouring bins.
func topAmps(bins []logBin) (top float64) {
	for i := range bins {
		var five []float64
		for k := max(i-2, 0); k <= min(i+2, len(bins)-1); k++ {
			if !bins[k].missing {
				five = append(five, bins[k].amps)
			}
		}
		if len(five) >= 3 {
			slices.Sort(five)
			top = math.Max(top, five[len(five)/2])
		}
	}
	return top
}

// absorptionVolts is the median volts of the bins in which the current tapers: over the last 10 min the volts
// stayed within 0.5 % and the current fell. ok is false if there are none.
func absorptionVolts(bins []logBin, top float64) (volts float64, ok bool) {
	var all []float64
	for i, x := range bins {
		if x.missing || x.amps < taperLow*top || x.amps > taperHigh*top {
			continue
		}
		first, low, high := i, x.volts, x.volts
		for first > 0 && x.t0-bins[first-1].t0 <= taperOver {
			first--
			if !bins[first].missing {
				low, high = math.Min(low, bins[first].volts), math.Max(high, bins[first].volts)
			}
		}
		if x.t0-bins[first].t0 < 0.9*taperOver || bins[first].missing {
			continue
		}
		if high-low <= taperVolts*x.volts && bins[first].amps-x.amps > taperFall*top {
			all = append(all, x.volts)
		}
	}
	if len(all) == 0 {
		return 0, false
	}
	slices.Sort(all)
	return all[len(all)/2], true
}

// joinShort joins runs of bins shorter than two minutes to their longer neighbour.
func joinShort(bins []logBin) []logBin {
	for {
		runs := runsOf(bins)
		shortest := -1
		for i, r := range runs {
			if length := bins[r[1]-1].t1 - bins[r[0]].t0; length < shortestStage && len(runs) > 1 {
				if shortest < 0 || length < bins[runs[shortest][1]-1].t1-bins[runs[shortest][0]].t0 {
					shortest = i
				}
			}
		}
		if shortest < 0 {
			return bins
		}
		length := func(i int) float64 {
			if i < 0 || i >= len(runs) {
				return -1
			}
			return bins[runs[i][1]-1].t1 - bins[runs[i][0]].t0
		}
		into := shortest - 1
		if length(shortest+1) > length(into) {
			into = shortest + 1
		}
		name := bins[runs[into][0]].name
		for k := runs[shortest][0]; k < runs[shortest][1]; k++ {
			bins[k].name = name
		}
	}
}

// runsOf lists first and end of the runs of bins with one name.
func runsOf(bins []logBin) (runs [][2]int) {
	for i := 0; i < len(bins); {
		j := i
		for j < len(bins) && bins[j].name == bins[i].name {
			j++
		}
		runs = append(runs, [2]int{i, j})
		i = j
	}
	return runs
}

func stagesOf(bins []logBin, b *record.Battery) []ChargerStage {
	var stages []ChargerStage
	for _, r := range runsOf(bins) {
		first, last := bins[r[0]], bins[r[1]-1]
		s := ChargerStage{Name: first.name, T0: first.t0, T1: last.t1, FirstAmps: first.amps, Last: last.amps}
		var time float64
		for _, x := range bins[r[0]:r[1]] {
			if !x.missing {
				s.Volts, time = s.Volts+x.volts*(x.t1-x.t0), time+x.t1-x.t0
			}
		}
		s.Volts /= time
		q0, e0 := b.Count(s.T0)
		q1, e1 := b.Count(s.T1)
		s.Charge, s.Energy = q1-q0, e1-e0
		if s.Name == "unknown" {
			nan := math.NaN()
			s.Volts, s.FirstAmps, s.Last, s.Charge, s.Energy = nan, nan, nan, nan, nan
		}
		stages = append(stages, s)
	}
	return stages
}

var stageColumns = []figure.TableColumn{{Name: "stage"}, {Name: "begins", Unit: "s"}, {Name: "ends", Unit: "s"},
	{Name: "mean volts", Unit: "V"}, {Name: "first amps", Unit: "A"}, {Name: "last amps", Unit: "A"},
	{Name: "charge", Unit: "Ah"}, {Name: "energy", Unit: "Wh"}, {Name: "share", Unit: "%"}}

// chargerStages lists the stages; its value is all charge that was returned. Where the log has a longer gap than may be
// bridged the stages around it stay, and nobody knows what was returned in it.
func chargerStages(rec *record.Record, req figure.Request) (figure.Result, error) {
	span, err := logged(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	stages, b, err := chargerLog(rec, span, req.Args["bin"])
	if err != nil {
		return figure.Result{}, err
	}
	w := b.Within(span.T0, span.T1)
	moved, gap := rec.OverLog(b, w.T[0], w.T[len(w.T)-1], longestLogGap)
	r := figure.Result{Value: moved.Charge / record.AmpHour, N: moved.N, Remarks: moved.Gaps.Remarks,
		Table: &figure.Table{Columns: stageColumns}}
	var known float64
	for _, s := range stages {
		if s.Name != "unknown" {
			known += s.Charge
		}
	}
	for _, s := range stages {
		r.Table.Rows = append(r.Table.Rows, []any{s.Name, s.T0 - span.T0, s.T1 - span.T0, s.Volts, s.FirstAmps, s.Last,
			s.Charge / record.AmpHour, s.Energy / record.WattHour, 100 * s.Charge / known})
		if s.Name == "unknown" && s.T1-s.T0 > longestLogGap {
			r.Remarks = record.AddRemark(r.Remarks, quantity.Sprintf("the log has a gap of %.3g min", (s.T1-s.T0)/60))
		}
	}
	if gap != nil {
		return r, gap
	}
	r.KnownBy(rec.Account(moved), func(charge, _ []float64) float64 { return charge[0] / record.AmpHour })
	return r, nil
}

// smallestShare is the share of the rated capacity that a discharge must have taken for a charge factor.
const smallestShare = 0.05

// chargeFactor is charge in over charge out of a discharge and the charge that restores it, to the end of
// absorption or later.
func chargeFactor(rec *record.Record, req figure.Request) (figure.Result, error) {
	out, span, err := restored(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	taken, err := takenBy(rec, out)
	r := figure.Result{N: taken.N, Remarks: taken.Gaps.Remarks}
	if err != nil {
		return r, err
	}
	stages, b, err := chargerLog(rec, span, req.Args["bin"])
	if err != nil {
		return r, err
	}
	w := b.Within(span.T0, span.T1)
	end, found := w.T[len(w.T)-1], req.Choices["until"] == "end"
	for _, s := range stages {
		if s.Name == req.Choices["until"] {
			end, found = s.T1, true
		}
	}
	if !found {
		return r, record.Because(record.NotFound, "the charger had no stage %s", req.Choices["until"])
	}
	put, err := rec.OverLog(b, w.T[0], end, longestLogGap)
	r.N += put.N
	r.Remarks = append(r.Remarks, "to the end of "+req.Choices["until"])
	for _, remark := range put.Gaps.Remarks {
		r.Remarks = record.AddRemark(r.Remarks, remark)
	}
	if err != nil {
		return r, err
	}
	r.Value = put.Charge / -taken.Charge
	r.KnownBy(rec.Account(taken, put), func(charge, _ []float64) float64 { return charge[1] / -charge[0] })
	return r, nil
}

// restored finds the last discharge before the longest charge, and that charge.
func restored(rec *record.Record, req figure.Request) (out record.Half, span record.Span, err error) {
	outs := rec.Halves("discharge", "")
	if len(outs) == 0 {
		return out, span, record.Because(record.NoMark, "no discharge took place before the charge")
	}
	for _, s := range rec.Stages {
		if (s.Kind == "watch" || s.Kind == "charge") && s.T0 >= outs[0].T1 && (req.Stage == "" || s.Name == req.Stage) &&
			s.T1-s.T0 > span.T1-span.T0 {
			span = s
		}
	}
	if span.T1 == 0 {
		return out, span, record.Because(record.NotFound, "no charge followed the discharge")
	}
	out = outs[0]
	for _, h := range outs {
		if h.T1 <= span.T0 {
			out = h
		}
	}
	return out, span, nil
}

// takenBy is what a discharge took, if that is enough to be restored.
func takenBy(rec *record.Record, out record.Half) (record.Moved, error) {
	b, err := rec.Terminals(out.T0, out.T1)
	if err != nil {
		return record.Moved{}, err
	}
	taken, err := rec.Over(b, out.From, out.To)
	rated, stated := rec.Ratings["rated_capacity"]
	switch {
	case err != nil:
		return taken, err
	case taken.Charge > 0:
		return taken, record.Because(record.WrongSign, "the battery was charged, not discharged, in %s: %.4g Ah", out.Name,
			taken.Charge/record.AmpHour)
	case taken.Charge == 0:
		return taken, record.Because(record.ZeroDivisor, "the discharge took nothing")
	case stated && -taken.Charge < smallestShare*rated.Value:
		return taken, record.Because(record.BelowFloor, "the discharge took %.3g Ah, less than 5 %% of the rated capacity",
			-taken.Charge/record.AmpHour)
	}
	return taken, nil
}
