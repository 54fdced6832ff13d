package service_test

import (
	"bytes"
	"math"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/adapter"
)

// standby runs the full procedure for standby power on a unit in a bay.
func standby(t *testing.T, h *servicetest.House, bay, serial, change string) (api.Run, map[string]procedure.Judged) {
	t.Helper()
	run := h.Ended(h.Start(bay, "eider-standby"+change, serial))
	figures := map[string]procedure.Judged{}
	for _, f := range run.Figures {
		figures[f.ID] = f
	}
	return run, figures
}

// The power of an adapter that gives nothing is what its truth says, as well as it is said to be known, however the
// meter is wired and whatever the unit does.
func TestStandbyPowerIsThatOfTheUnit(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 60,
			Layouts: []simbench.Layout{simbench.Mains, simbench.MainsAtUnit}})
		truth := func(serial string, fault plant.Fault) float64 {
			a, err := adapter.Eider(serial, fault)
			require.NoError(t, err)
			return a.Low.Taken(0, 600) / 600
		}
		run, f := standby(t, h, "bay1", "ED-501", "")
		require.Equal(t, "done", run.State, run.Reason)
		require.Equal(t, "pass", run.Outcome)
		assert.InDelta(t, truth("ED-501", plant.Healthy), f["burden-corrected-power"].Value, f["burden-corrected-power"].U)
		assert.Zero(t, f["supply-quality-breaches"].Value)
		assert.InDelta(t, 0.4, f["supply-voltage-thd"].Value, 0.02, "the third harmonic of the source")
		assert.Greater(t, f["current-crest-factor"].Value, 3.0, "a rectifier")

		_, other := standby(t, h, "bay2", "ED-501", "")
		apart := other["standby-power"].Value - f["standby-power"].Value
		assert.InDelta(t, 230.0*230/2e6, apart, 2e-3, "the voltage input behind the shunt is read as the unit's")
		assert.InDelta(t, f["burden-corrected-power"].Value, other["burden-corrected-power"].Value,
			math.Hypot(f["burden-corrected-power"].U, other["burden-corrected-power"].U))
	})
}

// A meter that takes more itself than may be left uncertain is refused where nobody takes that off, with the watts of
// either wiring; where it is taken off, it is said.
func TestAWrongWiringIsRefused(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 60,
			Layouts: []simbench.Layout{simbench.Mains, simbench.MainsAtUnit}})
		check := func(bay, procedure, name string) api.PreflightFinding {
			p, err := h.Local.Preflight(t.Context(), api.StartRun{Bay: bay, Procedure: procedure, Serial: "ED-501"})
			require.NoError(t, err)
			for _, f := range p.Findings {
				if f.Check == name {
					return f
				}
			}
			return api.PreflightFinding{}
		}
		found := func(bay, procedure string) api.PreflightFinding { return check(bay, procedure, "burden") }
		for bay, level := range map[string]string{"bay1": "fine", "bay2": "blocks"} {
			f := found(bay, "eider-standby-look")
			assert.Equal(t, level, string(f.Verdict), f.What)
			if level == "blocks" {
				assert.Contains(t, f.What, "26.4 mW too much of the 150 mW")
				assert.Contains(t, f.Remedy, "wiring: voltmeter-at-supply")
			}
		}
		assert.Contains(t, check("bay1", "eider-standby-look", "method").What, "ask for accumulated-power")
		assert.Contains(t, check("bay1", "eider-standby", "method").What, "are seen")
		corrected := found("bay2", "eider-standby")
		assert.Equal(t, "warns", string(corrected.Verdict))
		assert.Contains(t, corrected.What, "which is corrected")
		_, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay2", Procedure: "eider-standby-look", Serial: "ED-501"})
		assert.ErrorContains(t, err, "wired as voltmeter-at-unit")
		assert.Equal(t, "voltmeter-at-supply", corrected.Connection, "it is drawn as is advised")
		var drawing bytes.Buffer
		require.NoError(t, h.As(api.Viewer).Connection(t.Context(), corrected.Connection, &drawing))
		assert.Contains(t, drawing.String(), "<svg")
		assert.ErrorContains(t, h.Local.Connection(t.Context(), "anywhere", &drawing), "Not found")
		text, err := demo.Library("eider-standby")
		require.NoError(t, err)
		h.Push(strings.NewReplacer("procedure: eider-standby", "procedure: eider-standby-otherwise",
			"stage: low power, known: 0.05}", "stage: low power, known: 0.05, wiring: voltmeter-at-unit}").Replace(
			onlyCorrected(text)))
		other := found("bay1", "eider-standby-otherwise")
		assert.Equal(t, "blocks", string(other.Verdict))
		assert.Contains(t, other.What, "corrects for a voltmeter-at-unit")
	})
}

