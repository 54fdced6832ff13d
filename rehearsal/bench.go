package rehearsal

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/trace"
	"usherbench/simbench/plant"
)

// bench is the seats of a program at a unit: what was set on each, and what they read.
type bench struct {
	unit    plant.Unit
	outputs int // of the unit; each has its own load
	columns trace.Columns
	reads   []read
	seats   map[string]*settings
	order   []*settings
	o       plant.Operating
	lastT   float64
	// what the balance is made of, W·s
	fromSources, heat float64
	hottest           float64
	begun             bool
}

// unlimited is where a limit begins of which a procedure says nothing, V, A or Ω: the model has no instruments.
const unlimited = 1e4

// usualBack is what a load gives back to the mains of which a procedure says nothing.
var usualBack = plant.Back{Share: 0.96, Own: 200}

// usualHertz is the frequency of the mains of which a procedure says nothing.
const usualHertz = 50

// settings are what was set on a seat.
type settings struct {
	kind                     seats.Kind
	before                   bool // a switch that stands before the unit, and not past it
	branch                   int  // of cells or outputs side by side: meter is at the first, meter2 at the second …
	on                       bool
	mode                     string
	volts, amps, watts, ohms float64
	hertz                    float64
	position                 float64 // that is asked for of a charger
	torque, speed, percent   float64 // of a brake, of a drive
	second, balance          float64 // of a generator
}

// read says which quantity of which seat is a column, and which part of it.
type read struct {
	seat *settings
	q    string
	part quantity.Part
}

func newBench(program *procedure.Program, unit plant.Unit) *bench {
	b := &bench{unit: unit, outputs: 1, columns: program.Columns, seats: map[string]*settings{}, hottest: math.Inf(-1)}
	if several, ok := unit.(plant.Branching); ok {
		b.outputs = several.Outputs()
	}
	for _, s := range program.Seats {
		x := &settings{kind: s.Kind, mode: s.Kind.BeginsIn(), branch: branchOf(s.Name), hertz: usualHertz}
		if _, passed := unit.(plant.Passed); !passed {
			x.before = x.switches()
		}
		b.seats[s.Name] = x
		b.order = append(b.order, x)
	}
	for _, s := range program.Seats {
		b.apply(program.Beginning(s.Name, func(string, string) bool { return true },
			func(string) (float64, bool) { return unlimited, true }))
	}
	for _, column := range program.Columns {
		seat, reading, _ := strings.Cut(column, ".")
		_, part, _ := quantity.Split(reading)
		b.reads = append(b.reads, read{b.seats[seat], quantity.WholeOf(reading), part})
	}
	return b
}

// branchOf is the index of the cell that a meter is at, from the number in its name.
func branchOf(seat string) int {
	number := strings.TrimLeft(seat, "abcdefghijklmnopqrstuvwxyz")
	if k, err := strconv.Atoi(number); err == nil {
		return k - 1
	}
	return 0
}

func (b *bench) apply(all []procedure.Setting) {
	for _, s := range all {
		x := b.seats[s.Seat]
		if x == nil {
			continue
		}
		switch s.Quantity {
		case seats.Output:
			x.on = s.Word == seats.On
		case seats.Mode:
			x.mode = s.Word
		case "volts":
			x.volts = s.Value
		case "amps":
			x.amps = s.Value
		case "watts":
			x.watts = s.Value
		case "ohms":
			x.ohms = s.Value
		case "hertz":
			x.hertz = s.Value
		case seats.Position:
			x.position = s.Value
		case "torque":
			x.torque = s.Value
		case "speed":
			x.speed = s.Value
		case "percent":
			x.percent = s.Value
		case "second":
			x.second = s.Value
		case "balance":
			x.balance = s.Value
		}
	}
}

