package engine

import (
	"bufio"
	"errors"
	"log/slog"
	"net"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/core/nameplate"
	"usherbench/instrument/dialect"
	"usherbench/store"
	"usherbench/warden"
)

// supply is the least of a stand-in: an output that is on or off, and volts that can be set from outside.
type supply struct {
	on    atomic.Bool
	volts atomic.Value // as its answer
}

// serveSupply starts one and gives its address.
func serveSupply(t *testing.T) (s *supply, address string) {
	t.Helper()
	s = &supply{}
	s.volts.Store("12.000")
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go s.serve(conn)
		}
	}()
	return s, "tcp://" + listener.Addr().String()
}

func (s *supply) serve(conn net.Conn) {
	defer conn.Close()
	lines := bufio.NewScanner(conn)
	for lines.Scan() {
		line, answer := lines.Text(), `0,"No error"`
		switch {
		case strings.HasPrefix(line, "*IDN?"):
			answer = "Usher Bench,SIM-S2,0,1"
		case strings.HasPrefix(line, "MEAS"):
			answer = s.volts.Load().(string) + ";0.1000;0"
		case strings.HasPrefix(line, "OUTP ON"):
			s.on.Store(true)
		case strings.HasPrefix(line, "OUTP OFF"):
			s.on.Store(false)
		case strings.HasPrefix(line, "OUTP?"):
			answer = map[bool]string{true: "1", false: "0"}[s.on.Load()]
		}
		if _, err := conn.Write([]byte(answer + "\n")); err != nil {
			return
		}
	}
}

// openBay opens an engine of one bay with a supply.
func openBay(t *testing.T, o Options) (*Bay, *supply) {
	t.Helper()
	s := openStore(t)
	dialects, err := dialect.Load("")
	require.NoError(t, err)
	fake, address := serveSupply(t)
	e, err := Open(bench.Config{Instruments: map[string]api.InstrumentConfig{"psu": {Address: address,
		Dialect: "sim-supply"}}, Bays: map[string]api.BayConfig{"bay1": {HandFor: api.Span(10 * time.Minute),
		Seats: map[string]api.SeatConfig{"source": {Instrument: "psu"}}}}}, dialects, s, slog.New(slog.DiscardHandler), o)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, e.Close()) })
	b, err := e.Bay("bay1")
	require.NoError(t, err)
	return b, fake
}

func on(t *testing.T, b *Bay, fake *supply) {
	t.Helper()
	require.NoError(t, b.Set(t.Context(), "ada", api.ManualSet{Seat: "source", Quantity: "output", Value: "on"}))
	require.True(t, fake.on.Load())
}

// since moves the instant back at which somebody last said that they are there.
func (b *Bay) since(ago time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.net.since = time.Now().Add(-ago)
}

func TestWhoIsNotThereFindsTheOutputsOff(t *testing.T) {
	b, fake := openBay(t, Options{})
	assert.ErrorIs(t, b.StillThere("ada"), ErrIdle)
	on(t, b, fake)
	assert.Nil(t, b.Status().StillThere, "nobody is asked for a while")
	b.since(9*time.Minute + 30*time.Second)
	asked := b.Status().StillThere
	require.NotNil(t, asked, "somebody is asked a minute before")
	assert.WithinDuration(t, time.Now().Add(30*time.Second), asked.OffAt, 5*time.Second)
	require.NoError(t, b.StillThere("ada"))
	assert.Nil(t, b.Status().StillThere)
	assert.True(t, fake.on.Load())

	b.since(11 * time.Minute)
	require.Eventually(t, func() bool { return !fake.on.Load() }, 20*time.Second, 10*time.Millisecond)
	require.Eventually(t, func() bool { return b.Status().Held != nil }, 20*time.Second, 10*time.Millisecond)
	assert.Contains(t, b.Status().Held.Why, "nobody has said for 10m0s that they are still there")
	on(t, b, fake) // who comes back may go on by hand
	assert.NotNil(t, b.Held(), "but the line does not begin under their hands")
	require.NoError(t, b.GoOn("ada", time.Time{}))
	assert.Nil(t, b.Held())
}

func TestAReadingBeyondTheNameplateSwitchesOffWhatIsOnByHand(t *testing.T) {
	b, fake := openBay(t, Options{})
	b.mu.Lock()
	b.net.bounds = boundsByHand(&nameplate.Nameplate{Windows: map[string]nameplate.Window{"source.volts": {Min: 10,
		Max: 14}}})
	b.mu.Unlock()
	on(t, b, fake)
	fake.volts.Store("0.100")
	require.Eventually(t, func() bool {
		v := b.Status().Readings["source.volts"]
		return v != nil && *v < 1
	}, 20*time.Second, 10*time.Millisecond)
	assert.True(t, fake.on.Load(), "a supply begins at nothing; the window is for setpoints from above")
	fake.volts.Store("14.900")
	require.Eventually(t, func() bool { return !fake.on.Load() }, 20*time.Second, 10*time.Millisecond)
}

// deaf is a warden that cannot be started.
type deaf struct{ down error }

func (d *deaf) Plan(warden.Plan)              {}
func (d *deaf) Energised(string, bool)        {}
func (d *deaf) Alive(_, _ []string)           {}
func (d *deaf) Reports() <-chan warden.Report { return nil }
func (d *deaf) Down() error                   { return d.down }

func TestWithoutAWardenNothingIsEnergised(t *testing.T) {
	b, fake := openBay(t, Options{Warden: &deaf{errors.New("no such file")}})
	err := b.Set(t.Context(), "ada", api.ManualSet{Seat: "source", Quantity: "output", Value: "on"})
	require.ErrorIs(t, err, ErrNotReady)
	assert.ErrorContains(t, err, "nothing is energised while there is no warden: no such file")
	assert.False(t, fake.on.Load())
	require.NoError(t, b.Set(t.Context(), "ada", api.ManualSet{Seat: "source", Quantity: "output", Value: "off"}))
	require.NoError(t, b.Safe("ada"))
	assert.Contains(t, strings.Join(b.engine.Problems(), "\n"), "there is no warden")
	_, err = b.engine.store.Run("last")
	assert.ErrorIs(t, err, store.ErrNotFound)
}

// Where the records of runs cannot be read nobody knows what was left on: it is switched off before anything else.
func TestRecordsThatCannotBeReadMakeSafe(t *testing.T) {
	file := filepath.Join(t.TempDir(), "usher.db")
	s, err := store.Open(file)
	require.NoError(t, err)
	defer s.Close()
	db, err := gorm.Open(sqlite.Open("file:" + file))
	require.NoError(t, err)
	require.NoError(t, db.Exec("ALTER TABLE runs RENAME TO gone").Error)
	dialects, err := dialect.Load("")
	require.NoError(t, err)
	fake, address := serveSupply(t)
	fake.on.Store(true)
	_, err = Open(bench.Config{Instruments: map[string]api.InstrumentConfig{"psu": {Address: address,
		Dialect: "sim-supply"}}, Bays: map[string]api.BayConfig{"bay1": {Seats: map[string]api.SeatConfig{
		"source": {Instrument: "psu"}}}}}, dialects, s, slog.New(slog.DiscardHandler), Options{})
	require.ErrorContains(t, err, "look for runs that were left behind")
	assert.False(t, fake.on.Load())
	plain, err := db.DB()
	require.NoError(t, err)
	require.NoError(t, plain.Close())
}
