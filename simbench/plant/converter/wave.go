package converter

import (
	"math"

	"usherbench/simbench/plant"
)

// Fine is what only a scope sees of a converter.
type Fine struct {
	Ripple    float64 // of the output at full load, peak to peak, V: a triangle
	Frequency float64 // at which it switches, Hz
	Spike     float64 // at each switching, V
	Rush      float64 // current into the empty input capacitors per volt of line, A/V
	StartOver float64 // how far the output goes beyond its level at the end of the soft start, as a share
}

// Times of what a scope sees, s.
const (
	lineRise   = 100e-6 // of a line that is switched on
	loadEdge   = 10e-6  // of a load that steps
	dipRise    = 15e-6  // of the deviation at a step
	rushRise   = 3e-6   // of the inrush, and its decay
	rushDecay  = 150e-6
	outputFall = 2e-3  // of an output that nobody drives
	spikeDecay = 40e-9 // of the spike at a switching, which rings at spikeRing, rad/s
	spikeRing  = 2 * math.Pi * 15e6
)

// stretch is a time in which nothing changed.
type stretch struct {
	from   float64
	source plant.Source
	load   plant.Load
	// steady is what the unit settles to, before what the terminals saw last.
	steady, before     plant.Operating
	started, fed       bool // the unit starts here, the line comes here
	startedAt, fedAt   float64
	steppedAt, stepped float64 // amps by which the load has stepped
	fromAmps           float64
}

// mostPast bounds how many changes are remembered.
const mostPast = 64

// remember begins another stretch where something has changed.
func (s *State) remember(c Converter, t float64, source plant.Source, load plant.Load) {
	now := stretch{from: t, source: source, load: load, startedAt: math.Inf(-1), fedAt: math.Inf(-1),
		steppedAt: math.Inf(-1)}
	n := len(s.past)
	if n > 0 {
		last := s.past[n-1]
		if last.source == source && last.load == load && (last.steady.Output.Volts > 0) == s.running {
			return
		}
		now.before = c.wave(last, t)
		now.startedAt, now.fedAt, now.steppedAt = last.startedAt, last.fedAt, last.steppedAt
		now.stepped, now.fromAmps = last.stepped, last.fromAmps
		now.fed = source.On && !last.source.On
	} else {
		now.fed = source.On
	}
	now.steady = c.Solve(source, load, s.running)
	if now.fed {
		now.fedAt = t
	}
	running := now.steady.Output.Volts > 0
	wasRunning := n > 0 && s.past[n-1].steady.Output.Volts > 0
	switch {
	case running && !wasRunning:
		now.startedAt, now.started = s.startedAt, true
		now.stepped, now.fromAmps, now.steppedAt = 0, now.steady.Output.Amps, math.Inf(-1)
	case running:
		was := s.past[n-1].steady.Output.Amps
		if change := now.steady.Output.Amps - was; math.Abs(change) > 1e-3 {
			now.steppedAt, now.stepped, now.fromAmps = t, change, was
		}
	}
	s.past = append(s.past, now)
	if len(s.past) > mostPast {
		s.past = append(s.past[:0], s.past[len(s.past)-mostPast/2:]...)
	}
}

// wave is what the terminals see at an instant of a stretch.
func (c Converter) wave(g stretch, t float64) plant.Operating {
	past := t - g.from
	o := g.steady
	fed := t - g.fedAt
	if g.source.On {
		coming := 1 - math.Exp(-fed/lineRise)
		o.Line.Volts *= coming
		o.Line.Amps = o.Line.Amps*coming + c.Fine.Rush*g.source.Volts*(1-math.Exp(-fed/rushRise))*math.Exp(-fed/rushDecay)
	} else {
		o.Line.Volts = g.before.Line.Volts * math.Exp(-past/outputFall)
	}
	if g.steady.Output.Volts <= 0 {
		o.Output = plant.Seen{Volts: g.before.Output.Volts * math.Exp(-past/outputFall)}
		return o
	}
	ring := c.Ring * math.Sqrt(1-c.Damping*c.Damping)
	if rise := t - g.startedAt; rise < c.SoftStart {
		share := math.Max(rise/c.SoftStart, 0)
		o.Output.Volts *= share
		o.Output.Amps = g.load.Takes(o.Output.Volts)
		return o
	} else if over := rise - c.SoftStart; over < 1 {
		o.Output.Volts *= 1 + c.Fine.StartOver*math.Exp(-c.Damping*c.Ring*over)*math.Sin(ring*over)
	}
	if g.stepped != 0 {
		past := t - g.steppedAt
		coming := 1 - math.Exp(-past/dipRise)
		o.Output.Volts += c.Resistance * g.stepped * (1 - coming)
		o.Output.Volts -= c.Overshoot * g.stepped * coming * math.Exp(-c.Damping*c.Ring*past) * math.Cos(ring*past)
		o.Output.Amps = g.fromAmps + g.stepped*math.Min(past/loadEdge, 1)
	}
	o.Output.Volts += c.ripple(t, o.Output.Amps)
	return o
}

// ripple is the triangle of the switching with its spikes, V.
func (c Converter) ripple(t, amps float64) float64 {
	if c.Fine.Frequency == 0 {
		return 0
	}
	turn := math.Mod(t*c.Fine.Frequency, 1)
	if turn < 0 {
		turn++
	}
	height := c.Fine.Ripple * (0.5 + 0.5*math.Min(amps*1.3/c.CurrentLimit, 1))
	x := height * (2*math.Abs(turn-0.5) - 0.5)
	for _, at := range []float64{0, 0.5} { // it switches at both corners
		since := turn - at
		if since < 0 {
			since++
		}
		since /= c.Fine.Frequency
		if since < 12*spikeDecay {
			x += c.Fine.Spike * math.Exp(-since/spikeDecay) * math.Sin(spikeRing*since)
		}
	}
	return x
}

// Wave implements plant.Waving.
func (u *Unit) Wave(t float64) plant.Operating {
	past := u.state.past
	if len(past) == 0 {
		return plant.Operating{}
	}
	k := len(past) - 1
	for k > 0 && past[k].from > t {
		k--
	}
	if past[k].from > t {
		return plant.Operating{}
	}
	return u.Converter.wave(past[k], t)
}

// Stirred implements plant.Waving.
func (u *Unit) Stirred() []float64 {
	times := make([]float64, len(u.state.past))
	for i, g := range u.state.past {
		times[i] = g.from
	}
	return times
}
