package engine

import (
	"fmt"
	"math"
	"slices"
	"time"

	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// leastInterval is the least time between frames, wall time, on a bench whose clock runs faster: what is asked
// for in bench time would take all of the computer.
const leastInterval = 5 * time.Millisecond

// coarse says that an accelerated run had fewer frames than its procedure asks for; empty if it had as many.
func (r *liveRun) coarse() string {
	asked, factor := r.program.Fastest(), r.bay.engine.timeFactor
	if factor <= 1 || r.ticks < 2 || r.lastT <= 0 {
		return ""
	}
	if mean := r.lastT / float64(r.ticks); mean > 1.5*asked {
		return quantity.Sprintf("frames came every %.3g s in the mean, where %.3g s were asked for: the bench runs at ×%g",
			mean, asked, factor)
	}
	return ""
}

// standstills sums up the times in which a run had no readings though it was due to have some: the computer was
// busy elsewhere, or an instrument kept everybody waiting.
type standstills struct {
	times                  int
	total, longest, moment float64 // bench time, s; the longest one began at moment
}

// longSilence is the time without readings, wall time, that a run states, if it is also several frames long.
const longSilence = 100 * time.Millisecond

// between notes the time from one frame to the next, both bench time, s.
func (s *standstills) between(before, t float64, interval time.Duration, factor float64) {
	silence := t - before
	if silence <= max(longSilence, 4*interval).Seconds()*factor {
		return
	}
	s.times++
	s.total += silence
	if silence > s.longest {
		s.longest, s.moment = silence, before
	}
}

// String says it to people; empty if there was nothing of the kind.
func (s standstills) String() string {
	if s.times == 0 {
		return ""
	}
	times := "once"
	if s.times > 1 {
		times = fmt.Sprintf("%d times", s.times)
	}
	return quantity.Sprintf("readings stayed away %s, for %.6g s in all and %.4g s at most, from %.6g s on", times,
		s.total, s.longest, s.moment)
}

// absences follow for how long each reading of a run stays away.
type absences struct {
	columns []string
	places  []int          // of the columns in a frame
	atRest  []bool         // which are read only while nothing is on
	read    []float64      // when each was read last, bench time, s; negative: not yet
	rhythms []trace.Rhythm // how often each usually is
	least   float64        // bench time, s
}

// longAbsence is the time without readings, wall time, that leaves a mark where it is also an outage.
const longAbsence = time.Second

func (b *Bay) newAbsences() *absences {
	a := &absences{least: longAbsence.Seconds() * b.engine.timeFactor}
	for _, x := range b.outputs.Seats() {
		for _, q := range x.Gives {
			if i := b.sampler.Columns.Index(x.Name + "." + q); i >= 0 {
				a.columns, a.places = append(a.columns, x.Name+"."+q), append(a.places, i)
				a.atRest = append(a.atRest, x.Kind.AtRest)
			}
		}
	}
	a.rhythms = make([]trace.Rhythm, len(a.columns))
	a.forget()
	return a
}

// forget begins anew: what was read before says nothing about what comes.
func (a *absences) forget() { a.read = slices.Repeat([]float64{-1}, len(a.columns)) }

// frame takes the readings of a frame, with something on or not, and tells which came again after a long time.
func (a *absences) frame(t float64, values []float64, on bool) (back []record.Missed) {
	for i, place := range a.places {
		if on && a.atRest[i] {
			a.read[i] = -1
		}
		if math.IsNaN(values[place]) {
			continue
		}
		if from := a.read[i]; from >= 0 && a.rhythms[i].Outage(t-from) && t-from >= a.least {
			back = a.add(back, i, t)
		}
		a.read[i] = t
	}
	return a.worded(back)
}

// end tells which readings are away as the run ends.
func (a *absences) end(t float64) (away []record.Missed) {
	for i, from := range a.read {
		if from >= 0 && a.rhythms[i].Late(t-from) && t-from >= a.least {
			away = a.add(away, i, t)
		}
	}
	return a.worded(away)
}

// add puts a column to those that were away for the same time.
func (a *absences) add(all []record.Missed, i int, t float64) []record.Missed {
	k := slices.IndexFunc(all, func(m record.Missed) bool { return m.From == a.read[i] })
	if k < 0 {
		all, k = append(all, record.Missed{From: a.read[i], To: t}), len(all)
	}
	all[k].Columns = append(all[k].Columns, a.columns[i])
	return all
}

// worded names no columns where all were away.
func (a *absences) worded(all []record.Missed) []record.Missed {
	for k := range all {
		if len(all[k].Columns) == len(a.columns) {
			all[k].Columns = nil
		}
	}
	return all
}

// fastestFrame is the least time between frames, wall time, when a program wants them soon.
const fastestFrame = 20 * time.Millisecond

// pause is the time to the next frame, wall time: shorter than usual when something is about to happen.
func (r *liveRun) pause() time.Duration {
	wanted := r.machine.Pace() / r.bay.engine.timeFactor
	if wanted >= r.interval.Seconds() {
		return r.interval
	}
	return max(time.Duration(wanted*float64(time.Second)), min(fastestFrame, r.interval))
}
