// Package shape holds setpoints over time. A [Shape] is made of segments: holds, steps, ramps, sines, squares,
// triangles, exponentials, tables, and sums of whole shapes. Its value at any time, its extremes, its steepest
// edge and its shortest part are known before it is played, so that it can be drawn and checked against what is
// to play it.
//
// Levels are in the SI unit of the quantity that the shape sets; times are in seconds from the beginning of the shape.
package shape

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"usherbench/core/quantity"
)

// Kind is how a segment moves.
type Kind string

// The kinds of segments.
const (
	Hold        Kind = "hold"        // stays at From
	Ramp        Kind = "ramp"        // a straight line from From to To
	Sine        Kind = "sine"        // Around + Swing·sin(2π·Hertz·t)
	Square      Kind = "square"      // Around + Swing for Duty of each period, then Around − Swing
	Triangle    Kind = "triangle"    // Around, up to + Swing, down to − Swing, back to Around
	Exponential Kind = "exponential" // from From towards To with the time constant Tau
	Sum         Kind = "sum"         // the sum of Parts
)

// Segment is one part of a shape.
type Segment struct {
	Kind Kind    `json:"kind"`
	For  float64 `json:"for"` // s, more than 0
	From float64 `json:"from"`
	To   float64 `json:"to"`
	// Around, Swing, Hertz and Duty (0 … 1) are of the periodic kinds; Swing is the amplitude, half of peak to peak.
	Around float64 `json:"around,omitempty"`
	Swing  float64 `json:"swing,omitempty"`
	Hertz  float64 `json:"hertz,omitempty"`
	Duty   float64 `json:"duty,omitempty"`
	// Tau is the time constant of an exponential, s.
	Tau float64 `json:"tau,omitempty"`
	// Parts are the shapes that a sum adds; one that is over stays at its last level.
	Parts []*Shape `json:"parts,omitempty"`
	// Item is the index of the item of the document that gave the segment, for handles in a drawing.
	Item int `json:"item"`
}

// Shape is a sequence of segments. Make one with New.
type Shape struct {
	Segments []Segment `json:"segments"`
	ends     []float64 // when each segment ends, s
}

// MostSegments bounds a shape after its repeats were written out.
const MostSegments = 200_000

// New makes a shape of segments. It fails when one of them has no duration or has numbers that are not finite.
func New(segments []Segment) (*Shape, error) {
	if len(segments) == 0 {
		return nil, fmt.Errorf("the shape has no segment")
	}
	if len(segments) > MostSegments {
		return nil, fmt.Errorf("the shape has %d segments; at most %d are possible", len(segments), MostSegments)
	}
	s := &Shape{Segments: segments, ends: make([]float64, len(segments))}
	var t float64
	for i, g := range segments {
		for _, x := range []float64{g.For, g.From, g.To, g.Around, g.Swing, g.Hertz, g.Duty, g.Tau} {
			if math.IsNaN(x) || math.IsInf(x, 0) {
				return nil, fmt.Errorf("segment %d has a number that is not finite", i+1)
			}
		}
		if g.For <= 0 {
			return nil, fmt.Errorf("segment %d (%s) lasts no time", i+1, g.Kind)
		}
		t += g.For
		s.ends[i] = t
	}
	return s, nil
}

// Duration is how long the shape lasts, s.
func (s *Shape) Duration() float64 { return s.ends[len(s.ends)-1] }

// At is the level at time t. At a jump it is the level after it; before the beginning it is the first level and
// after the end the last.
func (s *Shape) At(t float64) float64 {
	i := s.segmentAt(t)
	begin := s.ends[i] - s.Segments[i].For
	return s.Segments[i].at(min(max(t-begin, 0), s.Segments[i].For))
}

func (s *Shape) segmentAt(t float64) int {
	i := sort.Search(len(s.ends), func(k int) bool { return s.ends[k] > t })
	return min(i, len(s.ends)-1)
}

// First and Last are the levels at the beginning and at the end.
func (s *Shape) First() float64 { return s.Segments[0].at(0) }

// Last is the level that remains when the shape is over.
func (s *Shape) Last() float64 {
	g := s.Segments[len(s.Segments)-1]
	return g.at(g.For)
}

