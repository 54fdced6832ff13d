package record

import (
	"math"
	"slices"
	"sort"
	"strings"

	"usherbench/core/seats"
	"usherbench/core/trace"
)

// Battery is what was recorded at the terminals of a battery: the same times for all, charge and energy counted
// into it, SI.
type Battery struct {
	T, Volts, Amps, Charge, Energy []float64
	// VoltsColumn is where the volts were read, Through are the ammeters through which its current flows, and whose
	// accuracies count.
	VoltsColumn string
	Through     []Ammeter
	usual       float64 // interval between frames, the median, s
	commands    []float64
}

// Ammeter is one instrument in the current of a battery.
type Ammeter struct {
	Column string
	Amps   []float64 // into the battery, frame by frame
}

// Flowing tells whether a current is above the offsets of the ammeters together.
func (rec *Record) Flowing(b *Battery, amps float64) bool {
	return math.Abs(amps) > rec.LeastFlow(b)
}

// LeastFlow is the current, A, that the ammeters of a battery may read where none flows.
func (rec *Record) LeastFlow(b *Battery) float64 {
	var meters []meter
	for _, a := range b.Through {
		meters = append(meters, meter{column: a.Column})
	}
	return rec.floor(meters, 0)
}

// floor is the current, A, that ammeters may read where none flows.
func (rec *Record) floor(meters []meter, amps float64) float64 {
	sum := 0.0
	for _, m := range meters {
		spec, _ := rec.Specs[m.column].Find(amps)
		sum += 2 * spec.Offset
	}
	return math.Max(sum, leastFlow)
}

// leastFlow is a current, A, below which none flows where nobody says how good the ammeter is.
const leastFlow = 1e-4

// around is how far a window reaches beyond a stage, s, so that a frame before its command and one after its end are
// there.
const around = 120

// window is a part of a record with some frames on both sides.
type window struct {
	rec    *Record
	t0, t1 float64
}

// read gives a column of the window; ok is false if it has no reading there.
func (w window) read(column string) (s trace.Series, ok bool) {
	if !w.rec.Has(column) {
		return trace.Series{}, false
	}
	s, err := w.rec.Trace(column, w.t0-around, w.t1+around)
	return s, err == nil && slices.ContainsFunc(s.X, func(x float64) bool { return !math.IsNaN(x) })
}

// Terminals reads the battery from the frame before t0 to the first after t1. Frames that miss a reading are left
// out. The volts are those of the first seat that has some; the current is that of the seat through which most
// flows: a cycler, a source and a load together, or a meter in somebody else's line.
func (rec *Record) Terminals(t0, t1 float64) (*Battery, error) {
	for _, known := range rec.terminals {
		if known.t0 == t0 && known.t1 == t1 {
			return known.b, known.err
		}
	}
	b, err := rec.readTerminals(window{rec, t0, t1})
	rec.terminals = append(rec.terminals[max(len(rec.terminals)-mostRemembered+1, 0):], remembered{t0, t1, b, err})
	return b, err
}

// remembered is what was read of a window, which several figures of a half-cycle ask for.
type remembered struct {
	t0, t1 float64
	b      *Battery
	err    error
}

// mostRemembered bounds the windows that a record keeps in memory.
const mostRemembered = 2

func (rec *Record) readTerminals(w window) (*Battery, error) {
	b := &Battery{}
	var volts trace.Series
	for _, kind := range seats.All() {
		if s, ok := w.read(kind.Name + ".volts"); ok {
			volts, b.VoltsColumn = s, kind.Name+".volts"
			break
		}
	}
	var through flow
	most := -1.0
	for _, f := range w.flows() {
		if moved := w.moved(f); len(f.meters) > 0 && moved > most {
			most, through = moved, f
		}
	}
	if b.VoltsColumn == "" || len(through.meters) == 0 {
		return b, Because(NoData, "the run has no volts and amps of a battery in this time")
	}
	b.join(volts, through, rec.commands())
	if len(b.T) < 2 {
		return b, Because(TooFew, "%d frames have volts and amps in this time; two are needed", len(b.T))
	}
	for k := 1; k < len(b.T); k++ {
		if b.T[k] <= b.T[k-1] {
			return b, Because(TimeOrder, "the times of the record do not increase")
		}
	}
	b.usual = usualInterval(b.Within(w.t0, w.t1).T)
	return b, nil
}

// flow is a current into a battery with what was counted of it, SI, and the ammeters that read it; none: nothing was.
type flow struct {
	meters               []meter
	amps, charge, energy trace.Series
}

// meter is an ammeter with what it read, into the battery.
type meter struct {
	column string
	amps   trace.Series
}

// flows are the currents that may be the battery's: of a seat that does both, of what feeds less what drains, and of
// what measures in somebody else's line.
func (w window) flows() []flow {
	var both, fed, drained, measured flow
	for _, kind := range seats.All() {
		f := w.flow(kind.Name)
		switch {
		case len(f.meters) == 0:
		case kind.Is(seats.Feeds | seats.Drains):
			both = f
		case kind.Is(seats.Feeds):
			fed = f
		case kind.Is(seats.Drains):
			drained = f
		case kind.Is(seats.Measures) && !w.rec.branched():
			measured = f
		}
	}
	return []flow{both, between(fed, drained), measured}
}

// branched tells whether several meters read amps: each is then in one branch, and none in the line.
func (rec *Record) branched() bool {
	n := 0
	for _, column := range rec.Columns {
		seat, ok := strings.CutSuffix(column, ".amps")
		if kind, known := seats.KindOf(seat); ok && known && kind.Is(seats.Measures) {
			n++
		}
	}
	return n > 1
}

