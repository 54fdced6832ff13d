package report

import (
	"context"
	"fmt"
	"math"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
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
			pictures = append(pictures, wavePicture(stage, w, figures))
		}
	}
	return pictures, nil
}

// wavePicture draws one channel.
func wavePicture(stage string, w store.WaveWindow, figures []procedure.Judged) Picture {
	last := w.Buckets[len(w.Buckets)-1].T
	scale, unit := readable("s", math.Max(math.Abs(w.Buckets[0].T), math.Abs(last)))
	p := Picture{Title: fmt.Sprintf("%s: %s", stage, w.Name), XLabel: unit + " from the trigger",
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
	return p
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
