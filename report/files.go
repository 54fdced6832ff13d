package report

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/parquet-go/parquet-go"
	"github.com/xuri/excelize/v2"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/store"
)

// Layout says which columns a file of frames has.
type Layout string

// The layouts.
const (
	// AsRecorded has a column for each quantity of each seat.
	AsRecorded Layout = "recorded"
	// OfBattery has time, volts, amps, charge and energy of the battery, its temperature if there is one, and
	// cycle and stage.
	OfBattery Layout = "battery"
)

// Layouts lists them.
func Layouts() []Layout { return []Layout{AsRecorded, OfBattery} }

// ErrTooLong says that a run does not go into a file of the asked format.
var ErrTooLong = errors.New("the run is too long for this format")

// sheet is the frames of a run in the columns of a layout, a row after the other.
type sheet struct {
	columns []sheetColumn
	// each gives the rows; numbers in the columns' units, NaN is missing, and the stage as the last column if
	// words is true.
	each  func(take func(numbers []float64, stage string) error) error
	words bool
}

type sheetColumn struct{ name, unit string }

// sheetOf lays out the frames of a run for from ≤ t ≤ to.
func sheetOf(ctx context.Context, s *store.Store, run store.Run, layout Layout, from, to float64) (sheet, error) {
	if layout == OfBattery {
		return batterySheet(ctx, s, run, from, to)
	}
	out := sheet{columns: []sheetColumn{{"time", "s"}}}
	factors := []float64{1}
	for _, c := range run.Columns {
		unit := trace.UnitOf(c)
		out.columns, factors = append(out.columns, sheetColumn{c, unit.Symbol}), append(factors, unit.Factor)
	}
	out.each = func(take func([]float64, string) error) error {
		row := make([]float64, len(out.columns))
		return s.EachFrames(ctx, run, from, to, func(times []float64, column func(int) ([]float64, error)) error {
			columns, err := decode(run, column)
			if err != nil {
				return err
			}
			for k, t := range times {
				row[0] = t
				for i, xs := range columns {
					row[i+1] = xs[k] / factors[i+1]
				}
				if err := take(row, ""); err != nil {
					return err
				}
			}
			return nil
		})
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
	out := sheet{words: true, columns: []sheetColumn{{"time", "s"}, {"volts", "V"}, {"amps", "A"}, {"charge", "Ah"},
		{"energy", "Wh"}}}
	if celsius >= 0 {
		out.columns = append(out.columns, sheetColumn{"temperature", "°C"})
	}
	out.columns = append(out.columns, sheetColumn{"cycle", ""})
	out.each = func(take func([]float64, string) error) error {
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
				if err := take(row, name); err != nil {
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

// WriteBatteryCSV writes the frames of a battery's run: time, volts, amps, charge, energy, temperature, cycle, stage.
func WriteBatteryCSV(ctx context.Context, w io.Writer, s *store.Store, run store.Run, from, to float64) error {
	sh, err := sheetOf(ctx, s, run, OfBattery, from, to)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(w, 64<<10)
	for i, c := range sh.columns {
		if i > 0 {
			out.WriteString(",")
		}
		out.WriteString(header(c.name, c.unit))
	}
	out.WriteString(",stage\n")
	line := make([]byte, 0, 256)
	err = sh.each(func(numbers []float64, stage string) error {
		line = line[:0]
		for i, x := range numbers {
			if i > 0 {
				line = append(line, ',')
			}
			if !math.IsNaN(x) {
				line = strconv.AppendFloat(line, x, 'g', 12, 64)
			}
		}
		line = append(append(line, ','), quoted(stage)...)
		_, err := out.Write(append(line, '\n'))
		return err
	})
	if err != nil {
		return err
	}
	return out.Flush()
}

// quoted is a cell of words: in quotes where it must be.
func quoted(s string) string {
	if strings.ContainsAny(s, ",\"\n\r") {
		return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
	}
	return s
}

// parquetRows is how many rows are handed to the writer at once.
const parquetRows = 1024

// WriteParquet writes the frames of a run as Parquet: a nullable double for each column, named like
// cycler_volts_V, the stage as a string, and unit, serial number and times in the file's metadata.
func WriteParquet(ctx context.Context, w io.Writer, s *store.Store, run store.Run, layout Layout, from,
	to float64) error {
	sh, err := sheetOf(ctx, s, run, layout, from, to)
	if err != nil {
		return err
	}
	group := parquet.Group{}
	names := make([]string, len(sh.columns))
	for i, c := range sh.columns {
		names[i] = parquetName(c)
		group[names[i]] = parquet.Optional(parquet.Leaf(parquet.DoubleType))
	}
	if sh.words {
		group["stage"] = parquet.Optional(parquet.Encoded(parquet.String(), &parquet.RLEDictionary))
	}
	schema := parquet.NewSchema("frames", group)
	place := map[string]int{}
	for i, path := range schema.Columns() {
		place[path[0]] = i
	}
	out := parquet.NewWriter(w, schema, parquet.Compression(&parquet.Zstd), parquet.KeyValueMetadata("serial", run.Serial),
		parquet.KeyValueMetadata("lot", run.Lot),
		parquet.KeyValueMetadata("run", run.ID), parquet.KeyValueMetadata("procedure",
			fmt.Sprintf("%s revision %d", run.Procedure, run.Revision)),
		parquet.KeyValueMetadata("started", run.StartedAt.UTC().Format("2006-01-02T15:04:05.000Z")))
	var rows []parquet.Row
	flush := func() error {
		_, err := out.WriteRows(rows)
		rows = rows[:0]
		return err
	}
	err = sh.each(func(numbers []float64, stage string) error {
		row := make(parquet.Row, len(place))
		for i, x := range numbers {
			k := place[names[i]]
			if math.IsNaN(x) {
				row[k] = parquet.NullValue().Level(0, 0, k)
			} else {
				row[k] = parquet.DoubleValue(x).Level(0, 1, k)
			}
		}
		if sh.words {
			k := place["stage"]
			row[k] = parquet.ByteArrayValue([]byte(stage)).Level(0, 1, k)
		}
		if rows = append(rows, row); len(rows) == parquetRows {
			return flush()
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := flush(); err != nil {
		return err
	}
	return out.Close()
}

// parquetName is a name that readers of Parquet take without quotes: dots would part it.
func parquetName(c sheetColumn) string {
	name := strings.ReplaceAll(c.name, ".", "_")
	if c.unit != "" {
		name += "_" + strings.NewReplacer("°", "deg", "Ω", "ohm", "/", "_per_", "%", "percent", "µ", "u").Replace(c.unit)
	}
	return name
}

// mostSheetRows is how many rows a sheet of a workbook has.
const mostSheetRows = 1_048_576

// WriteXLSX writes the frames of a run as a workbook with its figures on a second sheet. It fails with
// ErrTooLong for more than a sheet holds.
func WriteXLSX(ctx context.Context, w io.Writer, s *store.Store, run store.Run, layout Layout, from, to float64) error {
	if run.Frames >= mostSheetRows {
		return fmt.Errorf("%w: it has %d frames, and a sheet holds %d; choose csv or parquet, or a part of the run",
			ErrTooLong, run.Frames, mostSheetRows-1)
	}
	sh, err := sheetOf(ctx, s, run, layout, from, to)
	if err != nil {
		return err
	}
	book := excelize.NewFile()
	defer book.Close()
	if err := book.SetSheetName("Sheet1", "frames"); err != nil {
		return err
	}
	out, err := book.NewStreamWriter("frames")
	if err != nil {
		return err
	}
	var head []any
	for _, c := range sh.columns {
		head = append(head, header(c.name, c.unit))
	}
	if sh.words {
		head = append(head, "stage")
	}
	if err := out.SetRow("A1", head); err != nil {
		return err
	}
	at := 1
	err = sh.each(func(numbers []float64, stage string) error {
		at++
		row := make([]any, 0, len(head))
		for _, x := range numbers {
			if math.IsNaN(x) {
				row = append(row, nil)
			} else {
				row = append(row, x)
			}
		}
		if sh.words {
			row = append(row, stage)
		}
		return out.SetRow(fmt.Sprintf("A%d", at), row)
	})
	if err != nil {
		return err
	}
	if err := out.Flush(); err != nil {
		return err
	}
	if err := figuresSheet(book, s, run); err != nil {
		return err
	}
	return book.Write(w)
}

func figuresSheet(book *excelize.File, s *store.Store, run store.Run) error {
	figures, err := s.Figures(run.ID)
	if err != nil || len(figures) == 0 {
		return err
	}
	if _, err := book.NewSheet("figures"); err != nil {
		return err
	}
	rows := [][]any{{"figure", "where", "value", "U (95 %)", "unit", "limit", "outcome", "remarks"}}
	for _, f := range figures {
		value := any(f.Value)
		remarks := strings.Join(f.Remarks, "; ")
		switch {
		case f.Undetermined != nil:
			value, remarks = "undetermined", f.Undetermined.Sentence
		case f.Text != "":
			value = f.Text
		}
		rows = append(rows, []any{f.Title, f.Where, value, f.U, f.Unit, Limit(f), string(f.Outcome), remarks})
	}
	for i, row := range rows {
		if err := book.SetSheetRow("figures", fmt.Sprintf("A%d", i+1), &row); err != nil {
			return err
		}
	}
	return nil
}
