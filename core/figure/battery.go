package figure

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"usherbench/core/quantity"
	"usherbench/core/trace"
)

// Figures of batteries and cells: charge and energy of half-cycles. A battery's current is positive when it
// charges; a figure named after a direction is positive in that direction.
var batteryFigures = []Definition{
	{ID: "capacity", Title: "Capacity", Unit: "Ah", Least: 0, Most: math.Inf(1), Half: "discharge",
		Args: []Arg{cutoffArg, holdArg, fitArg}, compute: capacity},
	{ID: "discharge-energy", Title: "Discharge energy", Unit: "Wh", Least: 0, Most: math.Inf(1), Half: "discharge",
		Args: []Arg{cutoffArg, holdArg, fitArg}, compute: dischargeEnergy},
	{ID: "capacity-gain", Title: "Gain of capacity", Unit: "%", Least: math.Inf(-1), Most: math.Inf(1), Half: "discharge",
		Args: []Arg{cutoffArg, holdArg}, compute: capacityGain},
	{ID: "state-of-health", Title: "State of health", Unit: "%", Least: 0, Most: math.Inf(1), Half: "discharge",
		Args:    []Arg{cutoffArg, holdArg},
		Choices: map[string][]string{"conditions": {"rated", "any"}}, compute: stateOfHealth},
	{ID: "charge-returned", Title: "Charge returned", Unit: "Ah", Least: 0, Most: math.Inf(1), Half: "charge",
		compute: chargeReturned},
	{ID: "energy-returned", Title: "Energy returned", Unit: "Wh", Least: 0, Most: math.Inf(1), Half: "charge",
		compute: energyReturned},
	{ID: "coulombic-efficiency", Title: "Coulombic efficiency", Unit: "%", Least: 0, Most: 200, Half: "discharge",
		Choices: pairChoice, compute: coulombicEfficiency},
	{ID: "energy-efficiency", Title: "Energy efficiency", Unit: "%", Least: 0, Most: 200, Half: "discharge",
		Choices: pairChoice, compute: energyEfficiency},
	{ID: "mean-discharge-voltage", Title: "Mean discharge voltage", Unit: "V", Least: 0, Most: math.Inf(1),
		Half: "discharge", Args: []Arg{cutoffArg, holdArg}, compute: meanDischargeVoltage},
	{ID: "c-rate", Title: "C-rate", Unit: "C", Least: 0, Most: math.Inf(1), compute: cRate},
	{ID: "termination", Title: "Termination", Unit: "s", Least: 0, Most: math.Inf(1), compute: termination},
	{ID: "step-down-capacity", Title: "Step-down capacity", Unit: "Ah", Least: 0, Most: math.Inf(1), Half: "discharge",
		Args: []Arg{cutoffArg}, compute: stepDownCapacity},
	{ID: "crossing-time", Title: "Crossing time", Unit: "s", Least: 0, Most: math.Inf(1),
		Args: []Arg{{"level", quantity.Voltage, math.NaN()}, holdArg, fitArg}, compute: crossingTime},
	{ID: "crossing-charge", Title: "Crossing charge", Unit: "Ah", Least: math.Inf(-1), Most: math.Inf(1),
		Args: []Arg{{"level", quantity.Voltage, math.NaN()}, holdArg, fitArg}, compute: crossingCharge},
}

var (
	cutoffArg  = Arg{"cutoff", quantity.Voltage, math.NaN()} // that of the nameplate
	holdArg    = Arg{"for", quantity.Time, 0}
	fitArg     = Arg{"fit", quantity.Number, 0}
	pairChoice = map[string][]string{"pair": {"charge first", "discharge first"}}
)

// ampSeconds and wattSeconds turn Ah and Wh into SI.
const ampSeconds, wattSeconds = 3600.0, 3600.0

// half is one half-cycle: a charge, a discharge, or a rest between them, from when its current was switched on
// to when it was off.
type half struct {
	Span
	From, To float64 // of the current
	Ended    string  // the rule that ended it; empty: something else did
}

// halves lists the stages of a kind, in order; with a name only those of that name.
func (rec *Record) halves(kind, name string) []half {
	var all []half
	for _, s := range rec.Stages {
		if kind != "" && s.Kind != kind || name != "" && s.Name != name {
			continue
		}
		h := half{Span: s, From: s.T0, To: s.T1}
		began := false
		for _, e := range rec.eventsIn(s) {
			words := s.Kind + " ended by "
			switch {
			case e.Kind == EventCommand && !began:
				h.From, began = e.T, true
			case e.Kind == EventCondition && strings.HasPrefix(e.Label, words):
				h.Ended, h.To = strings.TrimPrefix(e.Label, words), e.T
			}
		}
		all = append(all, h)
	}
	return all
}

