package simbench

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"sync"

	"github.com/creack/pty"
)

// Instrument is one stand-in on its socket or serial line.
type Instrument struct {
	Name, Address string
	Kind          string // "supply", "load", "cycler" …
	kind          standIn
	server        interface{ serve(conn io.ReadWriteCloser) }
	health        *health
	listener      net.Listener
	line          *serialLine
	one           chan struct{} // holds a token if only one connection is taken
	mu            sync.Mutex
	conns         map[net.Conn]bool
}

func (b *Bench) listen(name string, kind standIn, h *health, server interface{ serve(conn io.ReadWriteCloser) }) error {
	listener, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", b.next()))
	if err != nil {
		return fmt.Errorf("stand-in %s: %w", name, err)
	}
	i := &Instrument{Name: name, Kind: kind.name, kind: kind, Address: "tcp://" + listener.Addr().String(),
		listener: listener,
		server:   server, health: h, conns: map[net.Conn]bool{}}
	if b.options.OneConnection {
		i.one = make(chan struct{}, 1)
	}
	b.instruments = append(b.instruments, i)
	go i.accept()
	return nil
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
		i.conns[conn] = true
		i.mu.Unlock()
		go func() {
			if i.one != nil {
				i.one <- struct{}{}
				defer func() { <-i.one }()
			}
			i.server.serve(conn)
			i.mu.Lock()
			delete(i.conns, conn)
			i.mu.Unlock()
		}()
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
	if i.listener != nil {
		return i.listener.Close()
	}
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
	if b.folder == "" {
		var err error
		if b.folder, err = os.MkdirTemp("", "usher-simbench-"); err != nil {
			return fmt.Errorf("folder of serial lines: %w", err)
		}
	}
	l := &serialLine{path: filepath.Join(b.folder, name), server: server}
	if err := l.plug(true); err != nil {
		return fmt.Errorf("stand-in %s: %w", name, err)
	}
	b.instruments = append(b.instruments, &Instrument{Name: name, Kind: registerLoadKind.name, kind: registerLoadKind,
		server: server,
		health: server.health, line: l, conns: map[net.Conn]bool{},
		Address: fmt.Sprintf("modbus-rtu://%s?baud=115200&unit=%d", l.path, server.unit)})
	return nil
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