// terminals are what the seats together put at the unit.
func (b *bench) terminals() (joined plant.Joined) {
	for _, x := range b.order {
		if !x.on {
			continue
		}
		switch {
		case slices.Contains(x.kind.Sets, "torque"):
			joined.Shaft = plant.Brake{On: true, Torque: x.torque, Held: x.mode == "speed", Speed: x.speed}
		case x.generates():
			joined.Signal = plant.Signal{On: true, Volts: x.volts, Hertz: x.hertz, Second: x.second, Against: x.balance}
		case slices.Contains(x.kind.Sets, "percent"):
			joined.Drive = plant.Command{On: true, Command: x.percent}
		case x.switches():
			joined.Bypass = joined.Bypass || !x.before
		case slices.Contains(x.kind.Sets, seats.Position):
			joined.Sink = plant.Sink{On: true, Position: int(x.position), Volts: x.volts, Amps: x.amps}
		case x.kind.Is(seats.Feeds) && !(x.kind.Is(seats.Drains) && x.amps < 0):
			joined.Line = plant.Source{On: true, Volts: math.Max(joined.Line.Volts, x.volts), Amps: joined.Line.Amps + x.amps}
			if x.kind.Alternating {
				joined.Line.Hertz = x.hertz
			}
		case x.kind.Is(seats.Feeds):
			joined.Output = plant.Load{On: true, Mode: plant.ConstantCurrent, Level: -x.amps}
		case x.kind.Is(seats.Drains):
			level := map[string]float64{"voltage": x.volts, "current": x.amps, "power": x.watts, "resistance": x.ohms}[x.mode]
			if x.kind.Alternating {
				joined.Back = usualBack
			}
			load := plant.Load{On: true, Mode: plant.Mode(x.mode), Level: level}
			if !b.further(x) {
				joined.Output = load
				continue
			}
			for len(joined.Further) < x.branch {
				joined.Further = append(joined.Further, plant.Joint{})
			}
			joined.Further[x.branch-1].Load = load
		}
	}
	if b.open() {
		joined.Line = plant.Source{}
	}
	return joined
}

// switches tells whether a seat is a switch.
func (x *settings) switches() bool {
	return x.kind.Is(seats.Connects) && !slices.Contains(x.kind.Sets, seats.Position)
}

// open tells whether a switch before the unit is open.
func (b *bench) open() bool {
	return slices.ContainsFunc(b.order, func(x *settings) bool { return x.before && !x.on })
}

// generates tells whether a seat gives the signal at the input of an amplifier.
func (x *settings) generates() bool { return slices.Contains(x.kind.Sets, "second") }

// probe is a place that a scope sees, or that an analyser of signals does where there is a generator of them.
func (b *bench) probe(name string) (plant.Probe, bool) {
	all := plant.Probes()
	if slices.ContainsFunc(b.order, (*settings).generates) {
		all = plant.SignalProbes()
	}
	i := slices.IndexFunc(all, func(p plant.Probe) bool { return p.Name == name })
	if i < 0 {
		return plant.Probe{}, false
	}
	return all[i], true
}

// counts tells whether a seat is the one that feeds a unit of which it is known exactly which charge it has taken.
func (b *bench) counts(x *settings) bool {
	_, counting := b.unit.(plant.Counting)
	return counting && x.kind.Is(seats.Feeds) && !x.kind.Is(seats.Drains) && x.branch == 0
}

// further tells whether a seat is at another output of the unit than the first.
func (b *bench) further(x *settings) bool {
	return x.kind.Is(seats.Drains) && !x.kind.Is(seats.Feeds) && x.branch > 0 && x.branch < b.outputs
}

// move brings the unit to time t.
func (b *bench) move(t float64) {
	o := b.unit.At(t, b.terminals())
	if dt := t - b.lastT; b.begun && dt > 0 {
		b.fromSources += b.o.Line.Watts() * dt
		b.heat += b.o.Heat * dt
	}
	b.o, b.lastT, b.begun = o, t, true
	b.hottest = math.Max(b.hottest, o.Celsius)
}

// frame is what the seats read at time t. Derived columns are left at zero.
func (b *bench) frame(t float64) trace.Frame {
	b.move(t)
	f := trace.Frame{T: t, Values: make([]float64, len(b.columns))}
	for i, r := range b.reads {
		if r.seat != nil {
			f.Values[i] = b.value(r)
		}
	}
	return f
}

