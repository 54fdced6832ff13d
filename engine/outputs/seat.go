package outputs

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/messages"
)

// Seat is a function of a bay with the channels that fill it: one, or a gang that works as one.
type Seat struct {
	Name    string
	Kind    seats.Kind
	Gang    string // "", gangSeries or gangParallel
	Members []*Member
	Gives   []string // what it reads
	Config  api.SeatConfig
	// energised is true from before the output is switched on until it is read back as off.
	energised atomic.Bool
	onSince   atomic.Int64 // when it was switched on, Unix ns; 0: it is off, or being switched
	turn      atomic.Int64 // how often it was switched
	trip      atomic.Pointer[Trip]
	one       oneVoltage
	// remote says that it reads its volts at the ends of its own sense leads.
	remote atomic.Bool
	bears  bearing   // owned by the sampler's caller
	uneven time.Time // since when the members have shared unevenly; owned by the sampler's caller
}

func newSeat(name string, c api.SeatConfig, instruments map[string]*instrument.Instrument) *Seat {
	kind, _ := seats.KindOf(name)
	x := &Seat{Name: name, Kind: kind, Gang: c.Gang, Config: c, one: oneVoltage{math.NaN(), math.NaN(), math.NaN()}}
	for _, ref := range c.All() {
		x.Members = append(x.Members, newMember(x, instruments[ref.Instrument].Channel(max(ref.Channel, 1), kind.Name)))
	}
	x.Senses(x.First().Dialect.Built[seats.Sensed])
	x.Gives = slices.Clone(x.Members[0].gives)
	for _, q := range kind.Reads {
		if !slices.Contains(x.Gives, q) && x.First().phasesOf(q) != nil {
			x.Gives = append(x.Gives, q)
		}
	}
	for q, sensor := range c.Sensors {
		if sensor.From != "" && !slices.Contains(x.Gives, q) {
			x.Gives = append(x.Gives, q)
		}
	}
	return x
}

// First is the channel that stands for the seat where one answer is enough.
func (x *Seat) First() *Member { return x.Members[0] }

// Channels lists the instruments with their channels, for messages.
func (x *Seat) Channels() string {
	var all []string
	for _, m := range x.Members {
		all = append(all, fmt.Sprintf("channel %d of %s", m.Number, m.Name))
	}
	return strings.Join(all, " and ")
}

// Share is what each member of the gang is set to so that together they give a value.
func (x *Seat) Share(q string, value float64) float64 {
	n := float64(len(x.Members))
	q = quantity.WholeOf(q)
	switch {
	case x.Gang == api.GangSeries && (q == "volts" || q == "floor" || q == "watts" || q == "ohms"),
		x.Gang == api.GangParallel && (q == "amps" || q == "watts"):
		return value / n
	case x.Gang == api.GangParallel && q == "ohms":
		return value * n
	}
	return value
}

// Joined makes one reading of those of the members.
func (x *Seat) Joined(q string, readings []float64) float64 {
	q = quantity.WholeOf(q)
	sum, most := 0.0, math.Inf(-1)
	for _, r := range readings {
		sum += r
		most = math.Max(most, r)
	}
	switch {
	case len(readings) == 1:
		return readings[0]
	case q == "watts", q == "energy", x.Gang == api.GangSeries && q == "volts",
		x.Gang == api.GangParallel && (q == "amps" || q == "charge"):
		return sum
	case q == "celsius":
		return most
	}
	if kind, _ := quantity.KindOf(q); kind.State {
		return most
	}
	return sum / float64(len(readings))
}

// ReadSpec is the accuracy of a reading with what its sensor makes of it: gains stay, offsets and ranges add up where
// the channels of a gang share the quantity, or where we add up phases.
func (x *Seat) ReadSpec(q string) uncertainty.Spec {
	sensor, corrected := x.Config.Sensors[q]
	from := q
	if corrected && sensor.From != "" {
		from = sensor.From
	}
	spec := x.First().Dialect.ReadRange(from).Scaled(x.summed(from))
	if share := x.Share(from, 1); share != 0 {
		spec = spec.Scaled(1 / share)
	}
	if corrected && sensor.Scale != 0 {
		spec = spec.Scaled(sensor.Scale)
	}
	if x.Config.Wiring != "" && q == "watts" {
		spec = spec.Wired(x.Config.Wiring)
	}
	if leads := x.Leads(); leads.Ohms > 0 && (q == "volts" || q == "watts") {
		spec = spec.Behind(leads)
	}
	return spec
}

// summed is how many phases are added up here; 1 for what the instrument gives as it is. Their offsets may all be off
// the same way. A mean of phases is as accurate as each.
func (x *Seat) summed(q string) float64 {
	kind, _ := quantity.KindOf(q)
	if kind.Parts.Phases != quantity.Summed || slices.Contains(x.First().gives, q) {
		return 1
	}
	return float64(max(len(x.First().phasesOf(q)), 1))
}

// Most is the largest value that can be set.
func (x *Seat) Most(q string) (float64, bool) {
	most, ok := x.First().Dialect.Most(q)
	if !ok {
		return 0, false
	}
	return most / x.Share(q, 1), true
}

// apply carries out one setting on every member.
func (x *Seat) apply(ctx context.Context, s procedure.Setting) error {
	for _, level := range x.levels(s) {
		if err := x.send(ctx, level); err != nil {
			return err
		}
	}
	if s.Quantity == seats.Sensed {
		x.Senses(s.Word)
	}
	return nil
}

