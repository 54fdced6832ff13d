// Package foreignlog reads logs of volts and amps that other equipment wrote: text in columns, with whatever
// separator, decimal sign, units, sign of the current and time base. A [Mapping] says how; [Look] guesses one.
package foreignlog

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"slices"
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
	// Date is a column of dates beside that of the times; empty: they have theirs.
	Date string
	// DischargePositive is true where a discharge has positive amps.
	DischargePositive bool
	// Separator between columns and Decimal sign; 0: found out.
	Separator, Decimal rune
	// Skip is how many lines stand before the header.
	Skip int
	// UnitRow says that a row of units stands below the header.
	UnitRow bool
	// Capture says that it is a fast capture: it may have no amps, and times below zero.
	Capture bool
	// Join goes on where the time goes back: the clock was set. Otherwise that is a mistake.
	Join bool
}

// Log is what was read: equally long slices, SI. T begins at 0 and rises; Amps are positive into the battery.
// Celsius is nil if it was not mapped. A number that is not there is NaN.
type Log struct {
	T, Volts, Amps, Celsius []float64
	// First is the time of the first row in the file, s; 0 of a clock.
	First float64
	// Began is when the log began, if its times have a date.
	Began time.Time
	// Dropped counts rows that repeated the time of the row before, Heads those that repeated the header, Overloads the
	// readings beyond what the instrument could measure, which are missing.
	Dropped, Heads, Overloads int
	// CutOff says that the last line was not whole, and was left out.
	CutOff bool
	// Joined are the times at which the time of the file went back, and the log goes on all the same.
	Joined []float64
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
	var broken error // of the row before; one after which nothing comes was cut off
	short := false
	for {
		row, err := r.csv.Read()
		if err == io.EOF {
			if log.CutOff = broken != nil || short; short {
				log.dropLast()
			}
			break
		}
		if broken != nil {
			return nil, broken
		}
		if err != nil {
			broken = &Error{r.line + 1, err.Error()}
			continue
		}
		line, _ := r.csv.FieldPos(0)
		r.line = line + m.Skip
		if slices.Equal(row, r.head) {
			log.Heads++
			continue
		}
		before := len(log.T)
		broken = r.take(log, row)
		short = len(row) < len(r.head) && len(log.T) > before
		if len(log.T) > MostRows {
			return nil, &Error{r.line, fmt.Sprintf("the log is longer than %d rows; cut it into parts", MostRows)}
		}
	}
	if len(log.T) < FewestRows {
		return nil, fmt.Errorf("the log has %d rows with a time; %d are needed", len(log.T), FewestRows)
	}
	log.Began = r.began
	if !r.time.clock {
		log.First = r.first
	}
	return log, nil
}

// dropLast takes the last row away.
func (l *Log) dropLast() {
	n := len(l.T) - 1
	l.T, l.Volts = l.T[:n], l.Volts[:n]
	if l.Amps != nil {
		l.Amps = l.Amps[:n]
	}
	if l.Celsius != nil {
		l.Celsius = l.Celsius[:n]
	}
}

// reader is a log under way.
type reader struct {
	csv      *csv.Reader
	head     []string // as it stands in the file
	names    []string
	date     int    // column of the date; −1: none
	form     string // of dates, as the last row had it
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
	r.head, r.names = slices.Clone(head), Names(head)
	names := r.names
	if m.UnitRow {
		if _, err := r.csv.Read(); err != nil {
			return nil, &Error{m.Skip + 2, "there is no row of units"}
		}
	}
	r.date = slices.Index(names, m.Date)
	if m.Date == "" {
		r.date = -1
	} else if r.date < 0 {
		return nil, &Error{m.Skip + 1, fmt.Sprintf("no column is called %q, which should be the date; there are %s", m.Date,
			strings.Join(names, ", "))}
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
	r.amps, errs[2] = find(m.Amps, "amps", quantity.Current, !m.Capture)
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
		if !r.mapping.Join {
			return &Error{r.line, fmt.Sprintf("the time goes back, from %g s to %g s; if the clock was set there, join the "+
				"parts", log.T[n-1], t)}
		}
		t = r.join(log, t)
	}
	volts, err := r.reading(log, row, r.volts, "volts")
	if err != nil {
		return err
	}
	if r.amps.at >= 0 {
		amps, err := r.reading(log, row, r.amps, "amps")
		if err != nil {
			return err
		}
		if r.mapping.DischargePositive {
			amps = -amps
		}
		log.Amps = append(log.Amps, amps)
	}
	log.T, log.Volts = append(log.T, t), append(log.Volts, volts)
	if r.celsius.at >= 0 {
		celsius, err := r.reading(log, row, r.celsius, "temperature")
		if err != nil {
			return err
		}
		log.Celsius = append(log.Celsius, celsius)
	}
	return nil
}

