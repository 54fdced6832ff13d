package report

import (
	"bytes"
	"context"
	"encoding/json"
	"image/png"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/figure"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/waveform"
	"usherbench/store"
)

func number(x float64) *float64 { return &x }

func result(id, unit string, value, u float64) figure.Result {
	return figure.Result{Request: figure.Request{ID: id}, Unit: unit, Value: value, U: u, K: 2}
}

func TestFiguresAreWordedToTheirUncertainty(t *testing.T) {
	for want, f := range map[string]procedure.Judged{
		"93.31 ± 0.13 %":      {Result: result("efficiency", "%", 93.3123, 0.13)},
		"−0.242 ± 0.049 %":    {Result: result("output-accuracy", "%", -0.24161, 0.0489)},
		"120 ± 17 W":          {Result: result("loss", "W", 119.6, 17.2)},
		"0.82034 W":           {Result: result("no-load-power", "W", 0.82034, 0)},
		"undetermined":        {Result: figure.Result{Undetermined: &record.Undetermined{Code: "no-point"}}},
		"0.04475 ± 0.00080 %": {Result: result("line-regulation", "%", 0.044751, 0.0008)},
	} {
		assert.Equal(t, want, Value(f))
	}
}

func TestLimitsAreWorded(t *testing.T) {
	f := procedure.Judged{Result: result("x", "%", 1, 1)}
	assert.Equal(t, "—", Limit(f))
	f.Max = number(0.5)
	assert.Equal(t, "≤ 0.5 %", Limit(f))
	f.Marginal = 0.1
	assert.Equal(t, "≤ 0.5 % (marginal above 0.4)", Limit(f))
	f.Min, f.Marginal = number(-1), 0
	assert.Equal(t, "−1 … 0.5 %", Limit(f))
	f.Max, f.Marginal = nil, 0.25
	assert.Equal(t, "≥ −1 % (marginal below −0.75)", Limit(f))
	long, short := 50400.0, 90.0
	assert.Equal(t, "≤ "+Seconds(long), Limit(procedure.Judged{Result: figure.Result{Unit: "s"}, Max: &long}),
		"nobody reads hours in seconds")
	assert.Equal(t, "≤ 90 s", Limit(procedure.Judged{Result: figure.Result{Unit: "s"}, Max: &short}))
}

func TestTimesAndSigns(t *testing.T) {
	for want, s := range map[string]float64{"12.35 s": 12.345001, "2 min 03 s": 123, "1 h 20 min": 4800, "—": -1} {
		assert.Equal(t, want, Seconds(s))
	}
	seen := map[string]bool{}
	for _, o := range []outcome.Outcome{outcome.Pass, outcome.Marginal, outcome.Fail, outcome.Aborted,
		outcome.Undetermined, outcome.None} {
		seen[Sign(string(o))] = true
	}
	assert.Len(t, seen, 6, "every outcome has a shape of its own")
}

// document is a run with points over two lines, as far as a report shows it.
func document() api.Run {
	started := time.Date(2026, 11, 20, 8, 0, 0, 0, time.UTC)
	ended := started.Add(time.Minute)
	doc := api.Run{
		RunSummary: api.RunSummary{ID: "01TEST", Bay: "bay1", Serial: "TN-2213", Procedure: "tern-line-load", Revision: 3,
			Title: "Efficiency and regulation", Nameplate: "tern",
			Operator: "ada", StartedAt: started, EndedAt: &ended, State: "done", Outcome: "fail", Duration: 36},
		Parameters: map[string]string{"top": "6 A"}, TimeFactor: 10,
		Instruments: []api.InstrumentUse{{Seat: "source", Instrument: "supply1", Channel: 1,
			Identity: "Usher Bench,SIM-S2,S2-0101,1.0", Calibrated: "2024-03-16", Due: "2025-03-16"}},
		Marks: []record.Mark{{T: 0, Kind: record.MarkStage, Label: "power up"},
			{T: 1, Kind: record.MarkCommand, Label: "not shown"}, {T: 3, Kind: record.MarkGuard, Label: "output runs away"}},
		Figures: []procedure.Judged{
			{Result: result("load-regulation", "%", 0.748, 0.001), Title: "Load regulation", Where: "source.volts 48 V",
				Max: number(0.5), Outcome: outcome.Fail},
			{Result: figure.Result{Request: figure.Request{ID: "efficiency"},
				Undetermined: &record.Undetermined{Code: "no-point", Sentence: "no point was measured there"}}, Title: "Efficiency",
				Outcome: outcome.Undetermined},
		},
	}
	for i, line := range []float64{36, 36, 48, 48} {
		amps := float64(1 + 3*(i%2))
		doc.Points = append(doc.Points, record.Point{Index: i, Place: map[string]float64{"source.volts": line,
			"load.amps": amps}, Averages: map[string]trace.Average{
			"source.watts": {Mean: 16 * amps, N: 9}, "load.watts": {Mean: 15 * amps, N: 9}, "load.volts": {Mean: 15 - 0.01*amps,
				N: 9}, "load.amps": {Mean: amps, N: 9}, "source.volts": {Mean: line, N: 9},
		}})
	}
	return doc
}

