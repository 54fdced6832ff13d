package simbench

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"
)

// InstrumentFault is something wrong with an instrument on purpose.
type InstrumentFault string

// The faults of instruments.
const (
	NoFault InstrumentFault = ""
	// Drop closes every connection and refuses new ones.
	Drop InstrumentFault = "drop"
	// Hang takes messages and does not answer.
	Hang InstrumentFault = "hang"
	// Slow answers late, but in time.
	Slow InstrumentFault = "slow"
	// Garbage answers what nobody understands.
	Garbage InstrumentFault = "garbage"
	// WrongIdentity is another instrument at the address.
	WrongIdentity InstrumentFault = "wrong-identity"
	// Behind answers every question with the answer to the one before.
	Behind InstrumentFault = "behind"
	// ErrorQueue is an error queue that fills up.
	ErrorQueue InstrumentFault = "error-queue"
	// NotANumber and Overload are readings that are none.
	NotANumber InstrumentFault = "not-a-number"
	Overload   InstrumentFault = "overload"
	// Reversed leads give readings of the wrong sign, an open sense lead gives almost none.
	Reversed  InstrumentFault = "reversed"
	OpenSense InstrumentFault = "open-sense"
	// StuckOutput does not switch off.
	StuckOutput InstrumentFault = "stuck-output"
	// Distorted is a source of alternating volts with a third harmonic that none should have.
	Distorted InstrumentFault = "distorted"
	// Drifting is one whose volts go up and down slowly.
	Drifting InstrumentFault = "drifting"
	// OpenInterlock is a cover that is not closed.
	OpenInterlock InstrumentFault = "open-interlock"
)

// slowness is how late a slow instrument answers.
const slowness = 80 * time.Millisecond

// standIn is a kind of stand-in and what can be wrong with it.
type standIn struct {
	name   string
	faults []InstrumentFault
}

// What stand-ins have in common.
var (
	// spokenFault can happen to whatever is asked over a connection, readingFault to what reads, anyFault to both.
	spokenFault  = []InstrumentFault{Drop, Hang, Slow, Garbage, WrongIdentity}
	readingFault = []InstrumentFault{NotANumber, Overload}
	anyFault     = slices.Concat(spokenFault, readingFault)
	// textFault needs texts and an error queue, leadFault leads, outputFault an output.
	textFault   = []InstrumentFault{Behind, ErrorQueue}
	leadFault   = []InstrumentFault{Reversed, OpenSense}
	outputFault = []InstrumentFault{StuckOutput}
)

// standIns lists the kinds of stand-ins.
func standIns() []standIn {
	return []standIn{supplyKind, loadKind, cyclerKind, registerLoadKind, analyserKind, multimeterKind, ammetersKind,
		thermometerKind, scopeKind, acSourceKind, gridMeterKind, sinkKind, feederKind, acLoadKind, bypassKind,
		threePhaseMeter, sourceMeterKind, lightKind, brakeKind, ohmsKind, driveKind, forceKind,
		vibrationKind, climateKind, crosspointKind, drainMeterKind, softSwitchKind,
		generatorKind, bankKind, signalAnalyserKind}
}

// Faults lists the faults that the instrument can have.
func (i *Instrument) Faults() []InstrumentFault { return slices.Clone(i.kind.faults) }

// Switches tells whether the instrument has an output.
func (i *Instrument) Switches() bool { return slices.Contains(i.kind.faults, StuckOutput) }

// FaultNames lists every fault of instruments.
func FaultNames() (names []string) {
	for _, k := range standIns() {
		for _, f := range k.faults {
			names = append(names, string(f))
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Kinds lists the kinds of stand-ins, each with the first layout in which it stands.
func Kinds() (map[string]Layout, error) {
	b, err := Start(Options{Layouts: Layouts()})
	if err != nil {
		return nil, err
	}
	defer b.Close()
	kinds := map[string]Layout{}
	for i, w := range b.wirings {
		for _, channels := range w.Seats {
			for _, c := range channels {
				kind := b.instrument(c.Instrument).Kind
				if _, known := kinds[kind]; !known {
					kinds[kind] = Layouts()[i]
				}
			}
		}
	}
	return kinds, nil
}

// health is what is wrong with a stand-in.
type health struct {
	mu       sync.Mutex
	fault    InstrumentFault
	released chan struct{} // closed when a hang ends
}

func newHealth() *health { return &health{released: make(chan struct{})} }

func (h *health) now() InstrumentFault {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.fault
}

func (h *health) set(f InstrumentFault) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.fault == Hang && f != Hang {
		close(h.released)
		h.released = make(chan struct{})
	}
	h.fault = f
}

// pass lets an answer through, late if it must be; false if the connection is to be closed.
func (h *health) pass() bool {
	h.mu.Lock()
	fault, released := h.fault, h.released
	h.mu.Unlock()
	switch fault {
	case Hang:
		<-released
		return false // its answer would come too late for anybody
	case Slow:
		time.Sleep(slowness)
	}
	return fault != Drop
}

// volts is what a voltage measurement sees of the truth.
func (h *health) volts(truth float64) float64 {
	switch h.now() {
	case Reversed:
		return -truth
	case OpenSense:
		return truth * 0.02
	}
	return truth
}

// isOver is what SCPI-1999 answers for a reading beyond the range.
const isOver = "9.9E+37"

// number is how SCPI shows a reading that is none; empty for a good one.
func (h *health) number() string {
	switch h.now() {
	case NotANumber:
		return "9.91E+37"
	case Overload:
		return isOver
	}
	return ""
}

// stuck tells whether an output that is switched off stays on.
func (h *health) stuck(before, after bool) bool { return before && !after && h.now() == StuckOutput }

func (k standIn) check(f InstrumentFault) error {
	if f != NoFault && !slices.Contains(k.faults, f) {
		var names []string
		for _, known := range k.faults {
			names = append(names, string(known))
		}
		return fmt.Errorf("%q is not a fault of this kind of instrument (%s); known: %s", f, k.name,
			strings.Join(names, ", "))
	}
	return nil
}
