package store

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/figure"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/trace"
)

func open(t testing.TB) *Store {
	s, err := Open(filepath.Join(t.TempDir(), "usher.db"))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

var columns = []string{"source.volts", "source.amps", "source.watts", "source.charge"}

// frames makes realistic readings: decimals of the instrument's resolution, their product, and a counter.
func frames(n int) []trace.Frame {
	rng := rand.New(rand.NewPCG(1, 2))
	fs := make([]trace.Frame, n)
	q := 0.0
	for k := range fs {
		volts := math.Round((48+0.002*rng.NormFloat64())*1e3) / 1e3
		amps := math.Round((2.5+math.Sin(float64(k)/300)+0.0002*rng.NormFloat64())*1e4) / 1e4
		q += amps * 0.1
		fs[k] = trace.Frame{T: math.Round(float64(k)*0.1*1e6) / 1e6, Values: []float64{volts, amps, volts * amps,
			math.Round(q*1e6) / 1e6}}
	}
	return fs
}

func recordRun(t testing.TB, s *Store, id string, fs []trace.Frame, flushEvery int) Run {
	run := Run{ID: id, Bay: "bay1", State: Live, StartedAt: time.Now(), Columns: columns}
	require.NoError(t, s.CreateRun(&run))
	r := s.NewRecorder(id, columns)
	for k, f := range fs {
		r.Frame(f)
		if flushEvery > 0 && k%flushEvery == flushEvery-1 {
			require.NoError(t, s.flush())
		}
	}
	require.NoError(t, r.Finish(map[string]any{"state": "done"}))
	return run
}

func TestBlocksAreLossless(t *testing.T) {
	number := rapid.OneOf(
		rapid.Custom(func(t *rapid.T) float64 { return float64(rapid.IntRange(-1e6, 1e6).Draw(t, "n")) / 1e4 }),
		rapid.Float64(), rapid.Just(math.NaN()), rapid.Just(0.0), rapid.Just(math.Copysign(0, -1)), rapid.Just(math.Inf(1)))
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(0, 200).Draw(t, "length")
		cols := make([][]float64, 3)
		for i := range cols {
			cols[i] = rapid.SliceOfN(number, n, n).Draw(t, "column")
		}
		if rapid.Bool().Draw(t, "third is a product") {
			for k := range cols[2] {
				cols[2][k] = cols[0][k] * cols[1][k]
			}
		}
		b, err := openBlock(encodeBlock(cols, map[int][2]int{2: {0, 1}}))
		require.NoError(t, err)
		for i := range cols {
			got, err := b.column(i)
			require.NoError(t, err)
			require.Len(t, got, n)
			for k := range got {
				if math.IsNaN(cols[i][k]) {
					require.True(t, math.IsNaN(got[k]))
					continue
				}
				require.Equal(t, math.Float64bits(cols[i][k]), math.Float64bits(got[k]))
			}
		}
	})
}

func FuzzDamagedBlock(f *testing.F) {
	f.Add(encodeBlock([][]float64{{1, 2, 3}, {0.1, math.NaN(), 0.3}}, nil))
	f.Add(encodeBlock([][]float64{{1, 2}, {3, 4}, {3, 8}}, map[int][2]int{2: {0, 1}}))
	f.Fuzz(func(_ *testing.T, data []byte) {
		b, err := openBlock(data)
		if err != nil {
			return
		}
		for i := range b.columns {
			_, _ = b.column(i) // an error is fine, a panic is not
		}
	})
}

func TestARunIsReadBackAsItWasRecorded(t *testing.T) {
	s := open(t)
	fs := frames(10_000)
	fs[5000].Values[1] = math.NaN()
	run := recordRun(t, s, "01A", fs, 777)
	series, err := s.Trace(context.Background(), run, "source.amps", 0, 1e9)
	require.NoError(t, err)
	require.Len(t, series.T, len(fs))
	for k, f := range fs {
		require.Equal(t, f.T, series.T[k])
		if !math.IsNaN(f.Values[1]) {
			require.Equal(t, f.Values[1], series.X[k])
		}
	}
	assert.True(t, math.IsNaN(series.X[5000]))
	part, err := s.Trace(context.Background(), run, "source.volts", 100, 200)
	require.NoError(t, err)
	assert.Equal(t, 100.0, part.T[0])
	assert.Equal(t, 200.0, part.T[len(part.T)-1])
	var chunks int64
	require.NoError(t, s.db.Model(&chunk{}).Count(&chunks).Error)
	assert.EqualValues(t, 3, chunks, "small chunks were merged")
}

