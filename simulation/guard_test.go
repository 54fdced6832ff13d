package simulation

import (
	"context"
	"io"
	"slices"
	"time"

	"usherbench/instrument/transport/memory"
	"usherbench/warden"
)

// guard is a warden in this process.
type guard struct {
	*memory.Conn // the service's end of its words
	reports      *memory.Conn
	owner        *process
	end          func() // as if it were killed
	done         chan struct{}
	err          error
}

// newGuard starts a warden that looks after a service.
func (h *house) newGuard(p *process, log string) *guard {
	own := memory.NewNetwork()
	words, heard := memory.Pair(memory.Name("service"), memory.Name("warden"))
	reports, said := memory.Pair(memory.Name("service"), memory.Name("warden"))
	for _, c := range []*memory.Conn{words, reports} {
		p.network.Adopt(c)
	}
	own.Adopt(heard)
	own.Adopt(said)
	ctx, cancel := context.WithCancel(context.Background())
	g := &guard{Conn: words, reports: reports, owner: p, done: make(chan struct{}), end: func() {
		cancel()
		own.Cut()
	}}
	h.busy.Go(func() {
		defer close(g.done)
		g.err = warden.Process(ctx, heard, said, warden.Surroundings{Log: log, Network: own, Clock: h.clock,
			EndService: func() {
				if !p.dead.Swap(true) {
					h.tell("warden", "ends the service")
					if !h.stoodStill() {
						h.amiss("the warden ended a service that had not stood still")
					}
					p.network.Cut()
					h.died <- p
				}
			}})
		own.Cut()
	})
	return g
}

// stoodStill tells whether the service, or what it does in a bay, stood still a short time ago.
func (h *house) stoodStill() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.ContainsFunc(h.downs, func(d down) bool {
		return d.what == "stalled" && time.Since(d.from) < 5*time.Second
	}) || slices.ContainsFunc(h.faults, func(f fault) bool {
		return f.what == heldUp && time.Since(f.from) < 5*time.Second
	})
}

// Reports is what the warden says.
func (g *guard) Reports() io.Reader { return g.reports }

// Wait waits for its end.
func (g *guard) Wait() error {
	<-g.done
	return g.err
}

// Pid is none: it is no process.
func (g *guard) Pid() int { return 0 }

// Kill kills it, unless who asks is dead.
func (g *guard) Kill() {
	if !g.owner.dead.Load() {
		g.end()
	}
}
