package service_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"math"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/procedure"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// quick is a procedure of a few points, over line and load.
const quick = `procedure: quick
title: A few points
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
guards: [{when: "load.volts > 17 V for 50 ms", note: runs away}]
stages:
  - name: power up
    set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 0 A, output: off}}
    until: load.volts > 14 V for 100 ms
    within: 20 s
  - name: no load
    hold: {for: 11 s}
  - set: {load: {amps: 0.5 A, output: on}}
  - grid:
      over: [{set: source.volts, values: [36 V, 48 V, 60 V]}, {set: load.amps, values: [0.5 A, 4 A, 8 A]}]
      settle: 300 ms
      average: 300 ms
figures:
  - {figure: efficiency, limit: {min: 93 %}}
  - {figure: loss}
  - {figure: line-regulation, limit: {max: 0.2 %}}
  - {figure: line-shift}
  - {figure: load-regulation, limit: {max: 0.5 %, marginal: 0.1 %}}
  - {figure: load-shift}
  - {figure: output-accuracy, limit: {min: -1 %, max: 1 %}}
  - {figure: no-load-power, stage: no load, limit: {max: 1 W}}
`

// long holds until it is stopped.
const long = `procedure: long
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
guards: [{when: "load.amps > 5 A for 100 ms", note: too much load}]
stages:
  - name: power up
    set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A, output: on}}
    until: load.volts > 14 V
    within: 20 s
  - name: wait
    hold: {for: 100 h}
`

func byID(figures []procedure.Judged) map[string]procedure.Judged {
	m := map[string]procedure.Judged{}
	for _, f := range figures {
		m[f.ID] = f
	}
	return m
}

// truths are the exact figures of the unit in a bay, for the places of quick.
func truths(t *testing.T, b *simbench.Bench, bay string) map[string]float64 {
	volts := func(line, load float64) float64 {
		o, err := b.Truth(bay, line, load)
		require.NoError(t, err)
		return o.Output.Volts
	}
	full, err := b.Truth(bay, 48, 8)
	require.NoError(t, err)
	idle, err := b.Truth(bay, 48, 0)
	require.NoError(t, err)
	lines := []float64{volts(36, 8), volts(48, 8), volts(60, 8)}
	loads := []float64{volts(48, 0.5), volts(48, 4), volts(48, 8)}
	span := func(xs []float64) float64 { return max(xs[0], xs[1], xs[2]) - min(xs[0], xs[1], xs[2]) }
	return map[string]float64{
		"efficiency": full.Efficiency(), "loss": full.Loss(), "output-accuracy": 100 * (full.Output.Volts - 15) / 15,
		"line-regulation": 100 * span(lines) / lines[1], "line-shift": 1000 * (lines[2] - lines[0]),
		"load-regulation": 100 * span(loads) / loads[2], "load-shift": 1000 * (loads[2] - loads[0]),
		"no-load-power": idle.Line.Volts * idle.Line.Amps,
	}
}

func TestFiguresHoldTheTruthWithinTheirUncertainty(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2})
		h.Push(quick)
		outside := 0
		for i := range 10 {
			runs := map[string]api.RunSummary{}
			for _, bay := range []string{"bay1", "bay2"} {
				runs[bay] = h.Start(bay, "quick", "TN-9"+bay[3:]+string(rune('0'+i)))
			}
			for bay, run := range runs {
				doc := h.Ended(run)
				require.Equal(t, "done", doc.State, doc.Reason)
				for id, truth := range truths(t, h.Bench, bay) {
					f := byID(doc.Figures)[id]
					require.Nil(t, f.Undetermined, "%s: %v", id, f.Undetermined)
					require.Positive(t, f.U, id)
					if math.Abs(f.Value-truth) > f.U {
						outside++
						t.Logf("%s of %s: %.6g, truth %.6g, U %.2g", id, doc.Serial, f.Value, truth, f.U)
					}
					// Far outside means that a formula is wrong, not that chance was unkind: of a handful of readings, which is
					// what a busy machine leaves, Student's distribution has one in a thousand beyond 2.5 U, but none to speak
					// of beyond 5.
					assert.LessOrEqual(t, math.Abs(f.Value-truth), 5*f.U, "%s of %s", id, doc.Serial)
				}
				assert.Equal(t, "pass", doc.Outcome, doc.Serial)
			}
		}
		// 160 intervals of 95 %: 8 are expected outside, more than 16 are not.
		assert.LessOrEqual(t, outside, 16)
	})
}

