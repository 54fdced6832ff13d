package service_test

import (
	"bytes"
	"fmt"
	"math"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/catalogue"
	"usherbench/core/kinds"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/shape"
	"usherbench/core/stage"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// answering answers every prompt of a house as an operator would, until the test ends.
func answering(t *testing.T, h *servicetest.House) {
	ctx := t.Context()
	var once sync.Map
	go func() {
		_ = h.Local.Live(ctx, "", 0, func(e client.Event) error {
			var b api.Bay
			if e.Kind != api.EventBay || e.Into(&b) != nil || b.Prompt == nil || b.Run == nil {
				return nil
			}
			text := map[stage.AskForm]string{stage.AskConfirm: "yes", stage.AskSerial: b.Run.Serial,
				stage.AskNumber: "25", stage.AskText: "fine"}[b.Prompt.Form]
			if b.Prompt.Form == stage.AskTake {
				text = stage.TakeOne
				if b.Prompt.Take.Taken >= b.Prompt.Take.Least {
					text = stage.TakeDone
				}
			}
			if b.Prompt.Form == stage.AskPicture {
				joined, err := h.Local.Attach(ctx, b.Run.ID, client.Attaching{Name: "bars.png"},
					bytes.NewReader(pictureOf(t, 40, 30)))
				if err != nil {
					t.Errorf("picture for %s: %v", b.Prompt.Text, err)
				}
				text = strconv.Itoa(joined.Number)
			}
			if _, done := once.LoadOrStore([2]any{b.Run.ID, b.Prompt.T}, true); !done {
				_, err := h.Local.Intervene(ctx, b.Name, api.Intervention{Do: api.DoAnswer, Text: text})
				if err != nil && ctx.Err() == nil {
					t.Errorf("answer %s: %v", b.Prompt.Text, err)
				}
			}
			return nil
		}, nil)
	}()
}

// runReady runs a ready procedure and its rehearsal.
func runReady(t *testing.T, h *servicetest.House, bay, name, serial string, parameters map[string]string) (api.Run,
	api.Rehearsal) {
	text, err := demo.Library(name)
	require.NoError(t, err)
	header, err := procedure.ReadHeader([]byte(text))
	require.NoError(t, err)
	draft := api.Draft{Text: text, Parameters: parameters, Serial: serial}
	if header.For == "any" {
		draft.Nameplate = "tern"
	}
	rehearsed, err := h.Local.Rehearse(t.Context(), draft)
	require.NoError(t, err, name)
	run, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: bay, Procedure: name, Serial: serial,
		Parameters: parameters})
	require.NoError(t, err, name)
	return h.Ended(run), rehearsed
}

// ready is a ready procedure and where it runs.
type ready struct {
	bay, name  string
	parameters map[string]string
}

// asRehearsed runs a ready procedure and holds it against its rehearsal.
func asRehearsed(t *testing.T, h *servicetest.House, factor float64, r ready) api.Run {
	serial := "TN-2208"
	switch {
	case r.name == "gannet-top-balance":
		serial = "GB-41"
	case strings.HasPrefix(r.name, "gannet"):
		serial = "GP-301"
	case strings.HasPrefix(r.name, "eider"):
		serial = "ED-501"
	case strings.HasPrefix(r.name, "petrel"):
		serial = "PT-701"
	case strings.HasPrefix(r.name, "fulmar"):
		serial = "FU-901"
	case strings.HasPrefix(r.name, "skua"):
		serial = "SK-1002"
	case strings.HasPrefix(r.name, "cormorant"):
		serial = "CM-1101"
	case strings.HasPrefix(r.name, "puffin"):
		serial = "PF-1202"
	case strings.HasPrefix(r.name, "guillemot"):
		serial = "GM-1601"
	case strings.HasPrefix(r.name, "teal"):
		serial = "TL-1501"
	case strings.HasPrefix(r.name, "dunlin"):
		serial = "DN-601"
	}
	if r.name == "gannet-conditioning" { // after another procedure in the same bay: a pack that is as it was clipped in
		serial = "GP-302"
	}
	run, rehearsed := runReady(t, h, r.bay, r.name, serial, r.parameters)
	assert.Equal(t, "done", run.State, "%s: %s", r.name, run.Reason)
	assert.NotEqual(t, "fail", run.Outcome, r.name)
	// Each stage and point may wait for a frame more than foretold, and each level of a seek.
	waits, seeks := 0, false
	for _, m := range run.Marks {
		began, is := m.About.(record.Began)
		if is {
			seeks = began.Stage == "seek"
		}
		if is || m.Kind == record.MarkPointDone || seeks && m.Kind == record.MarkCommand {
			waits++
		}
	}
	assert.InDelta(t, rehearsed.Duration, run.Duration, 0.02*rehearsed.Duration+0.04*factor*float64(waits), r.name)
	for _, m := range run.Marks {
		assert.NotContains(t, m.Label, "readings stayed away", r.name)
	}
	return run
}

