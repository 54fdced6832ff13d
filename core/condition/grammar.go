// Package condition reads and evaluates the conditions of procedures: `load.volts < 14.2 V for 2 s and not
// source.limited > 0`.
//
// [Parse] checks the form, [Compile] resolves names and checks dimensions, and a [Condition] is then evaluated
// on one frame after another. Truth has three values: a comparison with a missing reading is unknown.
package condition

import (
	"errors"
	"fmt"
	"sync"

	"github.com/alecthomas/participle/v2"
	"github.com/alecthomas/participle/v2/lexer"

	"usherbench/core/quantity"
)

// Error is a mistake in a condition. Column counts characters from 1 within the condition's text.
type Error struct {
	Column int
	Reason string
}

func (e *Error) Error() string { return e.Reason }

type orExpr struct {
	Terms []*andExpr `parser:"@@ ('or' @@)*"`
}

type andExpr struct {
	Terms []*notExpr `parser:"@@ ('and' @@)*"`
}

type notExpr struct {
	Not  bool      `parser:"@'not'?"`
	Held *heldExpr `parser:"@@"`
}

type heldExpr struct {
	Pos     lexer.Position
	Compare *compareExpr `parser:"@@"`
	For     *duration    `parser:"('for' @@)?"`
}

type duration struct {
	Pos     lexer.Position
	Literal *literal `parser:"  @@"`
	Name    string   `parser:"| @Name"`
}

// compareExpr is a comparison, or a condition in parentheses. Which of the two a parenthesis opens is found by
// looking ahead.
type compareExpr struct {
	Pos   lexer.Position
	Group *orExpr  `parser:"(  '(' @@ ')' (?! Operator | '+' | '-' | '*' | '/')"`
	Left  *sumExpr `parser:" | @@"`
	Op    string   `parser:"   @Operator"`
	Right *sumExpr `parser:"   @@ )"`
}

type sumExpr struct {
	First *productExpr `parser:"@@"`
	Rest  []*sumTail   `parser:"@@*"`
}

type sumTail struct {
	Pos  lexer.Position
	Op   string       `parser:"@('+' | '-')"`
	Term *productExpr `parser:"@@"`
}

type productExpr struct {
	First *unaryExpr     `parser:"@@"`
	Rest  []*productTail `parser:"@@*"`
}

type productTail struct {
	Op     string     `parser:"@('*' | '/')"`
	Factor *unaryExpr `parser:"@@"`
}

type unaryExpr struct {
	Minus bool      `parser:"@'-'?"`
	Atom  *atomExpr `parser:"@@"`
}

type atomExpr struct {
	Pos     lexer.Position
	Literal *literal  `parser:"  @@"`
	Call    *callExpr `parser:"| @@"`
	Name    string    `parser:"| @Name"`
	Group   *sumExpr  `parser:"| '(' @@ ')'"`
}

// callExpr is a function of a value, most of them over a window: rate(load.volts, 200 ms).
type callExpr struct {
	Pos    lexer.Position
	Name   string   `parser:"@Name '('"`
	Of     *sumExpr `parser:"@@"`
	Window *sumExpr `parser:"(',' @@)? ')'"`
}

type literal struct {
	Pos  lexer.Position
	Text string `parser:"@Literal"`
}

var parser = sync.OnceValue(func() *participle.Parser[orExpr] {
	return participle.MustBuild[orExpr](
		participle.Lexer(lexer.MustSimple([]lexer.SimpleRule{
			{Name: "Literal", Pattern: quantity.LiteralPattern()},
			{Name: "Name", Pattern: `[A-Za-z_][A-Za-z0-9_]*(?:\.[A-Za-z0-9_]+)*`},
			{Name: "Operator", Pattern: `<=|>=|<|>`},
			{Name: "Punct", Pattern: `[-+*/(),−]`},
			{Name: "Space", Pattern: `\s+`},
		})),
		participle.Elide("Space"),
		participle.Map(func(t lexer.Token) (lexer.Token, error) {
			if t.Value == "−" {
				t.Value = "-"
			}
			return t, nil
		}, "Punct"),
		participle.UseLookahead(64),
	)
})

