package service_test

import (
	"bufio"
	"bytes"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/shape"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/tables"
)

func problemOf(t *testing.T, err error) *api.Problem {
	t.Helper()
	var p *api.Problem
	require.ErrorAs(t, err, &p)
	return p
}

func TestALotIsJudgedAgain(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2})
		ctx := t.Context()
		var runs []api.RunSummary
		for i, serial := range []string{"TN-2301", "TN-2302"} {
			run, err := h.Local.StartRun(ctx, api.StartRun{Bay: []string{"bay1", "bay2"}[i], Procedure: "tern-load-steps",
				Serial: serial, Lot: "L-9"})
			require.NoError(t, err)
			runs = append(runs, run)
		}
		for _, run := range runs {
			assert.Equal(t, "pass", h.Ended(run).Outcome)
		}
		text, err := demo.Library("tern-load-steps")
		require.NoError(t, err)
		stricter := strings.Replace(text, "{figure: efficiency, limit: {min: 93 %}}",
			"{figure: efficiency, limit: {min: 99 %}}\n  - {figure: loss}", 1)
		all, err := h.Local.Judge(ctx, api.JudgeAgain{Lot: "L-9", Text: stricter, Why: "a dream"})
		require.NoError(t, err)
		require.Len(t, all, 2)
		assert.Equal(t, []string{"pass", "fail"}, []string{all[0].Before, all[0].Outcome})
		assert.Len(t, all[0].Changes, 2, "%v", all[0].Changes)
		doc, err := h.Local.Run(ctx, runs[0].ID)
		require.NoError(t, err)
		assert.Equal(t, "pass", doc.Outcome, "the run keeps its outcome")
		kept, err := h.Local.Judgements(ctx, runs[0].ID)
		require.NoError(t, err)
		require.Len(t, kept, 2)
		assert.Equal(t, "when the run ended", kept[0].Why)
		assert.Len(t, kept[0].Figures, 3)

		_, err = h.Local.Judge(ctx, api.JudgeAgain{Run: runs[0].ID, Text: stricter, Adopt: true})
		require.NoError(t, err)
		doc, err = h.Local.Run(ctx, runs[0].ID)
		require.NoError(t, err)
		assert.Equal(t, "fail", doc.Outcome)
		assert.Len(t, doc.Figures, 4)
		again, err := h.Local.Judge(ctx, api.JudgeAgain{Run: runs[0].ID, Adopt: true})
		require.NoError(t, err)
		assert.Equal(t, "pass", again[0].Outcome, "by the text that ran")

		_, err = h.Local.Judge(ctx, api.JudgeAgain{})
		assert.Equal(t, http.StatusBadRequest, problemOf(t, err).Status)
		_, err = h.Local.Judge(ctx, api.JudgeAgain{Lot: "none"})
		assert.Equal(t, http.StatusNotFound, problemOf(t, err).Status)
		_, err = h.Local.Judge(ctx, api.JudgeAgain{Run: runs[0].ID, Text: strings.Replace(text, "efficiency", "efficacy", 1)})
		assert.Equal(t, http.StatusUnprocessableEntity, problemOf(t, err).Status)
	})
}

func TestRevisionsTellWhoWhenWhyAndWhat(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		ctx := t.Context()
		_, err := h.Local.PushProcedure(ctx, quick, "first")
		require.NoError(t, err)
		run := h.Start("bay1", "quick", "TN-2208")
		changed := strings.Replace(quick, "hold: {for: 11 s}", "hold: {for: 12 s}\n    note: longer", 1)
		_, err = h.Local.PushProcedure(ctx, changed, "longer without load")
		require.NoError(t, err)
		all, err := h.Local.Revisions(ctx, "quick")
		require.NoError(t, err)
		require.Len(t, all, 2)
		assert.Equal(t, []any{2, "longer without load", "this machine"}, []any{all[0].Revision, all[0].Why, all[0].By})
		lines, err := h.Local.Difference(ctx, "quick", 0, 0)
		require.NoError(t, err)
		var different []string
		for _, l := range lines {
			if l.Kind != "same" {
				different = append(different, l.Kind+l.Text)
			}
		}
		assert.Equal(t, []string{"old    hold: {for: 11 s}", "new    hold: {for: 12 s}", "new    note: longer"}, different)
		assert.Equal(t, quick, h.Ended(run).ProcedureText, "a run keeps the text that it ran")
		_, err = h.Local.Revisions(ctx, "none")
		assert.Equal(t, http.StatusNotFound, problemOf(t, err).Status)
	})
}

func TestAProcedureUsesAnotherAsItWasThen(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		part := `procedure: warm
for: any
needs: {source: {}, load: {}}
parameters: {soak: {value: 1 s}}
guards: [{when: "load.volts > 17 V for 50 ms", note: runs away}]
stages: [{name: soak, hold: {for: soak}}]
`
		h.Push(part)
		h.Push(`procedure: whole
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}}
  - {name: first, use: warm}
  - {name: second, use: warm, with: {soak: 3 s}}
`)
		run := h.Start("bay1", "whole", "TN-2208")
		h.Push(strings.Replace(part, "1 s", "500 s", 1))
		doc := h.Ended(run)
		assert.Equal(t, "done", doc.State, doc.Reason)
		assert.InDelta(t, 4, doc.Duration, 2)
		_, err := h.Local.Judge(t.Context(), api.JudgeAgain{Run: doc.ID})
		assert.NoError(t, err, "the used text is kept with the run")
		_, err = h.Local.CheckProcedure(t.Context(),
			"procedure: odd\nfor: any\nneeds: {source: {}}\nstages: [{use: warm}, {use: missing}]\n")
		p := problemOf(t, err)
		assert.Contains(t, p.Findings.Error(), `it needs a seat "load"`)
		assert.Contains(t, p.Findings.Error(), `procedure "missing" cannot be used`)
	})
}

