package simulation

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"usherbench/core/record"
	"usherbench/simbench"
	"usherbench/store"
)

// Times within which something must be so, as docs/safety.md promises them.
const (
	lostAfter = 600 * time.Millisecond
	// wardenWithin is how fast the outputs of a dead or stalled service are off.
	wardenWithin = time.Second
	// stopWithin is how fast a stop switches off what answers.
	stopWithin = 400 * time.Millisecond
	// lateWithin is how fast a stop switches off what answers late, but in time, however many look on.
	lateWithin = 1200 * time.Millisecond
	// guardWithin is how fast a breach of a guard that must hold for 100 ms switches off.
	guardWithin = 800 * time.Millisecond
	// watchdogWithin is how fast the watchdog of an instrument switches off what nobody looks after.
	watchdogWithin = 6500 * time.Millisecond
	// survived is how long a stall may be that nobody notices: the bench allows more.
	survived = 400 * time.Millisecond
	// alarmWithin is how fast an output that does not go off is an alarm.
	alarmWithin = 4 * time.Second
)

// lit is a time in which an output was on.
type lit struct {
	what     string
	from, to time.Time // to: zero while it is on
}

func (l lit) at(t time.Time) bool { return !t.Before(l.from) && (l.to.IsZero() || t.Before(l.to)) }

// evidence is what a bay's stand-ins saw until everything was mended.
func (h *house) evidence(bay string) (all []lit) {
	s, err := h.bench.State(bay)
	if err != nil {
		return nil
	}
	open := map[string]int{}
	for _, x := range s.History {
		if x.At.After(h.ended) {
			break
		}
		i, on := open[x.What]
		switch {
		case x.On && !on:
			all = append(all, lit{what: x.What, from: x.At})
			open[x.What] = len(all) - 1
		case !x.On && on:
			all[i].to = x.At
			delete(open, x.What)
		}
	}
	return all
}

// judge holds what happened against what is promised.
func (h *house) judge() (broken []string) {
	for _, plan := range h.scenario.Bays {
		j := judged{house: h, bay: plan.Name, lit: h.evidence(plan.Name), plan: plan}
		rules := []func(){j.stopped, j.soon, j.inOrder, j.leave, j.dead, j.breached, j.lostByHand, j.alarmed, j.retried,
			j.undisturbed, j.watchdogs, j.late, j.failedByHand, j.safeAgain, j.unlocked, j.borne}
		if !h.older && !h.setOnce { // otherwise what came after the copy is on no record, or at another time
			rules = append(rules, j.onRecord, j.setAside, j.lost, j.oneAtATime, j.goesOn, j.whole)
		}
		for _, rule := range rules {
			rule()
		}
		broken = append(broken, j.broken...)
	}
	return append(broken, h.left...)
}

// judged is a bay that is judged.
type judged struct {
	*house
	bay    string
	plan   BayPlan
	lit    []lit
	broken []string
}

func (j *judged) breaks(at time.Time, format string, args ...any) {
	j.broken = append(j.broken, fmt.Sprintf("%.3f s %s: %s", at.Sub(j.began).Seconds(), j.bay,
		fmt.Sprintf(format, args...)))
}

// energising tells what may switch an output on, off what switches off.
func energising(a act) bool {
	return slices.Contains([]string{"start", "set on by hand", "line up", "go on in bay", "go on"}, a.kind)
}

func off(a act) bool { return slices.Contains([]string{"stop", "safe", "stop all"}, a.kind) }

// concerns tells whether an act is about the bay.
func (j *judged) concerns(a act) bool { return a.bay == "" || a.bay == j.bay }

// stopped: when a stop is answered with success, everything is off.
func (j *judged) stopped() {
	for _, a := range j.acts {
		if !off(a) || a.err != nil || !j.concerns(a) {
			continue
		}
		for _, l := range j.lit {
			if l.at(a.answered) && !j.leaveSince(a.sent, l.from) {
				j.breaks(a.answered, "%s was answered, and the %s is on since %.3f s", a.kind, l.what,
					l.from.Sub(j.began).Seconds())
			}
		}
	}
}

