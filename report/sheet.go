package report

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sort"
	"time"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/store"
)

// Layout says which rows and columns a file of a run has.
type Layout string

// The layouts.
const (
	// AsRecorded has a row for each frame and a column for each quantity of each seat.
	AsRecorded Layout = "recorded"
	// OfBattery has time, volts, amps, charge and energy of the battery, its temperature if there is one, and
	// cycle and stage.
	OfBattery Layout = "battery"
	// OfPoints has a row for each point of a grid and each row of an acquire or seek: where it is, and what was read.
	OfPoints Layout = "points"
)

// Layouts lists them.
func Layouts() []Layout { return []Layout{AsRecorded, OfBattery, OfPoints} }

// Extra is a column, or several, that a file of frames has where it is asked for.
type Extra string

// The extras.
const (
	WithClock     Extra = "clock"     // the time of day, UTC
	WithStage     Extra = "stage"     // the stage in which the frame lies
	WithSetpoints Extra = "setpoints" // what was set last, by column
	WithRun       Extra = "run"       // run, serial number and procedure, so that files of several runs can be joined
)

// Extras lists them.
func Extras() []Extra { return []Extra{WithClock, WithStage, WithSetpoints, WithRun} }

// Excerpt is what goes into a file: frames from ≤ t ≤ to in a layout, with some extras.
type Excerpt struct {
	Layout   Layout
	With     []Extra
	From, To float64
}

// ErrTooLong says that a run does not go into a file of the asked format.
var ErrTooLong = errors.New("the run is too long for this format")

// sheet is what goes into a file, a row after the other: numbers, then words.
type sheet struct {
	columns []sheetColumn
	words   []string
	// each gives the rows; numbers in the columns' units, NaN is missing.
	each func(take func(numbers []float64, words []string) error) error
}

type sheetColumn struct{ name, unit string }

