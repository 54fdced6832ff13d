package record

import (
	"fmt"
	"math"
	"slices"
	"sort"

	"usherbench/core/uncertainty"
)

// Moved is what flowed at a battery between two instants, into it. It is the one way to take charge, energy or a mean
// over a window: whoever needs one asks [Record.Over], which knows the window's ends, its gaps, and the instruments.
type Moved struct {
	From, To       float64
	Charge, Energy float64 // A·s and W·s into the battery
	// Amps is the mean current into it, Flow that without sign, Volts the mean of its volts, all weighted by time.
	Amps, Flow, Volts float64
	N                 int // frames
	Gaps              Gaps
	battery           *Battery
	means             []float64 // of each ammeter, into the battery
	seconds           func(from, to float64) float64
	crossing          *Crossing // where the window ends at a level, and not at an instant that is known
}

// Seconds is how long the window is, without the times in which nobody looked after the run.
func (m Moved) Seconds() float64 { return m.seconds(m.From, m.To) }

// Over is what flowed from a command to a later instant. It fails with no-data or gap.
func (rec *Record) Over(b *Battery, from, to float64) (Moved, error) {
	return rec.OverLog(b, from, to, math.Max(bridge, rec.Bridge))
}

// OverLog is the same of a log in which longer gaps may be bridged, s.
func (rec *Record) OverLog(b *Battery, from, to, bridge float64) (Moved, error) {
	for _, known := range rec.taken {
		if known.m.battery == b && known.m.From == from && known.m.To == to && known.bridge == bridge {
			return known.m, known.err
		}
	}
	m, err := rec.over(b, from, to, bridge)
	rec.taken = append(rec.taken[max(len(rec.taken)-mostRemembered+1, 0):], taken{m, bridge, err})
	return m, err
}

// taken is what was taken over a window; several figures of a half-cycle ask for the same.
type taken struct {
	m      Moved
	bridge float64
	err    error
}

func (rec *Record) over(b *Battery, from, to, bridge float64) (Moved, error) {
	m := Moved{From: from, To: to, battery: b, seconds: rec.Active}
	w := b.Within(from, to)
	m.N = len(w.T)
	if m.N == 0 || to <= from {
		return m, Because(NoData, "nothing was recorded from %.6g s to %.6g s", from, to)
	}
	var err error
	m.Gaps, err = rec.bridged(b, from, to, bridge)
	begin, beginEnergy := b.Count(from)
	end, endEnergy := b.Count(to)
	m.Charge, m.Energy = end-begin, endEnergy-beginEnergy
	m.Amps = m.Charge / m.Seconds()
	stands := w.stands(from, to, rec.Active)
	m.Volts, m.Flow = mean(stands, w.Volts, false), mean(stands, w.Amps, true)
	for _, a := range w.Through {
		m.means = append(m.means, mean(stands, a.Amps, false))
	}
	return m, err
}

// OverTo is what flowed from a command to where a level was crossed. It fails as [Record.Over] does, and with gap where
// the crossing itself lies in one.
func (rec *Record) OverTo(b *Battery, from float64, x Crossing) (Moved, error) {
	m, err := rec.Over(b, from, math.Max(x.Before, math.Nextafter(from, math.Inf(1))))
	begin, beginEnergy := b.Count(from)
	m.To, m.Charge, m.Energy, m.crossing = x.T, x.Charge-begin, x.Energy-beginEnergy, &x
	m.Amps = m.Charge / m.Seconds()
	switch {
	case err != nil:
		return m, err
	case x.InGap:
		return m, Because(Gap, "the level was crossed in a gap, between %.6g s and %.6g s", x.Before, x.After)
	}
	return m, nil
}

// stands is for how long each frame stands in a window, s: half of the way to each neighbour, but all of it up to a
// command between them, and up to an end of the window. seconds is how long a time is.
func (b *Battery) stands(from, to float64, seconds func(from, to float64) float64) []float64 {
	w := make([]float64, len(b.T))
	w[0] = seconds(from, b.T[0])
	next := sort.SearchFloat64s(b.commands, b.T[0]) // the first command that may lie between two frames
	for k := 1; k < len(b.T); k++ {
		turn := 0.5 * (b.T[k-1] + b.T[k])
		for next < len(b.commands) && b.commands[next] < b.T[k-1] {
			next++
		}
		if next < len(b.commands) && b.commands[next] <= b.T[k] {
			turn = b.commands[next]
		}
		w[k-1] += seconds(b.T[k-1], turn)
		w[k] += seconds(turn, b.T[k])
	}
	w[len(w)-1] += seconds(b.T[len(w)-1], to)
	return w
}