func TestDraftsAreOutlinedWithTheirMistakes(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		text, err := demo.Library("tern-cranking")
		require.NoError(t, err)
		o, err := h.Local.Outline(t.Context(), api.Draft{Text: text})
		require.NoError(t, err)
		assert.Empty(t, o.Findings)
		require.Len(t, o.Stages, 3)
		track := o.Stages[1].Tracks[0]
		assert.Equal(t, []any{"source.volts", "V", 36.0, 48.0, 5e-3}, []any{track.Column, track.Unit, track.Low, track.High,
			track.Shortest})
		assert.Greater(t, len(track.Knots), 50)
		broken := strings.Replace(text, "within: 5 s", "withn: 5 s", 1)
		o, err = h.Local.Outline(t.Context(), api.Draft{Text: broken})
		require.NoError(t, err)
		assert.NotEmpty(t, o.Findings)
		assert.Len(t, o.Stages, 3, "what can be read is shown all the same")
		for _, text := range []string{"", "{", "a: [", "procedure: x"} {
			o, err = h.Local.Outline(t.Context(), api.Draft{Text: text})
			require.NoError(t, err)
			assert.NotEmpty(t, o.Findings, text)
		}
		_, err = h.Local.Rehearse(t.Context(), api.Draft{Text: broken})
		assert.Equal(t, http.StatusUnprocessableEntity, problemOf(t, err).Status)
		_, err = h.Local.Rehearse(t.Context(), api.Draft{Text: text, Fault: "cracked"})
		assert.Error(t, err)
		ready, err := h.Local.Ready(t.Context())
		require.NoError(t, err)
		assert.Empty(t, ready, "a house has none of its own")
	})
}

func TestTablesComeFromFiles(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		table, err := shape.ReadCSV(strings.NewReader("time [s],volts [V]\n0,48\n1,40\n"))
		require.NoError(t, err)
		var b bytes.Buffer
		require.NoError(t, tables.Write(&b, table, tables.XLSX))
		read, err := h.Local.ReadTable(t.Context(), "dip.xlsx", &b)
		require.NoError(t, err)
		assert.Equal(t, api.Table{Text: "time [s],volts [V]\n0,48\n1,40\n", Names: []string{"volts"}, Rows: 2}, read)
		_, err = h.Local.ReadTable(t.Context(), "dip.csv", strings.NewReader("time [s],volts [V]\n0,x\n"))
		assert.Contains(t, problemOf(t, err).Detail, `cell B2: "x" is not a number`)
	})
}

func TestADerivedColumnIsKeptWhereColumnsAreChosen(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(`procedure: chosen
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
derived: {unit.watts: "source.watts - load.watts"}
record: {every: 100 ms, columns: [unit.watts, load.volts]}
stages:
  - {set: {source: {volts: 48 V, amps: 5 A, output: on}}, until: load.volts > 14 V, within: 20 s}
  - hold: {for: 5 s}
`)
		doc := h.Ended(h.Start("bay1", "chosen", "TN-2208"))
		w, err := h.Local.Window(t.Context(), doc.ID, []string{"unit.watts", "load.volts", "source.volts"}, client.Range{},
			100)
		require.NoError(t, err)
		present := func(trace api.Trace) (n int) {
			for _, x := range trace.Min {
				if x != nil {
					n++
				}
			}
			return n
		}
		assert.Greater(t, present(w.Traces[0]), 5)
		assert.Greater(t, present(w.Traces[1]), 5)
		assert.Zero(t, present(w.Traces[2]), "what was not chosen is not kept")
	})
}

// A program that was left playing by whoever used the supply before does not play on in a run.
func TestAProgramThatStillPlaysIsStoppedBeforeARun(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 1})
		conn := h.Dial("supply1")
		answers := bufio.NewReader(conn)
		ask := func(message string) string {
			_, err := conn.Write([]byte(message + "\n"))
			require.NoError(t, err)
			line, err := answers.ReadString('\n')
			require.NoError(t, err)
			return strings.TrimSpace(line)
		}
		ask("LIST:VOLT 10,12,(@1);:LIST:DWEL 100,100,(@1);:LIST:COUN 1,(@1);:OUTP ON,(@1);:LIST:RUN (@1);*OPC?")
		require.Equal(t, "1", ask("LIST:RUN? (@1)"))
		_, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "tern-load-steps", Serial: "TN-2208"})
		assert.ErrorContains(t, err, "is on, though nobody here switched it on")
		require.Equal(t, "1", ask("LIST:RUN? (@1)"), "nothing is done to it before a person has looked")
		_, err = h.Local.MakeSafe(t.Context(), "bay1", "")
		require.NoError(t, err)
		run := h.Start("bay1", "tern-load-steps", "TN-2208")
		assert.Equal(t, "pass", h.Ended(run).Outcome)
		assert.Equal(t, "0", ask("LIST:RUN? (@1)"))
	})
}
