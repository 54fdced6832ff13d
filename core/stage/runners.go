package stage

import (
	"fmt"
	"math"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/procedure"
)

// newRunner makes the runner of a stage.
func newRunner(p *procedure.Program, s procedure.Stage) (runner, error) {
	scope := p.ScopeOf(s.Locals)
	var failed error
	compile := func(text string) *condition.Condition {
		if text == "" {
			return nil
		}
		c, err := condition.Compile(text, scope)
		if err != nil && failed == nil {
			failed = fmt.Errorf("%q: %w", text, err)
		}
		return c
	}
	until := compile(s.Until)
	holding := func(h procedure.Hold, off []procedure.Setting) runner {
		r := &holdRunner{spec: h, off: off, until: until, within: s.Within, column: -1}
		if h.Stable != nil {
			r.column = slices.Index(p.Columns, h.Stable.Column)
		}
		return r
	}
	var r runner
	switch a := s.Action.(type) {
	case *procedure.Set:
		r = &setRunner{spec: *a, waiting: waiting{until: until}, within: s.Within}
	case *procedure.Hold:
		r = holding(*a, nil)
	case *procedure.Rest:
		r = holding(a.Hold, a.Settings)
	case *procedure.Watch:
		r = holding(procedure.Hold{For: a.For}, nil)
	case *procedure.Grid:
		r = &gridRunner{name: s.Name, spec: a, settleUntil: compile(a.SettleUntil)}
	case *procedure.Play:
		r = &playRunner{spec: a, until: until, within: s.Within}
	case *procedure.Seek:
		r = &seekRunner{name: s.Name, spec: a, within: s.Within, until: compile(a.Until), recovered: compile(a.Recovered)}
	case *procedure.Acquire:
		r = &acquireRunner{name: s.Name, spec: a}
	case *procedure.Ask:
		r = &askRunner{name: s.Name, spec: a, within: s.Within}
	case *procedure.Signal:
		r = &signalRunner{spec: a}
	case *procedure.Drive:
		d := &driveRunner{spec: a, until: until, within: s.Within, volts: p.Columns.Index(a.Seat + ".volts"),
			amps: p.Columns.Index(a.Seat + ".amps"), lastT: math.NaN()}
		for _, e := range a.Ends {
			d.ends = append(d.ends, compile(e.When))
		}
		r = d
	case *procedure.Repeat:
		r = &repeatRunner{spec: a, waiting: waiting{until: compile(a.Until)}}
	case *procedure.Again:
		r = &jumpRunner{to: a.Head}
	case *procedure.When:
		r = &whenRunner{spec: a, waiting: waiting{until: compile(a.If)}}
	case *procedure.Skip:
		r = &jumpRunner{to: a.To}
	default:
		return nil, fmt.Errorf("there is no way to execute %T", a)
	}
	return r, failed
}
