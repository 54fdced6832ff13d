package simulation

import (
	"strings"
	"time"
)

const (
	// safeAgainWithin is how fast a service that starts has switched off what one before it has left on.
	safeAgainWithin = 300 * time.Millisecond
	// onRecordAfter is how long a run is under way that goes on after a kill: what it needs for that is on record.
	onRecordAfter = 1500 * time.Millisecond
)

// safeAgain: a service that starts makes safe before anything else, whatever the disk does.
func (j *judged) safeAgain() {
	for _, start := range j.starts[1:] {
		by := start.Add(safeAgainWithin)
		if !j.reachable(start.Add(-time.Second), by) || j.fallsIn(start, by) || j.leaveSince(start, by) || by.After(j.ended) {
			continue
		}
		for _, l := range j.lit {
			if l.at(start) && l.at(by) {
				j.breaks(by, "the service was started at %.3f s, and the %s is on %s later", start.Sub(j.began).Seconds(),
					l.what, safeAgainWithin)
			}
		}
	}
}

// fallsIn tells whether the service came to its end, or stood still, within a time.
func (j *judged) fallsIn(from, to time.Time) bool {
	for _, d := range j.downs {
		if d.what != "no warden" && !d.from.Before(from) && d.from.Before(to) || d.what == "stalled" && d.from.Before(to) &&
			from.Before(d.to) {
			return true
		}
	}
	return false
}

// goesOn: a run goes on whose procedure allows that, when nothing but a standstill or the death of the service came in
// between.
func (j *judged) goesOn() {
	if !j.begunToResume() || len(j.lit) == 0 || len(j.diskTrouble) > 0 || !j.isLeftAlone() ||
		!j.reachable(j.began, j.ended) {
		return
	}
	for _, d := range j.downs {
		silent := d.to.Sub(d.from) + 2*j.plan.Interval // since an instrument was heard last, at most
		if d.from.Before(j.lit[0].from.Add(onRecordAfter)) || d.what == "stalled" && silent >= lostAfter {
			return // it may be taken for lost instruments: here a standstill stops connections, and no clock
		}
	}
	for _, what := range []string{"source", "load"} {
		was, is := false, false
		for _, l := range j.lit {
			was, is = was || l.what == what, is || l.what == what && l.at(j.ended.Add(-time.Millisecond)) // before it is stopped
		}
		if was && !is {
			j.breaks(j.ended, "the run did not go on: the %s is off, though nothing but the service stood in its way", what)
		}
	}
}

// begunToResume tells whether people began a procedure in the bay whose runs go on, and no other.
func (j *judged) begunToResume() bool {
	for _, e := range j.scenario.Events {
		if e.Kind == "start" && e.Bay == j.bay && !strings.HasSuffix(e.Words, "-resume") {
			return false
		}
	}
	return true
}

// isLeftAlone tells whether people have begun the bay's procedure, early, and done nothing else in it.
func (j *judged) isLeftAlone() bool {
	begins := 0
	for _, a := range j.acts {
		switch {
		case !j.concerns(a) || a.kind == "note":
		case a.kind == "start" && a.err == nil && a.sent.Before(j.began.Add(began)):
			begins++
		default:
			return false
		}
	}
	return begins == 1
}
