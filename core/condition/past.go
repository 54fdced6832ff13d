package condition

import (
	"math"
	"slices"

	"usherbench/core/trace"
)

// Functions over a window of time are computed as frames come: each frame is added to the newest of a bounded
// number of parts, parts that are too old are dropped, and sums are kept. A frame costs the same whether the
// window is a second or a day.

// function computes a number from the past of a value in a window.
type function func(w *window) float64

// The functions over a window, and whether their value has the dimension of the value over time.
var functions = map[string]struct {
	of      function
	perTime bool
}{
	"rate":  {(*window).slope, true},
	"mean":  {(*window).mean, false},
	"min":   {func(w *window) float64 { return w.low[0].x }, false},
	"max":   {func(w *window) float64 { return w.high[0].x }, false},
	"delta": {func(w *window) float64 { return w.last - w.parts[0].X0 }, false},
	// how far it went in all, up and down: what comes and goes travels far and gets nowhere
	"travel": {func(w *window) float64 { return w.travel }, false},
}

// mostParts bounds the parts of a window; its edge is that much of its length.
const mostParts = 1024

// part is a stretch of a window. Its sums are relative to the window's origin.
type part struct {
	T0 float64 `json:"t0"` // of the first frame
	X0 float64 `json:"x0"`
	N  float64 `json:"n"`
	T  float64 `json:"t"` // Σt, relative to T0
	X  float64 `json:"x"` // Σx, relative to X0
	TT float64 `json:"tt"`
	TX float64 `json:"tx"`
	XX float64 `json:"xx"`
	// Area is ∫x dt between the frames of the part, Lead that of the interval before it.
	Area float64 `json:"area"`
	Lead float64 `json:"lead"`
	// Travel is Σ|Δx| between the frames of the part, Way that of the interval before it.
	Travel float64 `json:"travel,omitempty"`
	Way    float64 `json:"way,omitempty"`
	// Low and High are the extremes.
	Low  float64 `json:"low"`
	High float64 `json:"high"`
}

// sums are Σ over all frames of the window, with times and values relative to an origin.
type sums struct{ n, t, x, tt, tx, xx float64 }

// add adds a part, moved to the origin.
func (s *sums) add(p part, t0, x0, sign float64) {
	dt, dx := p.T0-t0, p.X0-x0
	s.n += sign * p.N
	s.t += sign * (p.T + p.N*dt)
	s.x += sign * (p.X + p.N*dx)
	s.tt += sign * (p.TT + 2*dt*p.T + p.N*dt*dt)
	s.tx += sign * (p.TX + dx*p.T + dt*p.X + p.N*dt*dx)
	s.xx += sign * (p.XX + 2*dx*p.X + p.N*dx*dx)
}

// extreme is a value that may become the extreme of the window, and the number of the part that it came with.
type extreme struct {
	part int
	x    float64
}

type window struct {
	length float64 // s
	parts  []part
	first  int     // number of parts[0]
	last   float64 // newest value
	lastT  float64
	begun  bool
	rhythm trace.Rhythm // of the frames

	sum       sums
	area      float64 // ∫x dt from the first frame to the newest
	travel    float64 // Σ|Δx| from the first frame to the newest
	t0, x0    float64 // the origin of sum
	dropped   int     // parts since sum was computed anew
	low, high []extreme
	value     float64 // of the function at lastT
	full      bool
	compute   function
}

// push takes the next value. After an outage that is longer than half of it the window begins anew: what is not known
// is not the past.
func (w *window) push(t, x float64) {
	if dt := t - w.lastT; w.begun && w.rhythm.Outage(dt) && dt > w.length/2 {
		rhythm := w.rhythm
		w.reset()
		w.rhythm = rhythm
	}
	lead, way := 0.0, 0.0
	if w.begun {
		lead, way = 0.5*(w.last+x)*(t-w.lastT), math.Abs(x-w.last)
	} else {
		w.begun, w.t0, w.x0 = true, t, x
	}
	w.last, w.lastT = x, t
	n := len(w.parts)
	if n == 0 || t-w.parts[n-1].T0 >= w.length/mostParts {
		w.parts = append(w.parts, part{T0: t, X0: x, Low: x, High: x, Lead: lead, Way: way})
		n++
	} else {
		w.parts[n-1].Area += lead
		w.parts[n-1].Travel += way
	}
	w.area += lead
	w.travel += way
	p := &w.parts[n-1]
	dt, dx := t-p.T0, x-p.X0
	p.N++
	p.T, p.X, p.TT, p.TX, p.XX = p.T+dt, p.X+dx, p.TT+dt*dt, p.TX+dt*dx, p.XX+dx*dx
	p.Low, p.High = math.Min(p.Low, x), math.Max(p.High, x)
	w.sum.add(part{T0: t, X0: x, N: 1}, w.t0, w.x0, 1)
	number := w.first + n - 1
	w.low = pushExtreme(w.low, number, x, func(a, b float64) bool { return a >= b })
	w.high = pushExtreme(w.high, number, x, func(a, b float64) bool { return a <= b })
	w.drop(t)
	w.full = t-w.parts[0].T0 >= w.length*(1-1e-9)
	w.value = math.NaN()
	if w.full && w.compute != nil {
		w.value = w.compute(w)
	}
}

// mean is weighted by time, so that frames that come thick and fast do not count for more.
func (w *window) mean() float64 {
	if span := w.lastT - w.parts[0].T0; span > 0 {
		return w.area / span
	}
	return w.last
}

