package cli_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/cli"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// usher runs the command line in this process.
func usher(t *testing.T, input string, args ...string) (code int, out, errOut string) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	code = cli.Run(t.Context(), args, strings.NewReader(input), &stdout, &stderr)
	return code, stdout.String(), stderr.String()
}

func alone(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	t.Setenv("USHER_DATA", filepath.Join(t.TempDir(), "none"))
}

func write(t *testing.T, name string, text []byte) string {
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, text, 0o600))
	return path
}

func lineLoad(t *testing.T) string {
	for _, text := range demo.Procedures() {
		if strings.Contains(text, "procedure: tern-line-load") {
			return text
		}
	}
	t.Fatal("the scenario has no tern-line-load")
	return ""
}

func TestCheckPrintsFindingsWithTheirPlace(t *testing.T) {
	alone(t)
	good := lineLoad(t)
	noise := make([]byte, 10<<20)
	rng := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(rng.Uint32())
	}
	place := regexp.MustCompile(`^\S+:\d+:\d+: \S`)
	for name, text := range map[string][]byte{
		"wrong unit":        []byte(strings.Replace(good, "36 V, 48 V, 60 V", "36 V, 48 A, 60 V", 1)),
		"unknown seat":      []byte(strings.Replace(good, "      load: {mode", "      lode: {mode", 1)),
		"unknown key":       []byte(strings.Replace(good, "average:", "avarage:", 1)),
		"unreachable limit": []byte(strings.Replace(good, "limit: {min: 93 %}", "limit: {min: 193 %}", 1)),
		"not YAML":          []byte("procedure: [a, b\nfor: }"),
		"noise":             noise,
	} {
		path := write(t, "bad.yaml", text)
		code, out, errOut := usher(t, "", "procedure", "check", path)
		assert.Equal(t, 1, code, name)
		assert.Empty(t, out, name)
		assert.Regexp(t, place, errOut, name)
		assert.Equal(t, 1, strings.Count(errOut, "\n"), "%s: one finding, one line: %s", name, errOut)
		code, out, _ = usher(t, "", "procedure", "check", path, "--json")
		assert.Equal(t, 1, code, name)
		assert.True(t, json.Valid([]byte(out)), name)
	}
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	for _, text := range [][]byte{noise, []byte("procedure: x\nfor: tern\nneeds: {lod: {}}\nstages: []\n")} {
		code, _, errOut := usher(t, "", "--data", h.Data, "procedure", "push", write(t, "bad.yaml", text))
		assert.Equal(t, 1, code)
		assert.Regexp(t, place, errOut, "push finds what check finds")
	}
	code, out, _ := usher(t, "", "procedure", "check", write(t, "good.yaml", []byte(good)))
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "no findings; 4 stages, takes about 36.00 s")
}

// walk visits every command that a person may give.
func walk(c *cobra.Command, visit func(*cobra.Command)) {
	for _, sub := range c.Commands() {
		if sub.Hidden || sub.Name() == "help" || sub.Name() == "completion" {
			continue
		}
		if !sub.HasSubCommands() || sub.HasExample() {
			visit(sub)
		}
		walk(sub, visit)
	}
}

func TestTheCatalogueListsWhatThereIs(t *testing.T) {
	alone(t)
	code, out, _ := usher(t, "", "catalogue")
	assert.Equal(t, 0, code)
	for _, want := range []string{"volts", "VA", "cycler", "feeds, drains", "grid", "sweeps one or more quantities",
		"efficiency", "Coulombic efficiency"} {
		assert.Contains(t, out, want)
	}
	code, out, _ = usher(t, "", "catalogue", "stages")
	assert.Equal(t, 0, code)
	assert.NotContains(t, out, "efficiency")
	code, _, _ = usher(t, "", "catalogue", "flavours")
	assert.Equal(t, 2, code)
	code, out, _ = usher(t, "", "catalogue", "--json")
	assert.Equal(t, 0, code)
	var c api.Catalogue
	require.NoError(t, json.Unmarshal([]byte(out), &c))
	assert.Equal(t, "volts", c.Quantities[0].Name)
}

