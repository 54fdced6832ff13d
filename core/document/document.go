// Package document reads YAML documents written by people: procedures, nameplates, dialects. It walks the
// parsed tree with positions, collects every finding with line and column instead of stopping at the first, and
// suggests the key that was probably meant.
package document

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// LongestDocument bounds what is read, in bytes; the largest sensible procedure is a tenth of it.
const LongestDocument = 256 << 10

// deepestNesting bounds flow brackets and sequences within one line, which the parser follows recursively.
const deepestNesting = 64

// mostKeys bounds the keys of one map, for which the parser takes a time that grows with their square, and mostFindings
// what is said of one document: who has made so many mistakes mends the first ones first.
const (
	mostKeys     = 1000
	mostFindings = 200
)

// Finding is something wrong at a place of a document. Line and column count from 1.
type Finding struct {
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
}

func (f Finding) Error() string { return fmt.Sprintf("%d:%d: %s", f.Line, f.Column, f.Message) }

// Findings is everything wrong with a document, in the order of its text. As an error it shows one finding a line.
type Findings []Finding

func (f Findings) Error() string {
	lines := make([]string, len(f))
	for i, finding := range f {
		lines[i] = finding.Error()
	}
	return strings.Join(lines, "\n")
}

// Err is f as an error, nil if there is nothing.
func (f Findings) Err() error {
	if len(f) == 0 {
		return nil
	}
	return f
}

// Document is a parsed document and what was found wrong with it so far.
type Document struct {
	root     ast.Node
	findings Findings
}

// Parse reads one YAML document. The error is a Findings with a single entry.
func Parse(text []byte) (doc *Document, err error) {
	if finding := admissible(text); finding != nil {
		return nil, Findings{*finding}
	}
	// The parser is a large program fed with text from outside: should it panic, that is one more finding.
	defer func() {
		if r := recover(); r != nil {
			doc, err = nil, Findings{{1, 1, "this is not a YAML document"}}
		}
	}()
	file, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, Findings{syntaxFinding(err)}
	}
	if len(file.Docs) > 1 && file.Docs[1].Body != nil {
		return nil, Findings{at(file.Docs[1].Body, "a second document begins here; write one document a file")}
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, Findings{{1, 1, "the document is empty"}}
	}
	return &Document{root: file.Docs[0].Body}, nil
}

func admissible(text []byte) *Finding {
	if len(text) > LongestDocument {
		return &Finding{1, 1, fmt.Sprintf("the document is larger than %d kB, so this is probably another kind of file",
			LongestDocument>>10)}
	}
	line := 1
	var keys siblings
	for part := range bytes.Lines(text) {
		if keys.add(part) > mostKeys {
			return &Finding{line, 1, fmt.Sprintf("the map has more than %d keys, so this is probably another kind of file",
				mostKeys)}
		}
		if !utf8.Valid(part) {
			return &Finding{line, 1, "the text is not UTF-8, so this is probably not a text file"}
		}
		if i := bytes.IndexFunc(part, func(r rune) bool { return r < ' ' && r != '\n' && r != '\r' && r != '\t' }); i >= 0 {
			return &Finding{line, i + 1, "a control character stands here, so this is probably not a text file"}
		}
		if bytes.Count(part, []byte("[")) > deepestNesting || bytes.Count(part, []byte("{")) > deepestNesting ||
			bytes.Count(part, []byte("- ")) > deepestNesting || bytes.Count(part, []byte("? ")) > deepestNesting {
			return &Finding{line, 1, "the line nests too many lists or maps; write them on lines of their own"}
		}
		line++
	}
	if bytes.Count(text, []byte("[")) > 50*deepestNesting || bytes.Count(text, []byte("{")) > 50*deepestNesting {
		return &Finding{1, 1, "the document nests too many lists or maps"}
	}
	return nil
}

// siblings counts the keys of maps in block form, by their indentation.
type siblings []struct{ indent, keys int }

// add counts the key of a line, if there is one, and tells how many its map has so far.
func (s *siblings) add(line []byte) int {
	text := bytes.TrimLeft(line, " ")
	indent := len(line) - len(text)
	text = bytes.TrimSpace(text)
	if len(text) == 0 || text[0] == '#' {
		return 0
	}
	for len(*s) > 0 && (*s)[len(*s)-1].indent > indent {
		*s = (*s)[:len(*s)-1]
	}
	if bytes.HasPrefix(text, []byte("- ")) || !bytes.Contains(text, []byte(":")) {
		return 0
	}
	if len(*s) == 0 || (*s)[len(*s)-1].indent < indent {
		*s = append(*s, struct{ indent, keys int }{indent, 0})
	}
	last := &(*s)[len(*s)-1]
	last.keys++
	return last.keys
}

func syntaxFinding(err error) Finding {
	var yerr yaml.Error
	if errors.As(err, &yerr) {
		message := strings.TrimSpace(yerr.GetMessage())
		if strings.Contains(message, `'\t'`) || strings.Contains(message, "\t") {
			message = "a tab stands where only spaces may; indent with spaces"
		}
		if token := yerr.GetToken(); token != nil && token.Position != nil {
			return Finding{max(token.Position.Line, 1), max(token.Position.Column, 1), "not YAML: " + message}
		}
	}
	return Finding{1, 1, "not YAML: " + firstLine(err.Error())}
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

// found keeps a finding, if there are not too many already.
func (d *Document) found(f Finding) {
	if len(d.findings) < mostFindings {
		d.findings = append(d.findings, f)
	}
}

// Root is the outermost node.
func (d *Document) Root() Node { return Node{d.root, d, nil} }

// Findings is all that was found so far, ordered by position.
func (d *Document) Findings() Findings {
	slices.SortStableFunc(d.findings, func(a, b Finding) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	return slices.Compact(d.findings)
}

func at(n ast.Node, format string, args ...any) Finding {
	line, column := position(n)
	return Finding{line, column, fmt.Sprintf(format, args...)}
}

func position(n ast.Node) (line, column int) {
	if n == nil {
		return 1, 1
	}
	if m, ok := n.(*ast.MappingNode); ok && !m.IsFlowStyle && len(m.Values) > 0 {
		n = m.Values[0].Key
	}
	if m, ok := n.(*ast.MappingValueNode); ok {
		n = m.Key
	}
	if t := n.GetToken(); t != nil && t.Position != nil {
		return max(t.Position.Line, 1), max(t.Position.Column, 1)
	}
	return 1, 1
}