func TestEveryReadyProcedureRunsAsRehearsed(t *testing.T) {
	// Two have a test of their own: a rehearsal has no charger, and the balance is held against the bench's truth.
	seen := map[string]bool{"gannet-charger": true, "gannet-top-balance": true}
	for _, c := range []struct {
		factor float64
		layout []simbench.Layout
		ready  []ready
	}{
		{10, []simbench.Layout{simbench.Converter, simbench.BatteryPack}, []ready{{"bay1", "tern-line-load", nil},
			{"bay1", "first-converter", nil},
			{"bay1", "tern-load-steps", nil}, {"bay1", "tern-chamber", nil}, {"bay1", "tern-idle", nil},
			{"bay1", "tern-lockout", nil}, {"bay1", "tern-lowering", nil}, {"bay1", "tern-triangle", nil},
			{"bay1", "tern-acceptance", nil}, {"bay1", "tern-outgoing", nil},
			{"bay1", "tern-soak", map[string]string{"soak": "60 s"}},
			{"bay2", "gannet-resistance", map[string]string{"settle": "40 s"}}}},
		{1, []simbench.Layout{simbench.Converter, simbench.Converter}, []ready{{"bay1", "tern-cranking", nil},
			{"bay2", "tern-buoy-day", nil}}},
		{1, []simbench.Layout{simbench.Panel, simbench.HighVoltage}, []ready{{"bay1", "fulmar-sweep", nil},
			{"bay1", "fulmar-table", nil}, {"bay2", "skua-blocking", nil}}},
		{60, []simbench.Layout{simbench.HighVoltage, simbench.Drain}, []ready{{"bay1", "skua-insulation", nil},
			{"bay2", "teal-hour", nil}}},
		{1, []simbench.Layout{simbench.Machine, simbench.ThrustStand}, []ready{{"bay1", "cormorant-routine", nil},
			{"bay2", "puffin-thrust", nil}}},
		{2, []simbench.Layout{simbench.Machine}, []ready{{"bay1", "cormorant-torque", nil}}},
		{1, []simbench.Layout{simbench.Harness, simbench.Amplified}, []ready{{"bay1", "lantern-lead-wiring", nil},
			{"bay1", "lantern-lead-bend", nil},
			{"bay2", "guillemot-acceptance", nil}, {"bay2", "guillemot-two-tones", nil}}},
		{40, []simbench.Layout{simbench.Insulation}, []ready{{"bay1", "cormorant-insulation", nil}}},
		{120, []simbench.Layout{simbench.Machine, simbench.Machine}, []ready{{"bay1", "cormorant-type", nil},
			{"bay2", "cormorant-heat-run", nil}}},
		{8, []simbench.Layout{simbench.Scoped, simbench.Outputs}, []ready{{"bay1", "tern-validation", nil},
			{"bay2", "dunlin-outputs", nil}}},
		{2, []simbench.Layout{simbench.Scoped, simbench.Contracts}, []ready{{"bay1", "tern-watch", nil},
			{"bay2", "petrel-contracts", nil}}},
		{60, []simbench.Layout{simbench.Metered, simbench.Mains}, []ready{{"bay1", "tern-warm-up", nil},
			{"bay2", "eider-standby-look", nil}, {"bay2", "eider-standby", nil}}},
		{20, []simbench.Layout{simbench.Recirculated, simbench.Recirculated}, []ready{
			{"bay1", "kittiwake-recirculated", map[string]string{"between": "40 s"}}, {"bay2", "kittiwake-backup", nil}}},
		{600, []simbench.Layout{simbench.BatteryPack, simbench.BatteryPack, simbench.BatteryPack, simbench.BatteryPack},
			[]ready{
				{"bay1", "gannet-capacity", map[string]string{"into": "0.5 C", "out": "0.5 C"}},
				{"bay2", "gannet-cell-capacity", nil}, {"bay3", "gannet-storage", nil}, {"bay4", "gannet-night", nil}}},
		{1500, []simbench.Layout{simbench.BatteryPack, simbench.BatteryPack, simbench.BatteryPack}, []ready{
			{"bay1", "gannet-rate", nil}, {"bay2", "gannet-cycle-life", map[string]string{"checkpoints": "1", "cycles": "1"}},
			{"bay3", "gannet-self-discharge", map[string]string{"wait": "2 h"}},
			{"bay3", "gannet-conditioning", map[string]string{"target": "8 Ah", "most": "1"}}}},
		{100, []simbench.Layout{simbench.BatteryPack, simbench.BatteryPack, simbench.BatteryPack}, []ready{
			{"bay1", "gannet-cycle", map[string]string{"share": "0.2 Ah"}}, {"bay2", "gannet-pulses", nil},
			{"bay3", "gannet-logged", map[string]string{"longest": "20 min"}}}},
	} {
		for _, r := range c.ready {
			seen[r.name] = true
		}
		t.Run(fmt.Sprintf("at ×%g", c.factor), func(t *testing.T) {
			servicetest.Simulated(t, func(t *testing.T) {
				h := servicetest.Start(t, servicetest.Options{Bays: len(c.layout), Layouts: c.layout, TimeFactor: c.factor})
				answering(t, h)
				var wg sync.WaitGroup
				for _, bay := range []string{"bay1", "bay2", "bay3", "bay4"} {
					wg.Add(1)
					go func() {
						defer wg.Done()
						for _, r := range c.ready {
							if r.bay == bay {
								asRehearsed(t, h, c.factor, r)
							}
						}
					}()
				}
				wg.Wait()
			})
		})
	}
	for _, text := range demo.Procedures() {
		header, err := procedure.ReadHeader([]byte(text))
		require.NoError(t, err)
		assert.True(t, seen[header.Name], "%s is run", header.Name)
	}
}