func TestEveryCommandHelpsWithExamples(t *testing.T) {
	alone(t)
	walk(cli.Root(), func(c *cobra.Command) {
		command := strings.TrimPrefix(c.CommandPath(), "usher ")
		code, out, _ := usher(t, "", append(strings.Fields(command), "--help")...)
		assert.Equal(t, 0, code, command)
		assert.Contains(t, out, "Examples:\n", command)
		assert.Contains(t, out, "usher "+command, command)
	})
	for _, shell := range []string{"bash", "zsh", "fish"} {
		code, out, _ := usher(t, "", "completion", shell)
		assert.Equal(t, 0, code, shell)
		assert.NotEmpty(t, out, shell)
	}
}

func TestWrongUsageIsExitCodeTwo(t *testing.T) {
	alone(t)
	for _, args := range [][]string{{"dance"}, {"run"}, {"run", "x"}, {"show"}, {"runs", "--lots"}, {"stop"},
		{"stop", "bay1", "--all"}, {"export", "last", "--format", "xml"}, {"sign-in", "host"}, {"runs", "--limit", "many"}} {
		code, _, errOut := usher(t, "", args...)
		assert.Equal(t, 2, code, "%v: %s", args, errOut)
		assert.NotEmpty(t, errOut, args)
	}
	code, _, errOut := usher(t, "", "runs")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "start one with: usher serve", "without a service the remedy is named")
}

var update = flag.Bool("update", false, "write golden files anew")

// golden replaces what differs from run to run.
func golden(s string) string {
	for pattern, by := range map[string]string{
		`01[0-9A-Z]{24}`: "RUN", `\d{4}-\d\d-\d\d \d\d:\d\d:\d\d`: "DATE", `−?\d+\.\d+ ± \d+\.?\d*`: "VALUE",
		`\d+ frames`: "N frames", `\d+\.\d\d s`: "TIME", ` +`: " ",
	} {
		s = regexp.MustCompile(pattern).ReplaceAllString(s, by)
	}
	return s
}

// A run may have ended before anybody listens: it is followed to its end all the same.
func TestARunThatTakesAMomentIsFollowed(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true, Layouts: []simbench.Layout{simbench.Harness},
		Faulty: map[string]string{"LL-13": "touching"}})
	for range 8 {
		for serial, want := range map[string]int{"LL-10": 0, "LL-13": 3} {
			code, out, errOut := usher(t, "", "--data", h.Data, "run", "lantern-lead-wiring", "--bay", "bay1", "--serial",
				serial, "--follow")
			assert.Equal(t, want, code, "%s: %s", serial, errOut)
			assert.Equal(t, want == 3, strings.Contains(out, "A6 and A7 are joined"), out)
		}
	}
}

