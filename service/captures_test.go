package service_test

import (
	"bytes"
	"cmp"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/procedure"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/converter"
)

// reviewed are the faults of a converter, and the figures of a design review that each makes fail.
var reviewed = []struct {
	fault plant.Fault
	fails []string
}{
	{plant.Healthy, nil},
	{converter.WeakRegulation, []string{"load-regulation"}},
	{converter.LowEfficiency, []string{"efficiency", "weighted-efficiency"}},
	{converter.HighRipple, []string{"ripple-pp", "ripple-rms"}},
	{converter.PoorDamping, []string{"recovery-time", "recovery-time"}},
	{converter.HardStart, []string{"startup-overshoot", "inrush"}},
}

// reviewTruths are what the figures of the validation are of a unit: from its closed forms, and from its waveforms at a
// step far finer than any scope's.
func reviewTruths(c converter.Converter) map[string]float64 {
	at := func(line, amps float64) plant.Operating {
		return c.Solve(plant.Source{On: true, Volts: line, Amps: 5}, plant.Load{On: true, Mode: plant.ConstantCurrent,
			Level: amps}, true)
	}
	damping, root := c.Damping, math.Sqrt(1-c.Damping*c.Damping)
	peak := math.Exp(-damping/root*math.Acos(damping)) * root
	rush := 0.0
	for t := 0.0; t < 50e-6; t += 1e-8 {
		rush = max(rush, c.Fine.Rush*48*(1-math.Exp(-t/3e-6))*math.Exp(-t/150e-6))
	}
	under, back := stepTruth(c)
	return map[string]float64{
		"efficiency source.volts 48 V, load.amps 8 A": at(48, 8).Efficiency(),
		"efficiency source.volts 36 V, load.amps 8 A": at(36, 8).Efficiency(),
		"efficiency source.volts 60 V, load.amps 8 A": at(60, 8).Efficiency(),
		"loss":                         at(48, 8).Loss(),
		"load-shift":                   1e3 * (at(48, 8).Output.Volts - at(48, 0.5).Output.Volts),
		"line-shift":                   1e3 * (at(60, 8).Output.Volts - at(36, 8).Output.Volts),
		"no-load-power":                at(48, 0).Loss(),
		"lockout-on":                   c.LockoutOn,
		"lockout-off":                  c.LockoutOff,
		"rise-time":                    0.8 * c.SoftStart,
		"startup-overshoot":            100 * c.Fine.StartOver * peak,
		"inrush":                       rush,
		"dominant-frequency":           c.Fine.Frequency,
		"ripple-pp":                    rippleTruth(c),
		"transient-undershoot-percent": 100 * under / at(48, 8).Output.Volts,
		"recovery-time load step up":   back,
	}
}

// loaded is a unit that has run for long, and whose load steps from 1 to 8 A at 2 s.
func loaded(c converter.Converter) *converter.Unit {
	u := &converter.Unit{Converter: c}
	joined := plant.Joined{Line: plant.Source{On: true, Volts: 48, Amps: 5}}
	u.At(0, joined)
	for t, amps := range map[float64]float64{1: 1, 2: 8} {
		if t == 1 {
			joined.Output = plant.Load{On: true, Mode: plant.ConstantCurrent, Level: amps}
			u.At(t, joined)
		}
	}
	joined.Output = plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 8}
	u.At(2, joined)
	return u
}

// rippleTruth is the span of the ripple at full load behind a single pole of 20 MHz, without the outermost 0.5 %.
func rippleTruth(c converter.Converter) float64 {
	u := loaded(c)
	var x []float64
	const step = 1e-9
	y := u.Wave(3).Output.Volts
	for t := 3.0; t < 3+100e-6; t += step {
		y += (1 - math.Exp(-2*math.Pi*20e6*step)) * (u.Wave(t).Output.Volts - y)
		x = append(x, y)
	}
	slices.Sort(x)
	n := float64(len(x) - 1)
	return x[int(0.9975*n)] - x[int(0.0025*n)]
}

