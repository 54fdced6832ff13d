package engine

import (
	"math"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/trace"
	"usherbench/store"
)

// keeper decides which frames are recorded: by the rule of the stage, and those on both sides of every command, mark
// and point, and of every crossing of a level at which a figure is taken.
type keeper struct {
	columns trace.Columns
	every   float64      // of the rule in force
	due     float64      // bench time of the next frame to keep
	held    *trace.Frame // the newest frame, not recorded yet
	last    []float64    // of the frame that was kept last
	lastT   float64
	force   bool // the next frame follows a command or an event
	levels  []float64
	volts   []int // columns that may cross them
	before  []float64
	crossed float64 // when a crossing was kept last
	// past is how long frames wait before it is decided whether they are kept, s, since an event may still want them:
	// until then they are in recent.
	past   float64
	recent []recentFrame
	until  float64 // every frame is kept until then
}

// recentFrame is a frame that waits, and whether it is kept in any case.
type recentFrame struct {
	trace.Frame
	keep bool
}

func newKeeper(columns trace.Columns, levels []float64, past float64) keeper {
	k := keeper{columns: columns, lastT: math.Inf(-1), levels: levels, crossed: math.Inf(-1), past: past,
		until: math.Inf(-1)}
	for i, column := range columns {
		if strings.HasSuffix(column, ".volts") {
			k.volts = append(k.volts, i)
		}
	}
	return k
}

// crossingPause is how seldom a crossing is kept, s: volts that stay at a level cross it with every frame.
const crossingPause = 1.0

// crosses tells whether a level lies between the volts of this frame and of the one before.
func (k *keeper) crosses(f trace.Frame) (crosses bool) {
	for _, level := range k.levels {
		for _, i := range k.volts {
			if k.before != nil && (k.before[i]-level)*(f.Values[i]-level) <= 0 && k.before[i] != f.Values[i] {
				crosses = true
			}
		}
	}
	k.before = f.Values
	if crosses = crosses && f.T-k.crossed >= crossingPause; crosses {
		k.crossed = f.T
	}
	return crosses
}

// slack lets a frame that comes a little early count as due, so that an interval of 100 ms is not made 120 ms
// by rounding.
const slack = 0.1

func (k *keeper) frame(r *store.Recorder, f trace.Frame, eventful bool, rule procedure.Record) {
	if rule.Every != k.every {
		k.every, k.due = rule.Every, math.Min(k.due, f.T)
	}
	f = k.chosen(f, rule.Columns)
	eventful = k.crosses(f) || eventful
	eventful = eventful || f.T <= k.until
	due := rule.Every > 0 && f.T >= k.due-slack*rule.Every || rule.Every == 0 && k.changed(f, rule)
	if !due && !k.force && !eventful {
		k.hold(r, f)
		return
	}
	if eventful {
		k.flush(r)
	}
	k.write(r, f)
	k.held, k.force, k.last, k.lastT = nil, eventful, f.Values, f.T
	if due && rule.Every > 0 {
		k.due += rule.Every
		if k.due <= f.T { // the bench is slower than the record asks for
			k.due = f.T + rule.Every
		}
	}
}

// changed tells whether a frame differs enough from the last that was kept, or that one is too long ago.
func (k *keeper) changed(f trace.Frame, rule procedure.Record) bool {
	if k.last == nil || f.T-k.lastT >= rule.AtLeast*(1-1e-9) {
		return true
	}
	for column, by := range rule.Changes {
		i := k.columns.Index(column)
		if i >= 0 && (math.Abs(f.Values[i]-k.last[i]) >= by || math.IsNaN(f.Values[i]) != math.IsNaN(k.last[i])) {
			return true
		}
	}
	return false
}

// chosen leaves out the columns that the rule does not keep.
func (k *keeper) chosen(f trace.Frame, columns []string) trace.Frame {
	if columns == nil {
		return f
	}
	values := make([]float64, len(f.Values))
	for i, x := range f.Values {
		values[i] = math.NaN()
		if i < len(k.columns) && slices.Contains(columns, k.columns[i]) {
			values[i] = x
		}
	}
	return trace.Frame{T: f.T, Values: values}
}

// command keeps the frame before a command, and has the next one kept.
func (k *keeper) command(r *store.Recorder) {
	k.flush(r)
	k.force = true
}

// flush keeps the newest frame.
func (k *keeper) flush(r *store.Recorder) {
	switch {
	case k.held != nil:
		r.Frame(*k.held)
		k.held = nil
	case len(k.recent) > 0:
		k.recent[len(k.recent)-1].keep = true
	}
}

// hold has a frame that is not kept wait, in case that something follows which wants it.
func (k *keeper) hold(r *store.Recorder, f trace.Frame) {
	if k.past == 0 {
		k.held = &f
		return
	}
	k.wait(r, recentFrame{f, false})
}

// write records a frame, when nothing can come before it any more.
func (k *keeper) write(r *store.Recorder, f trace.Frame) {
	if k.past == 0 {
		r.Frame(f)
		return
	}
	k.wait(r, recentFrame{f, true})
}

// wait has a frame wait behind those before it, of which the oldest are decided.
func (k *keeper) wait(r *store.Recorder, f recentFrame) {
	k.recent = append(k.recent, f)
	old := 0
	for old < len(k.recent) && k.recent[old].T < f.T-k.past {
		if k.recent[old].keep {
			r.Frame(k.recent[old].Frame)
		}
		old++
	}
	k.recent = k.recent[old:]
}

// all keeps every frame from a time on, as far as it is still at hand, until another.
func (k *keeper) all(from, until float64) {
	for i := range k.recent {
		k.recent[i].keep = k.recent[i].keep || k.recent[i].T >= from
	}
	k.until = math.Max(k.until, until)
}

// drain records what waits, the newest frame too.
func (k *keeper) drain(r *store.Recorder) {
	k.flush(r)
	for _, f := range k.recent {
		if f.keep {
			r.Frame(f.Frame)
		}
	}
	k.recent = nil
}

// framesBatch collects frames for watchers, thinned so that an accelerated bench does not flood them.
type framesBatch struct {
	frames []trace.Frame
	sent   time.Time
}

// mostFrames bounds a batch: ten batches a second of 20 frames are more than a screen shows.
const mostFrames = 20

func (b *framesBatch) take(bay, run string, columns trace.Columns) api.Frames {
	stride := (len(b.frames) + mostFrames - 1) / mostFrames
	out := api.Frames{Bay: bay, Run: run, Columns: columns, T: []float64{}, Values: make([][]*float64, len(columns))}
	// Counted from the end, so that the newest frame is always among them.
	first := (len(b.frames) - 1) % max(stride, 1)
	for k := first; k < len(b.frames); k += stride {
		out.T = append(out.T, b.frames[k].T)
	}
	for i, column := range columns {
		unit := trace.UnitOf(column)
		for k := first; k < len(b.frames); k += stride {
			out.Values[i] = append(out.Values[i], trace.InUnit(unit, b.frames[k].Values[i]))
		}
	}
	b.frames, b.sent = b.frames[:0], time.Now()
	return out
}
