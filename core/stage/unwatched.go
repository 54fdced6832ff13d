package stage

import "usherbench/core/trace"

// unwatched keeps the times in which no frame came though more were due: the computer was busy elsewhere, or somebody
// kept everybody waiting. What a unit did then nobody knows, and it is not blamed for it.
type unwatched struct {
	Rhythm trace.Rhythm `json:"rhythm"` // of the frames
	Last   float64      `json:"last"`   // when the newest one came; negative: none yet, or none since somebody was away
	Spans  []unseen     `json:"spans,omitempty"`
}

// watchedEvery begins at time 0 with frames that are expected so often, s. Where they come more slowly, that is found
// within a few of them.
func watchedEvery(interval float64) unwatched {
	return unwatched{Rhythm: trace.RhythmOf(interval)}
}

type unseen struct {
	From float64 `json:"from"`
	To   float64 `json:"to"`
}

// mostUnseen bounds the spans that are kept; of older ones nobody is waiting any longer.
const mostUnseen = 32

// frame takes the time of a frame.
func (u *unwatched) frame(t float64) {
	if usual := u.Rhythm.Usual; u.Last >= 0 && u.Rhythm.Outage(t-u.Last) {
		u.Spans = append(u.Spans, unseen{u.Last + usual, t})
		if len(u.Spans) > mostUnseen {
			u.Spans = u.Spans[1:]
		}
	}
	u.Last = t
}

// Watched is for how long somebody has looked from one time to another, s: the times in which no frame came are left
// out. Waits are in vain by it, and not by the clock.
func (m *Machine) Watched(from, to float64) float64 {
	watched := to - from
	for _, s := range m.state.Unwatched.Spans {
		watched -= max(min(s.To, to)-max(s.From, from), 0)
	}
	return watched
}
