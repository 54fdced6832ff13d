package hislip

import (
	"encoding/binary"
	"errors"
	"net"
	"os"
	"sync"
	"time"

	"usherbench/instrument/transport/session"
)

// Server is an instrument that is reached over HiSLIP: the stand-in for one.
type Server struct {
	Device session.Device
	// Most is the longest payload that it takes, bytes; 0: a million.
	Most int
	// Part is its name, such as "hislip0"; another is refused.
	Part string

	mu       sync.Mutex // guards what follows
	sessions map[uint32]*served
	last     uint32
}

// served is one client.
type served struct {
	*session.Session
	mu     sync.Mutex // one frame after another; guards what follows
	most   int        // the longest payload that the client takes
	number uint32     // of the message that came last
}

// Codes of fatal errors.
const (
	fatalHead = 1
	fatalPart = 3
)

// lookEvery is how often one who waits for a lock looks.
const lookEvery = 2 * time.Millisecond

// Serve answers on a connection, whichever of a client's two it is, until it ends.
func (s *Server) Serve(conn net.Conn) {
	defer conn.Close()
	h, payload, err := ReadFrame(conn)
	switch {
	case err != nil:
		_ = WriteFrame(conn, Head{Kind: FatalError, Control: fatalHead}, []byte("no frame of HiSLIP"))
	case h.Kind == Initialize && s.Part != "" && string(payload) != s.Part:
		_ = WriteFrame(conn, Head{Kind: FatalError, Control: fatalPart}, []byte("there is no "+string(payload)+" here"))
	case h.Kind == Initialize:
		s.first(conn)
	case h.Kind == AsyncInitialize:
		s.second(conn, h.Param)
	}
}

// first serves messages.
func (s *Server) first(conn net.Conn) {
	c := &served{Session: session.Open(s.Device), most: largest}
	s.mu.Lock()
	if s.sessions == nil {
		s.sessions = map[uint32]*served{}
	}
	s.last++
	number := s.last
	s.sessions[number] = c
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.sessions, number)
		s.mu.Unlock()
		c.Close()
	}()
	go func() {
		<-c.Ended()
		conn.Close()
	}()
	if WriteFrame(conn, Head{Kind: InitializeResponse, Param: Version<<16 | number}, nil) != nil {
		return
	}
	go c.answer(conn)
	for {
		h, payload, err := ReadFrame(conn)
		if err != nil {
			return
		}
		switch h.Kind {
		case Data, DataEnd:
			c.mu.Lock()
			c.number = h.Param
			c.mu.Unlock()
			if !c.waitFree() || c.Take(payload) != nil {
				return
			}
		case DeviceClearComplete:
			c.mu.Lock()
			c.Clear() // nothing is sent between the two that was asked for before
			err = WriteFrame(conn, Head{Kind: DeviceClearAcknowledge}, nil)
			c.mu.Unlock()
			if err != nil {
				return
			}
		}
	}
}

// waitFree waits while another has the lock; false if the session ended meanwhile.
func (c *served) waitFree() bool {
	for !c.Free() {
		select {
		case <-c.Ended():
			return false
		case <-time.After(lookEvery):
		}
	}
	return true
}

// answer sends what the device answers.
func (c *served) answer(conn net.Conn) {
	for {
		answer, clears, err := c.Answer(time.Second)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			continue
		}
		if err != nil {
			return
		}
		c.mu.Lock()
		if !c.Stands(clears) {
			c.mu.Unlock()
			continue
		}
		for len(answer) > c.most && err == nil {
			err = WriteFrame(conn, Head{Kind: Data, Param: c.number}, answer[:c.most])
			answer = answer[c.most:]
		}
		if err == nil {
			err = WriteFrame(conn, Head{Kind: DataEnd, Param: c.number}, answer)
		}
		c.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// second serves what must not wait.
func (s *Server) second(conn net.Conn, number uint32) {
	s.mu.Lock()
	c := s.sessions[number]
	s.mu.Unlock()
	if c == nil {
		return
	}
	defer c.Close()
	over := make(chan struct{})
	defer close(over)
	var writing sync.Mutex
	say := func(h Head, payload []byte) error {
		writing.Lock()
		defer writing.Unlock()
		return WriteFrame(conn, h, payload)
	}
	watch := c.Watch(over, func(status byte) error {
		return say(Head{Kind: AsyncServiceRequest, Control: status}, nil)
	})
	if say(Head{Kind: AsyncInitializeResponse}, nil) != nil {
		return
	}
	go watch()
	for {
		h, payload, err := ReadFrame(conn)
		if err != nil {
			return
		}
		if err := c.reply(s, h, payload, say); err != nil {
			return
		}
	}
}

func (c *served) reply(s *Server, h Head, payload []byte, say func(Head, []byte) error) error {
	switch h.Kind {
	case AsyncMaximumMessageSize:
		if len(payload) == 8 {
			c.mu.Lock()
			c.most = int(min(max(binary.BigEndian.Uint64(payload), headSize+1)-headSize, largest))
			c.mu.Unlock()
		}
		most := uint64(s.Most)
		if most == 0 {
			most = 1 << 20
		}
		return say(Head{Kind: AsyncMaximumMessageSizeResponse}, binary.BigEndian.AppendUint64(nil, most+headSize))
	case AsyncLock:
		done := c.Unlock
		if h.Control == 1 {
			done = func() bool { return c.Lock(time.Duration(h.Param) * time.Millisecond) }
		}
		var told byte
		if done() {
			told = 1
		}
		return say(Head{Kind: AsyncLockResponse, Control: told}, nil)
	case AsyncDeviceClear:
		c.Clear()
		return say(Head{Kind: AsyncDeviceClearAcknowledge}, nil)
	case AsyncStatusQuery:
		status, _ := c.Status()
		return say(Head{Kind: AsyncStatusResponse, Control: status}, nil)
	}
	return say(Head{Kind: Failure, Control: 1}, []byte("not known here"))
}