func pushExtreme(es []extreme, number int, x float64, loses func(a, b float64) bool) []extreme {
	for len(es) > 0 && loses(es[len(es)-1].x, x) {
		es = es[:len(es)-1]
	}
	return append(es, extreme{number, x})
}

// drop forgets parts that are too old; the one that holds the beginning of the window stays.
func (w *window) drop(t float64) {
	gone := 0
	for gone+1 < len(w.parts) && w.parts[gone+1].T0 <= t-w.length {
		w.sum.add(w.parts[gone], w.t0, w.x0, -1)
		w.area -= w.parts[gone].Area + w.parts[gone+1].Lead
		w.travel -= w.parts[gone].Travel + w.parts[gone+1].Way
		gone++
	}
	if gone == 0 {
		return
	}
	w.parts = w.parts[gone:]
	w.first += gone
	for w.low[0].part < w.first {
		w.low = w.low[1:]
	}
	for w.high[0].part < w.first {
		w.high = w.high[1:]
	}
	// What is added and taken away again leaves rounding behind.
	if w.dropped += gone; w.dropped > mostParts {
		w.recompute()
	}
}

func (w *window) recompute() {
	w.dropped, w.t0, w.x0 = 0, w.parts[0].T0, w.parts[0].X0
	w.sum, w.area, w.travel = sums{}, 0, 0
	for k, p := range w.parts {
		w.sum.add(p, w.t0, w.x0, 1)
		w.area += p.Area
		w.travel += p.Travel
		if k > 0 {
			w.area += p.Lead
			w.travel += p.Way
		}
	}
}

// slope is that of the straight line through all frames, by least squares.
func (w *window) slope() float64 {
	s := w.sum
	d := s.n*s.tt - s.t*s.t
	if s.n < 2 || d <= 0 {
		return math.NaN()
	}
	return (s.n*s.tx - s.t*s.x) / d
}

// stretch is what is known of a value since the stage began, or since some time of it had passed.
type stretch struct {
	Entry int     `json:"entry"` // which stage entry it belongs to
	Begun bool    `json:"begun"`
	First float64 `json:"first"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
	// The mean over the first part of the stage, weighted by time, is Area over the time from FirstT to LastT.
	Area   float64 `json:"area"`
	FirstT float64 `json:"firstT"`
	LastT  float64 `json:"lastT"`
	Last   float64 `json:"last"`
}

// push takes a value; past is the time of the stage, over the part of it whose mean is the first.
func (h *stretch) push(entry int, past, x, over float64) {
	if !h.Begun || h.Entry != entry {
		*h = stretch{Entry: entry, Begun: true, First: x, Low: x, High: x, FirstT: past, LastT: past, Last: x}
	}
	h.Low, h.High = math.Min(h.Low, x), math.Max(h.High, x)
	if past <= over {
		h.Area += 0.5 * (h.Last + x) * (past - h.LastT)
		h.LastT, h.Last = past, x
	}
}

// beginning is the mean over the first part of the stage.
func (h *stretch) beginning() float64 {
	if h.LastT > h.FirstT {
		return h.Area / (h.LastT - h.FirstT)
	}
	return h.Last
}

// The functions over the time since the stage began. With a time, drop and rise look back to when that had passed, and
// gain counts from the mean over it.
var sinceFunctions = map[string]func(h *stretch, x float64) float64{
	"drop": func(h *stretch, x float64) float64 { return h.High - x },
	"rise": func(h *stretch, x float64) float64 { return x - h.Low },
	"gain": func(h *stretch, x float64) float64 { return x - h.beginning() },
}

// FunctionNames lists the functions of conditions.
func FunctionNames() []string {
	names := []string{}
	for name := range functions {
		names = append(names, name)
	}
	for name := range sinceFunctions {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// State is what a condition remembers: for how long things have held, and the past that its functions need. It
// is part of a run's snapshot.
type State struct {
	Held    []Hold        `json:"held,omitempty"`
	Windows []windowState `json:"windows,omitempty"`
	Since   []stretch     `json:"since,omitempty"`
}

type windowState struct {
	Parts []part  `json:"parts,omitempty"`
	Last  float64 `json:"last"`
	LastT float64 `json:"lastT"`
	trace.Rhythm
	Low  []float64 `json:"low,omitempty"` // pairs of part, counted from the first, and value
	High []float64 `json:"high,omitempty"`
}

func (w *window) save() windowState {
	s := windowState{Parts: slices.Clone(w.parts), Last: w.last, LastT: w.lastT, Rhythm: w.rhythm}
	for _, e := range w.low {
		s.Low = append(s.Low, float64(e.part-w.first), e.x)
	}
	for _, e := range w.high {
		s.High = append(s.High, float64(e.part-w.first), e.x)
	}
	return s
}

func (w *window) load(s windowState) {
	w.reset()
	if len(s.Parts) == 0 {
		return
	}
	w.parts, w.last, w.lastT, w.rhythm, w.begun = slices.Clone(s.Parts), s.Last, s.LastT, s.Rhythm, true
	for i := 0; i+1 < len(s.Low); i += 2 {
		w.low = append(w.low, extreme{int(s.Low[i]), s.Low[i+1]})
	}
	for i := 0; i+1 < len(s.High); i += 2 {
		w.high = append(w.high, extreme{int(s.High[i]), s.High[i+1]})
	}
	w.recompute()
	w.full = w.lastT-w.parts[0].T0 >= w.length*(1-1e-9)
	w.value = math.NaN()
	if w.full && len(w.low) > 0 && len(w.high) > 0 && w.compute != nil {
		w.value = w.compute(w)
	}
}

func (w *window) reset() { *w = window{length: w.length, compute: w.compute} }
