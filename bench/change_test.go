package bench_test

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/instrument/dialect"
	"usherbench/store"
)

// crew is a fake of those who work on the bench.
type crew struct {
	halted, renewed []string
	refuse          error
	// at is looked at when bays are renewed.
	at      *bench.Bench
	working map[string]bool // bays in service
	amiss   []string
}

func (c *crew) Halt(names []string) error {
	if c.refuse != nil {
		return c.refuse
	}
	c.halted = append(c.halted, names...)
	for _, name := range names {
		c.working[name] = false
	}
	return nil
}

func (c *crew) Renew(names []string) {
	c.renewed = append(c.renewed, names...)
	config := c.at.Config()
	for _, name := range names {
		if c.working[name] {
			c.amiss = append(c.amiss, name+" is renewed while it works")
		}
		c.working[name] = true
		if _, stays := config.Bays[name]; !stays {
			delete(c.working, name)
		}
	}
}

func (c *crew) Removable(name string) error {
	if _, ok := c.at.Config().Bays[name]; !ok {
		return fmt.Errorf("no bay %s", name)
	}
	return nil
}

func (c *crew) forget() { c.halted, c.renewed = nil, nil }

type fatal interface {
	require.TestingT
	Helper()
	Cleanup(func())
}

// open makes a bench of two bays at a folder.
func open(t fatal, folder string) (*bench.Bench, *crew) {
	t.Helper()
	s, err := store.Open(filepath.Join(folder, "usher.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	dialects, err := dialect.Load(filepath.Join(folder, "dialects"))
	require.NoError(t, err)
	c := &crew{working: map[string]bool{"bay1": true, "bay2": true}}
	seat := func(i string) api.BayConfig {
		return api.BayConfig{Seats: map[string]api.SeatConfig{"source": {Instrument: i}}}
	}
	b, err := bench.Open(bench.Options{Dialects: dialects, Store: s, Data: folder, Bays: c,
		Journal: func(e store.JournalEntry) { require.NoError(t, s.Journal(e)) },
		File: bench.Config{
			Instruments: map[string]api.InstrumentConfig{"psu1": {Address: "tcp://127.0.0.1:1", Dialect: "sim-supply"},
				"psu2": {Address: "tcp://127.0.0.1:2", Dialect: "sim-supply"}},
			Bays: map[string]api.BayConfig{"bay1": seat("psu1"), "bay2": seat("psu2")}}})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, b.Close()) })
	c.at = b
	return b, c
}

// TestMain has locks of its own: other tests use the same addresses.
func TestMain(m *testing.M) {
	folder, err := os.MkdirTemp("", "bench-test")
	if err != nil {
		panic(err)
	}
	if err := os.Setenv("TMPDIR", folder); err != nil {
		panic(err)
	}
	code := m.Run()
	_ = os.RemoveAll(folder)
	os.Exit(code)
}

// One instrument is in the bench once, however its address is written, and in one service of the computer.
func TestOneInstrumentIsInOneBenchOnce(t *testing.T) {
	b, c := open(t, t.TempDir())
	for _, twice := range []string{"tcp://localhost:1", "tcp://[::1]:1", "tcp://127.0.0.1:1"} {
		err := b.PutInstrument("ada", "psu3", api.InstrumentConfig{Address: twice, Dialect: "sim-supply"})
		require.ErrorIs(t, err, api.ErrBadRequest, twice)
		assert.ErrorContains(t, err, "both are one instrument")
	}
	psu := b.Config().Instruments["psu1"]
	psu.Due = "2027-01-31"
	require.NoError(t, b.PutInstrument("ada", "psu1", psu), "a change of itself is no other")

	folder := t.TempDir()
	s, err := store.Open(filepath.Join(folder, "usher.db"))
	require.NoError(t, err)
	defer s.Close()
	second := bench.Options{Dialects: b.Dialects(), Store: s, Data: folder, Bays: c, Journal: func(store.JournalEntry) {},
		File: bench.Config{Instruments: map[string]api.InstrumentConfig{"x": {Address: "tcp://localhost:1",
			Dialect: "sim-supply"}}}}
	_, err = bench.Open(second)
	require.ErrorIs(t, err, bench.ErrElsewhere)
	assert.ErrorContains(t, err, "instruments.x")
	require.NoError(t, b.Close())
	other, err := bench.Open(second)
	require.NoError(t, err, "who ends gives its instruments back")
	require.NoError(t, other.Close())
}

func TestAChangeHaltsOnlyWhomItConcerns(t *testing.T) {
	b, c := open(t, t.TempDir())
	before := b.Opened()
	require.NoError(t, b.PutInstrument("ada", "psu1", api.InstrumentConfig{Address: "tcp://127.0.0.1:9",
		Dialect: "sim-supply"}))
	assert.Equal(t, []string{"bay1"}, c.halted)
	assert.Equal(t, []string{"bay1"}, c.renewed)
	assert.NotSame(t, before["psu1"], b.Opened()["psu1"], "opened anew at its new address")
	assert.Same(t, before["psu2"], b.Opened()["psu2"], "the other bay keeps its connection")
	c.forget()
	psu2 := b.Config().Instruments["psu2"]
	psu2.Calibrated = "2026-03-31"
	require.NoError(t, b.PutInstrument("ada", "psu2", psu2))
	assert.Empty(t, c.halted, "a date is nobody's business but the paper's")
	two := b.Config().Bays["bay2"]
	two.Title = "The second"
	require.NoError(t, b.PutBay("ada", "bay2", two))
	assert.Equal(t, []string{"bay2"}, c.halted)
	c.forget()
	require.NoError(t, b.PutBay("ada", "bay3",
		api.BayConfig{Seats: map[string]api.SeatConfig{"source": {Instrument: "psu1", Channel: 2}}}))
	assert.Empty(t, c.halted)
	assert.Equal(t, []string{"bay3"}, c.renewed, "a new bay begins")
	c.forget()
	require.NoError(t, b.RemoveBay("ada", "bay3"))
	assert.Equal(t, c.halted, c.renewed)
	assert.NotContains(t, c.working, "bay3")
	assert.ErrorContains(t, b.RemoveBay("ada", "bay9"), "no bay bay9")
	assert.ErrorIs(t, b.RemoveInstrument("ada", "psu9"), bench.ErrUnknownInstrument)
	assert.ErrorIs(t, b.RemoveInstrument("ada", "psu1"), api.ErrBadRequest, "bay1 needs it")
	assert.Empty(t, c.amiss)
}

