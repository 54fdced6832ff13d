package kinds

import (
	"encoding/json"
	"fmt"

	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// lastingRunner takes readings at an interval until a condition holds or a quantity is stable: a hold, with readings.
type lastingRunner struct {
	*acquireRunner
	hold *holdRunner
}

func (r *lastingRunner) Enter(m *stage.Machine) ([]stage.Effect, stage.Verdict) {
	_, _ = r.acquireRunner.Enter(m)
	return r.hold.Enter(m)
}

func (r *lastingRunner) Frame(m *stage.Machine, f trace.Frame) (effects []stage.Effect, v stage.Verdict) {
	point, taken := r.take(m, f)
	if taken {
		effects = []stage.Effect{stage.Point{Point: point}, stage.NewMark(f.T, record.MarkPointDone,
			fmt.Sprintf("%s, reading %d", r.spec.Row, r.row.Done))}
	}
	ends, v := r.hold.Frame(m, f)
	if v == stage.Over && r.row.Done == 0 { // it was so from the beginning: one reading is taken all the same
		return effects, stage.GoesOn
	}
	return append(effects, ends...), v
}

func (r *lastingRunner) Progress(m *stage.Machine) (share, left float64, detail string) {
	share, left, detail = r.hold.Progress(m)
	return share, left, fmt.Sprintf("%s, %d readings", detail, r.row.Done)
}

// Extend implements stage.Extending.
func (r *lastingRunner) Extend(s float64) { r.hold.Extend(s) }

func (r *lastingRunner) Shift(s float64) {
	r.acquireRunner.Shift(s)
	r.hold.Shift(s)
}

type lastingState struct {
	Row  json.RawMessage `json:"row"`
	Hold json.RawMessage `json:"hold"`
}

func (r *lastingRunner) Save() any {
	row, err := json.Marshal(r.acquireRunner.Save())
	hold, holdErr := json.Marshal(r.hold.Save())
	if err != nil || holdErr != nil {
		return nil // both are plain data
	}
	return lastingState{row, hold}
}

func (r *lastingRunner) Load(data []byte) error {
	var s lastingState
	if err := json.Unmarshal(data, &s); err != nil {
		return err
	}
	if err := r.acquireRunner.Load(s.Row); err != nil {
		return err
	}
	return r.hold.Load(s.Hold)
}