// sheetOf lays out the excerpt of a run.
func sheetOf(ctx context.Context, s *store.Store, run store.Run, e Excerpt) (sheet, error) {
	switch e.Layout {
	case OfBattery:
		return batterySheet(ctx, s, run, e.From, e.To)
	case OfPoints:
		return pointsSheet(s, run)
	}
	extras, err := extrasOf(s, run, e.With)
	if err != nil {
		return sheet{}, err
	}
	out := sheet{columns: []sheetColumn{{"time", "s"}}, words: extras.words}
	factors := []float64{1}
	for _, c := range run.Columns {
		unit := trace.UnitOf(c)
		out.columns, factors = append(out.columns, sheetColumn{c, unit.Symbol}), append(factors, unit.Factor)
	}
	for _, c := range extras.set {
		out.columns = append(out.columns, sheetColumn{"set " + c, trace.UnitOf(c).Symbol})
	}
	out.each = func(take func([]float64, []string) error) error {
		row := make([]float64, len(out.columns))
		return s.EachFrames(ctx, run, e.From, e.To, func(times []float64, column func(int) ([]float64, error)) error {
			columns, err := decode(run, column)
			if err != nil {
				return err
			}
			for k, t := range times {
				row[0] = t
				for i, xs := range columns {
					row[i+1] = xs[k] / factors[i+1]
				}
				if err := take(row, extras.at(t, row[len(columns)+1:])); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return out, nil
}

// extras are the columns that go beside those of the frames.
type extras struct {
	run    store.Run
	with   []Extra
	words  []string
	set    []string // columns of setpoints
	stages []record.Span
	marks  []record.Mark // of commands
	stage  int
	mark   int
	levels map[string]float64
	row    []string
}

func extrasOf(s *store.Store, run store.Run, with []Extra) (*extras, error) {
	x := &extras{run: run, with: with, levels: map[string]float64{}}
	if len(with) == 0 {
		return x, nil
	}
	marks, err := s.Marks(run.ID)
	if err != nil {
		return x, err
	}
	program, _, err := run.Program()
	if err != nil {
		return x, err
	}
	x.stages = archive.Spans(program, marks, run.Duration)
	for _, m := range marks {
		if set, ok := m.About.(record.Commanded); ok {
			x.marks = append(x.marks, m)
			for column := range set.Levels {
				if slices.Contains(with, WithSetpoints) && !slices.Contains(x.set, column) {
					x.set = append(x.set, column)
				}
			}
		}
	}
	slices.Sort(x.set)
	for _, extra := range with {
		switch extra {
		case WithClock:
			x.words = append(x.words, "clock")
		case WithStage:
			x.words = append(x.words, "stage")
		case WithRun:
			x.words = append(x.words, "run", "serial", "procedure")
		}
	}
	return x, nil
}

// at gives the words of a frame, and fills in the setpoints that are in force. Times rise from call to call.
func (x *extras) at(t float64, set []float64) []string {
	if len(x.with) == 0 {
		return nil
	}
	for x.stage+1 < len(x.stages) && x.stages[x.stage+1].T0 <= t {
		x.stage++
	}
	for ; x.mark < len(x.marks) && x.marks[x.mark].T <= t; x.mark++ {
		for column, level := range x.marks[x.mark].About.(record.Commanded).Levels {
			x.levels[column] = level / trace.UnitOf(column).Factor
		}
	}
	for i, column := range x.set {
		level, ok := x.levels[column]
		if set[i] = level; !ok {
			set[i] = math.NaN()
		}
	}
	x.row = x.row[:0]
	for _, extra := range x.with {
		switch extra {
		case WithClock:
			at := x.run.StartedAt.Add(time.Duration(t * float64(time.Second) / max(x.run.TimeFactor, 1)))
			x.row = append(x.row, at.UTC().Format("2006-01-02T15:04:05.000Z"))
		case WithStage:
			name := ""
			if len(x.stages) > 0 && t >= x.stages[x.stage].T0 {
				name = x.stages[x.stage].Name
			}
			x.row = append(x.row, name)
		case WithRun:
			x.row = append(x.row, x.run.ID, x.run.Serial, x.run.Procedure)
		}
	}
	return x.row
}

// pointsSheet has a row for each point: where it is, when, and the mean of each quantity.
func pointsSheet(s *store.Store, run store.Run) (sheet, error) {
	points, err := s.Points(run.ID)
	if err != nil {
		return sheet{}, err
	}
	if len(points) == 0 {
		return sheet{}, fmt.Errorf("%w: the run has no points; choose the layout %s", api.ErrBadRequest, AsRecorded)
	}
	t := TableOfPoints(inUnits(points))
	out := sheet{words: []string{"stage", "row"}}
	for _, c := range t.Columns[2:] {
		out.columns = append(out.columns, sheetColumn{c.Name, c.Unit})
	}
	out.each = func(take func([]float64, []string) error) error {
		for _, cells := range t.Rows {
			numbers := make([]float64, len(out.columns))
			for i, cell := range cells[2:] {
				x, ok := cell.(float64)
				if numbers[i] = x; !ok {
					numbers[i] = math.NaN()
				}
			}
			if err := take(numbers, []string{cells[0].(string), cells[1].(string)}); err != nil {
				return err
			}
		}
		return nil
	}
	return out, nil
}

// batterySheet joins the seats at a battery to the columns that everybody has: positive amps charge it.
func batterySheet(ctx context.Context, s *store.Store, run store.Run, from, to float64) (sheet, error) {
	index := func(names ...string) int {
		for _, n := range names {
			if i := slices.Index(run.Columns, n); i >= 0 {
				return i
			}
		}
		return -1
	}
	volts, celsius := index("cycler.volts", "load.volts", "source.volts", "meter.volts"),
		index("thermo.celsius", "cycler.celsius")
	add := func(q string) (plus, minus int) {
		if i := index("cycler." + q); i >= 0 {
			return i, -1
		}
		return index("source." + q), index("load." + q)
	}
	if plus, minus := add("amps"); volts < 0 || plus < 0 && minus < 0 {
		return sheet{}, fmt.Errorf("%w: the run has no volts and amps of a battery; choose the layout %s",
			api.ErrBadRequest, AsRecorded)
	}
	marks, err := s.Marks(run.ID)
	if err != nil {
		return sheet{}, err
	}
	program, _, err := run.Program()
	if err != nil {
		return sheet{}, err
	}
	stages := archive.Spans(program, marks, run.Duration)
	cycles := (&record.Record{Stages: stages, Marks: marks}).Cycles()
	out := sheet{words: []string{"stage"}, columns: []sheetColumn{{"time", "s"}, {"volts", "V"}, {"amps", "A"},
		{"charge", "Ah"}, {"energy", "Wh"}}}
	if celsius >= 0 {
		out.columns = append(out.columns, sheetColumn{"temperature", "°C"})
	}
	out.columns = append(out.columns, sheetColumn{"cycle", ""})
	out.each = func(take func([]float64, []string) error) error {
		row := make([]float64, len(out.columns))
		at := 0
		return s.EachFrames(ctx, run, from, to, func(times []float64, column func(int) ([]float64, error)) error {
			columns, err := decode(run, column)
			if err != nil {
				return err
			}
			for k, t := range times {
				row[0], row[1] = t, columns[volts][k]
				for i, q := range []string{"amps", "charge", "energy"} {
					plus, minus := add(q)
					row[i+2] = (valueAt(columns, plus, k) - valueAt(columns, minus, k)) / []float64{1, 3600, 3600}[i]
				}
				if celsius >= 0 {
					row[5] = columns[celsius][k]
				}
				for at+1 < len(stages) && stages[at+1].T0 <= t {
					at++
				}
				name := ""
				if len(stages) > 0 {
					name = stages[at].Name
				}
				row[len(row)-1] = float64(cycleAt(cycles, t))
				if err := take(row, []string{name}); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return out, nil
}

// cycleAt is the number of the cycle in which a time lies, from 1; what is before the first belongs to it.
func cycleAt(cycles []record.Cycle, t float64) int {
	return max(sort.Search(len(cycles), func(k int) bool { return cycles[k].Began() > t }), 1)
}

func valueAt(columns [][]float64, i, k int) float64 {
	if i < 0 {
		return 0
	}
	return columns[i][k]
}
