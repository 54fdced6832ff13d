// Package serials reads and makes serial numbers by a pattern:
//
//	TN-{year:2}{week}-{count:4}{check}
//
// Between the braces stand
//
//	{year} {year:2} {month} {day}   of the day on which the unit is tested; four or two, two, two digits
//	{week}                          ISO 8601 week, two digits; {year} beside it is the year of that week
//	{count} {count:4}               the number of the unit, from 1; it begins anew where what stands before it changes
//	{digits:3} {letters:2} {any:6}  so many digits, capital letters, or either: what is scanned and never made
//	{check} {check:digit}           check character, at the end (ISO/IEC 7064 MOD 37,36), or digit (MOD 11,10)
//
// A pattern with digits, letters or any tells right numbers from wrong ones, but makes none.
package serials

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"usherbench/core/document"
)

// Pattern is what serial numbers look like. The zero Pattern takes everything and makes nothing.
type Pattern struct {
	text   string
	pieces []piece
	form   *regexp.Regexp
}

// Day is a day of the calendar: ISO 8601 week, and the year that it belongs to, beside the date.
type Day struct{ Year, Month, Day, WeekYear, Week int }

// piece is a part of a pattern: plain text, or a field with its width.
type piece struct {
	word  string // of a field; empty: text
	text  string
	width int // 0: any
	digit bool
}

// field is a word between braces: which widths it may have, none meaning one that is fixed, and what it looks like.
type field struct {
	least, most, usual int
	class              string
	made               bool // follows from day and number, so that a serial number can be made
}

var fields = map[string]field{
	"year":    {2, 4, 4, `[0-9]`, true},
	"month":   {2, 2, 2, `[0-9]`, true},
	"day":     {2, 2, 2, `[0-9]`, true},
	"week":    {2, 2, 2, `[0-9]`, true},
	"count":   {1, 9, 0, `[0-9]`, true},
	"digits":  {1, 20, 1, `[0-9]`, false},
	"letters": {1, 20, 1, `[A-Z]`, false},
	"any":     {1, 40, 1, `[0-9A-Z]`, false},
	"check":   {1, 1, 1, `[0-9A-Z]`, true},
}

var fieldForm = regexp.MustCompile(`\{[^{}]*\}`)

// Parse reads a pattern.
func Parse(text string) (Pattern, error) {
	p := Pattern{text: text}
	at := 0
	for _, span := range fieldForm.FindAllStringIndex(text, -1) {
		p.plain(text[at:span[0]])
		at = span[1]
		f, err := readField(text[span[0]+1 : span[1]-1])
		if err != nil {
			return Pattern{}, err
		}
		p.pieces = append(p.pieces, f)
	}
	p.plain(text[at:])
	if err := p.check(); err != nil {
		return Pattern{}, err
	}
	form := "^"
	for _, f := range p.pieces {
		form += "(" + f.form() + ")"
	}
	var err error
	p.form, err = regexp.Compile(form + "$")
	return p, err
}

func (p *Pattern) plain(text string) {
	if text != "" {
		p.pieces = append(p.pieces, piece{text: text})
	}
}

// readField reads what stands between braces.
func readField(text string) (piece, error) {
	word, about, _ := strings.Cut(text, ":")
	f, known := fields[word]
	if !known {
		return piece{}, fmt.Errorf("unknown field {%s}; %s", text, document.Suggest(word, words()))
	}
	out := piece{word: word, width: f.usual}
	switch {
	case about == "":
	case word == "check" && about == "digit":
		out.digit = true
	default:
		n, err := strconv.Atoi(about)
		if err != nil || n < f.least || n > f.most || word == "year" && n == 3 {
			return piece{}, fmt.Errorf("{%s}: %q is not how wide %s may be", text, about, word)
		}
		out.width = n
	}
	return out, nil
}

func words() (all []string) {
	for word := range fields {
		all = append(all, word)
	}
	slices.Sort(all)
	return all
}

// check finds what makes a pattern useless.
func (p Pattern) check() error {
	varies, counts := false, 0
	for i, f := range p.pieces {
		switch f.word {
		case "":
			if strings.ContainsAny(f.text, "{}") || strings.ContainsFunc(f.text, unseen) {
				return fmt.Errorf("%q has a brace without its other half, or a character that cannot be seen", f.text)
			}
			continue
		case "check":
			if i != len(p.pieces)-1 {
				return fmt.Errorf("{check} belongs at the end: it is over all that stands before it")
			}
			continue
		case "count":
			counts++
		}
		varies = varies || !fields[f.word].made || f.word == "count"
	}
	if counts > 1 {
		return fmt.Errorf("a serial number has one {count}")
	}
	if !varies {
		return fmt.Errorf("every unit of a day would have the same serial number; add {count}, or {digits:6} where they " +
			"are scanned")
	}
	return nil
}

