package simulation

import (
	"maps"
	"slices"
	"strings"
	"time"

	"usherbench/instrument/transport/memory"
	"usherbench/simbench"
)

// tellingIn are the layouts in which a meeting tells the most that is all that happens; others tell as much in any.
var tellingIn = map[string][]simbench.Layout{
	"breach":                         guardedLayouts,
	"breach after a slow beginning":  {simbench.SerialLoad}, // whose readings are known in pieces
	"failure beside a full disk":     guardedLayouts,
	"mended one after the other":     {simbench.Converter, simbench.Metered, simbench.Gang},
	"opened over volts":              lockedLayouts,
	"begun behind an open interlock": lockedLayouts,
}

var (
	guardedLayouts = []simbench.Layout{simbench.Converter, simbench.BatteryPack, simbench.CyclerPair, simbench.Mains,
		simbench.HighVoltage, simbench.Machine}
	lockedLayouts = []simbench.Layout{simbench.HighVoltage, simbench.Insulation}
)

// meetings lists what seldom comes together by chance, and must be survived all the same.
func meetings() []kind {
	return []kind{
		// Some outputs of a bay cannot be switched off, then a stop; they are mended one after the other.
		{"stop of what does not go off", 6, func(d draw, s Scenario, all []instrument) (events []Event) {
			bay := d.bay(s)
			at := d.between(began, s.Troubled-time.Second)
			fault := of(d, []simbench.InstrumentFault{simbench.Drop, simbench.Hang, simbench.StuckOutput})
			lasting := d.chance(0.6) // one of them for so long that the others must go off without it
			least, most := 200*time.Millisecond, s.Troubled-at
			if lasting {
				least, most = 3500*time.Millisecond, 6*time.Second
			}
			for _, i := range standingIn(bay, all) {
				if slices.Contains(i.faults, simbench.StuckOutput) && d.chance(0.8) {
					e := Event{At: at, Kind: "break", Instrument: i.name, Fault: fault,
						For: d.between(least, most)}
					if lasting && d.chance(0.5) {
						e.For, e.Whole, lasting = 8*time.Second, true, false
					}
					events = append(events, e)
				}
			}
			what := of(d, []string{"stop", "safe", "stop all"})
			return append(events, Event{At: at + d.between(50*time.Millisecond, 600*time.Millisecond), Kind: what,
				Bay: bay.Name})
		}, nil},
		// What is on by hand is lost.
		{"lost by hand", 5, func(d draw, s Scenario, all []instrument) []Event {
			bay, at := d.bay(s), d.between(began, 2*time.Second)
			events := []Event{{At: at, Kind: "stop", Bay: bay.Name},
				{At: at + 500*time.Millisecond, Kind: "set by hand", Bay: bay.Name, Words: "on"}}
			for _, i := range standingIn(bay, all) {
				if strings.HasPrefix(i.name, handInstrument(bay.Layout)) {
					events = append(events, Event{At: at + d.between(700*time.Millisecond, 1500*time.Millisecond), Kind: "break",
						Instrument: i.name, Fault: of(d, []simbench.InstrumentFault{simbench.Drop, simbench.Hang}),
						For: d.between(1300*time.Millisecond, 2*time.Second)})
				}
			}
			return events
		}, nil},
		// A reading is beyond a guard.
		{"breach", 2, func(d draw, s Scenario, all []instrument) (events []Event) {
			bay := d.bay(s)
			at := d.between(1600*time.Millisecond, s.Troubled-guardWithin)
			for _, i := range standingIn(bay, all) {
				if strings.HasPrefix(i.name, guardedBy(bay.Layout)) {
					events = append(events, Event{At: at, Kind: "break", Instrument: i.name,
						Fault: of(d, []simbench.InstrumentFault{simbench.OpenSense, simbench.Reversed}),
						For:   d.between(guardWithin, 2*time.Second)})
				}
			}
			return events
		}, nil},
		// The first readings of a run come late and close together; later one is beyond a guard.
		{"breach after a slow beginning", 4, func(d draw, s Scenario, all []instrument) []Event {
			bay, at := d.bay(s), d.between(began, 1500*time.Millisecond)
			events := append(allBreak(bay, all, Event{At: at + 400*time.Millisecond, Fault: simbench.Slow,
				For: d.between(300*time.Millisecond, 1500*time.Millisecond)}),
				Event{At: at, Kind: "stop", Bay: bay.Name}, Event{At: at + 500*time.Millisecond, Kind: "start", Bay: bay.Name,
					Words: beginningOf(bay.Layout) + "-stay"})
			for _, i := range standingIn(bay, all) {
				if strings.HasPrefix(i.name, guardedBy(bay.Layout)) {
					events = append(events, Event{At: at + d.between(2600*time.Millisecond, 3400*time.Millisecond), Kind: "break",
						Instrument: i.name, Fault: of(d, []simbench.InstrumentFault{simbench.OpenSense, simbench.Reversed}),
						For: d.between(guardWithin, 2*time.Second)})
				}
			}
			return events
		}, nil},
		// Instruments answer late, many look on, and somebody stops the bay.
		{"stop with spectators", 2, func(d draw, s Scenario, all []instrument) (events []Event) {
			bay, at := d.bay(s), d.between(began, s.Troubled-2*time.Second)
			events = allBreak(bay, all, Event{At: at, Fault: simbench.Slow, For: 3 * time.Second})
			for k := range time.Duration(4) {
				events = append(events, Event{At: at + (k+2)*100*time.Millisecond, Kind: "look on"})
			}
			return append(events, Event{At: at + d.between(200*time.Millisecond, time.Second), Kind: of(d, []string{"stop",
				"safe"}), Bay: bay.Name})
		}, nil},
		// A loop that takes no time is begun, if there is such a procedure: it is refused when somebody writes it.
		{"loop without time", 1, func(d draw, s Scenario, all []instrument) []Event {
			bay, at := d.bay(s), d.between(began, 2*time.Second)
			events := []Event{{At: at, Kind: "stop", Bay: bay.Name}, {At: at + 500*time.Millisecond, Kind: "start",
				Bay: bay.Name, Words: beginningOf(bay.Layout) + timeless}, {At: at + 1500*time.Millisecond, Kind: "stop",
				Bay: bay.Name}}
			// Instruments that answer late have time pass all the same.
			return append(events, allBreak(bay, all, Event{At: at + 700*time.Millisecond, Fault: simbench.Slow,
				For: 3 * time.Second})...)
		}, nil},
		// Neither output of a bay goes off when it is stopped; what feeds answers again long before what drains.
		{"mended one after the other", 2, func(d draw, s Scenario, all []instrument) []Event {
			bay, at := d.bay(s), d.between(began, 1500*time.Millisecond)
			events := []Event{{At: at, Kind: "stop", Bay: bay.Name}, {At: at + 500*time.Millisecond, Kind: "start",
				Bay: bay.Name, Words: beginningOf(bay.Layout) + "-stay"}, {At: at + 1200*time.Millisecond, Kind: "stop",
				Bay: bay.Name}}
			fault := of(d, []simbench.InstrumentFault{simbench.Drop, simbench.StuckOutput})
			for _, i := range standingIn(bay, all) {
				if slices.Contains(i.faults, simbench.StuckOutput) {
					e := Event{At: at + 1100*time.Millisecond, Kind: "break", Instrument: i.name, Fault: fault,
						For: 4200 * time.Millisecond}
					if strings.Contains(i.name, "load") {
						e.For, e.Whole = 8*time.Second, true
					}
					events = append(events, e)
				}
			}
			return events
		}, nil},
		// An output of one bay stays on while another bay's run ends on a slow disk: neither is a standstill.
		{"end beside an alarm", 2, func(d draw, s Scenario, all []instrument) []Event {
			bay, at := d.bay(s), d.between(began, 2*time.Second)
			events := []Event{{At: at, Kind: "slow disk", For: 4 * time.Second},
				{At: at + 100*time.Millisecond, Kind: "stop", Bay: bay.Name}}
			return append(events, allBreak(bay, all, Event{At: at, Fault: simbench.StuckOutput, For: 4 * time.Second,
				Whole: true})...)
		}, nil},
		// The service stands still for just so long that the warden acts, while runs are under way that may go on.
		{"standstill", 4, func(d draw, s Scenario, _ []instrument) []Event {
			if !slices.ContainsFunc(s.Events, func(e Event) bool { return strings.HasSuffix(e.Words, "-resume") }) {
				return nil
			}
			return []Event{{At: d.between(2500*time.Millisecond, 4*time.Second), Kind: "stall",
				For: d.between(565*time.Millisecond, lostAfter)}}
		}, nil},
		// An output is switched on by hand at an instrument whose error queue is full, so that nobody knows what it did.
		{"refused by hand", 2, func(d draw, s Scenario, all []instrument) []Event {
			bay, at := d.bay(s), d.between(began, 1500*time.Millisecond)
			events := []Event{{At: at, Kind: "stop", Bay: bay.Name},
				{At: at + 600*time.Millisecond, Kind: "set by hand", Bay: bay.Name, Words: "on"}}
			for _, i := range standingIn(bay, all) {
				if strings.Contains(i.name, handInstrument(bay.Layout)) && slices.Contains(i.faults, simbench.ErrorQueue) {
					events = append(events, Event{At: at + 500*time.Millisecond, Kind: "break", Instrument: i.name,
						Fault: simbench.ErrorQueue, For: 300 * time.Millisecond})
				}
			}
			return events
		}, nil},
		// Several people want a bay within moments.
		{"crowd", 6, func(d draw, s Scenario, _ []instrument) (events []Event) {
			bay, at := d.bay(s), d.between(0, s.Troubled-time.Second)
			for range 3 + d.IntN(4) {
				e := Event{At: at + d.between(0, 700*time.Millisecond), Bay: bay.Name, Kind: of(d, []string{"start", "start",
					"stop", "safe", "set by hand", "configure"})}
				switch e.Kind {
				case "start":
					e.Words = of(d, proceduresOf(bay.Layout))
				case "set by hand":
					e.Words = "on"
				}
				events = append(events, e)
			}
			return events
		}, nil},
		// Two people set something by hand at an instrument that answers late; the bay is stopped while the second waits.
		{"asked for before a stop", 3, func(d draw, s Scenario, all []instrument) []Event {
			bay, at := d.bay(s), d.between(began, s.Troubled-2*time.Second)
			events := []Event{{At: at, Kind: "stop", Bay: bay.Name}}
			for range 2 {
				events = append(events, Event{At: at + d.between(600*time.Millisecond, 650*time.Millisecond),
					Kind: "set by hand", Bay: bay.Name, Words: "on"})
			}
			for _, i := range standingIn(bay, all) {
				if strings.HasPrefix(i.name, handInstrument(bay.Layout)) {
					events = append(events, Event{At: at + 550*time.Millisecond, Kind: "break", Instrument: i.name,
						Fault: simbench.Slow, For: d.between(300*time.Millisecond, 900*time.Millisecond)})
				}
			}
			return append(events, Event{At: at + d.between(660*time.Millisecond, 900*time.Millisecond), Kind: "stop",
				Bay: bay.Name})
		}, nil},
		// A run with others behind it fails while the disk is full.
		{"failure beside a full disk", 2, func(d draw, s Scenario, all []instrument) []Event {
			bay, at := d.bay(s), d.between(began, 1500*time.Millisecond)
			events := []Event{{At: at, Kind: "line up", Bay: bay.Name, Words: beginningOf(bay.Layout) + "-brief"},
				{At: at + 300*time.Millisecond, Kind: "full disk", For: d.between(time.Second, 2*time.Second)}}
			for _, i := range standingIn(bay, all) {
				if strings.HasPrefix(i.name, guardedBy(bay.Layout)) {
					events = append(events, Event{At: at + 400*time.Millisecond, Kind: "break", Instrument: i.name,
						Fault: simbench.OpenSense, For: d.between(300*time.Millisecond, time.Second)})
				}
			}
			return events
		}, nil},
		// A line of two units is stopped, and somebody sets a level before anybody says go on.
		{"stop of a line", 4, func(d draw, s Scenario, _ []instrument) []Event {
			bay, at := d.bay(s), d.between(began, 2*time.Second)
			stops := at + 300*time.Millisecond + d.between(100*time.Millisecond, 2*time.Second)
			return []Event{{At: at, Kind: "stop", Bay: bay.Name},
				{At: at + 300*time.Millisecond, Kind: "line up", Bay: bay.Name, Words: beginningOf(bay.Layout) + "-brief"},
				{At: stops, Kind: "stop", Bay: bay.Name},
				{At: stops + d.between(300*time.Millisecond, 700*time.Millisecond), Kind: "set by hand", Bay: bay.Name,
					Words: "level"}}
		}, nil},
		// Nobody is left, neither service nor warden: only the instruments themselves can switch off.
		{nobodyLeft, 2, nobodyIsLeft, nil},
		// Service and warden die, and the records with them: who comes next finds nothing to go by.
		{"nothing is left", 1, func(d draw, s Scenario, _ []instrument) []Event {
			at := d.between(began, 2*time.Second)
			damaged := Event{At: at, Kind: "damage records", Words: of(d, slices.Sorted(maps.Keys(damages))),
				For: d.between(2*time.Second, 3*time.Second)}
			dies := at + d.between(0, 300*time.Millisecond)
			return []Event{damaged, {At: dies, Kind: "kill both", For: 300 * time.Millisecond},
				{At: at + damaged.For, Kind: "put a copy back"}}
		}, nil},
		// Something goes on after the copy of the records was made that is put in place when service and warden are dead.
		{"older records", 2, func(d draw, s Scenario, _ []instrument) []Event {
			bay, at := d.bay(s), d.between(began, 1500*time.Millisecond)
			goesOn := Event{At: at + d.between(450*time.Millisecond, 600*time.Millisecond), Kind: "set by hand", Bay: bay.Name,
				Words: "on"}
			if d.chance(0.4) {
				goesOn.Kind, goesOn.Words = "start", of(d, proceduresOf(bay.Layout))
			}
			return []Event{{At: at, Kind: "stop", Bay: bay.Name},
				{At: at + 400*time.Millisecond, Kind: "damage records", Words: "flipped", For: 700 * time.Millisecond}, goesOn,
				{At: at + d.between(800*time.Millisecond, time.Second), Kind: "kill both", For: 500 * time.Millisecond},
				{At: at + 1100*time.Millisecond, Kind: "put a copy back"},
				// Nobody sees what an end like the first one leaves on: who comes next is to have switched it off.
				{At: at + d.between(1900*time.Millisecond, 2300*time.Millisecond), Kind: "kill service",
					For: 200 * time.Millisecond}}
		}, nil},
		// A bay is configured anew while nobody knows whether one of its outputs is off.
		{"configured with an alarm", 9, func(d draw, s Scenario, all []instrument) (events []Event) {
			bay, at := d.bay(s), d.between(began, 2*time.Second)
			for _, i := range standingIn(bay, all) {
				if slices.Contains(i.faults, simbench.StuckOutput) && len(events) == 0 {
					events = append(events, Event{At: at, Kind: "break", Instrument: i.name, Whole: true,
						Fault: of(d, []simbench.InstrumentFault{simbench.Hang, simbench.StuckOutput}), For: 6 * time.Second})
				}
			}
			return append(events, Event{At: at + 100*time.Millisecond, Kind: "stop", Bay: bay.Name},
				Event{At: at + d.between(3500*time.Millisecond, 4500*time.Millisecond), Kind: "configure", Bay: bay.Name,
					Words: "looked"})
		}, nil},
		// A cover is opened over what is on, for long enough that its run ends and its charge is gone.
		{"opened over volts", 3, func(d draw, s Scenario, all []instrument) (events []Event) {
			for _, i := range all {
				if strings.HasPrefix(i.name, "sourcemeter") {
					events = append(events, Event{At: d.between(began, s.Troubled-time.Second), Kind: "break",
						Instrument: i.name, Fault: simbench.OpenInterlock, For: d.between(100*time.Millisecond, 4*time.Second)})
				}
			}
			return events
		}, nil},
		// Somebody begins a run behind an open interlock, or sets an output by hand there.
		{"begun behind an open interlock", 2, func(d draw, s Scenario, all []instrument) []Event {
			i := slices.IndexFunc(s.Bays, func(b BayPlan) bool { return beginningOf(b.Layout) == "locked" })
			if i < 0 {
				return nil
			}
			bay, at := s.Bays[i], d.between(began, 1500*time.Millisecond)
			events := allBreak(bay, all, Event{At: at + 300*time.Millisecond, Fault: simbench.OpenInterlock,
				For: d.between(2*time.Second, 3*time.Second)})
			events = append(events, Event{At: at, Kind: "stop", Bay: bay.Name})
			begins := Event{At: at + d.between(500*time.Millisecond, 1500*time.Millisecond), Kind: "start", Bay: bay.Name,
				Words: beginningOf(bay.Layout) + "-stay"}
			if d.chance(0.5) {
				begins.Kind, begins.Words = "set by hand", "on"
			}
			return append(events, begins)
		}, nil},
		// What is done with the instruments of a bay stands still, and nothing else does.
		{"stall of a bay", 2, func(d draw, s Scenario, _ []instrument) []Event {
			return []Event{{At: d.between(began, s.Troubled), Kind: "stall of a bay", Bay: d.bay(s).Name,
				For: d.between(50*time.Millisecond, 3*time.Second)}}
		}, stallBay},
	}
}