func TestOnAnIdealBenchFiguresAreExact(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Ideal: true})
		h.Push(quick)
		doc := h.Ended(h.Start("bay1", "quick", "TN-3001"))
		for id, truth := range truths(t, h.Bench, "bay1") {
			f := byID(doc.Figures)[id]
			require.Nil(t, f.Undetermined, "%s: %v", id, f.Undetermined)
			assert.InEpsilon(t, truth, f.Value, 1e-6, id)
		}
	})
}

func TestAFaultFailsTheFigureThatItTouches(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(quick)
		for serial, want := range map[string]struct{ outcome, figure string }{
			"TN-2213": {"fail", "load-regulation"}, "TN-2217": {"fail", "efficiency"},
		} {
			doc := h.Ended(h.Start("bay1", "quick", serial))
			assert.Equal(t, want.outcome, doc.Outcome, serial)
			for _, f := range doc.Figures {
				if f.Outcome != "" {
					assert.Equal(t, f.ID == want.figure, f.Outcome == "fail", "%s: %s is %s", serial, f.ID, f.Outcome)
				}
			}
		}
		dead := h.Ended(h.Start("bay1", "quick", "TN-2219"))
		assert.Equal(t, "failed", dead.State)
		assert.Equal(t, "fail", dead.Outcome)
		assert.Contains(t, dead.Reason, "did not hold within 20 s")
	})
}

func TestTheRecordOfARunIsReadInEveryForm(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		ctx := t.Context()
		doc := h.Ended(h.Start("bay1", "tern-load-steps", demo.Good))
		assert.Len(t, doc.Points, 5)
		assert.Equal(t, "Usher Bench,SIM-S2,S2-0101,1.0", doc.Instruments[0].Identity)

		whole, err := h.Local.Window(ctx, doc.ID, nil, client.Range{}, 20)
		require.NoError(t, err)
		assert.LessOrEqual(t, len(whole.T), 42)
		part, err := h.Local.Window(ctx, "last", []string{"load.volts"}, client.Range{From: 1, To: 1.5}, 1000)
		require.NoError(t, err)
		assert.True(t, part.Exact)
		assert.Len(t, part.Traces, 1)
		_, err = h.Local.Window(ctx, doc.ID, []string{"moon.phase"}, client.Range{}, 10)
		assert.ErrorContains(t, err, "no such column")

		var out bytes.Buffer
		require.NoError(t, h.Local.Export(ctx, doc.ID, "csv", client.Range{}, &out))
		rows, err := csv.NewReader(&out).ReadAll()
		require.NoError(t, err)
		assert.Equal(t, "time (s)", rows[0][0])
		assert.Contains(t, rows[0], "load.volts (V)")
		assert.Contains(t, rows[0], "source.energy (Wh)")
		assert.EqualValues(t, doc.Frames, len(rows)-1)

		out.Reset()
		require.NoError(t, h.Local.Export(ctx, doc.ID, "json", client.Range{From: 1, To: 2}, &out))
		var everything struct {
			Run     api.Run
			Journal []api.JournalEntry
			Frames  [][]*float64
		}
		require.NoError(t, json.Unmarshal(out.Bytes(), &everything))
		assert.Equal(t, doc.Figures, everything.Run.Figures)
		assert.NotEmpty(t, everything.Journal)
		assert.GreaterOrEqual(t, *everything.Frames[0][0], 1.0)

		out.Reset()
		require.NoError(t, h.Local.Report(ctx, doc.ID, client.Printed{}, &out))
		assert.True(t, bytes.HasPrefix(out.Bytes(), []byte("%PDF-")))
		assert.ErrorContains(t, h.Local.Report(ctx, "01ZZZ", client.Printed{}, &out), "not found")
		assert.ErrorContains(t, h.Local.Export(ctx, doc.ID, "xml", client.Range{}, &out), "choose csv, json, parquet or xlsx")
	})
}

