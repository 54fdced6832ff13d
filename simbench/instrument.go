package simbench

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/creack/pty"

	"usherbench/instrument/transport/memory"
)

// Instrument is one stand-in on its socket or serial line.
type Instrument struct {
	Name, Address string
	Kind          string // "supply", "load", "cycler" …
	kind          standIn
	texts         bool // it takes text messages
	server        interface{ serve(conn io.ReadWriteCloser) }
	health        *health
	listener      net.Listener
	line          pluggable     // nil: it is on a socket
	delay         time.Duration // of answers, where nothing else takes time
	one           chan struct{} // holds a token if only one connection is taken
	mu            sync.Mutex
	conns         map[net.Conn]bool
	serving       sync.WaitGroup
}

func (b *Bench) listen(name string, kind standIn, h *health, server interface{ serve(conn io.ReadWriteCloser) }) error {
	listener, err := b.listener(name)
	if err != nil {
		return fmt.Errorf("stand-in %s: %w", name, err)
	}
	i := &Instrument{Name: name, Kind: kind.name, kind: kind, listener: listener, server: server,
		Address: listener.Addr().Network() + "://" + listener.Addr().String(), health: h, conns: map[net.Conn]bool{}}
	if texts, ok := server.(*interpreter); ok {
		i.texts = true
		b.reachOver(i, texts)
	}
	if b.options.Memory != "" {
		i.delay = answersAfter
	}
	if b.options.OneConnection {
		i.one = make(chan struct{}, 1)
	}
	b.instruments = append(b.instruments, i)
	i.serving.Go(i.accept)
	return nil
}

// listener is where a part of the bench is found.
func (b *Bench) listener(name string) (net.Listener, error) {
	if b.options.Memory != "" {
		return memory.Listen(b.options.Memory + name)
	}
	return net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", b.next()))
}

// answersAfter is how long a stand-in in memory takes to answer.
const answersAfter = 300 * time.Microsecond

// inTime is a connection whose answers take time.
type inTime struct {
	net.Conn
	delay time.Duration
}

func (c inTime) Write(p []byte) (int, error) {
	time.Sleep(c.delay)
	return c.Conn.Write(p)
}

func (i *Instrument) accept() {
	for {
		conn, err := i.listener.Accept()
		if err != nil {
			return
		}
		i.mu.Lock()
		if i.health.now() == Drop {
			conn.Close()
			i.mu.Unlock()
			continue
		}
		if i.delay > 0 {
			conn = inTime{conn, i.delay}
		}
		i.conns[conn] = true
		i.mu.Unlock()
		i.serving.Go(func() {
			if i.one != nil {
				i.one <- struct{}{}
				defer func() { <-i.one }()
			}
			i.server.serve(conn)
			i.mu.Lock()
			delete(i.conns, conn)
			i.mu.Unlock()
		})
	}
}

func (i *Instrument) setFault(fault InstrumentFault) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.health.set(fault)
	if i.line != nil {
		i.line.plug(fault != Drop)
	}
	if fault == Drop {
		for conn := range i.conns {
			conn.Close()
		}
	}
}

func (i *Instrument) close() error {
	i.setFault(Drop)
	var err error
	if i.listener != nil {
		err = i.listener.Close()
	}
	i.serving.Wait()
	return err
}

// pluggable is a serial line whose adapter can be pulled and put in again.
type pluggable interface{ plug(in bool) error }

// memoryLine is a serial line in memory.
type memoryLine struct {
	name     string
	server   *registerServer
	listener net.Listener
	mu       sync.Mutex // guards what follows
	ends     []net.Conn
	serving  *sync.WaitGroup // of the instrument
}

func (l *memoryLine) plug(in bool) error {
	switch {
	case in == (l.listener != nil):
		return nil
	case !in:
		err := l.listener.Close()
		l.listener = nil
		l.mu.Lock()
		defer l.mu.Unlock()
		for _, end := range l.ends {
			_ = end.Close() // in memory it never fails
		}
		l.ends = nil
		return err
	}
	listener, err := memory.Listen(l.name)
	if err != nil {
		return err
	}
	l.listener = listener
	l.serving.Go(func() {
		for {
			end, err := listener.Accept()
			if err != nil {
				return
			}
			l.mu.Lock()
			l.ends = append(l.ends, end)
			l.mu.Unlock()
			l.serving.Go(func() { l.server.serveLine(end) })
		}
	})
	return nil
}

// serialLine is a pair of pseudo-terminals for a serial line; its path is a link that always leads to the
// present one, as a path by id does for an adapter.
type serialLine struct {
	path   string
	server *registerServer
	ends   [2]*os.File
}

func (b *Bench) openLine(name string, server *registerServer) error {
	i := &Instrument{Name: name, Kind: registerLoadKind.name, kind: registerLoadKind, server: server,
		health: server.health, conns: map[net.Conn]bool{}}
	if b.options.Memory != "" {
		i.line = &memoryLine{name: b.options.Memory + name, server: server, serving: &i.serving}
		i.Address = fmt.Sprintf("memory://%s?as=modbus-rtu&baud=115200&unit=%d", b.options.Memory+name, server.unit)
	} else {
		path, err := b.linePath(name)
		if err != nil {
			return err
		}
		i.line = &serialLine{path: path, server: server}
		i.Address = fmt.Sprintf("modbus-rtu://%s?baud=115200&unit=%d", path, server.unit)
	}
	if err := i.line.plug(true); err != nil {
		return fmt.Errorf("stand-in %s: %w", name, err)
	}
	b.instruments = append(b.instruments, i)
	return nil
}

// linePath is where a serial line is found.
func (b *Bench) linePath(name string) (string, error) {
	if b.folder == "" {
		var err error
		if b.folder, err = os.MkdirTemp("", "usher-simbench-"); err != nil {
			return "", fmt.Errorf("folder of serial lines: %w", err)
		}
	}
	return filepath.Join(b.folder, name), nil
}

// plug puts the adapter in, under another name than before, or pulls it.
func (l *serialLine) plug(in bool) error {
	if in == (l.ends[0] != nil) {
		return nil
	}
	if !in {
		errs := []error{l.ends[0].Close(), l.ends[1].Close(), os.Remove(l.path)}
		l.ends = [2]*os.File{}
		return errors.Join(errs...)
	}
	var err error
	// The slave is kept open here too, so that the line does not end when its user closes it.
	if l.ends[0], l.ends[1], err = pty.Open(); err != nil {
		return err
	}
	if err := raw(l.ends[1]); err != nil {
		return err
	}
	_ = os.Remove(l.path) // there may be none
	if err := os.Symlink(l.ends[1].Name(), l.path); err != nil {
		return err
	}
	go l.server.serveLine(l.ends[0])
	return nil
}
