package warden

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/simbench"
)

// watched is a warden at work in this process beside a simulated bench of two bays: it hears by a pipe, as from a
// service, and nobody else speaks to the stand-ins.
type watched struct {
	t       *testing.T
	bench   *simbench.Bench
	plan    Plan
	in      *io.PipeWriter
	reports chan Report
	log     string
	ended   chan error
}

func startWatched(t *testing.T) *watched {
	bench, err := simbench.Start(simbench.Options{Bays: 2})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, bench.Close()) })
	w := &watched{t: t, bench: bench, plan: planOf(t, bench), log: filepath.Join(t.TempDir(), LogFile),
		reports: make(chan Report, 16), ended: make(chan error, 1)}
	in, out := io.Pipe()
	told, tell := io.Pipe()
	w.in = out
	go func() {
		w.ended <- Process(t.Context(), in, tell, Surroundings{Log: w.log, EndService: EndParent()})
		_ = tell.Close() // a pipe in memory
	}()
	go func() {
		lines := bufio.NewScanner(told)
		for lines.Scan() {
			var r Report
			if json.Unmarshal(lines.Bytes(), &r) == nil {
				w.reports <- r
			}
		}
	}()
	t.Cleanup(func() { _ = out.Close() }) // it may be closed already
	w.say(word{Plan: &w.plan})
	return w
}

// planOf is how the bays of the bench are made safe: loads first.
func planOf(t *testing.T, bench *simbench.Bench) Plan {
	library, err := dialect.Load("")
	require.NoError(t, err)
	p := Plan{Bays: map[string][]Channel{}}
	for _, wiring := range bench.Wirings() {
		for _, seat := range []string{"load", "source"} {
			for _, c := range wiring.Seats[seat] {
				for _, i := range bench.Instruments() {
					if i.Name == c.Instrument {
						p.Bays[wiring.Bay] = append(p.Bays[wiring.Bay], Channel{Seat: seat, Kind: seat, Instrument: i.Name,
							Address: i.Address, Number: c.Number, Dialect: library["sim-"+i.Kind].Sources})
					}
				}
			}
		}
	}
	return p
}

func (w *watched) say(x word) {
	line, err := json.Marshal(x)
	require.NoError(w.t, err)
	_, err = w.in.Write(append(line, '\n'))
	require.NoError(w.t, err)
}

// energise switches the outputs of a bay on by a connection of its own, which is closed again, and tells the warden.
func (w *watched) energise(bay string) {
	w.t.Helper()
	w.say(word{Bay: bay, Energised: true})
	for _, ch := range w.plan.Bays[bay] {
		library, err := dialect.FromSources(ch.Dialect)
		require.NoError(w.t, err)
		var own *dialect.Dialect
		for _, d := range library {
			if len(d.Sources) == len(ch.Dialect) {
				own = d
			}
		}
		i, err := instrument.Open(ch.Instrument, ch.Address, own)
		require.NoError(w.t, err)
		require.NoError(w.t, i.Channel(ch.Number, ch.Kind).SetWord(w.t.Context(), "output", "on"))
		require.NoError(w.t, i.Close())
	}
	require.True(w.t, w.on(bay))
}

func (w *watched) on(bay string) bool {
	s, err := w.bench.State(bay)
	require.NoError(w.t, err)
	return s.SourceOn || s.LoadOn
}

func (w *watched) report() Report {
	w.t.Helper()
	select {
	case r := <-w.reports:
		return r
	case <-time.After(10 * time.Second):
		require.Fail(w.t, "the warden says nothing")
		return Report{}
	}
}

// end waits until the warden has ended.
func (w *watched) end() error {
	w.t.Helper()
	select {
	case err := <-w.ended:
		return err
	case <-time.After(10 * time.Second):
		require.Fail(w.t, "the warden does not end")
		return nil
	}
}

func TestTheEndOfThePipeSwitchesOffWhatIsEnergised(t *testing.T) {
	w := startWatched(t)
	w.energise("bay1")
	w.energise("bay2")
	w.say(word{Bay: "bay2", Energised: false}) // confirmed off, as the service says; what it is is not asked
	require.NoError(t, w.in.Close())
	require.NoError(t, w.end())
	r := w.report()
	assert.Equal(t, "bay1", r.Bay)
	assert.Equal(t, []string{"load (channel 1 of load1)", "source (channel 1 of supply1)"}, r.Done, "what drains first")
	assert.Empty(t, r.Failed)
	assert.Equal(t, "the service died", r.Why)
	assert.False(t, w.on("bay1"))
	assert.True(t, w.on("bay2"), "nobody said that it is energised")

	kept, err := ReadLog(w.log)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.Equal(t, r.Done, kept[0].Done)
	again, err := ReadLog(w.log)
	require.NoError(t, err)
	assert.Empty(t, again, "what was read is gone")
}

// The last word of a killed service may be cut off: it says nothing, and what was said before holds.
func TestAWordThatIsCutOffSaysNothing(t *testing.T) {
	w := startWatched(t)
	w.energise("bay1")
	_, err := io.WriteString(w.in, "no word at all\n"+`{"bay":"bay1","energised":fal`)
	require.NoError(t, err)
	require.NoError(t, w.in.Close())
	require.NoError(t, w.end())
	assert.Equal(t, "bay1", w.report().Bay)
	assert.False(t, w.on("bay1"))
}

