// Package dialect reads the text files that say how a model of instrument is spoken to: which message sets volts, which query
// reads amps, ranges, accuracy, quirks. A new instrument is such a file, not a release.
//
// docs/dialects.md describes the format for its writers, with a worked example.
package dialect

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"usherbench/core/document"
	"usherbench/core/nameplate"
	"usherbench/core/quantity"
	"usherbench/core/uncertainty"
)

// Dialect is how a model of instrument is spoken to.
type Dialect struct {
	Name, Title string
	// Identity matches the answer to *IDN?.
	Identity *regexp.Regexp
	Channels int
	// Seats that a channel can fill: "source", "load".
	Seats []string
	// Within is how long an answer may take.
	Within time.Duration
	// ErrorQuery reads the oldest entry of the error queue; an empty queue answers with NoError.
	ErrorQuery, NoError string
	// Decimals that a number in a message has.
	Decimals int
	// Set holds the message of each quantity that takes a number, with {value} and {channel}.
	Set map[string]string
	// Words holds the messages of what takes a word: Words["output"]["on"].
	Words map[string]map[string]string
	// Read asks for all readings of a channel in one message; Gives names them in the order of the answer.
	Read  string
	Gives []string
	// Confirm asks whether the output is on; the answer begins with ConfirmOn or ConfirmOff.
	Confirm, ConfirmOn, ConfirmOff string
	// SetRanges and ReadRanges are the ranges with accuracy of what is set and read.
	SetRanges, ReadRanges map[string]uncertainty.Spec
	Text                  string
}

// Parse reads a dialect. The error is a document.Findings.
func Parse(text []byte) (*Dialect, error) {
	doc, err := document.Parse(text)
	if err != nil {
		return nil, err
	}
	d := &Dialect{
		Channels: 1, Within: time.Second, Decimals: 4, Text: string(text), Set: map[string]string{}, Words: map[string]map[string]string{},
		SetRanges: map[string]uncertainty.Spec{}, ReadRanges: map[string]uncertainty.Spec{},
	}
	root := doc.Root()
	root.Fields(map[string]func(document.Node){
		"dialect": func(n document.Node) {
			if d.Name = n.Text(); !nameplate.NamePattern.MatchString(d.Name) {
				n.Fail("%q is not a name; use small letters, digits and hyphens, beginning with a letter", d.Name)
			}
		},
		"title":    func(n document.Node) { d.Title = n.Text() },
		"identity": d.readIdentity,
		"channels": func(n document.Node) { d.Channels = n.Whole(1, 64) },
		"seats": func(n document.Node) {
			for _, s := range n.Items() {
				d.Seats = append(d.Seats, s.Word("source", "load"))
			}
		},
		"answers within": func(n document.Node) {
			q := n.Quantity(quantity.Time)
			if d.Within = time.Duration(q.Value * float64(time.Second)); q.Value <= 0 || q.Value > 60 {
				n.Fail("an answer takes more than 0 and at most 60 s")
			}
		},
		"errors": func(n document.Node) {
			n.Fields(map[string]func(document.Node){
				"query": func(n document.Node) { d.ErrorQuery = n.Text() },
				"none":  func(n document.Node) { d.NoError = n.Text() },
			}, "query", "none")
		},
		"decimals": func(n document.Node) { d.Decimals = n.Whole(0, 9) },
		"set":      d.readSet,
		"read":     d.readRead,
		"confirm":  d.readConfirm,
		"ranges": func(n document.Node) {
			n.Fields(map[string]func(document.Node){
				"set":  func(n document.Node) { d.SetRanges = readRanges(n) },
				"read": func(n document.Node) { d.ReadRanges = readRanges(n) },
			})
		},
	}, "dialect", "identity", "seats", "read")
	if err := doc.Findings().Err(); err != nil {
		return nil, err
	}
	return d, nil
}

func (d *Dialect) readIdentity(n document.Node) {
	re, err := regexp.Compile(n.Text())
	if err != nil {
		n.Fail("%q is not a regular expression: %s", n.Text(), err)
		return
	}
	d.Identity = re
}

// message reads a message and checks its places: {channel} everywhere, {value} where a number belongs.
func message(n document.Node, value bool) string {
	text := n.Text()
	for _, m := range regexp.MustCompile(`\{[^}]*\}`).FindAllString(text, -1) {
		if m != "{channel}" && (m != "{value}" || !value) {
			places := "{channel}"
			if value {
				places = "{value} and {channel}"
			}
			n.Fail("%s has no meaning here; possible are %s", m, places)
		}
	}
	if value && !strings.Contains(text, "{value}") {
		n.Fail("the message does not say where the number goes: write {value}")
	}
	return text
}