// stepTruth is how far the output dips at the step, and when it is back within 75 mV for good, its ripple taken out by
// a mean over 4.5 µs.
func stepTruth(c converter.Converter) (under, back float64) {
	c.Fine.Ripple, c.Fine.Spike = 0, 0
	u := loaded(c)
	level := u.Wave(2.5).Output.Volts
	const step, over = 50e-9, 90
	var sums []float64
	sum := 0.0
	for t := 2 - 10e-6; t < 2+9e-3; t += step {
		sum += u.Wave(t).Output.Volts
		sums = append(sums, sum)
	}
	for i := over; i < len(sums); i++ {
		x := (sums[i] - sums[i-over]) / over
		t := (float64(i)-over/2)*step - 10e-6
		under = max(under, level-x)
		if math.Abs(x-level) > 0.075 {
			back = t
		}
	}
	// The trigger comes where the load passes 4 A: 3/7 of its edge of 10 µs.
	return under, back - 10e-6*3/7
}

// failed are the figures that fail, by name.
func failed(all []procedure.Judged) (ids []string) {
	for _, f := range all {
		if f.Outcome == "fail" {
			ids = append(ids, f.ID)
		}
	}
	return ids
}

// reviewedUnits is how many units have each fault when they are all reviewed, by: make review. Otherwise it is one.
const reviewedUnits = 20

// A design review finds what is wrong with a unit and nothing else, and says of everything what the unit is.
func TestTheDesignReviewFindsWhatIsWrong(t *testing.T) {
	units := 1
	if os.Getenv("REVIEWED") == "all" {
		units = reviewedUnits
	}
	var table strings.Builder
	table.WriteString("| fault | figures that fail |\n|---|---|\n")
	faults := map[string]string{}
	var held holding
	serialOf := func(i, unit int) string { return fmt.Sprintf("TN-%d", 3000+10*unit+i) }
	for i, r := range reviewed {
		for unit := range units {
			faults[serialOf(i, unit)] = string(r.fault)
		}
	}
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Scoped}, TimeFactor: 10,
			Faulty: faults})
		for i, r := range reviewed {
			for k := range units {
				serial := serialOf(i, k)
				doc := h.Ended(h.Start("bay1", "tern-validation", serial))
				require.Equal(t, "done", doc.State, "%s: %s", r.fault, doc.Reason)
				held.runHolds(t, doc, serial, r.fault)
				assert.Equal(t, r.fails, failed(doc.Figures), "%s %s", serial, r.fault)
				if i == 0 && k == 0 {
					capturesOf(t, h, doc)
				}
			}
			words := "none"
			if len(r.fails) > 0 {
				words = "`" + strings.Join(slices.Compact(slices.Clone(r.fails)), "`, `") + "`"
			}
			fmt.Fprintf(&table, "| %s | %s |\n", cmp.Or(string(r.fault), "healthy"), words)
		}
	})
	if units == reviewedUnits {
		assert.InDelta(t, 0.96, held.share(), 0.025, "stated are 95 %")
	}
	if os.Getenv("USHER_WRITE_DOCS") != "" && units == reviewedUnits && !t.Failed() {
		page := fmt.Sprintf("# What a design review finds\n\nMade by the test TestTheDesignReviewFindsWhatIsWrong, which "+
			"runs `tern-validation` on the simulated bench, scope included, on\n%d units with each fault (`make review`; "+
			"`make test` takes one of each). A fault fails these figures and no others, in every unit:\n\n%s\nOf %d figures "+
			"of which the units know the truth %.1f %% lie within their stated U (95 %%) of it, and none beyond %g U.\n",
			reviewedUnits, table.String(), held.of, 100*held.share(), mostBeyond)
		require.NoError(t, os.WriteFile("../docs/validation.md", []byte(page), 0o644))
	}
	text, err := os.ReadFile("../docs/validation.md")
	require.NoError(t, err)
	assert.Contains(t, string(text), table.String(), "write it anew with USHER_WRITE_DOCS=1 make review")
}

// mostBeyond is how many U a figure may be from the truth: 2.2 U of 95 % are four standard deviations.
const mostBeyond = 2.2

