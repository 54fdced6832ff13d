package instrument

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"usherbench/instrument/dialect"
	"usherbench/instrument/lane"
	"usherbench/instrument/messages"
)

// proveEvery is how often an instrument that is spoken to is asked who it is. An instrument that has fallen out of
// step, so that it answers the question before, gives readings that look like readings: volts for amps. Who it is it
// then cannot say.
const proveEvery = 2 * time.Second

// proven is a tongue of which it is known, whenever it says something, that the instrument of the dialect speaks
// and that it answers what it was asked: that is proved after every connection and every two seconds. What makes
// safe does not wait for a proof.
type proven struct {
	tongue
	of   *Instrument
	last atomic.Pointer[proof] // nil: not proved yet
	// doubt is why it could not be proved; nil: it could.
	doubt atomic.Pointer[doubt]
	// twice says that who it is was asked last. An instrument that answers the question before says who it is when it is
	// asked that twice, so it must be asked something else first.
	twice atomic.Bool
	// proving is taken while it is proved: of several who want to know one asks.
	proving lane.Lane
	// believed says that it is not proved.
	believed atomic.Bool
}

// Believe has the instrument believed whatever it says of itself: for trying a dialect that is being written.
func (i *Instrument) Believe() { i.tongue.believed.Store(true) }

// doubt is why an instrument was not proved, and until when nobody tries again.
type doubt struct {
	why   error
	until time.Time
}

// proveAgain is how soon an instrument is asked again who it is that did not say it.
const proveAgain = 200 * time.Millisecond

// proof is that the instrument has said who it is.
type proof struct {
	at   time.Time
	link uint64 // the connection over which it has
}

// identify asks who the instrument is. The identity is returned also with [*WrongIdentity], after which the
// connection is given up, so that answers that are on their way answer nothing.
func (p *proven) identify(ctx context.Context) (string, error) {
	leave, err := p.proving.Take(ctx)
	if err != nil {
		return "", err
	}
	defer leave()
	identity, err := p.askIdentity(ctx)
	var other *WrongIdentity
	if err != nil && ctx.Err() == nil && !errors.As(err, &other) && !TimeIsUp(err) && !Refused(err) {
		// Of an instrument that was left alone nobody has noticed that its connection is gone: it is made again, once.
		return p.askIdentity(ctx)
	}
	return identity, err
}

// askIdentity is identify for who has taken proving.
func (p *proven) askIdentity(ctx context.Context) (string, error) {
	id := p.of.Dialect.Identity
	if id.Match == nil {
		return "", nil
	}
	if p.twice.Swap(true) || p.doubt.Load() != nil {
		if err := p.askAnything(ctx); err != nil {
			return "", err
		}
	}
	identity, err := p.tongue.ask(ctx, p.of.Dialect, id.Ask, 1)
	if err != nil {
		return "", err
	}
	if !id.Match.MatchString(identity) {
		p.last.Store(nil)
		err := &WrongIdentity{identity, p.of.Dialect.Name, id.Match.String()}
		p.doubt.Store(&doubt{err, time.Now().Add(proveAgain)})
		if !p.believed.Load() {
			p.tongue.giveUp()
		}
		return identity, err
	}
	p.doubt.Store(nil)
	p.last.Store(&proof{time.Now(), p.trace().Link()})
	return identity, nil
}

// askAnything asks something other than who the instrument is.
func (p *proven) askAnything(ctx context.Context) error {
	d := p.of.Dialect
	q := d.Confirm
	if len(d.Read) > 0 {
		q = d.Read[0]
	}
	if q.Message == "" {
		return nil // by registers it is proved by the lengths of the answers
	}
	_, err := p.tongue.ask(ctx, d, q, 1)
	return err
}

// prove sees to it that the instrument is known to be the right one, in step.
func (p *proven) prove(ctx context.Context) error {
	if p.of.Dialect.Identity.Match == nil || messages.IsUrgent(ctx) || p.believed.Load() || p.known() {
		return nil // one whose dialect has no identity is believed
	}
	leave, err := p.proving.Take(ctx)
	if err != nil {
		return err
	}
	defer leave()
	if p.known() {
		return nil
	}
	if d := p.doubt.Load(); d != nil && time.Now().Before(d.until) {
		return d.why
	}
	_, err = p.askIdentity(ctx)
	return err
}

// known tells whether it was proved a short time ago, over the connection that there is.
func (p *proven) known() bool {
	last := p.last.Load()
	return last != nil && time.Since(last.at) < proveEvery && last.link == p.trace().Link()
}

func (p *proven) set(ctx context.Context, d *dialect.Dialect, s dialect.Setter, channel int, value float64) error {
	if err := p.prove(ctx); err != nil {
		return err
	}
	p.twice.Store(false)
	return p.tongue.set(ctx, d, s, channel, value)
}

func (p *proven) ask(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int) (string, error) {
	if err := p.prove(ctx); err != nil {
		return "", err
	}
	p.twice.Store(false)
	return p.tongue.ask(ctx, d, q, channel)
}

func (p *proven) confirm(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int) (string, error) {
	if err := p.prove(ctx); err != nil {
		return "", err
	}
	p.twice.Store(false)
	return p.tongue.confirm(ctx, d, q, channel)
}

func (p *proven) read(ctx context.Context, d *dialect.Dialect, q dialect.Query, channel int, values []float64) error {
	if err := p.prove(ctx); err != nil {
		return err
	}
	p.twice.Store(false)
	return p.tongue.read(ctx, d, q, channel, values)
}
