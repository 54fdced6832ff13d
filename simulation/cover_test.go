package simulation

import (
	"math"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/engine/outputs"
	"usherbench/simbench"
)

// coverWithin is how long after the reading by which an interlock is open its output is off, beside the interval of the
// frames: the frame itself, and three exchanges with the instrument.
const coverWithin = outputs.JoinWait + 100*time.Millisecond

// mostHarmless is below which volts a cover may be called safe.
const mostHarmless = 30

// unlocked: an output behind an interlock that opens is off with the next reading, and none goes on behind one that is
// open.
func (j *judged) unlocked() {
	for _, f := range j.faults {
		if f.what != simbench.OpenInterlock || !strings.HasPrefix(f.instrument, "sourcemeter") ||
			!slices.Contains(j.instruments(), f.instrument) || j.overlapped(f) {
			continue
		}
		every := max(j.plan.Interval, 250*time.Millisecond) // by hand it is read as an idle bay is
		by := f.from.Add(every + coverWithin)
		for _, l := range j.lit {
			switch {
			case l.what != "source":
			case l.at(f.from) && l.at(by) && by.Before(f.to) && !j.downIn(f.from, by):
				j.breaks(by, "the interlock is open since %.3f s, and the source is on", f.from.Sub(j.began).Seconds())
			case l.from.After(f.from.Add(time.Millisecond)) && l.from.Before(f.to):
				j.breaks(l.from, "the source went on behind an interlock that is open since %.3f s",
					f.from.Sub(j.began).Seconds())
			}
		}
	}
}

// seenCovers holds what people are told of covers against what is behind them just now: volts only fall once nothing
// feeds them, so what is safe by a reading of before is so still.
func (h *house) seenCovers(bays []api.Bay) {
	for _, b := range bays {
		s, err := h.bench.State(b.Name)
		if err != nil || b.Cover == nil || !b.Cover.SafeToOpen || h.blindIn(b) {
			continue
		}
		if s.SourceOn || math.Abs(s.Truth.Line.Volts) >= mostHarmless {
			h.amiss("%s is told to be safe to open at %s, with %.0f V behind it", b.Name, time.Since(h.began),
				s.Truth.Line.Volts)
		}
	}
}

// blindIn tells whether an instrument of a bay reads something else than what is there, or has just done so.
func (h *house) blindIn(b api.Bay) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.ContainsFunc(h.faults, func(f fault) bool {
		wrong := f.what == simbench.OpenSense || f.what == simbench.Behind || f.what == simbench.Garbage
		return wrong && f.to.After(time.Now().Add(-time.Second)) &&
			slices.ContainsFunc(b.Seats, func(s api.Seat) bool { return s.Instrument == f.instrument })
	})
}
