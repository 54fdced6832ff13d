package amplifier

import (
	"math"

	"gonum.org/v1/gonum/mat"

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

// residualColumn is the time axis of a picture of a residual: of so many periods of the tone, which is fitted over more
// of them.
const (
	residualColumn = "residual.seconds"
	drawnPeriods   = 5
	fittedPeriods  = 20
)

// residual is the picture of what is left of a capture when its tone and its mean are taken off, in the middle of it:
// the tone is the sine of its frequency with the least squares. It is nil where there are too few periods.
func residual(s shot, f float64) *figure.Drawing {
	period := 1 / (f * s.Step)
	n := int(fittedPeriods * period)
	if period < 4 || n > s.Len() {
		return nil
	}
	first := (s.Len() - n) / 2
	waves, read := mat.NewDense(n, 3, nil), mat.NewVecDense(n, nil)
	for k := range n {
		sin, cos := math.Sincos(2 * math.Pi * float64(k) / period)
		waves.SetRow(k, []float64{sin, cos, 1})
		read.SetVec(k, s.At(first+k))
	}
	var fitted, tone mat.VecDense
	if err := fitted.SolveVec(waves, read); err != nil {
		return nil
	}
	tone.MulVec(waves, &fitted)
	line := figure.Line{Label: s.Channel}
	shown := int(drawnPeriods * period)
	every := 1 + shown/places
	for k := (n - shown) / 2; k < (n+shown)/2; k += every {
		line.X = append(line.X, float64(first+k)*s.Step)
		line.Y = append(line.Y, read.AtVec(k)-tone.AtVec(k))
	}
	return &figure.Drawing{Title: "Residual of " + s.capture.Stage, By: residualColumn, Of: s.Channel + ".volts",
		Lines: []figure.Line{line}}
}
