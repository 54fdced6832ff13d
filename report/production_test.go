package report

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/catalogue"
	"usherbench/core/figure"
	"usherbench/core/procedure"
)

// textOf is the text of a PDF, as a reader finds it.
func textOf(t *testing.T, pdf []byte) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "report.pdf")
	require.NoError(t, os.WriteFile(file, pdf, 0o600))
	text, err := exec.Command("pdftotext", "-layout", file, "-").Output()
	require.NoError(t, err)
	return string(text)
}

// sampleLot is a lot with a figure of twelve units, one of them far from the others.
func sampleLot() api.Lot {
	mean, sd, drift, driftU, low := 95.1, 0.12, 0.01, 0.02, 93.0
	f := api.LotFigure{Figure: "efficiency", Title: "Efficiency", Where: "load.amps 8 A", Unit: "%", Min: &low, N: 12,
		Mean: &mean, SD: &sd, Drift: &drift, DriftU: &driftU, Cpk: &api.LotIndex{Value: 5.8, Low: 3.1, High: 8.5},
		Outliers: []api.LotOutlier{{Serial: "TN-9", Value: 94, Z: 6}},
		Bins:     []api.LotBin{{Low: 94, High: 95, Units: 4}, {Low: 95, High: 96, Units: 8}}}
	for k := range 12 {
		f.Sequence = append(f.Sequence, api.LotStep{Serial: "TN-1", Mean: 95 + float64(k)/100, Low: 95, High: 96})
	}
	share := func(x float64) *api.LotShare { return &api.LotShare{Value: x, Low: x - 5, High: x + 3} }
	order := api.LotOrder{Quantity: 24, Note: "for the harbour"}
	return api.Lot{Name: "L-7", Order: order, Procedures: []api.LotProcedure{{
		Procedure: "tern-outgoing", Title: "Outgoing test", Units: 12, Attempts: 13, Yield: share(91.7),
		FirstPass: share(83.3), Retest: share(8.3), Failing: []string{"TN-4"},
		Pareto: []api.LotCause{{Figure: "load-regulation", Title: "Load regulation", Units: 1, Share: 100,
			Cumulative: 100}},
		Figures: []api.LotFigure{f}, Bays: []api.LotPace{{Bay: "bay1", Test: &sd}}}}}
}

func sampleUnit() (api.Unit, []api.Run) {
	run := document()
	return api.Unit{Serial: "TN-4", Nameplate: "tern", Lots: []string{"L-7"}, Parts: map[string]string{"board": "B-00017"},
		Runs: []api.RunSummary{run.RunSummary},
		Card: &api.Card{Nameplate: "tern", State: api.CardFailed, Items: []api.CardItem{{Procedure: "tern-outgoing",
			Title: "Outgoing test", Kind: "routine", State: api.CardFailed, Attempts: 2}}}}, []api.Run{run}
}

// every makes one report of each kind in a look and a format.
func every(t *testing.T, look Look, format string) map[string][]byte {
	t.Helper()
	at := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	unit, runs := sampleUnit()
	all := map[string][]byte{}
	var err error
	all["run"], err = Run(document(), look, format, nil)
	require.NoError(t, err)
	all["lot"], err = Lot(sampleLot(), look, format, at)
	require.NoError(t, err)
	all["unit"], err = Unit(unit, runs, look, format, at)
	require.NoError(t, err)
	all["card"], err = Card(unit, runs, look, format, at)
	require.NoError(t, err)
	all["overlay"], err = Overlay(api.Overlay{XLabel: "Time", YLabel: "Volts", Curves: []api.OverlayCurve{{Label: "a",
		Drawn: true, X: []float64{0, 1}, Y: []float64{1, 2}}}}, look, format, at)
	require.NoError(t, err)
	return all
}

func TestReportsHoldWhatTheyAreOf(t *testing.T) {
	look := Look{api.Look{Company: "Skerry Light Works", Document: "SLW-{procedure}-{serial}",
		Signatures: []string{"Tested by"}}}
	for _, format := range Formats {
		for name, data := range every(t, look, format) {
			text := string(data)
			if format == "pdf" {
				text = textOf(t, data)
			}
			assert.Contains(t, text, "Skerry Light Works", name)
			want := map[string][]string{"lot": {"91.7 %", "Load regulation", "95.10 %", "5.80 (3.10 … 8.50)", "12 of 24",
				"TN-9", "≥ 93 %"}, "unit": {"B-00017", "routine", "Unit history"}, "card": {"Test card", "TN-4"}}[name]
			if name == "run" || name == "unit" || name == "card" {
				for _, f := range document().Figures {
					want = append(want, Value(f))
				}
			}
			for _, words := range want {
				assert.Contains(t, text, words, "%s as %s", name, format)
			}
			if name != "overlay" {
				assert.Contains(t, text, "Tested by", "%s as %s", name, format)
			}
		}
	}
}

func TestTheSameDataGiveTheSameBytes(t *testing.T) {
	for _, format := range Formats {
		first, second := every(t, Look{}, format), every(t, Look{}, format)
		for name, data := range first {
			assert.True(t, bytes.Equal(data, second[name]), "%s as %s", name, format)
		}
	}
}

func TestReportsSpeakTheLanguageOfTheHouse(t *testing.T) {
	for language, want := range map[string][]string{"de": {"Prüfbericht", "Kennwerte", "Seite 1 / 1"},
		"fr": {"Rapport d’essai", "Grandeurs", "Page 1 / 1"}} {
		all := every(t, Look{api.Look{Language: language}}, "pdf")
		text := textOf(t, all["run"])
		for _, words := range want {
			assert.Contains(t, text, words)
		}
		assert.NotRegexp(t, `\d\.\d+ ±`, text, "a decimal comma")
		assert.Regexp(t, `\d,\d+ ±`, text)
		lot := textOf(t, all["lot"])
		assert.Contains(t, lot, "91,7 %")
	}
	for word, all := range fixedWords {
		for i, other := range all {
			assert.NotEmpty(t, other, "%s in %s", word, Languages()[i+1])
		}
	}
}