// Any window shows every extreme inside it, whatever mixture of levels it was read from.
func TestWindowsKeepExtremes(t *testing.T) {
	s := open(t)
	fs := frames(60_000)
	rng := rand.New(rand.NewPCG(3, 4))
	for range 50 {
		fs[rng.IntN(len(fs))].Values[1] += 5
	}
	run := recordRun(t, s, "01B", fs, 5000)
	rapid.Check(t, func(t *rapid.T) {
		a := rapid.Float64Range(0, 5900).Draw(t, "a")
		b := a + rapid.Float64Range(0.5, 6000).Draw(t, "width")
		n := rapid.SampledFrom([]int{10, 200, 1600}).Draw(t, "buckets")
		w, err := s.Window(context.Background(), run, []string{"source.amps"}, a, b, n)
		require.NoError(t, err)
		require.LessOrEqual(t, len(w.Buckets[0]), 2*n+2)
		want, got := math.Inf(-1), math.Inf(-1)
		for _, f := range fs {
			if f.T >= a && f.T <= b {
				want = max(want, f.Values[1])
			}
		}
		for _, bucket := range w.Buckets[0] {
			got = max(got, bucket.Max)
		}
		require.GreaterOrEqual(t, got, want)
	})
	w, err := s.Window(context.Background(), run, nil, 100, 101, 100)
	require.NoError(t, err)
	assert.True(t, w.Exact)
	assert.Len(t, w.Buckets, 4)
	assert.Len(t, w.Buckets[0], 13, "single frames, with one more on each side")
	_, err = s.Window(context.Background(), run, []string{"x.volts"}, 0, 1, 10)
	assert.ErrorIs(t, err, ErrNoColumn)
	w, err = s.Window(context.Background(), run, nil, 1e6, 2e6, 10)
	require.NoError(t, err)
	assert.Empty(t, w.Buckets[0])
}

func TestWhatWasFlushedSurvivesAKill(t *testing.T) {
	path := filepath.Join(t.TempDir(), "usher.db")
	s, err := Open(path)
	require.NoError(t, err)
	run := Run{ID: "01C", State: Live, Columns: columns, StartedAt: time.Now()}
	require.NoError(t, s.CreateRun(&run))
	r := s.NewRecorder(run.ID, columns)
	for _, f := range frames(5000) {
		r.Frame(f)
	}
	r.Mark(record.Mark{T: 1, Kind: record.MarkStage, Label: "power up"})
	require.NoError(t, r.Point(record.Point{Index: 0, Stage: "map"}))
	require.NoError(t, s.flush())
	// A second process opens the file while the first still holds it, as after a kill: the log is taken over.
	again, err := Open(path)
	require.NoError(t, err)
	defer again.Close()
	abandoned, err := again.AbandonedRuns()
	require.NoError(t, err)
	require.Len(t, abandoned, 1)
	end, recorded, err := again.Recorded("01C")
	require.NoError(t, err)
	assert.InDelta(t, 499.9, end, 1e-9)
	assert.EqualValues(t, 5000, recorded)
	marks, err := again.Marks("01C")
	require.NoError(t, err)
	assert.Equal(t, "power up", marks[0].Label)
	points, err := again.Points("01C")
	require.NoError(t, err)
	assert.Len(t, points, 1)
	var ok string
	require.NoError(t, again.db.Raw("PRAGMA integrity_check").Scan(&ok).Error)
	assert.Equal(t, "ok", ok)
	require.NoError(t, s.Close())
}

func TestAFailedTransactionIsReportedAndRepeated(t *testing.T) {
	s := open(t)
	run := Run{ID: "01D", State: Live, Columns: columns, StartedAt: time.Now()}
	require.NoError(t, s.CreateRun(&run))
	r := s.NewRecorder(run.ID, columns)
	fs := frames(100)
	for _, f := range fs {
		r.Frame(f)
	}
	require.NoError(t, s.db.Exec("ALTER TABLE chunks RENAME TO away").Error)
	require.Error(t, s.flush())
	assert.Error(t, r.Err())
	require.NoError(t, s.db.Exec("ALTER TABLE away RENAME TO chunks").Error)
	require.NoError(t, s.flush())
	assert.NoError(t, r.Err())
	series, err := s.Trace(context.Background(), run, "source.volts", 0, 1e9)
	require.NoError(t, err)
	assert.Len(t, series.T, 100)
}

