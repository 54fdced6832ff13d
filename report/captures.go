package report

import (
	"context"
	"fmt"
	"math"
	"slices"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/waveform"
	"usherbench/store"
)

// capturePoints is how many stretches of a capture a picture on paper shows.
const capturePoints = 600

// CapturePictures draws the channels of the first capture of every stage that captures, and of the worst of every
// capture trigger, with the band and the recovery where these were asked for.
func CapturePictures(ctx context.Context, s *store.Store, run store.Run, figures []procedure.Judged) ([]Picture,
	error) {
	all, err := s.Captures(run.ID)
	if err != nil {
		return nil, err
	}
	shown := map[string]record.Capture{} // of the last pass of each stage
	var order []string
	for _, c := range all {
		before, seen := shown[c.Stage]
		if !seen {
			order = append(order, c.Stage)
		}
		if !seen || c.Beyond == 0 && c.Of == 1 || c.Beyond > before.Beyond {
			shown[c.Stage] = c
		}
	}
	var pictures []Picture
	for _, stage := range order {
		_, windows, err := s.CaptureWindow(ctx, run.ID, shown[stage].Index, -math.MaxFloat64, math.MaxFloat64, capturePoints)
		if err != nil {
			return nil, err
		}
		for _, w := range windows {
			if len(w.Buckets) < 2 {
				continue
			}
			p, scale := wavePicture(stage, w, figures)
			starts := asked(figures, stage, w.Name, "rise-time", "startup-delay")
			ripples := asked(figures, stage, w.Name, "ripple-pp", "ripple-rms")
			if len(starts)+len(ripples) == 0 {
				pictures = append(pictures, p)
				continue
			}
			full, err := s.Waveform(ctx, run.ID, shown[stage].Index, w.Name)
			if err != nil {
				return nil, err
			}
			p.drawStart(full, scale, starts)
			pictures = append(pictures, p)
			if len(ripples) > 0 {
				pictures = append(pictures, makeupPictures(stage, full)...)
			}
		}
	}
	return pictures, nil
}

// asked are the figures of these kinds that were made of a channel of a stage, or of its only one.
func asked(figures []procedure.Judged, stage, channel string, ids ...string) (all []procedure.Judged) {
	for _, f := range figures {
		if f.Stage == stage && (f.Channel == "" || f.Channel == channel) && slices.Contains(ids, f.ID) &&
			f.Undetermined == nil {
			all = append(all, f)
		}
	}
	return all
}

// drawStart draws when an output begins to rise and when it has, and how long that was after what made it rise.
func (p *Picture) drawStart(w *waveform.Waveform, scale float64, figures []procedure.Judged) {
	l, err := w.Levels()
	if err != nil {
		return
	}
	rise, err := w.Rise(l, 0)
	if err != nil {
		return
	}
	upright := func(label string, value, t float64) {
		words := quantity.Quantity{Value: value, Dim: quantity.Time}.Format(3)
		p.Lines = append(p.Lines, Line{Label: label + " " + words, X: []float64{t / scale, t / scale},
			Y: []float64{l.Base, l.Top}})
	}
	for _, f := range figures {
		switch f.ID {
		case "rise-time":
			upright("has risen after", f.Value, rise.T90)
		case "startup-delay":
			upright("begins after", f.Value, rise.T10)
		}
	}
}

// makeupPictures draw the spectrum of a channel, on logarithmic axes, and its histogram.
func makeupPictures(stage string, w *waveform.Waveform) []Picture {
	spectrum := Picture{Title: fmt.Sprintf("%s: %s, spectrum", stage, w.Channel), XLabel: "Frequency",
		YLabel: "Amplitude", Plain: true, Thin: true, LogX: true, LogY: true,
		units: [2]string{"Hz", w.Unit}}
	line := Line{}
	hertz, amplitudes := w.Spectrum().Reduced(capturePoints)
	for i, f := range hertz {
		if amplitudes[i] > 0 {
			line.X, line.Y = append(line.X, f), append(line.Y, amplitudes[i])
		}
	}
	spectrum.Lines = []Line{line}
	values, shares := w.Bars(mostBars)
	low, high := w.At(0), w.At(0)
	if len(values) > 0 {
		low, high = values[0], values[len(values)-1]
	}
	scale, unit := quantity.Readable(w.Unit, math.Max(math.Abs(low), math.Abs(high)))
	histogram := Picture{Title: fmt.Sprintf("%s: %s, histogram", stage, w.Channel),
		XLabel: fmt.Sprintf("%s (%s)", label(w.Channel), unit), YLabel: "% of the samples", Plain: true, Thin: true}
	bars := Line{}
	for i, x := range values {
		bars.X, bars.Y = append(bars.X, x/scale), append(bars.Y, 100*shares[i])
	}
	histogram.Lines = []Line{bars}
	var pictures []Picture
	for _, p := range []Picture{spectrum, histogram} {
		if len(p.Lines[0].X) > 1 {
			pictures = append(pictures, p)
		}
	}
	return pictures
}

// mostBars is how many bars a histogram on paper has.
const mostBars = 120

// wavePicture draws one channel, over a time in a unit of so many seconds.
func wavePicture(stage string, w store.WaveWindow, figures []procedure.Judged) (p Picture, scale float64) {
	last := w.Buckets[len(w.Buckets)-1].T
	scale, unit := quantity.Readable("s", math.Max(math.Abs(w.Buckets[0].T), math.Abs(last)))
	p = Picture{Title: fmt.Sprintf("%s: %s", stage, w.Name), XLabel: unit + " from the trigger",
		YLabel: fmt.Sprintf("%s (%s)", label(w.Name), w.Unit), Plain: true, Thin: true}
	line := Line{}
	for _, b := range w.Buckets {
		line.X, line.Y = append(line.X, b.T/scale), append(line.Y, b.Min)
		if b.Max != b.Min {
			line.X, line.Y = append(line.X, b.T/scale), append(line.Y, b.Max)
		}
	}
	p.Lines = []Line{line}
	p.drawRecovery(stage, w, scale, figures)
	return p, scale
}

// drawRecovery draws the band that the channel must come back into, and when it has.
func (p *Picture) drawRecovery(stage string, w store.WaveWindow, scale float64, figures []procedure.Judged) {
	for _, f := range figures {
		if f.ID != "recovery-time" || f.Stage != stage || f.Channel != w.Name || f.Undetermined != nil {
			continue
		}
		tail := w.Buckets[len(w.Buckets)-len(w.Buckets)/5:]
		centre, band := 0.0, f.Args["band"]
		for _, b := range tail {
			centre += (b.Min + b.Max) / 2 / float64(len(tail))
		}
		end := w.Buckets[len(w.Buckets)-1].T / scale
		p.Band = &api.OverlayBand{X: []float64{0, end}, Min: []float64{centre - band, centre - band},
			Max: []float64{centre + band, centre + band}}
		at := f.Value / scale
		words := quantity.Quantity{Value: f.Value, Dim: quantity.Time}.Format(3)
		p.Lines = append(p.Lines, Line{Label: "back after " + words, X: []float64{at, at},
			Y: []float64{centre - 2*band, centre + 2*band}})
		return
	}
}
