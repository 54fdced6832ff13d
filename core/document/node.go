package document

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/token"

	"usherbench/core/quantity"
)

// Node is one place of a document. The zero Node stands for something that is absent.
type Node struct {
	node ast.Node
	doc  *Document
	key  ast.Node // whose value this is, where findings about an absent value stand
}

// Entry is a key of a map and its value.
type Entry struct {
	Key   string
	At    Node // the key itself, for findings
	Value Node
}

// Present tells whether there is anything at the node.
func (n Node) Present() bool { return n.node != nil }

// Fail records a finding at the node.
func (n Node) Fail(format string, args ...any) {
	if n.doc != nil {
		n.doc.found(at(n.place(), format, args...))
	}
}

// place is where findings about the node stand.
func (n Node) place() ast.Node {
	if n.node == nil {
		return n.key
	}
	return n.node
}

// FailAt records a finding at a column within the node's text (from 1), for texts that have a grammar of their own.
func (n Node) FailAt(column int, format string, args ...any) {
	if n.doc == nil {
		return
	}
	f := at(n.place(), format, args...)
	f.Column += column - 1
	if s, ok := n.node.(*ast.StringNode); ok {
		if s.Token.Type == token.DoubleQuoteType || s.Token.Type == token.SingleQuoteType {
			f.Column++
		}
	}
	n.doc.found(f)
}

// FailPlace records a finding at a place of the document that was read before.
func (n Node) FailPlace(line, column int, format string, args ...any) {
	if n.doc != nil {
		n.doc.found(Finding{line, column, fmt.Sprintf(format, args...)})
	}
}

// Position is the line and column of the node, from 1; (0, 0) for an absent one.
func (n Node) Position() (line, column int) {
	if n.node == nil {
		return 0, 0
	}
	return position(n.node)
}

// IsMap and IsList tell the form of the node.
func (n Node) IsMap() bool {
	switch n.node.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return true
	}
	return false
}

// IsList tells whether the node is a list.
func (n Node) IsList() bool { _, ok := n.node.(*ast.SequenceNode); return ok }

// Entries are the keys and values of a map, in order. A node that is no map, and a key that stands twice, is a finding.
func (n Node) Entries() []Entry {
	var values []*ast.MappingValueNode
	switch m := n.node.(type) {
	case nil:
		return nil
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		n.Fail("here belongs a map of keys and values, not %s", n.form())
		return nil
	}
	seen := map[string]bool{}
	var entries []Entry
	for _, v := range values {
		key, at := v.Key.GetToken().Value, Node{v.Key, n.doc, nil}
		if seen[key] {
			at.Fail("%q stands twice in this map; keep one", key)
			continue
		}
		seen[key] = true
		entries = append(entries, Entry{key, at, Node{plain(v.Value), n.doc, v.Key}})
	}
	return entries
}

// plain makes an explicit null an absent node.
func plain(n ast.Node) ast.Node {
	if _, null := n.(*ast.NullNode); null {
		return nil
	}
	return n
}

// Fields hands each value of a map to the function of its key. Unknown keys are findings that name what was
// probably meant; keys in required must be there.
func (n Node) Fields(fields map[string]func(Node), required ...string) {
	seen := map[string]bool{}
	misspelt := false // a key that seems to be missing is then probably there under a wrong name
	for _, e := range n.Entries() {
		read, ok := fields[e.Key]
		if !ok {
			e.At.Fail("unknown key %q; %s", e.Key, known(e.Key, slices.Collect(maps.Keys(fields))))
			misspelt = true
			continue
		}
		seen[e.Key] = true
		if !e.Value.Present() {
			e.At.Fail("%q has no value", e.Key)
			continue
		}
		read(e.Value)
	}
	if !n.IsMap() || misspelt {
		return
	}
	for _, key := range required {
		if !seen[key] {
			n.Fail("the key %q is missing", key)
		}
	}
}

// known words a refusal for a name: what was probably meant, and everything that is possible.
func known(word string, words []string) string {
	slices.Sort(words)
	best, distance := "", 3
	for _, w := range words {
		if d := editDistance(word, w); d < distance {
			best, distance = w, d
		}
	}
	if len(words) == 0 {
		return "there is none here"
	}
	all := "known here: " + strings.Join(words, ", ")
	if best != "" {
		return fmt.Sprintf("did you mean %q? %s", best, all)
	}
	return all
}

// Suggest words what is possible instead of an unknown name, beginning with the most similar.
func Suggest(word string, words []string) string { return known(word, slices.Clone(words)) }

func editDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diagonal
			if a[i-1] != b[j-1] {
				cost++
			}
			diagonal = row[j]
			row[j] = min(cost, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}

// Items are the elements of a list. A node that is no list is a finding.
func (n Node) Items() []Node {
	if n.node == nil {
		return nil
	}
	s, ok := n.node.(*ast.SequenceNode)
	if !ok {
		n.Fail("here belongs a list, not %s", n.form())
		return nil
	}
	items := make([]Node, 0, len(s.Values))
	for _, v := range s.Values {
		item := Node{v, n.doc, nil}
		if plain(v) == nil {
			item.Fail("an empty item; remove it or give it a value")
			continue
		}
		items = append(items, item)
	}
	return items
}

// Text is the value of a plain or quoted text, a number or a switch word, as written.
func (n Node) Text() string {
	switch s := n.node.(type) {
	case nil:
		return ""
	case *ast.StringNode:
		return s.Value
	case *ast.LiteralNode:
		return strings.TrimSpace(s.Value.Value)
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.node.GetToken().Value
	}
	n.Fail("here belongs a text, not %s", n.form())
	return ""
}

func (n Node) form() string {
	switch n.node.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a map"
	case *ast.SequenceNode:
		return "a list"
	case *ast.AnchorNode, *ast.AliasNode:
		return "an anchor (they are not used here)"
	}
	return "a single value"
}

// Quantity reads a quantity of the given dimension.
func (n Node) Quantity(dim quantity.Dimension) quantity.Quantity {
	text := n.Text()
	if text == "" {
		return quantity.Quantity{Dim: dim}
	}
	q, err := quantity.Parse(text)
	if err != nil {
		n.Fail("%s", err)
		return quantity.Quantity{Dim: dim}
	}
	if q = q.As(dim); q.Dim != dim {
		n.Fail("%q is %s, but here belong %s", text, q.Dim, dim)
		return quantity.Quantity{Dim: dim}
	}
	return q
}

// Word reads one of the given words.
func (n Node) Word(words ...string) string {
	text := n.Text()
	if text != "" && !slices.Contains(words, text) {
		n.Fail("%q is not possible here; %s", text, Suggest(text, words))
		return ""
	}
	return text
}

// Whole reads a whole number within bounds.
func (n Node) Whole(least, most int) int {
	text := n.Text()
	base := 10
	digits, hex := strings.CutPrefix(strings.ToLower(text), "0x")
	if hex { // as manuals write addresses of registers
		base = 16
	}
	value, err := strconv.ParseInt(digits, base, 64)
	if err != nil || value < int64(least) || value > int64(most) {
		n.Fail("%q: here belongs a whole number from %d to %d", text, least, most)
		return least
	}
	return int(value)
}
