package engine

import (
	"time"

	"usherbench/api"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// eachBay is how much time watchers of all bays have for the news of one.
const eachBay = 5 * time.Millisecond

// seldom is how often something of each bay is told: the more bays there are, the less often, so that whoever watches
// them all can keep up.
func (e *Engine) seldom(usual time.Duration) time.Duration {
	return max(usual, time.Duration(e.nBays.Load())*eachBay)
}

// ask shows a prompt, or takes it away.
func (r *liveRun) ask(prompt *stage.Ask) {
	if prompt == nil && r.prompt == nil {
		return
	}
	r.prompt = prompt
	b := r.bay
	b.mu.Lock()
	b.prompt = prompt
	b.mu.Unlock()
	b.publish()
}

func (r *liveRun) mark(m record.Mark) {
	r.recorder.Mark(m)
	b := r.bay
	if m.Kind == record.MarkStage {
		b.mu.Lock()
		if i := r.listed[r.machine.Stage()]; i < len(b.stages) {
			b.stages[i].Began = &m.T
		}
		b.mu.Unlock()
	}
	if m.Kind == record.MarkGuard {
		r.tripped = m.Label // goes to the journal when the outputs are off: the disk may be slow
	}
	told := api.MarkEvent{Bay: b.name, Run: r.record.ID, Mark: m}
	if r.ending {
		r.untold = append(r.untold, told)
		return
	}
	b.engine.Hub.Publish(api.EventMark, b.name, told)
}

// tell updates readouts on every frame, and watchers as often as a screen can show.
func (r *liveRun) tell(frame, seen trace.Frame) {
	b := r.bay
	b.mu.Lock()
	b.keep(frame.Values[:len(b.sampler.Columns)])
	b.rate.frame(frame.T)
	b.mu.Unlock()
	r.frames.frames = append(r.frames.frames, frame)
	if time.Since(r.frames.sent) >= b.engine.seldom(framesInterval) {
		b.engine.Hub.Publish(api.EventFrames, b.name, r.frames.take(b.name, r.record.ID, r.record.Columns))
	}
	if time.Since(r.told) >= b.engine.seldom(statusInterval) {
		r.told = time.Now()
		guards := r.machine.Guards(seen)
		b.mu.Lock()
		b.guards = guards
		b.mu.Unlock()
		r.showProgress()
	}
}

// tellLast tells watchers of the last frames and marks, when the outputs are off.
func (r *liveRun) tellLast() {
	if len(r.frames.frames) > 0 {
		r.bay.engine.Hub.Publish(api.EventFrames, r.bay.name, r.frames.take(r.bay.name, r.record.ID, r.record.Columns))
	}
	for _, told := range r.untold {
		r.bay.engine.Hub.Publish(api.EventMark, r.bay.name, told)
	}
	r.bay.publish()
}

// showProgress tells watchers how far the run is.
func (r *liveRun) showProgress() {
	b := r.bay
	progress, adjustable := r.machine.Progress(), r.adjustables()
	progress.Stage = min(r.listed[progress.Stage], max(len(b.stages)-1, 0))
	b.mu.Lock()
	b.progress, b.adjustable = &progress, adjustable
	b.mu.Unlock()
	b.publish()
}

func (b *Bay) setState(s api.BayState) {
	b.mu.Lock()
	b.state = s
	b.mu.Unlock()
	b.publish()
}
