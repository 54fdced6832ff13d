package outputs

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/seats"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/transport"
)

// bench is two or more fake channels with what was done to them and told of them, in order.
type bench struct {
	board *Switchboard

	mu    sync.Mutex
	log   []string
	fakes map[string]*fake
}

// fake is a channel that answers at once, unless it is broken.
type fake struct {
	bench *bench
	name  string
	on    bool
	// What is broken: it refuses to go on, it stays on whatever is sent, it cannot be read back.
	refuses, sticks, mute bool
	tripped               bool
	reads                 []float64 // in the order of what it gives; nil: it answers without any
	silent                bool      // it gives no reading
}

var errBroken = errors.New("it is broken")

func (f *fake) note(what string) { f.bench.note(f.name + " " + what) }

func (b *bench) note(what string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.log = append(b.log, what)
}

func (f *fake) Read(_ context.Context, values []float64) error {
	if f.silent {
		return errBroken
	}
	copy(values, f.reads)
	return nil
}

func (f *fake) Set(_ context.Context, quantity string, value float64) error {
	f.note(quantity)
	return nil
}

func (f *fake) SetWord(_ context.Context, quantity, word string) error {
	f.note(quantity + " " + word)
	if f.refuses {
		return errBroken
	}
	if quantity == seats.Output && !f.sticks {
		f.on = word == seats.On
	}
	return nil
}

func (f *fake) SwitchOff(ctx context.Context) error { return f.SetWord(ctx, seats.Output, seats.Off) }

func (f *fake) OutputOn(context.Context) (bool, error) {
	if f.mute {
		return true, errBroken
	}
	return f.on, nil
}

func (f *fake) Identify(context.Context) (string, error) { return "", nil }

func (f *fake) Tripped(context.Context) (bool, error) { return f.tripped, nil }

func (f *fake) ArmWatchdog(context.Context) error    { f.note("arm the watchdog"); return nil }
func (f *fake) DisarmWatchdog(context.Context) error { f.note("disarm the watchdog"); return nil }

func (f *fake) Send(_ context.Context, doing string, _ dialect.Setter, _ float64) error {
	f.note(doing)
	return nil
}

