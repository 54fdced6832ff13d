// Package vxi11 speaks VXI-11 (TCP/IP Instrument Protocol, VXIbus consortium, revision 1.0): messages of IEEE 488.2 as
// remote procedure calls of ONC RPC (RFC 5531), whose data are written in XDR (RFC 4506).
package vxi11

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Programs and their versions.
const (
	coreProgram      = 395183
	interruptProgram = 395185
	portmapProgram   = 100000
	portmapVersion   = 2
	version          = 1
	rpcVersion       = 2
)

// Procedures of the core program, of the interrupt program, and of the port mapper.
const (
	createLink          = 10
	deviceWrite         = 11
	deviceRead          = 12
	deviceReadSTB       = 13
	deviceClear         = 15
	deviceLock          = 18
	deviceUnlock        = 19
	deviceEnableSRQ     = 20
	destroyLink         = 23
	createInterruptChan = 25
	interruptRequested  = 30
	getPort             = 3
)

// Kinds of RPC messages, and how a call was taken.
const (
	call        = 0
	answer      = 1
	accepted    = 0
	success     = 0
	unavailable = 3 // there is no such procedure
)

const (
	lastFragment = 1 << 31
	// longest bounds a message, whole.
	longest = 16 << 20
)

// ErrMessage means that what came is no message of RPC, or holds too little.
var ErrMessage = errors.New("this is no message of VXI-11")

// writer puts data together as XDR: whole numbers of four bytes, big end first.
type writer []byte

func (w *writer) number(xs ...uint32) {
	for _, x := range xs {
		*w = binary.BigEndian.AppendUint32(*w, x)
	}
}

func (w *writer) flag(x bool) {
	if x {
		w.number(1)
	} else {
		w.number(0)
	}
}

func (w *writer) opaque(data []byte) {
	w.number(uint32(len(data)))
	*w = append(*w, data...)
	for len(*w)%4 != 0 {
		*w = append(*w, 0)
	}
}

// reader takes data in XDR apart. What is missing reads as zero, and err says so.
type reader struct {
	data []byte
	err  error
}

func (r *reader) number() uint32 {
	if len(r.data) < 4 {
		r.data, r.err = nil, ErrMessage
		return 0
	}
	x := binary.BigEndian.Uint32(r.data)
	r.data = r.data[4:]
	return x
}

func (r *reader) opaque() []byte {
	n := int(r.number())
	padded := (n + 3) &^ 3
	if n < 0 || padded > len(r.data) {
		r.data, r.err = nil, ErrMessage
		return nil
	}
	data := r.data[:n]
	r.data = r.data[padded:]
	return data
}

// readRecord reads a message that comes as a record of fragments (RFC 5531, chapter 11).
func readRecord(r *bufio.Reader) ([]byte, error) {
	var record []byte
	for {
		var head [4]byte
		if _, err := io.ReadFull(r, head[:]); err != nil {
			return nil, err
		}
		mark := binary.BigEndian.Uint32(head[:])
		length := int(mark &^ lastFragment)
		if length+len(record) > longest {
			return nil, fmt.Errorf("%w: it has %d bytes", ErrMessage, length+len(record))
		}
		at := len(record)
		record = append(record, make([]byte, length)...)
		if _, err := io.ReadFull(r, record[at:]); err != nil {
			return nil, err
		}
		if mark&lastFragment != 0 {
			return record, nil
		}
	}
}

// writeRecord writes a message as one fragment.
func writeRecord(w io.Writer, message []byte) error {
	raw := binary.BigEndian.AppendUint32(make([]byte, 0, 4+len(message)), lastFragment|uint32(len(message)))
	_, err := w.Write(append(raw, message...))
	return err
}

// asked is a call with its arguments.
type asked struct {
	id, program, procedure uint32
	arguments              reader
}

// writeCall begins a call, to which its arguments are appended.
func writeCall(id, program, programVersion, procedure uint32) (w writer) {
	w.number(id, call, rpcVersion, program, programVersion, procedure)
	w.number(0, 0, 0, 0) // nobody says who asks
	return w
}

func readCall(record []byte) (asked, error) {
	r := reader{data: record}
	a := asked{id: r.number()}
	kind, rpc := r.number(), r.number()
	a.program = r.number()
	r.number() // its version
	a.procedure = r.number()
	for range 2 { // who asks, and how that is known
		r.number()
		r.opaque()
	}
	a.arguments = r
	if r.err == nil && (kind != call || rpc != rpcVersion) {
		r.err = ErrMessage
	}
	return a, r.err
}

// writeReply begins the reply to a call, to which its results are appended.
func writeReply(id, status uint32) (w writer) {
	w.number(id, answer, accepted, 0, 0, status)
	return w
}

// readReply gives the results of a call.
func readReply(record []byte, id uint32) (reader, error) {
	r := reader{data: record}
	if got, kind := r.number(), r.number(); r.err == nil && (got != id || kind != answer) {
		return r, fmt.Errorf("%w: it answers another call", ErrMessage)
	}
	if r.number() != accepted {
		return r, fmt.Errorf("%w: the call was not accepted", ErrMessage)
	}
	r.number()
	r.opaque()
	if status := r.number(); r.err == nil && status != success {
		return r, fmt.Errorf("the instrument %w: it does not know the call (status %d of RPC)", errSays, status)
	}
	return r, r.err
}

// serveCalls answers calls on a connection until it ends. answer gives the results; false if there is no such
// procedure.
func serveCalls(conn io.ReadWriter, answer func(asked) (results writer, ok bool)) {
	incoming := bufio.NewReader(conn)
	for {
		record, err := readRecord(incoming)
		if err != nil {
			return
		}
		a, err := readCall(record)
		if err != nil {
			return
		}
		results, ok := answer(a)
		w := writeReply(a.id, success)
		if !ok {
			w = writeReply(a.id, unavailable)
		}
		if writeRecord(conn, append(w, results...)) != nil {
			return
		}
	}
}