// flow is the current of one seat.
func (w window) flow(seat string) flow {
	amps, ok := w.read(seat + ".amps")
	if !ok {
		return flow{}
	}
	charge, _ := w.read(seat + ".charge")
	energy, _ := w.read(seat + ".energy")
	return flow{[]meter{{seat + ".amps", amps}}, amps, charge, energy}
}

// between is the current that is fed less the one that is drained.
func between(into, out flow) flow {
	if len(out.meters) == 0 {
		return into
	}
	meters := []meter{{out.meters[0].column, less(trace.Series{}, out.amps)}}
	if len(into.amps.X) == len(out.amps.X) {
		meters = append(into.meters, meters...)
	}
	return flow{meters, less(into.amps, out.amps), less(into.charge, out.charge), less(into.energy, out.energy)}
}

// less is a − b, reading by reading; of series that do not belong together only −b.
func less(a, b trace.Series) trace.Series {
	if len(b.X) == 0 {
		return a
	}
	d := trace.Series{T: b.T, X: make([]float64, len(b.X))}
	if len(a.X) == len(b.X) {
		copy(d.X, a.X)
	}
	for k, x := range b.X {
		d.X[k] -= x
	}
	return d
}

// moved tells how much flows in a window, as a sum that serves to compare: what is below the offset of an ammeter
// does not count.
func (w window) moved(f flow) (sum float64) {
	for _, amps := range f.amps.Between(w.t0, w.t1).X {
		if math.Abs(amps) > w.rec.floor(f.meters, amps) {
			sum += math.Abs(amps)
		}
	}
	return sum
}

// commands are the times at which something was set, in order.
func (rec *Record) commands() (times []float64) {
	for _, m := range rec.Marks {
		if m.Kind == MarkCommand {
			times = append(times, m.T)
		}
	}
	return times
}

// join keeps the frames that have volts and amps; charge and energy are taken from the recorded counters, else
// integrated: as straight lines, but across a command each side keeps its reading up to it.
func (b *Battery) join(volts trace.Series, f flow, commands []float64) {
	b.commands = commands
	for _, m := range f.meters {
		b.Through = append(b.Through, Ammeter{Column: m.column})
	}
	n := len(volts.T)
	for _, column := range []*[]float64{&b.T, &b.Volts, &b.Amps, &b.Charge, &b.Energy} {
		*column = make([]float64, 0, n)
	}
	for k := range b.Through {
		b.Through[k].Amps = make([]float64, 0, n)
	}
	counted := len(f.charge.T) == n && len(f.energy.T) == n
	var charge, energy float64
	for k, t := range volts.T {
		if k >= len(f.amps.T) || math.IsNaN(volts.X[k]) || math.IsNaN(f.amps.X[k]) {
			continue
		}
		if counted && (math.IsNaN(f.charge.X[k]) || math.IsNaN(f.energy.X[k])) {
			continue
		}
		v, i := volts.X[k], f.amps.X[k]
		if n := len(b.T); counted {
			charge, energy = f.charge.X[k], f.energy.X[k]
		} else if n > 0 {
			before, after := 0.5*(t-b.T[n-1]), 0.5*(t-b.T[n-1])
			if command, ok := commandIn(commands, b.T[n-1], t); ok {
				before, after = command-b.T[n-1], t-command
			}
			charge += b.Amps[n-1]*before + i*after
			energy += b.Amps[n-1]*b.Volts[n-1]*before + i*v*after
		}
		b.T = append(b.T, t)
		b.Volts, b.Amps = append(b.Volts, v), append(b.Amps, i)
		b.Charge, b.Energy = append(b.Charge, charge), append(b.Energy, energy)
		for n, m := range f.meters {
			b.Through[n].Amps = append(b.Through[n].Amps, m.amps.X[k])
		}
	}
}

// Count is charge and energy at time t: straight between two frames, but across a command each side keeps its reading
// up to it. At the instant of a command both sides meet.
func (b *Battery) Count(t float64) (charge, energy float64) {
	k := sort.SearchFloat64s(b.T, t) // the first frame at or after t
	held := func(n int) (charge, energy float64) {
		h := t - b.T[n]
		return b.Charge[n] + b.Amps[n]*h, b.Energy[n] + b.Amps[n]*b.Volts[n]*h
	}
	switch {
	case k < len(b.T) && b.T[k] == t:
		return b.Charge[k], b.Energy[k]
	case k == 0:
		return held(0)
	case k == len(b.T):
		return held(k - 1)
	}
	if command, ok := commandIn(b.commands, b.T[k-1], b.T[k]); ok && t <= command {
		return held(k - 1)
	} else if ok {
		return held(k)
	}
	share := (t - b.T[k-1]) / (b.T[k] - b.T[k-1])
	return b.Charge[k-1] + share*(b.Charge[k]-b.Charge[k-1]), b.Energy[k-1] + share*(b.Energy[k]-b.Energy[k-1])
}

// commandIn is the first command of the time from one frame to the next.
func commandIn(commands []float64, from, to float64) (at float64, ok bool) {
	c := sort.SearchFloat64s(commands, from)
	if c == len(commands) || commands[c] > to {
		return 0, false
	}
	return commands[c], true
}

// Within gives the frames with from ≤ t ≤ to.
func (b *Battery) Within(from, to float64) *Battery {
	i := sort.SearchFloat64s(b.T, from)
	j := sort.Search(len(b.T), func(k int) bool { return b.T[k] > to })
	j = max(i, j)
	w := &Battery{T: b.T[i:j], Volts: b.Volts[i:j], Amps: b.Amps[i:j], Charge: b.Charge[i:j], Energy: b.Energy[i:j],
		VoltsColumn: b.VoltsColumn, usual: b.usual, commands: b.commands}
	for _, a := range b.Through {
		w.Through = append(w.Through, Ammeter{a.Column, a.Amps[i:j]})
	}
	return w
}
