package scpi

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"unsafe"
)

// block reads a block of IEEE 488.2: "#" and a digit n, n digits of the length, and as many bytes; or "#0" and
// bytes up to the terminator.
func (c *Client) block() (string, error) {
	if err := c.skipTo('#'); err != nil {
		return "", err
	}
	digit, err := c.reader.ReadByte()
	if err != nil {
		return "", err
	}
	if digit == '0' {
		text, err := c.line()
		return text, err
	}
	if digit < '1' || digit > '9' {
		return "", fmt.Errorf("a block begins with # and a digit, not #%q", digit)
	}
	head := make([]byte, digit-'0')
	if _, err := io.ReadFull(c.reader, head); err != nil {
		return "", err
	}
	length, err := strconv.Atoi(string(head))
	if err != nil || length < 0 || length > longestBlock {
		return "", fmt.Errorf("the length of the block, %q, is not a number up to %d", head, longestBlock)
	}
	data := make([]byte, 0, min(length, atOnce)) // what is promised beyond that is believed as it comes
	for len(data) < length {
		more := min(length-len(data), atOnce)
		data = slices.Grow(data, more)
		n, err := io.ReadFull(c.reader, data[len(data):len(data)+more])
		if data = data[:len(data)+n]; err != nil {
			return "", err
		}
	}
	_, err = c.line()                                            // the terminator
	return unsafe.String(unsafe.SliceData(data), len(data)), err // nobody writes to it any more
}

// atOnce is how much memory is taken on the word of an instrument.
const atOnce = 8 << 20

// skipTo drops bytes before a mark; an answer that has no block shows what came instead.
func (c *Client) skipTo(mark byte) error {
	for skipped := []byte{}; ; {
		b, err := c.reader.ReadByte()
		switch {
		case err != nil:
			return err
		case b == mark:
			return nil
		case b == '\n' || len(skipped) > 80:
			return fmt.Errorf("the answer %q holds no block", strings.TrimSpace(string(skipped)))
		}
		skipped = append(skipped, b)
	}
}

// Format is how the numbers of a block are written.
type Format struct {
	Of  string // float32, float64, int16, int8, uint8
	Low bool   // the least significant byte comes first
}

// Sizes of the numbers of a block, bytes.
var sizes = map[string]int{"float32": 4, "float64": 8, "int16": 2, "int8": 1, "uint8": 1}

// ErrBlockSize means that a block does not hold a whole number of numbers.
var ErrBlockSize = errors.New("the block does not hold a whole number of numbers")

// Numbers decodes the data of a block.
func (f Format) Numbers(data string) ([]float64, error) {
	size, known := sizes[f.Of]
	if !known || len(data)%size != 0 {
		return nil, fmt.Errorf("%w: %d bytes of %s", ErrBlockSize, len(data), f.Of)
	}
	var order binary.ByteOrder = binary.BigEndian
	if f.Low {
		order = binary.LittleEndian
	}
	numbers := make([]float64, 0, len(data)/size)
	for raw := []byte(data); len(raw) > 0; raw = raw[size:] {
		switch f.Of {
		case "float32":
			numbers = append(numbers, float64(math.Float32frombits(order.Uint32(raw))))
		case "float64":
			numbers = append(numbers, math.Float64frombits(order.Uint64(raw)))
		case "int16":
			numbers = append(numbers, float64(int16(order.Uint16(raw))))
		}
	}
	return numbers, nil
}

// Codes decodes the data of a block of integers.
func (f Format) Codes(data string) ([]int16, error) {
	size := sizes[f.Of]
	if size == 0 || size > 2 || len(data)%size != 0 {
		return nil, fmt.Errorf("%w: %d bytes of %s", ErrBlockSize, len(data), f.Of)
	}
	codes := make([]int16, len(data)/size)
	high, low := 0, 1 // which byte of each
	if f.Low {
		high, low = 1, 0
	}
	switch f.Of {
	case "int8":
		for i := range codes {
			codes[i] = int16(int8(data[i]))
		}
	case "uint8":
		for i := range codes {
			codes[i] = int16(data[i])
		}
	default:
		for i := range codes {
			pair := data[2*i : 2*i+2]
			codes[i] = int16(uint16(pair[high])<<8 | uint16(pair[low]))
		}
	}
	return codes, nil
}
