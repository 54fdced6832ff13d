package scpi

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
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
	if _, err := io.CopyN(begin(length), c.reader, int64(length)); err != nil {
		return err
	}
	_, err = c.line() // the terminator
	return err
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

// Size is how long a number is, bytes; 0: it is none.
func (f Format) Size() int { return sizes[f.Of] }

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
