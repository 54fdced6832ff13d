package instrument

import (
	"context"
	"errors"
	"fmt"
	"math"

	"usherbench/core/waveform"
	"usherbench/instrument/dialect"
)

// Probe is what joins a channel of a scope to the unit: what it sees there is Factor times the volts at the
// connector.
type Probe struct {
	Channel int
	Factor  float64
	// Unit is "V" or "A".
	Unit string
}

// Arm sets a capture up and has it wait for its trigger. Inputs are by the names of the probes.
func (c *Channel) Arm(ctx context.Context, setup waveform.Setup, probes map[string]Probe) error {
	s := c.Dialect.Scope
	if s == nil {
		return c.wrap("capture", fmt.Errorf("dialect %s captures nothing", c.Dialect.Name))
	}
	if _, err := c.Identify(ctx); err != nil { // nobody has spoken to it since the last capture
		return err
	}
	steps := []step{plain("stop", s.Stop), {"set the span", s.Span, setup.Span},
		{"set the samples", s.Samples, float64(setup.Samples)}, {"set what lies before the trigger", s.Before, setup.Before}}
	for _, st := range steps {
		if err := c.carryOut(ctx, c.Number, st); err != nil {
			return err
		}
	}
	for _, in := range setup.Channels {
		if err := c.setInput(ctx, in, probes[in.Name]); err != nil {
			return err
		}
	}
	if err := c.setTrigger(ctx, setup, probes); err != nil {
		return err
	}
	return c.carryOut(ctx, c.Number, plain("arm", s.Arm))
}

// Requests has an armed instrument say by itself when its samples are there: the channel gets something then. Nil: it
// has to be asked, as its dialect or the way to it cannot do that.
func (c *Channel) Requests(ctx context.Context) (<-chan struct{}, error) {
	words, ok := c.tongue.tongue.(*texts)
	if !ok || !c.Dialect.Scope.Request.Exists() {
		return nil, nil
	}
	requests, err := words.client.Requests(ctx)
	if err == nil && requests != nil {
		select {
		case <-requests: // of an earlier capture
		default:
		}
		err = c.carryOut(ctx, c.Number, plain("have it request service", c.Dialect.Scope.Request))
	}
	return requests, c.wrap("have it request service", err)
}

// step is one setter with its value; one that the dialect has not is left out.
type step struct {
	doing  string
	setter dialect.Setter
	value  float64
}

// plain is a step that is sent as its dialect has it.
func plain(doing string, s dialect.Setter) step { return step{doing, s, s.Word} }

func (c *Channel) carryOut(ctx context.Context, number int, s step) error {
	if !s.setter.Exists() {
		return nil
	}
	at := *c
	at.Number = number
	return at.set(ctx, s.doing, s.setter, s.value)
}

func (c *Channel) setInput(ctx context.Context, in waveform.Input, p Probe) error {
	s := c.Dialect.Scope
	coupling := s.DC
	if in.AC {
		if coupling = s.AC; !coupling.Exists() {
			return c.wrap("capture", fmt.Errorf("%s cannot be coupled for AC by dialect %s", in.Name, c.Dialect.Name))
		}
	}
	band := plain("take the filter away", s.Full)
	if in.Bandwidth > 0 && s.Limit.Exists() {
		band = step{"filter", s.Limit, in.Bandwidth}
	}
	offset := in.Offset / p.Factor
	if in.AC {
		offset = 0
	}
	for _, st := range []step{plain("couple", coupling), band,
		{"set the range", s.Range, s.RangeFor(in.Range / math.Abs(p.Factor))}, {"set the offset", s.Offset, offset}} {
		if err := c.carryOut(ctx, p.Channel, st); err != nil {
			return err
		}
	}
	return nil
}

func (c *Channel) setTrigger(ctx context.Context, setup waveform.Setup, probes map[string]Probe) error {
	s, t := c.Dialect.Scope, setup.Trigger
	if t == nil {
		return c.carryOut(ctx, c.Number, plain("trigger at once", s.Now))
	}
	p := probes[t.Channel]
	slope := s.Rising
	if t.Falling != (p.Factor < 0) {
		slope = s.Falling
	}
	if !slope.Exists() {
		return c.wrap("capture", fmt.Errorf("dialect %s has no message for this slope", c.Dialect.Name))
	}
	for _, st := range []step{plain("choose the trigger", s.Source), plain("set the slope", slope),
		{"set the level", s.Level, t.Level / p.Factor}} {
		if err := c.carryOut(ctx, p.Channel, st); err != nil {
			return err
		}
	}
	return nil
}

// Triggered tells whether the samples of a capture are there.
func (c *Channel) Triggered(ctx context.Context) (bool, error) {
	done, err := c.YesNo(ctx, c.Dialect.Scope.Done)
	return done, c.wrap("ask whether it has triggered", err)
}

// Disarm gives a capture up.
func (c *Channel) Disarm(ctx context.Context) error {
	return c.carryOut(ctx, c.Number, plain("stop", c.Dialect.Scope.Stop))
}

// Fetch gets the waveform of one channel.
func (c *Channel) Fetch(ctx context.Context, in waveform.Input, p Probe) (*waveform.Waveform, error) {
	w, err := c.fetch(ctx, in, p)
	return w, c.wrap("fetch "+in.Name, err)
}

func (c *Channel) fetch(ctx context.Context, in waveform.Input, p Probe) (*waveform.Waveform, error) {
	d, s := c.Dialect, c.Dialect.Scope
	scale, err := c.scale(ctx, p.Channel)
	if err != nil {
		return nil, err
	}
	samples := 0
	if n := scale[dialect.ScaleSamples]; n > 0 {
		samples = int(math.Min(n, float64(s.Most)))
	}
	codes, err := c.tongue.codes(ctx, d, s.Data, p.Channel, samples)
	if err != nil {
		return nil, err
	}
	full := s.RangeFor(in.Range/math.Abs(p.Factor)) * math.Abs(p.Factor)
	w := &waveform.Waveform{Channel: in.Name, Unit: p.Unit, T0: scale[dialect.ScaleStart], Step: scale[dialect.ScaleStep],
		Zero: p.Factor * scale[dialect.ScaleZero], Scale: p.Factor * scale[dialect.ScaleCode], Codes: codes,
		Lowest: s.Lowest, Highest: s.Highest, Finest: s.Ranges[0] * math.Abs(p.Factor), Bandwidth: s.Passes, AC: in.AC,
		Gain: s.Reading, Offset: s.OfRange * full, Stated: s.Stated}
	if in.Bandwidth > 0 && s.Limit.Exists() {
		w.Bandwidth = in.Bandwidth
	}
	switch {
	case len(codes) == 0:
		return nil, errors.New("the answer holds no samples")
	case !(w.Step > 0) || math.IsInf(w.Step, 0) || w.Scale == 0 || math.IsNaN(w.Scale+w.Zero+w.T0) ||
		math.IsInf(w.Scale+w.Zero+w.T0, 0):
		return nil, fmt.Errorf("its scale makes no volts and seconds: %v", scale)
	}
	return w, nil
}

// scale asks how codes are to be read.
func (c *Channel) scale(ctx context.Context, channel int) (map[string]float64, error) {
	q, scale := c.Dialect.Scope.Scale, map[string]float64{}
	values := make([]float64, len(q.Gives))
	if err := c.tongue.read(ctx, c.Dialect, q, channel, values); err != nil {
		return nil, err
	}
	k := 0
	for _, g := range q.Gives {
		if g.Quantity != "" {
			scale[g.Quantity] = values[k]
			k++
		}
	}
	return scale, nil
}
