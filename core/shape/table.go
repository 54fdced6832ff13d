package shape

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"

	"usherbench/core/quantity"
)

// Table is setpoints in rows: a time, and one level for each quantity.
type Table struct {
	// Listed is true when rows have no time: they are setpoints that are visited one after the other.
	Listed bool
	// Durations is true when each row says how long its levels last; else each row says when its levels hold.
	Durations bool
	Time      []float64 // s: absolute, or of each row
	Names     []string  // of the quantities: "volts" or "source.volts"
	Dims      []quantity.Dimension
	Levels    [][]float64 // by quantity, SI
}

// CellError is a mistake in a cell of a table. Rows and columns count from 1; the header is row 1.
type CellError struct {
	Row, Column int
	Reason      string
}

// Cell is the cell's name as spreadsheets have it: "B7".
func (e *CellError) Cell() string {
	name, c := "", e.Column
	for ; c > 0; c = (c - 1) / 26 {
		name = string(rune('A'+(c-1)%26)) + name
	}
	return name + strconv.Itoa(e.Row)
}

func (e *CellError) Error() string { return fmt.Sprintf("cell %s: %s", e.Cell(), e.Reason) }

// MostRows bounds a table.
const MostRows = 100_000

var headerForm = regexp.MustCompile(`^\s*([A-Za-z][A-Za-z0-9_.]*)\s*[\[(]\s*([^\])]+?)\s*[\])]\s*$`)

// ReadCSV reads a table of comma- or semicolon-separated values. The first row is the header: "time [s]" for
// absolute times or "duration [ms]" for the time of each row, then quantities with their units, "volts [V]" or
// "source.volts [V]". Where the first is a quantity too, the rows are a list. Errors in cells are *CellError.
func ReadCSV(r io.Reader) (*Table, error) {
	data, err := io.ReadAll(io.LimitReader(r, 32<<20))
	if err != nil {
		return nil, err
	}
	text := strings.TrimPrefix(string(data), "\ufeff")
	reader := csv.NewReader(strings.NewReader(text))
	header, _, _ := strings.Cut(text, "\n")
	if strings.Count(header, ";") > strings.Count(header, ",") {
		reader.Comma = ';'
	}
	reader.FieldsPerRecord = -1
	reader.TrimLeadingSpace = true
	var rows [][]string
	for {
		row, err := reader.Read()
		if errors.Is(err, io.EOF) {
			return ReadRows(rows)
		}
		var perr *csv.ParseError
		if errors.As(err, &perr) {
			return nil, &CellError{perr.Line, 1, perr.Err.Error()}
		}
		if err != nil {
			return nil, err
		}
		rows = append(rows, row)
		if len(rows) > MostRows+1 {
			return nil, &CellError{len(rows), 1, fmt.Sprintf("the table has more than %d rows", MostRows)}
		}
	}
}

// ReadRows reads a table from cells, the header first. Empty rows at the end are left out.
func ReadRows(rows [][]string) (*Table, error) {
	for len(rows) > 0 && strings.TrimSpace(strings.Join(rows[len(rows)-1], "")) == "" {
		rows = rows[:len(rows)-1]
	}
	if len(rows) == 0 {
		return nil, &CellError{1, 1, "the table is empty"}
	}
	t := &Table{}
	units, err := t.readHeader(rows[0])
	if err != nil {
		return nil, err
	}
	if len(rows) < 2 {
		return nil, &CellError{2, 1, "the table has a header, but no rows"}
	}
	for i, row := range rows[1:] {
		if err := t.readRow(i+2, row, units); err != nil {
			return nil, err
		}
	}
	if !t.Durations && !t.Listed && len(t.Time) < 2 {
		return nil, &CellError{2, 1, "a table with absolute times needs two rows at least"}
	}
	return t, nil
}

