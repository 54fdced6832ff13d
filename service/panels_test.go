package service_test

import (
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/device"
	"usherbench/simbench/plant/panel"
)

// figuresOf are the figures of a run by what they are, the first of each.
func figuresOf(doc api.Run) map[string]procedure.Judged {
	figures := map[string]procedure.Judged{}
	for _, f := range slices.Backward(doc.Figures) {
		figures[f.ID] = f
	}
	return figures
}

// faultyUnits are units whose serial numbers tell their fault.
func faultyUnits(prefix string, faults []plant.Fault) map[string]string {
	units := map[string]string{}
	for _, f := range faults {
		units[prefix+string(f)] = string(f)
	}
	return units
}

// What is said of a panel is its truth, as well as it is said to be known, whatever is wrong with it.
func TestThePowerCurveOfAPanelIsItsTruth(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		all := []plant.Fault{plant.Healthy, panel.Dirty, panel.Corroded, panel.CrackedCell, panel.LeakyCells}
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Converter, simbench.Panel},
			Faulty: faultyUnits("FU-9-", all)})
		outcomes := map[plant.Fault]string{}
		for _, fault := range all {
			serial := "FU-9-" + string(fault)
			p, err := panel.Fulmar(serial, fault)
			require.NoError(t, err)
			run := h.Ended(h.Start("bay2", "fulmar-sweep", serial))
			require.Equal(t, "done", run.State, run.Reason)
			outcomes[fault] = run.Outcome
			f := figuresOf(run)
			watts, _, amps := p.Top(panel.Usual)
			open, short := p.Volts(0, panel.Usual), p.Amps(0, panel.Usual)
			for id, truth := range map[string]float64{"pv-max-power": watts, "pv-max-power-current": amps,
				"pv-open-circuit-voltage": open, "pv-short-circuit-current": short,
				"pv-fill-factor": 100 * watts / (open * short)} {
				require.Nil(t, f[id].Undetermined, "%s of a %s panel: %v", id, fault, f[id].Undetermined)
				// Between the places of a sweep a curve is taken as straight, or as a parabola.
				between := 2e-4 * truth
				assert.InDelta(t, truth, f[id].Value, f[id].U+between, "%s of a %s panel: ±%g", id, fault, f[id].U)
			}
			assert.Less(t, f["pv-sweep-agreement"].Value, 0.1)
			assert.Empty(t, labels(run, record.MarkWarning), "what is set is reached everywhere")
		}
		assert.Equal(t, map[plant.Fault]string{plant.Healthy: "pass", panel.Dirty: "fail", panel.Corroded: "fail",
			panel.CrackedCell: "fail", panel.LeakyCells: "fail"}, outcomes)
	})
}

// A table of currents, as somebody brings it, goes beyond what a panel has: that is told, and ends the sweep where the
// procedure says so.
func TestAListThatStopsBeingSensibleIsTold(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Panel}})
		var rows strings.Builder
		for k := range 240 {
			fmt.Fprintf(&rows, "    %.4f\n", 2.2*(1-math.Pow(1-float64(k)/239, 2)))
		}
		text := `procedure: listed%s
for: fulmar
needs: {load: {volts: 24 V, amps: 2.3 A}, light: {}}
record: {every: 20 ms}
stages:
  - set: {load: {mode: current, amps: 0 A, output: on}}
  - name: sweep
    grid:
      over: [{set: load.amps, table: amps.csv}]
      settle: 20 ms
      average: 60 ms%s
figures: [{figure: pv-max-power, stage: sweep, drop: 0.5 %%}]
tables:
  amps.csv: |
    load.amps [A]
` + rows.String()
		h.Push(fmt.Sprintf(text, "", "\n      end when: \"load.volts < 300 mV\""))
		h.Push(fmt.Sprintf(text, "-on", ""))
		ended := h.Ended(h.Start("bay1", "listed", "FU-907"))
		require.Equal(t, "done", ended.State, ended.Reason)
		whole := h.Ended(h.Start("bay1", "listed-on", "FU-907"))
		require.Equal(t, "done", whole.State, whole.Reason)
		assert.Len(t, whole.Points, 240)
		assert.Less(t, len(ended.Points), 200)
		assert.Greater(t, len(ended.Points), 140)
		require.NotEmpty(t, labels(ended, record.MarkCondition))
		assert.Contains(t, labels(ended, record.MarkCondition)[0],
			fmt.Sprintf("the grid ended at point %d of 240: load.volts < 300 mV", len(ended.Points)))
		require.Len(t, labels(whole, record.MarkWarning), 1, "said once, not at every point")
		assert.Regexp(t, `point 1\d\d of 240: load\.amps is 1\.\d+ A where 2(\.\d+)? A is set`,
			labels(whole, record.MarkWarning)[0])
		assert.InDelta(t, figureOf(t, whole, "pv-max-power").Value, figureOf(t, ended, "pv-max-power").Value, 0.01)
		// The picture has a line, and the place of the largest power.
		require.NotEmpty(t, figureOf(t, whole, "pv-max-power").Spots)
	})
}

