package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strings"
	"sync"

	"github.com/klauspost/compress/zstd"
)

// A block holds equally long columns of numbers, each compressed by itself so that one can be read without the others:
//
//	version (1 byte) · count (uvarint) · columns (uvarint) · for each column: length (uvarint), bytes
//
// A column's bytes are a kind followed by its payload. Numbers that came from an instrument are decimals of few
// digits; they are kept as integers of their last digit, as differences, losslessly. A column that is the
// product of two others is not kept.
const blockVersion = 1

type columnKind byte

const (
	kindConstant columnKind = iota // one float64
	kindDecimal                    // decimals, order of difference, zstd of zigzag varints
	kindRaw                        // zstd of float64s, bytes of equal weight together
	kindProduct                    // two column numbers
	kindGaps                       // zstd bitmap of present values, then a column of the present ones
)

var errDamaged = errors.New("the block is damaged")

// The coders are safe for concurrent EncodeAll and DecodeAll. They are built once; their options are constants,
// so building them cannot fail.
var (
	encoder = sync.OnceValue(func() *zstd.Encoder {
		e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1))
		if err != nil {
			panic(err)
		}
		return e
	})
	decoder = sync.OnceValue(func() *zstd.Decoder {
		d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(64<<20))
		if err != nil {
			panic(err)
		}
		return d
	})
)

// Prepare makes what all stores of a process share. Otherwise the first that needs it does.
func Prepare() { _, _ = decoder().DecodeAll(encoder().EncodeAll([]byte{0}, nil), nil) }

// products finds the columns that are the product of two others by their names: seat.watts of seat.volts and
// seat.amps. Values are compared before a column is left out, so that a name alone never loses data.
func products(columns []string) map[int][2]int {
	index := map[string]int{}
	for i, c := range columns {
		index[c] = i
	}
	found := map[int][2]int{}
	for i, c := range columns {
		seat, ok := strings.CutSuffix(c, ".watts")
		volts, okVolts := index[seat+".volts"]
		amps, okAmps := index[seat+".amps"]
		if ok && okVolts && okAmps {
			found[i] = [2]int{volts, amps}
		}
	}
	return found
}

// encodeBlock packs columns of equal length.
func encodeBlock(columns [][]float64, product map[int][2]int) []byte {
	count := 0
	if len(columns) > 0 {
		count = len(columns[0])
	}
	out := []byte{blockVersion}
	out = binary.AppendUvarint(out, uint64(count))
	out = binary.AppendUvarint(out, uint64(len(columns)))
	for i, xs := range columns {
		var packed []byte
		if p, ok := product[i]; ok && isProduct(xs, columns[p[0]], columns[p[1]]) {
			packed = binary.AppendUvarint(binary.AppendUvarint([]byte{byte(kindProduct)}, uint64(p[0])), uint64(p[1]))
		} else {
			packed = encodeColumn(xs)
		}
		out = binary.AppendUvarint(out, uint64(len(packed)))
		out = append(out, packed...)
	}
	return out
}

func isProduct(xs, a, b []float64) bool {
	for k, x := range xs {
		if y := a[k] * b[k]; math.Float64bits(x) != math.Float64bits(y) && !(math.IsNaN(x) && math.IsNaN(y)) {
			return false
		}
	}
	return true
}

func encodeColumn(xs []float64) []byte {
	missing := 0
	for _, x := range xs {
		if math.IsNaN(x) {
			missing++
		}
	}
	if missing > 0 {
		return encodeGaps(xs, missing)
	}
	constant := true
	for _, x := range xs {
		constant = constant && math.Float64bits(x) == math.Float64bits(xs[0])
	}
	if constant && len(xs) > 0 {
		return binary.LittleEndian.AppendUint64([]byte{byte(kindConstant)}, math.Float64bits(xs[0]))
	}
	if decimals, ok := decimalsOf(xs); ok {
		return encodeDecimal(xs, decimals)
	}
	raw := make([]byte, 8*len(xs))
	for k, x := range xs {
		bits := math.Float64bits(x)
		for b := range 8 {
			raw[b*len(xs)+k] = byte(bits >> (8 * b))
		}
	}
	return encoder().EncodeAll(raw, []byte{byte(kindRaw)})
}

func encodeGaps(xs []float64, missing int) []byte {
	bitmap := make([]byte, (len(xs)+7)/8)
	present := make([]float64, 0, len(xs)-missing)
	for k, x := range xs {
		if !math.IsNaN(x) {
			bitmap[k/8] |= 1 << (k % 8)
			present = append(present, x)
		}
	}
	packed := encoder().EncodeAll(bitmap, nil)
	out := binary.AppendUvarint([]byte{byte(kindGaps)}, uint64(len(packed)))
	out = append(out, packed...)
	if len(present) > 0 {
		out = append(out, encodeColumn(present)...)
	}
	return out
}

const mostDecimals = 9

var powersOfTen = [mostDecimals + 1]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9}

// decimalsOf finds the least number of decimals with which every value is written exactly.
func decimalsOf(xs []float64) (int, bool) {
	d := 0
	for _, x := range xs {
		for {
			scaled := math.Round(x * powersOfTen[d])
			if math.Abs(scaled) < 1<<52 && scaled/powersOfTen[d] == x && (x != 0 || !math.Signbit(x)) {
				break
			}
			if d++; d > mostDecimals {
				return 0, false
			}
		}
	}
	return d, true
}