// unseen tells of characters that nobody can read off a label.
func unseen(r rune) bool { return r <= ' ' || r == 0x7f }

func (f piece) form() string {
	switch {
	case f.word == "":
		return regexp.QuoteMeta(f.text)
	case f.digit:
		return `[0-9]`
	case f.width == 0:
		return fields[f.word].class + `{1,9}`
	}
	return fmt.Sprintf("%s{%d}", fields[f.word].class, f.width)
}

// String is the pattern as it was written.
func (p Pattern) String() string { return p.text }

// Stated tells whether there is a pattern at all.
func (p Pattern) Stated() bool { return p.form != nil }

// Makes tells whether serial numbers can be made by the pattern, and not only scanned.
func (p Pattern) Makes() bool {
	return p.Stated() && slices.ContainsFunc(p.pieces, func(f piece) bool { return f.word == "count" }) &&
		!slices.ContainsFunc(p.pieces, func(f piece) bool { return f.word != "" && !fields[f.word].made })
}

// Check says what is wrong with a serial number: its form, or its check character, as after a misread or mistyped one.
func (p Pattern) Check(serial string) error {
	if !p.Stated() {
		return nil
	}
	m := p.form.FindStringSubmatch(serial)
	if m == nil {
		return fmt.Errorf("%q does not look like %s; scan the label again, or see whether it is a unit of this type",
			serial, p.text)
	}
	for i, f := range p.pieces {
		switch n, _ := strconv.Atoi(m[i+1]); {
		case f.word == "month" && (n < 1 || n > 12), f.word == "day" && (n < 1 || n > 31),
			f.word == "week" && (n < 1 || n > 53):
			return fmt.Errorf("%q has no %s in it where %s has one: %s", serial, f.word, p.text, m[i+1])
		case f.word == "check" && f.checkOf(serial[:len(serial)-1]) != serial[len(serial)-1:]:
			return fmt.Errorf("the check character of %q is wrong: it was misread or mistyped; scan the label again", serial)
		}
	}
	return nil
}

// Series is what the numbers of a day count by: units whose series is the same have different numbers.
func (p Pattern) Series(day Day) string {
	text := ""
	for _, f := range p.pieces {
		switch f.word {
		case "count":
			text += "#"
		case "check":
		default:
			text += f.dated(day, p.weekly())
		}
	}
	return text
}

// weekly tells that the year is the one of the week.
func (p Pattern) weekly() bool {
	return slices.ContainsFunc(p.pieces, func(f piece) bool { return f.word == "week" })
}

// Make makes the serial number of the nth unit of a day's series, from 1. It fails where the pattern makes none, and
// where it has no room for the number.
func (p Pattern) Make(day Day, n int) (string, error) {
	if !p.Makes() {
		return "", fmt.Errorf("no serial number can be made by %q; scan or type it", p.text)
	}
	text := ""
	for _, f := range p.pieces {
		switch f.word {
		case "count":
			number := fmt.Sprintf("%0*d", f.width, n)
			if n < 1 || f.width > 0 && len(number) > f.width {
				return "", fmt.Errorf("unit %d has no room in %s; give {count} more digits", n, p.text)
			}
			text += number
		case "check":
			text += f.checkOf(text)
		default:
			text += f.dated(day, p.weekly())
		}
	}
	return text, nil
}

// dated is the text of a piece that a day alone decides.
func (f piece) dated(day Day, weekly bool) string {
	year := day.Year
	if weekly {
		year = day.WeekYear
	}
	switch f.word {
	case "":
		return f.text
	case "year":
		text := fmt.Sprintf("%04d", year)
		return text[len(text)-f.width:]
	case "month":
		return fmt.Sprintf("%02d", day.Month)
	case "day":
		return fmt.Sprintf("%02d", day.Day)
	case "week":
		return fmt.Sprintf("%02d", day.Week)
	}
	return ""
}

// alphabet is what check characters are of, in the order of their values.
const alphabet = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ"

// checkOf is the check character of a text, over its letters and digits, or over its digits alone: a hybrid system of
// ISO/IEC 7064 with the modulus M = 36 or 10. From P = M, for every character of value a:
//
//	P ← (P + a) mod M, M where that is 0;  P ← 2·P mod (M + 1)
//
// and the check character c is that for which (P + c) mod M = 1.
func (f piece) checkOf(text string) string {
	m := len(alphabet)
	if f.digit {
		m = 10
	}
	p := m
	for _, r := range strings.ToUpper(text) {
		a := strings.IndexRune(alphabet[:m], r)
		if a < 0 {
			continue
		}
		if p = (p + a) % m; p == 0 {
			p = m
		}
		p = 2 * p % (m + 1)
	}
	c := (1 - p%m + m) % m
	return alphabet[c : c+1]
}