// soon: a stop switches off at once what can be reached, whatever the disk and the others do.
func (j *judged) soon() {
	for _, a := range j.acts {
		by := a.sent.Add(stopWithin)
		if !off(a) || a.refused || !j.concerns(a) || !j.reachable(a.sent, by) || j.downIn(a.sent, by) {
			continue
		}
		for _, l := range j.lit {
			if l.at(a.sent) && l.at(by) {
				j.breaks(by, "the %s is on %s after a %s", l.what, stopWithin, a.kind)
			}
		}
	}
}

// late: a stop switches off what answers late, whoever else asks the instruments for something.
func (j *judged) late() {
	for _, a := range j.acts {
		by := a.sent.Add(lateWithin)
		if !off(a) || a.refused || !j.concerns(a) || j.reachable(a.sent, by) || !j.onlySlow(a.sent, by) ||
			j.downIn(a.sent, by) {
			continue
		}
		for _, l := range j.lit {
			if l.at(a.sent) && l.at(by) {
				j.breaks(by, "the %s, of an instrument that answers late, is on %s after a %s", l.what, lateWithin, a.kind)
			}
		}
	}
}

// onlySlow tells whether the bay's instruments did answer in a time, if late.
func (j *judged) onlySlow(from, to time.Time) bool {
	mine := j.instruments()
	return !slices.ContainsFunc(j.faults, func(f fault) bool {
		return slices.Contains(mine, f.instrument) && f.what != simbench.Slow && f.from.Before(to) &&
			from.Before(f.to.Add(time.Second))
	})
}

// failedByHand: where somebody was told that an output did not go on, it is off as soon as it can be.
func (j *judged) failedByHand() {
	for _, a := range j.acts {
		by := a.answered.Add(alarmWithin)
		if a.kind != "set on by hand" || a.bay != j.bay || !a.failed || j.leaveSince(a.sent.Add(1), by) ||
			j.downIn(a.sent, by) || !j.reachable(a.answered.Add(2*time.Second), by) || by.After(j.ended) {
			continue
		}
		for _, l := range j.lit {
			if !l.from.Before(a.sent) && l.at(by) {
				j.breaks(by, "that the %s did not go on was answered at %.3f s, and it is on", l.what,
					a.answered.Sub(j.began).Seconds())
			}
		}
	}
}

// inOrder: what drains goes off before what feeds, where both can be reached.
func (j *judged) inOrder() {
	for _, a := range j.acts {
		if !off(a) || a.err != nil || !j.concerns(a) || !j.reachable(a.sent, a.answered) || j.downIn(a.sent, a.answered) {
			continue
		}
		for _, feed := range j.lit {
			for _, drain := range j.lit {
				if feed.what == "source" && drain.what == "load" && feed.at(a.sent) && drain.at(a.sent) &&
					drain.to.After(feed.to) {
					j.breaks(feed.to, "the source went off before the load")
				}
			}
		}
	}
}

// breached: a reading beyond a guard switches off.
func (j *judged) breached() {
	for _, f := range j.faults {
		by := f.from.Add(guardWithin)
		if !strings.HasPrefix(f.instrument, guardedBy(j.plan.Layout)) || !slices.Contains(j.instruments(), f.instrument) ||
			f.what != simbench.OpenSense && f.what != simbench.Reversed ||
			f.to.Before(by) || j.downIn(f.from, by) || j.overlapped(f) || j.handled() {
			continue
		}
		for _, l := range j.lit {
			if l.from.Before(f.from.Add(-lostAfter)) && l.at(f.from) && l.at(by) && !j.brokenToo(l.what, f, by) {
				j.breaks(by, "a guard was breached at %.3f s, and the %s is on", f.from.Sub(j.began).Seconds(), l.what)
			}
		}
	}
}

// brokenToo tells whether an instrument of an output was broken beside the one that had a fault.
func (j *judged) brokenToo(what string, f fault, by time.Time) bool {
	return slices.ContainsFunc(j.faults, func(o fault) bool {
		return o.instrument != f.instrument && slices.Contains(j.feeding(what), o.instrument) && o.from.Before(by) &&
			f.from.Before(o.to.Add(time.Second))
	})
}