const nobodyLeft = "nobody is left"

// nobodyIsLeft has service and warden die, after a neighbour that shares an instrument has come to its end.
func nobodyIsLeft(d draw, s Scenario, _ []instrument) (events []Event) {
	at := d.between(began, 3*time.Second)
	if s.SharedSupply {
		events = append(events, Event{At: at, Kind: "stop", Bay: s.Bays[d.IntN(2)].Name})
	}
	return append(events, Event{At: at + time.Second, Kind: "kill both", For: watchdogWithin + time.Second})
}

// stallBay has everything stand still that the service does with the instruments of a bay.
func stallBay(h *house, e Event) {
	if h.service.dead.Load() {
		return
	}
	j := judged{house: h, bay: e.Bay}
	mine := j.instruments()
	h.tell(e.Bay, "stands still for %s", e.For)
	h.mu.Lock()
	for _, name := range mine {
		h.faults = append(h.faults, fault{name, heldUp, time.Now(), time.Now().Add(e.For)})
	}
	h.mu.Unlock()
	time.AfterFunc(e.For, h.service.network.Hold(memory.To(func(name string) bool {
		return slices.Contains(mine, strings.TrimPrefix(name, h.prefix))
	})))
}

// heldUp is what is wrong with an instrument of a bay that stands still.
const heldUp simbench.InstrumentFault = "held up"