func TestRunsAreFoundByPrefixAndFilter(t *testing.T) {
	s := open(t)
	for i, serial := range []string{"TN-1", "TN-2", "TN-1"} {
		require.NoError(t, s.CreateRun(&Run{ID: fmt.Sprintf("01%dXYZ", i), Bay: "bay1", Serial: serial, State: "done",
			Outcome: "pass", StartedAt: time.Unix(int64(i), 0)}))
	}
	r, err := s.Run("last")
	require.NoError(t, err)
	assert.Equal(t, "012XYZ", r.ID)
	r, err = s.Run("011")
	require.NoError(t, err)
	assert.Equal(t, "TN-2", r.Serial)
	_, err = s.Run("01")
	assert.ErrorContains(t, err, "several runs begin so")
	_, err = s.Run("02")
	assert.ErrorIs(t, err, ErrNotFound)
	runs, err := s.Runs(RunFilter{Serial: "TN-1", Before: "012XYZ"})
	require.NoError(t, err)
	require.Len(t, runs, 1)
	assert.Equal(t, "010XYZ", runs[0].ID)
}

func TestRevisionsAreNumberedAndEqualTextsAreOne(t *testing.T) {
	s := open(t)
	first, fresh, err := s.PushRevision(Revision{Name: "soak", Text: "a"})
	require.NoError(t, err)
	assert.True(t, fresh)
	assert.Equal(t, 1, first.Number)
	_, fresh, err = s.PushRevision(Revision{Name: "soak", Text: "a"})
	require.NoError(t, err)
	assert.False(t, fresh)
	second, _, err := s.PushRevision(Revision{Name: "soak", Text: "b"})
	require.NoError(t, err)
	assert.Equal(t, 2, second.Number)
	newest, err := s.Revision("soak", 0)
	require.NoError(t, err)
	assert.Equal(t, "b", newest.Text)
	list, err := s.Procedures()
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, 2, list[0].Number)
	_, err = s.Revision("none", 0)
	assert.ErrorIs(t, err, ErrNotFound)
}

func TestAccountsTokensAndFigures(t *testing.T) {
	s := open(t)
	a, err := s.CreateAccount(Account{Name: "Ada", Role: "admin"})
	require.NoError(t, err)
	_, err = s.CreateAccount(Account{Name: "Ada", Role: "viewer"})
	assert.ErrorIs(t, err, ErrConflict)
	require.NoError(t, s.PutToken(Token{Hash: "h", AccountID: a.ID, ExpiresAt: time.Now().Add(time.Hour)}))
	require.NoError(t, s.PutToken(Token{Hash: "old", AccountID: a.ID, ExpiresAt: time.Now().Add(-time.Hour)}))
	tokens, err := s.Tokens()
	require.NoError(t, err)
	require.Len(t, tokens, 2)
	assert.Equal(t, "Ada", tokens[0].Account.Name)

	require.NoError(t, s.CreateRun(&Run{ID: "01E", State: "done"}))
	limit := 93.0
	figures := []procedure.Judged{{Result: figure.Result{Request: figure.Request{ID: "efficiency"}, Value: 94, Unit: "%"},
		Min: &limit, Outcome: outcome.Pass}}
	require.NoError(t, s.SaveFigures("01E", figures, map[string]any{"outcome": "pass"}))
	require.NoError(t, s.SaveFigures("01E", figures, map[string]any{"outcome": "pass"}), "figures can be computed again")
	back, err := s.Figures("01E")
	require.NoError(t, err)
	assert.Equal(t, figures, back)
	r, err := s.Run("01E")
	require.NoError(t, err)
	assert.Equal(t, "pass", r.Outcome)
}

// A figure that cannot be written costs neither its neighbours nor the outcome of the run: it is undetermined.
func TestAFigureThatCannotBeWrittenCostsNoOther(t *testing.T) {
	s := open(t)
	require.NoError(t, s.CreateRun(&Run{ID: "01F", State: "done"}))
	sound := procedure.Judged{Result: figure.Result{Request: figure.Request{ID: "efficiency"}, Value: 94, Unit: "%"}}
	broken := procedure.Judged{Result: figure.Result{Request: figure.Request{ID: "loss"}, Value: math.NaN(), Unit: "W"}}
	limit := math.Inf(1)
	never := procedure.Judged{Result: sound.Result, Max: &limit}
	require.NoError(t, s.SaveFigures("01F", []procedure.Judged{sound, broken, sound}, map[string]any{"outcome": "none"}))
	back, err := s.Figures("01F")
	require.NoError(t, err)
	require.Len(t, back, 3)
	assert.Equal(t, sound, back[0])
	assert.Equal(t, sound, back[2])
	require.NotNil(t, back[1].Undetermined)
	assert.Equal(t, "loss", back[1].ID)
	assert.Equal(t, record.NoData, back[1].Undetermined.Code)
	assert.Contains(t, back[1].Undetermined.Sentence, "NaN")
	r, err := s.Run("01F")
	require.NoError(t, err)
	assert.Equal(t, "none", r.Outcome)

	require.Error(t, s.SaveFigures("01F", []procedure.Judged{never}, map[string]any{"outcome": "pass"}))
	again, err := s.Figures("01F")
	require.NoError(t, err)
	assert.Equal(t, back, again, "what was there stays where nothing can be saved")
	r, err = s.Run("01F")
	require.NoError(t, err)
	assert.Equal(t, "none", r.Outcome)
}

