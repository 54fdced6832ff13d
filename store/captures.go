package store

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/waveform"
)

// A waveform is kept in blocks of samples, as differences of its codes, the low and the high bytes apart,
// compressed; and in a pyramid of the lowest and highest codes of 16, 256, … samples. A block of the pyramid is
// as long as one of samples.
const (
	waveBlock  = 1 << 16
	waveBucket = 16
	waveLevels = 6
)

// captureRow is what is known of a capture beside its samples.
type captureRow struct {
	RunID string `gorm:"primaryKey"`
	Seq   int    `gorm:"primaryKey;autoIncrement:false"`
	Data  string // JSON of a storedCapture
}

func (captureRow) TableName() string { return "captures" }

// waveRow is a block of one channel at one level: codes, or the lowest and then the highest of buckets.
type waveRow struct {
	RunID   string `gorm:"primaryKey"`
	Seq     int    `gorm:"primaryKey;autoIncrement:false"`
	Channel string `gorm:"primaryKey"`
	Level   int    `gorm:"primaryKey;autoIncrement:false"`
	First   int64  `gorm:"primaryKey;autoIncrement:false"` // index of the first sample or bucket
	Data    []byte
}

func (waveRow) TableName() string { return "waves" }

// storedCapture is a capture with how its codes are to be read.
type storedCapture struct {
	record.Capture
	Waves map[string]waveform.Waveform `json:"waves"`
}

// PackedWave is a waveform ready for the disk.
type PackedWave struct {
	head waveform.Waveform // without codes
	rows []waveRow
}

// PackWave compresses a waveform; it takes its time, and may be done by anybody.
func PackWave(w *waveform.Waveform) PackedWave {
	p := PackedWave{head: *w}
	p.head.Codes = nil
	for first := 0; first < len(w.Codes); first += waveBlock {
		part := w.Codes[first:min(first+waveBlock, len(w.Codes))]
		p.rows = append(p.rows, waveRow{Channel: w.Channel, First: int64(first), Data: packCodes(part)})
	}
	low, high := w.Codes, w.Codes
	for level := 1; level <= waveLevels && len(low) > waveBucket; level++ {
		low, high = lowest(low), highest(high)
		for first := 0; first < len(low); first += waveBlock {
			last := min(first+waveBlock, len(low))
			p.rows = append(p.rows, waveRow{Channel: w.Channel, Level: level, First: int64(first),
				Data: append(sized(packCodes(low[first:last])), packCodes(high[first:last])...)})
		}
	}
	return p
}

// sized puts the length before a piece, so that another can follow.
func sized(piece []byte) []byte {
	return append(binary.AppendUvarint(nil, uint64(len(piece))), piece...)
}

func lowest(codes []int16) []int16 {
	return buckets(codes, func(part []int16) int16 { return slices.Min(part) })
}
func highest(codes []int16) []int16 {
	return buckets(codes, func(part []int16) int16 { return slices.Max(part) })
}

func buckets(codes []int16, of func([]int16) int16) []int16 {
	out := make([]int16, 0, len(codes)/waveBucket+1)
	for part := range slices.Chunk(codes, waveBucket) {
		out = append(out, of(part))
	}
	return out
}

func packCodes(codes []int16) []byte {
	n := len(codes)
	raw := make([]byte, 2*n)
	before := int16(0)
	for i, c := range codes {
		d := uint16(c - before) // it may wrap around, there and back
		before = c
		raw[i], raw[n+i] = byte(d), byte(d>>8)
	}
	return encoder().EncodeAll(raw, nil)
}

func unpackCodes(data []byte) ([]int16, error) {
	raw, err := decoder().DecodeAll(data, nil)
	if err != nil || len(raw)%2 != 0 {
		return nil, errDamaged
	}
	n := len(raw) / 2
	codes := make([]int16, n)
	at := int16(0)
	for i := range codes {
		at += int16(uint16(raw[i]) | uint16(raw[n+i])<<8)
		codes[i] = at
	}
	return codes, nil
}

