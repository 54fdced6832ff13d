package condition

import (
	"fmt"
	"math"
	"strings"

	"usherbench/core/quantity"
)

// Ref is what a name stands for: a constant, a column of the frames, a sum of columns, or an answer of the operator.
type Ref struct {
	Constant *quantity.Quantity
	Column   int // index into the frame's values when nothing else is set
	// Sum are columns that are added, those of Less are taken off.
	Sum, Less []int
	// SinceStage counts the value from the beginning of the stage.
	SinceStage bool
	// Answer is the name of a number that the operator gives during the run.
	Answer string
	Dim    quantity.Dimension
}

// Scope resolves names: quantities of seats, parameters, ratings of the nameplate. The error says what is known
// instead.
type Scope func(name string) (Ref, error)

// The truth values.
const (
	False Truth = iota
	True
	Unknown
)

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
	c.cond.root, c.cond.fixed = root, !c.measures && !c.named && len(c.cond.columns) == 0
	return c.cond, nil
}

type compiler struct {
	scope    Scope
	cond     *Condition
	measures bool // something depends on the run, though on no column
	named    bool // a parameter or rating has a part in it
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

func (c *compiler) held(e *heldExpr) (node, error) {
	inner, err := c.compare(e.Compare)
	if err != nil || e.For == nil {
		return inner, err
	}
	q, err := c.time(e.For)
	if err != nil {
		return nil, err
	}
	if q.Dim != quantity.Time {
		return nil, &Error{e.For.Pos.Column, fmt.Sprintf("after for comes a time, such as 2 s, not %s", q.Dim)}
	}
	c.cond.held = append(c.cond.held, Hold{})
	return hold{inner, q.Value, len(c.cond.held) - 1}, nil
}

// time is how long something must hold: a literal, a parameter or a rating.
func (c *compiler) time(e *duration) (quantity.Quantity, error) {
	if e.Literal != nil {
		q, err := quantity.Parse(e.Literal.Text)
		if err != nil {
			return q, &Error{e.Pos.Column, err.Error()}
		}
		return q, nil
	}
	ref, err := c.scope(e.Name)
	if err == nil && ref.Constant == nil {
		err = fmt.Errorf("%s is measured; after for comes a fixed time", e.Name)
	}
	if err != nil {
		return quantity.Quantity{}, &Error{e.Pos.Column, err.Error()}
	}
	return *ref.Constant, nil
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
	left, ld, right, rd = c.rates(left, ld, right, rd)
	c.noteThreshold(first, mid, left, right, e.Op)
	if !ld.Like(rd) {
		return nil, &Error{e.Pos.Column, fmt.Sprintf("compares %s with %s; both sides must be of one kind", ld, rd)}
	}
	return comparison{left, right, e.Op, ld}, nil
}

// rates makes a current of a C-rate that stands beside one, if the rated capacity is known.
func (c *compiler) rates(left number, ld quantity.Dimension, right number, rd quantity.Dimension) (number,
	quantity.Dimension, number, quantity.Dimension) {
	if ld == rd || ld != quantity.ChargeRate && rd != quantity.ChargeRate || ld != quantity.Current &&
		rd != quantity.Current {
		return left, ld, right, rd
	}
	ref, err := c.scope("nameplate.rated_capacity")
	if err != nil || ref.Constant == nil || ref.Constant.Dim != quantity.Charge {
		return left, ld, right, rd
	}
	perRate := ref.Constant.Value / 3600
	scaled := func(x number) number { return func(s *Sample) float64 { return x(s) * perRate } }
	if ld == quantity.ChargeRate {
		return scaled(left), quantity.Current, right, rd
	}
	return left, ld, scaled(right), quantity.Current
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
	if len(c.cond.windows) > 0 || len(c.cond.since) > 0 {
		return // what looks back is more than a level
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
		value, dim, right, rd = c.rates(value, dim, right, rd)
		if !rd.Like(dim) {
			return nil, dim, &Error{tail.Pos.Column, fmt.Sprintf("adds or subtracts %s and %s; both must be of one kind", dim,
				rd)}
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
	case e.Call != nil:
		return c.call(e.Call)
	}
	switch e.Name {
	case "elapsed":
		c.measures = true
		return func(s *Sample) float64 { return s.T - s.Away }, quantity.Time, nil
	case "stage.elapsed":
		c.measures = true
		return func(s *Sample) float64 { return s.StageT }, quantity.Time, nil
	}
	ref, err := c.scope(e.Name)
	if err != nil {
		return nil, ref.Dim, &Error{e.Pos.Column, err.Error()}
	}
	if ref.Constant != nil {
		c.named = true
		return constant(ref.Constant.Value), ref.Constant.Dim, nil
	}
	if name := ref.Answer; name != "" {
		c.measures = true
		return func(s *Sample) float64 {
			if x, ok := s.Answers[name]; ok {
				return x
			}
			return math.NaN()
		}, ref.Dim, nil
	}
	if ref.Sum == nil && ref.Less == nil {
		ref.Sum = []int{ref.Column}
	}
	c.cond.columns = append(append(c.cond.columns, ref.Sum...), ref.Less...)
	value := func(s *Sample) float64 { return added(s.Columns, ref.Sum) - added(s.Columns, ref.Less) }
	if len(ref.Sum) == 1 && len(ref.Less) == 0 {
		column := ref.Sum[0]
		value = func(s *Sample) float64 { return at(s.Columns, column) }
	}
	if ref.SinceStage {
		return c.since(value, func(h *stretch, x float64) float64 { return x - h.First }, 0, false), ref.Dim, nil
	}
	return value, ref.Dim, nil
}

func at(columns []float64, i int) float64 {
	if i >= len(columns) {
		return math.NaN()
	}
	return columns[i]
}

func added(columns []float64, which []int) (sum float64) {
	for _, i := range which {
		sum += at(columns, i)
	}
	return sum
}

// call makes a function of a value over a window or since the stage began.
func (c *compiler) call(e *callExpr) (number, quantity.Dimension, error) {
	of, dim, err := c.sum(e.Of)
	if err != nil {
		return nil, dim, err
	}
	c.measures = true
	look, since := sinceFunctions[e.Name]
	f, ok := functions[e.Name]
	if since {
		from := 0.0
		if e.Window != nil {
			if from, err = c.span(e); err != nil {
				return nil, dim, err
			}
		}
		return c.since(of, look, from, e.Name == "gain"), dim, nil
	}
	if !ok {
		return nil, dim, &Error{e.Pos.Column, fmt.Sprintf("%q is no function; known are %s", e.Name,
			strings.Join(FunctionNames(), ", "))}
	}
	if e.Window == nil {
		return nil, dim, &Error{e.Pos.Column, fmt.Sprintf("%s needs a window, as in %s(load.volts, 200 ms)", e.Name, e.Name)}
	}
	length, err := c.span(e)
	if err != nil {
		return nil, dim, err
	}
	if f.perTime {
		dim = dim.Per(quantity.Time)
	}
	w := &window{length: length, compute: f.of}
	cond := c.cond
	cond.windows = append(cond.windows, w)
	return func(s *Sample) float64 {
		x := of(s)
		switch {
		case math.IsNaN(x):
			return x
		case !w.begun || s.T > w.lastT:
			w.push(s.T, x)
		}
		if !w.full {
			cond.filling = true
		}
		return w.value
	}, dim, nil
}

// span is the time that a call has as its window, s.
func (c *compiler) span(e *callExpr) (float64, error) {
	columns, measures := len(c.cond.columns), c.measures
	c.measures = false
	length, dim, err := c.sum(e.Window)
	switch {
	case err != nil:
		return 0, err
	case dim != quantity.Time:
		return 0, &Error{e.Pos.Column, fmt.Sprintf("the window of %s is a time, such as 200 ms, not %s", e.Name, dim)}
	case len(c.cond.columns) > columns || c.measures || length(&Sample{}) <= 0:
		return 0, &Error{e.Pos.Column, fmt.Sprintf("the window of %s is a fixed time of more than 0", e.Name)}
	}
	c.measures = measures
	return length(&Sample{}), nil
}

// since makes a function of a value that looks back to the beginning of the stage, or to when some time of it had
// passed. A gain counts from the mean over that time.
func (c *compiler) since(of number, look func(h *stretch, x float64) float64, from float64, gain bool) number {
	h := &stretch{}
	cond := c.cond
	cond.since = append(cond.since, h)
	return func(s *Sample) float64 {
		x := of(s)
		switch {
		case math.IsNaN(x):
			return x
		case gain:
			h.push(s.Entry, s.StageT, x, from)
		case s.StageT >= from:
			h.push(s.Entry, s.StageT, x, 0)
		}
		if s.StageT < from {
			cond.filling = true
			return math.NaN()
		}
		return look(h, x)
	}
}

func constant(x float64) number { return func(*Sample) float64 { return x } }

// junction is "or" (decisive True) or "and" (decisive False): one decisive part decides, else one unknown makes
// it unknown.
type junction struct {
	parts    []node
	decisive Truth
}

// hold is true once the inner part has held for a time without a frame that said otherwise. Unknown frames
// neither count nor reset.
type hold struct {
	inner   node
	seconds float64
	slot    int
}