// overlapped tells whether an instrument had another fault too while it had this one.
func (j *judged) overlapped(f fault) bool {
	return slices.ContainsFunc(j.faults, func(o fault) bool {
		return o != f && o.instrument == f.instrument && o.from.Before(f.to) && f.from.Before(o.to)
	})
}

// lostByHand: what is on by hand at an instrument that is lost goes off as soon as it can be reached again.
func (j *judged) lostByHand() {
	for _, f := range j.faults {
		by := f.to.Add(time.Second)
		if f.what != simbench.Drop && f.what != simbench.Hang || f.to.Sub(f.from) < 2*lostAfter ||
			!slices.Contains(j.instruments(), f.instrument) || j.overlapped(f) || j.leaveSince(f.from.Add(-lostAfter), by) ||
			j.downIn(f.from, by) || by.After(j.ended) {
			continue
		}
		for _, l := range j.lit {
			if slices.Contains(j.feeding(l.what), f.instrument) && l.at(f.from) && l.at(by) && !j.brokenToo(l.what, f, by) {
				j.breaks(by, "%s was lost at %.3f s, and the %s is on", f.instrument, f.from.Sub(j.began).Seconds(), l.what)
			}
		}
	}
}

// setAside: after a run that did not go well nothing begins in the bay by itself.
func (j *judged) setAside() {
	for _, before := range j.runs {
		for _, r := range j.runs {
			if r.Bay != j.bay || before.Bay != j.bay || r.Serial != before.Serial || before.EndedAt == nil ||
				before.State == "done" || !r.StartedAt.After(*before.EndedAt) {
				continue
			}
			if !slices.ContainsFunc(j.acts, func(a act) bool {
				return (a.kind == "start" || a.kind == "line up") && a.bay == j.bay && !a.sent.Before(*before.EndedAt) &&
					!a.sent.After(r.StartedAt)
			}) {
				j.breaks(r.StartedAt, "%s began, though %s of the same unit was %s, and nobody has asked for it since",
					r.Procedure, before.Procedure, before.State)
			}
		}
	}
}

// oneAtATime: a bay has one owner at a time.
func (j *judged) oneAtATime() {
	for _, r := range j.runs {
		if r.Bay != j.bay || r.EndedAt == nil {
			continue
		}
		for _, other := range j.runs {
			if other.Bay == j.bay && other.StartedAt.After(r.StartedAt) && other.StartedAt.Before(*r.EndedAt) {
				j.breaks(other.StartedAt, "%s began while %s was live", other.Procedure, r.Procedure)
			}
		}
		for _, a := range j.acts {
			if a.kind == "set on by hand" && a.bay == j.bay && a.err == nil && a.sent.After(r.StartedAt) &&
				a.answered.Before(endOf(r)) && !j.downIn(r.StartedAt, *r.EndedAt) {
				j.breaks(a.answered, "an output was switched on by hand while %s was live", r.Procedure)
			}
		}
	}
}

// watchdogs: where neither service nor warden is left, instruments with a watchdog switch off by themselves.
func (j *judged) watchdogs() {
	for _, d := range j.downs {
		by := d.from.Add(watchdogWithin)
		if d.what != "dead" || d.to.Before(by) {
			continue
		}
		for _, l := range j.lit {
			if l.at(d.from.Add(-200*time.Millisecond)) && l.at(by) && j.watched(l.what) &&
				j.reachable(d.from.Add(-time.Second), by) {
				j.breaks(by, "nobody was left at %.3f s, and no watchdog has switched the %s off",
					d.from.Sub(j.began).Seconds(), l.what)
			}
		}
	}
}

// watched tells whether all instruments of an output have a watchdog.
func (j *judged) watched(what string) bool {
	for _, name := range j.feeding(what) {
		if strings.HasPrefix(name, "register") {
			return false
		}
	}
	return true
}

// handled tells whether somebody set something in the bay by hand.
func (j *judged) handled() bool {
	return slices.ContainsFunc(j.acts, func(a act) bool {
		return a.bay == j.bay && strings.HasSuffix(a.kind, "by hand")
	})
}

