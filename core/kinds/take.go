package kinds

import (
	"fmt"

	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// Readings that a person takes: the stage waits, shows what it would take, takes it when somebody says so, and waits
// again, for one more at another voltage say, until somebody says that it is done.

// readLimits reads {meter.amps: {min: 1 A, max: 2 A, marginal: 100 mA}}.
func (a *Acquire) readLimits(r *procedure.Reader, n document.Node) {
	if !n.Present() {
		return
	}
	if a.Ask == "" {
		n.Fail("limits are shown to the person who takes the readings; say with ask what that one is to do")
	}
	a.Limits = map[string]stage.TakeLimit{}
	for _, e := range n.Entries() {
		column := r.Column(e.At)
		if column == "" {
			continue
		}
		unit := trace.UnitOf(column)
		limit := stage.TakeLimit{}
		number := func(to **float64) func(document.Node) {
			return func(n document.Node) {
				x := r.Value(n, unit.Dim) / unit.Factor
				*to = &x
			}
		}
		e.Value.Fields(map[string]func(document.Node){"min": number(&limit.Min), "max": number(&limit.Max),
			"marginal": func(n document.Node) { limit.Marginal = r.Value(n, unit.Dim) / unit.Factor }})
		if limit.Min == nil && limit.Max == nil {
			e.Value.Fail("a limit has min, max or both")
		}
		a.Limits[column] = limit
	}
}

// takeRunner takes a reading whenever a person says so.
type takeRunner struct{ *acquireRunner }

func (r *takeRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.row = acquireState{Since: m.Now(), Asks: true}
	return r.Asked(), stage.GoesOn
}

// Prompting implements stage.Prompting: nobody is asked while a reading is taken.
func (r *takeRunner) Prompting() *stage.Prompt {
	if !r.row.Asks {
		return nil
	}
	return &stage.Prompt{Form: stage.AskTake, Text: r.spec.Ask, Take: stage.Taking{Row: r.spec.Row,
		Columns: r.spec.Columns, Taken: r.row.Done, Least: r.spec.Times, Limits: r.spec.Limits}}
}

// Asked implements stage.Asking.
func (r *takeRunner) Asked() []stage.Effect {
	p := r.Prompting()
	if p == nil {
		return nil
	}
	return []stage.Effect{stage.Ask{Prompt: *p, T: r.row.Since, Stage: r.name}}
}

// Answered takes a reading, or ends the stage.
func (r *takeRunner) Answered(m *stage.Machine, e stage.Answered) ([]stage.Effect, stage.Verdict) {
	p := r.Prompting()
	if p == nil {
		return nil, stage.GoesOn
	}
	if _, err := stage.AnswerOf(p, e.Text); err != nil {
		return nil, stage.GoesOn
	}
	if e.Text == stage.TakeDone {
		return []stage.Effect{stage.Dismiss{}, stage.NewMark(e.T, record.MarkAnswer,
			fmt.Sprintf("%s has taken %d readings into %s", e.By, r.row.Done, r.spec.Row))}, stage.Over
	}
	r.row.Asks, r.row.By, r.row.Since, r.row.frames = false, e.By, m.Now(), nil
	return []stage.Effect{stage.Dismiss{}}, stage.GoesOn
}

func (r *takeRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	if r.row.Asks {
		return nil, stage.GoesOn
	}
	point, taken := r.take(m, f)
	if !taken {
		return nil, stage.GoesOn
	}
	r.row.Asks, r.row.Since = true, f.T
	effects := []stage.Effect{stage.Point{Point: point}, stage.NewMark(f.T, record.MarkPointDone,
		fmt.Sprintf("%s, reading %d, taken by %s", r.spec.Row, r.row.Done, r.row.By))}
	return append(effects, r.Asked()...), stage.GoesOn
}

// Leave implements stage.Leaving.
func (r *takeRunner) Leave() []stage.Effect { return []stage.Effect{stage.Dismiss{}} }

func (r *takeRunner) Progress(*stage.Machine) (share, left float64, detail string) {
	return min(float64(r.row.Done)/float64(r.spec.Times), 1), 0,
		fmt.Sprintf("%d taken, waits for a person to take one", r.row.Done)
}