func TestAGoodbyeLeavesEverythingAlone(t *testing.T) {
	w := startWatched(t)
	w.energise("bay1")
	w.say(word{Bye: true})
	require.NoError(t, w.end())
	assert.True(t, w.on("bay1"), "the service knows what it does")
	_, err := os.Stat(w.log)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// A bay that nobody looks after is switched off, once; the other, whose conductor lives, goes on.
func TestAStalledBayIsMadeSafeAndItsNeighbourGoesOn(t *testing.T) {
	w := startWatched(t)
	w.energise("bay1")
	w.energise("bay2")
	stop := make(chan struct{})
	beaten := make(chan struct{})
	go func() {
		defer close(beaten)
		beat := time.NewTicker(BeatInterval)
		defer beat.Stop()
		for {
			select {
			case <-stop:
				return
			case <-beat.C:
				line, _ := json.Marshal(word{Alive: []string{"bay2"}})
				_, _ = w.in.Write(append(line, '\n'))
			}
		}
	}()
	r := w.report()
	assert.Equal(t, "bay1", r.Bay)
	assert.Contains(t, r.Why, "nobody looked after it")
	assert.Empty(t, r.Failed)
	assert.False(t, w.on("bay1"))
	assert.True(t, w.on("bay2"))
	close(stop)
	<-beaten
	w.say(word{Bay: "bay2", Energised: false})
	w.say(word{Bay: "bay1", Energised: false})
	require.NoError(t, w.in.Close())
	require.NoError(t, w.end())
	assert.Empty(t, w.reports, "once")
}

func TestAnOutputThatStaysOnIsReportedAsNotConfirmed(t *testing.T) {
	w := startWatched(t)
	w.energise("bay1")
	require.NoError(t, w.bench.SetFault("supply1", simbench.StuckOutput))
	bench := newConnections(nil)
	ctx, cancel := contextFor(t, 300*time.Millisecond)
	defer cancel()
	r := bench.makeSafe(ctx, "bay1", w.plan.Bays["bay1"], "a test")
	assert.Equal(t, []string{"load (channel 1 of load1)"}, r.Done, "the other is off all the same")
	assert.Contains(t, r.Failed, "source (channel 1 of supply1) is not confirmed off: ")
	assert.Contains(t, r.Failed, "it reads back as on")
	require.NoError(t, w.bench.SetFault("supply1", simbench.NoFault))
	r = bench.makeSafe(t.Context(), "bay1", w.plan.Bays["bay1"], "a test")
	assert.Empty(t, r.Failed)
	assert.Len(t, r.Done, 2)
	w.say(word{Bye: true})
	require.NoError(t, w.end())
}

func TestAChannelWhoseDialectIsNotThereIsReported(t *testing.T) {
	bench := newConnections(nil)
	ctx, cancel := contextFor(t, 100*time.Millisecond)
	defer cancel()
	r := bench.makeSafe(ctx, "bay1", []Channel{{Seat: "source", Kind: "source", Instrument: "supply1",
		Address: "tcp://127.0.0.1:1", Number: 1}}, "a test")
	assert.Empty(t, r.Done)
	assert.Contains(t, r.Failed, "the dialect of supply1: it is not complete")
}

// The dialect that counts is that of the present plan, whatever an instrument at the address spoke before.
func TestANewDialectAtAnAddressCounts(t *testing.T) {
	w := startWatched(t)
	bench := newConnections(nil)
	channels := w.plan.Bays["bay1"]
	require.Empty(t, bench.makeSafe(t.Context(), "bay1", channels, "a test").Failed)
	changed := slices.Clone(channels)
	changed[0].Dialect = nil
	ctx, cancel := contextFor(t, 100*time.Millisecond)
	defer cancel()
	assert.Contains(t, bench.makeSafe(ctx, "bay1", changed, "a test").Failed, "it is not complete")
	w.say(word{Bye: true})
	require.NoError(t, w.end())
}

func TestReportsStandInTheLogOneALine(t *testing.T) {
	path := filepath.Join(t.TempDir(), LogFile)
	var out bytes.Buffer
	w := &watch{Surroundings: Surroundings{Log: path}, out: &out}
	w.tell(Report{Bay: "bay1", Why: "first"})
	w.tell(Report{Bay: "bay2", Why: "second", Failed: "x"})
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, out.String(), string(text))
	require.NoError(t, os.WriteFile(path, append(text, `{"bay":"ba`...), 0o600)) // a computer that lost its power
	reports, err := ReadLog(path)
	require.NoError(t, err)
	require.Len(t, reports, 2)
	assert.Equal(t, "second", reports[1].Why)
	none, err := ReadLog(path)
	require.NoError(t, err)
	assert.Empty(t, none)
}

func contextFor(t *testing.T, d time.Duration) (context.Context, context.CancelFunc) {
	return context.WithTimeout(t.Context(), d)
}