// mean is that of readings, each of which stands for a time; without tells that signs do not count.
func mean(stands, x []float64, without bool) float64 {
	sum, whole := 0.0, 0.0
	for k, h := range stands {
		whole += h
		if x[k] < 0 && without {
			h = -h
		}
		sum += x[k] * h
	}
	return sum / whole
}

// Ledger collects the windows of which a figure is made, and says how well it is known: gain and offset of
// every ammeter and of the voltmeter, each range of each by itself, what gaps leave open, and the volts of a
// crossing.
type Ledger struct {
	rec      *Record
	moved    []Moved
	readings []uncertainty.Reading
	apply    []func(x float64, charge, energy []float64)
	stated   bool
}

// Account makes a ledger of windows, in the order in which the figure takes them.
func (rec *Record) Account(windows ...Moved) *Ledger {
	l := &Ledger{rec: rec, moved: windows, stated: true}
	for i, m := range windows {
		l.add(i, m)
	}
	return l
}

// Expand propagates what is known to a figure of the charges and energies of the windows, SI; stated is false where an
// accuracy is not stated.
func (l *Ledger) Expand(f func(charge, energy []float64) float64) (e uncertainty.Expanded, stated bool) {
	if !l.stated {
		return e, false
	}
	charge, energy := make([]float64, len(l.moved)), make([]float64, len(l.moved))
	return uncertainty.Propagate(func(x []float64) float64 {
		for i, m := range l.moved {
			charge[i], energy[i] = m.Charge, m.Energy
		}
		for k, apply := range l.apply {
			apply(x[k]-l.readings[k].Value, charge, energy)
		}
		return f(charge, energy)
	}, l.readings), true
}

// GapShare is how much of the square of an expanded uncertainty is from what gaps leave open, 0 … 1.
func (l *Ledger) GapShare(f func(charge, energy []float64) float64, u float64) float64 {
	without, open := Ledger{rec: l.rec, stated: l.stated}, false
	for _, m := range l.moved {
		open = open || m.Gaps.Within > 0
		m.Gaps.Within = 0
		without.moved = append(without.moved, m)
	}
	if !open || u == 0 {
		return 0
	}
	for i, m := range without.moved {
		without.add(i, m)
	}
	e, _ := without.Expand(f)
	return max(1-e.U*e.U/(u*u), 0)
}

// enter adds a reading, and what its error does to charges and energies.
func (l *Ledger) enter(r uncertainty.Reading, apply func(off float64, charge, energy []float64)) {
	l.readings, l.apply = append(l.readings, r), append(l.apply, apply)
}

// input is a reading with its instrument; without an accuracy the figure has no uncertainty.
func (l *Ledger) input(column string, x, amps float64) uncertainty.Reading {
	r, stated := l.rec.Input(column, x, amps)
	l.stated = l.stated && stated
	return r
}

// Corrected tells whether something was corrected for the leads of its instrument.
func (l *Ledger) Corrected() bool {
	return slices.ContainsFunc(l.readings, func(r uncertainty.Reading) bool { return r.Leads.Ohms > 0 })
}

func (l *Ledger) add(i int, m Moved) {
	averaged := math.Sqrt(math.Max(float64(m.N), 1))
	for k, a := range m.battery.Through {
		r := l.input(a.Column, m.means[k], 0)
		r.Noise, r.Resolution = uncertainty.Resolution(r.Resolution)/averaged, 0
		l.enter(r, func(off float64, charge, energy []float64) {
			charge[i] += off * m.Seconds()
			energy[i] += off * m.Seconds() * m.Volts
		})
	}
	v := l.input(m.battery.VoltsColumn, m.Volts, m.Amps)
	v.Noise, v.Resolution = uncertainty.Resolution(v.Resolution)/averaged, 0
	l.enter(v, func(off float64, _, energy []float64) { energy[i] += off * m.Charge })
	if m.Gaps.Within > 0 {
		l.enter(uncertainty.Reading{Group: fmt.Sprintf("gaps of %d", i), Offset: m.Gaps.Within},
			func(off float64, charge, energy []float64) {
				charge[i] += off
				energy[i] += off * m.Volts
			})
	}
	if x := m.crossing; x != nil && x.Left > 0 {
		l.enter(uncertainty.Reading{Group: fmt.Sprintf("left of %d", i), Offset: x.Left},
			func(off float64, charge, energy []float64) {
				charge[i] += off
				energy[i] += off * x.Volts
			})
	}
	if x := m.crossing; x != nil && x.Slope != 0 && x.Left == 0 {
		r := l.input(m.battery.VoltsColumn, x.Volts, x.Amps)
		r.Noise = x.Noise
		// Volts that read too high by so much come to a falling level so much later.
		later := -1 / x.Slope
		l.enter(r, func(off float64, charge, energy []float64) {
			charge[i] += off * later * x.Amps
			energy[i] += off * later * x.Amps * x.Volts
		})
	}
}
