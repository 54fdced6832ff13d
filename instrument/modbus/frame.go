// Package modbus is a client for instruments with registers, by the MODBUS Application Protocol V1.1b3, over
// serial lines (RTU) and TCP: it reads holding registers (function 3) and input registers (4), and writes one
// (6) or several (16). Broadcasts are refused.
package modbus

import (
	"encoding/binary"
	"errors"
	"fmt"
)

// Functions of the standard that are used here.
const (
	ReadHolding   byte = 3
	ReadInput     byte = 4
	WriteOne      byte = 6
	WriteSeveral  byte = 16
	exceptionFlag byte = 0x80
)

// Bounds of the standard, registers a message.
const (
	MostRead  = 125
	MostWrite = 123
)

// Exception is a server's refusal.
type Exception struct{ Function, Code byte }

var exceptionWords = map[byte]string{
	1: "illegal function", 2: "illegal register address", 3: "illegal value", 4: "the device failed",
	5: "acknowledged, not done yet",
	6: "the device is busy", 8: "memory parity error", 10: "the gateway has no path",
	11: "the device behind the gateway does not answer",
}

func (e *Exception) Error() string {
	words := exceptionWords[e.Code]
	if words == "" {
		words = "unknown reason"
	}
	return fmt.Sprintf("the instrument refused function %d with exception %d: %s", e.Function, e.Code, words)
}

// NobodyThere tells whether a gateway refused because the unit does not answer it.
func (e *Exception) NobodyThere() bool { return e.Code == 10 || e.Code == 11 }

// Errors of frames.
var (
	ErrChecksum = errors.New("the checksum of the answer is wrong; check baud rate, parity and wiring")
	ErrForeign  = errors.New("the answer is not to this question")
	ErrShort    = errors.New("the answer ends too early")
)

// request is the part of a message that is the same on a serial line and over TCP: function and data.
func request(function byte, address uint16, words ...uint16) []byte {
	pdu := binary.BigEndian.AppendUint16([]byte{function}, address)
	if function == WriteSeveral {
		pdu = binary.BigEndian.AppendUint16(pdu, uint16(len(words)))
		pdu = append(pdu, byte(2*len(words)))
	}
	for _, w := range words {
		pdu = binary.BigEndian.AppendUint16(pdu, w)
	}
	return pdu
}

// answerTo takes function and data of an answer apart and returns the registers that were read; none for a write.
func answerTo(asked, got []byte) ([]uint16, error) {
	if len(got) < 2 {
		return nil, ErrShort
	}
	function := asked[0]
	if got[0] == function|exceptionFlag {
		return nil, &Exception{function, got[1]}
	}
	if got[0] != function {
		return nil, fmt.Errorf("%w: function %d answers function %d", ErrForeign, got[0], function)
	}
	switch function {
	case ReadHolding, ReadInput:
		count := int(binary.BigEndian.Uint16(asked[3:]))
		if int(got[1]) != 2*count || len(got) != 2+2*count {
			return nil, fmt.Errorf("%w: %d bytes came for %d registers", ErrForeign, len(got)-2, count)
		}
		words := make([]uint16, count)
		for i := range words {
			words[i] = binary.BigEndian.Uint16(got[2+2*i:])
		}
		return words, nil
	default:
		// A write is echoed: address and value, or address and count.
		if len(got) != 5 || string(got[1:5]) != string(asked[1:5]) {
			return nil, fmt.Errorf("%w: the echo of a write differs", ErrForeign)
		}
		return nil, nil
	}
}

// checksum is the CRC-16 of MODBUS over Serial Line V1.02, chapter 6.2: polynomial 0xA001 (reflected 0x8005),
// start 0xFFFF.
func checksum(data []byte) uint16 {
	crc := uint16(0xFFFF)
	for _, b := range data {
		crc ^= uint16(b)
		for range 8 {
			if crc&1 != 0 {
				crc = crc>>1 ^ 0xA001
			} else {
				crc >>= 1
			}
		}
	}
	return crc
}

// sealRTU makes a frame of a serial line: unit, function and data, checksum with the low byte first.
func sealRTU(unit byte, pdu []byte) []byte {
	frame := append([]byte{unit}, pdu...)
	return binary.LittleEndian.AppendUint16(frame, checksum(frame))
}

// openRTU takes a frame of a serial line apart.
func openRTU(unit byte, frame []byte) (pdu []byte, err error) {
	if len(frame) < 4 {
		return nil, ErrShort
	}
	body, sum := frame[:len(frame)-2], binary.LittleEndian.Uint16(frame[len(frame)-2:])
	if checksum(body) != sum {
		return nil, ErrChecksum
	}
	if body[0] != unit {
		return nil, fmt.Errorf("%w: unit %d answers unit %d", ErrForeign, body[0], unit)
	}
	return body[1:], nil
}

// answerLength tells from the first bytes of an RTU answer how long the frame is; 0 while that is not known yet.
func answerLength(head []byte) int {
	if len(head) < 3 {
		return 0
	}
	switch {
	case head[1]&exceptionFlag != 0:
		return 5
	case head[1] == ReadHolding || head[1] == ReadInput:
		return 5 + int(head[2])
	case head[1] == WriteOne || head[1] == WriteSeveral:
		return 8
	}
	return 3 // garbage: what is there is all there is to judge
}

// headerTCP is the length of the MBAP header: transaction, protocol, length, unit.
const headerTCP = 7

// sealTCP makes a frame of TCP.
func sealTCP(transaction uint16, unit byte, pdu []byte) []byte {
	frame := binary.BigEndian.AppendUint16(nil, transaction)
	frame = append(frame, 0, 0)
	frame = binary.BigEndian.AppendUint16(frame, uint16(len(pdu)+1))
	return append(append(frame, unit), pdu...)
}

// lengthTCP reads from an MBAP header how many bytes follow it.
func lengthTCP(header []byte) (int, error) {
	length := int(binary.BigEndian.Uint16(header[4:]))
	if header[2] != 0 || header[3] != 0 || length < 3 || length > 254 {
		return 0, fmt.Errorf("%w: this is no Modbus frame", ErrForeign)
	}
	return length - 1, nil
}