func TestOfTwoClientsThatStartOneBayOneGetsAConflict(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		errs := make([]error, 2)
		var wg sync.WaitGroup
		for i := range errs {
			wg.Add(1)
			go func() {
				defer wg.Done()
				_, errs[i] = h.Local.StartRun(context.Background(), api.StartRun{Bay: "bay1", Procedure: "long", Serial: "TN-1"})
			}()
		}
		wg.Wait()
		if errs[0] != nil {
			errs[0], errs[1] = errs[1], errs[0]
		}
		require.NoError(t, errs[0])
		var p *api.Problem
		require.ErrorAs(t, errs[1], &p)
		assert.Equal(t, http.StatusConflict, p.Status)
		assert.Contains(t, p.Remedy, "wait for the run to end")
	})
}

func TestManualControlIsRefusedWhileARunOwnsTheBay(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		ctx := t.Context()
		on := api.ManualSet{Seat: "source", Quantity: "volts", Value: "12 V"}
		_, err := h.Local.Set(ctx, "bay1", on)
		require.NoError(t, err)
		for _, bad := range [][3]string{{"source", "volts", "12 A"}, {"source", "volts", "twelve"}, {"sorce", "volts", "1 V"},
			{"source", "output", "maybe"}, {"source", "ohms", "3 Ω"}} {
			_, err = h.Local.Set(ctx, "bay1", api.ManualSet{Seat: bad[0], Quantity: bad[1], Value: bad[2]})
			var p *api.Problem
			require.ErrorAs(t, err, &p)
			assert.Equal(t, http.StatusBadRequest, p.Status, "%v", bad)
		}
		h.Start("bay1", "long", "TN-1")
		_, err = h.Local.Set(ctx, "bay1", on)
		assert.ErrorContains(t, err, "a run owns the bay")
	})
}

// switchings is the bench's own record of a bay since its source last went on.
func switchings(t *testing.T, h *servicetest.House, bay string) []string {
	state, err := h.Bench.State(bay)
	require.NoError(t, err)
	var list []string
	for _, s := range state.History {
		word := s.What + " off"
		if s.On {
			word = s.What + " on"
		}
		if word == "source on" {
			list = nil
		}
		list = append(list, word)
	}
	return list
}

func journalOf(t *testing.T, h *servicetest.House, run string) string {
	entries, err := h.Local.Journal(t.Context(), api.JournalFilter{Run: run, Limit: 100})
	require.NoError(t, err)
	var words []string
	for _, e := range entries {
		words = append(words, e.What+": "+e.Detail)
	}
	return strings.Join(words, "\n")
}

func TestAGuardSwitchesOffLoadFirst(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(strings.Replace(strings.Replace(long, "procedure: long", "procedure: breach", 1), "  - name: wait\n",
			"  - name: breach\n    set: {load: {amps: 6 A}}\n  - name: wait\n", 1))
		doc := h.Ended(h.Start("bay1", "breach", "TN-1"))
		assert.Equal(t, "aborted", doc.State)
		assert.Equal(t, "aborted", doc.Outcome)
		assert.Equal(t, "guard tripped: too much load (load.amps > 5 A for 100 ms)", doc.Reason)
		assert.Equal(t, []string{"source on", "load on", "load off", "source off"}, switchings(t, h, "bay1"))
		journal := journalOf(t, h, doc.ID)
		assert.Contains(t, journal, "guard tripped: too much load")
		assert.Contains(t, journal, "made safe: end of run "+doc.ID+": load off, source off")
		var guards int
		for _, m := range doc.Marks {
			if m.Kind == "guard" {
				guards++
			}
		}
		assert.Equal(t, 1, guards)
	})
}

