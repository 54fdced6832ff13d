package service_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
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
			assert.InDelta(t, 20*math.Log10(loaded*(1+3*third)), f["voltage-gain"].Value, 1.5*f["voltage-gain"].U, serial)
			assert.InDelta(t, 100*math.Hypot(second, third), f["harmonic-distortion"].Value,
				f["harmonic-distortion"].U+0.04*100*math.Hypot(second, third), serial)
			assert.InDelta(t, a.Impedance, f["output-impedance"].Value, 2*f["output-impedance"].U, serial)
			density := a.Density * loaded / a.Gain
			assert.InDelta(t, density*math.Sqrt(20e3-20), f["output-noise"].Value, 2*f["output-noise"].U, serial)
			assert.InDelta(t, a.Idle, f["idle-current"].Value, 1.5*f["idle-current"].U, serial)
		}
	})
}

// A unit that clips fails by its distortion; another load than the procedure says is told by its own readings, and no
// figure that counts on the load is given.
func TestAClippingAmplifierAndAWrongLoad(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Amplified}, TimeFactor: 1,
			Faulty: map[string]string{"GM-1606": string(amplifier.Clipping), "GM-1607": string(amplifier.WrongLoad)}})
		clips := h.Ended(h.Start("bay1", "guillemot-acceptance", "GM-1606"))
		assert.Equal(t, "fail", clips.Outcome)
		f := figuresOf(clips)
		assert.Greater(t, f["harmonic-distortion"].Value, 3.0)
		require.NotNil(t, f["distortion-plus-noise"].Drawing)
		assert.Equal(t, "Residual of rated power", f["distortion-plus-noise"].Drawing.Title)
		other, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "guillemot-acceptance",
			Serial: "GM-1607", Lot: "A-2"})
		require.NoError(t, err)
		wrong := figuresOf(h.Ended(other))
		for _, id := range []string{"output-impedance", "damping-factor", "amplifier-efficiency"} {
			require.NotNil(t, wrong[id].Undetermined, id)
			assert.Contains(t, wrong[id].Undetermined.Sentence, "the load is 5.6", id)
			assert.Contains(t, wrong[id].Undetermined.Sentence, "4 Ω are said", id)
		}
		assert.Nil(t, wrong["harmonic-distortion"].Undetermined)

		log, err := h.Local.LotLog(t.Context(), "A-2")
		require.NoError(t, err)
		require.Len(t, log.Entries, 1)
		assert.Contains(t, fmt.Sprint(log.Entries[0].Failing), "undetermined, the load is 5.6")
	})
}

// What two tones mix to is what the bends of the amplifier make of them.
func TestTwoTonesAreTheirTruth(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		faulty := map[string]string{"GM-1602": string(amplifier.Distorting), "GM-1603": string(amplifier.Settling)}
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Amplified}, TimeFactor: 1,
			Faulty: faulty})
		drive := math.Pow(10, -6/20.0)
		for _, serial := range []string{"GM-1601", "GM-1602", "GM-1603"} {
			run := h.Ended(h.Start("bay1", "guillemot-two-tones", serial))
			require.Equal(t, "done", run.State, run.Reason)
			a, err := amplifier.Guillemot(serial, plant.Fault(faulty[serial]))
			require.NoError(t, err)
			// Peaks p and q of x + b₂x² + b₃x³ mix to b₂pq at f₂ ± f₁ and ¾b₃p²q at f₂ ± 2f₁.
			peaks := func(balance float64) (p, q float64) {
				q = a.Gain * drive * math.Sqrt2 / math.Sqrt(1+balance*balance)
				return balance * q, q
			}
			p, q := peaks(4)
			carrier := q * (1 + a.Bend3*(0.75*q*q+1.5*p*p))
			modulated := 100 * math.Hypot(2*a.Bend2*p*q, 1.5*a.Bend3*p*p*q) / carrier
			f := figuresOf(run)
			assert.InDelta(t, modulated, f["modulation-distortion"].Value, 1.5*f["modulation-distortion"].U+0.01*modulated,
				serial)
			p, q = peaks(1)
			both := 2 * q * (1 + 2.25*a.Bend3*q*q)
			differs := 100 * math.Hypot(a.Bend2*p*q, 1.5*a.Bend3*p*p*q) / both
			assert.InDelta(t, differs, f["difference-distortion"].Value, 1.5*f["difference-distortion"].U+0.01*differs,
				serial)
			assert.Equal(t, serial == "GM-1602", run.Outcome == "fail", serial)
		}
	})
}