// longestText bounds a condition so that hostile input cannot exhaust the parser.
const longestText = 2000

func parse(text string) (*orExpr, error) {
	if len(text) > longestText {
		return nil, &Error{1, fmt.Sprintf("the condition is longer than %d characters; split it", longestText)}
	}
	if depth := nesting(text); depth > 40 {
		return nil, &Error{1, "the condition nests more than 40 parentheses; simplify it"}
	}
	tree, err := conditions.tree(text, func() (*orExpr, error) { return parser().ParseString("", text) })
	if err == nil {
		return tree, nil
	}
	var perr participle.Error
	if errors.As(err, &perr) {
		return nil, &Error{max(perr.Position().Column, 1),
			fmt.Sprintf("%s; a condition reads like: load.volts < 14.2 V for 2 s", perr.Message())}
	}
	return nil, &Error{1, err.Error()}
}

func nesting(text string) (deepest int) {
	depth := 0
	for _, r := range text {
		switch r {
		case '(':
			depth++
			deepest = max(deepest, depth)
		case ')':
			depth--
		}
	}
	return deepest
}

var sumParser = sync.OnceValue(func() *participle.Parser[sumExpr] {
	return participle.MustBuild[sumExpr](participle.Lexer(parser().Lexer()), participle.Elide("Space"),
		participle.UseLookahead(64))
})

func parseSum(text string) (*sumExpr, error) {
	if len(text) > longestText || nesting(text) > 40 {
		return nil, &Error{1, "the expression is too long or nests too deep"}
	}
	tree, err := expressions.tree(text, func() (*sumExpr, error) { return sumParser().ParseString("", text) })
	if err == nil {
		return tree, nil
	}
	// A text that only tries to be a quantity is explained better by the rules of quantities.
	_, qerr := quantity.Parse(text)
	var perr participle.Error
	if errors.As(err, &perr) && qerr == nil {
		return nil, &Error{max(perr.Position().Column, 1), perr.Message()}
	}
	if qerr == nil {
		qerr = err
	}
	return nil, &Error{1, qerr.Error()}
}

// Value computes an expression without comparison, such as "0.5 * top" or "nameplate.rated_volts - 1 V", from
// constants.
func Value(text string, scope Scope) (quantity.Quantity, error) {
	tree, err := parseSum(text)
	if err != nil {
		return quantity.Quantity{}, err
	}
	c := &compiler{scope: scope, cond: &Condition{Text: text}}
	value, dim, err := c.sum(tree)
	if err != nil {
		return quantity.Quantity{}, err
	}
	if len(c.cond.columns) > 0 || c.measures {
		return quantity.Quantity{},
			&Error{1, "a measured quantity has no fixed value; use a literal, a parameter or a rating"}
	}
	return quantity.Quantity{Value: value(&Sample{}), Dim: dim}, nil
}

// Expression is a number that is computed from each frame, such as "1000 * meter.volts".
type Expression struct {
	cond  *Condition
	value number
	Dim   quantity.Dimension
}

// CompileExpression parses an expression over columns, parameters and ratings. Errors are *Error with a column.
func CompileExpression(text string, scope Scope) (*Expression, error) {
	tree, err := parseSum(text)
	if err != nil {
		return nil, err
	}
	c := &compiler{scope: scope, cond: &Condition{Text: text}}
	value, dim, err := c.sum(tree)
	if err != nil {
		return nil, err
	}
	return &Expression{c.cond, value, dim}, nil
}

// Value is the expression on the next frame; NaN where a reading is missing.
func (e *Expression) Value(s Sample) float64 { return e.value(&s) }

// Columns lists the indexes of the frame columns that the expression reads.
func (e *Expression) Columns() []int { return e.cond.columns }

// State is what the expression remembers; Restore takes it back.
func (e *Expression) State() State { return e.cond.State() }

// Restore sets what State returned.
func (e *Expression) Restore(s State) { e.cond.Restore(s) }