// What is said of a switch is its truth, with the empty fixture taken off.
func TestBreakdownAndLeakageAreThoseOfTheSwitch(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		all := []plant.Fault{plant.Healthy, device.EarlyAvalanche, device.Leaky}
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.HighVoltage},
			Faulty: faultyUnits("SK-9-", all)})
		outcomes := map[plant.Fault]string{}
		for _, fault := range all {
			serial := "SK-9-" + string(fault)
			s, err := device.Skua(serial, fault)
			require.NoError(t, err)
			run := h.Ended(h.Start("bay1", "skua-blocking", serial))
			require.Equal(t, "done", run.State, run.Reason)
			outcomes[fault] = run.Outcome
			f := figuresOf(run)
			if fault != plant.Healthy {
				continue
			}
			assert.InDelta(t, s.At(1e-6, plant.Ambient), f["breakdown-voltage"].Value, f["breakdown-voltage"].U)
			assert.InDelta(t, s.Amps(1360, plant.Ambient), f["leakage-current"].Value, f["leakage-current"].U)
			assert.True(t, slices.ContainsFunc(labels(run, record.MarkBench), func(l string) bool {
				return l == "sourcemeter.range: 1 µA after 10 nA"
			}), "%v", labels(run, record.MarkBench))
			for _, c := range run.Played {
				assert.Equal(t, "y", c.Log)
				assert.True(t, c.Dots)
			}
		}
		assert.Equal(t, map[plant.Fault]string{plant.Healthy: "pass", device.EarlyAvalanche: "fail",
			device.Leaky: "fail"}, outcomes)
	})
}

const behindTheCover = `procedure: behind-the-cover
for: any
needs: {sourcemeter: {volts: 2000 V, amps: 1 mA}}
stages:
  - set: {sourcemeter: {volts: 1500 V, amps: 100 µA, output: on}}
  - hold: {for: 1000 s}
`