func (d *Dialect) readSet(n document.Node) {
	for _, e := range n.Entries() {
		switch {
		case e.Key == "output" || e.Key == "mode":
			words := map[string]string{}
			for _, w := range e.Value.Entries() {
				words[w.Key] = message(w.Value, false)
			}
			d.Words[e.Key] = words
		default:
			if _, ok := quantity.KindOf(e.Key); !ok {
				e.At.Fail("%q cannot be set; known: volts, amps, watts, ohms, output, mode", e.Key)
				continue
			}
			d.Set[e.Key] = message(e.Value, true)
		}
	}
	if words := d.Words["output"]; words != nil && (words["on"] == "" || words["off"] == "") {
		n.Fail("output needs a message for on and one for off")
	}
}

func (d *Dialect) readRead(n document.Node) {
	n.Fields(map[string]func(document.Node){
		"message": func(n document.Node) { d.Read = message(n, false) },
		"gives": func(n document.Node) {
			for _, g := range n.Items() {
				name := g.Text()
				if _, ok := quantity.KindOf(name); !ok {
					g.Fail("%q is not a quantity; known: volts, amps, watts, ohms, celsius, hertz, limited", name)
				}
				d.Gives = append(d.Gives, name)
			}
		},
	}, "message", "gives")
}

func (d *Dialect) readConfirm(n document.Node) {
	n.Fields(map[string]func(document.Node){
		"message": func(n document.Node) { d.Confirm = message(n, false) },
		"on":      func(n document.Node) { d.ConfirmOn = n.Text() },
		"off":     func(n document.Node) { d.ConfirmOff = n.Text() },
	}, "message", "on", "off")
}

func readRanges(n document.Node) map[string]uncertainty.Spec {
	specs := map[string]uncertainty.Spec{}
	for _, e := range n.Entries() {
		kind, ok := quantity.KindOf(e.Key)
		if !ok {
			e.At.Fail("%q is not a quantity", e.Key)
			continue
		}
		var spec uncertainty.Spec
		for _, item := range e.Value.Items() {
			spec = append(spec, readRange(item, kind.Unit.Dim))
		}
		if !slices.IsSortedFunc(spec, func(a, b uncertainty.Range) int { return int(math.Copysign(1, a.To-b.To)) }) {
			e.Value.Fail("write the ranges from the smallest to the largest")
		}
		specs[e.Key] = spec
	}
	return specs
}

// readRange adds up the parts of an accuracy: reading is relative; range, offset and counts together bound the offset error.
func readRange(n document.Node, dim quantity.Dimension) uncertainty.Range {
	var r uncertainty.Range
	var ofRange float64
	var counts int
	n.Fields(map[string]func(document.Node){
		"to":         func(n document.Node) { r.To = n.Quantity(dim).Value },
		"reading":    func(n document.Node) { r.Reading = n.Quantity(quantity.Number).Value },
		"range":      func(n document.Node) { ofRange = n.Quantity(quantity.Number).Value },
		"offset":     func(n document.Node) { r.Offset = n.Quantity(dim).Value },
		"counts":     func(n document.Node) { counts = n.Whole(0, 1000) },
		"resolution": func(n document.Node) { r.Resolution = n.Quantity(dim).Value },
	}, "to")
	if r.To <= 0 {
		n.Fail("a range ends above 0")
	}
	r.Offset += ofRange*r.To + float64(counts)*r.Resolution
	return r
}

// Fill puts a channel and a number into a message.
func (d *Dialect) Fill(message string, channel int, value float64) string {
	message = strings.ReplaceAll(message, "{channel}", strconv.Itoa(channel))
	return strings.ReplaceAll(message, "{value}", strconv.FormatFloat(value, 'f', d.Decimals, 64))
}

//go:embed dialects/*.yaml
var shipped embed.FS

// Library is a set of dialects by name.
type Library map[string]*Dialect

// Load reads the dialects that ship with the program and those of a folder, which may be missing or empty ("" for none). One of
// the folder replaces a shipped one of the same name. Files that cannot be read are reported together; the rest is usable.
func Load(folder string) (Library, error) {
	l := Library{}
	embedded, err := fs.Sub(shipped, "dialects")
	if err != nil {
		return nil, err
	}
	err = l.add(embedded, "shipped dialect")
	if folder == "" {
		return l, err
	}
	if _, statErr := os.Stat(folder); errors.Is(statErr, fs.ErrNotExist) {
		return l, err
	}
	return l, errors.Join(err, l.add(os.DirFS(folder), folder))
}

func (l Library) add(files fs.FS, where string) error {
	names, err := fs.Glob(files, "*.yaml")
	if err != nil {
		return err
	}
	var errs []error
	for _, name := range names {
		text, err := fs.ReadFile(files, name)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		d, err := Parse(text)
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", filepath.Join(where, name), err))
			continue
		}
		l[d.Name] = d
	}
	return errors.Join(errs...)
}
