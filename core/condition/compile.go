package condition

import (
	"fmt"
	"math"

	"usherbench/core/quantity"
)

// Ref is what a name stands for: a constant, or a column of the frames.
type Ref struct {
	Constant *quantity.Quantity
	Column   int // index into the frame's values when Constant is nil
	Dim      quantity.Dimension
}

// Scope resolves names: quantities of seats, parameters, ratings of the nameplate. The error says what is known instead.
type Scope func(name string) (Ref, error)

// Sample is what a condition is evaluated on.
type Sample struct {
	T       float64   // bench time since the start of the run, s
	StageT  float64   // bench time since the start of the stage, s
	Columns []float64 // the frame's values
}

// Truth is the value of a condition.
type Truth int8

// The truth values.
const (
	False Truth = iota
	True
	Unknown
)

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

// node is a part of a condition that has a truth. The margin is the distance from tripping: positive while it does not hold.
type node interface {
	truth(s *Sample, held []Hold) Truth
	margin(s *Sample) (float64, quantity.Dimension, bool)
}

// Hold is the state of one "for": since when the comparison holds without a break. It is part of a run's snapshot.
type Hold struct {
	Since   float64 `json:"since"`
	Holding bool    `json:"holding"`
}

// Condition is a compiled condition with its state. It is not safe for use by several goroutines.
type Condition struct {
	Text string
	root node
	held []Hold
	// columns lists the frame columns that the condition reads.
	columns    []int
	thresholds []Threshold
}

// Threshold is a comparison of one column with a fixed value, as "load.volts < 14 V".
type Threshold struct {
	Column int
	Op     string // <, <=, >, >=
	Value  float64
}

// Thresholds lists the comparisons of a single column with a fixed value.
func (c *Condition) Thresholds() []Threshold { return c.thresholds }

// Compile parses a condition, resolves its names and checks its dimensions. Errors are *Error with a column.
func Compile(text string, scope Scope) (*Condition, error) {
	tree, err := parse(text)
	if err != nil {
		return nil, err
	}
	c := &compiler{scope: scope, cond: &Condition{Text: text}}
	root, err := c.or(tree)
	if err != nil {
		return nil, err
	}
	c.cond.root = root
	return c.cond, nil
}

// Evaluate takes the next frame, in order of time, and says whether the condition holds.
func (c *Condition) Evaluate(s Sample) Truth { return c.root.truth(&s, c.held) }

// Margin is how far the frame is from making the condition true, in the dimension of its comparison, positive while it does not
// hold. ok is false if the condition is not a single comparison or a reading is missing.
func (c *Condition) Margin(s Sample) (distance quantity.Quantity, ok bool) {
	value, dim, ok := c.root.margin(&s)
	return quantity.Quantity{Value: value, Dim: dim}, ok && !math.IsNaN(value)
}

// Columns lists the indexes of the frame columns that the condition reads.
func (c *Condition) Columns() []int { return c.columns }

// Reset forgets for how long anything has held.
func (c *Condition) Reset() { clear(c.held) }

// State is the state of every "for", in the order of the text; Restore takes it back.
func (c *Condition) State() []Hold { return append([]Hold(nil), c.held...) }

// Restore sets what State returned. States of another condition are ignored.
func (c *Condition) Restore(held []Hold) {
	if len(held) == len(c.held) {
		copy(c.held, held)
	}
}

type compiler struct {
	scope Scope
	cond  *Condition
}

func (c *compiler) or(e *orExpr) (node, error) {
	return c.junction(len(e.Terms), func(i int) (node, error) { return c.and(e.Terms[i]) }, True)
}

func (c *compiler) and(e *andExpr) (node, error) {
	return c.junction(len(e.Terms), func(i int) (node, error) { return c.not(e.Terms[i]) }, False)
}

func (c *compiler) junction(n int, part func(int) (node, error), decisive Truth) (node, error) {
	j := junction{decisive: decisive}
	for i := range n {
		p, err := part(i)
		if err != nil {
			return nil, err
		}
		j.parts = append(j.parts, p)
	}
	if n == 1 {
		return j.parts[0], nil
	}
	return j, nil
}

func (c *compiler) not(e *notExpr) (node, error) {
	inner, err := c.held(e.Held)
	if err != nil || !e.Not {
		return inner, err
	}
	return negation{inner}, nil
}

func (c *compiler) held(e *heldExpr) (node, error) {
	inner, err := c.compare(e.Compare)
	if err != nil || e.For == nil {
		return inner, err
	}
	q, err := quantity.Parse(e.For.Text)
	if err != nil {
		return nil, &Error{e.For.Pos.Column, err.Error()}
	}
	if q.Dim != quantity.Time {
		return nil, &Error{e.For.Pos.Column, fmt.Sprintf("after for comes a time, such as 2 s, not %s", q.Dim)}
	}
	c.cond.held = append(c.cond.held, Hold{})
	return hold{inner, q.Value, len(c.cond.held) - 1}, nil
}

