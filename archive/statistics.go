package archive

import (
	"context"
	"math"

	"usherbench/api"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/waveform"
	"usherbench/store"
)

// Statistics are those of every column of a run over a window, s since its start, from every frame.
func Statistics(ctx context.Context, s *store.Store, run store.Run, from, to float64) ([]api.Statistic, error) {
	_, rec, err := Record(s, run)
	if err != nil {
		return nil, err
	}
	all := []api.Statistic{}
	for _, column := range run.Columns {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		series, err := rec.Trace(column, from, to)
		if err != nil {
			return nil, err
		}
		all = append(all, ofSeries(column, series.Present(), rec))
	}
	return all, nil
}

// known is a number that is one.
func known(x float64, scale float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	x /= scale
	return &x
}

func ofSeries(column string, s trace.Series, rec *record.Record) api.Statistic {
	unit := trace.UnitOf(column)
	out := api.Statistic{Name: column, Unit: unit.Symbol, N: s.Len()}
	if s.Len() == 0 {
		return out
	}
	least, largest := s.X[0], s.X[0]
	for _, x := range s.X {
		least, largest = math.Min(least, x), math.Max(largest, x)
	}
	out.Least, out.Largest = known(least, unit.Factor), known(largest, unit.Factor)
	if mean, err := s.Mean(); err == nil {
		out.Mean = known(mean, unit.Factor)
		out.Integral = known(s.IntegralSplit(rec.Commands()), unit.Factor)
	}
	if rms, err := s.RMS(); err == nil {
		out.RMS = known(rms, unit.Factor)
	}
	if line, err := s.Slope(); err == nil {
		out.Slope = known(line.Slope, unit.Factor)
	}
	return out
}

// CaptureStatistics are those of every channel of a capture over a window, s from the trigger, from every sample.
func CaptureStatistics(ctx context.Context, s *store.Store, run store.Run, index int,
	from, to float64) ([]api.Statistic, error) {
	return ofCapture(ctx, s, run, index, from, to, ofWave)
}

// ofCapture tells something of every channel of a capture over a window, s from the trigger.
func ofCapture[T any](ctx context.Context, s *store.Store, run store.Run, index int, from, to float64,
	of func(*waveform.Waveform) T) ([]T, error) {
	captured, _, err := s.CaptureWindow(ctx, run.ID, index, 0, 0, 2)
	if err != nil {
		return nil, err
	}
	all := []T{}
	for _, channel := range captured.Channels {
		w, err := s.Waveform(ctx, run.ID, index, channel.Name)
		if err != nil {
			return nil, err
		}
		all = append(all, of(w.Between(w.Index(from), max(w.Index(math.Nextafter(to, math.Inf(1))), w.Index(from)))))
	}
	return all, nil
}

// How many lines of a spectrum and bars of a histogram a picture has at most.
const (
	mostSpectrumLines = 800
	mostBars          = 256
)

// CaptureMakeup gives spectrum and histogram of every channel of a capture over a window, s from the trigger.
func CaptureMakeup(ctx context.Context, s *store.Store, run store.Run, index int, from, to float64) ([]api.Makeup,
	error) {
	return ofCapture(ctx, s, run, index, from, to, func(w *waveform.Waveform) api.Makeup {
		m := api.Makeup{Name: w.Channel, Unit: w.Unit, Hertz: []float64{}, Amplitudes: []float64{}, Values: []float64{},
			Shares: []float64{}}
		if w.Len() > 1 {
			m.Hertz, m.Amplitudes = w.Spectrum().Reduced(mostSpectrumLines)
			m.Values, m.Shares = w.Bars(mostBars)
		}
		return m
	})
}

func ofWave(w *waveform.Waveform) api.Statistic {
	out := api.Statistic{Name: w.Channel, Unit: w.Unit, N: w.Len()}
	if w.Len() == 0 {
		return out
	}
	low, high, _, _ := w.Extremes(0)
	mean, deviation := w.Mean(), w.Deviation()
	out.Least, out.Largest, out.Mean = known(low, 1), known(high, 1), known(mean, 1)
	out.RMS = known(math.Hypot(mean, deviation), 1)
	out.Integral = known(mean*w.Span(), 1)
	out.Slope = known(w.Slope(), 1)
	if line, _, err := w.Dominant(0, 0); err == nil {
		out.Frequency = known(line.Frequency, 1)
	}
	return out
}
