package foreignlog

import (
	"encoding/csv"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"usherbench/core/quantity"
)

// First is a first look at a file: its header, some rows, and a guess how to read it.
type First struct {
	Headers []string
	Rows    [][]string
	Mapping Mapping
	units   []string // of a row of their own
}

// Names are the names of columns by a header: of several that are called alike the later ones have a number.
func Names(header []string) []string {
	names, seen := make([]string, len(header)), map[string]int{}
	for i, h := range header {
		name := strings.TrimSpace(strings.TrimPrefix(h, "\ufeff"))
		if seen[name]++; seen[name] > 1 && name != "" {
			name = fmt.Sprintf("%s (%d)", name, seen[name])
		}
		names[i] = name
	}
	return names
}

// areUnits tells whether every cell is a unit or empty, and two at least are units.
func areUnits(row []string) bool {
	n := 0
	for _, cell := range row {
		if cell == "" || cell == "-" {
			continue
		}
		if _, err := quantity.ParseUnit(strings.Trim(cell, "[]()")); err != nil && !timeWords.MatchString(cell) {
			return false
		}
		n++
	}
	return n >= 2
}

// areNames tells whether a row names the columns of the row below it.
func areNames(row []string, columns int) bool {
	words := 0
	for _, cell := range row {
		if cell != "" {
			words++
		}
	}
	return words >= 2 && len(row) == columns
}

// Look guesses how a log is to be read from its beginning. above is how many lines stand before the header; 0: it is
// looked for.
func Look(text string, above int) (First, error) {
	text = strings.TrimPrefix(text, "\ufeff")
	lines := strings.SplitN(text, "\n", 200)
	separator := separatorOf(lines, 3)
	skip := above
	switch {
	case above == 0:
		if skip = headerAt(lines, separator, 3); skip < 0 { // of a capture there may be time and volts only
			separator = separatorOf(lines, 2)
			skip = headerAt(lines, separator, 2)
		}
	case above >= len(lines)-1:
		return First{}, fmt.Errorf("%d lines are to stand before the header, but the file has %d", above, len(lines))
	case areUnits(fields(lines[above+1], separator)):
		skip = above + 1
	}
	if skip < 0 {
		return First{},
			errors.New("no line looks like a header above rows of numbers; give the log a header, or say how many lines " +
				"stand before it")
	}
	f := First{Mapping: Mapping{Separator: separator, Skip: skip}}
	if head := fields(lines[skip], separator); skip > 0 && areUnits(head) &&
		areNames(fields(lines[skip-1], separator), len(head)) {
		f.units = fields(lines[skip], separator)
		f.Mapping.Skip, f.Mapping.UnitRow = skip-1, true
	}
	f.Headers = Names(fields(lines[f.Mapping.Skip], separator))
	for _, line := range lines[skip+1:] {
		if row := fields(line, separator); len(row) == len(f.Headers) && len(f.Rows) < 20 {
			f.Rows = append(f.Rows, row)
		}
	}
	f.Mapping.Decimal = decimalOf(f.Rows, separator)
	f.guess()
	return f, nil
}

func fields(line string, separator rune) []string {
	r := csv.NewReader(strings.NewReader(strings.TrimRight(line, "\r\n")))
	r.Comma, r.LazyQuotes, r.TrimLeadingSpace = separator, true, true
	row, err := r.Read()
	if err != nil {
		return nil
	}
	for i := range row {
		row[i] = strings.TrimSpace(row[i])
	}
	return row
}

// separatorOf is the separator that cuts most lines into the same number of columns, so many at least.
func separatorOf(lines []string, columns int) rune {
	best, most := ',', 0
	for _, s := range []rune{';', '\t', ',', '|'} {
		count := map[int]int{}
		for _, line := range lines {
			if n := strings.Count(line, string(s)); n >= columns-1 {
				count[n]++
			}
		}
		for _, lines := range count {
			if lines > most {
				best, most = s, lines
			}
		}
	}
	return best
}

// headerAt is the first line that has so many names at least and a line with a number of the same length after
// it; −1: none.
func headerAt(lines []string, separator rune, columns int) int {
	at := func(i int) []string {
		if i >= len(lines) {
			return nil
		}
		return fields(lines[i], separator)
	}
	for i := range lines {
		head, next := at(i), at(i+1)
		if len(head) < columns || len(head)-numbersIn(head)-count(head, "") < columns || len(head) != len(next) {
			continue
		}
		if n := numbersIn(next); n >= 2 || n == 1 && numbersIn(at(i+2)) >= 2 { // the first readings may be none
			return i
		}
	}
	return -1
}

// numbersIn counts the numbers of a row, with either decimal sign.
func numbersIn(row []string) (n int) {
	for _, cell := range row {
		for _, decimal := range []rune{'.', ','} {
			if _, err := strconv.ParseFloat(plain(cell, decimal), 64); err == nil {
				n++
				break
			}
		}
	}
	return n
}