// shapeOf is the first shape of a ready procedure.
func shapeOf(t *testing.T, name string) *shape.Shape {
	text, err := demo.Library(name)
	require.NoError(t, err)
	var plate *nameplate.Nameplate
	for _, n := range demo.Nameplates() {
		if p, err := nameplate.Parse([]byte(n)); err == nil && p.Name == "tern" {
			plate = p
		}
	}
	program, err := catalogue.Parse([]byte(text), plate, nil, demo.Library)
	require.NoError(t, err)
	for _, s := range program.Stages {
		if play, ok := s.Action.(*kinds.Play); ok {
			return play.Tracks[0].Shape
		}
	}
	t.Fatalf("%s plays nothing", name)
	return nil
}

// lateness is the mark in which a run says how late its levels were at most.
var lateness = regexp.MustCompile(`^paced by the service: .* mean, (\S+) ms at most$`)

func TestTheRecordedTraceLiesOnTheShape(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2, TimeFactor: 1, Layouts: []simbench.Layout{simbench.Converter,
			simbench.Converter}})
		runs := map[string]api.RunSummary{"tern-cranking": h.Start("bay1", "tern-cranking", "TN-2208"),
			"tern-triangle": h.Start("bay2", "tern-triangle", "TN-2209")}
		for name, run := range runs {
			doc := h.Ended(run)
			require.Equal(t, "done", doc.State, doc.Reason)
			s := shapeOf(t, name)
			began, late := math.NaN(), 0.0
			for _, m := range doc.Marks {
				if paced := lateness.FindStringSubmatch(m.Label); paced != nil {
					ms, err := strconv.ParseFloat(paced[1], 64)
					require.NoError(t, err)
					late = ms * 1e-3
				}
				if strings.HasPrefix(m.Label, "shape begins") {
					began = m.T
					assert.Equal(t, name == "tern-cranking", strings.Contains(m.Label, "instrument"),
						"5 ms edges are for the instrument, 0.25 Hz for the service")
				}
			}
			w, err := h.Local.Window(t.Context(), doc.ID, []string{"source.volts"}, client.Range{}, 8000)
			require.NoError(t, err)
			compared, outside := 0, 0
			for k, at := range w.T {
				past := at - began
				if past < 0.05 || past > s.Duration()-0.05 || w.Traces[0].Min[k] == nil {
					continue
				}
				// Accuracy of setting and reading, half a level of the staircase, 25 ms between command, reading and frame,
				// and how late the run itself says that its levels were.
				nearest := math.Inf(1)
				for tau := -25e-3 - late; tau <= 25e-3; tau += 1e-3 {
					nearest = math.Min(nearest, math.Abs(*w.Traces[0].Min[k]-s.At(past+tau)))
				}
				compared++
				if nearest > 0.08+0.15 {
					outside++
				}
			}
			assert.Greater(t, compared, 200, name)
			assert.LessOrEqual(t, outside, compared/100, name)
		}
	})
}

