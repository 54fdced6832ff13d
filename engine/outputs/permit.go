package outputs

import (
	"context"
	"errors"
)

// Permit is the leave to energise that whoever owns a bay has while it does. A stop voids it, and a void permit never
// becomes good again: what was begun before the stop cannot energise after it, whoever says go on meanwhile.
type Permit struct {
	ctx  context.Context
	void context.CancelCauseFunc
}

// ErrNoPermit means that nobody owns the bay, so that nothing in it may go on.
var ErrNoPermit = errors.New("nobody owns the bay")

// NewPermit makes a permit that is good until it is voided or the context ends.
func NewPermit(ctx context.Context) *Permit {
	p := &Permit{}
	p.ctx, p.void = context.WithCancelCause(ctx)
	return p
}

// Void ends the permit for ever. What is being done with it fails before its next message leaves. The first reason
// stays.
func (p *Permit) Void(why error) { p.void(why) }

// Err says why the permit is void; nil while it is good.
func (p *Permit) Err() error { return context.Cause(p.ctx) }

// Context ends when the permit becomes void. A message that is sent with it is not sent afterwards: the connection
// asks it last of all, when it is the message's turn.
func (p *Permit) Context() context.Context { return p.ctx }

// Join ends a context with the permit too.
func (p *Permit) Join(ctx context.Context) (context.Context, context.CancelFunc) {
	if ctx == p.ctx {
		return ctx, func() {}
	}
	joined, cancel := context.WithCancelCause(ctx)
	stop := context.AfterFunc(p.ctx, func() { cancel(p.Err()) })
	return joined, func() {
		stop()
		cancel(nil)
	}
}

// Grant gives the bay's outputs to whoever has the permit, in place of who had them before; nil: to nobody.
func (s *Switchboard) Grant(p *Permit) { s.permit.Store(p) }

// permitted gives the permit of whoever owns the bay; the error says why nothing may be set.
func (s *Switchboard) permitted() (*Permit, error) {
	p := s.permit.Load()
	if p == nil {
		return nil, ErrNoPermit
	}
	return p, p.Err()
}