// encodeDecimal keeps integers of the last digit as first or second differences, whichever is shorter.
func encodeDecimal(xs []float64, decimals int) []byte {
	var best []byte
	order := byte(1)
	for o := byte(1); o <= 2; o++ {
		var packed []byte
		var last, lastStep int64
		for _, x := range xs {
			n := int64(math.Round(x * powersOfTen[decimals]))
			step := n - last
			if o == 1 {
				packed = binary.AppendVarint(packed, step)
			} else {
				packed = binary.AppendVarint(packed, step-lastStep)
			}
			last, lastStep = n, step
		}
		if best == nil || len(packed) < len(best) {
			best, order = packed, o
		}
	}
	return encoder().EncodeAll(best, []byte{byte(kindDecimal), byte(decimals), order})
}

// block is an encoded block with the places of its columns.
type block struct {
	count   int
	columns [][]byte
}

func openBlock(data []byte) (block, error) {
	if len(data) == 0 || data[0] != blockVersion {
		return block{}, fmt.Errorf("%w: unknown version", errDamaged)
	}
	r := reader{data[1:]}
	b := block{count: int(r.uvarint())}
	columns := int(r.uvarint())
	if b.count < 0 || b.count > 1<<20 || columns < 0 || columns > 1<<12 {
		return block{}, errDamaged
	}
	for range columns {
		b.columns = append(b.columns, r.bytes(int(r.uvarint())))
	}
	if r.data == nil {
		return block{}, errDamaged
	}
	return b, nil
}

// reader takes pieces off the front of data; after a damaged piece data is nil.
type reader struct{ data []byte }

func (r *reader) uvarint() uint64 {
	x, n := binary.Uvarint(r.data)
	if n <= 0 {
		r.data = nil
		return 0
	}
	r.data = r.data[n:]
	return x
}

func (r *reader) bytes(n int) []byte {
	if n < 0 || n > len(r.data) {
		r.data = nil
		return nil
	}
	piece := r.data[:n:n]
	r.data = r.data[n:]
	if r.data == nil {
		r.data = []byte{}
	}
	return piece
}

// column decodes one column of the block.
func (b block) column(i int) ([]float64, error) {
	if i < 0 || i >= len(b.columns) {
		return nil, fmt.Errorf("%w: no column %d", errDamaged, i)
	}
	packed := b.columns[i]
	if len(packed) > 0 && columnKind(packed[0]) == kindProduct {
		r := reader{packed[1:]}
		left, right := int(r.uvarint()), int(r.uvarint())
		if left >= i || right >= i {
			return nil, errDamaged
		}
		xs, err := b.column(left)
		if err != nil {
			return nil, err
		}
		ys, err := b.column(right)
		if err != nil {
			return nil, err
		}
		for k := range xs {
			xs[k] *= ys[k]
		}
		return xs, nil
	}
	return decodeColumn(packed, b.count)
}

func decodeColumn(packed []byte, count int) ([]float64, error) {
	if len(packed) == 0 {
		return nil, errDamaged
	}
	kind, payload := columnKind(packed[0]), packed[1:]
	xs := make([]float64, count)
	switch kind {
	case kindConstant:
		if len(payload) < 8 {
			return nil, errDamaged
		}
		x := math.Float64frombits(binary.LittleEndian.Uint64(payload))
		for k := range xs {
			xs[k] = x
		}
		return xs, nil
	case kindDecimal:
		return xs, decodeDecimal(payload, xs)
	case kindRaw:
		raw, err := decoder().DecodeAll(payload, nil)
		if err != nil || len(raw) != 8*count {
			return nil, errDamaged
		}
		join(xs, raw)
		return xs, nil
	case kindGaps:
		return xs, decodeGaps(payload, xs)
	}
	return nil, errDamaged
}

// join puts the bytes of numbers together, which stand apart: first the lowest of each, then the next.
func join(xs []float64, raw []byte) {
	n := len(xs)
	b0, b1, b2, b3 := raw[:n], raw[n:2*n], raw[2*n:3*n], raw[3*n:4*n]
	b4, b5, b6, b7 := raw[4*n:5*n], raw[5*n:6*n], raw[6*n:7*n], raw[7*n:8*n]
	for k := range xs {
		low := uint64(b0[k]) | uint64(b1[k])<<8 | uint64(b2[k])<<16 | uint64(b3[k])<<24
		high := uint64(b4[k]) | uint64(b5[k])<<8 | uint64(b6[k])<<16 | uint64(b7[k])<<24
		xs[k] = math.Float64frombits(low | high<<32)
	}
}

func decodeDecimal(payload []byte, xs []float64) error {
	if len(payload) < 2 || payload[0] > mostDecimals {
		return errDamaged
	}
	scale, order := powersOfTen[payload[0]], payload[1]
	packed, err := decoder().DecodeAll(payload[2:], nil)
	if err != nil {
		return errDamaged
	}
	var last, step int64
	for k := range xs {
		d, n := binary.Varint(packed)
		if n <= 0 {
			return errDamaged
		}
		packed = packed[n:]
		if order == 1 {
			step = d
		} else {
			step += d
		}
		last += step
		xs[k] = float64(last) / scale
	}
	return nil
}

func decodeGaps(payload []byte, xs []float64) error {
	r := reader{payload}
	bitmap, err := decoder().DecodeAll(r.bytes(int(r.uvarint())), nil)
	if err != nil || len(bitmap) != (len(xs)+7)/8 {
		return errDamaged
	}
	present := 0
	for k := range xs {
		if bitmap[k/8]&(1<<(k%8)) != 0 {
			present++
		}
	}
	var values []float64
	if present > 0 {
		if values, err = decodeColumn(r.data, present); err != nil {
			return err
		}
	}
	for k := range xs {
		xs[k] = math.NaN()
		if bitmap[k/8]&(1<<(k%8)) != 0 {
			xs[k], values = values[0], values[1:]
		}
	}
	return nil
}