// capturePending is a capture that is not on disk yet.
type capturePending struct {
	row   captureRow
	waves []waveRow
	gone  bool // it is dropped
}

// Capture records a capture with its waveforms, one for each of its channels.
func (r *Recorder) Capture(c record.Capture, waves []PackedWave) error {
	p, err := pendingCapture(r.runID, c, waves)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.captures = append(r.captures, p)
	return nil
}

// DropCapture takes a capture from the record.
func (r *Recorder) DropCapture(index int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.captures = append(r.captures, capturePending{row: captureRow{RunID: r.runID, Seq: index}, gone: true})
}

func pendingCapture(runID string, c record.Capture, waves []PackedWave) (capturePending, error) {
	stored := storedCapture{Capture: c, Waves: map[string]waveform.Waveform{}}
	var p capturePending
	for _, w := range waves {
		stored.Waves[w.head.Channel] = w.head
		for _, row := range w.rows {
			row.RunID, row.Seq = runID, c.Index
			p.waves = append(p.waves, row)
		}
	}
	data, err := json.Marshal(stored)
	if err != nil {
		return p, fmt.Errorf("capture %d: %w", c.Index, err)
	}
	p.row = captureRow{RunID: runID, Seq: c.Index, Data: string(data)}
	return p, nil
}

// writeCaptures puts captures into a transaction; one that was taken again after a break replaces the first.
func writeCaptures(tx *gorm.DB, all []capturePending) error {
	for _, c := range all {
		if err := tx.Delete(&waveRow{}, "run_id = ? AND seq = ?", c.row.RunID, c.row.Seq).Error; err != nil {
			return err
		}
		if c.gone {
			if err := tx.Delete(&c.row).Error; err != nil {
				return err
			}
			continue
		}
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&c.row).Error; err != nil {
			return err
		}
		if err := createAll(tx, c.waves); err != nil {
			return err
		}
	}
	return nil
}

// Captures lists the captures of a run, in order.
func (s *Store) Captures(runID string) ([]record.Capture, error) {
	rows, err := s.captureRows(runID)
	if err != nil {
		return nil, err
	}
	all := make([]record.Capture, len(rows))
	for i, r := range rows {
		all[i] = r.Capture
	}
	return all, nil
}

func (s *Store) captureRows(runID string) ([]storedCapture, error) {
	var rows []captureRow
	if err := s.db.Where("run_id = ?", runID).Order("seq").Find(&rows).Error; err != nil {
		return nil, err
	}
	return decodeRows(rows, func(r captureRow) string { return r.Data }, storedCapture{})
}

// captureOf reads one capture with how its codes are to be read.
func (s *Store) captureOf(ctx context.Context, runID string, seq int) (c storedCapture, err error) {
	var row captureRow
	if err := s.db.WithContext(ctx).Where("run_id = ? AND seq = ?", runID, seq).Limit(1).Find(&row).Error; err != nil {
		return c, err
	}
	if row.Data == "" {
		return c, fmt.Errorf("capture %d of the run: %w", seq, ErrNotFound)
	}
	return c, json.Unmarshal([]byte(row.Data), &c)
}

// Waveform reads a whole channel of a capture.
func (s *Store) Waveform(ctx context.Context, runID string, seq int, channel string) (*waveform.Waveform, error) {
	c, err := s.captureOf(ctx, runID, seq)
	if err != nil {
		return nil, err
	}
	w, ok := c.Waves[channel]
	if !ok {
		return nil, fmt.Errorf("channel %q of the capture: %w", channel, ErrNotFound)
	}
	w.Codes, err = s.codes(ctx, runID, seq, channel, 0, math.MaxInt)
	return &w, err
}

// codes reads samples from … to−1 of a channel.
func (s *Store) codes(ctx context.Context, runID string, seq int, channel string, from, to int) ([]int16, error) {
	rows, err := s.waveRows(ctx, runID, seq, channel, 0, from, to)
	if err != nil {
		return nil, err
	}
	var codes []int16
	for _, row := range rows {
		part, err := unpackCodes(row.Data)
		if err != nil {
			return nil, err
		}
		first := int(row.First)
		codes = append(codes, part[min(max(from-first, 0), len(part)):min(max(to-first, 0), len(part))]...)
	}
	return codes, nil
}

