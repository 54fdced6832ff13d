// Package amplifier computes what captures tell of an amplifier: gain, level, output impedance, noise, distortion of
// one tone and of two, efficiency, and its idle current. A distortion holds for the harmonics and the band that are
// said.
package amplifier

import (
	"cmp"
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
	"usherbench/core/waveform"
)

var endless = math.Inf(1)

// Figures of this family. Those of one capture may be told with a second one that against names: with another load, of
// the meter without the unit, of the bench alone.
var Figures = []figure.Definition{
	ofCapture("voltage-gain", "Voltage gain", "dB", math.Inf(-1), gain, tone),
	ofCapture("output-level", "Output level", "dBV", math.Inf(-1), level),
	ofCapture("output-impedance", "Output impedance", "Ω", math.Inf(-1), impedance, lower, upper, tone),
	ofCapture("damping-factor", "Damping factor", "Ω/Ω", 0, damping, lower, upper, tone),
	weighted(ofCapture("output-noise", "Output noise", "V", 0, noise, from, to)),
	weighted(ofCapture("signal-to-noise", "Signal to noise", "dB", math.Inf(-1), signalToNoise, from, to, reference)),
	ofCapture("harmonic-distortion", "Harmonic distortion", "%", 0, harmonics, tone, orders),
	related(ofCapture("distortion-plus-noise", "Distortion plus noise", "%", 0, plusNoise, tone, from, to)),
	ofCapture("modulation-distortion", "Modulation distortion", "%", 0, modulation, first, second),
	ofCapture("difference-distortion", "Difference distortion", "%", 0, difference, first, second),
	ofCapture("amplifier-efficiency", "Efficiency of an amplifier", "%", 0, efficiency, lower),
	{ID: "idle-current", Title: "Idle current", Unit: "A", Least: 0, Most: endless, Needs: figure.Window,
		AllSides: true, Formula: idle},
}

// The numbers that figures of this family can be asked with.
var (
	tone      = hertz("frequency", math.NaN())
	first     = hertz("first", math.NaN())
	second    = hertz("second", math.NaN())
	from      = hertz("from", 20)
	to        = hertz("to", 20e3)
	orders    = figure.Arg{Name: "orders", Dim: quantity.Number, Default: 10, Least: 2, Most: 100}
	lower     = ohms("load")
	upper     = ohms("other")
	reference = figure.Arg{Name: "level", Dim: quantity.Voltage, Default: math.NaN(), Least: 1e-6, Most: 1e4}
)

func hertz(name string, usual float64) figure.Arg {
	return figure.Arg{Name: name, Dim: quantity.Frequency, Default: usual, Least: 0.01, Most: 1e9}
}

// ohms is a load; where none is given an output is open.
func ohms(name string) figure.Arg {
	return figure.Arg{Name: name, Dim: quantity.Resistance, Default: math.NaN(), Least: 1e-3, Most: 1e9}
}

// What the words of a choice are.
const (
	flat        = "none"
	byA         = "a"
	fundamental = "fundamental"
	total       = "total"
)

func ofCapture(id, title, unit string, least float64, of formula, args ...figure.Arg) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: unit, Least: least, Most: endless, Needs: figure.Capture,
		AllSides: true, Args: args, Formula: last(of)}
}

func weighted(d figure.Definition) figure.Definition {
	d.Choices = map[string][]string{"weighting": {flat, byA}}
	return d
}

func related(d figure.Definition) figure.Definition {
	d.Choices = map[string][]string{"relative-to": {fundamental, total}}
	return d
}

// shot is a capture with the channel that a figure is of.
type shot struct {
	*waveform.Waveform
	rec     *record.Record
	capture record.Capture
}

type formula func(s shot, req figure.Request) (figure.Result, error)

// last is the figure of the last capture of a stage.
func last(of formula) func(*record.Record, figure.Request) (figure.Result, error) {
	return func(rec *record.Record, req figure.Request) (figure.Result, error) {
		s, err := taken(rec, req, req.Stage, req.Channel)
		if err != nil {
			return figure.Result{}, err
		}
		r, err := of(s, req)
		if err != nil {
			return r, record.CodeOfCapture(err, s.Channel)
		}
		r.N = max(r.N, s.Len())
		return r, nil
	}
}

