package simulation

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"time"

	"usherbench/simbench"
)

// Scenario is what is to happen, drawn from a seed.
type Scenario struct {
	Seed uint64
	Bays []BayPlan
	// OneConnection says that every instrument takes one connection only.
	OneConnection bool
	// SharedSupply says that the first two bays are fed by one supply.
	SharedSupply bool
	// Troubled is until when things happen.
	Troubled time.Duration
	Events   []Event
}

// BayPlan is a bay of the bench.
type BayPlan struct {
	Name      string
	Layout    simbench.Layout
	Procedure string
	Interval  time.Duration
}

// Event is something that a person does, or that breaks.
type Event struct {
	At   time.Duration
	Kind string
	Bay  string // of what concerns a bay
	// Instrument that breaks, with Fault, for a time.
	Instrument string
	Fault      simbench.InstrumentFault
	For        time.Duration
	Whole      bool   // the scenario lasts until it is over
	Words      string // what is set, which procedure is begun
}

func (e Event) String() string {
	parts := []string{e.Kind}
	for _, part := range []string{e.Bay, e.Instrument, string(e.Fault), e.Words} {
		if part != "" {
			parts = append(parts, part)
		}
	}
	if e.For > 0 {
		parts = append(parts, "for "+e.For.String())
	}
	return strings.Join(parts, " ")
}

func (s Scenario) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "seed %d:", s.Seed)
	for _, bay := range s.Bays {
		fmt.Fprintf(&b, " %s %s (%s, every %s)", bay.Name, bay.Layout, bay.Procedure, bay.Interval)
	}
	if s.OneConnection {
		b.WriteString(", one connection each")
	}
	if s.SharedSupply {
		b.WriteString(", one supply for bay1 and bay2")
	}
	for _, e := range s.Events {
		fmt.Fprintf(&b, "\n%8.3f s  %s", e.At.Seconds(), e)
	}
	return b.String()
}

// Lengths of a scenario: people begin runs, then things happen, then everything is mended and must be well again.
const (
	began = 800 * time.Millisecond
	brief = 5 * time.Second
	long  = 12 * time.Second
	rest  = 4 * time.Second // after everything was mended
)

// mostFaults bounds how much breaks in one scenario, mostPeople what people do.
const (
	mostFaults = 8
	mostPeople = 8
)

// draw is a source of what is drawn.
type draw struct {
	*rand.Rand
	// unlucky is the bay in which the most happens: troubles are worst where several meet.
	unlucky int
	// alone says that nothing happens but one meeting, in the unlucky bay: what it finds is found by no luck.
	alone bool
}

// bay draws a bay.
func (d draw) bay(s Scenario) BayPlan {
	if d.alone || d.chance(0.6) {
		return s.Bays[d.unlucky]
	}
	return of(d, s.Bays)
}

// instrument draws an instrument.
func (d draw) instrument(all []instrument) instrument {
	if d.chance(0.6) {
		mine := slices.DeleteFunc(slices.Clone(all), func(i instrument) bool {
			return !strings.Contains(i.name, strconv.Itoa(d.unlucky+1))
		})
		if len(mine) > 0 {
			return of(d, mine)
		}
	}
	return of(d, all)
}

func of[T any](d draw, all []T) T { return all[d.IntN(len(all))] }

func (d draw) chance(p float64) bool { return d.Float64() < p }

func (d draw) between(from, to time.Duration) time.Duration {
	return (from + time.Duration(d.Int64N(int64(to-from)))).Round(time.Millisecond)
}

// furtherLayouts are drawn by a chance of their own, so that all else stays as it was drawn before there were any.
var furtherLayouts = []simbench.Layout{simbench.Drain, simbench.Amplified}