func TestAFollowedRunShowsItsFiguresAndItsOutcomeIsTheExitCode(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	for serial, want := range map[string]int{demo.Good: 0, demo.Faulty: 3, "TN-2219": 3} {
		code, out, errOut := usher(t, "", "--data", h.Data, "run", "tern-load-steps", "--bay", "bay1", "--serial", serial,
			"--follow")
		assert.Equal(t, want, code, "%s: %s", serial, errOut)
		assert.Contains(t, out, serial)
	}
	code, out, _ := usher(t, "", "--data", h.Data, "run", "tern-load-steps", "--bay", "bay1", "--serial", demo.Good,
		"--follow")
	require.Equal(t, 0, code)
	_, shown, _ := usher(t, "", "--data", h.Data, "show", "last")
	figures, points, _ := strings.Cut(shown, "\nPoints\n")
	assert.True(t, strings.HasSuffix(out, figures), "follow ends with what show prints, without the points")
	assert.Equal(t, 7, strings.Count(points, "\n"), "what is the same, a heading and five points: %s", points)
	if *update {
		require.NoError(t, os.WriteFile("testdata/show.golden", []byte(golden(figures)), 0o644))
	}
	want, err := os.ReadFile("testdata/show.golden")
	require.NoError(t, err)
	assert.Equal(t, string(want), golden(figures))

	code, out, _ = usher(t, "", "--data", h.Data, "show", "last", "--json")
	require.Equal(t, 0, code)
	var run api.Run
	require.NoError(t, json.Unmarshal([]byte(out), &run))
	assert.Equal(t, "pass", run.Outcome)
	code, _, errOut := usher(t, "", "--data", h.Data, "show", "01")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "several runs begin so")
	code, out, _ = usher(t, "", "--data", h.Data, "runs", "--outcome", "fail")
	assert.Equal(t, 0, code)
	assert.Equal(t, 3, strings.Count(out, "\n"), "a heading and two runs: %s", out)

	folder := t.TempDir()
	for _, file := range []string{"run.csv", "run.json"} {
		code, _, errOut := usher(t, "", "--data", h.Data, "export", run.ID[:20], "-o", filepath.Join(folder, file), "--from",
			"0.5 s", "--to", "1 s")
		assert.Equal(t, 0, code, errOut)
	}
	code, _, _ = usher(t, "", "--data", h.Data, "report", "last", "-o", filepath.Join(folder, "run.pdf"))
	assert.Equal(t, 0, code)
	for _, file := range []string{"run.csv", "run.json", "run.pdf"} {
		info, err := os.Stat(filepath.Join(folder, file))
		require.NoError(t, err)
		assert.Positive(t, info.Size())
	}
	code, _, errOut = usher(t, "", "--data", h.Data, "report", "nothing", "-o", filepath.Join(folder, "none.pdf"))
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "Not found")
	_, err = os.Stat(filepath.Join(folder, "none.pdf"))
	assert.ErrorIs(t, err, os.ErrNotExist, "half a file is not left behind")
}

// Who does not answer is not added unknowingly, and what is suggested fits what was added.
func TestAnInstrumentThatDoesNotAnswerIsAddedLaterOnly(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	const nobody = "tcp://127.0.0.1:1"
	for _, named := range [][]string{nil, {"--dialect", "sim-load"}} {
		code, _, errOut := usher(t, "", append([]string{"--data", h.Data, "bench", "add", "eload9", nobody}, named...)...)
		assert.Equal(t, 1, code)
		assert.Contains(t, errOut, "nobody says at "+nobody+" who it is")
		assert.Contains(t, errOut, "--later")
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		assert.NotContains(t, config.Instruments, "eload9")
	}
	code, _, errOut := usher(t, "", "--data", h.Data, "bench", "add", "eload9", nobody, "--later")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "--dialect")
	code, out, errOut := usher(t, "", "--data", h.Data, "bench", "add", "eload9", nobody, "--later", "--dialect",
		"sim-load")
	assert.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "usher bench bay BAY load=eload9")
}

func TestTheBenchIsShownSetAndMadeSafe(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	code, out, _ := usher(t, "", "--data", h.Data, "bench")
	require.Equal(t, 0, code)
	assert.Contains(t, out, "supply1")
	assert.Contains(t, out, "● ok")
	code, _, errOut := usher(t, "", "--data", h.Data, "bench", "set", "bay1", "source.volts=48V", "source.amps=1A",
		"source.output=on")
	require.Equal(t, 0, code, errOut)
	state, err := h.Bench.State("bay1")
	require.NoError(t, err)
	assert.True(t, state.SourceOn)
	code, _, errOut = usher(t, "", "--data", h.Data, "bench", "set", "bay1", "source.volts=fast")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "does not begin with a number")
	code, out, _ = usher(t, "", "--data", h.Data, "bench", "safe", "bay1")
	require.Equal(t, 0, code)
	assert.Contains(t, out, "read back as off")
	state, err = h.Bench.State("bay1")
	require.NoError(t, err)
	assert.False(t, state.SourceOn)
	code, out, _ = usher(t, "", "--data", h.Data, "journal")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "set by hand")
	for _, args := range [][]string{{"stop", "--all"}, {"bench", "read", "bay1"}, {"procedure", "list"},
		{"procedure", "show", "tern-soak"}, {"nameplate", "list"}, {"nameplate", "show", "tern"}, {"account", "list"}} {
		code, out, errOut := usher(t, "", append([]string{"--data", h.Data}, args...)...)
		assert.Equal(t, 0, code, "%v: %s", args, errOut)
		assert.NotEmpty(t, out, args)
		code, out, _ = usher(t, "", append([]string{"--json", "--data", h.Data}, args...)...)
		assert.Equal(t, 0, code, args)
		assert.True(t, json.Valid([]byte(out)), "%v: %s", args, out)
	}
}