// taken reads a channel of the last capture of a stage. What stands at an end of its range is refused.
func taken(rec *record.Record, req figure.Request, stage, channel string) (shot, error) {
	pass := req.Pass
	if stage != req.Stage {
		pass = 0
	}
	captures, err := rec.CapturesOf(stage, pass)
	if err != nil {
		return shot{}, err
	}
	c := captures[len(captures)-1]
	s := shot{rec: rec, capture: c}
	return s, s.read(channel)
}

// read takes another channel of the same capture.
func (s *shot) read(channel string) (err error) {
	if s.Waveform, err = s.rec.Waveform(s.capture, channel); err != nil {
		return err
	}
	if s.Clipped() {
		return record.Because(record.Clipped, "%s stands at an end of its range; capture it again with a wider one",
			s.Waveform.Channel)
	}
	return nil
}

// effective is the effective value without the mean, of whole periods or not.
func (s shot) effective() float64 { return s.Bands(waveform.BlackmanHarris).RMS(0, endless, nil) }

// highest is up to where a tone is looked for, as a share of the rate.
const highest = 0.45

// toneOf is the tone that a figure is of: at the frequency that is asked, or the strongest. One that does not stand out
// of the noise is none.
func toneOf(b waveform.Bands, req figure.Request, step float64) (waveform.Tone, error) {
	t, err := waveform.Tone{}, error(nil)
	if f := req.Args[tone.Name]; f > 0 {
		t = b.Near(f)
	} else {
		t, err = b.Strongest(10*b.Width, highest/step)
	}
	switch {
	case err != nil:
		return t, err
	case t.Frequency < 10*b.Width:
		return t, record.Because(record.TooFew, "%.3g periods of the tone were captured, 10 are needed", t.Frequency/b.Width)
	case t.RMS < outOfNoise*b.Unsure():
		return t, record.Because(record.BelowFloor, "the tone of %.4g V does not stand out of the noise", t.RMS)
	}
	return t, nil
}

// outOfNoise is how many times its uncertainty by noise a tone must be.
const outOfNoise = 5

// known adds U: bounds of what all samples share, and standard uncertainties.
func known(r *figure.Result, stated bool, bounds, normal []float64) {
	if !stated {
		r.Remarks = record.AddRemark(r.Remarks, figure.NotStated)
		return
	}
	parts := make([]uncertainty.Normal, len(normal))
	for i, u := range normal {
		parts[i].Standard = u
	}
	e := uncertainty.Expand(bounds, parts)
	r.U, r.K = e.U, e.K
}

// decibels is how many dB a share of 1 is, of a small change.
const decibels = 20 / math.Ln10

// gain is 20·lg(V_o/V_i) of the tone.
func gain(s shot, req figure.Request) (figure.Result, error) {
	out := s.Bands(waveform.BlackmanHarris)
	vOut, err := toneOf(out, req, s.Step)
	if err != nil {
		return figure.Result{}, err
	}
	in := s
	if err := in.read(cmp.Or(req.Since, "input")); err != nil {
		return figure.Result{}, err
	}
	bands := in.Bands(waveform.BlackmanHarris)
	vIn := bands.Near(vOut.Frequency)
	if vIn.RMS < outOfNoise*bands.Unsure() {
		return figure.Result{}, record.Because(record.BelowFloor, "%s has no such tone", in.Channel)
	}
	r := figure.Result{Value: 20 * math.Log10(vOut.RMS/vIn.RMS), Remarks: []string{at(vOut.Frequency)}}
	known(&r, s.Stated && in.Stated, []float64{decibels * s.Gain, decibels * in.Gain},
		[]float64{decibels * out.Unsure() / vOut.RMS, decibels * bands.Unsure() / vIn.RMS})
	return r, nil
}

func at(f float64) string {
	return "at " + quantity.Quantity{Value: f, Dim: quantity.Frequency}.Format(4)
}

