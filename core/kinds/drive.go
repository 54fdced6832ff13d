package kinds

import (
	"math"
	"strings"

	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/stage"
)

// Drive is a charge or a discharge: it sets a seat going, and the first of its terminations ends it and
// switches the seat off.
type Drive struct {
	Discharge    bool
	Seat         string
	Settings     []procedure.Setting
	Terminations []Termination
	// Down lowers the current at each crossing of the cutoff instead of ending; nil: it does not.
	Down *StepDown
	// Before is a gentle beginning of a charge; nil: none.
	Before *Precharge
	// Taper is the current that ends a charge at constant voltage, A; 0: it does not end so.
	Taper float64
	// Cutoff is the voltage at which a discharge ends, V; 0: there is none.
	Cutoff float64
	// NoCurrent says when a run ends whose current does not flow.
	NoCurrent NoCurrent
	// Expect is about how long it takes, s, from the rated capacity; 0: not known.
	Expect float64
}

// Termination is a rule that ends a charge or discharge.
type Termination struct {
	// Word is what the procedure calls it: taper, time, cutoff …
	Word string
	When condition.Rule
}

// Precharge keeps the current of a charge low for as long as the battery is below some volts.
type Precharge struct {
	Below float64 // V
	Amps  float64
	Most  float64 // s, after which the battery counts as not to be charged
}

// StepDown divides the current by Factor at the cutoff, for as long as it stays at or above Least.
type StepDown struct {
	Factor float64
	Least  float64 // A
	Blank  float64 // s after a command in which the cutoff is not watched
}

// NoCurrent is the guard of a charge or discharge through which nothing goes: leads that are off, a fuse, an instrument
// that is in a limit of its own. Time would pass, and count as measured.
type NoCurrent struct {
	Below  float64 // A; 0: there is no guard
	Within float64 // s
	// Until are the volts from which the current of a charge may end, once it has flown, V.
	Until float64
}

// Of a current of which less than noCurrentShare flows for noCurrentWithin s it is said that there is none.
const (
	noCurrentShare  = 0.02
	noCurrentWithin = 30.0
)

// Steps is the number of currents of a step-down that begins at amps.
func (d StepDown) Steps(amps float64) int {
	return 1 + int(math.Floor(math.Log(math.Abs(amps)/d.Least)/math.Log(d.Factor)+1e-9))
}

// Kind implements procedure.Action: charge or discharge.
func (d *Drive) Kind() string {
	if d.Discharge {
		return "discharge"
	}
	return "charge"
}

// Duration implements procedure.Lasting.
func (d *Drive) Duration() float64 { return d.Expect }

// Ends implements procedure.Ending.
func (d *Drive) Ends() procedure.Ends { return procedure.Ends{Bounded: true} }

// Extremes implements procedure.Moving.
func (d *Drive) Extremes(add func(column string, low, high float64)) { extremesOf(d.Settings, add) }

// Commands implements procedure.Commanding.
func (d *Drive) Commands() []procedure.Setting { return d.Settings }

// Conditions implements procedure.Waiting.
func (d *Drive) Conditions() (texts []string) {
	for _, e := range d.Terminations {
		texts = append(texts, e.When.String())
	}
	return texts
}

// Feeds implements procedure.Feeding.
func (d *Drive) Feeds() []figure.Need { return []figure.Need{figure.Need(d.Kind())} }

// OfBattery implements procedure.Battered.
func (d *Drive) OfBattery() procedure.BatteryUse {
	use := procedure.BatteryUse{Discharge: d.Discharge, Seat: d.Seat}
	for _, e := range d.Terminations {
		if e.Word == "cutoff" && d.Down == nil {
			use.Cutoff = e.When.String()
		}
	}
	return use
}

// Words implements procedure.Worded.
func (d *Drive) Words() string {
	return procedure.SettingWords(d.Settings) + ", until " + strings.Join(d.rules(), " or ")
}

// rules lists the words of the terminations.
func (d *Drive) rules() (words []string) {
	for _, e := range d.Terminations {
		words = append(words, e.Word)
	}
	return words
}

// Run implements stage.Runnable.
func (d *Drive) Run(p *stage.Parts) stage.Runner {
	r := &driveRunner{spec: d, until: p.Condition(p.Stage.Until), within: p.Stage.Within,
		volts: p.Program.Columns.Index(d.Seat + ".volts"), amps: p.Program.Columns.Index(d.Seat + ".amps"),
		lastT: math.NaN()}
	for _, e := range d.Terminations {
		r.ends = append(r.ends, p.Condition(e.When.String()))
	}
	return r
}

