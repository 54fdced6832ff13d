package simbench

import (
	"encoding/binary"
	"io"
	"time"
)

// registers is a Modbus server's side of a stand-in: what its registers hold and what a write does. Numbers are
// of the standard.
type registers interface {
	// readRegister gives a register; ok is false for an address that does not exist.
	readRegister(input bool, address uint16) (value uint16, ok bool)
	// writeRegister returns 0, or the exception code.
	writeRegister(address, value uint16) byte
}

// Exceptions and functions of the standard.
const (
	illegalFunction = 1
	illegalAddress  = 2
	illegalValue    = 3
	readHolding     = 3
	readInput       = 4
	writeOne        = 6
	writeSeveral    = 16
)

// respond answers function and data of a request.
func respond(r registers, pdu []byte) []byte {
	refuse := func(code byte) []byte { return []byte{pdu[0] | 0x80, code} }
	if len(pdu) < 5 {
		return refuse(illegalValue)
	}
	address, second := binary.BigEndian.Uint16(pdu[1:]), binary.BigEndian.Uint16(pdu[3:])
	switch pdu[0] {
	case readHolding, readInput:
		if second < 1 || second > 125 {
			return refuse(illegalValue)
		}
		answer := []byte{pdu[0], byte(2 * second)}
		for k := range second {
			value, ok := r.readRegister(pdu[0] == readInput, address+k)
			if !ok {
				return refuse(illegalAddress)
			}
			answer = binary.BigEndian.AppendUint16(answer, value)
		}
		return answer
	case writeOne:
		if code := r.writeRegister(address, second); code != 0 {
			return refuse(code)
		}
		return pdu[:5]
	case writeSeveral:
		if len(pdu) < 6 || int(pdu[5]) != 2*int(second) || len(pdu) != 6+2*int(second) {
			return refuse(illegalValue)
		}
		for k := range second {
			if code := r.writeRegister(address+k, binary.BigEndian.Uint16(pdu[6+2*k:])); code != 0 {
				return refuse(code)
			}
		}
		return pdu[:5]
	}
	return refuse(illegalFunction)
}

// registerServer answers for one unit number, over TCP or on a line.
type registerServer struct {
	turn   chan struct{} // holds a token while a question is answered
	unit   byte
	device registers
	health *health
	delay  time.Duration // the slow processor of the low-cost kind
	mute   bool          // what was asked last is not answered
}

func (s *registerServer) answer(pdu []byte) []byte {
	s.turn <- struct{}{}
	defer func() { <-s.turn }()
	time.Sleep(s.delay)
	s.mute = false
	answer := respond(s.device, pdu)
	if s.mute {
		return nil
	}
	return answer
}

// serve answers frames of TCP on a connection.
func (s *registerServer) serve(conn io.ReadWriteCloser) {
	defer conn.Close()
	header := make([]byte, 7)
	for {
		if _, err := io.ReadFull(conn, header); err != nil {
			return
		}
		length := int(binary.BigEndian.Uint16(header[4:])) - 1
		if length < 1 || length > 253 {
			return
		}
		pdu := make([]byte, length)
		if _, err := io.ReadFull(conn, pdu); err != nil {
			return
		}
		answer := s.answer(pdu)
		if !s.health.pass() {
			return
		}
		if answer == nil {
			continue
		}
		if s.health.now() == Garbage {
			answer = []byte{0x55, 0xAA}
		}
		frame := binary.BigEndian.AppendUint16(append([]byte(nil), header[:4]...), uint16(len(answer)+1))
		if _, err := conn.Write(append(append(frame, header[6]), answer...)); err != nil {
			return
		}
	}
}

// longestSilence inside a frame is long: a busy computer pauses more than a wire does.
const longestSilence = 150 * time.Millisecond

// serveLine answers frames on a serial line. Frames end with a silence.
func (s *registerServer) serveLine(line io.ReadWriter) {
	bytes, done := make(chan []byte), make(chan struct{})
	defer close(done)
	go func() {
		defer close(bytes)
		for {
			buffer := make([]byte, 256)
			n, err := line.Read(buffer)
			if err != nil {
				return
			}
			select {
			case bytes <- buffer[:n]:
			case <-done:
				return
			}
		}
	}()
	var frame []byte
	for {
		var silence <-chan time.Time // inside a frame
		if len(frame) > 0 {
			silence = time.After(longestSilence)
		}
		select {
		case more, ok := <-bytes:
			if !ok {
				return
			}
			frame = append(frame, more...)
			if len(frame) < 8 || !whole(frame) {
				continue
			}
		case <-silence:
			frame = nil // what is no frame by now never will be
			continue
		}
		request := frame
		frame = nil
		if request[0] != s.unit {
			continue
		}
		answer := s.answer(request[1 : len(request)-2])
		if !s.health.pass() || answer == nil {
			continue
		}
		out := seal(append([]byte{s.unit}, answer...))
		if s.health.now() == Garbage {
			out[len(out)-1] ^= 0x5A
		}
		if _, err := line.Write(out); err != nil {
			return
		}
	}
}

func whole(frame []byte) bool {
	body := frame[:len(frame)-2]
	return crc(body) == binary.LittleEndian.Uint16(frame[len(frame)-2:])
}

func seal(body []byte) []byte { return binary.LittleEndian.AppendUint16(body, crc(body)) }

func crc(data []byte) uint16 {
	sum := uint16(0xFFFF)
	for _, b := range data {
		sum ^= uint16(b)
		for range 8 {
			odd := sum & 1
			if sum >>= 1; odd != 0 {
				sum ^= 0xA001
			}
		}
	}
	return sum
}
