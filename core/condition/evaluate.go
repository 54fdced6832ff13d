package condition

import (
	"math"
	"slices"

	"usherbench/core/quantity"
	"usherbench/core/trace"
)

// Sample is what a condition is evaluated on.
type Sample struct {
	T      float64 // bench time since the start of the run, s
	StageT float64 // bench time since the start of the stage, s
	Away   float64 // of T the time in which nobody looked after the run, s
	// How many stages were entered: functions that look back to the beginning of the stage begin anew when it changes
	Entry   int
	Columns []float64 // the frame's values
	// Answers are the numbers that the operator gave, SI; one that is not there is missing.
	Answers map[string]float64
}

// Truth is the value of a condition.
type Truth int8

func (t Truth) not() Truth {
	switch t {
	case True:
		return False
	case False:
		return True
	}
	return Unknown
}

type number func(s *Sample) float64

// node is a part of a condition that has a truth. The margin is the distance from tripping: positive while it
// does not hold.
type node interface {
	truth(s *Sample, held []Hold) Truth
	margin(s *Sample) (float64, quantity.Dimension, bool)
}

// Hold is the state of one "for": since when the comparison holds without a break, when it was last known whether it
// does, and how often that usually is. It is part of a run's snapshot.
type Hold struct {
	Since   float64 `json:"since"`
	Holding bool    `json:"holding"`
	Known   float64 `json:"known,omitempty"`
	trace.Rhythm
}

// known takes the time at which it is known again. What lasted longer than an instrument usually takes between two
// readings was an outage: it does not count.
func (h *Hold) known(t float64) {
	if dt := t - h.Known; h.Known != 0 && h.Outage(dt) {
		h.Since += dt
	}
	h.Known = t
}

// Condition is a compiled condition with its state. It is not safe for use by several goroutines.
type Condition struct {
	Text string
	root node
	held []Hold
	// columns lists the frame columns that the condition reads.
	columns    []int
	thresholds []Threshold
	windows    []*window
	since      []*stretch
	fixed      bool
	filling    bool   // a window does not reach back far enough yet
	sample     Sample // that was evaluated last
}

// Threshold is a comparison of one column with a fixed value, as "load.volts < 14 V".
type Threshold struct {
	Column int
	Op     string // <, <=, >, >=
	Value  float64
}

// Thresholds lists the comparisons of a single column with a fixed value.
func (c *Condition) Thresholds() []Threshold { return c.thresholds }

// Evaluate takes the next frame, in order of time, and says whether the condition holds.
func (c *Condition) Evaluate(s Sample) Truth {
	c.filling, c.sample = false, s
	return c.root.truth(&c.sample, c.held)
}

// Release forgets for how long anything has held; what looks back keeps its past.
func (c *Condition) Release() { clear(c.held) }

// HeldSince is since when everything holds that must hold for a time; ok is false where something does not, or nothing
// must.
func (c *Condition) HeldSince() (since float64, ok bool) {
	since = math.Inf(-1)
	for _, h := range c.held {
		if !h.Holding {
			return 0, false
		}
		since = math.Max(since, h.Since)
	}
	return since, len(c.held) > 0
}

// Fixed tells whether the condition depends on nothing that happens in a run, and names nothing that could be
// given for one.
func (c *Condition) Fixed() bool { return c.fixed }

// Filling tells whether the last evaluation met a window that does not reach back far enough yet, so that
// unknown means not yet. Where a reading is missing too, unknown means that.
func (c *Condition) Filling() bool {
	return c.filling && !slices.ContainsFunc(c.columns, func(i int) bool {
		return i >= len(c.sample.Columns) || math.IsNaN(c.sample.Columns[i])
	})
}

// Margin is how far the frame is from making the condition true, in the dimension of its comparison, positive
// while it does not hold. ok is false if the condition is not a single comparison or a reading is missing.
func (c *Condition) Margin(s Sample) (distance quantity.Quantity, ok bool) {
	value, dim, ok := c.root.margin(&s)
	return quantity.Quantity{Value: value, Dim: dim}, ok && !math.IsNaN(value)
}