// Nothing is on behind an open interlock, in a run and by hand, and the bay says that it may be opened only when its
// charge is gone.
func TestTheInterlockIsObeyed(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.HighVoltage}})
		h.Push(behindTheCover)
		const source = "sourcemeter1"
		cover := func() api.Cover {
			b, err := h.Local.Bay(t.Context(), "bay1")
			require.NoError(t, err)
			require.NotNil(t, b.Cover)
			return *b.Cover
		}
		truth := func() simbench.BayState {
			s, err := h.Bench.State("bay1")
			require.NoError(t, err)
			return s
		}
		until := func(what string, is func() bool) {
			t.Helper()
			require.Eventually(t, is, 20*time.Second, 20*time.Millisecond, what)
		}
		until("an empty fixture", func() bool { return cover().SafeToOpen })
		run := h.Start("bay1", "behind-the-cover", "SK-1")
		until("on", func() bool { return truth().SourceOn })
		assert.Equal(t, "sourcemeter may be on", cover().Why)
		require.NoError(t, h.Bench.SetFault(source, simbench.OpenInterlock))
		opened := time.Now()
		until("off", func() bool { return !truth().SourceOn })
		assert.Less(t, time.Since(opened), 500*time.Millisecond, "with the next reading")
		doc := h.Ended(run)
		assert.Equal(t, "aborted", doc.State)
		assert.Equal(t, "the interlock of sourcemeter1 is open while its output is on", doc.Reason)

		// Its charge goes by itself, and what people are told never runs ahead of it.
		told := 0
		until("safe to open", func() bool {
			c := cover()
			if volts := truth().Truth.Line.Volts; c.SafeToOpen {
				assert.Less(t, volts, 30.0)
			} else if strings.Contains(c.Why, "still reads") {
				told++
			}
			return c.SafeToOpen
		})
		assert.Greater(t, told, 5)

		// It is not begun again, and cannot be switched on by hand.
		_, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "behind-the-cover", Serial: "SK-1"})
		require.ErrorContains(t, err, "the interlock of sourcemeter1 is open")
		_, err = h.Local.Set(t.Context(), "bay1", api.ManualSet{Seat: "sourcemeter", Quantity: "output", Value: "on"})
		require.ErrorContains(t, err, "so its output stays off; close the cover and start again")
		assert.GreaterOrEqual(t, problemOf(t, err).Status, http.StatusConflict)
		assert.False(t, truth().SourceOn)

		// By hand likewise: on while it is closed, off when it opens.
		require.NoError(t, h.Bench.SetFault(source, simbench.NoFault))
		for _, set := range []api.ManualSet{{Seat: "sourcemeter", Quantity: "volts", Value: "800 V"},
			{Seat: "sourcemeter", Quantity: "amps", Value: "100 µA"},
			{Seat: "sourcemeter", Quantity: "output", Value: "on"}} {
			_, err = h.Local.Set(t.Context(), "bay1", set)
			require.NoError(t, err, set.Quantity)
		}
		until("on by hand", func() bool { return truth().SourceOn })
		require.NoError(t, h.Bench.SetFault(source, simbench.OpenInterlock))
		until("off by hand", func() bool { return !truth().SourceOn })
		b, err := h.Local.Bay(t.Context(), "bay1")
		require.NoError(t, err)
		require.NotNil(t, b.Held)
		assert.Contains(t, b.Held.Why, "the interlock of sourcemeter1 is open while its output is on")

		// An instrument that does not answer leaves the cover closed.
		until("safe again", func() bool { return cover().SafeToOpen })
		require.NoError(t, h.Bench.SetFault(source, simbench.Drop))
		until("not known", func() bool { return cover().Why == "the volts of sourcemeter are not known" })
		require.NoError(t, h.Bench.SetFault(source, simbench.NoFault))
		until("known again", func() bool { return cover().SafeToOpen })
	})
}

// Without its guards a source-meter measures what leaks through its leads too; and it goes to no finer range than
// it may.
func TestGuardsAndRanges(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.HighVoltage}})
		text, err := demo.Library("skua-blocking")
		require.NoError(t, err)
		leaks := map[string]float64{}
		for _, guard := range []string{"on", "off"} {
			told := strings.Replace(text, "procedure: skua-blocking", "procedure: guard-"+guard, 1)
			told = strings.Replace(told, "guard: on}", "guard: "+guard+"}", 1)
			told = strings.Replace(told, "{volts: 0 V, amps: 100 µA, output: on}",
				"{volts: 0 V, amps: 100 µA, range: 1 µA, output: on}", 1)
			h.Push(told)
			run := h.Ended(h.Start("bay1", "guard-"+guard, "SK-1001"))
			require.Equal(t, "done", run.State, run.Reason)
			leaks[guard] = figuresOf(run)["leakage-current"].Value
			for _, p := range run.Points {
				if finest := p.Averages["sourcemeter.range"].Mean; p.Stage == "leakage" {
					assert.InDelta(t, 1e-6, finest, 1e-12, "no finer, though 5 nA would fit")
				}
			}
		}
		assert.InDelta(t, 0.8*1700/2e10, leaks["off"]-leaks["on"], 8e-9, "what leaks through its leads")
	})
}