func (rec *Record) eventsIn(s Span) []Event {
	i := sort.Search(len(rec.Events), func(k int) bool { return rec.Events[k].T >= s.T0 })
	j := sort.Search(len(rec.Events), func(k int) bool { return rec.Events[k].T > s.T1 })
	return rec.Events[i:max(i, j)]
}

// half is the half-cycle that a request means: of the stage that it names, or of the kind; the pass that it
// names, or the last.
func (rec *Record) half(kind string, req Request) (half, error) {
	if req.Stage != "" {
		kind = "" // whatever does it: a hold may discharge as well
	}
	all := rec.halves(kind, req.Stage)
	what := "no " + kind + " took place"
	if req.Stage != "" {
		what = fmt.Sprintf("the stage %q did not happen", req.Stage)
	}
	switch {
	case len(all) == 0:
		return half{}, undetermined(NoMark, "%s", what)
	case req.Pass > len(all):
		return half{}, undetermined(NoMark, "it happened %d times, not %d", len(all), req.Pass)
	case req.Pass > 0:
		return all[req.Pass-1], nil
	}
	return all[len(all)-1], nil
}

// battery is what was recorded at the terminals of a battery: the same times for all, charge and energy counted
// into it, SI.
type battery struct {
	T, Volts, Amps, Charge, Energy []float64
	voltsColumn, ampsColumn        string
}

func (rec *Record) has(column string) bool {
	return rec.Columns == nil || slices.Contains(rec.Columns, column)
}

// terminals reads the battery from the frame before t0 to the first after t1. Frames that miss a reading are left out.
func (rec *Record) terminals(t0, t1 float64) (*battery, error) {
	b := &battery{}
	const around = 120 // s, so that a frame before the command and one after the end are there
	var volts, amps, charge, energy trace.Series
	read := func(column string) (trace.Series, bool) {
		if !rec.has(column) {
			return trace.Series{}, false
		}
		s, err := rec.Trace(column, t0-around, t1+around)
		return s, err == nil && len(s.T) > 0 && slices.ContainsFunc(s.X, func(x float64) bool { return !math.IsNaN(x) })
	}
	for _, seat := range []string{"cycler", "load", "source", "meter"} {
		if s, ok := read(seat + ".volts"); ok {
			volts, b.voltsColumn = s, seat+".volts"
			break
		}
	}
	// The current is that of the seat through which most flows: a cycler, a source and a load together, or a meter
	// in somebody else's line.
	most := -1.0
	for _, seat := range []string{"cycler", "", "meter"} {
		x := &battery{}
		var i, q, e trace.Series
		if seat == "" {
			rec.bothEnds(x, read, &i, &q, &e)
		} else if s, ok := read(seat + ".amps"); ok {
			i, x.ampsColumn = s, seat+".amps"
			q, _ = read(seat + ".charge")
			e, _ = read(seat + ".energy")
		}
		moved := 0.0
		for _, a := range i.Between(t0, t1).X {
			if rec.flowing(x.ampsColumn, a) {
				moved += math.Abs(a)
			}
		}
		if x.ampsColumn != "" && moved > most {
			most, b.ampsColumn, amps, charge, energy = moved, x.ampsColumn, i, q, e
		}
	}
	if b.voltsColumn == "" || b.ampsColumn == "" {
		return b, undetermined(NoData, "the run has no volts and amps of a battery in this time")
	}
	b.join(volts, amps, charge, energy)
	if len(b.T) < 2 {
		return b, undetermined(TooFew, "%d frames have volts and amps in this time; two are needed", len(b.T))
	}
	for k := 1; k < len(b.T); k++ {
		if b.T[k] <= b.T[k-1] {
			return b, undetermined(TimeOrder, "the times of the record do not increase")
		}
	}
	return b, nil
}

// flowing tells whether a current is above the offset of its ammeter.
func (rec *Record) flowing(column string, amps float64) bool {
	spec, _ := rec.Specs[column].Find(amps)
	return math.Abs(amps) > math.Max(2*spec.Offset, 1e-4)
}

// bothEnds makes the battery's current of what a source gives and a load takes.
func (rec *Record) bothEnds(b *battery, read func(string) (trace.Series, bool), amps, charge, energy *trace.Series) {
	for i, seat := range []string{"source", "load"} {
		sign := []float64{1, -1}[i]
		add := func(to *trace.Series, s trace.Series) {
			if len(to.T) != len(s.T) || i == 0 {
				*to = trace.Series{T: s.T, X: make([]float64, len(s.X))}
			}
			for k, x := range s.X {
				to.X[k] += sign * x
			}
		}
		s, ok := read(seat + ".amps")
		if !ok {
			continue
		}
		b.ampsColumn = seat + ".amps"
		add(amps, s)
		if q, ok := read(seat + ".charge"); ok {
			add(charge, q)
		}
		if e, ok := read(seat + ".energy"); ok {
			add(energy, e)
		}
	}
}