// holding counts figures that hold the truth within their U.
type holding struct{ held, of int }

func (h holding) share() float64 { return float64(h.held) / float64(h.of) }

// runHolds compares every figure of which the unit knows the truth with it.
func (h *holding) runHolds(t *testing.T, doc api.Run, serial string, fault plant.Fault) {
	unit, err := converter.Tern(serial, fault)
	require.NoError(t, err)
	truth := reviewTruths(unit)
	for _, f := range doc.Figures {
		require.Nil(t, f.Undetermined, "%s %s: %+v", fault, f.ID, f.Undetermined)
		want, known := truth[strings.TrimSpace(f.ID+" "+f.Where)]
		if !known {
			want, known = truth[f.ID]
		}
		if f.ID == "recovery-time" {
			want, known = truth["recovery-time "+f.Stage]
		}
		if known {
			h.of++
			if math.Abs(f.Value-want) <= f.U {
				h.held++
			}
			assert.LessOrEqual(t, math.Abs(f.Value-want), mostBeyond*f.U, "%s %s, %s %s: %.6g ± %.2g, not %.6g", serial, fault,
				f.ID, f.Where, f.Value, f.U, want)
		}
	}
}

// capturesOf reads the captures of a validation as people do.
func capturesOf(t *testing.T, h *servicetest.House, doc api.Run) {
	all, err := h.Local.Captures(t.Context(), doc.ID)
	require.NoError(t, err)
	require.Len(t, all, 10)
	assert.Equal(t, "start", all[0].Stage)
	assert.Equal(t, []string{"output", "input", "current"}, []string{all[0].Channels[0].Name, all[0].Channels[1].Name,
		all[0].Channels[2].Name})
	window, err := h.Local.Capture(t.Context(), doc.ID, 0, client.Stretch{From: -1e-3, To: 5e-3}, 400)
	require.NoError(t, err)
	require.Len(t, window.Traces, 3)
	for _, trace := range window.Traces {
		assert.LessOrEqual(t, len(trace.T), 402)
		assert.InDelta(t, -1e-3, trace.T[0], 2e-5)
		assert.Len(t, trace.High, len(trace.T))
	}
	close, err := h.Local.Capture(t.Context(), doc.ID, 0, client.Stretch{From: 0, To: 1e-4}, 400)
	require.NoError(t, err)
	assert.Empty(t, close.Traces[0].High, "every sample is shown")
	var csv bytes.Buffer
	require.NoError(t, h.Local.ExportCapture(t.Context(), doc.ID, 0, client.Open(), &csv))
	lines := strings.Split(strings.TrimSpace(csv.String()), "\n")
	assert.Equal(t, "time [s],output [V],input [V],current [A]", lines[0])
	assert.Len(t, lines, 50_001)
	between, err := h.Local.CaptureStatistics(t.Context(), doc.ID, 0, client.Stretch{From: 30e-3, To: 45e-3})
	require.NoError(t, err)
	require.Len(t, between, 3)
	assert.Equal(t, 15_000, between[0].N, "the capture ends just before 45 ms")
	assert.InDelta(t, 14.96, *between[0].Mean, 0.25)
	assert.InDelta(t, *between[0].Mean*15e-3, *between[0].Integral, 1e-3)
	assert.Less(t, *between[0].Least, *between[0].Mean)
	whole, err := h.Local.Statistics(t.Context(), doc.ID, client.Open())
	require.NoError(t, err)
	volts := whole[slices.IndexFunc(whole, func(s api.Statistic) bool { return s.Name == "source.volts" })]
	assert.Equal(t, "V", volts.Unit)
	assert.InDelta(t, 60, *volts.Largest, 0.1)
	assert.Greater(t, volts.N, 100)
	assert.GreaterOrEqual(t, *volts.RMS, *volts.Mean)
	_, err = h.Local.Capture(t.Context(), doc.ID, 77, client.Open(), 10)
	assert.Equal(t, 404, problemOf(t, err).Status)
}

