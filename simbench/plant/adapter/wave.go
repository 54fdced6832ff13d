package adapter

import (
	"math"

	"usherbench/simbench/plant"
)

// orders is how many harmonics are known.
const orders = 50

// narrow and wide are the widths of the pulses in which a rectifier takes its current, as shares of a period: at almost
// no power, and from full on, where it corrects its power factor.
const (
	narrow = 1.0 / 30
	wide   = 0.42
	full   = 20.0 // W
)

// wave is a period in which the adapter takes a power: pulses at the peaks of the volts, and what its filter takes a
// quarter of a period before them.
func (a Adapter) wave(line plant.Source, power float64) *plant.Wave {
	w := &plant.Wave{Hertz: line.Hertz, Power: power, VoltOrders: make([]float64, orders),
		AmpOrders: make([]float64, orders)}
	fundamental := line.Volts / math.Sqrt(1+line.Third*line.Third)
	w.VoltOrders[0], w.VoltOrders[2] = fundamental, fundamental*line.Third
	w.PeakVolts = peakOf(fundamental, line.Third)
	width := narrow + (wide-narrow)*math.Min(power/full, 1)
	shape := make([]float64, orders)
	for h := 1; h <= orders; h += 2 {
		shape[h-1] = pulses(width, h)
	}
	// The mean power is that of each order; of the third the volts are as small as they are distorted.
	given := fundamental*shape[0] - w.VoltOrders[2]*shape[2]
	height := 0.0
	if power > 0 && given > 0 {
		height = power / given
	}
	filter := 2 * math.Pi * line.Hertz * a.Filter
	for h := 1; h <= orders; h++ {
		w.AmpOrders[h-1] = math.Hypot(height*shape[h-1], filter*float64(h)*w.VoltOrders[h-1])
	}
	w.PeakAmps = math.Max(height, filter*math.Sqrt2*fundamental)
	return w
}

// pulses is the effective value of a harmonic of pulses of height 1, each the top of a cosine, one up and one down in a
// period; with the sign that it has at the peak of the fundamental.
func pulses(width float64, order int) float64 {
	half, k := width/2, 2*math.Pi*float64(order)
	p := math.Pi / width
	if math.Abs(p-k) < 1e-9 {
		return 4 * half / math.Sqrt2
	}
	return 4 * 2 * p * math.Cos(k*half) / (p*p - k*k) / math.Sqrt2
}

// peakOf is the peak of a sine with a share of third harmonic that flattens it: up to a ninth it stays in the middle.
func peakOf(fundamental, third float64) float64 {
	peak := 1 - third
	if rising := 1 + 3*third; third > 1.0/9 {
		peak = 2.0 / 3 * rising * math.Sqrt(rising/(12*third))
	}
	return math.Sqrt2 * fundamental * peak
}

// rms is the effective value of harmonics.
func rms(orders []float64) float64 {
	sum := 0.0
	for _, x := range orders {
		sum += x * x
	}
	return math.Sqrt(sum)
}
