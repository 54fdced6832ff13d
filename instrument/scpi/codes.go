package scpi

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"unsafe"
)

// Codes collects the integers of a block as its data come ([Request.Data]).
type Codes struct {
	Format
	got  []int16
	data int // bytes that came
}

// partOfBlock is how much of a block is read and put right at once: what the processor has at hand.
const partOfBlock = 128 << 10

// Begin forgets what was collected before. It takes room for a code more than there are, to which the end is read.
func (c *Codes) Begin(length int) io.Writer {
	c.data, c.got = 0, make([]int16, 0, min(length, atOnce)/max(sizes[c.Of], 1)+1)
	return c
}

// ReadFrom takes codes until r ends. Of two bytes there are millions: they are read to where they stay.
func (c *Codes) ReadFrom(r io.Reader) (read int64, err error) {
	size := sizes[c.Of]
	if size == 0 || size > 2 {
		return 0, fmt.Errorf("%w: %s is no code", ErrBlockSize, c.Of)
	}
	begun := c.data
	for err == nil {
		err = c.take(r, size)
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return int64(c.data - begun), err
}

// take reads once, and puts right what is whole by then.
func (c *Codes) take(r io.Reader, size int) error {
	if c.data/size == cap(c.got) {
		c.got = slices.Grow(c.got, partOfBlock/size)
	}
	codes := c.got[:cap(c.got)]
	room := memory(codes)[c.data%size+len(c.got)*2:]
	n, err := r.Read(room[:min(len(room), partOfBlock, (cap(c.got)*size-c.data))])
	c.data += n
	fresh := codes[len(c.got) : c.data/size]
	c.got = codes[:c.data/size]
	switch {
	case size == 1:
		widen(fresh, c.Of == "int8")
	case c.Low != lowFirst:
		swap(memory(fresh))
	}
	return err
}

// memory is what codes lie in.
func memory(codes []int16) []byte {
	return unsafe.Slice((*byte)(unsafe.Pointer(unsafe.SliceData(codes))), 2*len(codes))
}

// lowFirst tells whether this computer keeps the least significant byte first.
var lowFirst = binary.NativeEndian.Uint16([]byte{1, 0}) == 1

// swap changes the order of the two bytes of every code: of sixteen codes at a time, while there are so many.
func swap(data []byte) {
	for ; len(data) >= 32; data = data[32:] {
		d := data[:32:32]
		binary.NativeEndian.PutUint64(d[0:8], swapped(binary.NativeEndian.Uint64(d[0:8])))
		binary.NativeEndian.PutUint64(d[8:16], swapped(binary.NativeEndian.Uint64(d[8:16])))
		binary.NativeEndian.PutUint64(d[16:24], swapped(binary.NativeEndian.Uint64(d[16:24])))
		binary.NativeEndian.PutUint64(d[24:32], swapped(binary.NativeEndian.Uint64(d[24:32])))
	}
	for ; len(data) >= 2; data = data[2:] {
		data[0], data[1] = data[1], data[0]
	}
}

// swapped are four codes with the two bytes of each the other way round.
func swapped(x uint64) uint64 {
	const low = 0x00ff00ff00ff00ff
	return x&low<<8 | x>>8&low
}

// widen makes codes of the bytes that lie in the first half of their memory.
func widen(codes []int16, signed bool) {
	data := memory(codes)
	for i := len(codes) - 1; i >= 0; i-- {
		if signed {
			codes[i] = int16(int8(data[i]))
		} else {
			codes[i] = int16(data[i])
		}
	}
}

// Write takes codes from memory.
func (c *Codes) Write(data []byte) (int, error) {
	n, err := c.ReadFrom(bytes.NewReader(data))
	return int(n), err
}

// All are the codes of the whole block.
func (c *Codes) All() ([]int16, error) {
	if size := sizes[c.Of]; size > 0 && c.data%size != 0 {
		return nil, fmt.Errorf("%w: %d bytes of %s", ErrBlockSize, c.data, c.Of)
	}
	return c.got, nil
}
