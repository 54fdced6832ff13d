// Package memory connects parts of one process with each other: it stands in for a network where there is none, and
// where the clock is simulated, since nobody who waits here waits for the operating system.
//
// A listener has a name, and who dials the name gets a connection with it. Connections have deadlines and a bounded
// amount of bytes on their way, like those of a network, and may be held up ([Conn.Hold]) or cut.
package memory

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"sync"
	"syscall"
)

// listeners are found by name, like lines by path.
var listeners = struct {
	sync.Mutex
	byName map[string]*Listener
	made   int
}{byName: map[string]*Listener{}}

// backlog is how many may wait for being accepted.
const backlog = 128

// Listener accepts what is dialled by its name. It is a [net.Listener].
type Listener struct {
	name    string
	waiting chan *Conn
	closed  chan struct{}
	once    sync.Once
}

// Listen begins to listen by a name; the empty name takes one that is free. The error tells of a name that is taken.
func Listen(name string) (*Listener, error) {
	listeners.Lock()
	defer listeners.Unlock()
	for name == "" {
		listeners.made++
		if free := "part" + strconv.Itoa(listeners.made); listeners.byName[free] == nil {
			name = free
		}
	}
	if listeners.byName[name] != nil {
		return nil, fmt.Errorf("listen in memory: %w: %s", syscall.EADDRINUSE, name)
	}
	l := &Listener{name: name, waiting: make(chan *Conn, backlog), closed: make(chan struct{})}
	listeners.byName[name] = l
	return l, nil
}

// Accept waits for the next connection.
func (l *Listener) Accept() (net.Conn, error) {
	select {
	case <-l.closed:
		return nil, net.ErrClosed
	default:
	}
	select {
	case c := <-l.waiting:
		return c, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

// Close ends listening; what was accepted goes on.
func (l *Listener) Close() error {
	l.once.Do(func() {
		listeners.Lock()
		delete(listeners.byName, l.name)
		listeners.Unlock()
		close(l.closed)
		for {
			select {
			case c := <-l.waiting:
				_ = c.Close() // it never fails
			default:
				return
			}
		}
	})
	return nil
}

// Addr is the name.
func (l *Listener) Addr() net.Addr { return Name(l.name) }

// Name is an address in memory.
type Name string

// Network tells what kind of address it is.
func (Name) Network() string { return "memory" }

func (n Name) String() string { return string(n) }

// Dial connects to who listens by a name. The error is [syscall.ECONNREFUSED] if nobody does.
func Dial(ctx context.Context, name string) (*Conn, error) {
	listeners.Lock()
	l := listeners.byName[name]
	listeners.Unlock()
	if l == nil {
		return nil, fmt.Errorf("dial in memory: %s: %w", name, syscall.ECONNREFUSED)
	}
	ours, theirs := Pair(Name("memory:0"), l.Addr())
	select {
	case l.waiting <- theirs:
		return ours, nil
	case <-l.closed:
		return nil, fmt.Errorf("dial in memory: %s: %w", name, syscall.ECONNREFUSED)
	case <-ctx.Done():
		return nil, fmt.Errorf("dial in memory: %s: %w", name, context.Cause(ctx))
	}
}