func (g Segment) at(t float64) float64 {
	switch g.Kind {
	case Ramp:
		return g.From + (g.To-g.From)*t/g.For
	case Sine:
		return g.Around + g.Swing*math.Sin(2*math.Pi*g.Hertz*t)
	case Square:
		if _, phase := math.Modf(g.Hertz * t); phase < g.Duty {
			return g.Around + g.Swing
		}
		return g.Around - g.Swing
	case Triangle:
		_, phase := math.Modf(g.Hertz*t + 0.25)
		return g.Around + g.Swing*(1-4*math.Abs(phase-0.5))
	case Exponential:
		return g.To + (g.From-g.To)*math.Exp(-t/g.Tau)
	case Sum:
		var sum float64
		for _, p := range g.Parts {
			sum += p.At(t)
		}
		return sum
	}
	return g.From
}

// Extremes are the lowest and highest level that occur.
func (s *Shape) Extremes() (low, high float64) {
	low, high = math.Inf(1), math.Inf(-1)
	for _, g := range s.Segments {
		l, h := g.extremes()
		low, high = math.Min(low, l), math.Max(high, h)
	}
	return low, high
}

func (g Segment) extremes() (low, high float64) {
	switch g.Kind {
	case Ramp, Exponential:
		a, b := g.at(0), g.at(g.For)
		return math.Min(a, b), math.Max(a, b)
	case Sine, Square, Triangle:
		return g.Around - math.Abs(g.Swing), g.Around + math.Abs(g.Swing)
	case Sum: // no more than the extremes of its parts together
		for _, p := range g.Parts {
			l, h := p.Extremes()
			low, high = low+l, high+h
		}
		return low, high
	}
	return g.From, g.From
}

// Steepest is the steepest slope of the segments that move, in the unit per second, without sign. Jumps between
// segments do not count: they are asked for to be as fast as can be.
func (s *Shape) Steepest() float64 {
	var steepest float64
	for _, g := range s.Segments {
		steepest = math.Max(steepest, g.steepest())
	}
	return steepest
}

func (g Segment) steepest() float64 {
	switch g.Kind {
	case Ramp:
		return math.Abs(g.To-g.From) / g.For
	case Sine:
		return 2 * math.Pi * g.Hertz * math.Abs(g.Swing)
	case Triangle:
		return 4 * g.Hertz * math.Abs(g.Swing)
	case Exponential:
		return math.Abs(g.To-g.From) / g.Tau
	case Sum:
		var sum float64
		for _, p := range g.Parts {
			sum += p.Steepest()
		}
		return sum
	}
	return 0
}

// Shortest is the shortest time, s, that matters to whoever plays the shape: the shortest level between jumps,
// and for what moves the shortest edge: the time of a ramp, a quarter of a period, a time constant.
func (s *Shape) Shortest() float64 {
	shortest := math.Inf(1)
	for _, g := range s.Segments {
		shortest = math.Min(shortest, g.shortest())
	}
	return shortest
}

func (g Segment) shortest() float64 {
	switch g.Kind {
	case Sine, Triangle:
		return math.Min(g.For, 0.25/g.Hertz)
	case Square:
		return math.Min(g.For, math.Min(g.Duty, 1-g.Duty)/g.Hertz)
	case Exponential:
		return math.Min(g.For, g.Tau)
	case Sum:
		shortest := g.For
		for _, p := range g.Parts {
			shortest = math.Min(shortest, p.Shortest())
		}
		return shortest
	}
	return g.For
}

// ShortestEdge is the shortest time, s, in which the shape has to move steadily from one level to another;
// infinite if it only holds and jumps.
func (s *Shape) ShortestEdge() float64 {
	shortest := math.Inf(1)
	for _, g := range s.Segments {
		switch g.Kind {
		case Hold, Square:
		case Sum:
			for _, p := range g.Parts {
				shortest = math.Min(shortest, p.ShortestEdge())
			}
		case Ramp:
			if g.From != g.To {
				shortest = math.Min(shortest, g.For)
			}
		default:
			shortest = math.Min(shortest, g.shortest())
		}
	}
	return shortest
}

// Next is the next time after t at which a level has to be set by someone who paces the shape: where a level
// ends, and within what moves every pace seconds. After the end it is infinite.
func (s *Shape) Next(t, pace float64) float64 {
	const hair = 1e-9
	if t >= s.Duration()-hair {
		return math.Inf(1)
	}
	i := s.segmentAt(t + hair)
	g := s.Segments[i]
	begin := s.ends[i] - g.For
	next := s.ends[i]
	switch g.Kind {
	case Hold:
	case Square:
		period := 1 / g.Hertz
		n := math.Floor((t - begin + hair) / period)
		for _, edge := range []float64{begin + (n+g.Duty)*period, begin + (n+1)*period} {
			if edge > t+hair {
				next = math.Min(next, edge)
			}
		}
	default:
		n := math.Floor((t-begin+hair)/pace) + 1
		next = math.Min(next, begin+n*pace)
	}
	return next
}