// join keeps the frames that have volts and amps; charge and energy are taken from the recorded counters, else
// integrated.
func (b *battery) join(volts, amps, charge, energy trace.Series) {
	counted := len(charge.T) == len(volts.T) && len(energy.T) == len(volts.T)
	var q, e float64
	for k, t := range volts.T {
		if k >= len(amps.T) || math.IsNaN(volts.X[k]) || math.IsNaN(amps.X[k]) || counted &&
			(math.IsNaN(charge.X[k]) || math.IsNaN(energy.X[k])) {
			continue
		}
		if n := len(b.T); counted {
			q, e = charge.X[k], energy.X[k]
		} else if n > 0 {
			h := t - b.T[n-1]
			q += 0.5 * (b.Amps[n-1] + amps.X[k]) * h
			e += 0.5 * (b.Amps[n-1]*b.Volts[n-1] + amps.X[k]*volts.X[k]) * h
		}
		b.T, b.Volts, b.Amps, b.Charge, b.Energy = append(b.T, t), append(b.Volts, volts.X[k]), append(b.Amps, amps.X[k]),
			append(b.Charge, q), append(b.Energy, e)
	}
}

// count is charge and energy at time t: counted up to the last frame, and from there at the reading of the side
// on which t lies. before says that t is the instant of a command, and that what counts is the side before it.
func (b *battery) count(t float64, before bool) (charge, energy float64) {
	k := sort.SearchFloat64s(b.T, t) // the first frame at or after t
	switch {
	case k < len(b.T) && b.T[k] == t:
		return b.Charge[k], b.Energy[k]
	case k == 0:
		h := b.T[0] - t
		return b.Charge[0] - b.Amps[0]*h, b.Energy[0] - b.Amps[0]*b.Volts[0]*h
	case k == len(b.T) || before:
		h := t - b.T[k-1]
		return b.Charge[k-1] + b.Amps[k-1]*h, b.Energy[k-1] + b.Amps[k-1]*b.Volts[k-1]*h
	}
	h := t - b.T[k-1]
	share := h / (b.T[k] - b.T[k-1])
	return b.Charge[k-1] + share*(b.Charge[k]-b.Charge[k-1]), b.Energy[k-1] + share*(b.Energy[k]-b.Energy[k-1])
}

// within gives the frames with from ≤ t ≤ to.
func (b *battery) within(from, to float64) *battery {
	i := sort.SearchFloat64s(b.T, from)
	j := sort.Search(len(b.T), func(k int) bool { return b.T[k] > to })
	j = max(i, j)
	return &battery{b.T[i:j], b.Volts[i:j], b.Amps[i:j], b.Charge[i:j], b.Energy[i:j], b.voltsColumn, b.ampsColumn}
}

// bridged checks the intervals of a window: one that is a gap may be bridged when it is short, or when it is a
// break of which is known what happened. It gives the half-width, A·s, of what is not known, and remarks.
func (rec *Record) bridged(b *battery, from, to float64) (within float64, remarks []string, err error) {
	w := b.within(from, to)
	if len(w.T) < 2 {
		return 0, nil, nil
	}
	longest := rec.longestInterval(w)
	for k := range len(w.T) - 1 {
		h := w.T[k+1] - w.T[k]
		if h <= longest {
			continue
		}
		i := slices.IndexFunc(rec.Breaks, func(x Break) bool { return x.T0 < w.T[k+1] && x.T1 > w.T[k] })
		switch {
		case i >= 0 && rec.Breaks[i].Off >= 0:
			within += rec.Breaks[i].Within
			remarks = addRemark(remarks, "resumed")
		case i < 0 && h <= math.Max(bridge, rec.Bridge):
			within += h * math.Abs(w.Amps[k+1]-w.Amps[k]) / 2
			remarks = addRemark(remarks, "bridged")
		default:
			known := math.Abs(w.Charge[k]-w.Charge[0]) + math.Abs(w.Charge[len(w.Charge)-1]-w.Charge[k+1])
			return 0, remarks,
				&Undetermined{Code: Gap, Sentence: fmt.Sprintf("the record has a gap of %.4g s at %.6g s, which may not be bridged",
					h, w.T[k]),
					Known: fmt.Sprintf("%.5g Ah outside the gap", known/ampSeconds)}
		}
	}
	return within, remarks, nil
}

// gapFactor is how many median intervals make a gap.
const gapFactor = 5

func addRemark(remarks []string, r string) []string {
	if slices.Contains(remarks, r) {
		return remarks
	}
	return append(remarks, r)
}

// crossing is where the volts went through a level, with what had been counted by then.
type crossing struct {
	T, Charge, Energy, Amps float64
	Before, After           float64 // times of the frames on both sides
	Slope                   float64 // of the volts there, V/s
}