// onRecord: whatever goes on does so in a run, or by a hand of which the journal tells.
func (j *judged) onRecord() {
	for _, l := range j.lit {
		inRun := slices.ContainsFunc(j.runs, func(r run) bool {
			return r.Bay == j.bay && !l.from.Before(r.StartedAt.Add(-time.Second)) &&
				(r.EndedAt == nil || !l.from.After(*r.EndedAt))
		})
		byHand := slices.ContainsFunc(j.journal, func(e store.JournalEntry) bool {
			return e.Bay == j.bay && strings.Contains(e.Detail, "output = on") && !e.At.After(l.from) &&
				l.from.Sub(e.At) < patience
		})
		if j.journal != nil && !inRun && !byHand {
			j.breaks(l.from, "the %s went on, and neither a run nor the journal tells of it", l.what)
		}
	}
}

// lost: a run that a kill ended has everything that was older than a second.
func (j *judged) lost() {
	for _, d := range j.downs {
		for _, r := range j.runs {
			if d.what != "dead" || r.Bay != j.bay || len(r.Breaks) > 0 || r.EndedAt == nil || r.EndedAt.Before(d.from) ||
				j.diskIn(d.from.Add(-3*time.Second), d.from) || j.stalledBefore(d.from) {
				continue
			}
			began, lit := j.firstLit(r)
			if !lit {
				continue // it was still being prepared, by instruments that answer late
			}
			had := earlier(d.from, endOf(r)).Sub(began) - store.FlushInterval - 4*j.plan.Interval
			if kept := time.Duration(r.Duration * float64(time.Second)); kept < had && j.firstDownOf(r).Equal(d.from) {
				j.breaks(d.from, "the service was killed %s into a run, of which %s are on record", d.from.Sub(r.StartedAt), kept)
			}
		}
	}
}

// whole: a run that came to its end by itself or by a hand has its last second, whatever the disk did.
func (j *judged) whole() {
	for _, r := range j.runs {
		if r.Bay != j.bay || r.EndedAt == nil || len(r.Breaks) > 0 || j.fallsIn(r.StartedAt, *r.EndedAt) || !r.hasEnd() {
			continue
		}
		if end := endOf(r).Sub(r.StartedAt); end-r.last > time.Second+4*j.plan.Interval && end > 2*time.Second {
			j.breaks(*r.EndedAt, "%s came to its end after %s, and its last frame on record is of %s", r.Procedure, end, r.last)
		}
	}
}

// firstLit is when an output first went on in a run.
func (j *judged) firstLit(r run) (at time.Time, ok bool) {
	for _, l := range j.lit {
		if !l.from.Before(r.StartedAt) && (r.EndedAt == nil || l.from.Before(*r.EndedAt)) && (!ok || l.from.Before(at)) {
			at, ok = l.from, true
		}
	}
	return at, ok
}

func (r run) hasEnd() bool {
	return slices.ContainsFunc(r.marks, func(m record.Mark) bool { return m.Kind == record.MarkEnd })
}