func TestAPlaceInLineBecomesARunOnceAndIsKeptUntilThen(t *testing.T) {
	file := filepath.Join(t.TempDir(), "usher.db")
	s, err := Open(file)
	require.NoError(t, err)
	line, err := s.Enqueue([]Waiting{{Bay: "bay1", Serial: "GC-1", Procedure: "p"},
		{Bay: "bay1", Serial: "GC-2", Procedure: "p"}})
	require.NoError(t, err)
	first := line[0].ID
	require.NoError(t, s.Hold(first, "look at the label", []string{"cells"}))
	require.NoError(t, s.Release(first))
	require.NoError(t, s.Close())

	s, err = Open(file) // what somebody vouched for is known after a restart
	require.NoError(t, err)
	defer s.Close()
	w, err := s.Waiting(first)
	require.NoError(t, err)
	assert.True(t, w.Released)
	assert.Equal(t, []string{"cells"}, w.Vouched)
	assert.Empty(t, w.Held, "it is held no longer")
	require.NoError(t, s.Hold(first, "put it in place", nil))
	w, err = s.Waiting(first)
	require.NoError(t, err)
	assert.False(t, w.Released, "held again, it waits for somebody again")
	assert.ErrorIs(t, s.Release(99), ErrNotFound)

	// What cannot be put on record keeps its place, what can loses it.
	require.NoError(t, s.CreateRun(&Run{ID: "01Q", State: Live}))
	require.Error(t, s.Begin(&Run{ID: "01Q", State: Live}, first))
	require.NoError(t, s.Begin(&Run{ID: "01R", State: Live}, first))
	all, err := s.Queue("bay1")
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "GC-2", all[0].Serial)
	require.NoError(t, s.PutBack(w))
	all, err = s.Queue("bay1")
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, "GC-1", all[0].Serial, "in its old place")
}

// Many runs that are suspended at once each make everything durable.
func TestManyFlushAtOnce(t *testing.T) {
	s := open(t)
	var recorders []*Recorder
	for i := range 24 {
		id := fmt.Sprintf("01F%02d", i)
		require.NoError(t, s.CreateRun(&Run{ID: id, State: Live, Columns: columns}))
		recorders = append(recorders, s.NewRecorder(id, columns))
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		var wg sync.WaitGroup
		for _, r := range recorders {
			wg.Add(1)
			go func() {
				defer wg.Done()
				for _, f := range frames(20) {
					r.Frame(f)
					r.State([]byte("here"))
					assert.NoError(t, s.Flush())
				}
				assert.NoError(t, r.Finish(map[string]any{"state": "done"}))
			}()
		}
		wg.Wait()
	}()
	select {
	case <-done:
	case <-time.After(time.Minute):
		t.Fatal("they wait for each other")
	}
	for i := range recorders {
		run, err := s.Run(fmt.Sprintf("01F%02d", i))
		require.NoError(t, err)
		series, err := s.Trace(context.Background(), run, columns[0], 0, 1e9)
		require.NoError(t, err)
		assert.Len(t, series.T, 20)
	}
}

// The latch of the house has no bay: it is kept again like any other.
func TestALatchTakesThePlaceOfAnEarlierOne(t *testing.T) {
	s := open(t)
	for _, bay := range []string{"", "bay1"} {
		for _, why := range []string{"the first stop", "the second stop"} {
			require.NoError(t, s.SaveLatch(Latch{Bay: bay, Why: why}), bay)
		}
	}
	latches, err := s.Latches()
	require.NoError(t, err)
	require.Len(t, latches, 2)
	for _, l := range latches {
		assert.Equal(t, "the second stop", l.Why)
	}
	require.NoError(t, s.DropLatch(""))
	latches, err = s.Latches()
	require.NoError(t, err)
	assert.Len(t, latches, 1)
}
