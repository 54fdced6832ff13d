// Package drain computes what a device takes in each of its states: for how long, which charge, which current. A person
// says in which state it is, or a program that drives it.
package drain

import (
	"cmp"
	"maps"
	"math"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// Figures of this family.
var Figures = []figure.Definition{
	{ID: "state-duration", Title: "Time in a state", Unit: "s", Least: 0, Most: math.Inf(1), AllSides: true,
		OfState: true, Exact: "by the marks", Formula: duration},
	ofState("state-charge", "Charge in a state", "Ah", charge),
	ofState("state-mean-current", "Mean current in a state", "A", meanCurrent),
	{ID: "current-percentile", Title: "Percentile of the current", Unit: "A", Least: math.Inf(-1), Most: math.Inf(1),
		AllSides: true, MayHaveState: true, Args: []figure.Arg{share}, Formula: percentile},
	profiled("profile-mean-current", "Mean current of a profile", "A", profile),
	profiled("battery-life-estimate", "Estimated life of a battery", "h", life, capacity, usable, fades),
}

// capacity is what a battery is rated for, usable the share of it that the device can use, and fades the share of it
// that it loses by itself in a year.
var (
	capacity = figure.Arg{Name: "capacity", Dim: quantity.Charge, Default: math.NaN(), Least: 1e-6, Most: 1e9}
	usable   = figure.Arg{Name: "usable", Dim: quantity.Number, Default: 1, Least: 0.01, Most: 1}
	fades    = figure.Arg{Name: "fades", Dim: quantity.Number, Default: 0, Least: 0, Most: 1}
)

// perYear is the hours of a year, and hour its seconds.
const perYear, hour = 8760.0, 3600.0

func profiled(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
	args ...figure.Arg) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: math.Inf(-1), Most: math.Inf(1), AllSides: true,
		OfProfile: true, Args: args, Formula: formula}
}

// share is the share of the time for which the current is at most as large as its percentile.
var share = figure.Arg{Name: "share", Dim: quantity.Number, Default: 0.95, Least: 0.001, Most: 0.9999}

// ampsColumn is the current of a device where a request names no other.
const ampsColumn = "source.amps"

func columnOf(req figure.Request) string { return cmp.Or(req.Quantity, ampsColumn) }

func ofState(id, title, unit string, formula func(*record.Record, figure.Request) (figure.Result, error),
) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: math.Inf(-1), Most: math.Inf(1), AllSides: true,
		OfState: true, Formula: formula}
}

// visits are the times in which the unit was in the state, in the stage that is asked for or in all of the run.
func visits(rec *record.Record, req figure.Request) ([]record.Visit, error) {
	return rec.Visits(req.State, req.Stage)
}

