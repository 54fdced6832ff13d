package engine

import (
	"time"

	"usherbench/api"
	"usherbench/core/trace"
	"usherbench/store"
)

// keeper decides which frames are recorded: one every interval, and those on both sides of every command, mark and point.
type keeper struct {
	every float64
	due   float64      // bench time of the next frame to keep
	held  *trace.Frame // the newest frame, not recorded yet
	force bool         // the next frame follows a command
}

// slack lets a frame that comes a little early count as due, so that an interval of 100 ms is not made 120 ms by rounding.
const slack = 0.1

func (k *keeper) frame(r *store.Recorder, f trace.Frame, eventful bool) {
	due := f.T >= k.due-slack*k.every
	if !due && !k.force && !eventful {
		k.held = &f
		return
	}
	r.Frame(f)
	k.held, k.force = nil, false
	if due {
		k.due += k.every
		if k.due <= f.T { // the bench is slower than the record asks for
			k.due = f.T + k.every
		}
	}
}

// command keeps the frame before a command, and has the next one kept.
func (k *keeper) command(r *store.Recorder) {
	k.flush(r)
	k.force = true
}

// flush keeps the newest frame.
func (k *keeper) flush(r *store.Recorder) {
	if k.held != nil {
		r.Frame(*k.held)
		k.held = nil
	}
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
	for k := (len(b.frames) - 1) % max(stride, 1); k < len(b.frames); k += stride {
		f := b.frames[k]
		out.T = append(out.T, f.T)
		for i, column := range columns {
			out.Values[i] = append(out.Values[i], inUnit(column, f.Values[i]))
		}
	}
	b.frames, b.sent = b.frames[:0], time.Now()
	return out
}