const silence = `procedure: silence
for: guillemot
needs: {source: {volts: 27 V, amps: 8 A}, switch: {}, load: {}, analyser: {}}
stages:
  - set:
      load: {mode: resistance, ohms: 4 Ω, output: on}
      source: {volts: 24 V, amps: 8 A, output: on}
      switch: {output: on}
  - name: silent
    capture:
      seat: analyser
      channels: {output: {range: 30 mV}}
      span: 0.5 s
      samples: 24000
      before: 0 %
      settle: 2 s
      valid: [{figure: output-noise, max: 1 mV}]
    tries: 4
figures: [{figure: output-noise, stage: silent, limit: {max: 300 µV}}]
`

// A reading that noise spoiled is taken again, each of them is kept, and the figure is of the one that counts. One that
// never counts fails the unit, with the reason.
func TestAReadingThatNoiseSpoiledIsTakenAgain(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Amplified}, TimeFactor: 1,
			Faulty: map[string]string{"GM-2": string(amplifier.Settling), "GM-3": string(amplifier.Noisy)}})
		h.Push(silence)
		for serial, captures := range map[string]int{"GM-1": 1, "GM-2": 3, "GM-3": 4} {
			run := h.Ended(h.Start("bay1", "silence", serial))
			kept, err := h.Local.Captures(t.Context(), run.ID)
			require.NoError(t, err)
			assert.Len(t, kept, captures, serial)
			if serial == "GM-3" {
				assert.Equal(t, "fail", run.Outcome)
				assert.Contains(t, run.Reason, "the capture does not count: output-noise is 0.002")
				assert.Contains(t, run.Reason, "output-noise ≤ 0.001 V")
				continue
			}
			require.Equal(t, "done", run.State, run.Reason)
			a, err := amplifier.Guillemot(serial, plant.Healthy)
			require.NoError(t, err)
			f := figuresOf(run)["output-noise"]
			assert.InDelta(t, a.Density*4/(4+a.Impedance)*math.Sqrt(20e3-20), f.Value, 2*f.U, serial)
		}
	})
}

const bursts = `procedure: bursts
for: guillemot
needs: {source: {volts: 27 V, amps: 8 A}, switch: {}, generator: {volts: 1 V}, load: {}, analyser: {}}
record: {every: 100 ms}
stages:
  - set:
      generator: {volts: 0 V, hertz: 1 kHz}
      load: {mode: resistance, ohms: 4 Ω, output: on}
      source: {volts: 24 V, amps: 8 A, output: on}
      switch: {output: on}
  - name: burst
    capture:
      seat: analyser
      channels: {output: {range: 100 V}}
      span: 3 s
      samples: 3000
      before: 0 %
      do: {generator: {volts: 0.75 V, output: on}}
      back: {generator: {output: off}}
      bears: 60 W
      times: 30
`

// However many bursts are asked for, the load bears no more than it may: the next one waits for its turn.
func TestBurstsWaitUntilTheLoadMayBearThem(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Amplified}, TimeFactor: 5})
		h.Push(bursts)
		run := h.Ended(h.Start("bay1", "bursts", "GM-1601"))
		require.Equal(t, "done", run.State, run.Reason)
		assert.Greater(t, run.Duration, 130.0, "thirty bursts of 57 W for 3 s are 5 kW·s, and 40 W are borne for long")
		most, bears := h.Bench.Borne("bay1")
		assert.Less(t, most, bears)
		assert.Greater(t, most, 0.6*bears, "it waits no longer than it must")
		never := strings.Replace(strings.Replace(bursts, "procedure: bursts", "procedure: never", 1), "bears: 60 W",
			"bears: 900 W", 1)
		h.Push(never)
		run = h.Ended(h.Start("bay1", "never", "GM-1601"))
		assert.Equal(t, "aborted", run.State)
		assert.Contains(t, run.Reason, "make the burst shorter or lower")
	})
}