func TestTheReportSaysEverythingItMust(t *testing.T) {
	kept := store.Excerpt{Name: "the dip", Note: "somebody opened a door", From: 1, To: 3}
	dip := excerptPicture(kept, "load.volts", []trace.Bucket{{T: 1, Min: 15, Max: 15}, {T: 2, Min: 14.2, Max: 15}})
	pdf, err := Run(document(), Look{}, "pdf", nil, append(dip, dip...)...)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "report.pdf")
	require.NoError(t, os.WriteFile(path, pdf, 0o600))
	text, err := exec.Command("pdftotext", "-layout", path, "-").Output()
	require.NoError(t, err)
	for _, want := range []string{"TN-2213", "fail", "Efficiency and regulation", "tern-line-load, revision 3",
		"top = 6 A", "ada", "2026-11-20 08:00:00 UTC", "of bench time, ×10",
		"Load regulation", "0.7480 ± 0.0010 %", "≤ 0.5 %", "no-point: no point was measured there", "SIM-S2,S2-0101",
		"2025-03-16 overdue", "output runs away", "Run 01TEST", "Page 1"} {
		assert.Contains(t, string(text), want)
	}
	assert.NotContains(t, string(text), "not shown")
	assert.Equal(t, 1, strings.Count(string(text), "the dip: somebody opened a door"), "what was written about an excerpt")
}

func TestALongReportStaysWithinThreePages(t *testing.T) {
	doc := document()
	for i := range 500 {
		doc.Marks = append(doc.Marks, record.Mark{T: float64(i), Kind: record.MarkCondition,
			Label: strings.Repeat("a long label ", 20)})
	}
	pdf, err := Run(doc, Look{}, "pdf", nil)
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "report.pdf")
	require.NoError(t, os.WriteFile(path, pdf, 0o600))
	info, err := exec.Command("pdfinfo", path).Output()
	require.NoError(t, err)
	assert.Regexp(t, `Pages:\s+[1-3]\n`, string(info))
	empty, err := Run(api.Run{}, Look{}, "pdf", nil)
	require.NoError(t, err, "a run that left nothing behind still has a report")
	assert.NotEmpty(t, empty)
}

func TestPicturesHaveACurveForEachLine(t *testing.T) {
	doc := document()
	doc.Curves = curvesOf(nil, doc.Points)
	pictures := Pictures(withPoints(doc))
	require.Len(t, pictures, 2)
	assert.Equal(t, "Efficiency by load amps", pictures[0].Title)
	assert.Equal(t, "Efficiency (%)", pictures[0].YLabel)
	require.Len(t, pictures[0].Lines, 2)
	assert.Equal(t, "36 V", pictures[0].Lines[0].Label)
	assert.InDelta(t, 93.75, pictures[0].Lines[0].Y[0], 1e-9)
	assert.True(t, pictures[1].falls())
	data, err := pictures[1].PNG(85, 58)
	require.NoError(t, err)
	picture, err := png.Decode(bytes.NewReader(data))
	require.NoError(t, err)
	assert.Greater(t, picture.Bounds().Dx(), 500)

	values := pictures[1].Lines[0].Y
	doc.Rated = map[string]float64{"load.volts": 15}
	doc.Curves = []procedure.Curve{{Of: "load.volts", Less: "rated", By: "load.amps", Per: "source.volts"},
		{Of: "load.volts", Less: "mean", By: "load.amps", Per: "source.volts"},
		{Of: "source.volts", Less: "load.volts", By: "load.amps", Per: "source.volts"}}
	deviations := Pictures(withPoints(doc))
	require.Len(t, deviations, 3)
	assert.Equal(t, "Load volts less rated 15 V by load amps", deviations[0].Title)
	assert.Equal(t, "Deviation of load volts (V)", deviations[0].YLabel)
	assert.InDelta(t, values[0]-15, deviations[0].Lines[0].Y[0], 1e-9)
	sum := 0.0
	for _, y := range deviations[1].Lines[0].Y {
		sum += y
	}
	assert.InDelta(t, 0, sum, 1e-9)
	assert.InDelta(t, 36-values[0], deviations[2].Lines[0].Y[0], 0.5)

	doc.Curves = []procedure.Curve{{Of: "loss", By: "load.amps"}, {Of: "moon.phase", By: "load.amps"}}
	pictures = Pictures(withPoints(doc))
	require.Len(t, pictures, 1, "what was not measured is not drawn")
	assert.Empty(t, pictures[0].Lines[0].Label)
}

// withPoints draws the curves of a document through its points.
func withPoints(doc api.Run) api.Run {
	doc.Played = archive.Pointed(doc.Curves, doc.Points)
	return doc
}

