package service_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/portable"
)

// An hour of a device's life, sixty times as fast: the charge of each state is what flowed, through pulses that no
// reading sees and all changes of range.
func TestADevicesHourIsItsTruth(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Drain}, TimeFactor: 60})
		run := h.Ended(h.Start("bay1", "teal-hour", "TL-1501"))
		require.Equal(t, "done", run.State, run.Reason)
		device, err := portable.Teal("TL-1501", plant.Healthy)
		require.NoError(t, err)
		want := map[string]float64{"at sea": device.Charge(1800), "lid open": device.Charge(2700) - device.Charge(1800),
			"called": device.Charge(3600) - device.Charge(2700)}
		found, all, truth := 0, 0.0, 0.0
		for _, f := range run.Figures {
			require.Nil(t, f.Undetermined, f.ID)
			if f.ID == "state-charge" {
				q := want[f.State]
				assert.InDelta(t, q/3600, f.Value, f.U, "%s: %v", f.State, f)
				assert.InEpsilon(t, q/3600, f.Value, 1e-3, f.State)
				assert.Contains(t, strings.Join(f.Remarks, "; "), "counted without a gap", f.State)
				found, all, truth = found+1, all+f.Value, truth+q/3600
			}
		}
		assert.Equal(t, 3, found)
		assert.InEpsilon(t, truth, all, 1e-3)

		laid, err := h.Local.RunRehearsal(t.Context(), run.ID)
		require.NoError(t, err)
		assert.Empty(t, laid.Deviations, "pulses that no frame of the rehearsal sees are foretold all the same")

		w, err := h.Local.Window(t.Context(), run.ID, []string{"unit.percent"}, client.Range{}, 8_000)
		require.NoError(t, err)
		asked := shownAt(t, w)
		for at, percent := range map[float64]float64{1000: 0, 2500: 0, 2900: 10, 3150: 20, 3500: 30} {
			assert.InDelta(t, percent, asked(at), 0.3, "at %g s", at)
		}
	})
}

// shownAt gives the first trace of a window at or after a time.
func shownAt(t *testing.T, w api.Window) func(seconds float64) float64 {
	return func(seconds float64) float64 {
		t.Helper()
		k, _ := slices.BinarySearch(w.T, seconds)
		require.Less(t, k, len(w.T))
		require.NotNil(t, w.Traces[0].Min[k], "at %g s", seconds)
		return *w.Traces[0].Min[k]
	}
}

// What a device is asked for stands beside what it takes: a shape of the script, then what a program says.
func TestWhatADeviceIsAskedForIsRecorded(t *testing.T) {
	const script = `procedure: script
for: teal
needs: {source: {volts: 4 V, amps: 0.5 A}}
record: {every: 100 ms}
asked: [unit.percent]
stages:
  - set: {source: {volts: 3.6 V, amps: 0.5 A, output: on}}
  - name: more and more
    asks: {unit.percent: [ramp from 0 % to 50 % in 10 s]}
    hold: {for: 20 s}
figures:
  - {figure: mean, stage: more and more, quantity: unit.percent}
`
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Drain}, TimeFactor: 1})
		h.Push(script)
		run := h.Start("bay1", "script", "TL-1501")
		time.Sleep(5 * time.Second)
		do := func(i api.Intervention) error {
			_, err := h.Local.Intervene(t.Context(), "bay1", i)
			return err
		}
		require.NoError(t, do(api.Intervention{Do: api.DoPause}))
		time.Sleep(30 * time.Second) // it stands where it was
		require.NoError(t, do(api.Intervention{Do: api.DoResume}))
		time.Sleep(10 * time.Second)
		require.NoError(t, do(api.Intervention{Do: api.DoRequest, Parameter: "unit.percent", Value: "80 %"}))
		for value, why := range map[string]string{"unit.watts=1 W": "unit.percent", "unit.percent=3 A": "amperes",
			"unit.percent=": "number"} {
			column, x, _ := strings.Cut(value, "=")
			assert.ErrorContains(t, do(api.Intervention{Do: api.DoRequest, Parameter: column, Value: x}), why)
		}
		doc := h.Ended(run)
		require.Equal(t, "done", doc.State, doc.Reason)
		w, err := h.Local.Window(t.Context(), doc.ID, []string{"unit.percent"}, client.Range{}, 8_000)
		require.NoError(t, err)
		at := shownAt(t, w)
		assert.InDelta(t, at(10), at(30), 1, "it stands while the run is paused")
		assert.InDelta(t, 25, at(20), 2)
		assert.InDelta(t, 50, at(43), 0.1, "the shape stands at its end")
		assert.InDelta(t, 80, at(doc.Duration-1), 1e-9)
	})
}