func duration(rec *record.Record, req figure.Request) (figure.Result, error) {
	all, err := visits(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{N: len(all)}
	for _, v := range all {
		r.Value += v.Seconds()
	}
	return r, nil
}

// drawn is what flowed in the visits of a state: Q is Σ∫i dt over them. A visit with fewer than two readings tells
// nothing, and its time counts for nothing either.
func drawn(rec *record.Record, req figure.Request, of func(charge, seconds float64) float64) (figure.Result, error) {
	all, err := visits(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	var parts []record.Drawn
	var inputs []uncertainty.Reading
	r, stated, total := figure.Result{}, true, 0.0
	ranges := record.Ranges{}
	for _, v := range all {
		d, err := rec.Drawn(columnOf(req), v)
		if why := record.ReasonOf(err); err != nil && why.Code != record.NoData && why.Code != record.TooFew {
			return r, err
		} else if err != nil {
			continue
		}
		if d.Bridged {
			r.Remarks = record.AddRemark(r.Remarks, "bridged")
		}
		parts, inputs, total = append(parts, d), append(inputs, d.Inputs...), total+v.Seconds()
		stated, r.N, ranges = stated && d.Stated, r.N+d.N, ranges.And(d.Ranges)
	}
	if len(parts) == 0 {
		return r, record.Because(record.TooFew, "no visit of the state %q has two readings of %s", req.State, columnOf(req))
	}
	if left := len(all) - len(parts); left > 0 {
		r.Remarks = record.AddRemark(r.Remarks, quantity.Sprintf("%d of %d visits were too short to be read", left, len(all)))
	}
	if words := ranges.Words(); words != "" {
		r.Remarks = record.AddRemark(r.Remarks, words)
	}
	sum := func(x []float64) float64 {
		q := 0.0
		for _, d := range parts {
			q += d.Of(x[:len(d.Inputs)])
			x = x[len(d.Inputs):]
		}
		return of(q, total)
	}
	values := make([]float64, len(inputs))
	for k, x := range inputs {
		values[k] = x.Value
	}
	r.Value = sum(values)
	r.WithUncertainty(sum, inputs, stated)
	return r, nil
}

func charge(rec *record.Record, req figure.Request) (figure.Result, error) {
	return drawn(rec, req, func(q, _ float64) float64 { return q / record.AmpHour })
}

func meanCurrent(rec *record.Record, req figure.Request) (figure.Result, error) {
	return drawn(rec, req, func(q, seconds float64) float64 { return q / seconds })
}

// percentile is the smallest current at which the time of all that is not larger reaches a share: by time, not by
// count.
func percentile(rec *record.Record, req figure.Request) (figure.Result, error) {
	all, err := weighedOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	p := req.Args[share.Name]
	if least := 10 / min(p, 1-p); float64(len(all)) < least {
		return figure.Result{}, record.Because(record.TooFew,
			"%d readings are too few for this share of the time; it takes %.0f", len(all), least)
	}
	slices.SortFunc(all, func(a, b weighed) int { return cmp.Compare(a.amps, b.amps) })
	r := figure.Result{N: len(all), Value: all.below(p), Remarks: []string{quantity.Sprintf("%.4g %% of the time", 100*p)}}
	reading, stated := rec.Input(columnOf(req), r.Value, 0)
	r.WithUncertainty(func(x []float64) float64 { return x[0] }, []uncertainty.Reading{reading}, stated)
	// Readings are a sample of the time: the share that they found below a current may be off by so much (95 %).
	off := 2 * math.Sqrt(p*(1-p)/float64(len(all)))
	low, high := all.below(math.Max(p-off, 0)), all.below(math.Min(p+off, 1))
	if beside := math.Max(high-r.Value, r.Value-low); beside > 3*r.U {
		r.Remarks = record.AddRemark(r.Remarks, quantity.Sprintf("at a step, from %.4g A to %.4g A", low, high))
		if r.U > 0 {
			r.U = math.Hypot(r.U, beside)
		}
	}
	return r, nil
}

// weighedOf are the currents of a state, of a stage, or of all of the run, each with how long it flowed.
func weighedOf(rec *record.Record, req figure.Request) (all times, err error) {
	var visited []record.Visit
	switch {
	case req.State != "":
		if visited, err = visits(rec, req); err != nil {
			return nil, err
		}
	case req.Stage != "":
		span, err := rec.Span(req.Stage, req.Pass)
		if err != nil {
			return nil, err
		}
		visited = []record.Visit{{T0: span.T0, T1: span.T1}}
	default:
		from, to := rec.Ends()
		visited = []record.Visit{{T0: from, T1: to}}
	}
	for _, v := range visited {
		m, err := rec.Measured(columnOf(req), v.T0, v.T1)
		if why := record.ReasonOf(err); err != nil && (len(visited) == 1 || why.Code != record.NoData) {
			return nil, err
		}
		all = append(all, timesAt(m.T, m.X)...)
	}
	return all, nil
}

// weighed is a current with the time for which it flowed, s.
type weighed struct{ amps, seconds float64 }

// times are currents with how long each flowed.
type times []weighed

// timesAt gives each reading half the time to both of its neighbours.
func timesAt(t, amps []float64) times {
	all := make(times, len(t))
	for k, x := range amps {
		all[k] = weighed{x, (t[min(k+1, len(t)-1)] - t[max(k-1, 0)]) / 2}
	}
	return all
}

// below is, of times in the order of their currents, the smallest current at which the time of all that is not larger
// reaches a share.
func (all times) below(share float64) float64 {
	total, past := 0.0, 0.0
	for _, w := range all {
		total += w.seconds
	}
	for _, w := range all {
		if past += w.seconds; past >= share*total*(1-1e-12) {
			return w.amps
		}
	}
	return all[len(all)-1].amps
}

// profile is the mean current of a profile of use, Σ(I·T)/ΣT: of how long the device is in each state, as is asked
// or as it was recorded.
func profile(rec *record.Record, req figure.Request) (r figure.Result, err error) {
	times := req.Profile
	if len(times) == 0 {
		times = map[string]float64{}
		for _, state := range rec.States() {
			all, err := rec.Visits(state, req.Stage)
			if err != nil {
				continue // not in this stage
			}
			for _, v := range all {
				times[state] += v.Seconds()
			}
		}
	}
	total, charge, off := 0.0, 0.0, 0.0
	for _, state := range slices.Sorted(maps.Keys(times)) {
		of := req
		of.State = state
		mean, err := meanCurrent(rec, of)
		if err != nil {
			why := record.ReasonOf(err)
			return r, record.Because(record.NoData, "the state %q of the profile was not measured: %s", state, why.Sentence)
		}
		total += times[state]
		charge += mean.Value * times[state]
		// One meter measures all states: what it is off by it is off by in all of them.
		off += mean.U * times[state]
		r.N += mean.N
		for _, remark := range mean.Remarks {
			r.Remarks = record.AddRemark(r.Remarks, remark)
		}
		r.K = max(r.K, mean.K)
	}
	if total == 0 {
		return r, record.Because(record.ZeroDivisor, "the profile has no time")
	}
	r.Value, r.U = charge/total, off/total
	return r, nil
}

// life is how long a battery lasts: d·C/(I + σ·C/8760 h). Capacity and share rule its uncertainty and are not known,
// so that it is an estimate.
func life(rec *record.Record, req figure.Request) (figure.Result, error) {
	c := req.Args[capacity.Name]
	if !(c > 0) { // not asked for
		rated, stated := rec.Rating(req.Output, "battery_capacity")
		if !stated {
			return figure.Result{}, record.Because(record.NoRating, "say the capacity of the battery, or state battery_capacity")
		}
		c = rated.Value
	}
	r, err := profile(rec, req)
	if err != nil {
		return r, err
	}
	taken := r.Value + req.Args[fades.Name]*c/(perYear*hour) // with what the battery loses by itself
	if taken <= 0 {
		return r, record.Because(record.ZeroDivisor, "nothing is taken")
	}
	r.Value, r.U = req.Args[usable.Name]*c/taken/hour, r.U/taken
	r.U *= r.Value
	r.Remarks = record.AddRemark(r.Remarks, "an estimate")
	return r, nil
}
