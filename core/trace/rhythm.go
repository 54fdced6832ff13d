package trace

// Rhythm is how often something is usually known: the longest of the last intervals, outages apart. Intervals are
// uneven: what several instruments read may be known in pieces, a moment after one another, and that says nothing about
// how long nothing is known.
type Rhythm struct {
	Usual float64 `json:"usual,omitempty"` // s
	Seen  int     `json:"seen,omitempty"`  // intervals, as long as they are too few to tell an outage
}

const (
	// outage is how many usual intervals are one.
	outage = 5
	// enough intervals tell the rhythm.
	enough = 2
	// forgets is over how many intervals a rhythm that became quicker is taken over.
	forgets = 64
)

// RhythmOf is a rhythm that is known, s.
func RhythmOf(usual float64) Rhythm { return Rhythm{Usual: usual, Seen: enough} }

// Late tells whether nothing was known for longer than is usual.
func (r *Rhythm) Late(dt float64) bool { return r.Seen >= enough && dt > outage*r.Usual }

// Outage takes the next interval, s, and tells whether nothing was known in it. What comes again and again is no outage
// but another rhythm: it is taken over within a few intervals.
func (r *Rhythm) Outage(dt float64) bool {
	switch {
	case dt <= 0:
	case r.Seen < enough:
		r.Seen++
		r.Usual = max(r.Usual, dt)
	case r.Late(dt):
		r.Usual *= 2
		return true
	case dt >= r.Usual:
		r.Usual = dt
	default:
		r.Usual += (dt - r.Usual) / forgets
	}
	return false
}
