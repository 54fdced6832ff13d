package service_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/amplifier"
)

// An amplifier's figures are its truth, and each fault is found by the figure that is for it.
func TestAnAmplifierIsItsTruth(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		faulty := map[string]string{"GM-1602": string(amplifier.Noisy), "GM-1603": string(amplifier.Distorting),
			"GM-1604": string(amplifier.BadJoint), "GM-1605": string(amplifier.HotBias)}
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Amplified}, TimeFactor: 1,
			Faulty: faulty})
		fails := map[string][]string{"GM-1601": nil, "GM-1602": {"output-noise"},
			"GM-1603": {"harmonic-distortion", "distortion-plus-noise"}, "GM-1604": {"output-impedance", "voltage-gain"},
			"GM-1605": {"idle-current"}}
		for serial, wrong := range fails {
			run := h.Ended(h.Start("bay1", "guillemot-acceptance", serial))
			require.Equal(t, "done", run.State, run.Reason)
			var found []string
			for _, f := range run.Figures {
				require.Nil(t, f.Undetermined, "%s: %s: %v", serial, f.ID, f.Undetermined)
				if f.Outcome == "fail" {
					found = append(found, f.ID)
				}
			}
			assert.ElementsMatch(t, wrong, found, serial)
			a, err := amplifier.Guillemot(serial, plant.Fault(faulty[serial]))
			require.NoError(t, err)
			f := figuresOf(run)
			loaded := a.Gain * 4 / (4 + a.Impedance)
			second, third := a.Harmonics(math.Pow(10, f["output-level"].Value/20) * a.Gain / loaded)
			// A cube adds three times its third harmonic to the tone.
			assert.InDelta(t, 20*math.Log10(loaded*(1+3*third)), f["voltage-gain"].Value, f["voltage-gain"].U, serial)
			assert.InDelta(t, 100*math.Hypot(second, third), f["harmonic-distortion"].Value,
				f["harmonic-distortion"].U+0.04*100*math.Hypot(second, third), serial)
			assert.InDelta(t, a.Impedance, f["output-impedance"].Value, f["output-impedance"].U, serial)
			density := a.Density * loaded / a.Gain
			assert.InDelta(t, density*math.Sqrt(20e3-20), f["output-noise"].Value, f["output-noise"].U+2e-6, serial)
			assert.InDelta(t, a.Idle, f["idle-current"].Value, f["idle-current"].U, serial)
		}
	})
}
