// Package tables reads and writes tables of setpoints as files: CSV and XLSX. The meaning of the cells is that
// of [shape.Table].
package tables

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/xuri/excelize/v2"

	"usherbench/core/shape"
)

// The formats.
const (
	CSV  = "csv"
	XLSX = "xlsx"
)

// largestFile bounds what is read.
const largestFile = 32 << 20

// FormatOf tells the format of a file from its name; everything but .xlsx is CSV.
func FormatOf(name string) string {
	if strings.EqualFold(filepath.Ext(name), ".xlsx") {
		return XLSX
	}
	return CSV
}

// Read reads a table in a format; of a workbook its first sheet. Mistakes in cells are *shape.CellError.
func Read(r io.Reader, format string) (*shape.Table, error) {
	if format != XLSX {
		return shape.ReadCSV(r)
	}
	data, err := io.ReadAll(io.LimitReader(r, largestFile))
	if err != nil {
		return nil, err
	}
	book, err := open(data)
	if err != nil {
		return nil, err
	}
	defer book.Close()
	sheets := book.GetSheetList()
	if len(sheets) == 0 {
		return nil, fmt.Errorf("the workbook has no sheet")
	}
	rows, err := rowsOf(book, sheets[0])
	if err != nil {
		return nil, fmt.Errorf("sheet %s: %w", sheets[0], err)
	}
	return shape.ReadRows(rows)
}

// mostColumns and mostRows bound a sheet: one cell in its last column would make thousands of empty ones before it.
const (
	mostColumns = 256
	mostRows    = shape.MostRows + 1 // with the heading
)

// rowsOf reads a sheet row by row.
func rowsOf(book *excelize.File, sheet string) (all [][]string, err error) {
	rows, err := book.Rows(sheet)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		cells, err := rows.Columns(excelize.Options{RawCellValue: true})
		if err != nil {
			return nil, err
		}
		if len(cells) > mostColumns || len(all) == mostRows {
			return nil, fmt.Errorf("row %d ends in column %d; a table has at most %d rows and %d columns, take away what "+
				"stands beside it", len(all)+1, len(cells), mostRows, mostColumns)
		}
		all = append(all, cells)
	}
	return all, rows.Error()
}

// Write writes a table in a format.
func Write(w io.Writer, t *shape.Table, format string) error {
	rows := t.Rows()
	if format != XLSX {
		return csv.NewWriter(w).WriteAll(rows)
	}
	book := excelize.NewFile()
	defer book.Close()
	sheet := book.GetSheetName(0)
	for c, text := range rows[0] {
		if err := set(book, sheet, c, 0, text); err != nil {
			return err
		}
	}
	first := len(rows[0]) - len(t.Levels) // a list has no times
	for k := range t.Len() {
		if first > 0 {
			if err := set(book, sheet, 0, k+1, t.Time[k]); err != nil {
				return err
			}
		}
		for c, levels := range t.Levels {
			if err := set(book, sheet, c+first, k+1, levels[k]); err != nil {
				return err
			}
		}
	}
	return book.Write(w)
}

func set(book *excelize.File, sheet string, column, row int, value any) error {
	cell, err := excelize.CoordinatesToCellName(column+1, row+1)
	if err != nil {
		return err
	}
	return book.SetCellValue(sheet, cell, value)
}

// Text is a table as CSV, for a procedure that carries it.
func Text(t *shape.Table) string {
	var b strings.Builder
	_ = Write(&b, t, CSV) // a Builder does not fail
	return b.String()
}