// join goes on where the time went back, a usual interval later.
func (r *reader) join(log *Log, t float64) float64 {
	last := log.T[len(log.T)-1]
	step := 1.0
	if n := len(log.T); n > 1 {
		step = last - log.T[n-2]
	}
	r.first -= last + step - t
	log.Joined = append(log.Joined, last+step)
	return last + step
}

// What a cell says that has no number: that there is none, or that it is beyond what the instrument can measure.
var (
	noNumber = []string{"", "-", "--", "---", "----", "nan", "n/a", "#n/a", "na", "null", "none", "error", "fault", "open"}
	overload = []string{"ol", "o.l", "o.l.", "0l", "ovl", "ovld", "over", "overload", "overflow", "overrange", "inf",
		"+inf", "-inf", "+ol", "-ol"}
)

// reading reads a cell; one without a reading is NaN, and one beyond what could be measured is counted too.
func (r *reader) reading(log *Log, row []string, c cell, what string) (float64, error) {
	if c.at < len(row) && slices.Contains(overload, strings.ToLower(strings.TrimSpace(row[c.at]))) {
		log.Overloads++
		return math.NaN(), nil
	}
	return r.number(row, c, what)
}

// number reads a cell; an empty one, or one that says that nothing was read, is NaN.
func (r *reader) number(row []string, c cell, what string) (float64, error) {
	if c.at >= len(row) {
		return math.NaN(), nil
	}
	text := strings.TrimSpace(row[c.at])
	x, err := strconv.ParseFloat(text, 64)
	if r.mapping.Decimal == ',' || err != nil {
		if slices.Contains(noNumber, strings.ToLower(text)) {
			return math.NaN(), nil
		}
		x, err = strconv.ParseFloat(plain(text, r.mapping.Decimal), 64)
	}
	switch {
	case err == nil && math.IsNaN(x):
		return x, nil
	case err != nil || math.IsInf(x, 0):
		return 0, &Error{r.line, fmt.Sprintf("%q is not a number of %s", text, what)}
	}
	return x * c.factor, nil
}

// grouped finds a number whose thousands are set apart, by what is not its decimal sign.
var grouped = map[rune]*regexp.Regexp{'.': regexp.MustCompile(`^[+-]?\d{1,3}(,\d{3})+(\.\d+)?$`),
	',': regexp.MustCompile(`^[+-]?\d{1,3}(\.\d{3})+(,\d+)?$`)}

// plain writes a number as a program reads it: without what sets thousands apart, with a point and a plain minus.
func plain(text string, decimal rune) string {
	text = strings.NewReplacer("−", "-", " ", "", "\u00a0", "", "\u202f", "", "'", "", "’", "").Replace(text)
	if decimal != ',' {
		decimal = '.'
	}
	if grouped[decimal].MatchString(text) {
		text = strings.ReplaceAll(text, map[rune]string{'.': ",", ',': "."}[decimal], "")
	}
	if decimal == ',' {
		text = strings.ReplaceAll(text, ",", ".")
	}
	return text
}

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
		text := strings.TrimSpace(row[r.time.at])
		if r.date >= 0 && r.date < len(row) {
			text = strings.TrimSpace(row[r.date]) + " " + text
		}
		var err error
		if t, err = r.clock(text); err != nil {
			return 0, err
		}
	}
	if !r.started {
		r.first, r.started = t, true
	}
	if r.mapping.Capture { // whose steps may be as short as they like
		return t - r.first, nil
	}
	return math.Round((t-r.first)*1e6) / 1e6, nil
}