func TestTicksAreRound(t *testing.T) {
	for _, c := range []struct {
		least, most float64
		want        []string
	}{{14.86, 15.01, []string{"14.90", "14.95", "15.00"}}, {0.1, 8.2, []string{"2", "4", "6", "8"}},
		{-1, 1, []string{"−1.0", "−0.5", "0.0", "0.5", "1.0"}}} {
		var labels []string
		for _, tick := range ticks(c.least, c.most) {
			labels = append(labels, tick.Label)
		}
		assert.Equal(t, c.want, labels)
	}
	assert.Len(t, ticks(3, 3), 1)
}

func TestMissingReadingsAreEmptyInCSVAndNullInJSON(t *testing.T) {
	s, err := store.Open(filepath.Join(t.TempDir(), "usher.db"))
	require.NoError(t, err)
	defer s.Close()
	run := store.Run{ID: "01CSV", State: "done", StartedAt: time.Now(), Columns: []string{"load.volts", "load.charge",
		"source.limited"}}
	require.NoError(t, s.CreateRun(&run))
	r := s.NewRecorder(run.ID, run.Columns)
	r.Frame(trace.Frame{T: 0.1, Values: []float64{15.0012, 3600, 0}})
	r.Frame(trace.Frame{T: 0.2, Values: []float64{math.NaN(), 7200, 1}})
	require.NoError(t, r.Finish(map[string]any{"frames": 2}))
	var out bytes.Buffer
	require.NoError(t, WriteCSV(context.Background(), &out, s, run, Excerpt{Layout: AsRecorded, To: 10}))
	assert.Equal(t, "time (s),load.volts (V),load.charge (Ah),source.limited\n0.1,15.0012,1,0\n0.2,,2,1\n", out.String())
	out.Reset()
	require.NoError(t, WriteCSV(context.Background(), &out, s, run, Excerpt{Layout: AsRecorded, From: 0.15,
		To: 10}))
	assert.Equal(t, 2, strings.Count(out.String(), "\n"))
	out.Reset()
	require.NoError(t, WriteJSON(context.Background(), &out, s, run, 0, 10))
	var doc struct{ Frames [][]*float64 }
	require.NoError(t, json.Unmarshal(out.Bytes(), &doc))
	assert.Nil(t, doc.Frames[1][1])
	assert.Equal(t, 2.0, *doc.Frames[1][2])
}

// Of a ripple the spectrum is drawn on logarithmic axes, and the histogram.
func TestOfARippleSpectrumAndHistogramAreDrawn(t *testing.T) {
	w := &waveform.Waveform{Channel: "output", Unit: "V", Step: 1e-7, Scale: 1e-5, Codes: make([]int16, 4000)}
	for i := range w.Codes {
		w.Codes[i] = int16(1000 * math.Sin(float64(i)/10))
	}
	pictures := makeupPictures("ripple", w)
	require.Len(t, pictures, 2)
	assert.True(t, pictures[0].LogX && pictures[0].LogY)
	for _, p := range pictures {
		_, err := p.PNG(85, 58)
		require.NoError(t, err, p.Title)
	}
	assert.Contains(t, pictures[1].XLabel, "mV")
	w.Codes = w.Codes[:1]
	for _, p := range makeupPictures("ripple", w) {
		_, err := p.PNG(85, 58)
		require.NoError(t, err, "of next to nothing")
	}
}

// Of a start it is drawn when the output begins to rise and when it has risen.
func TestDelayAndRiseOfAStartAreMarked(t *testing.T) {
	w := &waveform.Waveform{Channel: "output", Unit: "V", T0: -5e-3, Step: 1e-5, Scale: 1e-3, Codes: make([]int16, 4500)}
	for i := range w.Codes {
		w.Codes[i] = int16(15000*math.Min(math.Max((w.Time(i)-1e-3)/20e-3, 0), 1) + float64(i%2))
	}
	figures := []procedure.Judged{
		{Result: figure.Result{Request: figure.Request{ID: "rise-time", Stage: "start"}, Value: 16e-3}},
		{Result: figure.Result{Request: figure.Request{ID: "startup-delay", Stage: "start", Channel: "output"}, Value: 3e-3}},
		{Result: figure.Result{Request: figure.Request{ID: "rise-time", Stage: "other"}, Value: 1}},
		{Result: figure.Result{Request: figure.Request{ID: "rise-time", Stage: "start", Channel: "input"}, Value: 2}},
	}
	p := Picture{Lines: []Line{{X: []float64{-5, 40}, Y: []float64{0, 15}}}, Plain: true, Thin: true}
	p.drawStart(w, 1e-3, asked(figures, "start", "output", "rise-time", "startup-delay"))
	require.Len(t, p.Lines, 3)
	assert.Equal(t, "has risen after 16 ms", p.Lines[1].Label)
	assert.InDelta(t, 19, p.Lines[1].X[0], 0.1, "ms at nine tenths")
	assert.Equal(t, "begins after 3 ms", p.Lines[2].Label)
	assert.InDelta(t, 3, p.Lines[2].X[0], 0.1)
	png, err := p.PNG(85, 58)
	require.NoError(t, err)
	require.NotEmpty(t, png)
}
