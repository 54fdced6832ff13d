package scpi

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
)

// block reads a block of IEEE 488.2: "#" and a digit n, n digits of the length, and as many bytes; or "#0" and
// bytes up to the terminator. What is in it goes to what begin gives for its length, as it comes.
func (c *Client) block(begin func(length int) io.Writer) error {
	if err := c.skipTo('#'); err != nil {
		return err
	}
	digit, err := c.reader.ReadByte()
	if err != nil {
		return err
	}
	if digit == '0' {
		text, err := c.line()
		if err == nil {
			_, err = io.WriteString(begin(len(text)), text)
		}
		return err
	}
	if digit < '1' || digit > '9' {
		return fmt.Errorf("a block begins with # and a digit, not #%q", digit)
	}
	head := make([]byte, digit-'0')
	if _, err := io.ReadFull(c.reader, head); err != nil {
		return err
	}
	length, err := strconv.Atoi(string(head))
	if err != nil || length < 0 || length > longestBlock {
		return fmt.Errorf("the length of the block, %q, is not a number up to %d", head, longestBlock)
	}
	to, part := begin(length), make([]byte, min(length, partOfBlock))
	for left := length; left > 0; left -= len(part) {
		part = part[:min(left, len(part))]
		if _, err := io.ReadFull(c.reader, part); err != nil {
			return err
		}
		if _, err := to.Write(part); err != nil {
			return err
		}
	}
	_, err = c.line() // the terminator
	return err
}

const (
	// partOfBlock is how much of a block is read at once: what the processor has at hand.
	partOfBlock = 128 << 10
	// atOnce is how much memory is taken on the word of an instrument.
	atOnce = 8 << 20
)

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

// Codes collects the integers of a block as its data come ([Request.Data]). The zero value of a format is ready.
type Codes struct {
	Format
	got  []int16
	rest []byte // of a number that has not come whole
}

// Begin forgets what was collected before.
func (c *Codes) Begin(length int) io.Writer {
	c.got, c.rest = make([]int16, 0, min(length, atOnce)/max(sizes[c.Of], 1)), nil
	return c
}

func (c *Codes) Write(data []byte) (int, error) {
	written := len(data)
	if len(c.rest) > 0 {
		data = append(c.rest, data...)
	}
	size := sizes[c.Of]
	if size == 0 || size > 2 {
		return 0, fmt.Errorf("%w: %s is no code", ErrBlockSize, c.Of)
	}
	n := len(data) / size
	c.rest = bytes.Clone(data[n*size:])
	c.got = slices.Grow(c.got, n)
	c.decode(c.got[len(c.got):len(c.got)+n], data)
	c.got = c.got[:len(c.got)+n]
	return written, nil
}

// decode fills codes; of two bytes there are millions, which go four at a time.
func (c *Codes) decode(codes []int16, data []byte) {
	switch {
	case c.Of == "int8":
		for i := range codes {
			codes[i] = int16(int8(data[i]))
		}
	case c.Of == "uint8":
		for i := range codes {
			codes[i] = int16(data[i])
		}
	case c.Low:
		for ; len(codes) >= 4; codes, data = codes[4:], data[8:] {
			x := binary.LittleEndian.Uint64(data)
			codes[0], codes[1], codes[2], codes[3] = int16(x), int16(x>>16), int16(x>>32), int16(x>>48)
		}
		for i := range codes {
			codes[i] = int16(binary.LittleEndian.Uint16(data[2*i:]))
		}
	default:
		for ; len(codes) >= 4; codes, data = codes[4:], data[8:] {
			x := binary.BigEndian.Uint64(data)
			codes[0], codes[1], codes[2], codes[3] = int16(x>>48), int16(x>>32), int16(x>>16), int16(x)
		}
		for i := range codes {
			codes[i] = int16(binary.BigEndian.Uint16(data[2*i:]))
		}
	}
}

// All are the codes of the whole block.
func (c *Codes) All() ([]int16, error) {
	if len(c.rest) > 0 {
		return nil, fmt.Errorf("%w: %d bytes of %s", ErrBlockSize, len(c.got)*sizes[c.Of]+len(c.rest), c.Of)
	}
	return c.got, nil
}