func TestAShapeThatNobodyCanPlayIsRefusedWithTheReason(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		program := `program: {of: volts, levels: "LIST:VOLT {values},(@{channel})", dwells: "LIST:DWEL ` +
			`{values},(@{channel})", start: "LIST:RUN (@{channel})", most: 500, shortest: 2 ms}`
		for name, c := range map[string]struct{ differs, want string }{
			"plain-supply": {"absent: [program]", "(supply1) has no program of levels"},
			"slow-supply":  {program, "has an edge of 5 ms, but supply1 holds each level for 2 ms at least"},
		} {
			text := "dialect: " + name + "\ntitle: a supply\nfrom: sim-supply\n" + c.differs + "\n"
			h := servicetest.Start(t, servicetest.Options{TimeFactor: 1})
			_, err := h.Local.PushDialect(t.Context(), text)
			require.NoError(t, err)
			config, err := h.Local.BenchConfig(t.Context())
			require.NoError(t, err)
			supply := config.Instruments["supply1"]
			supply.Dialect = name
			_, err = h.Local.PutInstrument(t.Context(), "supply1", supply)
			require.NoError(t, err)
			_, err = h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "tern-cranking", Serial: "TN-2208"})
			p := problemOf(t, err)
			assert.Equal(t, http.StatusConflict, p.Status)
			assert.Contains(t, p.Detail, c.want)
			assert.Contains(t, p.Detail, "a level every 20 ms makes no edge of that")
			h.Close()
		}
	})
}