func TestSigningInFromAnotherMachine(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	alone(t)
	code, _, errOut := usher(t, "a lantern in the fog\n", "--data", h.Data, "account", "add", "grace", "--role",
		"operator")
	require.Equal(t, 0, code, errOut)
	code, _, errOut = usher(t, "", "--server", h.Running.URL, "runs")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "usher sign-in")
	code, _, errOut = usher(t, "wrong password\n", "sign-in", h.Running.URL, "--name", "grace")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "do not belong together")
	code, out, errOut := usher(t, "a lantern in the fog\n", "sign-in", strings.TrimPrefix(h.Running.URL, "http://"),
		"--name", "grace")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "as grace (operator)")
	code, _, errOut = usher(t, "", "runs")
	assert.Equal(t, 0, code, errOut)
	path := write(t, "p.yaml", []byte(lineLoad(t)))
	code, _, errOut = usher(t, "", "procedure", "push", path)
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "this needs the role engineer")
	code, _, errOut = usher(t, "", "sign-out")
	assert.Equal(t, 0, code, errOut)
	code, _, _ = usher(t, "", "runs")
	assert.Equal(t, 1, code)
}

func TestTheDemoRunsOnceWithoutAPerson(t *testing.T) {
	alone(t)
	folder := t.TempDir()
	code, out, errOut := usher(t, "", "demo", "--once", folder, "--time-factor", "20")
	require.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "● pass   "+demo.Good)
	assert.Contains(t, out, "■ fail   "+demo.Faulty)
	assert.Regexp(t, `■\s+load-regulation`, out)
	for _, serial := range []string{demo.Good, demo.Faulty} {
		for _, ending := range []string{".csv", ".json", ".pdf"} {
			assert.FileExists(t, filepath.Join(folder, serial+ending))
		}
	}
}

func TestConfigurationMistakesNameTheirPlace(t *testing.T) {
	alone(t)
	for text, want := range map[string]string{
		"instruments: {psu: {address: 'ftp://x:1', dialect: " +
			"sim-supply}}": `instruments.psu: address "ftp://x:1": the transport "ftp" is not known`,
		"instruments: {psu: {address: 'tcp://x:1', dialect: sim-suply}}": `did you mean "sim-supply"?`,
		"bays: {b: {seats: {source: {instrument: psu}}}}":                `bays.b.seats.source: unknown instrument "psu"`,
		"bays: {b: {interval: 3 V}}":                                     "here belongs a time such as 20 ms",
		"colour: green":                                                  "colour",
		"listen: nowhere":                                                "write it like 127.0.0.1:8750",
		"instruments: {psu: {address: 'tcp://x:1', dialect: sim-load}}\n" +
			"bays: {b: {seats: {source: {instrument: psu}}}}": "psu cannot fill it",
		"instruments: {psu: {address: 'tcp://x:1', dialect: sim-supply}}\nbays: {a: {seats: {source: {instrument: psu}}}, " +
			"b: {seats: {source: {instrument: psu}}}}": "a channel can be in one place only",
	} {
		if !strings.HasPrefix(text, "listen") {
			text = "listen: 127.0.0.1:0\n" + text
		}
		code, _, errOut := usher(t, "", "serve", "--data", t.TempDir(), "--config", write(t, "usher.yaml", []byte(text)))
		assert.Equal(t, 1, code, text)
		assert.Contains(t, errOut, want, text)
	}
}
