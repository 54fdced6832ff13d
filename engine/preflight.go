package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/engine/outputs"
	"usherbench/instrument"
	"usherbench/instrument/messages"
)

// preflight checks procedure, unit and bay before anything is energised. Its methods add findings; they
// energise nothing.
type preflight struct {
	bay      *Bay
	program  *procedure.Program
	plate    *nameplate.Nameplate
	serial   string
	lot      string
	parts    map[string]string
	vouched  []string // checks for which the operator vouches
	findings []api.PreflightFinding
	uses     []api.InstrumentUse
	// reseatsLeft is how often the unit may still be put in anew after the run.
	reseatsLeft int
	mu          sync.Mutex
}

func (p *preflight) add(check string, v api.Verdict, remedy, format string, args ...any) {
	finding := api.PreflightFinding{Check: check, Verdict: v, What: fmt.Sprintf(format, args...), Remedy: remedy}
	p.mu.Lock()
	defer p.mu.Unlock()
	if !slices.Contains(p.findings, finding) { // an instrument may fill several seats
		p.findings = append(p.findings, finding)
	}
}

func (p *preflight) blocks(check, remedy, format string, args ...any) {
	p.add(check, api.Blocks, remedy, format, args...)
}

// asks blocks, unless the operator vouches for it after a look at the unit.
func (p *preflight) asks(check, remedy, format string, args ...any) {
	finding := api.PreflightFinding{Check: check, Verdict: api.Blocks, What: fmt.Sprintf(format, args...), Remedy: remedy,
		Vouch: true}
	if slices.Contains(p.vouched, check) {
		finding.Verdict, finding.What = api.Warns, finding.What+"; the operator vouches for it"
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.findings = append(p.findings, finding)
}

// checkVouched refuses to vouch for what a look at the unit does not tell.
func checkVouched(checks []string) error {
	for _, c := range checks {
		if !slices.Contains(vouchable, c) {
			return fmt.Errorf("%w: nobody can vouch for %q; a look at the unit tells only %s", api.ErrBadRequest, c,
				strings.Join(vouchable, " and "))
		}
	}
	return nil
}

func (p *preflight) warns(check, remedy, format string, args ...any) {
	p.add(check, api.Warns, remedy, format, args...)
}

func (p *preflight) fine(check, format string, args ...any) {
	p.add(check, api.Fine, "", format, args...)
}

// blocked words what stands in the way; empty if nothing does.
func (p *preflight) blocked() string {
	var words []string
	for _, f := range p.findings {
		if f.Verdict == api.Blocks {
			text := f.What
			if f.Remedy != "" {
				text += "; " + f.Remedy
			}
			words = append(words, text)
		}
	}
	return strings.Join(words, ". ")
}

// Preflight checks whether a run could start, without starting it or energising anything. The unit handler puts
// the unit in place, if there is one.
func (b *Bay) Preflight(ctx context.Context, request api.StartRun) (api.Preflight, error) {
	if err := errors.Join(archive.CheckSerial(request.Serial), checkVouched(request.Vouched)); err != nil {
		return api.Preflight{}, err
	}
	revision, err := b.engine.store.Revision(request.Procedure, request.Revision)
	if err != nil {
		return api.Preflight{}, err
	}
	program, plate, err := b.engine.Resolve(revision, request.Parameters)
	if err != nil {
		return api.Preflight{}, err
	}
	o, err := b.own(claim{state: api.BayStarting, offOnly: true})
	if err != nil {
		return api.Preflight{}, err
	}
	defer b.release(o)
	p, err := b.preflight(ctx, program, plate, request)
	if err != nil {
		return api.Preflight{}, err
	}
	return api.Preflight{Bay: b.name, Procedure: revision.Name, Revision: revision.Number, Serial: request.Serial,
		Blocked: p.blocked() != "", Findings: p.findings}, nil
}

// preflight makes all checks. The bay is owned. The error is about the check itself, not about what it found.
func (b *Bay) preflight(ctx context.Context, program *procedure.Program, plate *nameplate.Nameplate,
	request api.StartRun) (*preflight, error) {
	p := &preflight{bay: b, program: program, plate: plate, serial: request.Serial, lot: request.Lot, parts: request.Parts,
		vouched: request.Vouched}
	p.rules()
	if p.blocked() != "" {
		return p, nil // the unit is not to be put in place
	}
	p.seats()
	p.dark(ctx)
	if err := b.handle(ctx, request.Serial, plate); err != nil {
		p.blocks("unit", "see what the handler says, and put the unit in place", "%s",
			strings.TrimPrefix(err.Error(), ErrNotReady.Error()+": "))
	}
	p.known()
	for _, x := range b.outputs.Seats() {
		p.instruments(ctx, x)
	}
	if p.blocked() != "" {
		return p, nil // what follows would only repeat that an instrument does not answer
	}
	p.ranges()
	for _, x := range b.outputs.Seats() {
		p.protections(ctx, x)
		p.begins(ctx, x)
		for _, choice := range x.Kind.Choices {
			p.choice(ctx, x, choice)
		}
		p.leads(ctx, x)
		p.burden(x)
		p.interlock(ctx, x)
	}
	if err := p.unit(ctx); err != nil {
		return p, err
	}
	p.players()
	p.scopes()
	p.scans()
	p.rates()
	p.disk()
	least, most := program.RunsFor()
	words := "it takes " + show(least, quantity.Time)
	if most > least {
		words = fmt.Sprintf("it takes %s to %s", show(least, quantity.Time), show(most, quantity.Time))
	}
	p.fine("duration", "%s", words)
	return p, nil
}

func show(x float64, dim quantity.Dimension) string {
	return quantity.Quantity{Value: x, Dim: dim}.Format(3)
}

// seats checks that the bay has what the program needs, and that it reads what the program reads.
func (p *preflight) seats() {
	for _, need := range p.program.Seats {
		x := p.bay.seat(need.Name)
		if x == nil {
			p.blocks("seats", "choose another bay or add the seat to its configuration",
				"the procedure needs a seat %q, which %s does not have", need.Name, p.bay.name)
			continue
		}
		for _, mode := range need.Modes {
			d := x.First().Dialect
			if _, ok := d.Words[seats.Mode][mode]; !ok && d.BuiltMode() != mode {
				p.blocks("seats", "say in its dialect how it is told (set: mode), or use another instrument",
					"%s must know the mode %s, which %s does not have", need.Name, mode, x.Channels())
			}
		}
		for _, column := range p.program.Reads() {
			seat, q, _ := strings.Cut(column, ".")
			if seat == need.Name && p.bay.sampler.Columns.Index(column) < 0 {
				p.blocks("seats", "use an instrument that reads it, or take it out of the procedure",
					"the procedure reads %s, but %s does not read %s", column, x.Channels(), q)
			}
		}
	}
	if p.blocked() == "" {
		p.fine("seats", "%s has every seat that is needed", p.bay.name)
	}
}

// instruments checks that those of a seat answer, are what is expected, have no errors waiting, and are calibrated.
func (p *preflight) instruments(ctx context.Context, x *outputs.Seat) {
	for _, m := range x.Members {
		identity, err := m.Identify(ctx)
		var wrong *instrument.WrongIdentity
		c := p.bay.engine.bench.Config().Instruments[m.Name]
		p.uses = append(p.uses, api.InstrumentUse{Seat: x.Name, Instrument: m.Name, Channel: m.Number, Identity: identity,
			Dialect:    m.Dialect.Name,
			Calibrated: c.Calibrated, Due: c.Due})
		switch {
		case errors.As(err, &wrong):
			p.blocks("identity", "check the address or choose another dialect", "%s at %s is not what is expected: it says %s",
				m.Name, m.Address, messages.Excerpt(wrong.Says))
			continue
		case err != nil:
			p.blocks("identity", "check its power, cable and address", "%s", err)
			continue
		}
		p.twice(m.Name, identity)
		if queue, err := m.Errors(ctx); err != nil {
			p.blocks("error queue", "check its power, cable and address", "%s", err)
		} else if len(queue) > 0 {
			p.warns("error queue", "the queue is empty now; see whether it fills again", "%s had errors waiting: %s", m.Name,
				strings.Join(queue, "; "))
		} else {
			p.fine("instruments", "%s answers as %s%s", m.Name, orWord(identity, "it does not say what"),
				map[bool]string{true: ", no errors waiting"}[m.Dialect.Errors.Query != ""])
		}
		p.calibration(m.Name, c)
		p.tripped(ctx, m)
	}
}

// dark looks whether an output is on that nobody here switched on: somebody did at the instrument, or another program
// does. Nothing is done to it before a person has looked.
func (p *preflight) dark(ctx context.Context) {
	for _, x := range p.bay.outputs.OffOrder() {
		if x.Energised() {
			continue // by hand, and known
		}
		for _, m := range x.Members {
			if on, err := m.OutputOn(ctx); err == nil && on {
				p.blocks("outputs", "see who uses it; then switch it off at the instrument, or make the bay safe",
					"%s (channel %d of %s) is on, though nobody here switched it on", x.Name, m.Number, m.Name)
			}
		}
	}
}

// twice looks whether an instrument of the bay says that it is the one that the bench knows by another name.
func (p *preflight) twice(name, identity string) {
	if other := p.bay.engine.bench.SameIdentity(name, identity); other != "" {
		p.blocks("identity", "take one of the two out of the bench; use its channels in several bays instead",
			"%s and %s both say that they are %q: they are one instrument", name, other, identity)
	}
}

func orWord(text, fallback string) string {
	if text == "" {
		return fallback
	}
	return text
}

func (p *preflight) calibration(name string, c api.InstrumentConfig) {
	if c.Due == "" {
		p.warns("calibration", "enter the date: usher bench add, --due", "nobody knows until when %s is calibrated", name)
		return
	}
	due, err := time.ParseInLocation(time.DateOnly, c.Due, time.Local)
	left := due.AddDate(0, 0, 1).Sub(p.bay.engine.store.Now())
	const soon = 14 * 24 * time.Hour
	switch {
	case err != nil:
	case left < 0:
		p.warns("calibration",
			"have it calibrated and enter the new date; figures carry the accuracy of its dialect all the same",
			"the calibration of %s was due on %s", name, c.Due)
	case left < soon:
		p.warns("calibration", "have it calibrated in time", "the calibration of %s is due on %s", name, c.Due)
	default:
		p.fine("calibration", "%s is calibrated until %s", name, c.Due)
	}
}

// tripped looks for a protection that has latched.
func (p *preflight) tripped(ctx context.Context, m *outputs.Member) {
	if !m.Dialect.Tripped.Exists() {
		return
	}
	if tripped, err := m.YesNo(ctx, m.Dialect.Tripped); err == nil && tripped {
		remedy := "find out why, and clear it at the instrument"
		if m.Dialect.ClearTrip.Exists() {
			p.warns("protection", "it is cleared when the run begins; find out why it tripped", "a protection of %s has tripped",
				m.Name)
			return
		}
		p.blocks("protection", remedy, "a protection of %s has tripped", m.Name)
	}
}

// ranges checks every setpoint that can occur, and what needs asks for, against the ranges of the instruments.
func (p *preflight) ranges() {
	asked := p.program.Extremes()
	for _, need := range p.program.Seats {
		for q, most := range need.Ratings {
			column := need.Name + "." + q
			e := asked[column]
			asked[column] = procedure.Extent{Min: e.Min, Max: math.Max(e.Max, most)}
		}
	}
	good := true
	columns := make([]string, 0, len(asked))
	for column := range asked {
		columns = append(columns, column)
	}
	slices.Sort(columns)
	for _, column := range columns {
		name, q, _ := strings.Cut(column, ".")
		x := p.bay.seat(name)
		if x == nil {
			continue
		}
		kind, _ := quantity.KindOf(q)
		most, ok := x.Most(q)
		if e := asked[column]; ok && math.Max(e.Max, -e.Min) > most {
			good = false
			p.blocks("range", "use another instrument or lower the setpoint", "%s must reach %s, but %s ends at %s", column,
				show(math.Max(e.Max, -e.Min), kind.Unit.Dim),
				x.Channels(), show(most, kind.Unit.Dim))
		}
	}
	if good {
		p.fine("ranges", "the instruments cover every setpoint that can occur")
	}
}

// protections checks that none stands inside the test's range: an over-voltage trip below the top, a lockout
// above the cutoff.
func (p *preflight) protections(ctx context.Context, x *outputs.Seat) {
	extremes := p.program.Extremes()
	for _, m := range x.Members {
		for _, name := range slices.Sorted(maps.Keys(m.Dialect.Protect)) {
			q := name[:strings.Index(name, " ")]
			level, known := p.program.Protect[x.Name][name]
			if !known {
				read, ok, err := m.Setting(ctx, name)
				if !ok || err != nil {
					p.warns("protection", "state it with protect in the procedure, or look at the instrument",
						"the protection %q of %s cannot be read back: what somebody set by hand is in force", name, m.Name)
					continue
				}
				level = read / x.Share(q, 1)
			}
			column := x.Name + "." + q
			kind, _ := quantity.KindOf(q)
			words := fmt.Sprintf("the protection %q of %s stands at %s", name, m.Name, show(level, kind.Unit.Dim))
			if strings.HasSuffix(name, "above") {
				if e, ok := extremes[column]; ok && level < e.Max {
					p.blocks("protection", "set it above the top of the test, with protect in the procedure or at the instrument",
						"%s, below the %s that the test reaches", words, show(e.Max, kind.Unit.Dim))
					continue
				}
			} else if low, ok := p.lowest(column); ok && level > low {
				p.blocks("protection", "set the lockout below that, with protect in the procedure or at the instrument",
					"%s, above the %s to which the test goes down", words, show(low, kind.Unit.Dim))
				continue
			}
			p.fine("protection", "%s", words)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.program.Protect[x.Name])) {
		if _, ok := x.First().Dialect.Protect[name]; !ok {
			p.warns("protection", "rely on guards, or use an instrument that has it",
				"%s cannot set the protection %q that the procedure asks for", x.Channels(), name)
		}
	}
}

// lowest is the smallest value of a draining seat's volts that the test goes to: the cutoff of its conditions
// or of the nameplate, else what a converter gives.
func (p *preflight) lowest(column string) (float64, bool) {
	if low, ok := p.program.Lowest(column); ok {
		return low, true
	}
	for _, rating := range []string{"cutoff", "rated_volts"} {
		if low, err := p.plate.Rating(rating, quantity.Voltage); err == nil {
			return low, true
		}
	}
	return 0, false
}