// Every word that a report says by itself is in the table of words: there is no place for a forgotten one.
func TestNoWordIsForgotten(t *testing.T) {
	said := regexp.MustCompile(`(?:\.say|\.heading|\.section)\("([^"]+)"|fact\{"([^"]+)"|` +
		`\{"([A-Z][a-z ]+)", (?:doc|orDash|look|p|moment|fmt|u|l)\b`)
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	found := 0
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range said.FindAllStringSubmatch(string(text), -1) {
			word := m[1] + m[2] + m[3]
			if _, known := fixedWords[word]; !known && !strings.Contains(word, " by ") {
				assert.Fail(t, "no translation", "%s says %q", file, word)
			}
			found++
		}
	}
	assert.Greater(t, found, 60)
}

// Every figure has a title in every language.
func TestNoTitleIsForgotten(t *testing.T) {
	for id, f := range catalogue.Figures() {
		for k, word := range figureTitles[f.Title] {
			assert.NotEmpty(t, word, "%s in %s", id, Languages()[k+1])
		}
		assert.Contains(t, figureTitles, f.Title, id)
	}
}

func TestPaperIsAsTheHouseHasIt(t *testing.T) {
	for paper, size := range map[string]string{"a4": "595.28 841.89", "letter": "612.00 792.00"} {
		data, err := Run(document(), Look{api.Look{Paper: paper}}, "pdf", nil)
		require.NoError(t, err)
		assert.Contains(t, string(data), "/MediaBox [0 0 "+size, paper)
	}
	for why, look := range map[string]api.Look{"say a4 or letter": {Paper: "a5"}, "language is": {Language: "nl"},
		"neither PNG nor JPEG": {Logo: []byte("GIF89a")}, "unknown field {unit}": {Document: "{unit}"}} {
		_, err := Run(document(), Look{look}, "pdf", nil)
		assert.ErrorContains(t, err, why)
	}
}

// A page of HTML needs nothing from anywhere, and says nothing that an operator typed as its own.
func TestAPageStandsAlone(t *testing.T) {
	doc := document()
	const bad = `<script>alert(1)</script>`
	doc.Title, doc.Lot = bad, "=1+1"
	data, err := Run(doc, Look{}, "html", nil, Picture{Title: bad, Note: bad, XLabel: bad,
		Lines: []Line{{Label: bad, X: []float64{0, 1}, Y: []float64{0, 1}}}})
	require.NoError(t, err)
	assert.NotContains(t, string(data), "<script")
	links := regexp.MustCompile(`(?:src|href)="([^"]+)"`).FindAllStringSubmatch(string(data), -1)
	for _, m := range links {
		assert.True(t, strings.HasPrefix(m[1], "data:") || strings.HasPrefix(m[1], "#"), m[1])
	}
}

// spectra are the evidence of the second of two runs.
func spectra(run string) (Evidence, error) {
	if run != "B" {
		return Evidence{}, nil
	}
	drawing := &figure.Drawing{Title: "Spectrum of output", By: "spectrum.hertz", Of: "output.dbv",
		Lines: []figure.Line{{Label: "output", X: []float64{100, 1000, 10_000}, Y: []float64{-90, 20, -80}}}}
	noise, tone := procedure.Judged{}, procedure.Judged{}
	noise.Drawing, tone.Drawing = drawing, drawing
	return Evidence{Figures: []procedure.Judged{noise, tone}}, nil
}

func TestTheLogOfALot(t *testing.T) {
	at := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	log := api.LotLog{Name: "L-7", Took: 3600, Mean: 12.5, Tally: api.Tally{Quantity: 24, Units: 2, Passed: 1, Failed: 1},
		Entries: []api.LotLogEntry{{Began: at, Serial: "TN-1", Bay: "bay1", Procedure: "tern-outgoing", Took: 12,
			Outcome: "pass", Run: "A"}, {Began: at.Add(time.Minute), Serial: "=TN-2", Bay: "bay1",
			Procedure: "tern-outgoing", Took: 13,
			Outcome: "fail", Run: "B",
			Failing: []string{"Load regulation: 0.75 %, at most 0.5 %"}}}}
	for _, format := range LotLogFormats {
		var b bytes.Buffer
		require.NoError(t, WriteLotLog(&b, log, Look{}, format, spectra))
		text := b.String()
		switch format {
		case "pdf":
			text = textOf(t, b.Bytes())
		case "xlsx":
			assert.True(t, strings.HasPrefix(text, "PK"))
			continue
		}
		lines := strings.Split(text, "\n")
		at := slices.IndexFunc(lines, func(l string) bool { return strings.Contains(l, "TN-2") })
		require.Positive(t, at, format)
		assert.Contains(t, strings.Join(lines[at:], "\n"), "Load regulation: 0.75 %", "%s: under the unit", format)
		if format == "text" {
			assert.Contains(t, text, "2 units, 2 attempts: 1 passed, 0 marginal, 1 failed; yield 50.0 %")
			assert.Contains(t, text, "total time 1 h 00 min, 12.5 s a test in the mean")
		}
		if format == "html" || format == "pdf" {
			assert.Equal(t, 1, strings.Count(text, "Spectrum of output"), "%s: what two figures show alike", format)
			assert.Contains(t, strings.Join(lines[at:], "\n"), "Spectrum of output", "%s: under the unit", format)
		}
		if format == "csv" {
			assert.Contains(t, text, ",'=TN-2,", "no spreadsheet takes it for a formula")
		}
	}
}
