package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/core/document"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/engine/outputs"
	"usherbench/instrument/dialect"
	"usherbench/store"
)

// Set sets something by hand. It is refused while a run owns the bay.
func (b *Bay) Set(ctx context.Context, by string, request api.ManualSet) error {
	asked := time.Now()
	setting, x, err := b.parseManual(request)
	if err != nil {
		return fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	defer b.hand.Enter()() // what several set by hand is done one after the other
	off := setting.Quantity == seats.Output && setting.Word == seats.Off
	o, err := b.own(claim{state: api.BayStarting, word: passes, by: by, asked: asked, offOnly: off})
	if err != nil {
		return err
	}
	defer b.release(o)
	// On record before it is done, so that a service killed meanwhile finds what to switch off. What only switches off
	// does not wait for that.
	entry := store.JournalEntry{By: by, Bay: b.name, What: setByHand, Detail: setting.String()}
	if off {
		b.engine.journal.Add(entry)
	} else if err := b.engine.journal.Write(ctx, entry); err != nil {
		return fmt.Errorf("%w: nothing was set: %w; free some disk space", ErrNotReady, err)
	}
	b.somebodyIsThere()
	var setErr error
	what := "nothing was on"
	if err := b.do(ctx, func() {
		if setting.Quantity == seats.Output && setting.Word == seats.On {
			b.outputs.InUse(true) // here, where nobody is making safe, who would forget it
		}
		if setErr = b.outputs.Apply(ctx, x, setting); setErr == nil || !b.outputs.Energised() {
			return
		}
		// Nobody knows what the instrument does now.
		what = "the outputs of the bay were made safe"
		if b.outputs.MakeSafe("setting by hand failed", "") != nil {
			what = "the outputs of the bay could not be confirmed off, look at the alarm"
		}
	}); err != nil {
		return err
	}
	if setErr == nil {
		return nil
	}
	b.engine.Journal(store.JournalEntry{By: "service", Bay: b.name, What: "set by hand failed", Detail: setting.String() +
		": " + setErr.Error() + "; " + what})
	return fmt.Errorf("%w: %s: %w; %s", ErrNotDone, setting, setErr, what)
}

func (b *Bay) parseManual(r api.ManualSet) (procedure.Setting, *outputs.Seat, error) {
	x := b.seat(r.Seat)
	if x == nil {
		return procedure.Setting{}, nil, fmt.Errorf("%s has no seat %q; %s", b.name, r.Seat,
			document.Suggest(r.Seat, b.outputs.Names()))
	}
	s, err := bench.ReadSetting(x.First().Dialect, r.Seat, r.Quantity, r.Value)
	if err != nil {
		return s, nil, err
	}
	if most, ok := x.Most(s.Quantity); ok && s.Word == "" && (s.Value > most || s.Value < -most) {
		return s, nil, fmt.Errorf("%s is above the %s that %s can do; stay below", s, dialect.Show(s.Quantity, most),
			x.Channels())
	}
	return s, x, nil
}

// controls are what can be set by hand on a seat. The bay's mutex is held.
func (b *Bay) controls(x *outputs.Seat) []api.Control {
	d := x.First().Dialect
	list := []api.Control{}
	settings := slices.Clone(x.Kind.Sets)
	for _, choice := range x.Kind.Choices {
		settings = append(settings, choice.Name)
	}
	for _, q := range settings {
		c := api.Control{Quantity: q}
		_, number := d.Set[q]
		switch {
		case d.Words[q] != nil:
			c.Words = slices.Sorted(maps.Keys(d.Words[q]))
			if q == seats.Output {
				c.Words = []string{"off", "on"}
			}
		case number:
			kind, _ := quantity.KindOf(q)
			c.Unit = kind.Unit.Symbol
			if most, ok := x.Most(q); ok {
				if w, limited := b.windows[x.Name+"."+q]; limited {
					most = min(most, w.Max)
				}
				most /= kind.Unit.Factor
				c.Most = &most
			}
		default:
			continue
		}
		if s, ok := b.outputs.InForce(x.Name + "." + q); ok {
			c.Value = s.Word
			if s.Word == "" {
				c.Value = dialect.Show(q, s.Value)
			}
		}
		list = append(list, c)
	}
	return list
}

// boundBy bounds the steppers of manual control by the windows of the nameplate of the bay's last unit.
func (b *Bay) boundBy(text string) {
	b.windows, b.net.bounds, b.rated = nil, nil, nil
	if plate, err := nameplate.Parse([]byte(text)); text != "" && err == nil {
		b.windows, b.net.bounds = plate.Windows, boundsByHand(plate)
		b.rated = plate.RatedOf(b.sampler.Columns)
	}
}

// TakeOver writes what is set now as a stage of a procedure, and as defaults of the seats. What was not set
// since the start is read back from the instruments where the dialects can.
func (b *Bay) TakeOver(ctx context.Context) (api.TakenOver, error) {
	taken := api.TakenOver{Defaults: map[string]map[string]string{}}
	var text strings.Builder
	text.WriteString("- name: as set by hand\n  set:\n")
	any := false
	for _, x := range b.outputs.OffOrder() {
		var parts []string
		values := map[string]string{}
		mode := ""
		for _, q := range x.Kind.Sets { // the mode stands first
			value, err := b.present(ctx, x, q)
			if err != nil {
				return taken, fmt.Errorf("%w: %w", ErrNotReady, err)
			}
			if q == seats.Mode {
				mode = value
			}
			if value == "" || levelOf[mode] != "" && q != seats.Mode && q != seats.Output && q != levelOf[mode] {
				continue
			}
			parts = append(parts, q+": "+value)
			if q != seats.Output {
				values[q] = value
			}
		}
		if len(parts) > 0 {
			any = true
			fmt.Fprintf(&text, "    %s: {%s}\n", x.Name, strings.Join(parts, ", "))
			taken.Defaults[x.Name] = values
		}
	}
	if !any {
		return taken,
			fmt.Errorf("%w: nothing was set by hand in %s, and its instruments cannot say what is set; set something first",
				ErrNotReady, b.name)
	}
	taken.Stage = text.String()
	return taken, nil
}

// levelOf is the quantity that a mode of a load keeps constant; the levels of its other modes say nothing.
var levelOf = map[string]string{"voltage": "volts", "current": "amps", "power": "watts", "resistance": "ohms"}

// present is what a quantity is set to now, as text; empty if nobody knows.
func (b *Bay) present(ctx context.Context, x *outputs.Seat, q string) (string, error) {
	if q == seats.Output {
		on, err := x.First().OutputOn(ctx)
		return map[bool]string{true: "on", false: "off"}[on], err
	}
	if x.First().Dialect.Words[q] != nil {
		if word, ok, err := x.First().Word(ctx, q); ok {
			return word, err
		}
	} else if value, ok, err := x.First().Setting(ctx, q); ok {
		return dialect.Show(q, value/x.Share(q, 1)), err
	}
	s, ok := b.outputs.InForce(x.Name + "." + q)
	switch {
	case !ok:
		return "", nil
	case s.Word != "":
		return s.Word, nil
	}
	return dialect.Show(q, s.Value), nil
}

// ChangeSensor zeroes, calibrates or replaces a sensor of a seat and keeps it in the configuration.
func (b *Bay) ChangeSensor(by, seatName, q string, change api.SensorChange) error {
	x := b.seat(seatName)
	kind, known := seats.KindOf(seatName)
	if x == nil || !known {
		return fmt.Errorf("%w: %s has no seat %q; %s", api.ErrBadRequest, b.name, seatName,
			document.Suggest(seatName, b.outputs.Names()))
	}
	if !kind.CanRead(q) {
		return fmt.Errorf("%w: a %s has no %q; %s", api.ErrBadRequest, kind.Name, q, document.Suggest(q, kind.Reads))
	}
	sensor := x.Config.Sensors[q]
	switch {
	case change.Sensor != nil:
		sensor = *change.Sensor
	case change.Zero:
		reading, err := b.unsensed(x, q)
		if err != nil {
			return err
		}
		scale := sensor.Scale
		if scale == 0 {
			scale = 1
		}
		sensor.Zero = reading + sensor.Offset/scale
	case len(change.Points) == 2 && change.Points[0].Reading != change.Points[1].Reading &&
		change.Points[0].True != change.Points[1].True:
		p, r := change.Points[0], change.Points[1]
		sensor.Scale = (r.True - p.True) / (r.Reading - p.Reading)
		sensor.Zero, sensor.Offset = p.Reading, p.True
	default:
		return fmt.Errorf("%w: a sensor is zeroed, calibrated by two different points, or replaced; send zero, points or "+
			"sensor", api.ErrBadRequest)
	}
	config := b.config
	config.Seats = maps.Clone(config.Seats)
	seat := config.Seats[seatName]
	seat.Sensors = maps.Clone(seat.Sensors)
	if seat.Sensors == nil {
		seat.Sensors = map[string]api.SensorConfig{}
	}
	if seat.Sensors[q] = sensor; sensor == (api.SensorConfig{}) {
		delete(seat.Sensors, q)
	}
	config.Seats[seatName] = seat
	return b.engine.bench.PutBay(by, b.name, config)
}

// unsensed is what the source of a sensor reads now.
func (b *Bay) unsensed(x *outputs.Seat, q string) (float64, error) {
	from := q
	if s := x.Config.Sensors[q]; s.From != "" {
		from = s.From
	}
	readings := make([]float64, 0, len(x.Members))
	for _, m := range x.Members {
		reading, fresh := m.Newest(from, time.Duration(b.config.LostAfter))
		if !fresh {
			return 0, fmt.Errorf("%w: %s does not read %s now", ErrNotReady, m.Name, from)
		}
		readings = append(readings, reading)
	}
	return x.Joined(from, readings), nil
}