func (t *Table) readHeader(cells []string) ([]quantity.Unit, error) {
	var units []quantity.Unit
	for c, cell := range cells {
		m := headerForm.FindStringSubmatch(cell)
		if m == nil {
			return nil,
				&CellError{1, c + 1,
					fmt.Sprintf("%q is no header; it reads like: time [s], duration [ms], volts [V], source.volts [mV]",
						strings.TrimSpace(cell))}
		}
		unit, err := quantity.ParseUnit(m[2])
		if err != nil {
			return nil, &CellError{1, c + 1, err.Error()}
		}
		units = append(units, unit)
		if c == 0 && !isQuantity(m[1]) {
			t.Durations = m[1] == "duration"
			if m[1] != "time" && m[1] != "duration" {
				return nil, &CellError{1, 1, fmt.Sprintf("the first column is time, duration or a quantity, not %s", m[1])}
			}
			if unit.Dim != quantity.Time {
				return nil, &CellError{1, 1, fmt.Sprintf("%s is %s, not a time", m[2], unit.Dim)}
			}
			continue
		}
		t.Listed = t.Listed || c == 0
		name := m[1][strings.LastIndexByte(m[1], '.')+1:]
		kind, ok := quantity.KindOf(name)
		if !ok {
			return nil,
				&CellError{1, c + 1,
					fmt.Sprintf("%q is no quantity; it is one of volts, amps, watts, ohms, perhaps with its seat before it", m[1])}
		}
		if unit.Dim != kind.Unit.Dim {
			return nil, &CellError{1, c + 1, fmt.Sprintf("%s is %s, but %s are %s", m[2], unit.Dim, m[1], kind.Unit.Dim)}
		}
		t.Names, t.Dims = append(t.Names, m[1]), append(t.Dims, unit.Dim)
	}
	if len(t.Names) == 0 {
		return nil, &CellError{1, 2, "the table has no quantity; add a column such as volts [V]"}
	}
	t.Levels = make([][]float64, len(t.Names))
	return units, nil
}

func (t *Table) readRow(number int, cells []string, units []quantity.Unit) error {
	if len(cells) != len(units) {
		return &CellError{number, min(len(cells), len(units)) + 1, fmt.Sprintf("the row has %d cells, the header %d",
			len(cells), len(units))}
	}
	for c, cell := range cells {
		text := strings.ReplaceAll(strings.TrimSpace(cell), "−", "-")
		if strings.Count(text, ",") == 1 && !strings.Contains(text, ".") {
			text = strings.Replace(text, ",", ".", 1)
		}
		x, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsNaN(x) || math.IsInf(x, 0) {
			return &CellError{number, c + 1, fmt.Sprintf("%q is not a number", strings.TrimSpace(cell))}
		}
		x *= units[c].Factor
		if first := len(units) - len(t.Names); c >= first {
			t.Levels[c-first] = append(t.Levels[c-first], x)
			continue
		}
		switch {
		case t.Durations && x <= 0:
			return &CellError{number, 1, "a row lasts for more than no time"}
		case !t.Durations && len(t.Time) == 0 && x < 0:
			return &CellError{number, 1, "times begin at 0 or later"}
		case !t.Durations && len(t.Time) > 0 && x < t.Time[len(t.Time)-1]:
			return &CellError{number, 1, fmt.Sprintf("the time goes back: %g s after %g s", x, t.Time[len(t.Time)-1])}
		}
		t.Time = append(t.Time, x)
	}
	return nil
}

// isQuantity tells whether a header names a quantity, perhaps of a seat.
func isQuantity(name string) bool {
	_, is := quantity.KindOf(name[strings.LastIndexByte(name, '.')+1:])
	return is
}

// Len is the number of rows.
func (t *Table) Len() int {
	if len(t.Levels) == 0 {
		return 0
	}
	return len(t.Levels[0])
}

// Length is how long the table lasts, s; a list lasts no time of its own.
func (t *Table) Length() (length float64) {
	switch {
	case t.Listed || len(t.Time) == 0:
		return 0
	case !t.Durations:
		return t.Time[len(t.Time)-1]
	}
	for _, d := range t.Time {
		length += d
	}
	return length
}

// Pick finds the levels for a quantity of a seat: a column with the full name, with the quantity's name, or the
// only one.
func (t *Table) Pick(seat, q string) (int, error) {
	for _, want := range []string{seat + "." + q, q} {
		for i, name := range t.Names {
			if name == want {
				return i, nil
			}
		}
	}
	return 0, fmt.Errorf("the table has no column for %s.%s; it has %s", seat, q, strings.Join(t.Names, ", "))
}