func (x *Seat) send(ctx context.Context, s procedure.Setting) error {
	var errs []error
	for _, m := range x.Members {
		if s.Word != "" {
			errs = append(errs, m.drive.SetWord(ctx, s.Quantity, s.Word))
		} else {
			errs = append(errs, m.drive.Set(ctx, s.Quantity, x.Share(s.Quantity, s.Value)))
		}
	}
	return errors.Join(errs...)
}

// Within is how long one command to the seat may take at most.
func (x *Seat) Within() time.Duration {
	var sum time.Duration
	for _, m := range x.Members {
		sum += m.Dialect.Within + 200*time.Millisecond
	}
	return sum
}

// Energised tells whether the output may be on: from before it is switched on until it is read back as off.
func (x *Seat) Energised() bool { return x.energised.Load() }

// switchOff switches the output off and reads it back. Only then the seat counts as not energised.
func (x *Seat) switchOff(ctx context.Context) error {
	if !x.Kind.HasOutput() {
		return nil
	}
	x.goesOff()
	errs := make([]error, len(x.Members))
	var others sync.WaitGroup
	for i, m := range x.Members[1:] {
		others.Go(func() { errs[i+1] = m.confirmOff(ctx) })
	}
	errs[0] = x.First().confirmOff(ctx)
	others.Wait()
	err := errors.Join(errs...)
	if err == nil {
		x.energised.Store(false)
	}
	return err
}

// Driver is what this package asks of a channel. In tests it is a fake.
type Driver interface {
	// Read takes one reading of everything that the channel gives, SI.
	Read(ctx context.Context, values []float64) error
	// Set and SetWord make a setting, SwitchOff switches the output off in the quickest way.
	Set(ctx context.Context, quantity string, value float64) error
	SetWord(ctx context.Context, quantity, word string) error
	SwitchOff(ctx context.Context) error
	// OutputOn reads the output back; true with an error, since it may be on.
	OutputOn(ctx context.Context) (bool, error)
	// Identify asks who the instrument is.
	Identify(ctx context.Context) (string, error)
	// Tripped asks whether a protection of the channel has tripped.
	Tripped(ctx context.Context) (bool, error)
	// ArmWatchdog and DisarmWatchdog are about the watchdog that looks after the channel, which others may share.
	ArmWatchdog(ctx context.Context) error
	DisarmWatchdog(ctx context.Context) error
	// Send carries out a message of the dialect that is no setting, such as one to a watchdog.
	Send(ctx context.Context, doing string, message dialect.Setter, value float64) error
}

// Member is one channel of a seat, with the goroutine that reads it.
type Member struct {
	*instrument.Channel
	seat  *Seat
	drive Driver // the channel itself
	gives []string
	ask   chan struct{} // asks the reader for one reading

	trips trips

	// What follows is guarded by mu of the sampler's readings.
	reading reading
}

func newMember(x *Seat, c *instrument.Channel) *Member {
	return &Member{Channel: c, seat: x, drive: c, gives: c.Dialect.Gives()}
}

// confirmOff switches the channel off, urgently, and reads it back. That are three exchanges, as what is read back is
// asked twice, of which one alone may take as long as the dialect says.
func (m *Member) confirmOff(ctx context.Context) error {
	attempt, cancel := context.WithTimeout(messages.Urgent(ctx), m.Dialect.Within*3/2+200*time.Millisecond)
	defer cancel()
	setErr := m.drive.SwitchOff(attempt)
	on, err := m.drive.OutputOn(attempt)
	switch {
	case err != nil:
		return errors.Join(setErr, err)
	case on:
		return errors.Join(setErr, errors.New("it reads back as on"))
	}
	return nil
}

// StopProgram stops a program that is still playing, as one that a killed service left behind.
func (m *Member) StopProgram(ctx context.Context) error {
	program := m.Dialect.Program
	if !program.Stop.Exists() || program.Running.Message == "" {
		return nil
	}
	playing, err := m.YesNo(ctx, program.Running)
	if err != nil || !playing {
		return err
	}
	return m.Send(ctx, "stop the program", program.Stop, 0)
}

// phasesOf lists where the phases are of which the instrument leaves the sum or mean to us; empty: it gives none.
func (m *Member) phasesOf(q string) (phases []int) {
	for i, reading := range m.gives {
		whole, part, _ := quantity.Split(reading)
		if whole.Name == q && part == (quantity.Part{Phase: part.Phase}) && part.Phase > 0 {
			phases = append(phases, i)
		}
	}
	kind, _ := quantity.KindOf(q)
	if _, ok := kind.Parts.Phases.Whole(make([]float64, len(phases))); !ok {
		return nil
	}
	return phases
}

// newest is what the channel last read of a quantity; ok is false if it does not. The reading is locked.
func (m *Member) newest(q string) (value float64, ok bool) {
	if i := slices.Index(m.gives, q); i >= 0 {
		return m.reading.values[i], true
	}
	var phases []float64
	for _, i := range m.phasesOf(q) {
		phases = append(phases, m.reading.values[i])
	}
	kind, _ := quantity.KindOf(q)
	return kind.Parts.Phases.Whole(phases)
}

// Newest is what the channel last read of a quantity, if that is not older than the given time.
func (m *Member) Newest(q string, within time.Duration) (value float64, ok bool) {
	m.reading.mu.Lock()
	defer m.reading.mu.Unlock()
	if time.Since(m.reading.lastGood) >= within {
		return 0, false
	}
	return m.newest(q)
}

// Usual is how long an answer takes, a moving average; 0 before the first.
func (m *Member) Usual() time.Duration {
	m.reading.mu.Lock()
	defer m.reading.mu.Unlock()
	return m.reading.usual
}
