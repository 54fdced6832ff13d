package kinds

import (
	"slices"

	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// SetKind sets things.
var SetKind = procedure.Kind{
	Word: "set", About: "sets quantities, in a safe order", Keys: procedure.Waits, Read: readSet,
}

// Set changes settings, in a safe order unless it was told otherwise.
type Set struct{ Settings []procedure.Setting }

// Kind implements procedure.Action.
func (*Set) Kind() string { return "set" }

// Extremes implements procedure.Moving.
func (s *Set) Extremes(add func(column string, low, high float64)) { extremesOf(s.Settings, add) }

// Commands implements procedure.Commanding.
func (s *Set) Commands() []procedure.Setting { return s.Settings }

// Visits implements procedure.Visiting: what was set before a measurement holds at it.
func (s *Set) Visits(column string, at func(float64) bool) bool {
	return slices.ContainsFunc(s.Settings, func(x procedure.Setting) bool { return x.Column() == column && at(x.Value) })
}

// Instant implements procedure.Instant.
func (*Set) Instant() {}

// Words implements procedure.Worded.
func (s *Set) Words() string { return procedure.SettingWords(s.Settings) }

// Run implements stage.Runnable.
func (s *Set) Run(p *stage.Parts) stage.Runner {
	return &setRunner{spec: *s, Waiting: stage.Waiting{Until: p.Condition(p.Stage.Until)}, within: p.Stage.Within}
}

// extremesOf adds the values of settings.
func extremesOf(settings []procedure.Setting, add func(column string, low, high float64)) {
	for _, x := range settings {
		if x.Word == "" {
			add(x.Column(), x.Value, x.Value)
		}
	}
}

func readSet(r *procedure.Reader, _ *procedure.Common, n document.Node) procedure.Action {
	return &Set{r.Settings(n, true)}
}

// setRunner sets things; with until it then waits.
type setRunner struct {
	stage.Waiting
	spec   Set
	within float64
}

func (r *setRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	r.Begin(m.Now())
	return []stage.Effect{stage.Command{Settings: r.spec.Settings}}, stage.GoesOn
}

func (r *setRunner) Applied(_ *stage.Machine, t float64) ([]stage.Effect, stage.Verdict) {
	r.Wait.Since = t
	effects := []stage.Effect{stage.Commanded(t, r.spec.Settings)}
	if r.Until == nil {
		return effects, stage.Over
	}
	return effects, stage.GoesOn
}

func (r *setRunner) Frame(m *stage.Machine, f trace.Frame) ([]stage.Effect, stage.Verdict) {
	return m.Await(f, r.Until, r.Wait.Since, r.within)
}

func (r *setRunner) Progress(m *stage.Machine) (share, left float64, detail string) {
	if r.Until == nil {
		return 0, 0, ""
	}
	return min((m.Now()-r.Wait.Since)/r.within, 1), 0, "until " + r.Until.Text
}
