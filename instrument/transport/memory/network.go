package memory

import (
	"context"
	"fmt"
	"net"
	"slices"
	"sync"
	"syscall"
)

// Network is the part that one process has of the network: what it dials and what it accepts. It can be cut, as when
// the process is killed, and held up, as when the process is not scheduled. A nil Network is everybody's, and only
// dials and listens.
type Network struct {
	mu    sync.Mutex // guards what follows
	conns map[*Conn]bool
	doors []*Listener
	last  []func() // done when it ends
	dead  bool
	holds []*hold // what is held up
}

// To tells which connections are meant, by the name of who listens at their other end.
type To func(name string) bool

// Everybody means every connection.
func Everybody(string) bool { return true }

// hold holds up connections until it is over.
type hold struct {
	to   To
	over chan struct{}
}

// NewNetwork makes the part of a process.
func NewNetwork() *Network { return &Network{conns: map[*Conn]bool{}} }

// Dial connects to who listens by a name.
func (n *Network) Dial(ctx context.Context, name string) (*Conn, error) {
	c, err := Dial(ctx, name)
	if err != nil || n == nil {
		return c, err
	}
	if !n.own(c) {
		return nil, fmt.Errorf("dial in memory: %s: %w", name, syscall.ENETUNREACH)
	}
	return c, nil
}

// DialHost connects to the name that a host:port has as its host, as an HTTP client asks for it.
func (n *Network) DialHost(ctx context.Context, _, hostPort string) (net.Conn, error) {
	host, _, err := net.SplitHostPort(hostPort)
	if err != nil {
		host = hostPort
	}
	c, err := n.Dial(ctx, host)
	if err != nil {
		return nil, err
	}
	return c, nil
}

// Listen begins to listen by a name; the empty name takes one that is free.
func (n *Network) Listen(name string) (net.Listener, error) {
	l, err := Listen(name)
	if err != nil {
		return nil, err
	}
	if n == nil {
		return l, nil
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.dead {
		_ = l.Close() // it never fails
		return nil, syscall.ENETDOWN
	}
	n.doors = append(n.doors, l)
	return door{l, n}, nil
}

// door is a listener whose connections belong to a process.
type door struct {
	*Listener
	network *Network
}

func (d door) Accept() (net.Conn, error) {
	for {
		c, err := d.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if d.network.own(c.(*Conn)) {
			return c, nil
		}
	}
}

// Adopt makes one end of a pair the process's.
func (n *Network) Adopt(c *Conn) { n.own(c) }

// AtEnd has something done when the process is ended by Cut: what ends with a process.
func (n *Network) AtEnd(do func()) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.last = append(n.last, do)
}

// own makes a connection the process's; false: there is no process any longer, and the connection is closed.
func (n *Network) own(c *Conn) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.dead {
		_ = c.Close() // it never fails
		return false
	}
	for _, h := range n.holds {
		if h.to(c.remote.String()) {
			c.Hold(h.over)
		}
	}
	n.conns[c] = true
	c.forget = func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		delete(n.conns, c)
	}
	return true
}

// Cut ends everything at once and for good.
func (n *Network) Cut() {
	n.mu.Lock()
	n.dead = true
	conns, doors, last, holds := n.conns, n.doors, n.last, n.holds
	n.last, n.holds = nil, nil
	n.conns = map[*Conn]bool{}
	n.mu.Unlock()
	for _, h := range holds {
		close(h.over)
	}
	for c := range conns {
		_ = c.Close() // it never fails
	}
	for _, l := range doors {
		_ = l.Close() // it never fails
	}
	for _, do := range last {
		do()
	}
}

// Hold lets nothing pass to some until the process goes on: what is done with them stands still, as if it were not
// scheduled. Of several holds the last to end counts.
func (n *Network) Hold(to To) (goOn func()) {
	n.mu.Lock()
	defer n.mu.Unlock()
	h := &hold{to, make(chan struct{})}
	if n.dead {
		return func() {}
	}
	n.holds = append(n.holds, h)
	for c := range n.conns {
		if to(c.remote.String()) {
			c.Hold(h.over)
		}
	}
	return func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		if i := slices.Index(n.holds, h); i >= 0 { // otherwise it is over
			n.holds = slices.Delete(n.holds, i, i+1)
			close(h.over)
		}
	}
}
