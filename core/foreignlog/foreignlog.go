// Package foreignlog reads logs of volts and amps that other equipment wrote: text in columns, with whatever
// separator, decimal sign, units, sign of the current and time base. A [Mapping] says how; [Look] guesses one.
package foreignlog

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"usherbench/core/quantity"
)

// Column is a column of the file by its header, with the unit of its numbers. Besides the units of quantities,
// time may be "clock": hours:minutes:seconds, or a date with a time.
type Column struct{ Name, Unit string }

// Mapping says how a log is read.
type Mapping struct {
	// Time, Volts and Amps must be there; Celsius may be empty.
	Time, Volts, Amps, Celsius Column
	// DischargePositive is true where a discharge has positive amps.
	DischargePositive bool
	// Separator between columns and Decimal sign; 0: found out.
	Separator, Decimal rune
	// Skip is how many lines stand before the header.
	Skip int
}

// Log is what was read: equally long slices, SI. T begins at 0 and rises; Amps are positive into the battery.
// Celsius is nil if it was not mapped. A number that is not there is NaN.
type Log struct {
	T, Volts, Amps, Celsius []float64
	// Began is when the log began, if its times have a date.
	Began time.Time
	// Dropped counts rows that repeated the time of the row before.
	Dropped int
}

// Error is a mistake at a line of the file.
type Error struct {
	Line int
	Text string
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Text) }

// MostRows bounds a log: a month at one row a second, twice over.
const MostRows = 5_500_000

// FewestRows is how many rows a log has at least.
const FewestRows = 10

// Read reads a whole log. Mistakes are *Error with their line.
func Read(text io.Reader, m Mapping) (*Log, error) {
	r, err := newReader(text, m)
	if err != nil {
		return nil, err
	}
	log := &Log{}
	if m.Celsius.Name != "" {
		log.Celsius = []float64{}
	}
	for {
		row, err := r.csv.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, &Error{r.line + 1, err.Error()}
		}
		line, _ := r.csv.FieldPos(0)
		r.line = line + m.Skip
		if err := r.take(log, row); err != nil {
			return nil, err
		}
		if len(log.T) > MostRows {
			return nil, &Error{r.line, fmt.Sprintf("the log is longer than %d rows; cut it into parts", MostRows)}
		}
	}
	if len(log.T) < FewestRows {
		return nil, fmt.Errorf("the log has %d rows with a time; %d are needed", len(log.T), FewestRows)
	}
	log.Began = r.began
	return log, nil
}

// reader is a log under way.
type reader struct {
	csv      *csv.Reader
	mapping  Mapping
	line     int
	time     cell
	volts    cell
	amps     cell
	celsius  cell
	first    float64
	started  bool
	began    time.Time
	days     float64 // added when a clock without a date passes midnight
	lastTime float64
}

// cell is where a quantity stands and what its numbers are multiplied with.
type cell struct {
	at     int
	factor float64
	clock  bool
}

func newReader(text io.Reader, m Mapping) (*reader, error) {
	lines := newLineSkipper(text, m.Skip)
	r := &reader{mapping: m, csv: csv.NewReader(lines)}
	r.csv.LazyQuotes, r.csv.TrimLeadingSpace, r.csv.FieldsPerRecord, r.csv.ReuseRecord = true, true, -1, true
	if m.Separator != 0 {
		r.csv.Comma = m.Separator
	}
	head, err := r.csv.Read()
	if err != nil {
		return nil, &Error{m.Skip + 1, "there is no header"}
	}
	var names []string
	for _, h := range head {
		names = append(names, strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))
	}
	find := func(c Column, what string, dim quantity.Dimension, must bool) (cell, error) {
		if c.Name == "" && !must {
			return cell{at: -1}, nil
		}
		for i, n := range names {
			if n != c.Name || c.Name == "" {
				continue
			}
			if c.Unit == "clock" && what == "time" {
				return cell{i, 1, true}, nil
			}
			u, err := quantity.ParseUnit(c.Unit)
			if err != nil || u.Dim != dim {
				return cell{}, fmt.Errorf("the unit of %s, %q, is no unit of %s", what, c.Unit, dim)
			}
			return cell{i, u.Factor, false}, nil
		}
		return cell{}, &Error{m.Skip + 1, fmt.Sprintf("no column is called %q, which should be the %s; there are %s", c.Name,
			what, strings.Join(names, ", "))}
	}
	var errs [4]error
	r.time, errs[0] = find(m.Time, "time", quantity.Time, true)
	r.volts, errs[1] = find(m.Volts, "volts", quantity.Voltage, true)
	r.amps, errs[2] = find(m.Amps, "amps", quantity.Current, true)
	r.celsius, errs[3] = find(m.Celsius, "temperature", quantity.Temperature, false)
	return r, errors.Join(errs[:]...)
}