// Step is a level that is held for a time.
type Step struct {
	Level float64 `json:"level"`
	For   float64 `json:"for"` // s
}

// Staircase is the shape as levels and dwells for an instrument that plays such a list. A step lasts at least
// shortest; what moves is cut into steps of a level change of at most resolution, and no more than most steps
// are made. The levels are those at the middle of each step. off is the largest distance between staircase and
// shape within what moves, jumps left out. It fails when the shape needs a shorter dwell or more steps.
func (s *Shape) Staircase(shortest, resolution float64, most int) (steps []Step, off float64, err error) {
	if short := s.Shortest(); short < shortest*(1-1e-9) {
		return nil, 0, fmt.Errorf("the shape has a part of %s, but the shortest dwell is %s", seconds(short),
			seconds(shortest))
	}
	add := func(level, dwell float64) {
		// What a square leaves over at its end may be too short for a step of its own.
		if n := len(steps); n > 0 && (steps[n-1].Level == level || dwell < shortest*(1-1e-6)) {
			steps[n-1].For += dwell
			return
		}
		steps = append(steps, Step{level, dwell})
	}
	for i, g := range s.Segments {
		begin := s.ends[i] - g.For
		if g.Kind == Hold {
			add(g.From, g.For)
			continue
		}
		if g.Kind == Square {
			for t := 0.0; t < g.For-1e-9; {
				next := math.Min(s.Next(begin+t, g.For), begin+g.For) - begin
				add(g.at((t+next)/2), next-t)
				t = next
			}
			continue
		}
		dwell := math.Max(shortest, resolution/math.Max(g.steepest(), 1e-300))
		n := max(int(math.Round(g.For/math.Min(dwell, g.shortest()/2))), 1)
		if g.For/float64(n) < shortest {
			n = max(int(g.For/shortest), 1)
		}
		if len(steps)+n > most {
			return nil, 0, fmt.Errorf("the shape needs more than %d steps", most)
		}
		each := g.For / float64(n)
		off = math.Max(off, g.steepest()*each/2)
		for k := range n {
			add(g.at((float64(k)+0.5)*each), each)
		}
	}
	if len(steps) > most {
		return nil, 0, fmt.Errorf("the shape needs %d steps, but at most %d are possible", len(steps), most)
	}
	return steps, off, nil
}

// Knot is a place on the drawn line of a shape.
type Knot struct {
	T     float64 `json:"t"`
	Level float64 `json:"level"`
}

// Outline draws the shape as a line of about n knots; both sides of every jump are among them.
func (s *Shape) Outline(n int) []Knot {
	var knots []Knot
	pace := s.Duration() / float64(max(n, 2))
	stride := max(len(s.Segments)/max(n, 1), 1) // of very many segments, some are left out of the drawing
	for i := 0; i < len(s.Segments); i += stride {
		g := s.Segments[i]
		begin := s.ends[i] - g.For
		steps := 1
		switch g.Kind {
		case Hold, Ramp:
		case Square:
			for t := begin; t < s.ends[i]-1e-9; {
				next := math.Min(s.Next(t, g.For), s.ends[i])
				level := g.at((t+next)/2 - begin)
				knots = append(knots, Knot{t, level}, Knot{next, level})
				t = next
			}
			continue
		default:
			steps = min(max(int(math.Ceil(g.For/math.Min(pace, g.shortest()/6))), 8), 4*max(n, 8))
		}
		if corners := int(math.Round(4 * g.Hertz * g.For)); g.Kind == Triangle && corners > 0 {
			steps = corners * max(steps/corners, 1) // the tips are among the knots
		}
		for k := 0; k <= steps; k++ {
			at := g.For * float64(k) / float64(steps)
			knots = append(knots, Knot{begin + at, g.at(at)})
		}
	}
	return slices.Compact(knots)
}

func seconds(s float64) string {
	switch {
	case s < 1e-3:
		return quantity.Sprintf("%.3g µs", s*1e6)
	case s < 1:
		return quantity.Sprintf("%.3g ms", s*1e3)
	}
	return quantity.Sprintf("%.4g s", s)
}