func (c *compiler) compare(e *compareExpr) (node, error) {
	if e.Group != nil {
		return c.or(e.Group)
	}
	first := len(c.cond.columns)
	left, ld, err := c.sum(e.Left)
	if err != nil {
		return nil, err
	}
	mid := len(c.cond.columns)
	right, rd, err := c.sum(e.Right)
	if err != nil {
		return nil, err
	}
	c.noteThreshold(first, mid, left, right, e.Op)
	if ld != rd {
		return nil, &Error{e.Pos.Column, fmt.Sprintf("compares %s with %s; both sides must be of one kind", ld, rd)}
	}
	return comparison{left, right, e.Op, ld}, nil
}

// mirrored is the comparison seen from its other side.
var mirrored = map[string]string{"<": ">", "<=": ">=", ">": "<", ">=": "<="}

// noteThreshold keeps a comparison of which one side is a column as it is and the other does not change.
func (c *compiler) noteThreshold(first, mid int, left, right number, op string) {
	columns := c.cond.columns
	column, level := left, right
	switch {
	case mid == first+1 && len(columns) == mid:
	case mid == first && len(columns) == mid+1:
		column, level, op = right, left, mirrored[op]
	default:
		return
	}
	at := func(x, t float64) *Sample {
		s := &Sample{T: t, StageT: t, Columns: make([]float64, columns[first]+1)}
		s.Columns[columns[first]] = x
		return s
	}
	if column(at(1, 1)) != 1 || column(at(2, 5)) != 2 || level(at(0, 1)) != level(at(0, 5)) {
		return
	}
	c.cond.thresholds = append(c.cond.thresholds, Threshold{columns[first], op, level(at(0, 0))})
}

func (c *compiler) sum(e *sumExpr) (number, quantity.Dimension, error) {
	value, dim, err := c.product(e.First)
	if err != nil {
		return nil, dim, err
	}
	for _, tail := range e.Rest {
		right, rd, err := c.product(tail.Term)
		if err != nil {
			return nil, dim, err
		}
		if rd != dim {
			return nil, dim, &Error{tail.Pos.Column, fmt.Sprintf("adds or subtracts %s and %s; both must be of one kind", dim, rd)}
		}
		left, sign := value, 1.0
		if tail.Op == "-" {
			sign = -1
		}
		value = func(s *Sample) float64 { return left(s) + sign*right(s) }
	}
	return value, dim, nil
}

func (c *compiler) product(e *productExpr) (number, quantity.Dimension, error) {
	value, dim, err := c.unary(e.First)
	if err != nil {
		return nil, dim, err
	}
	for _, tail := range e.Rest {
		right, rd, err := c.unary(tail.Factor)
		if err != nil {
			return nil, dim, err
		}
		left := value
		if tail.Op == "*" {
			value, dim = func(s *Sample) float64 { return left(s) * right(s) }, dim.Times(rd)
		} else {
			value, dim = func(s *Sample) float64 { return quotient(left(s), right(s)) }, dim.Per(rd)
		}
	}
	return value, dim, nil
}

// quotient is unknown, not infinite, when the divisor is zero.
func quotient(a, b float64) float64 {
	if b == 0 {
		return math.NaN()
	}
	return a / b
}

func (c *compiler) unary(e *unaryExpr) (number, quantity.Dimension, error) {
	value, dim, err := c.atom(e.Atom)
	if err != nil || !e.Minus {
		return value, dim, err
	}
	return func(s *Sample) float64 { return -value(s) }, dim, nil
}

func (c *compiler) atom(e *atomExpr) (number, quantity.Dimension, error) {
	switch {
	case e.Literal != nil:
		q, err := quantity.Parse(e.Literal.Text)
		if err != nil {
			return nil, q.Dim, &Error{e.Pos.Column, err.Error()}
		}
		return constant(q.Value), q.Dim, nil
	case e.Group != nil:
		return c.sum(e.Group)
	}
	switch e.Name {
	case "elapsed":
		return func(s *Sample) float64 { return s.T }, quantity.Time, nil
	case "stage.elapsed":
		return func(s *Sample) float64 { return s.StageT }, quantity.Time, nil
	}
	ref, err := c.scope(e.Name)
	if err != nil {
		return nil, ref.Dim, &Error{e.Pos.Column, err.Error()}
	}
	if ref.Constant != nil {
		return constant(ref.Constant.Value), ref.Constant.Dim, nil
	}
	column := ref.Column
	c.cond.columns = append(c.cond.columns, column)
	return func(s *Sample) float64 {
		if column >= len(s.Columns) {
			return math.NaN()
		}
		return s.Columns[column]
	}, ref.Dim, nil
}

func constant(x float64) number { return func(*Sample) float64 { return x } }

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

// junction is "or" (decisive True) or "and" (decisive False): one decisive part decides, else one unknown makes it unknown.
type junction struct {
	parts    []node
	decisive Truth
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

// hold is true once the inner part has held for a time without a frame that said otherwise. Unknown frames neither count nor
// reset.
type hold struct {
	inner   node
	seconds float64
	slot    int
}

func (n hold) truth(s *Sample, held []Hold) Truth {
	h := &held[n.slot]
	switch n.inner.truth(s, held) {
	case Unknown:
		return Unknown
	case False:
		h.Holding = false
		return False
	}
	if !h.Holding {
		h.Holding, h.Since = true, s.T
	}
	if s.T-h.Since >= n.seconds {
		return True
	}
	return False
}

func (n hold) margin(s *Sample) (float64, quantity.Dimension, bool) { return n.inner.margin(s) }
