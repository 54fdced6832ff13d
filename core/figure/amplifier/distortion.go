package amplifier

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/waveform"
)

// floorTimes is how many times the meter's own noise a noise must be.
const floorTimes = 1.5

// noise is √(V_B² − V_f²) of a band: what the meter has without the unit is taken off.
func noise(s shot, req figure.Request) (figure.Result, error) {
	low, high := req.Args[from.Name], req.Args[to.Name]
	if high > 0.5/s.Step {
		return figure.Result{}, record.Because(record.TooFew, "the rate of %s reaches to %s only",
			show(1/s.Step), show(0.5/s.Step))
	}
	bands := s.Bands(waveform.Hann)
	if low < 2*bands.Width {
		return figure.Result{}, record.Because(record.TooFew, "bins of %s do not resolve %s", show(bands.Width), show(low))
	}
	weight := weightOf(req)
	v := bands.RMS(low, high, weight)
	r := figure.Result{Value: v, Remarks: []string{show(low) + " to " + show(high)}}
	if weight != nil {
		r.Remarks = append(r.Remarks, "weighted A")
	}
	r.Drawing = drawn("Spectrum of "+s.capture.Stage, s.Channel, bands, 1.1*high)
	share := bands.UnsureOfNoise(low, high)
	bounds, normal := []float64{s.Gain * v}, []float64{share * v}
	if req.Against != "" {
		bench, err := taken(s.rec, req, req.Against, s.Channel)
		if err != nil {
			return r, err
		}
		floor := bench.Bands(waveform.Hann).RMS(low, high, weight)
		if v < floorTimes*floor {
			return r, record.Because(record.BelowFloor, "%.3g V are not told from the %.3g V of the meter alone", v,
				floor).Most(v, "V")
		}
		r.Value = math.Sqrt(v*v - floor*floor)
		bounds[0] = s.Gain * r.Value
		normal = []float64{share * v * v / r.Value, share * floor * floor / r.Value}
	}
	known(&r, s.Stated, bounds, normal)
	return r, nil
}

func show(f float64) string { return quantity.Quantity{Value: f, Dim: quantity.Frequency}.Format(3) }

func weightOf(req figure.Request) func(float64) float64 {
	if req.Choices["weighting"] == byA {
		return waveform.Weighing
	}
	return nil
}

// signalToNoise is 20·lg(V_ref/V_n).
func signalToNoise(s shot, req figure.Request) (figure.Result, error) {
	ref := req.Args[reference.Name]
	if !(ref > 0) {
		power, ok := s.rec.Rating(req.Output, "rated_power")
		load, stated := s.rec.Rating(req.Output, "rated_load")
		if !ok || !stated {
			return figure.Result{}, record.Because(record.NoRating,
				"say the level, or state rated_power and rated_load")
		}
		ref = math.Sqrt(power.Value * load.Value)
	}
	r, err := noise(s, req)
	if err != nil {
		return r, err
	}
	if r.Value == 0 {
		return r, record.Because(record.ZeroDivisor, "there is no noise")
	}
	r.U *= decibels / r.Value
	r.Value = 20 * math.Log10(ref/r.Value)
	r.Remarks = append(r.Remarks, quantity.Sprintf("below %.4g V", ref))
	return r, nil
}

// harmonics is 100·√(ΣV_h²)/V₁ of the orders from 2 on.
func harmonics(s shot, req figure.Request) (figure.Result, error) {
	b := s.Bands(waveform.BlackmanHarris)
	one, err := toneOf(b, req, s.Step)
	if err != nil {
		return figure.Result{}, err
	}
	found := b.Harmonics(one, int(req.Args[orders.Name]))
	if len(found) == 0 {
		return figure.Result{}, record.Because(record.TooFew, "the rate of %s reaches no harmonic of %s", show(1/s.Step),
			show(one.Frequency))
	}
	if !b.Apart(one.Frequency, 2*one.Frequency) {
		return figure.Result{}, record.Because(record.TooFew, "bins of %s do not resolve the harmonics", show(b.Width))
	}
	sum := 0.0
	for _, h := range found {
		sum += h.RMS * h.RMS
	}
	r := figure.Result{Value: 100 * math.Sqrt(sum) / one.RMS, Remarks: []string{at(one.Frequency),
		quantity.Sprintf("orders 2 to %d", len(found)+1)}}
	r.Drawing = drawn("Spectrum of "+s.capture.Stage, s.Channel, b, (req.Args[orders.Name]+2)*one.Frequency)
	var bias float64 // noise in the lobes counts as harmonics
	if sum > 0 {
		unheard := b.Unheard(len(found))
		bias = 100 / one.RMS * unheard * unheard / (2 * math.Sqrt(sum))
	}
	return s.lessResidual(r, req, harmonics, []float64{bias}, 100*b.Unsure()/one.RMS)
}

// mayMatter is the share of a distortion from which on what the bench itself has must be said with it.
const mayMatter = 1.0 / 3

// lessResidual adds U to a distortion. What the bench has alone, where against names its capture, may add to it or
// cancel it.
func (s shot) lessResidual(r figure.Result, req figure.Request, of formula, bounds []float64,
	unsure float64) (figure.Result, error) {
	if req.Against != "" {
		bench, err := taken(s.rec, req, req.Against, s.Channel)
		if err != nil {
			return r, err
		}
		alone := req
		alone.Against = ""
		own, err := of(bench, alone)
		if err != nil {
			return r, err
		}
		bounds = append(bounds, own.Value)
		if own.Value > mayMatter*r.Value {
			r.Remarks = append(r.Remarks, quantity.Sprintf("the bench alone has %.3g %%: between %.3g %% and %.3g %%",
				own.Value, math.Max(r.Value-own.Value, 0), r.Value+own.Value))
		}
	}
	known(&r, s.Stated, bounds, []float64{unsure})
	return r, nil
}

