package foreignlog

import (
	"encoding/csv"
	"errors"
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
}

// Look guesses how a log is to be read from its beginning.
func Look(text string) (First, error) {
	text = strings.TrimPrefix(text, "\ufeff")
	lines := strings.SplitN(text, "\n", 200)
	separator := separatorOf(lines)
	skip := headerAt(lines, separator)
	if skip < 0 {
		return First{},
			errors.New("no line looks like a header above rows of numbers; give the log a header, or say how many lines " +
				"stand before it")
	}
	f := First{Headers: fields(lines[skip], separator), Mapping: Mapping{Separator: separator, Skip: skip}}
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

// separatorOf is the separator that cuts most lines into the same number of columns, three at least.
func separatorOf(lines []string) rune {
	best, most := ',', 0
	for _, s := range []rune{';', '\t', ',', '|'} {
		count := map[int]int{}
		for _, line := range lines {
			if n := strings.Count(line, string(s)); n >= 2 {
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

// headerAt is the first line that has three names at least and a line with a number of the same length after
// it; −1: none.
func headerAt(lines []string, separator rune) int {
	for i := 0; i+1 < len(lines); i++ {
		head, next := fields(lines[i], separator), fields(lines[i+1], separator)
		if len(head) < 3 || len(head) != len(next) {
			continue
		}
		words, numbers := 0, 0
		for k := range head {
			if _, err := strconv.ParseFloat(strings.ReplaceAll(head[k], ",", "."), 64); err != nil && head[k] != "" {
				words++
			}
			if _, err := strconv.ParseFloat(strings.ReplaceAll(next[k], ",", "."), 64); err == nil {
				numbers++
			}
		}
		if words >= 3 && numbers >= 2 {
			return i
		}
	}
	return -1
}

var commaNumber = regexp.MustCompile(`^[+-]?\d+,\d+$`)

func decimalOf(rows [][]string, separator rune) rune {
	if separator == ',' {
		return '.'
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
		case timeWords.MatchString(name):
			fallback := "s"
			if len(f.Rows) > 0 && k < len(f.Rows[0]) && strings.Contains(f.Rows[0][k], ":") {
				fallback = "clock"
				unit = ""
			}
			take(&m.Time, fallback, quantity.Time)
		case voltWords.MatchString(name):
			take(&m.Volts, "V", quantity.Voltage)
		case ampWords.MatchString(name):
			take(&m.Amps, "A", quantity.Current)
		default: // a line of units below one of names
			switch u, _ := quantity.ParseUnit(h); u.Dim {
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
