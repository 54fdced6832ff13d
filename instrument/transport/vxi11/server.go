package vxi11

import (
	"encoding/binary"
	"errors"
	"net"
	"os"
	"strconv"
	"sync"
	"time"

	"usherbench/instrument/transport/session"
)

// Server is an instrument that is reached over VXI-11: the stand-in for one, with the port mapper of its computer.
type Server struct {
	Device session.Device
	// Most is the most bytes that it takes with one call; 0: a million.
	Most int
	// Part is its name, such as "inst0"; another is refused.
	Part string
	// Port is that of its core channel, which its port mapper tells.
	Port int
}

// served is one client's connection, with the links that it made.
type served struct {
	server *Server
	links  map[uint32]*linked
	last   uint32
	intr   net.Conn // to the client, for requests of service; nil: none
	over   chan struct{}
	ended  sync.WaitGroup
}

// linked is one link.
type linked struct {
	*session.Session
	rest []byte // of an answer that was read in part
}

// Serve answers calls on a connection until it ends.
func (s *Server) Serve(conn net.Conn) {
	c := &served{server: s, links: map[uint32]*linked{}, over: make(chan struct{})}
	defer c.close(conn)
	serveCalls(conn, c.answer)
}

func (c *served) close(conn net.Conn) {
	close(c.over)
	if c.intr != nil {
		c.intr.Close()
	}
	for _, l := range c.links {
		l.Close()
	}
	conn.Close()
	c.ended.Wait()
}

// answer carries a call out; false if there is no such procedure.
func (c *served) answer(a asked) (results writer, ok bool) {
	r := &a.arguments
	switch {
	case a.program == portmapProgram && a.procedure == getPort:
		if r.number() == coreProgram {
			results.number(uint32(c.server.Port))
		} else {
			results.number(0)
		}
		return results, true
	case a.program != coreProgram:
		return nil, false
	case a.procedure == createLink:
		return c.create(r), true
	case a.procedure == createInterruptChan:
		return c.callBack(r), true
	}
	l := c.links[r.number()]
	do, known := map[uint32]func(*linked, *reader) writer{deviceWrite: write, deviceRead: read, deviceReadSTB: status,
		deviceClear: clearDevice, deviceLock: lock, deviceUnlock: unlock, destroyLink: c.destroy,
		deviceEnableSRQ: c.enable}[a.procedure]
	switch {
	case !known:
		return nil, false
	case l == nil:
		results.number(errorLink, 0, 0) // what more some have is zero
		return results, true
	}
	return do(l, r), true
}

func (c *served) create(r *reader) (results writer) {
	r.number() // the client
	wantsLock := r.number() != 0
	within := time.Duration(r.number()) * time.Millisecond
	part := string(r.opaque())
	if r.err != nil || c.server.Part != "" && part != c.server.Part {
		results.number(errorPart, 0, 0, 0)
		return results
	}
	l := &linked{Session: session.Open(c.server.Device)}
	if wantsLock && !l.Lock(within) {
		l.Close()
		results.number(errorLocked, 0, 0, 0)
		return results
	}
	c.last++
	c.links[c.last] = l
	most := c.server.Most
	if most == 0 {
		most = 1 << 20
	}
	results.number(0, c.last, uint32(c.server.Port), uint32(most))
	return results
}

// free waits until no other link has the lock.
func (l *linked) free(within time.Duration) bool {
	for until := time.Now().Add(within); !l.Free(); time.Sleep(time.Millisecond) {
		if time.Now().After(until) {
			return false
		}
	}
	return true
}

func write(l *linked, r *reader) (results writer) {
	r.number() // the time for it: it is taken at once
	within := time.Duration(r.number()) * time.Millisecond
	r.number()
	data := r.opaque()
	switch {
	case r.err != nil:
		results.number(1, 0)
	case !l.free(within):
		results.number(errorLocked, 0)
	case l.Take(data) != nil:
		results.number(17, 0)
	default:
		results.number(0, uint32(len(data)))
	}
	return results
}

func read(l *linked, r *reader) (results writer) {
	most := int(r.number())
	within := time.Duration(r.number()) * time.Millisecond
	var err error
	if len(l.rest) == 0 {
		l.rest, _, err = l.Answer(within)
	}
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		results.number(errorTimeout, 0, 0)
	case err != nil:
		results.number(17, 0, 0)
	default:
		part := l.rest[:min(len(l.rest), most)]
		l.rest = l.rest[len(part):]
		const full = 1
		reason := uint32(full)
		if len(l.rest) == 0 {
			reason = reasonEnd
		}
		results.number(0, reason)
		results.opaque(part)
	}
	return results
}

func status(l *linked, _ *reader) (results writer) {
	status, _ := l.Status()
	results.number(0, uint32(status))
	return results
}

func clearDevice(l *linked, _ *reader) (results writer) {
	l.rest = nil
	l.Clear()
	results.number(0)
	return results
}

func lock(l *linked, r *reader) (results writer) {
	r.number()
	if l.Lock(time.Duration(r.number()) * time.Millisecond) {
		results.number(0)
	} else {
		results.number(errorLocked)
	}
	return results
}

func unlock(l *linked, _ *reader) (results writer) {
	if l.Unlock() {
		results.number(0)
	} else {
		results.number(errorUnlocked)
	}
	return results
}

func (c *served) destroy(l *linked, _ *reader) (results writer) {
	for number, known := range c.links {
		if known == l {
			delete(c.links, number)
		}
	}
	l.Close()
	results.number(0)
	return results
}

// callBack connects to the client for requests of service.
func (c *served) callBack(r *reader) (results writer) {
	if c.server.Device.Status == nil { // it has nothing to request service by
		results.number(errorUnknown)
		return results
	}
	var ip [4]byte
	binary.BigEndian.PutUint32(ip[:], r.number())
	address := net.JoinHostPort(net.IP(ip[:]).String(), strconv.Itoa(int(r.number())))
	const within = time.Second
	conn, err := net.DialTimeout("tcp", address, within)
	if r.err != nil || err != nil {
		results.number(6)
		return results
	}
	if c.intr != nil {
		c.intr.Close()
	}
	c.intr = conn
	results.number(0)
	return results
}

// enable has requests of service told over the connection to the client.
func (c *served) enable(l *linked, r *reader) (results writer) {
	on, handle := r.number() != 0, r.opaque()
	if c.intr == nil {
		results.number(6)
		return results
	}
	results.number(0)
	if on {
		conn, id := c.intr, uint32(0)
		c.ended.Go(l.Watch(c.over, func(byte) error {
			id++
			w := writeCall(id, interruptProgram, version, interruptRequested)
			w.opaque(handle)
			return writeRecord(conn, w)
		}))
	}
	return results
}