// readDrive reads a charge or discharge: what is set, and what ends it.
func readDrive(r *procedure.Reader, c *procedure.Common, n document.Node, discharge bool) procedure.Action {
	d := &Drive{Discharge: discharge}
	fields := map[string]document.Node{}
	words := []string{"on", "amps", "time", "charge", "energy", "current within"}
	if discharge {
		words = append(words, "watts", "ohms", "cutoff", "step down")
	} else {
		words = append(words, "volts", "taper", "voltage", "volts drop", "celsius rise", "celsius rate", "precharge")
	}
	readers := map[string]func(document.Node){}
	for _, w := range words {
		readers[w] = func(n document.Node) { fields[w] = n }
	}
	n.Fields(readers)
	seat, ok := driveSeat(r, n, fields["on"], discharge)
	if !ok {
		return d
	}
	d.Seat = seat.Name
	if discharge {
		dischargeSettings(r, d, seat, n, fields)
	} else {
		chargeSettings(r, d, seat, n, fields)
	}
	bounds(r, d, fields)
	noCurrent(r, d, fields["current within"])
	if len(d.Terminations) == 0 && c.Until == "" && !discharge && r.Plate().Battery() {
		chemistryEnds(r, d)
	}
	if len(d.Terminations) == 0 && c.Until == "" {
		n.Fail("the %s never ends: give it a termination, such as time", d.Kind())
	}
	if q, err := r.Plate().Rating("rated_capacity", quantity.Charge); err == nil {
		for _, s := range d.Settings {
			if s.Quantity == "amps" && s.Value != 0 {
				d.Expect = q / math.Abs(s.Value)
			}
		}
	}
	return d
}

// driveSeat finds the seat that charges or discharges: the one named with on, else the best that the procedure needs.
func driveSeat(r *procedure.Reader, n, on document.Node, discharge bool) (procedure.Seat, bool) {
	role := seats.Feeds
	if discharge {
		role = seats.Drains
	}
	if on.Present() {
		seat, ok := r.Seat(on.Text())
		if !ok || !seat.Kind.Drives(role) {
			on.Fail("%q is no seat for this; it needs a %s of needs", on.Text(), seats.NamesHaving(role))
			return seat, false
		}
		return seat, true
	}
	for _, kind := range seats.Having(role) {
		for _, s := range r.Program().Seats {
			if s.Kind.Name == kind.Name {
				return s, true
			}
		}
	}
	n.Fail("there is no seat for this; needs must have a %s", seats.NamesHaving(role))
	return procedure.Seat{}, false
}

// noCurrent reads within which time the current must flow.
func noCurrent(r *procedure.Reader, d *Drive, n document.Node) {
	d.NoCurrent = NoCurrent{Below: noCurrentShare * d.leastAmps(), Within: noCurrentWithin}
	if !d.Discharge {
		d.NoCurrent.Until = nearLimit * procedure.ValueOf(d.Settings, "volts")
	}
	if !n.Present() {
		return
	}
	if d.NoCurrent.Within = r.Value(n, quantity.Time); d.NoCurrent.Within <= 0 {
		n.Fail("the time in which current must flow is more than 0 s")
	}
}

// leastAmps is the smallest current that the drive asks for, A; 0: it cannot be told.
func (d *Drive) leastAmps() float64 {
	amps := math.Abs(procedure.ValueOf(d.Settings, "amps"))
	watts, ohms := procedure.ValueOf(d.Settings, "watts"), procedure.ValueOf(d.Settings, "ohms")
	switch {
	case d.Before != nil:
		return d.Before.Amps
	case d.Down != nil:
		return d.Down.Least
	case amps > 0:
		return amps
	case ohms > 0:
		return d.Cutoff / ohms
	case d.Cutoff > 0: // constant power takes the least current at the most volts
		return watts / (2 * d.Cutoff)
	}
	return 0
}

// elapsed is how long the stage has gone on, s.
const elapsed = condition.Number("stage.elapsed")

// volts and amps are what the driven seat reads.
func (d *Drive) volts() condition.Number { return condition.Column(d.Seat + ".volts") }

func (d *Drive) amps() condition.Number { return condition.Column(d.Seat + ".amps") }

// bounds are the terminations that charge and discharge share. What a discharge takes counts as negative.
func bounds(r *procedure.Reader, d *Drive, f map[string]document.Node) {
	moved := func(column string) condition.Number {
		if d.Discharge {
			return condition.Neg(condition.Column(column))
		}
		return condition.Column(column)
	}
	if f["time"].Present() {
		if t := r.Value(f["time"], quantity.Time); t > 0 { // no limit if zero
			d.end("time", condition.Holds(elapsed, condition.AtLeast, t, "s"))
		}
	}
	if f["charge"].Present() {
		d.end("charge", condition.Holds(moved("stage.charge"), condition.AtLeast,
			r.Value(f["charge"], quantity.Charge)/3600, "Ah"))
	}
	if f["energy"].Present() {
		d.end("energy", condition.Holds(moved("stage.energy"), condition.AtLeast,
			r.Value(f["energy"], quantity.Energy)/3600, "Wh"))
	}
}

func (d *Drive) end(word string, when condition.Rule) {
	d.Terminations = append(d.Terminations, Termination{word, when})
}