// newLineSkipper drops the lines before the header.
func newLineSkipper(text io.Reader, skip int) io.Reader {
	if skip <= 0 {
		return text
	}
	one := make([]byte, 1)
	for skip > 0 {
		if _, err := text.Read(one); err != nil {
			break
		}
		if one[0] == '\n' {
			skip--
		}
	}
	return text
}

func (r *reader) take(log *Log, row []string) error {
	t, err := r.seconds(row)
	if err != nil {
		return err
	}
	if math.IsNaN(t) {
		return nil // a line without a time, such as a summary at the end
	}
	if n := len(log.T); n > 0 && t <= log.T[n-1] {
		if t == log.T[n-1] {
			log.Dropped++
			return nil
		}
		return &Error{r.line, fmt.Sprintf("the time goes back, from %g s to %g s", log.T[n-1], t)}
	}
	volts, err := r.number(row, r.volts, "volts")
	if err != nil {
		return err
	}
	amps, err := r.number(row, r.amps, "amps")
	if err != nil {
		return err
	}
	if r.mapping.DischargePositive {
		amps = -amps
	}
	log.T, log.Volts, log.Amps = append(log.T, t), append(log.Volts, volts), append(log.Amps, amps)
	if r.celsius.at >= 0 {
		celsius, err := r.number(row, r.celsius, "temperature")
		if err != nil {
			return err
		}
		log.Celsius = append(log.Celsius, celsius)
	}
	return nil
}

// number reads a cell; an empty one, or one that says that nothing was read, is NaN.
func (r *reader) number(row []string, c cell, what string) (float64, error) {
	if c.at >= len(row) {
		return math.NaN(), nil
	}
	text := strings.TrimSpace(row[c.at])
	switch strings.ToLower(text) {
	case "", "-", "nan", "n/a", "null", "ol":
		return math.NaN(), nil
	}
	if r.mapping.Decimal == ',' {
		text = strings.ReplaceAll(text, ",", ".")
	}
	x, err := strconv.ParseFloat(strings.ReplaceAll(text, "−", "-"), 64)
	if err != nil || math.IsInf(x, 0) {
		return 0, &Error{r.line, fmt.Sprintf("%q is not a number of %s", text, what)}
	}
	return x * c.factor, nil
}

// The forms of a date with a time.
var dateForms = []string{time.RFC3339Nano, "2006-01-02 15:04:05.999999999", "2006-01-02T15:04:05.999999999",
	"2006/01/02 15:04:05.999999999", "02.01.2006 15:04:05.999999999"}

// seconds is the time of a row since the first; NaN if it has none.
func (r *reader) seconds(row []string) (float64, error) {
	var t float64
	if !r.time.clock {
		var err error
		if t, err = r.number(row, r.time, "time"); err != nil || math.IsNaN(t) {
			return t, err
		}
	} else {
		if r.time.at >= len(row) || strings.TrimSpace(row[r.time.at]) == "" {
			return math.NaN(), nil
		}
		var err error
		if t, err = r.clock(strings.TrimSpace(row[r.time.at])); err != nil {
			return 0, err
		}
	}
	if !r.started {
		r.first, r.started = t, true
	}
	return math.Round((t-r.first)*1e6) / 1e6, nil
}

// clock reads hours:minutes:seconds, or a date with a time.
func (r *reader) clock(text string) (float64, error) {
	for _, form := range dateForms {
		if at, err := time.Parse(form, text); err == nil {
			if !r.started {
				r.began = at
			}
			return at.Sub(r.began).Seconds(), nil
		}
	}
	parts := strings.Split(text, ":")
	if len(parts) < 2 || len(parts) > 3 {
		return 0, &Error{r.line, fmt.Sprintf("%q is not a time; it should be like 12:34:56 or 2026-03-31 12:34:56", text)}
	}
	var t float64
	for _, p := range parts {
		x, err := strconv.ParseFloat(strings.ReplaceAll(p, ",", "."), 64)
		if err != nil || x < 0 {
			return 0, &Error{r.line, fmt.Sprintf("%q is not a time; it should be like 12:34:56", text)}
		}
		t = t*60 + x
	}
	if len(parts) == 2 {
		t *= 60 // hours and minutes
	}
	if r.started && t+r.days < r.lastTime-43200 { // past midnight
		r.days += 86400
	}
	r.lastTime = t + r.days
	return r.lastTime, nil
}