// newBench makes a bay with the given seats, a fake in each. Those named watched have a watchdog.
func newBench(t testing.TB, names []string, watched ...string) *bench {
	b := &bench{fakes: map[string]*fake{}}
	config, instruments := map[string]api.SeatConfig{}, map[string]*instrument.Instrument{}
	for _, name := range names {
		config[name] = api.SeatConfig{Instrument: name}
		instruments[name] = &instrument.Instrument{Name: name, Dialect: &dialect.Dialect{Within: time.Second},
			Address: transport.Address{Path: name}}
	}
	b.board = New(config, instruments, Options{
		Bay:       "bay1",
		Energised: func(on bool) { b.note("warden told " + map[bool]string{true: "on", false: "off"}[on]) },
		Alive:     func(time.Duration) {},
		Journal:   func(what, detail, runID string) { b.note("journal: " + what) },
		Log:       slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	for _, x := range b.board.Seats() {
		f := &fake{bench: b, name: x.Name}
		b.fakes[x.Name] = f
		d := &dialect.Dialect{Within: time.Second}
		if slices.Contains(watched, x.Name) {
			d.Watchdog.Arm.Messages = []string{"WATCH 1"}
		}
		x.First().drive, x.First().Channel.Dialect = f, d
	}
	return b
}

// took gives what happened since it was last asked.
func (b *bench) took() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	log := b.log
	b.log = nil
	return log
}

func (b *bench) output(t require.TestingT, seat, word string) error {
	x := b.board.Seat(seat)
	require.NotNil(t, x)
	b.board.Grant(NewPermit(context.Background()))
	return b.board.Apply(context.Background(), x, procedure.Setting{Seat: seat, Quantity: seats.Output, Word: word})
}

func TestTheWardenKnowsBeforeAnOutputGoesOn(t *testing.T) {
	b := newBench(t, []string{"source", "load"}, "source")
	require.NoError(t, b.output(t, "source", seats.On))
	assert.Equal(t, []string{"warden told on", "source arm the watchdog", "source output on"}, b.took())
	assert.True(t, b.board.Energised())
}

func TestAnOutputThatRefusesCountsAsOnUntilItIsReadBack(t *testing.T) {
	b := newBench(t, []string{"source"})
	b.fakes["source"].refuses = true
	require.Error(t, b.output(t, "source", seats.On))
	assert.True(t, b.board.Seat("source").Energised())
	b.fakes["source"].refuses = false
	require.NoError(t, b.board.MakeSafe("test", ""))
	assert.False(t, b.board.Energised())
}

func TestWhatDrainsGoesOffBeforeWhatFeeds(t *testing.T) {
	b := newBench(t, []string{"source", "load", "meter"}, "load")
	require.NoError(t, b.output(t, "source", seats.On))
	require.NoError(t, b.output(t, "load", seats.On))
	b.took()
	require.NoError(t, b.board.MakeSafe("test", "01A"))
	assert.Equal(t, []string{"load output off", "source output off", "load disarm the watchdog", "warden told off",
		"journal: made safe"}, b.took())
	assert.False(t, b.board.SafeSince().IsZero())
	off, ok := b.board.InForce("load.output")
	assert.True(t, ok)
	assert.Equal(t, seats.Off, off.Word)
}

func TestASwitchOpensWithoutCurrent(t *testing.T) {
	b := newBench(t, []string{"switch", "source", "load"})
	for _, seat := range []string{"switch", "source", "load"} {
		require.NoError(t, b.output(t, seat, seats.On))
	}
	b.took()
	require.NoError(t, b.board.MakeSafe("test", ""))
	assert.Equal(t, []string{"load output off", "source output off", "switch output off"}, b.took()[:3])
}

// A seat that reads nothing is asked whether it is on, so that it is missed when it does not answer any longer.
func TestASeatThatReadsNothingIsMissedToo(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := newBench(t, []string{"switch"})
		ctx, cancel := context.WithCancel(t.Context())
		var wg sync.WaitGroup
		s := NewSampler(ctx, wg.Go, b.board.Seats())
		began := time.Now()
		s.Sample(t.Context(), nil, time.Second, nil)
		time.Sleep(5 * time.Second)
		b.fakes["switch"].mute = true
		s.Sample(t.Context(), nil, time.Second, nil)
		assert.Contains(t, s.Trouble(began, 2*time.Second), "instrument switch (switch) has not answered for 2 s")
		b.fakes["switch"].mute = false
		s.Sample(t.Context(), nil, time.Second, nil)
		assert.Empty(t, s.Trouble(began, 2*time.Second))
		cancel()
		wg.Wait()
	})
}

func TestOneThatStaysOnKeepsNoOtherOn(t *testing.T) { synctest.Test(t, staysOn) }

func staysOn(t *testing.T) {
	b := newBench(t, []string{"source", "load", "source2"})
	for _, seat := range []string{"source", "load", "source2"} {
		require.NoError(t, b.output(t, seat, seats.On))
	}
	b.fakes["load"].sticks = true
	b.took()
	err := b.board.MakeSafe("test", "")
	require.ErrorContains(t, err, "load (channel 1 of load) is not confirmed off: it reads back as on")
	log := b.took()
	slices.Sort(log[1:3]) // those of one rank go off side by side
	assert.Equal(t, []string{"load output off", "source output off", "source2 output off", "load output off"}, log[:4],
		"what feeds waits for the head start only")
	assert.Equal(t, "journal: "+NotConfirmed, log[len(log)-1])
	assert.NotContains(t, log, "warden told off")
	assert.Contains(t, b.board.Alarm(), "An output may still be on")
	assert.True(t, b.board.SafeSince().IsZero())
	assert.True(t, b.board.Seat("load").Energised())
	assert.False(t, b.board.Seat("source").Energised())
	_, known := b.board.InForce("load.output")
	assert.True(t, known)

	b.fakes["load"].sticks = false
	b.board.Retry(context.Background())
	assert.Empty(t, b.board.Alarm())
	assert.False(t, b.board.Energised())
	assert.Contains(t, b.took(), "journal: made safe")
	b.board.Retry(context.Background())
	assert.Empty(t, b.took(), "without an alarm nothing is tried")
}

