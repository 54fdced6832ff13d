package archive_test

import (
	"fmt"
	"math"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/procedure"
	"usherbench/store"
)

// empty is a store without records.
func empty(t *testing.T) *store.Store {
	s, err := store.Open(filepath.Join(t.TempDir(), "usher.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

// cellLog is the log of a cell that gives amps for so many seconds, of which it knows the truth: volts fall by a
// straight line from 4.1 V to 3.0 V, minutes before and after are without current. sign is that of the discharge.
func cellLog(seconds, amps, sign float64) string {
	var b strings.Builder
	b.WriteString("Time (s),Voltage (V),Current (A)\n")
	row := func(t, volts, amps float64) { fmt.Fprintf(&b, "%g,%.6f,%g\n", t, volts, amps) }
	const step, rest = 10.0, 120.0
	for t := 0.0; t < rest; t += step {
		row(t, 4.1, 0)
	}
	for t := 0.0; t <= seconds; t += step {
		row(rest+t, 4.1-1.1*t/seconds, sign*amps)
	}
	for t := step; t <= rest; t += step {
		row(rest+seconds+t, 3.3, 0)
	}
	return b.String()
}

var cellMapping = api.Mapping{Source: "shelf logger", Time: api.MappedColumn{Column: "Time (s)", Unit: "s"},
	Volts: api.MappedColumn{Column: "Voltage (V)", Unit: "V"}, Amps: api.MappedColumn{Column: "Current (A)", Unit: "A"}}

const cellPlate = `nameplate: shelf-cell
kind: battery
chemistry: NMC
cells: {series: 1, parallel: 1}
ratings: {rated_capacity: 2 Ah, cutoff: 3.05 V, least_capacity: 1.5 Ah}
`

// bring imports the log of a cell.
func bring(t *testing.T, s *store.Store, serial string, seconds, amps float64) store.Run {
	t.Helper()
	run, err := archive.Import(s, s, "olga", api.ImportLog{Name: serial + ".csv", Text: cellLog(seconds, amps, -1),
		Mapping: cellMapping, Serial: serial, Lot: "shelf", Nameplate: "shelf-cell"})
	require.NoError(t, err)
	run, err = s.Run(run.ID)
	require.NoError(t, err)
	return run
}

func shelf(t *testing.T) *store.Store {
	s := empty(t)
	require.NoError(t, s.PutNameplate(store.Nameplate{Name: "shelf-cell", Text: cellPlate}))
	return s
}

func figuresOf(t *testing.T, s *store.Store, run store.Run) map[string]procedure.Judged {
	t.Helper()
	program, rec, err := archive.Record(s, run)
	require.NoError(t, err)
	all := map[string]procedure.Judged{}
	for _, f := range program.Judge(rec) {
		all[f.ID] = f
	}
	return all
}

// The log's truth is I·t: what it gave until its line crossed the cutoff.
func TestALogBecomesARunWithTheFiguresOfItsTruth(t *testing.T) {
	s := shelf(t)
	run := bring(t, s, "SC-1", 3600, 2)
	assert.Equal(t, "done", run.State)
	assert.Equal(t, archive.ImportedBay, run.Bay)
	assert.Equal(t, "shelf logger SC-1.csv", run.Source)
	assert.InDelta(t, 120+3600+120, run.Duration, 1e-9)
	f := figuresOf(t, s, run)
	atCutoff := 3600 * (4.1 - 3.05) / 1.1
	require.Nil(t, f["capacity"].Undetermined)
	assert.InDelta(t, 2*atCutoff/3600, f["capacity"].Value, 0.003)
	assert.InDelta(t, 2*atCutoff/3600*(4.1+3.05)/2, f["discharge-energy"].Value, 0.02)
	assert.InDelta(t, (4.1+3.05)/2, f["mean-discharge-voltage"].Value, 2e-3)
}

// A logger that counts a discharge as positive gives the same run as one that counts it as negative.
func TestTheSignOfALogIsOnlyAWayOfWriting(t *testing.T) {
	s := shelf(t)
	rapid.Check(t, func(r *rapid.T) {
		seconds := float64(10 * rapid.IntRange(60, 400).Draw(r, "steps"))
		amps := float64(rapid.IntRange(1, 40).Draw(r, "deciamps")) / 10
		var capacities []float64
		for _, way := range []struct {
			is   string
			sign float64
		}{{"negative", -1}, {"positive", 1}} {
			mapping := cellMapping
			mapping.Source, mapping.DischargeIs = "", way.is
			run, err := archive.Import(s, s, "olga", api.ImportLog{Name: "a.csv", Text: cellLog(seconds, amps, way.sign),
				Mapping: mapping, Serial: "SC-9", Nameplate: "shelf-cell"})
			require.NoError(r, err)
			run, err = s.Run(run.ID)
			require.NoError(r, err)
			capacities = append(capacities, figuresOf(t, s, run)["capacity"].Value)
		}
		require.Equal(r, capacities[0], capacities[1])
		require.Positive(r, capacities[0])
	})
}

func TestTheMappingOfASourceIsRemembered(t *testing.T) {
	s := shelf(t)
	first, err := archive.LookAt(s, api.Mapping{Source: "shelf logger"}, cellLog(600, 1, -1))
	require.NoError(t, err)
	assert.False(t, first.Remembered)
	assert.Equal(t, "Voltage (V)", first.Mapping.Volts.Column, "a guess by the header")
	bring(t, s, "SC-1", 600, 1)
	again, err := archive.LookAt(s, api.Mapping{Source: "shelf logger"}, cellLog(600, 1, -1))
	require.NoError(t, err)
	assert.True(t, again.Remembered)
	assert.Equal(t, cellMapping.Amps, again.Mapping.Amps)
	other, err := archive.LookAt(s, api.Mapping{Source: "another"}, cellLog(600, 1, -1))
	require.NoError(t, err)
	assert.False(t, other.Remembered)
}

// A log that cannot be read leaves nothing behind.
func TestAMistakeInALogIsNamedAndLeavesNothing(t *testing.T) {
	s := shelf(t)
	good := api.ImportLog{Name: "a.csv", Text: cellLog(600, 1, -1), Mapping: cellMapping, Serial: "SC-1"}
	for _, c := range []struct {
		name   string
		change func(*api.ImportLog)
		words  string
	}{
		{"a word for a number", func(l *api.ImportLog) { l.Text = strings.Replace(l.Text, "20,4.1", "20,x", 1) }, "line 4"},
		{"time that goes back", func(l *api.ImportLog) { l.Text = strings.Replace(l.Text, "\n30,", "\n3,", 1) }, "line 5"},
		{"a column that is not there", func(l *api.ImportLog) { l.Mapping.Volts.Column = "U" }, `"U"`},
		{"a sign that is no sign", func(l *api.ImportLog) { l.Mapping.DischargeIs = "up" }, `dischargeIs is "up"`},
		{"lines that are not there to skip", func(l *api.ImportLog) { l.Mapping.Skip = -1 }, "skip counts lines"},
		{"nothing", func(l *api.ImportLog) { l.Text = "" }, "there is no header"},
		{"the future", func(l *api.ImportLog) { l.BeganAt = new(time.Time); *l.BeganAt = time.Now().Add(72 * time.Hour) },
			"which is still to come"},
	} {
		log := good
		c.change(&log)
		_, err := archive.Import(s, s, "olga", log)
		assert.ErrorIs(t, err, api.ErrBadRequest, c.name)
		assert.ErrorContains(t, err, c.words, c.name)
	}
	unknown := good
	unknown.Nameplate = "heron"
	_, err := archive.Import(s, s, "olga", unknown)
	assert.ErrorIs(t, err, store.ErrNotFound)
	runs, err := s.Runs(store.RunFilter{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, runs)
}

// Cells are grouped by capacity such that no exchange of two cells makes both groups closer.
func TestCellsOfALotAreMatchedByTheirLastRun(t *testing.T) {
	s := shelf(t)
	seconds := map[string]float64{"SC-1": 3600, "SC-2": 3000, "SC-3": 3590, "SC-4": 3010}
	for serial, long := range seconds {
		bring(t, s, serial, long, 2)
	}
	bring(t, s, "SC-2", 3020, 2)
	none := 0.0
	m, err := archive.Match(s, api.MatchRequest{Lot: "shelf", Size: 2, Resistance: &none, Curve: &none})
	require.NoError(t, err)
	require.Len(t, m.Groups, 2)
	together := map[string]bool{}
	for _, g := range m.Groups {
		together[min(g.Cells[0].Serial, g.Cells[1].Serial)+max(g.Cells[0].Serial, g.Cells[1].Serial)] = true
		for _, c := range g.Cells {
			long := seconds[c.Serial]
			if c.Serial == "SC-2" {
				long = 3020 // the later run counts
			}
			assert.InDelta(t, 2*long*(4.1-3.05)/1.1/3600, c.Capacity, 0.003, c.Serial)
		}
	}
	assert.Equal(t, map[string]bool{"SC-1SC-3": true, "SC-2SC-4": true}, together)

	bring(t, s, "SC-5", 1800, 2)
	m, err = archive.Match(s, api.MatchRequest{Lot: "shelf", Size: 2, Resistance: &none, Curve: &none})
	require.NoError(t, err)
	require.Len(t, m.Rejects, 1)
	assert.Equal(t, "SC-5", m.Rejects[0].Serial)
	assert.Contains(t, m.Rejects[0].Why, "is below the 1.5 Ah of nameplate shelf-cell")
}

func TestMatchingSaysWhatItMisses(t *testing.T) {
	s := shelf(t)
	bring(t, s, "SC-1", 3600, 2)
	bring(t, s, "SC-2", 3600, 2)
	_, err := archive.Match(s, api.MatchRequest{Lot: "shelf", Size: 2})
	assert.ErrorIs(t, err, api.ErrBadRequest)
	assert.ErrorContains(t, err, "its resistance is not known")
	_, err = archive.Match(s, api.MatchRequest{Lot: "attic", Size: 2})
	assert.ErrorIs(t, err, store.ErrNotFound)
	for _, bad := range []api.MatchRequest{{Size: 2}, {Lot: "shelf", Size: 1}} {
		_, err = archive.Match(s, bad)
		assert.ErrorContains(t, err, "a size of 2 cells at least")
	}
	less := -1.0
	_, err = archive.Match(s, api.MatchRequest{Lot: "shelf", Size: 2, Capacity: &less})
	assert.ErrorContains(t, err, "a weight is not negative")
}

// Over charge the curve of the cells is the straight line that they were made with.
func TestCurvesOfALotLieOverEachOther(t *testing.T) {
	s := shelf(t)
	long := map[string]float64{}
	for k, serial := range []string{"SC-1", "SC-2", "SC-3"} {
		long[serial] = 3000 + 300*float64(k)
		bring(t, s, serial, long[serial], 2)
	}
	o, err := archive.Overlay(t.Context(), s, api.OverlayRequest{Lot: "shelf", Over: api.OverCharge})
	require.NoError(t, err)
	require.Empty(t, o.Left)
	require.Len(t, o.Curves, 3)
	for _, c := range o.Curves {
		require.NotEmpty(t, c.X)
		for k, ah := range c.X[:len(c.X)-1] { // the last place lies between frames with current and without
			want := 4.1 - 1.1*ah*3600/2/long[c.Serial]
			assert.InDelta(t, want, c.Y[k], 0.02, "%s at %g Ah", c.Serial, ah)
		}
	}
	require.NotNil(t, o.Band)
	for k := range o.Band.X {
		assert.LessOrEqual(t, o.Band.Min[k], o.Band.Max[k]+1e-12)
	}
}

func TestAnOverlaySaysWhatCannotBeDrawn(t *testing.T) {
	s := shelf(t)
	run := bring(t, s, "SC-1", 3600, 2)
	for _, c := range []struct {
		request api.OverlayRequest
		words   string
	}{
		{api.OverlayRequest{}, "name runs, a lot or a serial number"},
		{api.OverlayRequest{Lot: "shelf", Over: "colour"}, `over is "colour"; choose`},
		{api.OverlayRequest{Lot: "shelf", Half: "run", Over: api.OverCharge}, "a whole run or an excerpt is drawn over time"},
		{api.OverlayRequest{Lot: "attic"}, "no run that has ended was found"},
	} {
		_, err := archive.Overlay(t.Context(), s, c.request)
		assert.ErrorIs(t, err, api.ErrBadRequest, c.words)
		assert.ErrorContains(t, err, c.words)
	}
	_, err := archive.Overlay(t.Context(), s, api.OverlayRequest{Runs: []string{"nowhere"}})
	assert.ErrorIs(t, err, store.ErrNotFound)
	o, err := archive.Overlay(t.Context(), s, api.OverlayRequest{Runs: []string{run.ID}, Half: "charge"})
	require.NoError(t, err)
	require.Len(t, o.Left, 1, "it was never charged")
	assert.NotEmpty(t, o.Left[0].Why)
}

// Two groups are compared by their scatter.
func TestTwoGroupsAreComparedByTheirScatter(t *testing.T) {
	s := shelf(t)
	groups := map[string]string{}
	for k, long := range []float64{3600, 3620, 3610, 3000, 3020, 3010} {
		run := bring(t, s, fmt.Sprintf("SC-%d", k), long, 2)
		name := "before"
		if k >= 3 {
			name = "after"
		}
		groups[run.ID] = name
	}
	o, err := archive.Overlay(t.Context(), s, api.OverlayRequest{Lot: "shelf", Groups: groups})
	require.NoError(t, err)
	var found *api.OverlayComparison
	for i := range o.Comparisons {
		if o.Comparisons[i].Figure == "capacity" {
			found = &o.Comparisons[i]
		}
	}
	require.NotNil(t, found, "%+v", o.Comparisons)
	assert.True(t, found.Differs)
	assert.InDelta(t, -600.0/3610*100, found.Percent, 0.1)
	assert.False(t, math.IsNaN(found.U))
	assert.Contains(t, found.Words, "a true difference")
}

// A run that began long ago says so, if the log or the one who brings it in does.
func TestTheBeginningOfALogIsKept(t *testing.T) {
	s := shelf(t)
	began := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	run, err := archive.Import(s, s, "olga", api.ImportLog{Name: "a.csv", Text: cellLog(600, 1, -1), Mapping: cellMapping,
		Serial: "SC-1", BeganAt: &began})
	require.NoError(t, err)
	run, err = s.Run(run.ID)
	require.NoError(t, err)
	assert.True(t, began.Equal(run.StartedAt))
	assert.InDelta(t, run.Duration, run.EndedAt.Sub(run.StartedAt).Seconds(), 1e-6)
}

// Judging anew keeps what was judged before; only what is adopted becomes the run's.
func TestAJudgementStandsBesideTheEarlierOne(t *testing.T) {
	s := shelf(t)
	run := bring(t, s, "SC-1", 3600, 2)
	before, err := s.Figures(run.ID)
	require.NoError(t, err)
	require.NotEmpty(t, before, "a log has its figures when it is in")
	library := func(string) (string, error) { return "", procedure.ErrNoLibrary }
	strict := strings.Replace(run.ProcedureText, "{figure: capacity}", "{figure: capacity, limit: {min: 5 Ah}}", 1)
	require.NotEqual(t, run.ProcedureText, strict)

	judged, err := judgedAgain(s, library, run, api.JudgeAgain{Text: strict, Why: "a new limit"})
	require.NoError(t, err)
	assert.Equal(t, "fail", judged.Outcome)
	require.Len(t, judged.Changes, 1)
	assert.Contains(t, judged.Changes[0], "capacity: no limit → fail")
	after, err := s.Figures(run.ID)
	require.NoError(t, err)
	assert.Equal(t, before, after, "it was not adopted")

	_, err = judgedAgain(s, library, run, api.JudgeAgain{Text: strict, Why: "it counts", Adopt: true})
	require.NoError(t, err)
	stored, err := s.Run(run.ID)
	require.NoError(t, err)
	assert.Equal(t, "fail", stored.Outcome)
	kept, err := s.Judgements(run.ID)
	require.NoError(t, err)
	require.Len(t, kept, 3, "the first is that of the end of the run")
	shown, err := archive.JudgementOf(kept[1], run.Serial)
	require.NoError(t, err)
	assert.Equal(t, "a new limit", shown.Why)

	again, err := judgedAgain(s, library, run, api.JudgeAgain{Why: "as it was"})
	require.NoError(t, err)
	assert.Contains(t, again.Changes[0], "capacity: fail → no limit")
	run.State = store.Live
	_, err = judgedAgain(s, library, run, api.JudgeAgain{})
	assert.ErrorIs(t, err, archive.ErrLive)
}

// judgedAgain judges a run again and keeps that, as the service does.
func judgedAgain(s *store.Store, l procedure.Library, run store.Run, j api.JudgeAgain) (api.Judgement, error) {
	judgement, err := archive.JudgeAgain(s, l, run, "olga", j)
	if err != nil {
		return api.Judgement{}, err
	}
	return archive.KeepJudgement(s, run, judgement, j.Adopt)
}
