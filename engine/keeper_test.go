package engine

import (
	"context"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/core/procedure"
	"usherbench/core/trace"
	"usherbench/instrument/dialect"
	"usherbench/store"
)

func openStore(t *testing.T) *store.Store {
	s, err := store.Open(filepath.Join(t.TempDir(), "usher.db"))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

// kept plays frames 20 ms apart through a keeper and gives the times of those that were recorded.
func kept(t *testing.T, frames int, rule procedure.Record, act func(k *keeper, r *store.Recorder,
	frame int) (eventful bool), levels ...float64) []float64 {
	return keptWithPast(t, 0, frames, rule, act, levels...)
}

// keptWithPast is kept with frames that wait for so long whether an event wants them.
func keptWithPast(t *testing.T, past float64, frames int, rule procedure.Record, act func(k *keeper, r *store.Recorder,
	frame int) (eventful bool), levels ...float64) []float64 {
	s := openStore(t)
	run := store.Run{ID: "01K", State: store.Live, StartedAt: time.Now(), Columns: []string{"load.volts"}}
	require.NoError(t, s.CreateRun(&run))
	r := s.NewRecorder(run.ID, run.Columns)
	k := newKeeper(trace.Columns{"load.volts"}, levels, past)
	for i := range frames {
		eventful := act != nil && act(&k, r, i)
		k.frame(r, trace.Frame{T: float64(i) * 0.02, Values: []float64{float64(i)}}, eventful, rule)
	}
	k.drain(r)
	require.NoError(t, r.Finish(map[string]any{"state": "done"}))
	series, err := s.Trace(context.Background(), run, "load.volts", 0, 1e9)
	require.NoError(t, err)
	return series.T
}

var often = procedure.Record{Every: 0.1}

func TestOnlyChangesAreKept(t *testing.T) {
	// The value grows by 1 a frame, so every third frame is 3 away from the last that was kept.
	times := kept(t, 31, procedure.Record{Changes: map[string]float64{"load.volts": 3}, AtLeast: 10}, nil)
	assert.InDeltaSlice(t, []float64{0, 0.06, 0.12, 0.18, 0.24, 0.3, 0.36, 0.42, 0.48, 0.54, 0.6}, times, 1e-9)
	times = kept(t, 31, procedure.Record{Changes: map[string]float64{"load.volts": 300}, AtLeast: 0.2}, nil)
	assert.InDeltaSlice(t, []float64{0, 0.2, 0.4, 0.6}, times, 1e-9)
}

func TestFramesAreThinnedToTheRecordsInterval(t *testing.T) {
	times := kept(t, 51, often, nil)
	require.Len(t, times, 11)
	for i, at := range times {
		assert.InDelta(t, float64(i)*0.1, at, 1e-9)
	}
}

func TestFramesOnBothSidesOfACommandAreKept(t *testing.T) {
	times := kept(t, 21, often, func(k *keeper, r *store.Recorder, frame int) bool {
		if frame == 13 { // between the frames at 0.24 s and 0.26 s
			k.command(r)
		}
		return false
	})
	assert.Contains(t, times, 12*0.02)
	assert.Contains(t, times, 13*0.02)
	assert.Len(t, times, 7)
}

// The frames on both sides of an event are kept, and those on both sides of a level at which a figure is taken.
func TestFramesAroundAnEventAndACrossingAreKept(t *testing.T) {
	times := kept(t, 21, often, func(_ *keeper, _ *store.Recorder, frame int) bool { return frame == 7 },
		16.5)
	for _, frame := range []float64{6, 7, 8, 16, 17, 18} {
		assert.Contains(t, times, frame*0.02)
	}
	assert.Len(t, times, 5+6)
}

func TestTheLastFrameIsKept(t *testing.T) {
	times := kept(t, 24, often, nil)
	assert.InDelta(t, 23*0.02, times[len(times)-1], 1e-9)
}

func TestBatchesForWatchersAreThinnedAndEndWithTheNewest(t *testing.T) {
	var b framesBatch
	for i := range 333 {
		b.frames = append(b.frames, trace.Frame{T: float64(i), Values: []float64{float64(i), trace.Missing}})
	}
	out := b.take("bay1", "01A", trace.Columns{"load.volts", "load.charge"})
	assert.LessOrEqual(t, len(out.T), mostFrames)
	assert.Equal(t, 332.0, out.T[len(out.T)-1])
	assert.Equal(t, 332.0, *out.Values[0][len(out.T)-1])
	assert.Nil(t, out.Values[1][0], "a missing value is null")
	assert.Empty(t, b.take("bay1", "01A", trace.Columns{"load.volts", "load.charge"}).T)
}

func TestTheHandlerIsToldTheSerialNumberAndMayRefuse(t *testing.T) {
	var told []string
	handler := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		buffer := make([]byte, 100)
		n, _ := r.Body.Read(buffer)
		told = append(told, r.Method+" "+string(buffer[:n]))
		if len(told) > 1 {
			http.Error(w, "the tray is empty", http.StatusConflict)
		}
	}))
	b := &Bay{name: "bay1", config: api.BayConfig{Handler: handler.URL}, engine: &Engine{handlers: toHandlers(nil)}}
	require.NoError(t, b.handle(context.Background(), "TN-1", nil))
	assert.Equal(t, []string{`PUT {"serial":"TN-1"}`}, told)
	err := b.handle(context.Background(), "TN-2", nil)
	assert.ErrorIs(t, err, ErrNotReady)
	assert.ErrorContains(t, err, "the tray is empty")
	handler.Close()
	assert.ErrorContains(t, b.handle(context.Background(), "TN-3", nil), "does not answer")
	require.NoError(t, (&Bay{}).handle(context.Background(), "TN-4", nil), "a bay without a handler needs none")
}