func TestAnOutputThatCannotBeReadBackIsNotOff(t *testing.T) {
	b := newBench(t, []string{"source", "load"})
	require.NoError(t, b.output(t, "source", seats.On))
	b.fakes["source"].mute = true
	require.NoError(t, b.output(t, "source", seats.Off))
	assert.True(t, b.board.Seat("source").Energised(), "it was told to, but did not say so")
	assert.False(t, b.board.FoundOn(context.Background()), "what cannot be read is not found on")
}

func TestTheWardenIsReleasedWhenTheLastOutputIsOff(t *testing.T) {
	b := newBench(t, []string{"source", "load"}, "source")
	require.NoError(t, b.output(t, "source", seats.On))
	require.NoError(t, b.output(t, "load", seats.On))
	b.took()
	require.NoError(t, b.output(t, "load", seats.Off))
	assert.NotContains(t, b.took(), "warden told off")
	require.NoError(t, b.output(t, "source", seats.Off))
	assert.Equal(t, []string{"source output off", "source disarm the watchdog", "warden told off"}, b.took())
}

func TestAnAlarmStaysWhenTheBayIsConfiguredAnew(t *testing.T) { synctest.Test(t, configuredAnew) }

func configuredAnew(t *testing.T) {
	b := newBench(t, []string{"source"})
	b.fakes["source"].sticks, b.fakes["source"].on = true, true
	require.Error(t, b.board.MakeSafe("test", ""))
	anew := newBench(t, []string{"source"})
	anew.board.TakeOver(b.board)
	assert.Equal(t, b.board.Alarm(), anew.board.Alarm())
	anew.board.Retry(context.Background())
	assert.Empty(t, anew.board.Alarm(), "its outputs are confirmed off")
}

func TestWhatIsSetByHandIsKnownUntilItIsMadeSafe(t *testing.T) {
	b := newBench(t, []string{"source"})
	require.NoError(t, b.board.MakeSafe("test", ""))
	b.board.InUse(true)
	b.board.InUse(false)
	assert.True(t, b.board.ByHand())
	assert.True(t, b.board.SafeSince().IsZero())
	require.NoError(t, b.board.MakeSafe("test", ""))
	assert.False(t, b.board.ByHand())
}

// Whatever is switched and whatever breaks, an output that is on is never taken for off.
func TestNothingThatIsOnIsTakenForOff(t *testing.T) {
	names := []string{"source", "load", "cycler"}
	rapid.Check(t, func(rt *rapid.T) {
		b := newBench(t, names)
		for range rapid.IntRange(1, 12).Draw(rt, "steps") {
			name := rapid.SampledFrom(names).Draw(rt, "seat")
			f := b.fakes[name]
			switch rapid.SampledFrom([]string{"on", "off", "break", "mend", "safe"}).Draw(rt, "step") {
			case "on":
				_ = b.output(rt, name, seats.On)
			case "off":
				_ = b.output(rt, name, seats.Off)
			case "break":
				f.refuses = rapid.Bool().Draw(rt, "refuses")
				f.sticks = rapid.Bool().Draw(rt, "sticks")
			case "mend":
				f.refuses, f.sticks, f.mute = false, false, false
			case "safe":
				ctx, cancel := context.WithCancel(context.Background())
				cancel() // one round
				_, left, err := b.board.switchOff(ctx)
				b.board.note(left, err)
			}
			for _, name := range names {
				if b.fakes[name].on {
					require.True(rt, b.board.Seat(name).Energised(), name)
				}
			}
		}
	})
}