// cross finds the first falling or rising crossing of a level between two times. With fit it is that of a
// straight line through the last fit frames; with hold the volts stay beyond the level for so long.
func (rec *Record) cross(b *battery, level, from, to float64, rising bool, hold float64, fit int) (crossing, error) {
	w := b.within(from, to)
	if len(w.T) == 0 {
		return crossing{}, undetermined(NoData, "nothing was recorded in this time")
	}
	direction := trace.Falling
	if rising {
		direction = trace.Rising
	}
	c, err := trace.Series{T: w.T, X: w.Volts}.Cross(level, direction, hold)
	last := len(w.T) - 1
	switch {
	case err == trace.ErrAlreadyBeyond:
		return crossing{}, undetermined(AlreadyBeyond, "%s is beyond %.5g V from the start: %.5g V", b.voltsColumn, level,
			w.Volts[0])
	case err == trace.ErrNotReached:
		q0, _ := b.count(from, true)
		return crossing{}, &Undetermined{Code: NotReached, Sentence: fmt.Sprintf("%s did not come to %.5g V", b.voltsColumn,
			level),
			Known: fmt.Sprintf("≥ %.5g Ah", math.Abs(w.Charge[last]-q0)/ampSeconds)}
	case err != nil:
		return crossing{}, codeOf(err, b.voltsColumn)
	}
	k := c.K
	h := w.T[k+1] - w.T[k]
	x := crossing{T: c.T, Before: w.T[k], After: w.T[k+1], Slope: (w.Volts[k+1] - w.Volts[k]) / h}
	if fit > 2 {
		first := max(k+2-fit, 0)
		if a, slope, ok := lineThrough(w.T[first:k+2], w.Volts[first:k+2]); ok && slope != 0 {
			x.T, x.Slope = (level-a)/slope, slope
		}
	}
	i := sort.SearchFloat64s(w.T, x.T)
	k = min(max(i-1, 0), len(w.T)-2)
	h, delta := w.T[k+1]-w.T[k], x.T-w.T[k]
	x.Charge = trace.ChargeAt(w.Charge[k], w.Amps[k], w.Amps[k+1], h, delta)
	x.Energy = trace.ChargeAt(w.Energy[k], w.Amps[k]*w.Volts[k], w.Amps[k+1]*w.Volts[k+1], h, delta)
	x.Amps = w.Amps[k] + (w.Amps[k+1]-w.Amps[k])*delta/h
	return x, nil
}

// upTo checks the gaps from a time to a crossing. Where the crossing lies in one, both its sides are bounds: a
// short one adds what flowed in half of it to what is not known, another leaves the crossing undetermined.
func (rec *Record) upTo(b *battery, from float64, x crossing) (within float64, remarks []string, err error) {
	within, remarks, err = rec.bridged(b, from, x.After)
	if h := x.After - x.Before; err == nil && h > rec.longestInterval(b.within(from, x.After)) {
		if slices.ContainsFunc(rec.Breaks, func(g Break) bool { return g.T0 < x.After && g.T1 > x.Before }) {
			q0, _ := b.count(from, true)
			q1, _ := b.count(x.Before, false)
			q2, _ := b.count(x.After, false)
			return 0, remarks,
				&Undetermined{Code: Gap, Sentence: fmt.Sprintf("the level was crossed in a gap, between %.6g s and %.6g s",
					x.Before, x.After),
					Known: fmt.Sprintf("%.5g to %.5g Ah", math.Abs(q1-q0)/ampSeconds, math.Abs(q2-q0)/ampSeconds)}
		}
		within += h * math.Abs(x.Amps) / 2
	}
	return within, remarks, err
}

// longestInterval is how far frames may lie apart without a gap between them, s.
func (rec *Record) longestInterval(w *battery) float64 {
	intervals := make([]float64, 0, len(w.T))
	for k := 1; k < len(w.T); k++ {
		intervals = append(intervals, w.T[k]-w.T[k-1])
	}
	if len(intervals) == 0 {
		return rec.AtLeast
	}
	slices.Sort(intervals)
	return math.Max(gapFactor*intervals[len(intervals)/2], rec.AtLeast)
}

// lineThrough fits x = a + b·t by least squares, with t about its mean so that no digits are lost.
func lineThrough(t, x []float64) (a, b float64, ok bool) {
	n := float64(len(t))
	var mt, mx, stt, stx float64
	for k := range t {
		mt, mx = mt+t[k]/n, mx+x[k]/n
	}
	for k := range t {
		stt, stx = stt+(t[k]-mt)*(t[k]-mt), stx+(t[k]-mt)*(x[k]-mx)
	}
	if stt == 0 {
		return 0, 0, false
	}
	b = stx / stt
	return mx - b*mt, b, true
}