// Draw draws the scenario of a seed.
func Draw(seed uint64) Scenario {
	d := draw{Rand: rand.New(rand.NewPCG(seed, 0x75736865))}
	further := draw{Rand: rand.New(rand.NewPCG(seed, 0x66757274))}
	d.alone = d.chance(0.3)
	meeting := d.kind(meetings())
	if d.alone {
		meeting = of(d, meetings())
	}
	s := Scenario{Seed: seed, OneConnection: d.chance(0.2), Troubled: brief}
	if d.chance(0.06) {
		s.Troubled = long // outputs that cannot be reached take their time
	}
	layouts := slices.DeleteFunc(simbench.Layouts(), func(l simbench.Layout) bool {
		// Where nothing can be switched on, and what is drawn further on.
		return l == simbench.Harness || slices.Contains(furtherLayouts, l)
	})
	shared := d.chance(0.06) || d.alone && meeting.name == nobodyLeft // which is hardest where a supply has two users
	bays := of(d, []int{2, 2, 2, 2, 3, 3, 4, 6})
	if d.alone {
		bays = 2 // that of the meeting, and one that it must not disturb
	}
	for i := range bays {
		layout := of(d, layouts)
		if d.chance(0.4) { // the bays in which the most can happen stay as likely when layouts are added
			layout = of(d, []simbench.Layout{simbench.Converter, simbench.BatteryPack, simbench.CyclerPair})
		}
		switch {
		case shared && i < 2:
			layout = simbench.Converter
		case d.alone && i == d.unlucky && len(tellingIn[meeting.name]) > 0:
			layout = of(d, tellingIn[meeting.name])
		}
		if free := !(shared && i < 2) && !(d.alone && i == d.unlucky); free && further.chance(0.12) {
			layout = of(further, furtherLayouts)
		}
		bay := BayPlan{Name: fmt.Sprintf("bay%d", i+1), Layout: layout, Procedure: of(d, proceduresOf(layout)),
			Interval: of(d, []time.Duration{80, 140, 200}) * time.Millisecond}
		s.Bays = append(s.Bays, bay)
		if d.alone || d.chance(0.75) {
			s.Events = append(s.Events, Event{At: d.between(0, began), Kind: "start", Bay: bay.Name, Words: bay.Procedure})
		}
	}
	s.SharedSupply = shared
	instruments := instrumentsOf(s)
	if !d.alone {
		d.unlucky = d.IntN(len(s.Bays))
		for range d.IntN(mostFaults + 1) {
			s.Events = append(s.Events, d.kind(troubles()).draw(d, s, instruments)...)
		}
		for range d.IntN(mostPeople + 1) {
			s.Events = append(s.Events, d.kind(people()).draw(d, s, instruments)...)
		}
		if shared && d.chance(0.3) {
			s.Events = append(s.Events, nobodyIsLeft(d, s, instruments)...)
		}
	}
	if d.alone || d.chance(0.75) {
		s.Events = append(s.Events, meeting.draw(d, s, instruments)...)
	}
	for _, e := range s.Events {
		if e.Whole || e.Kind == "kill both" || e.Kind == "put a copy back" {
			s.Troubled = max(s.Troubled, e.At+e.For)
		}
	}
	slices.SortStableFunc(s.Events, func(a, b Event) int { return int(a.At - b.At) })
	return s
}

// kind draws one of several kinds by their weights.
func (d draw) kind(all []kind) kind {
	sum := 0
	for _, k := range all {
		sum += k.weight
	}
	at := d.IntN(sum)
	return all[slices.IndexFunc(all, func(k kind) bool { at -= k.weight; return at < 0 })]
}

// kind is one kind of event: how often it is drawn, what is drawn, and what it does.
type kind struct {
	name   string
	weight int
	draw   func(d draw, s Scenario, instruments []instrument) []Event
	do     func(h *house, e Event)
}

// instrument is one that can break, and how.
type instrument struct {
	name   string
	faults []simbench.InstrumentFault
}

// instrumentsOf lists the instruments that the bench of a scenario has.
func instrumentsOf(s Scenario) (all []instrument) {
	b, err := simbench.Start(benchOptions(s, fmt.Sprintf("list%d-", s.Seed)))
	if err != nil {
		return nil
	}
	for _, i := range b.Instruments() {
		all = append(all, instrument{i.Name, i.Faults()})
	}
	_ = b.Close() // in memory it never fails
	return all
}

func benchOptions(s Scenario, prefix string) simbench.Options {
	o := simbench.Options{TimeFactor: 1, SharedSupply: s.SharedSupply, OneConnection: s.OneConnection, Memory: prefix,
		Hot: true}
	for _, bay := range s.Bays {
		o.Layouts = append(o.Layouts, bay.Layout)
	}
	return o
}