// standingIn are the instruments at a bay.
func standingIn(bay BayPlan, all []instrument) []instrument {
	return slices.DeleteFunc(slices.Clone(all), func(i instrument) bool {
		return !strings.HasSuffix(i.name, strings.TrimPrefix(bay.Name, "bay"))
	})
}

// allBreak has all instruments at a bay break that can break so.
func allBreak(bay BayPlan, all []instrument, e Event) (events []Event) {
	for _, i := range standingIn(bay, all) {
		if slices.Contains(i.faults, e.Fault) {
			e.Kind, e.Instrument = "break", i.name
			events = append(events, e)
		}
	}
	return events
}

// handSeat is the seat that is set by hand in a layout.
func handSeat(l simbench.Layout) string {
	switch beginningOf(l) {
	case "converter", "pair", "drain", "contract", "panel":
		return "load"
	case "locked":
		return "sourcemeter"
	case "thrust", "node", "amplifier":
		return "source"
	case "mains", "circle", "machine":
		return "mains"
	}
	return "cycler"
}

// handInstrument begins the names of the instruments in that seat.
func handInstrument(l simbench.Layout) string {
	switch seat := handSeat(l); {
	case l == simbench.Recirculated || l == simbench.Machine:
		return "feeder"
	case l == simbench.Drain:
		return "drainmeter"
	case seat == "source":
		return "supply"
	case seat != "mains":
		return seat
	}
	return "acsource"
}

// guardedBy begins the names of the instruments whose readings the guard of a layout's procedures needs.
func guardedBy(l simbench.Layout) string {
	switch beginningOf(l) {
	case "converter", "thrust", "amplifier":
		return "supply"
	case "node":
		return "drainmeter"
	case "locked":
		return "sourcemeter"
	case "pack", "pair":
		return "cycler"
	case "mains", "contract":
		return "acsource"
	case "circle", "machine":
		return "feeder"
	}
	return "nothing"
}