func TestPeopleActOnARun(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(`procedure: by-hand
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
parameters: {level: {value: 2 A, adjustable: yes, min: 0 A, max: 8 A}, line: {value: 48 V}}
guards: [{when: "load.amps > 6 A for 100 ms", note: too much load}]
stages:
  - name: power up
    set: {source: {volts: line, amps: 5 A, output: on}, load: {mode: current, amps: level, output: on}}
    until: load.volts > 14 V
    within: 20 s
  - name: wait
    hold: {for: 1000 h}
  - name: colour
    ask: {choice: Which lamp is on, choices: [red, green], into: lamp}
  - name: room
    ask: {number: How warm is it, unit: °C, min: 0 °C, max: 50 °C, into: room}
  - {name: cold, when: answer.room < 10 °C, stages: [{signal: it is cold}]}
  - name: last
    hold: {for: 1000 h}
`)
		run := h.Start("bay1", "by-hand", "TN-2208")
		ctx := t.Context()
		inStage := func(name string) api.Bay {
			var bay api.Bay
			h.Until(func(e client.Event) bool {
				return e.Kind == api.EventBay && e.Into(&bay) == nil && bay.Progress != nil && bay.Progress.Name == name &&
					(bay.Progress.Name != "colour" || bay.Prompt != nil)
			})
			return bay
		}
		act := func(i api.Intervention) api.Bay {
			bay, err := h.Local.Intervene(ctx, "bay1", i)
			require.NoError(t, err, i.Do)
			return bay
		}
		bay := inStage("wait")
		assert.Equal(t, []api.Adjustable{{Name: "level", Value: "2 A", Min: "0 A", Max: "8 A"}}, bay.Adjustable)

		act(api.Intervention{Do: api.DoNote, Text: "the fan was switched on"})
		assert.True(t, act(api.Intervention{Do: api.DoPause}).Progress.Paused)
		refused := func(status int, words string, i api.Intervention) {
			_, err := h.Local.Intervene(ctx, "bay1", i)
			p := problemOf(t, err)
			assert.Equal(t, status, p.Status, words)
			assert.Contains(t, p.Detail, words)
		}
		refused(http.StatusBadRequest, "paused already", api.Intervention{Do: api.DoPause})
		refused(http.StatusBadRequest, "nothing is asked now", api.Intervention{Do: api.DoAnswer, Text: "yes"})
		refused(http.StatusBadRequest, `"line" cannot be changed during the run; adjustable: level`,
			api.Intervention{Do: api.DoAdjust, Parameter: "line", Value: "50 V"})
		refused(http.StatusBadRequest, "outside its bounds 0 A to 8 A", api.Intervention{Do: api.DoAdjust, Parameter: "level",
			Value: "9 A"})
		assert.False(t, act(api.Intervention{Do: api.DoResume}).Progress.Paused)
		act(api.Intervention{Do: api.DoExtend, Seconds: 600})
		act(api.Intervention{Do: api.DoAdjust, Parameter: "level", Value: "3 A"})
		h.Until(func(e client.Event) bool {
			var b api.Bay
			return e.Kind == api.EventBay && e.Into(&b) == nil && b.Readings["load.amps"] != nil &&
				math.Abs(*b.Readings["load.amps"]-3) < 0.05
		})
		act(api.Intervention{Do: api.DoSkip})
		assert.Equal(t, "Which lamp is on", inStage("colour").Prompt.Text)
		refused(http.StatusBadRequest, `"blue" is not among the choices: red, green`, api.Intervention{Do: api.DoAnswer,
			Text: "blue"})
		act(api.Intervention{Do: api.DoAnswer, Text: "green"})
		inStage("room")
		refused(http.StatusBadRequest, "99 °C is outside 0 to 50 °C", api.Intervention{Do: api.DoAnswer, Text: "99"})
		act(api.Intervention{Do: api.DoAnswer, Text: "4.5"})
		inStage("last")
		act(api.Intervention{Do: api.DoPause})
		// A pause does not pause guards: more load than the guard allows ends the run.
		act(api.Intervention{Do: api.DoAdjust, Parameter: "level", Value: "7 A"})
		doc := h.Ended(run)
		assert.Equal(t, "aborted", doc.State)
		assert.Contains(t, doc.Reason, "too much load")
		_, err := h.Local.Intervene(ctx, "bay1", api.Intervention{Do: api.DoPause})
		assert.Equal(t, http.StatusConflict, problemOf(t, err).Status)

		labels := map[record.MarkKind][]string{}
		for _, m := range doc.Marks {
			labels[m.Kind] = append(labels[m.Kind], m.Label)
		}
		hand := strings.Join(labels[record.MarkHand], "\n")
		for _, words := range []string{"paused by this machine", "resumed by this machine",
			"changed the length of wait by +600 s", "changed level from 2 A to 3 A", "skipped the rest of wait"} {
			assert.Contains(t, hand, words)
		}
		assert.Equal(t, []string{"this machine: the fan was switched on"}, labels[record.MarkNote])
		assert.Len(t, labels[record.MarkAnswer], 2)
		assert.Equal(t, []string{"it is cold"}, labels[record.MarkSignal])
		journal, err := h.Local.Journal(ctx, api.JournalFilter{Bay: "bay1", Run: doc.ID, Limit: 100})
		require.NoError(t, err)
		var what []string
		for _, e := range journal {
			what = append(what, e.What)
		}
		for _, words := range []string{"run: pause", "run: resume", "run: extend", "run: adjust", "run: skip", "run: answer",
			"run: note"} {
			assert.Contains(t, what, words)
		}
		viewer := h.As(api.Viewer)
		_, err = viewer.Intervene(ctx, "bay1", api.Intervention{Do: api.DoNote, Text: "hello"})
		assert.Equal(t, http.StatusForbidden, problemOf(t, err).Status)
	})
}

func TestAFaultyUnitLeavesItsRehearsalAndAGoodOneDoesNot(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2, TimeFactor: 10})
		good, faulty := h.Start("bay1", "tern-line-load", demo.Good), h.Start("bay2", "tern-line-load", demo.Faulty)
		goodDoc, faultyDoc := h.Ended(good), h.Ended(faulty)
		r, err := h.Local.RunRehearsal(t.Context(), goodDoc.ID)
		require.NoError(t, err)
		for _, d := range r.Deviations {
			t.Errorf("the good unit deviates: %+v", d)
		}
		assert.InDelta(t, goodDoc.Duration, r.T[len(r.T)-1], 2, "the rehearsal lies on the time axis of the run")
		r, err = h.Local.RunRehearsal(t.Context(), faultyDoc.ID)
		require.NoError(t, err)
		kinds := map[string]int{}
		for _, d := range r.Deviations {
			kinds[d.What]++
		}
		assert.Positive(t, kinds["figure"], "load regulation")
		assert.Positive(t, kinds["trace"], "load.volts")
	})
}
