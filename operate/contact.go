package operate

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/core/condition"
	"usherbench/core/document"
	"usherbench/core/trace"
)

// looksEvery is how often the readings of a bay are looked at whose tests begin by contact.
const looksEvery = 100 * time.Millisecond

// contact is the condition by which tests begin, over the readings of a bay that is idle.
type contact struct {
	*condition.Condition
	columns []string
}

// contactOf reads the condition of a place; what it may name is what its bay reads.
func contactOf(b api.Bay, text string) (*contact, error) {
	if strings.TrimSpace(text) == "" {
		return nil, errors.New("say what shows that a unit is in place, such as meter.volts > 3 V for 0.5 s")
	}
	c := &contact{}
	for column := range b.Readings {
		c.columns = append(c.columns, column)
	}
	slices.Sort(c.columns)
	compiled, err := condition.Compile(text, func(name string) (condition.Ref, error) {
		i := slices.Index(c.columns, name)
		if i < 0 {
			return condition.Ref{}, fmt.Errorf("%s does not read %q; %s", b.Name, name, document.Suggest(name, c.columns))
		}
		return condition.Ref{Column: i, Dim: trace.UnitOf(name).Dim}, nil
	})
	c.Condition = compiled
	return c, err
}

// wasSo is for how long the readings are taken to have been as they are when somebody begins to look at them, s.
const wasSo = 60

// before takes the readings as if they had been so for a while: what lies in the bay already does not appear.
func (c *contact) before(b api.Bay, t float64) {
	for k := wasSo / looksEvery.Seconds(); k > 0; k-- {
		c.holds(b, t-k*looksEvery.Seconds())
	}
}

// holds takes the readings of the bay.
func (c *contact) holds(b api.Bay, t float64) condition.Truth {
	values := make([]float64, len(c.columns))
	for i, column := range c.columns {
		values[i] = math.NaN()
		if x := b.Readings[column]; x != nil {
			values[i] = *x * trace.UnitOf(column).Factor
		}
	}
	return c.Evaluate(condition.Sample{T: t, StageT: t, Columns: values})
}

// watchContacts begins the tests of the places whose condition comes true. After a test the unit must be gone, and the
// condition no longer hold, before it begins another. While no place begins by contact it sleeps.
func (p *Places) watchContacts() {
	began := time.Now()
	watched := map[string]*contact{}
	for {
		any := false
		for _, now := range p.All() {
			if now.Setup.Begins != api.BeginsByContact {
				delete(watched, now.Bay)
				continue
			}
			any = true
			p.look(now, watched, time.Since(began).Seconds())
		}
		var again <-chan time.Time
		if any {
			again = time.After(looksEvery)
		}
		select {
		case <-p.ctx.Done():
			return
		case <-p.setUp:
		case <-again:
		}
	}
}

// look looks once at the readings of a bay.
func (p *Places) look(now api.Place, watched map[string]*contact, t float64) {
	b, err := p.engine.Bay(now.Bay)
	if err != nil || !b.Free() {
		return
	}
	place, err := p.of(now.Bay)
	if err != nil {
		return
	}
	status := b.Status()
	c := watched[now.Bay]
	if c == nil || c.Text != now.Setup.When || len(c.columns) != len(status.Readings) {
		if c, err = contactOf(status, now.Setup.When); err != nil {
			return // the bay was made anew and reads something else: it is begun by key
		}
		watched[now.Bay], place.armed = c, false
		c.before(status, t)
	}
	truth := c.holds(status, t)
	place.armed = place.armed || truth == condition.False // a reading that is missing does not tell that the unit is gone
	waits := now.Unit == nil && now.Setup.Make || now.Unit != nil && now.Unit.Run == "" && len(now.Unit.Wanted) == 0
	if truth != condition.True || !place.armed || !waits {
		return
	}
	place.armed = false
	_, err = p.change(p.ctx, now.Bay, func(place *Place) error { return place.contacted() })
	if err != nil {
		p.log.Warn("begin by contact", "bay", now.Bay, "err", err)
	}
}

// contacted begins the test of the unit that was scanned, or of one whose serial number is made.
func (p *Place) contacted() error {
	setup := p.kept.Setup
	if setup == nil || setup.Begins != api.BeginsByContact {
		return nil
	}
	if p.kept.Unit == nil {
		if !setup.Make {
			return nil
		}
		u, err := p.take("contact", "")
		if err != nil {
			return err
		}
		p.kept.Unit = u
	}
	if u := p.kept.Unit; u.Run == "" && len(u.Wanted) == 0 {
		p.begin(p.places.ctx, u.By, byItself)
	}
	return nil
}