// level is 20·lg(V/1 V) of the effective value.
func level(s shot, _ figure.Request) (figure.Result, error) {
	b := s.Bands(waveform.BlackmanHarris)
	v := b.RMS(0, endless, nil)
	if v <= 2*b.Noise {
		return figure.Result{}, record.Because(record.BelowFloor, "%.3g V is no more than noise", v).Most(
			20*math.Log10(math.Max(s.Gain*v+b.Noise, 1e-12)), "dBV")
	}
	r := figure.Result{Value: 20 * math.Log10(v)}
	known(&r, s.Stated, []float64{decibels * s.Gain}, []float64{decibels * b.Noise / v / math.Sqrt(2*float64(s.Len()))})
	return r, nil
}

// twoLoads is what a tone is across two loads.
type twoLoads struct {
	v1, r1, v2, i2 float64 // i2 is 0 of an open output
	noise          [2]float64
	stated         bool
}

func (l twoLoads) impedance() float64 { return (l.v2 - l.v1) / (l.v1/l.r1 - l.i2) }

// moved is by which share of the difference the first reading may have moved when it is read again.
const moved = 0.1

func loaded(s shot, req figure.Request) (l twoLoads, err error) {
	if err := s.bears(req.Args[lower.Name]); err != nil {
		return l, err
	}
	l.r1 = req.Args[lower.Name]
	if !(l.r1 > 0) {
		return l, record.Because(record.NoData, "say the load of the capture with load: 4 Ω")
	}
	if req.Against == "" {
		return l, record.Because(record.NoData, "name the capture with another load, or without one, with against")
	}
	first := s.Bands(waveform.BlackmanHarris)
	t1, err := toneOf(first, req, s.Step)
	if err != nil {
		return l, err
	}
	other, err := taken(s.rec, req, req.Against, s.Channel)
	if err != nil {
		return l, err
	}
	if err := other.bears(req.Args[upper.Name]); err != nil {
		return l, err
	}
	bands := other.Bands(waveform.BlackmanHarris)
	t2 := bands.Near(t1.Frequency)
	l.v1, l.v2, l.stated = t1.RMS, t2.RMS, s.Stated && other.Stated
	l.noise = [2]float64{first.Unsure(), bands.Unsure()}
	if r2 := req.Args[upper.Name]; r2 > 0 {
		l.i2 = l.v2 / r2
	}
	switch {
	case l.v1/l.r1 == l.i2:
		return l, record.Because(record.ZeroDivisor, "both loads take the same current")
	case l.impedance() < 0 && math.Abs(l.v2-l.v1) > 3*(l.noise[0]+l.noise[1]):
		return l, record.Because(record.WrongSign, "the output rises with its load: %.4g V, and %.4g V with less of it",
			l.v1, l.v2)
	}
	return l, l.settled(s, req, t1.Frequency)
}

// settled refuses a first reading that moved when it was taken again, where the stage was done more than once.
func (l twoLoads) settled(s shot, req figure.Request, f float64) error {
	again, err := s.rec.CapturesOf(req.Stage, 1)
	if err != nil || req.Pass != 0 || again[0].Index == s.capture.Index {
		return nil
	}
	before := shot{rec: s.rec, capture: again[len(again)-1]}
	if err := before.read(s.Channel); err != nil {
		return err
	}
	v := before.Bands(waveform.BlackmanHarris).Near(f).RMS
	if math.Abs(v-l.v1) > moved*math.Abs(l.v2-l.v1)+3*l.noise[0] {
		return record.Because(record.NotSettled, "%.5g V was %.5g V when it was read again", v, l.v1)
	}
	return nil
}

// impedance is (V₂ − V₁)/(V₁/R₁ − V₂/R₂): both readings are of one range, so that its gain does not
// matter.
func impedance(s shot, req figure.Request) (figure.Result, error) {
	l, err := loaded(s, req)
	if err != nil {
		return figure.Result{}, err
	}
	z := l.impedance()
	r := figure.Result{Value: z}
	per := 1 / (l.v1/l.r1 - l.i2)
	known(&r, l.stated, nil, []float64{per * (1 + z/l.r1) * l.noise[0], per * (1 + z*l.i2/l.v2) * l.noise[1]})
	return r, nil
}

// damping is R/Z at the lower load.
func damping(s shot, req figure.Request) (figure.Result, error) {
	r, err := impedance(s, req)
	if err != nil {
		return r, err
	}
	z, load := r.Value, req.Args[lower.Name]
	if z <= r.U {
		return figure.Result{}, record.Because(record.ZeroDivisor, "the impedance of %.3g Ω is not told from 0", z).Least(
			load/(math.Max(z, 0)+r.U), "Ω/Ω")
	}
	r.Value, r.U = load/z, load/z*r.U/z
	return r, nil
}

