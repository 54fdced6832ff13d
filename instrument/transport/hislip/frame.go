// Package hislip speaks HiSLIP 1.0, the high-speed LAN instrument protocol (IVI-6.1): messages of IEEE 488.2 over two
// connections, one for messages and answers, one for what must not wait behind them.
package hislip

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Kind is what a frame is about (IVI-6.1, table 4).
type Kind byte

// The kinds of frames.
const (
	Initialize Kind = iota
	InitializeResponse
	FatalError
	Failure // "Error" of the standard
	AsyncLock
	AsyncLockResponse
	Data
	DataEnd
	DeviceClearComplete
	DeviceClearAcknowledge
	AsyncRemoteLocalControl
	AsyncRemoteLocalResponse
	Trigger
	Interrupted
	AsyncInterrupted
	AsyncMaximumMessageSize
	AsyncMaximumMessageSizeResponse
	AsyncInitialize
	AsyncInitializeResponse
	AsyncDeviceClear
	AsyncServiceRequest
	AsyncStatusQuery
	AsyncStatusResponse
	AsyncDeviceClearAcknowledge
	AsyncLockInfo
	AsyncLockInfoResponse
)

// Head begins every frame.
type Head struct {
	Kind    Kind
	Control byte
	Param   uint32
	Length  uint64 // of the payload that follows, bytes
}

const (
	headSize = 16
	// Version is the version of the protocol: 1.0.
	Version = 0x0100
	// Port is where instruments listen (registered with IANA).
	Port = 4880
	// firstMessage is the number of the first message; each next one is greater by 2.
	firstMessage = 0xffffff00
	// largest bounds the payload that is taken at once, and that of frames which are no data.
	largest      = 16 << 20
	largestOther = 4096
)

// ErrFrame means that what came is no frame of HiSLIP.
var ErrFrame = errors.New("this is no frame of HiSLIP")

// ReadHead reads the head of a frame; its payload follows.
func ReadHead(r io.Reader) (Head, error) {
	var raw [headSize]byte
	if _, err := io.ReadFull(r, raw[:]); err != nil {
		return Head{}, err
	}
	h := Head{Kind(raw[2]), raw[3], binary.BigEndian.Uint32(raw[4:]), binary.BigEndian.Uint64(raw[8:])}
	most := uint64(largestOther)
	if h.Kind == Data || h.Kind == DataEnd {
		most = largest
	}
	if raw[0] != 'H' || raw[1] != 'S' || h.Length > most {
		return Head{}, fmt.Errorf("%w: % x", ErrFrame, raw)
	}
	return h, nil
}

// ReadFrame reads a frame whole.
func ReadFrame(r io.Reader) (Head, []byte, error) {
	h, err := ReadHead(r)
	if err != nil {
		return h, nil, err
	}
	payload := make([]byte, h.Length)
	_, err = io.ReadFull(r, payload)
	return h, payload, err
}

// WriteFrame writes a frame; the length is that of the payload.
func WriteFrame(w io.Writer, h Head, payload []byte) error {
	raw := make([]byte, headSize, headSize+len(payload))
	raw[0], raw[1], raw[2], raw[3] = 'H', 'S', byte(h.Kind), h.Control
	binary.BigEndian.PutUint32(raw[4:], h.Param)
	binary.BigEndian.PutUint64(raw[8:], uint64(len(payload)))
	_, err := w.Write(append(raw, payload...))
	return err
}