// onlyCorrected leaves of a procedure's figures the corrected power.
func onlyCorrected(text string) string {
	lines := strings.SplitAfter(text, "\n")
	return strings.Join(slices.DeleteFunc(lines, func(line string) bool {
		return strings.Contains(line, "figure: ") && !strings.Contains(line, "burden-corrected-power")
	}), "")
}

// What a unit does that is no steady power is seen: a drift is waited out in vain, cycles are taken whole, and bursts
// between the readings are told by the meter's own counter.
func TestStandbyThatIsNotSteadyIsSeen(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 60, Layouts: []simbench.Layout{simbench.Mains},
			Faulty: map[string]string{"ED-7": "drifting", "ED-8": "cyclic", "ED-9": "bursts"}})
		text, err := demo.Library("eider-standby")
		require.NoError(t, err)
		short := strings.NewReplacer("procedure: eider-standby", "procedure: eider-standby-in-short", "value: 3 h",
			"value: 20 min").Replace(onlyOfPower(text))
		h.Push(short)
		h.Push(strings.NewReplacer("eider-standby-in-short", "eider-standby-in-cycles",
			"stage: low power", "stage: low power, cycle: 1 min").Replace(short))
		_, drifting := standby(t, h, "bay1", "ED-7", "-in-short")
		require.NotNil(t, drifting["standby-power"].Undetermined)
		assert.Equal(t, record.NotSettled, drifting["standby-power"].Undetermined.Code)

		a, err := adapter.Eider("ED-8", adapter.Cyclic)
		require.NoError(t, err)
		_, cyclic := standby(t, h, "bay1", "ED-8", "-in-cycles")
		p := cyclic["standby-power"]
		require.Nil(t, p.Undetermined)
		assert.InEpsilon(t, a.Low.Taken(0, 600)/600, p.Value, 0.03, "whole cycles")

		a, err = adapter.Eider("ED-9", adapter.Bursts)
		require.NoError(t, err)
		_, bursts := standby(t, h, "bay1", "ED-9", "-in-short")
		e := bursts["accumulated-power"]
		require.Nil(t, e.Undetermined)
		assert.InDelta(t, a.Low.Taken(0, 600)/600, e.Value, e.U+1e-4)
	})
}

// onlyOfPower leaves of a procedure's figures those of power.
func onlyOfPower(text string) string {
	lines := strings.SplitAfter(text, "\n")
	return strings.Join(slices.DeleteFunc(lines, func(line string) bool {
		return strings.Contains(line, "figure: ") && !strings.Contains(line, "-power,") && !strings.Contains(line, "-step")
	}), "")
}

// A supply that is distorted spoils the run: its report says which requirement was not met.
func TestADistortedSupplyIsSeen(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 60, Layouts: []simbench.Layout{simbench.Mains}})
		text, err := demo.Library("eider-standby")
		require.NoError(t, err)
		h.Push(strings.NewReplacer("procedure: eider-standby", "procedure: eider-standby-distorted", "window: 15 min",
			"window: 2 min").Replace(text))
		require.NoError(t, h.Bench.SetFault("acsource1", simbench.Distorted))
		run, found := standby(t, h, "bay1", "ED-501", "-distorted")
		assert.Equal(t, "fail", run.Outcome)
		thd := found["supply-voltage-thd"]
		assert.InDelta(t, 5, thd.Value, 0.1)
		assert.Equal(t, outcome.Fail, thd.Outcome)
		require.NoError(t, h.Bench.SetFault("acsource1", simbench.NoFault))
		_, found = standby(t, h, "bay1", "ED-501", "-distorted")
		assert.Equal(t, outcome.Pass, found["supply-voltage-thd"].Outcome)
	})
}
