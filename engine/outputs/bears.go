package outputs

import (
	"fmt"
	"math"
	"time"

	"usherbench/core/budget"
)

// What stands in a seat may bear a power for moments that it does not bear for long. There is one way to know: every
// frame notes what it bears, whoever has the bay, and [Sampler.Trouble] finds one that could not bear it until the next
// ones. Whoever is about to have it bear something asks [Sampler.Affords] first.

// reacts is how long it takes from a frame until outputs are off, wall time.
const reacts = 400 * time.Millisecond

// around is for how much longer than it is meant to a burst is borne: until it is triggered, and until its samples are
// fetched and it is switched off, wall time.
const around = 600 * time.Millisecond

// bearing is what a seat has borne of late, in the bench's own time. Of what was before nobody knows.
type bearing struct {
	*budget.Ledger
	watts float64   // as it was read last
	read  time.Time // when that was, or when the seat was last of nobody's concern
}

// unread is for how long what is on may be without a reading of what it bears, wall time.
const unread = 2 * time.Second

// Pace says how many seconds of the bench's clock pass in one of the wall's.
func (s *Sampler) Pace(factor float64) { s.pace = factor }

// now is the bench's own time.
func (s *Sampler) now() float64 { return time.Since(s.since).Seconds() * s.pace }

// bear notes what a seat bears. Between two frames it counts as the larger of both; while a reading is missing it
// counts as the one before.
func (s *Sampler) bear(x *Seat) {
	limit := x.First().Dialect.Bears
	if !limit.Bounds() {
		return
	}
	now := s.now()
	if x.bears.Ledger == nil {
		x.bears.Ledger = budget.New(limit, now)
	}
	watts := x.bears.watts
	volts, amps := s.raw(x, "volts"), s.raw(x, "amps")
	switch read := math.Abs(volts * amps); {
	case !math.IsNaN(read):
		watts, x.bears.read = read, time.Now()
	case !x.Energised():
		x.bears.read = time.Now()
	}
	x.bears.Take(now, math.Max(watts, x.bears.watts))
	x.bears.watts = watts
}

// overborne says what is wrong with a seat that cannot bear what it bears for much longer; empty: it can.
func (s *Sampler) overborne(x *Seat) string {
	if x.bears.Ledger == nil {
		return ""
	}
	if time.Since(x.bears.read) > unread {
		return fmt.Sprintf("what %s (%s) bears cannot be read, and it may bear %.4g W on average over %.4g s", x.First().Name,
			x.Name, x.bears.Watts, x.bears.Over)
	}
	if x.bears.watts <= x.bears.Watts ||
		x.bears.Holds(0, x.bears.watts, reacts.Seconds()*s.pace) {
		return ""
	}
	return fmt.Sprintf("%s (%s) bears %.4g W, and may bear %.4g W on average over %.4g s; it has borne %.4g W, so "+
		"outputs go off", x.First().Name, x.Name, x.bears.watts, x.bears.Watts, x.bears.Over, x.bears.Mean())
}

// Affords tells whether a seat may bear a power for a time, s of the bench's clock, from now on, and whether it ever
// may. What has no bound bears everything.
func (s *Sampler) Affords(seat string, watts, seconds float64) (now, ever bool) {
	for _, x := range s.seats {
		if x.Name == seat && x.bears.Ledger != nil {
			seconds += (around + reacts).Seconds() * s.pace // until it is switched off again it is borne too
			return x.bears.Holds(0, watts, seconds), x.bears.Ever(watts, seconds)
		}
	}
	return true, true
}