func TestAStopMakesSafe(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2})
		h.Push(long)
		run := h.Start("bay1", "long", "TN-1")
		other := h.Start("bay2", "long", "TN-2")
		_, err := h.Local.Stop(t.Context(), "bay1", "smells hot")
		require.NoError(t, err)
		doc := h.Ended(run)
		assert.Contains(t, doc.Reason, "smells hot")
		state, err := h.Bench.State("bay1")
		require.NoError(t, err)
		assert.False(t, state.SourceOn || state.LoadOn)
		_, err = h.Local.Stop(t.Context(), "bay1", "")
		assert.ErrorContains(t, err, "no run is live")
		bay, err := h.Local.Bay(t.Context(), "bay2")
		require.NoError(t, err)
		assert.Equal(t, api.BayLive, bay.State, "the other bay goes on")

		_, err = h.Local.StopAll(t.Context(), "")
		require.NoError(t, err)
		assert.Equal(t, "aborted", h.Ended(other).State)
		bays, err := h.Local.Bays(t.Context())
		require.NoError(t, err)
		for _, b := range bays {
			assert.NotNil(t, b.SafeSince, b.Name)
		}
	})
}

func TestAServiceThatShutsDownMakesSafe(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		h.Start("bay1", "long", "TN-1")
		require.Eventually(t, func() bool { s, err := h.Bench.State("bay1"); return err == nil && s.SourceOn && s.LoadOn },
			10*time.Second, 5*time.Millisecond)
		h.Close()
		state, err := h.Bench.State("bay1")
		require.NoError(t, err)
		assert.False(t, state.SourceOn || state.LoadOn)
	})
}

func TestAServiceThatShutsDownSwitchesOffWhatWasSwitchedOnByHand(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		_, err := h.Local.Set(t.Context(), "bay1", api.ManualSet{Seat: "source", Quantity: "output", Value: "on"})
		require.NoError(t, err)
		h.Close()
		state, err := h.Bench.State("bay1")
		require.NoError(t, err)
		assert.False(t, state.SourceOn)
	})
}

func TestADroppedInstrumentStopsItsBayAndNoOther(t *testing.T) {
	for _, fault := range []simbench.InstrumentFault{simbench.Drop, simbench.Hang} {
		t.Run(string(fault), func(t *testing.T) {
			servicetest.Simulated(t, func(t *testing.T) {
				h := servicetest.Start(t, servicetest.Options{Bays: 2})
				h.Push(long)
				run := h.Start("bay1", "long", "TN-1")
				other := h.Start("bay2", "long", "TN-2")
				settled(t, h, run)
				require.NoError(t, h.Bench.SetFault("load1", fault))
				doc := h.Ended(run)
				assert.Equal(t, "aborted", doc.State)
				assert.Contains(t, doc.Reason, "instrument load1 (load) has not answered for 2 s")
				assert.Contains(t, doc.Reason, "check its power, cable and address")
				state, err := h.Bench.State("bay1")
				require.NoError(t, err)
				assert.False(t, state.SourceOn, "what still answers is switched off and read back")
				bay, err := h.Local.Bay(t.Context(), "bay1")
				require.NoError(t, err)
				assert.Contains(t, bay.Alarm, "load (channel 1 of load1) is not confirmed off")
				assert.Contains(t, journalOf(t, h, doc.ID), "ALARM: make safe not confirmed")
				_, err = h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "long", Serial: "TN-1"})
				assert.ErrorContains(t, err, "not ready")

				second, err := h.Local.Bay(t.Context(), "bay2")
				require.NoError(t, err)
				assert.Equal(t, api.BayLive, second.State, "the other bay is undisturbed")
				require.NotNil(t, second.Readings["load.volts"])
				assert.InDelta(t, 15, *second.Readings["load.volts"], 0.2)

				// When the instrument answers again the bay is made safe and free, without a restart.
				require.NoError(t, h.Bench.SetFault("load1", simbench.NoFault))
				require.Eventually(t, func() bool {
					b, err := h.Local.Bay(t.Context(), "bay1")
					return err == nil && b.Alarm == "" && b.SafeSince != nil
				}, 20*time.Second, 20*time.Millisecond)
				state, err = h.Bench.State("bay1")
				require.NoError(t, err)
				assert.False(t, state.LoadOn)
				_, err = h.Local.Stop(t.Context(), "bay2", "")
				require.NoError(t, err)
				h.Ended(other)
			})
		})
	}
}