// offLoad is by which share the ohms of a load may differ from what is said before a figure that counts on them is
// refused.
const offLoad = 0.1

// bears refuses a load that is another by its own volts and amps while the capture was taken than is said. One that
// reads nothing is believed.
func (s shot) bears(said float64) error {
	span := float64(s.Len()) * s.Step
	begin, end := s.capture.T+steadyAfter*span, s.capture.T+span
	volts, errV := s.rec.Measured("load.volts", begin, end)
	amps, errA := s.rec.Measured("load.amps", begin, end)
	if errV != nil || errA != nil || !(said > 0) || amps.Mean.Value <= 0 {
		return nil
	}
	ohms := volts.Mean.Value / amps.Mean.Value
	unsure := ohms * (volts.Mean.Offset/volts.Mean.Value + amps.Mean.Offset/amps.Mean.Value)
	if math.Abs(ohms-said) > offLoad*said+unsure {
		return record.Because(record.WrongConditions, "the load is %.4g Ω by its own readings, and %.4g Ω are said", ohms,
			said)
	}
	return nil
}

// steadyAfter is the share of a capture after which readings of the supply are none of before.
const steadyAfter = 0.25

// efficiency is V²/(R·P): what reaches the load, of what the supply gave in the stage.
func efficiency(s shot, req figure.Request) (figure.Result, error) {
	load := req.Args[lower.Name]
	if !(load > 0) {
		return figure.Result{}, record.Because(record.NoData, "say the load of the capture with load: 4 Ω")
	}
	span := float64(s.Len()) * s.Step
	begin, end := s.capture.T+steadyAfter*span, s.capture.T+span
	volts, err := s.rec.Measured("source.volts", begin, end)
	if err != nil {
		return figure.Result{}, err
	}
	amps, err := s.rec.Measured("source.amps", begin, end)
	if err != nil {
		return figure.Result{}, err
	}
	if err := s.bears(load); err != nil {
		return figure.Result{}, err
	}
	// The volts of a supply stand still, so that the mean of the product is the product of the means.
	v, p := s.effective(), volts.Mean.Value*amps.Mean.Value
	if p <= 0 {
		return figure.Result{}, record.Because(record.ZeroDivisor, "the supply gave nothing")
	}
	r := figure.Result{Value: 100 * v * v / (load * p)}
	if r.Value > 100 {
		return r, record.Because(record.Implausible, "%.4g W into the load are more than the %.4g W that were taken",
			v*v/load, p)
	}
	bounds, normal := []float64{2 * s.Gain * r.Value}, []float64{}
	for _, x := range []uncertainty.Reading{volts.Mean, amps.Mean} {
		bounds = append(bounds, (x.Gain+x.Offset/x.Value)*r.Value)
		normal = append(normal, x.Noise/x.Value*r.Value)
	}
	known(&r, s.Stated && volts.Stated && amps.Stated, bounds, normal)
	return r, nil
}

// mayDrift is by which share of it an idle current may drift in its window.
const mayDrift = 0.02

// idle is the mean of what the supply gives without a signal.
func idle(rec *record.Record, req figure.Request) (figure.Result, error) {
	span, err := rec.Span(req.Stage, req.Pass)
	if err != nil {
		return figure.Result{}, err
	}
	m, err := rec.Measured(cmp.Or(req.Quantity, "source.amps"), span.T0, span.T1)
	if err != nil {
		return figure.Result{}, err
	}
	line, err := trace.Fit(m.T, m.X)
	if err != nil {
		return figure.Result{}, record.Because(record.TooFew, "%s", err)
	}
	r := figure.Result{Value: m.Mean.Value, N: m.Len()}
	if drift := math.Abs(line.Slope) * (span.T1 - span.T0); drift > mayDrift*math.Abs(r.Value)+3*m.Mean.Noise {
		return r, record.Because(record.NotSettled, "it drifts by %.3g A in the window", drift)
	}
	r.WithUncertainty(func(x []float64) float64 { return x[0] }, []uncertainty.Reading{m.Mean}, m.Stated)
	return r, nil
}