// value is what a seat reads. The model has one phase.
func (b *bench) value(r read) float64 {
	x, q := r.seat, r.q
	o := b.o
	if slices.Contains(x.kind.Sets, seats.Position) {
		return ofContract(o, r)
	}
	if o.Mains != nil && (x.kind.Is(seats.Feeds) || x.kind.Is(seats.Measures) && x.branch == 0) {
		o.Line = *o.Mains
	}
	switch {
	case r.part.Phase > 0:
		return math.NaN()
	case o.Line.Wave != nil && !x.kind.Is(seats.Drains):
		if v, is := ofWave(o.Line, r); is {
			return v
		}
	case r.part.Side == quantity.AC || r.part.Order > 0:
		return 0
	}
	if b.further(x) { // what flows out there is counted below zero
		o.Output = plant.Seen{Volts: o.Further[x.branch-1].Volts, Amps: -o.Further[x.branch-1].Amps}
	}
	if x.kind.Is(seats.Measures) && q == "amps" && len(o.Further) > 0 {
		if x.branch < len(o.Further) {
			return o.Further[x.branch].Amps
		}
		return 0
	}
	if q == "charge" && b.counts(x) { // pulses between two frames are in it
		return b.unit.(plant.Counting).Drawn(b.lastT)
	}
	drains, both := x.kind.Is(seats.Drains), x.kind.Is(seats.Feeds|seats.Drains)
	if v, is := ofMachine(o, r); is {
		return v
	}
	switch {
	case q == "celsius":
		return o.Celsius
	case q == "irradiance":
		return o.Irradiance
	case q == "limited" && o.Line.Limited:
		return 1
	case q == "volts" && drains:
		return o.Output.Volts
	case q == "volts" && b.open() && x.on && x.kind.Is(seats.Feeds):
		return x.volts
	case q == "volts":
		return o.Line.Volts
	case q == "amps" && both:
		return o.Line.Amps - o.Output.Amps
	case q == "amps" && drains:
		return o.Output.Amps
	case q == "amps":
		return o.Line.Amps
	case q == "watts" && drains:
		return o.Output.Watts()
	case q == "watts":
		return o.Line.Watts()
	}
	return 0
}

// ofMachine is what is read of a shaft, a winding and a drive, and of the room beside a machine.
func ofMachine(o plant.Operating, r read) (x float64, ok bool) {
	switch r.q {
	case "torque":
		if o.Shaft != nil {
			return o.Shaft.Torque, true
		}
	case "speed":
		if o.Shaft != nil {
			return o.Shaft.Speed, true
		}
	case "ohms":
		if k := r.seat.branch - 1; k >= 0 && k < len(o.Accessories) {
			return o.Accessories[k], true
		}
		return o.Winding, o.Winding > 0
	case "vibration":
		return o.Vibration * 1e-3, true
	case "humidity":
		return plant.Humidity, true
	case "newtons":
		return o.Force, true
	case "percent":
		if r.seat.on {
			return r.seat.percent, true
		}
	case "celsius":
		return plant.Ambient, o.Shaft != nil && r.seat.branch > 0
	case "volts":
		return math.NaN(), slices.Contains(r.seat.kind.Reads, "newtons") // the model has no sensor
	}
	return 0, false
}

// ofContract is what a sink reads at the plug, and of what its charger says.
func ofContract(o plant.Operating, r read) float64 {
	if o.Contract == nil {
		return 0
	}
	terms := o.Contract.Terms
	switch {
	case r.part.Place > len(o.Contract.Offer):
		return 0
	case r.part.Place > 0:
		return float64(o.Contract.Offer[r.part.Place-1])
	case r.q == seats.Position:
		return float64(terms.Position)
	case r.q == "refused" && o.Contract.Refused:
		return 1
	case r.part.Agreed && r.q == "volts":
		return terms.Volts
	case r.part.Agreed && r.q == "amps":
		return terms.Amps
	case r.q == "volts":
		return o.Output.Volts
	case r.q == "amps":
		return o.Output.Amps
	}
	return 0
}

// ofWave is what of a reading only alternating current has; ok is false for what direct current has as well.
func ofWave(line plant.Seen, r read) (x float64, ok bool) {
	w := line.Wave
	order := func(all []float64) float64 {
		if r.part.Order > len(all) {
			return 0
		}
		return all[r.part.Order-1]
	}
	va := line.Volts * line.Amps * float64(max(w.Phases, 1))
	switch {
	case r.part.Order > 0 && r.q == "volts":
		return order(w.VoltOrders), true
	case r.part.Order > 0 && r.q == "amps":
		return order(w.AmpOrders), true
	case r.part.Peak && r.q == "volts":
		return w.PeakVolts, true
	case r.part.Peak && r.q == "amps":
		return w.PeakAmps, true
	case r.part.Side == quantity.DC:
		return 0, true
	case r.q == "hertz":
		return w.Hertz, true
	case r.q == "va":
		return va, true
	case r.q == "var":
		return math.Sqrt(math.Max(va*va-w.Power*w.Power, 0)), true
	case r.q == "factor" && va > 0:
		return w.Power / va, true
	}
	return 0, false
}