func TestTwoBaysShareOneSupply(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2, SharedSupply: true})
		first, second := h.Start("bay1", "tern-load-steps", "TN-1"), h.Start("bay2", "tern-load-steps", "TN-2")
		assert.Equal(t, "pass", h.Ended(first).Outcome)
		doc := h.Ended(second)
		assert.Equal(t, "pass", doc.Outcome)
		assert.Equal(t, 2, doc.Instruments[0].Channel)
	})
}

func TestWhatCannotStartSaysWhy(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(strings.NewReplacer("procedure: long", "procedure: hungry", "source: {volts: 60 V, amps: 5 A}",
			"source: {volts: 60 V, amps: 50 A}").Replace(long))
		h.Push(long)
		for name, c := range map[string]struct {
			start  api.StartRun
			status int
			words  string
		}{
			"no such bay": {api.StartRun{Bay: "bay9", Procedure: "long", Serial: "TN-1"}, 404,
				`no such bay: "bay9"; known: [bay1]`},
			"no such procedure": {api.StartRun{Bay: "bay1", Procedure: "lang", Serial: "TN-1"}, 404,
				`procedure "lang": not found`},
			"no serial": {api.StartRun{Bay: "bay1", Procedure: "long"}, 400, "is not a serial number"},
			"odd parameter": {api.StartRun{Bay: "bay1", Procedure: "tern-soak", Serial: "TN-1",
				Parameters: map[string]string{"soak": "6 V"}}, 422, "takes seconds"},
			"too much asked": {api.StartRun{Bay: "bay1", Procedure: "hungry", Serial: "TN-1"}, 409,
				"source.amps must reach 50 A, but channel 1 of supply1 ends at 10 A"},
		} {
			_, err := h.Local.StartRun(t.Context(), c.start)
			var p *api.Problem
			require.ErrorAs(t, err, &p, name)
			assert.Equal(t, c.status, p.Status, name)
			assert.Contains(t, p.Error(), c.words, name)
		}
		require.NoError(t, h.Bench.SetFault("supply1", simbench.Drop))
		_, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "long", Serial: "TN-1"})
		assert.ErrorContains(t, err, "instrument supply1: identify")
		runs, err := h.Local.Runs(t.Context(), client.RunFilter{})
		require.NoError(t, err)
		assert.Empty(t, runs, "nothing that could not start is on record")
	})
}

func TestABadProcedureIsNotStored(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		before, err := h.Local.Procedures(t.Context())
		require.NoError(t, err)
		for _, text := range []string{strings.Replace(quick, "36 V, 48 V", "36 A, 48 V", 1), "procedure: [", "",
			strings.Replace(quick, "for: tern", "for: petrel", 1)} {
			_, err := h.Local.PushProcedure(t.Context(), text, "")
			var p *api.Problem
			require.ErrorAs(t, err, &p)
			assert.Equal(t, http.StatusUnprocessableEntity, p.Status)
			require.NotEmpty(t, p.Findings)
			assert.Positive(t, p.Findings[0].Line)
			_, err = h.Local.CheckProcedure(t.Context(), text)
			assert.Error(t, err)
		}
		after, err := h.Local.Procedures(t.Context())
		require.NoError(t, err)
		assert.Equal(t, before, after)
	})
}

// From an empty house to a first run: each step is open until it is done.
func TestFirstStepsAreDoneOneByOne(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Empty: true})
		done := func() (steps []bool) {
			list, err := h.Local.FirstSteps(t.Context())
			require.NoError(t, err)
			for _, s := range list {
				steps = append(steps, s.Done)
			}
			return steps
		}
		assert.Equal(t, []bool{true, true, false, false, false}, done())
		for _, text := range demo.Nameplates() {
			_, err := h.Local.PushNameplate(t.Context(), text)
			require.NoError(t, err)
		}
		assert.Equal(t, []bool{true, true, true, false, false}, done())
		h.Push("procedure: first\nfor: tern\nneeds: {source: {}}\nstages:\n  - hold: {for: 1 s}\n")
		h.Ended(h.Start("bay1", "first", "TN-1"))
		assert.Equal(t, []bool{true, true, true, true, true}, done())
	})
}
