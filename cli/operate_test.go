package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/demo"
	"usherbench/service/servicetest"
)

// A lot is tested at a place, looked at, reported and handed over, all by the command line.
func TestALotByTheCommandLine(t *testing.T) {
	alone(t)
	h := servicetest.Start(t, servicetest.Options{Sockets: true, TimeFactor: 5, Bays: 2,
		Faulty: map[string]string{"TN-3002": "open-contact"}})
	t.Setenv("USHER_DATA", h.Data)
	ok := func(input string, args ...string) string {
		t.Helper()
		code, out, errOut := usher(t, input, args...)
		require.Zero(t, code, errOut)
		return out
	}
	ok("", "lot", "order", "L-5", "--nameplate", "tern", "--quantity", "5", "--note", "for the harbour")
	code, _, errOut := usher(t, "", "operate", "--bay", "bay1")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "not set up")
	out := ok("TN-3001\nTN-3002\nTN-3002\n"+demo.Faulty+"\n", "operate", "--bay", "bay1", "--procedure", "tern-outgoing",
		"--lot", "L-5")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, lines, 4)
	assert.Contains(t, lines[0], "● pass       TN-3001")
	assert.Contains(t, lines[1], "◆ attention  TN-3002  Open contact: no current at a present voltage; Put it in anew")
	assert.Contains(t, lines[2], "● pass       TN-3002")
	assert.Contains(t, lines[3], "■ fail       "+demo.Faulty+"  Load regulation")
	assert.Contains(t, lines[3], "3 of 5 units: 2 passed, 0 marginal, 1 failed")

	ok("", "operate", "--bay", "bay1", "--procedure", "tern-outgoing", "--lot", "L-5", "--begins", "key")
	out = ok("TN-3009\n-\nTN-3003\n\n", "operate", "--bay", "bay1", "--json")
	var places []api.Place
	for decoder := json.NewDecoder(strings.NewReader(out)); decoder.More(); {
		var p api.Place
		require.NoError(t, decoder.Decode(&p))
		places = append(places, p)
	}
	require.Len(t, places, 4)
	assert.Nil(t, places[1].Unit, "the wrong scan was taken back")
	assert.Equal(t, "TN-3003", places[3].Last.Serial)

	together := func(input string, more ...string) (serials []string) {
		args := append([]string{"operate", "--bay", "bay1", "--bay", "bay2"}, more...)
		for _, line := range strings.Split(strings.TrimSpace(ok(input, args...)), "\n") {
			serials = append(serials, strings.Join(strings.Fields(line)[1:3], " "))
		}
		return serials
	}
	seen := together("TN-3011\nTN-3012\n\nTN-3013\n\n", "--procedure", "tern-outgoing", "--lot", "L-6", "--begins", "key")
	assert.ElementsMatch(t, []string{"ready TN-3011", "ready TN-3012", "pass TN-3011", "pass TN-3012", "ready TN-3013",
		"pass TN-3013"}, seen)
	assert.ElementsMatch(t, []string{"pass TN-3014", "pass TN-3015", "pass TN-3016"},
		together("TN-3014\nTN-3015\nTN-3016\n", "--procedure", "tern-outgoing", "--lot", "L-6"))

	assert.Contains(t, ok("", "lot", "show", "L-5"), "failed: "+demo.Faulty)
	assert.Contains(t, ok("", "lot", "log", "L-5"), "4 units, 5 attempts: 3 passed, 0 marginal, 1 failed; yield 75.0 %")
	assert.Regexp(t, `tern-outgoing\s+routine\s+fail\s+1`, ok("", "unit", "show", demo.Faulty))
	assert.Contains(t, ok("", "unit", "quarantine", demo.Faulty, "--why", "smells burnt"), "in quarantine: smells burnt")
	assert.Contains(t, ok("", "unit", "parts", demo.Faulty, "board=B-17"), "board: B-17")
	ok("", "unit", "release", demo.Faulty)
	code, _, errOut = usher(t, "", "unit", "quarantine", demo.Faulty)
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "--why")

	folder := t.TempDir()
	for name, args := range map[string][]string{"lot.pdf": {"lot", "report", "L-5"}, "lot.html": {"lot", "report", "L-5"},
		"log.xlsx": {"lot", "log", "L-5"}, "unit.pdf": {"unit", "report", demo.Faulty},
		"card.html": {"unit", "report", demo.Faulty, "--card", "--language", "de"}, "run.html": {"report", "last"},
		"runs.csv": {"runs", "--lot", "L-5"}, "runs.parquet": {"runs", "--lot", "L-5"}, "journal.csv": {"journal"}} {
		path := filepath.Join(folder, name)
		ok("", append(args, "-o", path)...)
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		begin := map[string]string{".pdf": "%PDF", ".html": "<!doctype html>", ".xlsx": "PK", ".csv": "", ".parquet": "PAR1"}
		assert.True(t, strings.HasPrefix(string(data), begin[filepath.Ext(name)]), name)
		assert.NotEmpty(t, data, name)
		switch name {
		case "card.html":
			assert.Contains(t, string(data), "nicht bestanden")
		case "runs.csv":
			assert.Contains(t, string(data), "load-regulation source.volts 48 V (%)")
			assert.Equal(t, 6, strings.Count(string(data), "\n"), "a header and a row a run")
		}
	}
	assert.Contains(t, ok("", "office", "set", "--company", "Skerry Light Works", "--sign", "Tested by"), "Skerry Light")
	assert.Contains(t, ok("", "office", "tell", "https://mes.example/runs", "--secret", "s"), "https://mes.example/runs")
	assert.NotContains(t, ok("", "office", "untell", "https://mes.example/runs"), "mes.example")
	assert.Contains(t, ok("", "procedure", "release", "tern-outgoing", "--why", "first article"), "released")
	assert.Contains(t, ok("", "procedure", "revisions", "tern-outgoing"), "released")
	assert.Contains(t, ok("", "journal", "--what", "procedure released"), "first article")
}