// endOf is when a run came to its end, which is on record later.
func endOf(r run) time.Time {
	for _, m := range r.marks {
		if m.Kind == record.MarkEnd {
			return r.StartedAt.Add(time.Duration(m.T * float64(time.Second)))
		}
	}
	return *r.EndedAt
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// firstDownOf is when the service was first dead in a run.
func (j *judged) firstDownOf(r run) time.Time {
	for _, d := range j.downs {
		if d.what == "dead" && d.from.After(r.StartedAt) {
			return d.from
		}
	}
	return time.Time{}
}

func (j *judged) diskIn(from, to time.Time) bool {
	return slices.ContainsFunc(j.diskTrouble, func(d down) bool {
		return d.from.Before(to) && from.Before(d.to.Add(time.Second))
	})
}

// stalledBefore tells whether a bay may still be made safe after a standstill, while which nothing is recorded: that
// takes its time where an output cannot be reached.
func (j *judged) stalledBefore(t time.Time) bool {
	return slices.ContainsFunc(j.downs, func(d down) bool {
		return d.what == "stalled" && d.from.Before(t) && t.Before(d.to.Add(alarmWithin))
	})
}

// leaveSince tells whether somebody asked between two instants for what may switch the bay on.
func (j *judged) leaveSince(from, to time.Time) bool {
	return slices.ContainsFunc(j.acts, func(a act) bool {
		return energising(a) && j.concerns(a) && !j.heard(a).Before(from) && !a.sent.After(to)
	})
}

// heard is when the service heard of an act at the latest: in which order it hears what was asked while it stood still
// is chance.
func (j *judged) heard(a act) time.Time {
	for _, d := range j.downs {
		if d.what == "stalled" && d.from.Before(a.answered) && a.sent.Before(d.to) {
			return a.answered
		}
	}
	return a.sent
}

// leave: nothing goes on that nobody asked for, and nothing after a stop that nobody asked for since.
func (j *judged) leave() {
	for _, l := range j.lit {
		if !j.leaveSince(time.Time{}, l.from) {
			j.breaks(l.from, "the %s went on, and nobody has asked for it", l.what)
		}
		for _, a := range j.acts {
			if !off(a) || a.err != nil || !j.concerns(a) || a.answered.After(l.from) {
				continue
			}
			if !j.leaveSince(a.sent, l.from) {
				j.breaks(l.from, "the %s went on after the %s of %.3f s, and nobody has asked for it since", l.what, a.kind,
					a.sent.Sub(j.began).Seconds())
			}
			if a.kind == "stop all" && !j.saidGoOn(a.sent, l.from) {
				j.breaks(l.from, "the %s went on after the stop of all of %.3f s, and nobody has said go on", l.what,
					a.sent.Sub(j.began).Seconds())
			}
		}
	}
}

func (j *judged) saidGoOn(from, to time.Time) bool {
	return slices.ContainsFunc(j.acts, func(a act) bool {
		return a.kind == "go on" && !j.heard(a).Before(from) && !a.sent.After(to)
	})
}

// dead: the outputs of a service that is dead or stands still are off in time, if there is a warden and the instruments
// can be reached.
func (j *judged) dead() {
	for _, d := range j.downs {
		by := d.from.Add(wardenWithin)
		if d.what == "no warden" || d.what == "stalled" && d.to.Before(by) || !j.reachable(d.from, by) ||
			j.wardenless(d.from, by) {
			continue
		}
		for _, l := range j.lit {
			if l.at(d.from) && l.at(by) {
				j.breaks(by, "the service was %s at %.3f s, and the %s is on %s later", d.what,
					d.from.Sub(j.began).Seconds(), l.what, wardenWithin)
			}
		}
	}
}

// reachable tells whether none of the bay's instruments was broken in a time.
func (j *judged) reachable(from, to time.Time) bool {
	mine := j.instruments()
	return !slices.ContainsFunc(j.faults, func(f fault) bool {
		return slices.Contains(mine, f.instrument) && f.from.Before(to) && from.Before(f.to.Add(time.Second))
	})
}

// wardenless tells whether there was no warden for a part of a time.
func (j *judged) wardenless(from, to time.Time) bool {
	return slices.ContainsFunc(j.downs, func(d down) bool {
		return d.what == "no warden" && d.from.Before(to) && from.Before(j.wardenAgain(d))
	})
}

// wardenAgain is when a service has a warden again that was killed: one that stands still starts none meanwhile.
func (j *judged) wardenAgain(killed down) time.Time {
	again := killed.to
	for range j.downs { // stalls may follow one another
		for _, d := range j.downs {
			if start := d.to.Add(killed.to.Sub(killed.from)); d.what == "stalled" && d.from.Before(again) &&
				killed.from.Before(d.to) && start.After(again) {
				again = start
			}
		}
	}
	return again
}

// instruments are those of the bay.
func (j *judged) instruments() (names []string) {
	for _, s := range j.config.Bays[j.bay].Seats {
		for _, ref := range s.All() {
			names = append(names, ref.Instrument)
		}
	}
	return names
}

// alarmed: an output that does not go off though it should is an alarm, until it is off.
func (j *judged) alarmed() {
	for _, a := range j.acts {
		if !off(a) || a.err == nil || a.refused || !j.concerns(a) {
			continue
		}
		by := a.sent.Add(alarmWithin)
		for _, l := range j.lit {
			if !l.at(a.sent) || !l.at(by) || j.downIn(a.sent, by) || j.leaveSince(a.sent, by) {
				continue
			}
			seen := slices.ContainsFunc(j.looks, func(k look) bool {
				return k.alarms[j.bay] != "" && !k.at.Before(a.sent) && l.at(k.at)
			})
			if !seen {
				j.breaks(by, "the %s of %.3f s did not switch the %s off, and there is no alarm", a.kind,
					a.sent.Sub(j.began).Seconds(), l.what)
			}
		}
	}
}

// retried: an output that a stop could not switch off goes off when its own instrument can be reached again, whatever
// the others of the bay do.
func (j *judged) retried() {
	for _, a := range j.acts {
		if !off(a) || a.err == nil || a.refused || !j.concerns(a) {
			continue
		}
		for _, l := range j.lit {
			well := a.sent.Add(alarmWithin)
			for _, f := range j.faults {
				if slices.Contains(j.feeding(l.what), f.instrument) && f.to.After(well) {
					well = f.to
				}
			}
			by := well.Add(time.Second)
			if l.at(a.sent) && l.at(by) && !by.After(j.ended) && !j.downIn(a.sent, by) && !j.leaveSince(a.sent, by) {
				j.breaks(by, "the instrument of the %s answers since %.3f s, and it is on after the %s of %.3f s", l.what,
					well.Sub(j.began).Seconds(), a.kind, a.sent.Sub(j.began).Seconds())
			}
		}
	}
}

// feeding are the instruments by which an output goes on and off.
func (j *judged) feeding(what string) (names []string) {
	for name, s := range j.config.Bays[j.bay].Seats {
		if name != what && (what != "source" || name != "cycler" && name != "mains" && name != "sourcemeter") &&
			(what != "load" || name != "acload") {
			continue
		}
		for _, ref := range s.All() {
			names = append(names, ref.Instrument)
		}
	}
	return names
}

func (j *judged) downIn(from, to time.Time) bool {
	return slices.ContainsFunc(j.downs, func(d down) bool {
		return d.from.Before(to) && (d.to.IsZero() || from.Before(d.to.Add(time.Second)))
	})
}

// undisturbed: a bay to which nothing was done goes on, whatever happens to the others.
func (j *judged) undisturbed() {
	mine := j.instruments()
	touched := slices.ContainsFunc(j.downs, func(d down) bool {
		return d.what != "stalled" || d.to.Sub(d.from) > survived
	}) || slices.ContainsFunc(j.faults, func(f fault) bool {
		return slices.Contains(mine, f.instrument)
	})
	var begins int
	for _, a := range j.acts {
		switch {
		case !j.concerns(a) || a.kind == "note":
		case a.kind == "start" && a.bay == j.bay && a.err == nil && a.sent.Before(j.began.Add(began)):
			begins++
		default:
			touched = true
		}
	}
	if touched || begins != 1 || slices.Contains([]string{"brief"}, j.plan.Procedure[len(j.plan.Procedure)-5:]) {
		return
	}
	for _, l := range j.lit {
		if l.what != "generator" && !l.to.IsZero() && l.to.Before(j.ended) {
			j.breaks(l.to, "the %s went off, though nothing was done to the bay", l.what)
		}
	}
	if len(j.lit) == 0 {
		j.breaks(j.began, "nothing went on, though nothing was done to the bay")
	}
}

// borne: what bears little for long has borne no more than it may, but while nobody could switch its bay off.
func (j *judged) borne() {
	most, bears := j.bench.Borne(j.bay)
	if bears == 0 || slices.ContainsFunc(j.faults, func(f fault) bool {
		return slices.Contains(j.instruments(), f.instrument)
	}) {
		return
	}
	allowed := 1.01 * bears
	if len(j.downs) > 0 {
		allowed += 60 * watchdogWithin.Seconds() / 60 // W for as long as the watchdogs take, over the window
	}
	if most > allowed {
		j.breaks(j.ended, "the load has borne %.3g W on average, and may bear %.3g W", most, bears)
	}
}

// layout is what stands in a bay.
func (h *house) layout(bay string) simbench.Layout {
	i := slices.IndexFunc(h.scenario.Bays, func(b BayPlan) bool { return b.Name == bay })
	return h.scenario.Bays[i].Layout
}

// look is what people saw.
type look struct {
	at     time.Time
	alarms map[string]string
}