// What plays on is cut off before the load has borne too much, in a run and by hand.
func TestWhatPlaysOnIsCutOff(t *testing.T) {
	const playsOn = `procedure: plays-on
for: guillemot
needs: {source: {volts: 27 V, amps: 8 A}, switch: {}, generator: {volts: 1 V}, load: {}}
stages:
  - set:
      load: {mode: resistance, ohms: 4 Ω, output: on}
      source: {volts: 24 V, amps: 8 A, output: on}
      switch: {output: on}
      generator: {volts: 0.75 V, hertz: 1 kHz, output: on}
  - hold: {for: 1000 s}
`
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Amplified}, TimeFactor: 1})
		h.Push(playsOn)
		time.Sleep(70 * time.Second) // nobody knows what was before the service began
		run := h.Ended(h.Start("bay1", "plays-on", "GM-1601"))
		assert.Equal(t, "aborted", run.State)
		assert.Contains(t, run.Reason, "may bear 40 W on average over 60 s")
		most, bears := h.Bench.Borne("bay1")
		assert.Less(t, most, bears)
		assert.Greater(t, most, 0.9*bears)

		time.Sleep(70 * time.Second) // until it may bear something again
		unread := h.Start("bay1", "plays-on", "GM-1602")
		require.Eventually(t, func() bool { return on(t, h) }, 5*time.Second, 50*time.Millisecond)
		require.NoError(t, h.Bench.SetFault("bank1", simbench.NotANumber))
		ended := h.Ended(unread)
		assert.Equal(t, "aborted", ended.State)
		assert.Contains(t, ended.Reason, "what bank1 (load) bears cannot be read")
	})
}

// What somebody plays on by hand is cut off as well, and what he set goes on no more until he looks.
func TestWhatIsPlayedByHandIsCutOff(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Amplified}, TimeFactor: 1})
		for _, set := range []api.ManualSet{{Seat: "load", Quantity: "mode", Value: "resistance"},
			{Seat: "load", Quantity: "ohms", Value: "4 Ω"}, {Seat: "source", Quantity: "volts", Value: "24 V"},
			{Seat: "source", Quantity: "amps", Value: "8 A"}, {Seat: "generator", Quantity: "volts", Value: "0.75 V"},
			{Seat: "load", Quantity: "output", Value: "on"}, {Seat: "switch", Quantity: "output", Value: "on"},
			{Seat: "source", Quantity: "output", Value: "on"}} {
			_, err := h.Local.Set(t.Context(), "bay1", set)
			require.NoError(t, err)
		}
		time.Sleep(45 * time.Second) // of the minute in which nobody knows what was before
		_, err := h.Local.Set(t.Context(), "bay1", api.ManualSet{Seat: "generator", Quantity: "output", Value: "on"})
		require.NoError(t, err)
		require.Eventually(t, func() bool { return !on(t, h) }, time.Minute, 100*time.Millisecond)
		entries, err := h.Local.Journal(t.Context(), api.JournalFilter{})
		require.NoError(t, err)
		assert.True(t, slices.ContainsFunc(entries, func(e api.JournalEntry) bool {
			return strings.Contains(e.Detail, "may bear 40 W on average over 60 s")
		}))
		most, bears := h.Bench.Borne("bay1")
		assert.Less(t, most, bears)
		assert.Positive(t, most)
	})
}

// A batch of amplifiers with a noisy, a distorting and a dead one is scanned, run and written down; the load bears no
// more than it may, and the power is off whenever the next one is put in.
func TestABatchOfAmplifiers(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Amplified}, TimeFactor: 1,
			Faulty: map[string]string{"GM-3": string(amplifier.Noisy), "GM-5": string(amplifier.Distorting),
				"GM-7": string(plant.DeadUnit)}})
		setUp(t, h, "bay1", api.PlaceSetup{Procedures: []string{"guillemot-acceptance"}, Lot: "A-1"})
		verdicts := map[string]api.UnitVerdict{}
		for n := 1; n <= 8; n++ {
			serial := fmt.Sprintf("GM-%d", n)
			assert.False(t, on(t, h), serial)
			place := tested(t, h, "bay1", serial)
			verdicts[serial] = place.Last.Verdict
			if n == 5 {
				assert.Contains(t, fmt.Sprint(place.Last.Words), "Harmonic distortion")
			}
		}
		for serial, verdict := range verdicts {
			if slices.Contains([]string{"GM-3", "GM-5", "GM-7"}, serial) {
				assert.NotEqual(t, api.VerdictPass, verdict, serial)
			} else {
				assert.Equal(t, api.VerdictPass, verdict, serial)
			}
		}
		lot, err := h.Local.Lot(t.Context(), "A-1", api.LotRequest{})
		require.NoError(t, err)
		require.Len(t, lot.Procedures, 1)
		assert.Equal(t, []string{"GM-3", "GM-5", "GM-7"}, lot.Procedures[0].Failing)
		most, bears := h.Bench.Borne("bay1")
		assert.Less(t, most, bears)
	})
}
