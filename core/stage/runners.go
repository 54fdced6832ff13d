package stage

import (
	"fmt"

	"usherbench/core/procedure"
)

// newRunner makes the runner of a stage: that of its kind, or one that only decides which stage is next.
func newRunner(p *procedure.Program, s procedure.Stage) (Runner, error) {
	parts := &Parts{Program: p, Stage: s}
	var r Runner
	switch a := s.Action.(type) {
	case Runnable:
		r = a.Run(parts)
	case *procedure.Repeat:
		r = &repeatRunner{spec: a, Waiting: Waiting{Until: parts.Condition(a.Until)}}
	case *procedure.Offered:
		r = newOfferedRunner(parts, a)
	case *procedure.When:
		r = &whenRunner{spec: a, Waiting: Waiting{Until: parts.Condition(a.If)}}
	case *procedure.Again:
		r = &jumpRunner{to: a.Head}
	case *procedure.Skip:
		r = &jumpRunner{to: a.To}
	default:
		return nil, fmt.Errorf("there is no way to execute %T", a)
	}
	return r, parts.err
}