// A program that drives a device says over the API when it did what; a node that sends everything three times is told
// from one that does not sleep.
func TestAFaultyDeviceIsToldByItsStates(t *testing.T) {
	const acts = `procedure: acts
for: teal
needs: {source: {volts: 4 V, amps: 0.5 A}}
record: {every: 20 ms}
stages:
  - set: {source: {volts: 3.6 V, amps: 0.5 A, output: on}}
  - name: minute
    hold: {for: 59 s}
figures:
  - {figure: state-mean-current, state: sleep}
  - {figure: state-charge, state: transmit}
`
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Drain}, TimeFactor: 1,
			Faulty: map[string]string{"TL-1502": string(portable.Sleepless), "TL-1503": string(portable.Repeats)}})
		h.Push(acts)
		mean, sent := map[string]float64{}, map[string]float64{}
		for _, serial := range []string{"TL-1501", "TL-1502", "TL-1503"} {
			run := h.Start("bay1", "acts", serial)
			on := time.Now()
			for _, act := range []struct {
				state string
				at    float64
			}{{"sleep", 25}, {"transmit", 39.5}, {"sleep", 46}} {
				time.Sleep(time.Until(on.Add(time.Duration(act.at * float64(time.Second)))))
				_, err := h.Local.Intervene(t.Context(), "bay1", api.Intervention{Do: api.DoLabel, Text: act.state})
				require.NoError(t, err)
			}
			doc := h.Ended(run)
			require.Equal(t, "done", doc.State, doc.Reason)
			f := figuresOf(doc)
			mean[serial], sent[serial] = f["state-mean-current"].Value, f["state-charge"].Value*3600
		}
		assert.InDelta(t, 2e-6, mean["TL-1501"], 0.6e-6)
		assert.InDelta(t, 1.3e-3, mean["TL-1502"], 0.05e-3)
		assert.InDelta(t, 0.105, sent["TL-1501"], 0.006)
		assert.InDelta(t, 0.315, sent["TL-1503"], 0.015)
	})
}

// What a device takes in two minutes is integrated whole from what a scope has recorded of it at 50 kS/s.
func TestADrainRecordedFastIsIntegratedWhole(t *testing.T) {
	const recorded = `procedure: recorded
for: teal
needs: {source: {volts: 4 V, amps: 0.5 A}, scope: {}}
record: {every: 200 ms}
stages:
  - set: {source: {volts: 3.6 V, amps: 0.5 A, output: on}}
  - name: two minutes
    capture:
      channels: {current: {range: 400 mA, offset: 100 mA}}
      span: 120 s
      samples: 6000000
      before: 0 %
    within: 10 min
figures:
  - {figure: captured-charge, channel: current}
`
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Drain}, TimeFactor: 10})
		h.Push(recorded)
		run := h.Ended(h.Start("bay1", "recorded", "TL-1501"))
		require.Equal(t, "done", run.State, run.Reason)
		device, err := portable.Teal("TL-1501", plant.Healthy)
		require.NoError(t, err)
		f := run.Figures[0]
		require.Nil(t, f.Undetermined, f)
		assert.Equal(t, 6_000_000, f.N)
		assert.InDelta(t, device.Charge(120)/3600, f.Value, f.U, "whole rounds, wherever they begin")
		assert.Less(t, f.U, 4e-3*120/3600, "its offset over the time rules")
	})
}