// What a capture of a ripple is made of: its strongest line is the converter's own frequency, and the bars of its
// histogram hold all samples.
func TestWhatACaptureIsMadeOf(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Scoped}})
		h.Push(`procedure: rippling
for: any
needs: {source: {volts: 48 V, amps: 5 A}, load: {volts: 15 V, amps: 8 A}, scope: {}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 8 A, output: on}}
  - hold: {for: 1 s}
  - capture: {channels: {output: {range: 400 mV, coupling: ac}}, span: 1 ms, samples: 50000}
`)
		doc := h.Ended(h.Start("bay1", "rippling", "TN-1"))
		require.Equal(t, "done", doc.State, doc.Reason)
		all, err := h.Local.CaptureMakeup(t.Context(), doc.ID, 0, client.Open())
		require.NoError(t, err)
		require.Len(t, all, 1)
		m := all[0]
		strongest := slices.Index(m.Amplitudes, slices.Max(m.Amplitudes))
		unit, err := converter.Tern("TN-1", plant.Healthy)
		require.NoError(t, err)
		assert.InEpsilon(t, unit.Fine.Frequency, m.Hertz[strongest], 5e-3)
		assert.Equal(t, "V", m.Unit)
		sum := 0.0
		for _, x := range m.Shares {
			sum += x
		}
		assert.InDelta(t, 1, sum, 1e-9)
		assert.Less(t, m.Values[len(m.Values)-1]-m.Values[0], 0.4)
		part, err := h.Local.CaptureMakeup(t.Context(), doc.ID, 0, client.Stretch{From: 0, To: 100e-6})
		require.NoError(t, err)
		assert.Greater(t, part[0].Hertz[0], 5*m.Hertz[0], "a tenth of the time resolves a tenth as finely")
		_, err = h.Local.CaptureMakeup(t.Context(), doc.ID, 7, client.Open())
		assert.Equal(t, 404, problemOf(t, err).Status)
	})
}

// A digitiser with registers captures what a scope with blocks does, window by window.
func TestADigitiserWithRegisters(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Scoped, simbench.Digitised}})
		h.Push(`procedure: stepping
for: any
needs: {source: {volts: 48 V, amps: 5 A}, load: {volts: 15 V, amps: 8 A}, scope: {}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A, output: on}}
  - hold: {for: 1 s}
  - capture:
      channels: {output: {range: 4 V, offset: 15 V, bandwidth: 20 kHz}, load: {range: 20 A, offset: 5 A}}
      span: 4 ms
      samples: 5001
      trigger: {channel: load, level: 4 A}
      do: {load: {amps: 6 A}}
`)
		var captured [][]api.Statistic
		for _, bay := range []string{"bay1", "bay2"} {
			doc := h.Ended(h.Start(bay, "stepping", "TN-1"))
			require.Equal(t, "done", doc.State, doc.Reason)
			all, err := h.Local.Captures(t.Context(), doc.ID)
			require.NoError(t, err)
			require.Len(t, all, 1)
			statistics, err := h.Local.CaptureStatistics(t.Context(), doc.ID, 0, client.Open())
			require.NoError(t, err)
			captured = append(captured, statistics)
		}
		require.Len(t, captured[1], 2)
		for k, with := range captured[1] {
			without := captured[0][k]
			full := map[string]float64{"output": 4, "load": 20}[with.Name]
			assert.Equal(t, 5001, with.N, with.Name)
			assert.InDelta(t, *without.Mean, *with.Mean, 0.03**without.Mean+0.01*full, with.Name)
			assert.InDelta(t, *without.Largest-*without.Least, *with.Largest-*with.Least, 0.1*full, with.Name)
		}
		asked, err := h.Local.Exchanges(t.Context(), "register-scope2", 1000)
		require.NoError(t, err)
		pages := map[string]bool{}
		for _, x := range asked {
			if strings.HasPrefix(x.Message, "write 3 = ") {
				pages[x.Message] = true
			}
		}
		assert.Len(t, pages, 42, "5001 samples in windows of 120")
	})
}
