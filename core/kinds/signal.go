package kinds

import (
	"usherbench/core/document"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
)

// SignalKind tells the operator something.
var SignalKind = procedure.Kind{
	Word: "signal", About: "tells the operator", Keys: procedure.Plain, Read: readSignal,
}

// Signal tells the operator something at once.
type Signal struct {
	Message string `json:"message"`
	Sound   bool   `json:"sound"`
}

// Kind implements procedure.Action.
func (*Signal) Kind() string { return "signal" }

// Instant implements procedure.Instant.
func (*Signal) Instant() {}

// Words implements procedure.Worded.
func (s *Signal) Words() string { return s.Message }

// Run implements stage.Runnable.
func (s *Signal) Run(*stage.Parts) stage.Runner { return &signalRunner{spec: s} }

func readSignal(r *procedure.Reader, _ *procedure.Common, n document.Node) procedure.Action {
	s := &Signal{}
	if !n.IsMap() {
		s.Message = n.Text()
		return s
	}
	n.Fields(map[string]func(document.Node){
		"message": func(n document.Node) { s.Message = n.Text() },
		"sound":   func(n document.Node) { s.Sound = n.Word("on", "off") == "on" },
	}, "message")
	return s
}

// signalRunner tells the operator something.
type signalRunner struct {
	stage.Stateless
	spec *Signal
}

func (r *signalRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	return []stage.Effect{stage.Signal{Message: r.spec.Message, Sound: r.spec.Sound, T: m.Now()},
		stage.NewMark(m.Now(), record.MarkSignal, r.spec.Message)}, stage.Over
}