func (s *Store) waveRows(ctx context.Context, runID string, seq int, channel string,
	level, from, to int) (rows []waveRow, err error) {
	return rows, s.db.WithContext(ctx).
		Where("run_id = ? AND seq = ? AND channel = ? AND level = ?", runID, seq, channel, level).
		Where("first > ? AND first < ?", from-waveBlock, to).Order("first").Find(&rows).Error
}

// WaveWindow is a part of a channel of a capture, reduced to buckets.
type WaveWindow struct {
	record.Channel
	// Exact is true when every bucket is a single sample.
	Exact   bool
	Buckets []trace.Bucket
}

// CaptureWindow reads the channels of a capture for a ≤ t ≤ b, s from the trigger, reduced to n buckets at
// most, or to so many samples as they are.
func (s *Store) CaptureWindow(ctx context.Context, runID string, seq int,
	a, b float64, n int) (record.Capture, []WaveWindow, error) {
	c, err := s.captureOf(ctx, runID, seq)
	if err != nil {
		return c.Capture, nil, err
	}
	windows := make([]WaveWindow, len(c.Channels))
	for i, channel := range c.Channels {
		w := c.Waves[channel.Name]
		windows[i] = WaveWindow{Channel: channel}
		if err := s.waveWindow(ctx, runID, seq, &w, &windows[i], a, b, n); err != nil {
			return c.Capture, nil, err
		}
	}
	return c.Capture, windows, nil
}

func (s *Store) waveWindow(ctx context.Context, runID string, seq int, w *waveform.Waveform, out *WaveWindow,
	a, b float64, n int) error {
	// One sample more on each side, so that lines reach the edges of the picture.
	from := int(math.Max(math.Floor((a-w.T0)/w.Step), 0))
	to := int(math.Min(math.Ceil((b-w.T0)/w.Step)+1, float64(out.Samples)))
	if from >= to {
		out.Exact = true
		return nil
	}
	level, per := 0, 1
	for level < waveLevels && (to-from)/(per*waveBucket) >= n && out.Samples > per*waveBucket {
		level++
		per *= waveBucket
	}
	if level == 0 {
		codes, err := s.codes(ctx, runID, seq, w.Channel, from, to)
		if err != nil {
			return err
		}
		w.Codes = codes
		for i := range codes {
			x := w.At(i)
			out.Buckets = append(out.Buckets, trace.Bucket{T: w.Time(from + i), Min: x, Max: x})
		}
		out.Exact = len(codes) <= n
	} else if err := s.waveBuckets(ctx, runID, seq, w, out, level, per, from, to); err != nil {
		return err
	}
	if !out.Exact {
		out.Buckets = trace.Decimate(out.Buckets, math.Max(a, w.T0), math.Min(b, w.T0+float64(out.Samples)*w.Step), n)
	}
	return nil
}

// waveBuckets reads buckets of a level of the pyramid.
func (s *Store) waveBuckets(ctx context.Context, runID string, seq int, w *waveform.Waveform, out *WaveWindow,
	level, per, from, to int) error {
	first, last := from/per, (to+per-1)/per
	rows, err := s.waveRows(ctx, runID, seq, w.Channel, level, first, last)
	if err != nil {
		return err
	}
	for _, row := range rows {
		r := reader{row.Data}
		low, err := unpackCodes(r.bytes(int(r.uvarint())))
		if err != nil {
			return err
		}
		high, err := unpackCodes(r.data)
		if err != nil || len(high) != len(low) {
			return errDamaged
		}
		for k := range low {
			i := int(row.First) + k
			if i < first || i >= last {
				continue
			}
			x, y := w.Zero+w.Scale*float64(low[k]), w.Zero+w.Scale*float64(high[k])
			out.Buckets = append(out.Buckets, trace.Bucket{T: w.Time(i * per), Min: math.Min(x, y), Max: math.Max(x, y)})
		}
	}
	return nil
}