func count(row []string, text string) (n int) {
	for _, cell := range row {
		if cell == text {
			n++
		}
	}
	return n
}

var (
	commaNumber = regexp.MustCompile(`^[+-]?\d[\d \x{a0}\x{202f}'’]*,\d+$`)
	// Numbers that have both signs tell which is the decimal one.
	pointLast, commaLast = regexp.MustCompile(`\d,\d{3}\.\d`), regexp.MustCompile(`\d\.\d{3},\d`)
)

func decimalOf(rows [][]string, separator rune) rune {
	if separator == ',' {
		return '.'
	}
	for _, row := range rows {
		for _, cell := range row {
			switch {
			case pointLast.MatchString(cell):
				return '.'
			case commaLast.MatchString(cell):
				return ','
			}
		}
	}
	for _, row := range rows {
		for _, cell := range row {
			if commaNumber.MatchString(cell) {
				return ','
			}
		}
	}
	return '.'
}

// What headers are called, without their units.
var (
	timeWords    = regexp.MustCompile(`(?i)\b(time|elapsed|clock|date|zeit|uhrzeit|timestamp|t)\b`)
	voltWords    = regexp.MustCompile(`(?i)\b(volts?|voltage|spannung|u|v)\b`)
	ampWords     = regexp.MustCompile(`(?i)\b(amps?|current|strom|i|a)\b`)
	celsiusWords = regexp.MustCompile(`(?i)(temp|celsius|°c)`)
	unitPattern  = regexp.MustCompile(`[\[(/]\s*([^\])/]+?)\s*[\])]?$`)
)

func (f *First) guess() {
	m := &f.Mapping
	for k, h := range f.Headers {
		unit := unitOf(h)
		if k < len(f.units) {
			unit = strings.Trim(f.units[k], "[]()")
		}
		name := strings.ReplaceAll(h, "_", " ")
		take := func(to *Column, fallback string, dim quantity.Dimension) {
			if to.Name != "" {
				return
			}
			if u, err := quantity.ParseUnit(unit); err != nil || u.Dim != dim {
				unit = fallback
			}
			*to = Column{h, unit}
		}
		switch {
		case celsiusWords.MatchString(name):
			take(&m.Celsius, "°C", quantity.Temperature)
		case f.isDate(k):
			m.Date = h
		case timeWords.MatchString(name):
			fallback := "s"
			if len(f.Rows) > 0 && k < len(f.Rows[0]) && strings.Contains(f.Rows[0][k], ":") {
				fallback = "clock"
				unit = ""
			} else if f.daysAt(k) {
				fallback = "d"
			}
			take(&m.Time, fallback, quantity.Time)
		case voltWords.MatchString(name):
			take(&m.Volts, "V", quantity.Voltage)
		case ampWords.MatchString(name):
			take(&m.Amps, "A", quantity.Current)
		default: // its unit tells
			if len(f.units) == 0 {
				unit = h
			}
			switch u, _ := quantity.ParseUnit(unit); u.Dim {
			case quantity.Time:
				take(&m.Time, "s", quantity.Time)
			case quantity.Voltage:
				take(&m.Volts, "V", quantity.Voltage)
			case quantity.Current:
				take(&m.Amps, "A", quantity.Current)
			}
		}
	}
}

// A workbook writes an instant as days since the beginning of 1900; those of 1954 to 2119 lie between these.
const fewestDays, mostDays = 20_000, 80_000

// daysAt tells whether a column has instants as a workbook writes them.
func (f *First) daysAt(k int) bool {
	if len(f.Rows) < 2 || k >= len(f.Rows[0]) {
		return false
	}
	a, errA := strconv.ParseFloat(f.Rows[0][k], 64)
	b, errB := strconv.ParseFloat(f.Rows[1][k], 64)
	return errA == nil && errB == nil && a > fewestDays && b < mostDays && b-a < 1
}

var dateOnly = regexp.MustCompile(`^\d{1,4}[./-]([A-Za-z]{3}|\d{1,2})[./-]\d{2,4}$`)

// isDate tells whether a column has dates alone, beside one of times.
func (f *First) isDate(k int) bool {
	if len(f.Rows) == 0 || k >= len(f.Rows[0]) || !dateOnly.MatchString(f.Rows[0][k]) {
		return false
	}
	for i, cell := range f.Rows[0] {
		if i != k && strings.Contains(cell, ":") {
			return true
		}
	}
	return false
}

// unitOf is the unit in a header: in brackets or behind a stroke, or its last word, as in current_mA; empty if
// there is none.
func unitOf(header string) string {
	if found := unitPattern.FindStringSubmatch(header); found != nil {
		return found[1]
	}
	words := strings.FieldsFunc(header, func(r rune) bool { return r == '_' || r == ' ' })
	if len(words) == 0 {
		return ""
	}
	last := words[len(words)-1]
	if _, err := quantity.ParseUnit(last); err != nil {
		return ""
	}
	return last
}
