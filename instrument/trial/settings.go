package trial

import (
	"errors"
	"fmt"
	"slices"

	"usherbench/core/seats"
)

func (t *trial) program(as string) {
	p := t.channel.Dialect.Program
	if !p.Levels.Exists() {
		return
	}
	t.step(as+"program", p.Levels.Place, func() (string, string, error) {
		dwell := p.Shortest.Seconds() * 10
		return "two levels loaded, not started", "", t.channel.LoadProgram(t.ctx, []float64{0, 0}, []float64{dwell, dwell}, 1)
	})
}

// energise switches the output on with every setpoint at its least, and off again.
func (t *trial) energise(as string) {
	d := t.channel.Dialect
	t.step(as+"output on", d.Words[seats.Output][seats.On].Place, func() (string, string, error) {
		for q := range d.Set {
			least := 0.0
			if most, ok := d.Most(q); ok && q == "ohms" {
				least = most
			}
			if err := t.channel.Set(t.ctx, q, least); err != nil {
				return "", "", err
			}
		}
		err := t.channel.SetWord(t.ctx, seats.Output, "on")
		on, confirmErr := t.channel.OutputOn(t.ctx)
		if err = errors.Join(err, confirmErr); err == nil && !on {
			err = errors.New("after on it reads back as off")
		}
		if err == nil {
			if err = t.alone(); err != nil {
				return "", "write {channel} where the number of the channel goes, or say how one is chosen: select", err
			}
		}
		return "it reads back as on; switched off again", "compare output and confirm with the manual", err
	})
	t.off(as)
}

// alone tells whether a channel that is on is the only one. Its neighbours were off before, or somebody uses them;
// those that are on with it are asked once more when it is off.
func (t *trial) alone() error {
	on, err := t.neighboursOn()
	if err != nil || len(on) == 0 {
		return err
	}
	if err := t.channel.SwitchOff(t.ctx); err != nil {
		return err
	}
	still, err := t.neighboursOn()
	if err != nil {
		return err
	}
	for _, n := range on {
		if !slices.Contains(still, n) {
			return fmt.Errorf("channel %d goes on and off with channel %d: the messages do not tell them apart", n,
				t.channel.Number)
		}
	}
	return nil
}

// neighboursOn lists the other channels that read back as on.
func (t *trial) neighboursOn() (on []int, err error) {
	for n := 1; n <= t.channel.Dialect.Channels; n++ {
		if n == t.channel.Number {
			continue
		}
		is, err := t.channel.Instrument.Channel(n, t.kind).OutputOn(t.ctx)
		if err != nil {
			return nil, err
		}
		if is {
			on = append(on, n)
		}
	}
	return on, nil
}

// off switches the output off and reads it back.
func (t *trial) off(as string) bool {
	d := t.channel.Dialect
	off := d.Words[seats.Output][seats.Off]
	if !t.step(as+"output off", off.Place, func() (string, string, error) {
		err := t.channel.SwitchOff(t.ctx)
		return "sent", t.headerIf(err, off, ""), err
	}) {
		return false
	}
	return t.step(as+"confirm", d.Confirm.Place, func() (string, string, error) {
		on, err := t.channel.OutputOn(t.ctx)
		if err == nil && on {
			return "", "if the output is off, on and off are written the wrong way round: swap them",
				errors.New("after off it reads back as on")
		}
		return "it reads back as off", t.yesNoRemedy(d.Confirm, err), err
	})
}
