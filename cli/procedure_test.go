package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/shape"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/tables"
)

// readyFile writes a ready procedure to a file.
func readyFile(t *testing.T, name string) string {
	text, err := demo.Library(name)
	require.NoError(t, err)
	return write(t, name+".yaml", []byte(text))
}

func TestARehearsalNeedsNoServiceAndItsOutcomeIsTheExitCode(t *testing.T) {
	alone(t)
	file := readyFile(t, "tern-line-load")
	code, out, errOut := usher(t, "", "rehearse", file)
	assert.Equal(t, 0, code, errOut)
	for _, words := range []string{"● pass", "a healthy unit, nameplate tern", "takes 38.", "source.volts, load.volts",
		"efficiency map", "load-regulation"} {
		assert.Contains(t, out, words)
	}
	code, out, _ = usher(t, "", "rehearse", file, "--fault", "weak-regulation", "--json")
	assert.Equal(t, 3, code)
	var r api.Rehearsal
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	assert.Equal(t, []string{"fail", "weak-regulation", "tern"}, []string{r.Outcome, r.Fault, r.Nameplate})
	assert.Len(t, r.Values, len(r.Columns))
	curves := filepath.Join(t.TempDir(), "curves.csv")
	code, _, errOut = usher(t, "", "rehearse", readyFile(t, "tern-lowering"), "--nameplate", "tern", "--csv", curves,
		"--param", "top=50V", "--param", "bottom=45V")
	assert.Equal(t, 0, code, errOut)
	text, err := os.ReadFile(curves)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(text), "time [s],source.volts [V],"))

	for want, args := range map[string][]string{
		"needs a nameplate":         {"rehearse", readyFile(t, "tern-lowering")},
		"is not a fault":            {"rehearse", file, "--fault", "cracked"},
		"no parameter \"tip\"":      {"rehearse", file, "--param", "tip=3 V"},
		"write it like top=6A":      {"rehearse", file, "--param", "tip"},
		"no such file or directory": {"rehearse", "nothing.yaml"},
	} {
		code, _, errOut := usher(t, "", args...)
		assert.NotEqual(t, 0, code, args)
		assert.Contains(t, errOut, want)
	}
}

// A list of setpoints comes as a workbook or as CSV, and travels with the procedure that sweeps it.
func TestAListOfSetpointsTravelsWithItsGrid(t *testing.T) {
	folder := t.TempDir()
	list := &shape.Table{Listed: true, Names: []string{"load.amps"}, Dims: []quantity.Dimension{quantity.Current},
		Levels: [][]float64{nil}}
	for k := range 240 {
		list.Levels[0] = append(list.Levels[0], float64(k)/128)
	}
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	_, err := h.Local.PushNameplate(t.Context(), "nameplate: some\nratings: {open_volts: 22 V}\n")
	require.NoError(t, err)
	for _, name := range []string{"amps.xlsx", "amps.csv"} {
		file, err := os.Create(filepath.Join(folder, name))
		require.NoError(t, err)
		require.NoError(t, tables.Write(file, list, tables.FormatOf(name)))
		require.NoError(t, file.Close())
		code, out, errOut := usher(t, "", "table", "check", file.Name())
		assert.Equal(t, 0, code, errOut)
		assert.Contains(t, out, "240 rows, load.amps, a list for a grid")
		text := filepath.Join(folder, "swept.yaml")
		require.NoError(t, os.WriteFile(text, []byte("procedure: swept\nfor: some\nneeds: {load: {volts: 24 V, amps: 2 A}}\n"+
			"stages:\n  - grid: {over: [{set: load.amps, table: "+name+"}], settle: 1 s, average: 1 s}\n"), 0o600))
		code, _, errOut = usher(t, "", "--data", h.Data, "procedure", "push", text)
		require.Equal(t, 0, code, errOut)
		p, err := h.Local.Procedure(t.Context(), "swept", 0)
		require.NoError(t, err)
		assert.Contains(t, p.Text, "    load.amps [A]\n    0\n    0.0078125\n")
		code, out, errOut = usher(t, "", "--data", h.Data, "procedure", "check", text)
		assert.Equal(t, 0, code, errOut)
		assert.Contains(t, out, "takes about 8 min 00 s", "240 places of 2 s")
	}
}

func TestTablesBesideAProcedureTravelWithIt(t *testing.T) {
	folder := t.TempDir()
	put := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	table := put("dip.csv", "time [s],source.volts [V]\n0,48\n1,40\n2,48\n")
	file := put("mine.yaml", `procedure: mine
for: tern
needs: {source: {volts: 60 V, amps: 5 A}}
stages:
  - {name: dip, play: {source.volts: [{table: dip.csv}, {table: late.xlsx}]}}
`)
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	code, _, errOut := usher(t, "", "--data", h.Data, "procedure", "check", file)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, `there is no table "late.xlsx" under tables; known here: dip.csv`,
		"one is there, one is missing")
	code, _, errOut = usher(t, "", "table", "convert", table, filepath.Join(folder, "late.xlsx"))
	assert.Equal(t, 0, code, errOut)
	code, out, errOut := usher(t, "", "table", "check", filepath.Join(folder, "late.xlsx"))
	assert.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "3 rows, source.volts, 2.00 s long")
	code, out, errOut = usher(t, "", "--data", h.Data, "procedure", "push", file, "--why", "a dip")
	assert.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "mine is revision 1")
	p, err := h.Local.Procedure(t.Context(), "mine", 0)
	require.NoError(t, err)
	assert.Contains(t, p.Text, "tables:\n  late.xlsx: |\n    time [s],source.volts [V]\n    0,48\n")
	assert.Contains(t, p.Text, "  dip.csv: |\n")
	drawn := filepath.Join(folder, "drawn.csv")
	code, _, errOut = usher(t, "", "--data", h.Data, "table", "draw", file, drawn, "--stage", "dip")
	assert.Equal(t, 0, code, errOut)
	text, err := os.ReadFile(drawn)
	require.NoError(t, err)
	assert.Equal(t, "time [s],source.volts [V]\n0,48\n1,40\n2,48\n3,40\n4,48\n", string(text))
	put("dip.csv", "time [s],source.volts [V]\n0,48\n1,high\n")
	code, _, errOut = usher(t, "", "table", "check", table)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, `cell B3: "high" is not a number`)
	code, _, errOut = usher(t, "", "table", "draw", readyFile(t, "tern-soak"), drawn)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "no stage of the procedure plays a shape")
}