// Segments are the rows of one quantity. Durations are levels that jump; absolute times are joined by straight
// lines, and two rows at one time are a jump. With steps, absolute times are levels that stay until the next
// row; then the last row only says when it ends.
func (t *Table) Segments(column int, steps bool) []Segment {
	var segments []Segment
	levels := t.Levels[column]
	if t.Durations {
		for i, x := range levels {
			segments = append(segments, Segment{Kind: Hold, For: t.Time[i], From: x, To: x})
		}
		return segments
	}
	if t.Time[0] > 0 {
		segments = append(segments, Segment{Kind: Hold, For: t.Time[0], From: levels[0], To: levels[0]})
	}
	for i := 1; i < len(levels); i++ {
		dt := t.Time[i] - t.Time[i-1]
		switch {
		case dt <= 0:
		case steps || levels[i] == levels[i-1]:
			segments = append(segments, Segment{Kind: Hold, For: dt, From: levels[i-1], To: levels[i-1]})
		default:
			segments = append(segments, Segment{Kind: Ramp, For: dt, From: levels[i-1], To: levels[i]})
		}
	}
	return segments
}

// Rows are the table as cells with a header, in SI units; [ReadRows] reads them back.
func (t *Table) Rows() [][]string {
	first := "time [s]"
	if t.Durations {
		first = "duration [s]"
	}
	header := []string{first}
	if t.Listed {
		header = nil
	}
	for i, name := range t.Names {
		header = append(header, fmt.Sprintf("%s [%s]", name, quantity.Symbol(t.Dims[i])))
	}
	rows := [][]string{header}
	for k := range t.Len() {
		var row []string
		if !t.Listed {
			row = append(row, number(t.Time[k]))
		}
		for _, levels := range t.Levels {
			row = append(row, number(levels[k]))
		}
		rows = append(rows, row)
	}
	return rows
}

func number(x float64) string { return strconv.FormatFloat(x, 'f', -1, 64) }

// TableOf draws shapes that are played together as a table with absolute times: the corners of all, and within
// what moves and is not straight a row every pace seconds.
func TableOf(names []string, shapes []*Shape, pace float64) *Table {
	t := &Table{Names: names, Levels: make([][]float64, len(shapes))}
	for _, name := range names {
		kind, _ := quantity.KindOf(name[strings.LastIndexByte(name, '.')+1:])
		t.Dims = append(t.Dims, kind.Unit.Dim)
	}
	const hair = 1e-9
	row := func(at float64, level func(*Shape, float64) float64) {
		t.Time = append(t.Time, at)
		for i, s := range shapes {
			t.Levels[i] = append(t.Levels[i], math.Round(level(s, at)*1e9)/1e9)
		}
	}
	var end float64
	for _, s := range shapes {
		end = math.Max(end, s.Duration())
	}
	row(0, (*Shape).At)
	for at := 0.0; at < end-hair && len(t.Time) < MostRows; {
		next := end
		for _, s := range shapes {
			next = math.Min(next, s.corner(at, pace))
		}
		row(next, (*Shape).before)
		for i, s := range shapes {
			if n := len(t.Time) - 1; next < end-hair && math.Abs(s.At(next)-t.Levels[i][n]) > 1e-7*math.Max(1,
				math.Abs(t.Levels[i][n])) {
				row(next, (*Shape).At)
				break
			}
		}
		at = next
	}
	return t
}

// before is the level up to time t: at a jump the one before it.
func (s *Shape) before(t float64) float64 {
	i := s.segmentAt(t - 1e-9)
	g := s.Segments[i]
	return g.at(min(max(t-(s.ends[i]-g.For), 0), g.For))
}

// corner is Next without the steps within straight lines.
func (s *Shape) corner(t, pace float64) float64 {
	if t >= s.Duration() {
		return math.Inf(1)
	}
	i := s.segmentAt(t + 1e-9)
	if s.Segments[i].Kind == Ramp {
		return s.ends[i]
	}
	return s.Next(t, pace)
}
