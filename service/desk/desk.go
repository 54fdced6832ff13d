// Package desk has heavy requests answered in processes of their own: what takes much memory or time there takes none
// from the bays, and is ended at once when whoever asked for it has gone. A process answers one request after another
// over the one connection that it was started with. It ends with that connection.
package desk

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httputil"
	"os"
	"os/exec"
	"sync"
	"syscall"
	"time"
)

// Process is a process at work, as the service sees it.
type Process interface {
	// Connection is what requests go over.
	Connection() net.Conn
	// End ends it, whatever it does.
	End()
	// Ended is closed when it has ended.
	Ended() <-chan struct{}
}

// Launcher starts a process that answers requests.
type Launcher func() (Process, error)

// idleFor is how long a process without work is kept.
const idleFor = time.Minute

// Desk hands requests to its processes, as many as are asked at once. It is safe for use by several goroutines.
type Desk struct {
	launch Launcher

	mu     sync.Mutex // guards what follows
	idle   []*place
	closed bool
}

// place is a process and how it is spoken to.
type place struct {
	process Process
	link    *http.Transport
	ends    *time.Timer
}

// New makes a desk, which starts its processes when they are needed.
func New(launch Launcher) *Desk { return &Desk{launch: launch} }

// ErrEnded says that the process of a request ended before it had answered: most of all because it took more memory
// than it may.
var ErrEnded = errors.New("the process that answers it has ended")

// errBroken says that a process ended while it had nothing to do, so that nothing was sent to it.
var errBroken = errors.New("the connection to the process is broken")

// Answer has a request answered. The error is about what kept it from being answered, before anything was.
func (d *Desk) Answer(w http.ResponseWriter, r *http.Request) error {
	for {
		p, err := d.take()
		if err == nil {
			err = d.answer(p, w, r)
		}
		if !errors.Is(err, errBroken) {
			return err
		}
	}
}

func (d *Desk) answer(p *place, w http.ResponseWriter, r *http.Request) error {
	var failed error
	proxy := &httputil.ReverseProxy{
		Rewrite: func(p *httputil.ProxyRequest) {
			p.Out.URL.Scheme, p.Out.URL.Host = "http", "desk"
			p.Out.Header.Del("Cookie")
			p.Out.Header.Del("Authorization")
			p.Out.Header.Del("Accept-Encoding") // it is for the service to pack what it answers
		},
		Transport:    p.link,
		ErrorHandler: func(_ http.ResponseWriter, _ *http.Request, err error) { failed = err },
	}
	whole := false
	defer func() { // an answer that breaks off panics on purpose, so that the connection breaks off too
		if whole && r.Context().Err() == nil {
			d.giveBack(p)
			return
		}
		p.end()
	}()
	proxy.ServeHTTP(w, r)
	whole = failed == nil
	switch {
	case failed != nil && context.Cause(r.Context()) != nil:
		return context.Cause(r.Context())
	case errors.Is(failed, errBroken):
		return failed
	case failed != nil:
		return fmt.Errorf("%w: %w", ErrEnded, failed)
	}
	return nil
}

func (d *Desk) take() (*place, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.closed {
		return nil, http.ErrServerClosed
	}
	for len(d.idle) > 0 {
		last := len(d.idle) - 1
		p := d.idle[last]
		d.idle = d.idle[:last]
		select {
		case <-p.process.Ended():
			p.end() // it was ended while it had nothing to do
			continue
		default:
		}
		if p.ends.Stop() {
			return p, nil
		}
	}
	process, err := d.launch()
	if err != nil {
		return nil, fmt.Errorf("start a process for heavy work: %w", err)
	}
	connection := make(chan net.Conn, 1)
	connection <- process.Connection()
	return &place{process: process, link: &http.Transport{
		DialContext: func(context.Context, string, string) (net.Conn, error) {
			select {
			case c := <-connection:
				return c, nil
			default:
				return nil, errBroken
			}
		},
		MaxConnsPerHost: 1, DisableCompression: true,
	}}, nil
}

func (d *Desk) giveBack(p *place) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.closed {
		p.end()
		return
	}
	p.ends = time.AfterFunc(idleFor, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		for i, other := range d.idle {
			if other == p {
				d.idle = append(d.idle[:i], d.idle[i+1:]...)
			}
		}
		p.end()
	})
	d.idle = append(d.idle, p)
}

func (p *place) end() {
	p.process.End()
	p.link.CloseIdleConnections()
}

// Close ends every process without work, and takes no more requests.
func (d *Desk) Close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.closed = true
	for _, p := range d.idle {
		p.ends.Stop()
		p.end()
	}
	d.idle = nil
}

// Command launches a command, which must end in [Serve].
func Command(command ...string) Launcher {
	return func() (Process, error) {
		ends, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
		if err != nil {
			return nil, err
		}
		ours, theirs := os.NewFile(uintptr(ends[0]), "desk"), os.NewFile(uintptr(ends[1]), "desk")
		defer ours.Close() // the connection is another handle
		defer theirs.Close()
		connection, err := net.FileConn(ours)
		if err != nil {
			return nil, err
		}
		cmd := exec.Command(command[0], command[1:]...)
		cmd.ExtraFiles, cmd.Stderr = []*os.File{theirs}, os.Stderr
		// In a group of its own: what is meant for the service's terminal must not end it.
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if err := cmd.Start(); err != nil {
			return nil, errors.Join(err, connection.Close())
		}
		p := &process{connection, cmd, make(chan struct{})}
		go func() {
			_ = cmd.Wait() // how it ended shows in its connection
			close(p.ended)
		}()
		return p, nil
	}
}

type process struct {
	connection net.Conn
	cmd        *exec.Cmd
	ended      chan struct{}
}

func (p *process) Connection() net.Conn   { return p.connection }
func (p *process) Ended() <-chan struct{} { return p.ended }

func (p *process) End() {
	_ = p.cmd.Process.Kill() // it may have ended
	_ = p.connection.Close()
}