// Columns lists the indexes of the frame columns that the condition reads.
func (c *Condition) Columns() []int { return c.columns }

// Reset forgets for how long anything has held, and the past.
func (c *Condition) Reset() {
	clear(c.held)
	for _, w := range c.windows {
		w.reset()
	}
	for _, h := range c.since {
		*h = stretch{}
	}
}

// Shift moves everything that the condition remembers by a time, as if what was before a pause had been that
// much later.
func (c *Condition) Shift(seconds float64) {
	for i := range c.held {
		if h := &c.held[i]; h.Known != 0 { // of one that nothing is known of, nothing moves
			h.Since += seconds
			h.Known += seconds
		}
	}
	for _, w := range c.windows {
		w.shift(seconds)
	}
}

func (w *window) shift(seconds float64) {
	for i := range w.parts {
		w.parts[i].T0 += seconds
	}
	w.lastT += seconds
	w.t0 += seconds
}

// State is what the condition remembers; Restore takes it back.
func (c *Condition) State() State {
	s := State{Held: slices.Clone(c.held)}
	for _, w := range c.windows {
		s.Windows = append(s.Windows, w.save())
	}
	for _, h := range c.since {
		s.Since = append(s.Since, *h)
	}
	return s
}

// Restore sets what State returned. States of another condition are ignored.
func (c *Condition) Restore(s State) {
	if len(s.Held) != len(c.held) || len(s.Windows) != len(c.windows) || len(s.Since) != len(c.since) {
		return
	}
	copy(c.held, s.Held)
	for i, w := range s.Windows {
		c.windows[i].load(w)
	}
	for i, h := range s.Since {
		*c.since[i] = h
	}
}

func (c *compiler) not(e *notExpr) (node, error) {
	inner, err := c.held(e.Held)
	if err != nil || !e.Not {
		return inner, err
	}
	return negation{inner}, nil
}

type comparison struct {
	left, right number
	op          string
	dim         quantity.Dimension
}

func (n comparison) truth(s *Sample, _ []Hold) Truth {
	l, r := n.left(s), n.right(s)
	if math.IsNaN(l) || math.IsNaN(r) {
		return Unknown
	}
	var holds bool
	switch n.op {
	case "<":
		holds = l < r
	case "<=":
		holds = l <= r
	case ">":
		holds = l > r
	default:
		holds = l >= r
	}
	if holds {
		return True
	}
	return False
}

func (n comparison) margin(s *Sample) (float64, quantity.Dimension, bool) {
	d := n.left(s) - n.right(s)
	if n.op[0] == '>' {
		d = -d
	}
	return d, n.dim, true
}

type negation struct{ inner node }

func (n negation) truth(s *Sample, held []Hold) Truth { return n.inner.truth(s, held).not() }

func (n negation) margin(s *Sample) (float64, quantity.Dimension, bool) {
	d, dim, ok := n.inner.margin(s)
	return -d, dim, ok
}

func (n junction) truth(s *Sample, held []Hold) Truth {
	result := n.decisive.not()
	// Every part is evaluated, so that each "for" sees every frame.
	for _, p := range n.parts {
		switch p.truth(s, held) {
		case n.decisive:
			result = n.decisive
		case Unknown:
			if result != n.decisive {
				result = Unknown
			}
		}
	}
	return result
}

func (n junction) margin(*Sample) (float64, quantity.Dimension, bool) {
	return 0, quantity.Number, false
}

func (n hold) truth(s *Sample, held []Hold) Truth {
	h := &held[n.slot]
	switch n.inner.truth(s, held) {
	case Unknown:
		return Unknown
	case False:
		h.known(s.T)
		h.Holding = false
		return False
	}
	h.known(s.T)
	if !h.Holding {
		h.Holding, h.Since = true, s.T
	}
	if s.T-h.Since >= n.seconds {
		return True
	}
	return False
}

func (n hold) margin(s *Sample) (float64, quantity.Dimension, bool) { return n.inner.margin(s) }
