package rehearsal

import (
	"fmt"
	"math"
	"math/rand/v2"

	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/waveform"
	"usherbench/simbench/plant"
)

// scope is the model's: without errors and noise of its own, of sixteen bits, and it sees every place that a probe can
// be at.
type scope struct {
	arm     *stage.Arm
	armed   bool
	armedAt float64
	looked  float64 // up to when its trigger was looked for
	caught  map[string]*waveform.Waveform
	kept    []map[string]*waveform.Waveform // of each capture that was kept
}

// scopeLowest and scopeHighest are the ends of its range.
const scopeLowest, scopeHighest = math.MinInt16, math.MaxInt16

// shoot goes on with a capture.
func (r *rehearsal) shoot() {
	s := &r.scope
	if s.arm == nil || r.finished {
		return
	}
	e := *s.arm
	if !s.armed {
		s.armed, s.armedAt, s.looked = true, r.now, r.now
		r.act(r.machine.Advance(stage.Armed{T: r.now, Shot: e.Shot}))
		return
	}
	waves, triggered, why := r.captured(e)
	if waves == nil && why == "" {
		return // it waits
	}
	s.arm, s.caught = nil, map[string]*waveform.Waveform{}
	done := stage.Captured{T: r.now, Shot: e.Shot, Missed: why, Triggered: triggered}
	for _, w := range waves {
		s.caught[w.Channel] = w
		done.Channels = append(done.Channels, record.ChannelOf(w))
	}
	r.act(r.machine.Advance(done))
}

// captured are the waveforms of a capture, once they are there, and when it was triggered; or why there are none. What
// is rare is waited for as long as it takes.
func (r *rehearsal) captured(e stage.Arm) (waves []*waveform.Waveform, trigger float64, why string) {
	setup := e.Setup
	unit, ok := r.bench.unit.(plant.Waving)
	if !ok {
		return nil, 0, "the model of the unit has no waveforms"
	}
	step := setup.Span / float64(setup.Samples)
	trigger = r.scope.armedAt + setup.Before*setup.Span
	if t := setup.Trigger; t != nil {
		p, ok := r.bench.probe(t.Channel)
		if !ok {
			return nil, 0, unseen(t.Channel)
		}
		g := plant.Trigger{Level: t.Level, Falling: t.Falling,
			Seen: func(at float64) float64 { return p.Seen(unit.Wave(at)) }}
		trigger = g.Find(r.scope.armedAt, r.scope.looked, r.now, step, unit.Stirred())
	}
	switch {
	case math.IsNaN(trigger) && e.Shot >= 0 && r.now > r.scope.armedAt+setup.Within:
		return nil, 0, fmt.Sprintf("the scope did not trigger within %.3g s", setup.Within)
	case math.IsNaN(trigger):
		r.scope.looked = r.now
		return nil, 0, ""
	case r.now < trigger+setup.Span*(1-setup.Before):
		return nil, 0, ""
	}
	for _, in := range setup.Channels {
		p, ok := r.bench.probe(in.Name)
		if !ok {
			return nil, 0, unseen(in.Name)
		}
		x := make([]float64, setup.Samples)
		rng := rand.New(rand.NewPCG(uint64(e.Shot), noiseSeed))
		for i := range x {
			o := unit.Wave(trigger - setup.Before*setup.Span + float64(i)*step)
			x[i] = p.Seen(o)
			if p.Noise != nil {
				x[i] += p.Noise(o) * math.Sqrt(0.5/step) * rng.NormFloat64()
			}
		}
		w := digitised(x, in)
		w.Unit, w.T0, w.Step = p.Unit, -setup.Before*setup.Span, step
		waves = append(waves, w)
	}
	return waves, trigger, ""
}

// noiseSeed makes the noise of a unit the same in every rehearsal.
const noiseSeed = 0x9e3779b9

func unseen(channel string) string {
	return fmt.Sprintf("the model does not know what the probe %q sees; it knows output, input, current and load", channel)
}

// digitised are values in the codes of a range; one that is left open is a little more than what is needed.
func digitised(x []float64, in waveform.Input) *waveform.Waveform {
	low, high, sum := math.Inf(1), math.Inf(-1), 0.0
	for _, v := range x {
		low, high, sum = math.Min(low, v), math.Max(high, v), sum+v
	}
	if in.AC {
		mean := sum / float64(len(x))
		low, high = low-mean, high-mean
		for i := range x {
			x[i] -= mean
		}
	}
	if in.Range == 0 {
		in.Range, in.Offset = math.Max(1.25*(high-low), 1e-6), (high+low)/2
	}
	w := &waveform.Waveform{Channel: in.Name, Zero: in.Offset, Scale: in.Range / (scopeHighest - scopeLowest),
		Codes: make([]int16, len(x)), Lowest: scopeLowest, Highest: scopeHighest, Bandwidth: in.Bandwidth, AC: in.AC}
	for i, v := range x {
		code := math.Round((v - w.Zero) / w.Scale)
		w.Codes[i] = int16(math.Max(scopeLowest, math.Min(scopeHighest, code)))
	}
	return w
}

// samples reads a channel of a capture that was kept.
func (s *scope) samples(c record.Capture, channel string) (*waveform.Waveform, error) {
	if c.Index < len(s.kept) && s.kept[c.Index][channel] != nil {
		return s.kept[c.Index][channel], nil
	}
	return nil, waveform.ErrNoData
}
