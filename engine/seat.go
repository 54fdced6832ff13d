package engine

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
	"usherbench/instrument"
	"usherbench/instrument/messages"
)

// seat is a function of a bay with the channels that fill it: one, or a gang that works as one.
type seat struct {
	name    string
	kind    seats.Kind
	gang    string // "", gangSeries or gangParallel
	members []*member
	gives   []string // what it reads
	config  api.SeatConfig
	// energised is true from before the output is switched on until it is read back as off.
	energised atomic.Bool
	uneven    time.Time // since when the members have shared unevenly; owned by the sampler's caller
}

// The gangs.
const (
	gangSeries   = "series"
	gangParallel = "parallel"
)

func newSeat(name string, c api.SeatConfig, instruments map[string]*instrument.Instrument) *seat {
	kind, _ := seats.KindOf(name)
	x := &seat{name: name, kind: kind, gang: c.Gang, config: c}
	for _, ref := range c.All() {
		x.members = append(x.members, newMember(x, instruments[ref.Instrument].Channel(max(ref.Channel, 1), kind.Name)))
	}
	x.gives = slices.Clone(x.members[0].gives)
	for q, sensor := range c.Sensors {
		if sensor.From != "" && !slices.Contains(x.gives, q) {
			x.gives = append(x.gives, q)
		}
	}
	return x
}

// first is the channel that stands for the seat where one answer is enough.
func (x *seat) first() *member { return x.members[0] }

// names lists the instruments with their channels, for messages.
func (x *seat) channels() string {
	var all []string
	for _, m := range x.members {
		all = append(all, fmt.Sprintf("channel %d of %s", m.Number, m.Name))
	}
	return strings.Join(all, " and ")
}

// share is what each member of the gang is set to so that together they give a value.
func (x *seat) share(q string, value float64) float64 {
	n := float64(len(x.members))
	switch {
	case x.gang == gangSeries && (q == "volts" || q == "watts" || q == "ohms"),
		x.gang == gangParallel && (q == "amps" || q == "watts"):
		return value / n
	case x.gang == gangParallel && q == "ohms":
		return value * n
	}
	return value
}

// joined makes one reading of those of the members.
func (x *seat) joined(q string, readings []float64) float64 {
	sum, most := 0.0, math.Inf(-1)
	for _, r := range readings {
		sum += r
		most = math.Max(most, r)
	}
	switch {
	case len(readings) == 1:
		return readings[0]
	case q == "watts", x.gang == gangSeries && q == "volts", x.gang == gangParallel && q == "amps":
		return sum
	case q == "limited", q == "celsius":
		return most
	}
	return sum / float64(len(readings))
}

// spec is the accuracy of what the gang reads or sets: gains stay, offsets and ranges add up where shares do.
func (x *seat) spec(q string, of uncertainty.Spec) uncertainty.Spec {
	factor := 1 / x.share(q, 1)
	if factor == 1 || math.IsInf(factor, 0) {
		return of
	}
	scaled := slices.Clone(of)
	for i := range scaled {
		scaled[i].To *= factor
		scaled[i].Offset *= factor
		scaled[i].Resolution *= factor
	}
	return scaled
}

// readSpec is the accuracy of a reading with what its sensor makes of it.
func (x *seat) readSpec(q string) uncertainty.Spec {
	sensor, corrected := x.config.Sensors[q]
	from := q
	if corrected && sensor.From != "" {
		from = sensor.From
	}
	spec := x.spec(from, x.first().Dialect.ReadRanges[from])
	if !corrected || sensor.Scale == 0 {
		return spec
	}
	scaled := slices.Clone(spec)
	for i := range scaled {
		scaled[i].To *= math.Abs(sensor.Scale)
		scaled[i].Offset *= math.Abs(sensor.Scale)
		scaled[i].Resolution *= math.Abs(sensor.Scale)
	}
	return scaled
}

// most is the largest value that can be set.
func (x *seat) most(q string) (float64, bool) {
	most, ok := x.first().Dialect.Most(q)
	if !ok {
		return 0, false
	}
	return most / x.share(q, 1), true
}

// apply carries out one setting on every member.
func (x *seat) apply(ctx context.Context, s procedure.Setting) error {
	var errs []error
	for _, m := range x.members {
		if s.Word != "" {
			errs = append(errs, m.SetWord(ctx, s.Quantity, s.Word))
		} else {
			errs = append(errs, m.Set(ctx, s.Quantity, x.share(s.Quantity, s.Value)))
		}
	}
	return errors.Join(errs...)
}

// within is how long one command to the seat may take at most.
func (x *seat) within() time.Duration {
	var sum time.Duration
	for _, m := range x.members {
		sum += m.Dialect.Within + 200*time.Millisecond
	}
	return sum
}

// switchOff switches the output off and reads it back.
func (x *seat) switchOff(ctx context.Context) error {
	if !x.kind.HasOutput() {
		return nil
	}
	var errs []error
	for _, m := range x.members {
		errs = append(errs, m.confirmOff(ctx))
	}
	return errors.Join(errs...)
}

// member is one channel of a seat, with the goroutine that reads it.
type member struct {
	*instrument.Channel
	seat  *seat
	gives []string
	ask   chan struct{} // asks the reader for one reading

	// What follows is guarded by mu of the sampler's readings.
	reading reading
}

func newMember(x *seat, c *instrument.Channel) *member {
	return &member{Channel: c, seat: x, gives: c.Dialect.Gives()}
}

func (m *member) confirmOff(ctx context.Context) error {
	attempt, cancel := context.WithTimeout(messages.Urgent(ctx), m.Dialect.Within+200*time.Millisecond)
	defer cancel()
	setErr := m.Channel.SwitchOff(attempt)
	on, err := m.OutputOn(attempt)
	switch {
	case err != nil:
		return errors.Join(setErr, err)
	case on:
		return errors.Join(setErr, errors.New("it reads back as on"))
	}
	return nil
}
