package report

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/compress/zstd"
	"github.com/xuri/excelize/v2"

	"usherbench/store"
)

// writeSheet writes a sheet as CSV: a header with units, then a line a row.
func writeSheet(w io.Writer, sh sheet) error {
	out := bufio.NewWriterSize(w, 64<<10)
	for i, c := range sh.columns {
		if i > 0 {
			out.WriteString(",")
		}
		out.WriteString(quoted(header(c.name, c.unit)))
	}
	for _, word := range sh.words {
		out.WriteString("," + word)
	}
	out.WriteString("\n")
	line := make([]byte, 0, 256)
	err := sh.each(func(numbers []float64, words []string) error {
		line = line[:0]
		for i, x := range numbers {
			if i > 0 {
				line = append(line, ',')
			}
			if !math.IsNaN(x) {
				line = strconv.AppendFloat(line, x, 'g', 12, 64)
			}
		}
		for _, word := range words {
			line = append(append(line, ','), quoted(word)...)
		}
		_, err := out.Write(append(line, '\n'))
		return err
	})
	if err != nil {
		return err
	}
	return out.Flush()
}

// Cell is a cell of words with an apostrophe before what a spreadsheet would take for a formula.
func Cell(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

// quoted is a cell of words, in quotes where it must be.
func quoted(s string) string {
	s = Cell(s)
	if strings.ContainsAny(s, ",\"\n\r") {
		return `"` + strings.ReplaceAll(s, `"`, `""`) + `"`
	}
	return s
}

// parquetRows is how many rows are handed to the writer at once.
const parquetRows = 1024

// WriteParquet writes the frames of a run as Parquet: a nullable double for each column, named like
// cycler_volts_V, the stage as a string, and unit, serial number and times in the file's metadata.
func WriteParquet(ctx context.Context, w io.Writer, s *store.Store, run store.Run, e Excerpt) error {
	sh, err := sheetOf(ctx, s, run, e)
	if err != nil {
		return err
	}
	group := parquet.Group{}
	names := make([]string, len(sh.columns))
	for i, c := range sh.columns {
		names[i] = parquetName(c)
		group[names[i]] = parquet.Optional(parquet.Leaf(parquet.DoubleType))
	}
	for _, word := range sh.words {
		group[word] = parquet.Optional(parquet.Encoded(parquet.String(), &parquet.RLEDictionary))
	}
	schema := parquet.NewSchema("frames", group)
	place := map[string]int{}
	for i, path := range schema.Columns() {
		place[path[0]] = i
	}
	own := &zstd.Codec{} // the library's is one for all, and keeps encoders over the end of who made them
	out := parquet.NewWriter(w, schema, parquet.Compression(own), parquet.KeyValueMetadata("serial", run.Serial),
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
	err = sh.each(func(numbers []float64, words []string) error {
		row := make(parquet.Row, len(place))
		for i, x := range numbers {
			k := place[names[i]]
			if math.IsNaN(x) {
				row[k] = parquet.NullValue().Level(0, 0, k)
			} else {
				row[k] = parquet.DoubleValue(x).Level(0, 1, k)
			}
		}
		for i, word := range words {
			k := place[sh.words[i]]
			row[k] = parquet.ByteArrayValue([]byte(word)).Level(0, 1, k)
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
func WriteXLSX(ctx context.Context, w io.Writer, s *store.Store, run store.Run, e Excerpt) error {
	if run.Frames >= mostSheetRows {
		return fmt.Errorf("%w: it has %d frames, and a sheet holds %d; choose csv or parquet, or a part of the run",
			ErrTooLong, run.Frames, mostSheetRows-1)
	}
	sh, err := sheetOf(ctx, s, run, e)
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
	for _, word := range sh.words {
		head = append(head, word)
	}
	if err := out.SetRow("A1", head); err != nil {
		return err
	}
	at := 1
	err = sh.each(func(numbers []float64, words []string) error {
		at++
		row := make([]any, 0, len(head))
		for _, x := range numbers {
			if math.IsNaN(x) {
				row = append(row, nil)
			} else {
				row = append(row, x)
			}
		}
		for _, word := range words {
			row = append(row, word)
		}
		return out.SetRow(fmt.Sprintf("A%d", at), row)
	})
	if err != nil {
		return err
	}
	if err := out.Flush(); err != nil {
		return err
	}
	for _, add := range []func(*excelize.File, *store.Store, store.Run) error{figuresSheet, pointsOnSheet} {
		if err := add(book, s, run); err != nil {
			return err
		}
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

// pointsOnSheet puts the points of a grid and the rows of acquire and seek on a sheet of their own.
func pointsOnSheet(book *excelize.File, s *store.Store, run store.Run) error {
	points, err := s.Points(run.ID)
	if err != nil || len(points) == 0 {
		return err
	}
	if _, err := book.NewSheet("points"); err != nil {
		return err
	}
	t := TableOfPoints(inUnits(points))
	var head []any
	for _, c := range t.Columns {
		head = append(head, header(c.Name, c.Unit))
	}
	for i, row := range append([][]any{head}, t.Rows...) {
		if err := book.SetSheetRow("points", fmt.Sprintf("A%d", i+1), &row); err != nil {
			return err
		}
	}
	return nil
}
