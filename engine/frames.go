package engine

import (
	"fmt"
	"time"
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
		return fmt.Sprintf("frames came every %.3g s in the mean, where %.3g s were asked for: the bench runs at ×%g", mean,
			asked, factor)
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
	return fmt.Sprintf("readings stayed away %s, for %.6g s in all and %.4g s at most, from %.6g s on", times, s.total,
		s.longest, s.moment)
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