// plusNoise is 100·√(V_B² − V₁²)/V₁: all of a band but the tone.
func plusNoise(s shot, req figure.Request) (figure.Result, error) {
	low, high := req.Args[from.Name], math.Min(req.Args[to.Name], 0.5/s.Step)
	b := s.Bands(waveform.BlackmanHarris)
	one, err := toneOf(b, req, s.Step)
	if err != nil {
		return figure.Result{}, err
	}
	all := b.RMS(low, high, nil)
	if one.Frequency < low || one.Frequency > high || all == 0 {
		return figure.Result{}, record.Because(record.ZeroDivisor, "the tone of %s is not in the band", show(one.Frequency))
	}
	rest := math.Sqrt(math.Max(all*all-one.RMS*one.RMS, 0))
	r := figure.Result{Value: 100 * rest / one.RMS, Remarks: []string{at(one.Frequency), show(low) + " to " + show(high)}}
	r.Drawing = residual(s, one.Frequency)
	if req.Choices["relative-to"] == total {
		r.Value = 100 * rest / all
		r.Remarks = append(r.Remarks, "relative to the total")
	}
	return s.lessResidual(r, req, plusNoise, nil, r.Value*b.UnsureOfNoise(low, high)+100*b.Unsure()/one.RMS)
}

// twoTones are the tones of a figure of products.
type twoTones struct {
	b      waveform.Bands
	f1, f2 float64
}

// tones checks that the products of two tones are told apart from the tones and from each other's harmonics.
func tones(s shot, req figure.Request, products ...func(f1, f2 float64) float64) (t twoTones, err error) {
	t.f1, t.f2 = req.Args[first.Name], req.Args[second.Name]
	if !(t.f1 > 0 && t.f2 > t.f1) {
		return t, record.Because(record.NoData, "say both tones: first: 60 Hz, second: 7 kHz")
	}
	t.b = s.Bands(waveform.BlackmanHarris)
	if t.f1 < 10*t.b.Width {
		return t, record.Because(record.TooFew, "%.3g periods of %s were captured, 10 are needed", t.f1/t.b.Width,
			show(t.f1))
	}
	for _, of := range products {
		f := of(t.f1, t.f2)
		switch {
		case f <= 0 || !t.b.Reaches(f):
			return t, record.Because(record.TooFew, "the product at %s was not sampled", show(f))
		case !t.b.Apart(f, t.f1) || !t.b.Apart(f, t.f2):
			return t, record.Because(record.TooFew, "bins of %s do not tell the product at %s from the tones",
				show(t.b.Width), show(f))
		}
		for h := 2.0; h <= 10; h++ {
			if !t.b.Apart(f, h*t.f1) || !t.b.Apart(f, h*t.f2) {
				return t, record.Because(record.Ambiguous, "the product at %s falls on a harmonic", show(f))
			}
		}
	}
	return t, nil
}

func (t twoTones) v(f float64) float64 { return t.b.Near(f).RMS }

// modulation is √(d₂² + d₃²): sidebands of the upper tone at one and two times the lower.
func modulation(s shot, req figure.Request) (figure.Result, error) {
	t, err := tones(s, req, func(f1, f2 float64) float64 { return f2 - 2*f1 },
		func(f1, f2 float64) float64 { return f2 - f1 }, func(f1, f2 float64) float64 { return f2 + f1 },
		func(f1, f2 float64) float64 { return f2 + 2*f1 })
	if err != nil {
		return figure.Result{}, err
	}
	carrier := t.v(t.f2)
	if carrier < outOfNoise*t.b.Unsure() {
		return figure.Result{}, record.Because(record.ZeroDivisor, "there is no tone at %s", show(t.f2))
	}
	d2, d3 := (t.v(t.f2+t.f1)+t.v(t.f2-t.f1))/carrier, (t.v(t.f2+2*t.f1)+t.v(t.f2-2*t.f1))/carrier
	return products(s, t, d2, d3, carrier)
}

// difference is √(d₂² + d₃²) of two tones close together.
func difference(s shot, req figure.Request) (figure.Result, error) {
	t, err := tones(s, req, func(f1, f2 float64) float64 { return f2 - f1 },
		func(f1, f2 float64) float64 { return 2*f1 - f2 }, func(f1, f2 float64) float64 { return 2*f2 - f1 })
	if err != nil {
		return figure.Result{}, err
	}
	both := t.v(t.f1) + t.v(t.f2)
	if both < outOfNoise*t.b.Unsure() {
		return figure.Result{}, record.Because(record.ZeroDivisor, "there are no tones")
	}
	return products(s, t, t.v(t.f2-t.f1)/both, (t.v(2*t.f1-t.f2)+t.v(2*t.f2-t.f1))/both, both)
}

func products(s shot, t twoTones, d2, d3, over float64) (figure.Result, error) {
	r := figure.Result{Value: 100 * math.Hypot(d2, d3), Remarks: []string{
		quantity.Sprintf("second order %.3g %%, third %.3g %%", 100*d2, 100*d3)}}
	r.Drawing = drawn("Spectrum of "+s.capture.Stage, s.Channel, t.b, 1.2*(t.f2+2*t.f1))
	known(&r, s.Stated, nil, []float64{100 * math.Sqrt2 * t.b.Unsure() / over})
	return r, nil
}
