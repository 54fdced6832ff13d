package trace

import "math"

// total is a charge or energy that an instrument counts by itself. Nil is one of an instrument that does not.
type total struct {
	known bool
	last  float64 // the total when it was read last
	since float64 // what was counted by readings since then
}

// begin takes a total as where counting begins.
func (t *total) begin(now float64) {
	if t != nil && !math.IsNaN(now) {
		*t = total{known: true, last: now}
	}
}

// forget has the next total be where counting begins.
func (t *total) forget() {
	if t != nil {
		*t = total{}
	}
}

// grown is what is counted for the time since the last frame, of which the readings say that so much flowed. It is what
// the total has grown by, less what was counted by the readings meanwhile, while it was missing or stood still.
func (t *total) grown(now, byReadings float64) float64 {
	switch {
	case t == nil:
		return byReadings
	case math.IsNaN(now), t.known && now == t.last:
		// No news: between two steps of a coarse total, or of an instrument that has stopped to count.
		t.since += byReadings
		return byReadings
	case !t.known, t.beganAnew(now, byReadings):
		t.begin(now)
		return byReadings
	}
	grown := now - t.last - t.since
	t.begin(now)
	return grown
}

// beganAnew tells whether a total was set back to 0 meanwhile: it stands at no more than flowed since, and what it lost
// is far more than that.
func (t *total) beganAnew(now, byReadings float64) bool {
	flowed := math.Abs(t.since+byReadings) + smallCount
	return math.Abs(now) <= 2*flowed && math.Abs(now-t.last) > 4*flowed
}