func TestProceduresLiveInFilesAndRevisions(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	run := func(args ...string) string {
		t.Helper()
		code, out, errOut := usher(t, "", append([]string{"--data", h.Data}, args...)...)
		require.Equal(t, 0, code, "%v: %s", args, errOut)
		return out
	}
	folder := t.TempDir()
	out := run("procedure", "export", "--to", folder)
	assert.Equal(t, len(demo.Procedures()), strings.Count(out, "\n"))
	path := filepath.Join(folder, "tern-soak.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	original, err := demo.Library("tern-soak")
	require.NoError(t, err)
	assert.Equal(t, original, string(text))
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(original, "1 h", "2 h", 1)), 0o600))
	out = run("procedure", "import", folder, "--why", "as in the repository")
	assert.Contains(t, out, "tern-soak is revision 2")
	assert.Contains(t, out, "tern-idle is revision 1", "what is equal is left alone")
	out = run("procedure", "revisions", "tern-soak")
	assert.Contains(t, out, "as in the repository")
	out = run("procedure", "difference", "tern-soak")
	assert.Contains(t, out, "-   soak: {value: 1 h")
	assert.Contains(t, out, "+   soak: {value: 2 h")
	assert.Contains(t, run("procedure", "ready"), "tern-lockout")
	assert.Equal(t, original, run("procedure", "ready", "tern-soak"))

	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(original, "1 h", "2 V", 1)), 0o600))
	code, _, errOut := usher(t, "", "--data", h.Data, "procedure", "import", folder)
	assert.Equal(t, 1, code)
	assert.Regexp(t, `tern-soak.yaml:\d+:\d+: `, errOut)
}

func TestARunIsHeldAnsweredAndJudgedFromTheCommandLine(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	h.Push(`procedure: hands
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
parameters: {level: {value: 2 A, adjustable: yes}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: level, output: on}}
    until: load.volts > 14 V
    within: 20 s
  - {name: ready, ask: {confirm: Go on}}
  - {name: wait, hold: {for: 100 h}}
  - {name: end, acquire: {quantities: [load.volts], average: 200 ms}}
figures: [{figure: reading, row: end, quantity: load.volts, limit: {min: 14 V}}]
`)
	run := func(args ...string) string {
		t.Helper()
		code, out, errOut := usher(t, "", append([]string{"--data", h.Data}, args...)...)
		require.Equal(t, 0, code, "%v: %s", args, errOut)
		return out
	}
	started := h.Start("bay1", "hands", "TN-2208")
	require.Eventually(t, func() bool { b, _ := h.Local.Bay(t.Context(), "bay1"); return b.Prompt != nil }, 30*time.Second,
		20*time.Millisecond)
	assert.Contains(t, run("note", "bay1", "a", "note"), "it asks: Go on (yes or no)")
	code, _, errOut := usher(t, "", "--data", h.Data, "answer", "bay1", "perhaps")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "say yes or no")
	run("answer", "bay1", "yes")
	assert.Contains(t, run("pause", "bay1"), "wait, paused")
	live := run("show", started.ID)
	assert.Contains(t, live, "Stage 3 of 4: wait, paused")
	assert.Regexp(t, `, [1-9]\d* frames, 0 points`, live)
	assert.Regexp(t, `load\.volts +1\d\.\d{4} V`, live)
	assert.NotContains(t, live, "No figures")
	run("resume", "bay1")
	run("extend", "bay1", "10min")
	run("extend", "bay1", "--", "-5min")
	run("adjust", "bay1", "level=3A")
	run("label", "bay1", "listen")
	run("label", started.ID, "transmit")
	run("skip", "bay1")
	doc := h.Ended(started)
	assert.Equal(t, "pass", doc.Outcome)
	assert.Len(t, record.Spells(doc.Marks, doc.Duration), 2)
	code, _, errOut = usher(t, "", "--data", h.Data, "label", started.ID, "sleep")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "has ended: done")
	text := run("procedure", "show", "hands")
	stricter := write(t, "stricter.yaml", []byte(strings.Replace(text, "min: 14 V", "min: 16 V", 1)))
	out := run("judge", "last", "--procedure", stricter, "--why", "stricter")
	assert.Contains(t, out, "pass → fail")
	assert.Contains(t, out, "the runs stay as they were")
	assert.Contains(t, run("judge", "last", "--procedure", stricter, "--adopt"), "These are now the outcomes")
	assert.Contains(t, run("show", "last"), "■ fail")
	out = run("deviations", "last")
	assert.NotContains(t, out, "load.volts is", "a good unit lies where good units lie")
	for _, args := range [][]string{{"extend", "bay1", "soon"}, {"adjust", "bay1", "level"}, {"judge"},
		{"judge", "last", "--lot", "L"}, {"pause"}} {
		code, _, _ := usher(t, "", append([]string{"--data", h.Data}, args...)...)
		assert.Equal(t, 2, code, args)
	}
}
