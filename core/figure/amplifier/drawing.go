package amplifier

import (
	"math"

	"usherbench/core/figure"
	"usherbench/core/waveform"
)

// spectrumColumn is the frequency axis of a picture of a spectrum; it is as wide as places says, in so many places, of
// which each shows the largest of its bins, and nothing below lowest, dBV.
const (
	spectrumColumn = "spectrum.hertz"
	places         = 480
	lowest         = -160.0
)

// drawn is the picture of a spectrum up to a frequency: effective values of its bins over 1 V.
func drawn(title, channel string, b waveform.Bands, to float64) *figure.Drawing {
	bins := len(b.Squares)
	if last := to / b.Width; last < float64(bins) {
		bins = int(last)
	}
	line := figure.Line{Label: channel}
	for k := range places {
		first, end := max(1+k*(bins-1)/places, 1), 1+(k+1)*(bins-1)/places
		if first >= end {
			continue // fewer bins than places
		}
		largest := 0.0
		at := first
		for i := first; i < end; i++ {
			if b.Squares[i] > largest {
				largest, at = b.Squares[i], i
			}
		}
		line.X = append(line.X, float64(at)*b.Width)
		line.Y = append(line.Y, math.Max(10*math.Log10(math.Max(largest, 1e-30)), lowest))
	}
	if len(line.X) < 2 {
		return nil
	}
	return &figure.Drawing{Title: title, By: spectrumColumn, Of: channel + ".dbv", Lines: []figure.Line{line}}
}