func TestSerialNumbersAreChecked(t *testing.T) {
	s := openStore(t)
	dialects, err := dialect.Load("")
	require.NoError(t, err)
	e, err := Open(bench.Config{Instruments: map[string]api.InstrumentConfig{"psu": {Address: "tcp://127.0.0.1:1",
		Dialect: "sim-supply"}},
		Bays: map[string]api.BayConfig{"bay1": {Seats: map[string]api.SeatConfig{"source": {Instrument: "psu"}}}}}, dialects,
		s,
		slog.New(slog.DiscardHandler), Options{})
	require.NoError(t, err, "a bench whose instruments are off can be started all the same")
	defer e.Close()
	b, err := e.Bay("bay1")
	require.NoError(t, err)
	for _, serial := range []string{"", "-", "a\nb", "<b>", string(make([]byte, 80))} {
		_, err := b.StartRun(context.Background(), "ada", api.StartRun{Serial: serial, Procedure: "x"})
		assert.ErrorIs(t, err, api.ErrBadRequest, "%q", serial)
	}
	for _, serial := range []string{"TN-2208", "A 1", "x/y#2"} {
		_, err := b.StartRun(context.Background(), "ada", api.StartRun{Serial: serial, Procedure: "x"})
		assert.ErrorIs(t, err, store.ErrNotFound, "%q is fine, only the procedure is unknown", serial)
	}
	instruments, err := e.Bench().Instruments(context.Background())
	require.NoError(t, err)
	require.Len(t, instruments, 1)
	assert.False(t, instruments[0].Healthy)
	assert.Contains(t, instruments[0].Problem, "instrument psu: identify")
}

// About an event every frame is kept, those before it too; elsewhere the rule holds, as it does without an event.
func TestEveryFrameAboutAnEventIsKept(t *testing.T) {
	rule := procedure.Record{Every: 1}
	quiet := keptWithPast(t, 0.5, 500, rule, nil)
	assert.Equal(t, kept(t, 500, rule, nil), quiet, "nothing happened")
	times := keptWithPast(t, 0.5, 500, rule, func(k *keeper, _ *store.Recorder, frame int) bool {
		if frame == 221 { // the event was seen in the frame before, at 4.4 s
			k.all(4.4-0.5, 4.4+0.3)
		}
		return frame == 220
	})
	var about, others []float64
	for _, x := range times {
		if x > 3.9-1e-9 && x < 4.7+1e-9 {
			about = append(about, x)
		} else {
			others = append(others, x)
		}
	}
	assert.Len(t, about, 41, "20 ms from 3.9 s to 4.7 s")
	assert.Less(t, len(others), 15)
	for i := 1; i < len(times); i++ {
		assert.Greater(t, times[i], times[i-1])
	}
}
