package stage

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"

	"usherbench/core/condition"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/trace"
)

// gridRunner visits operating points: at each it commands, settles, averages, and gives one point.
type gridRunner struct {
	name        string
	spec        *procedure.Grid
	settleUntil *condition.Condition
	grid        gridState
}

type gridState struct {
	Index   int              `json:"index"`
	Since   float64          `json:"since"`          // when the place's commands were in force
	Settled float64          `json:"settled"`        // when averaging began; −1 while settling
	Past    *condition.State `json:"past,omitempty"` // only in a snapshot
	// Frames are those of the average so far, only in a snapshot.
	Frames keptFrames `json:"frames,omitempty"`
	frames []trace.Frame
}

func (r *gridRunner) enter(*Machine) ([]Effect, verdict) {
	r.grid = gridState{Index: -1}
	return r.visit(nil), goesOn
}

// visit goes to the next place and commands only what differs from the place before.
func (r *gridRunner) visit(effects []Effect) []Effect {
	r.grid.Index++
	place := r.spec.Place(r.grid.Index)
	if r.grid.Index > 0 {
		before := r.spec.Place(r.grid.Index - 1)
		changed := place[:0:0]
		for i, s := range place {
			if s != before[i] {
				changed = append(changed, s)
			}
		}
		place = changed
	}
	r.grid.Settled, r.grid.frames = -1, nil
	if r.settleUntil != nil {
		r.settleUntil.Reset()
	}
	return append(effects, Command{Settings: place})
}

func (r *gridRunner) applied(_ *Machine, t float64) ([]Effect, verdict) {
	r.grid.Since = t
	return []Effect{Mark{t, MarkCommand, settingsLabel(r.spec.Place(r.grid.Index))}}, goesOn
}

func (r *gridRunner) frame(m *Machine, f trace.Frame) ([]Effect, verdict) {
	if r.grid.Settled < 0 && !r.settled(m, f) {
		return nil, goesOn
	}
	r.grid.frames = append(r.grid.frames, f)
	past := f.T - r.grid.Settled
	if past < r.spec.Average || r.complete() < fewestReadings && past < longestAverage*r.spec.Average {
		return nil, goesOn
	}
	effects := []Effect{Point{r.point(m)}, Mark{f.T, MarkPointDone, fmt.Sprintf("point %d of %d", r.grid.Index+1,
		r.spec.Places())}}
	if r.grid.Index+1 == r.spec.Places() {
		return effects, over
	}
	return r.visit(effects), goesOn
}

// A point is averaged for its time, and longer when a slow bench has given fewer readings than this meanwhile,
// up to so many times the time asked for.
const fewestReadings, longestAverage = 5, 10

// complete counts the frames of the average in which no reading is missing.
func (r *gridRunner) complete() (n int) {
	for _, f := range r.grid.frames {
		if !slices.ContainsFunc(f.Values, math.IsNaN) {
			n++
		}
	}
	return n
}

// settled tells whether averaging begins with this frame: the settling time is over, or the condition holds. A
// condition that does not come to hold in time lets the average begin all the same; the figure then says that
// the point was not settled.
func (r *gridRunner) settled(m *Machine, f trace.Frame) bool {
	past := f.T - r.grid.Since
	holds := r.settleUntil != nil && r.settleUntil.Evaluate(m.sample(f)) == condition.True
	if !holds && past < r.spec.Settle {
		return false
	}
	r.grid.Settled = f.T
	return true
}

// point averages the frames that were collected.
func (r *gridRunner) point(m *Machine) figure.Point {
	return m.point(r.name, r.grid.frames, nil)
}

// point averages frames to a point, of all columns or of some.
func (m *Machine) point(name string, frames []trace.Frame, only []string) figure.Point {
	p := figure.Point{
		Index: m.state.Points, Stage: name, T0: frames[0].T, T1: frames[len(frames)-1].T,
		Place: maps.Clone(m.state.Setpoints), Averages: averages(m.program.Columns, frames, only),
	}
	m.state.Points++
	return p
}

func averages(columns trace.Columns, frames []trace.Frame, only []string) map[string]trace.Average {
	all := map[string]trace.Average{}
	for i, column := range columns {
		if only != nil && !slices.Contains(only, column) {
			continue
		}
		s := trace.Series{T: make([]float64, len(frames)), X: make([]float64, len(frames))}
		for k, f := range frames {
			s.T[k], s.X[k] = f.T, f.Values[i]
		}
		// The resolution enters with the accuracy, when a figure is computed. An average of too few readings keeps its count.
		a, err := trace.SettledAverage(s, 0)
		if err != nil {
			a.Mean = 0
		}
		all[column] = a
	}
	return all
}

func (r *gridRunner) progress(m *Machine) (share, left float64, detail string) {
	places := r.spec.Places()
	each := r.spec.Settle + r.spec.Average
	here := min(max(m.state.Now-r.grid.Since, 0), each)
	done := float64(r.grid.Index) + here/each
	return done / float64(places), (float64(places) - done) * each, fmt.Sprintf("%d of %d points", r.grid.Index, places)
}

func (r *gridRunner) shift(s float64) {
	r.grid.Since += s
	shifted(s, r.settleUntil)
	if r.grid.Settled >= 0 {
		r.grid.Settled = -1 // what was averaged before a pause is averaged anew
		r.grid.frames = nil
	}
}

func (r *gridRunner) save() any {
	g := r.grid
	if r.settleUntil != nil {
		past := r.settleUntil.State()
		g.Past = &past
	}
	g.Frames = keptOf(g.frames)
	return g
}

func (r *gridRunner) load(data []byte) error {
	if err := json.Unmarshal(data, &r.grid); err != nil {
		return err
	}
	r.grid.frames, r.grid.Frames = r.grid.Frames.frames(), nil
	if r.settleUntil != nil && r.grid.Past != nil {
		r.settleUntil.Restore(*r.grid.Past)
	}
	r.grid.Past = nil
	return nil
}

// keptFrames are frames as a snapshot holds them; missing readings are null.
type keptFrames []keptFrame

type keptFrame struct {
	T      float64    `json:"t"`
	Values []*float64 `json:"values"`
}

func keptOf(frames []trace.Frame) keptFrames {
	kept := make(keptFrames, len(frames))
	for k, f := range frames {
		kept[k] = keptFrame{f.T, make([]*float64, len(f.Values))}
		for i, x := range f.Values {
			if !math.IsNaN(x) {
				kept[k].Values[i] = &x
			}
		}
	}
	return kept
}

func (kept keptFrames) frames() []trace.Frame {
	var frames []trace.Frame
	for _, k := range kept {
		f := trace.Frame{T: k.T, Values: make([]float64, len(k.Values))}
		for i, x := range k.Values {
			f.Values[i] = trace.Missing
			if x != nil {
				f.Values[i] = *x
			}
		}
		frames = append(frames, f)
	}
	return frames
}