func TestAGangSharesWhatItIsSetTo(t *testing.T) {
	two := []*Member{{}, {}}
	series, parallel := &Seat{Gang: api.GangSeries, Members: two}, &Seat{Gang: api.GangParallel, Members: two}
	for _, c := range []struct {
		seat  *Seat
		q     string
		share float64
	}{
		{series, "volts", 24}, {series, "amps", 48}, {series, "ohms", 24}, {parallel, "volts", 48}, {parallel, "amps", 24},
		{parallel, "ohms", 96}, {parallel, "watts", 24},
	} {
		assert.Equal(t, c.share, c.seat.Share(c.q, 48), "%s %s", c.seat.Gang, c.q)
		if c.q != "ohms" {
			assert.InDelta(t, 48, c.seat.Joined(c.q, []float64{c.share, c.share}), 1e-9, "%s %s", c.seat.Gang, c.q)
		}
	}
	assert.Equal(t, 30.0, series.Joined("celsius", []float64{25, 30}), "the hottest counts")
}

// One seat that cannot be confirmed off keeps no other from being tried again: what was mended goes off.
func TestEverySeatIsTriedAgain(t *testing.T) { synctest.Test(t, triedAgain) }

func triedAgain(t *testing.T) {
	b := newBench(t, []string{"source", "load", "source2"})
	for _, seat := range []string{"source", "load", "source2"} {
		require.NoError(t, b.output(t, seat, seats.On))
	}
	b.fakes["load"].sticks, b.fakes["source"].sticks = true, true
	require.Error(t, b.board.MakeSafe("test", ""))
	assert.ElementsMatch(t, []string{"load", "source"}, named(b.board.Left()))
	b.fakes["source"].sticks = false
	b.board.Retry(context.Background())
	assert.False(t, b.fakes["source"].on, "though the load, which is tried before it, stays on")
	assert.Equal(t, []string{"load"}, named(b.board.Left()))
	assert.Contains(t, b.board.Alarm(), "load (")
	assert.NotContains(t, b.board.Alarm(), "source (")
	b.fakes["load"].sticks = false
	b.board.Retry(context.Background())
	assert.Empty(t, b.board.Alarm())
	assert.Empty(t, b.board.Left())
}

func named(all []*Seat) (names []string) {
	for _, x := range all {
		names = append(names, x.Name)
	}
	return names
}

// What is on as it was told to be is still on; what somebody else switched off is not.
func TestWhatSomebodyElseSwitchedOffIsNotStillOn(t *testing.T) {
	b := newBench(t, []string{"source", "load"})
	assert.True(t, b.board.StillOn(t.Context()), "nothing was on")
	require.NoError(t, b.output(t, "source", seats.On))
	require.NoError(t, b.output(t, "load", seats.On))
	assert.True(t, b.board.StillOn(t.Context()))
	b.fakes["load"].mute = true
	assert.False(t, b.board.StillOn(t.Context()), "what cannot be read is not known to be on")
	b.fakes["load"].mute, b.fakes["load"].on = false, false
	assert.False(t, b.board.StillOn(t.Context()))
}

// An alarm goes with the outputs that it is for: those that a bay no longer has are given back, to be tried on.
func TestAnAlarmGoesWithItsOutputs(t *testing.T) { synctest.Test(t, goesWith) }

func goesWith(t *testing.T) {
	b := newBench(t, []string{"source", "load"})
	b.fakes["load"].sticks, b.fakes["load"].on = true, true
	require.Error(t, b.board.MakeSafe("test", ""))
	without := newBench(t, []string{"source"})
	strays := without.board.TakeOver(b.board)
	assert.Equal(t, []string{"load"}, named(strays))
	assert.Empty(t, without.board.Alarm())
	with := newBench(t, []string{"source", "load"})
	assert.Empty(t, with.board.TakeOver(b.board))
	assert.Equal(t, []string{"load"}, named(with.board.Left()))
	assert.NotEmpty(t, with.board.Alarm())
	none := newBench(t, []string{"load"}).board
	assert.Empty(t, newBench(t, []string{"source"}).board.TakeOver(none), "without an alarm")
}