func TestChangesOutliveTheService(t *testing.T) {
	folder := t.TempDir()
	b, _ := open(t, folder)
	require.NoError(t, b.RemoveBay("ada", "bay2"))
	require.NoError(t, b.RemoveInstrument("ada", "psu2"))
	require.NoError(t, b.PutInstrument("ada", "psu3", api.InstrumentConfig{Address: "tcp://127.0.0.1:3",
		Dialect: "sim-supply"}))
	require.NoError(t, b.Close())
	again, _ := open(t, folder)
	documented, err := again.Documented()
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"instruments.psu1": "file", "instruments.psu3": "console", "bays.bay1": "file"},
		documented.Origin)
}

func TestAChangeThatCannotBeMadeLeavesNothingBehind(t *testing.T) {
	folder := t.TempDir()
	b, c := open(t, folder)
	before := b.Config()
	c.refuse = errors.New("bay1 runs")
	psu := before.Instruments["psu1"]
	psu.Address = "tcp://127.0.0.1:9"
	assert.ErrorIs(t, b.PutInstrument("ada", "psu1", psu), c.refuse)
	assert.ErrorIs(t, b.RemoveBay("ada", "bay1"), c.refuse)
	assert.Equal(t, before, b.Config())
	require.NoError(t, b.Close())
	b, c = open(t, folder)
	assert.Equal(t, before, b.Config(), "nor on record")
	c.refuse = errors.New("bay1 runs")
	// A dialect of a running bay stays as it was too, in force and on disk
	text := b.Dialects()["sim-supply"].Sources[0].Text + "\n# changed\n"
	_, err := b.PutDialect("ada", text)
	assert.ErrorIs(t, err, c.refuse)
	assert.NoFileExists(t, filepath.Join(b.DialectFolder(), "sim-supply.yaml"))
	c.refuse = nil
	c.forget()
	_, err = b.PutDialect("ada", text)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"bay1", "bay2"}, c.halted, "both speak it")
	kept, err := os.ReadFile(filepath.Join(b.DialectFolder(), "sim-supply.yaml"))
	require.NoError(t, err)
	assert.Equal(t, text, string(kept))
	c.forget()
	_, err = b.PutDialect("ada", text)
	require.NoError(t, err)
	assert.Empty(t, c.halted, "the same words again change nothing")
}

// Whatever is changed, in whatever order, and whoever refuses: each bay that is configured works, no other does, each
// instrument is open at the address that it is configured with, and the record says the same as the memory.
func TestWhateverIsChangedTheBenchIsWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		folder, err := os.MkdirTemp("", "bench")
		require.NoError(t, err)
		defer os.RemoveAll(folder)
		b, c := open(t, folder)
		instruments, bays := rapid.SampledFrom([]string{"psu1", "psu2", "psu3"}), rapid.SampledFrom([]string{"bay1", "bay2",
			"bay3"})
		for range rapid.IntRange(1, 12).Draw(t, "changes") {
			c.refuse = nil
			if rapid.IntRange(0, 3).Draw(t, "refused") == 0 {
				c.refuse = errors.New("busy")
			}
			switch rapid.IntRange(0, 3).Draw(t, "what") {
			case 0:
				port := rapid.IntRange(1, 3).Draw(t, "port")
				_ = b.PutInstrument("ada", instruments.Draw(t, "i"), api.InstrumentConfig{Dialect: "sim-supply",
					Address: fmt.Sprintf("tcp://127.0.0.1:%d", port)})
			case 1:
				_ = b.PutBay("ada", bays.Draw(t, "bay"), api.BayConfig{Seats: map[string]api.SeatConfig{
					"source": {Instrument: instruments.Draw(t, "i"), Channel: rapid.IntRange(1, 3).Draw(t, "channel")}}})
			case 2:
				_ = b.RemoveBay("ada", bays.Draw(t, "bay"))
			case 3:
				_ = b.RemoveInstrument("ada", instruments.Draw(t, "i"))
			}
			assert.Empty(t, c.amiss)
			for name, works := range c.working {
				assert.True(t, works, "%s is left halted", name)
			}
			config := b.Config()
			assert.ElementsMatch(t, slices.Collect(maps.Keys(config.Bays)), slices.Collect(maps.Keys(c.working)))
			assert.Len(t, b.Opened(), len(config.Instruments))
			for name, i := range b.Opened() {
				assert.Equal(t, config.Instruments[name].Address, i.Address.String(), name)
			}
		}
		require.NoError(t, b.Close())
		again, _ := open(t, folder)
		assert.Equal(t, b.Config(), again.Config())
	})
}
