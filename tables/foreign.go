package tables

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// LogText is a log that other equipment wrote as text: UTF-8 as it is, UTF-16 by its mark or its zeros, what is no
// UTF-8 as Windows-1252 (of which Latin-1 is a part), and of a workbook the first sheet as CSV.
func LogText(data []byte) (string, error) {
	if bytes.HasPrefix(data, []byte("PK\x03\x04")) {
		return sheetText(data)
	}
	coding := codingOf(data)
	if coding == nil {
		return string(data), nil
	}
	text, err := coding.NewDecoder().Bytes(data)
	if err != nil {
		return "", fmt.Errorf("the file is no text that can be read: %w", err)
	}
	return string(text), nil
}

// codingOf finds how a text is written; nil: as UTF-8.
func codingOf(data []byte) encoding.Encoding {
	little := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM)
	head := data[:min(len(data), 1024)]
	switch {
	case bytes.HasPrefix(data, []byte{0xFF, 0xFE}), bytes.HasPrefix(data, []byte{0xFE, 0xFF}):
		return little
	case zeros(head, 1) > len(head)/4:
		return unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)
	case zeros(head, 0) > len(head)/4:
		return unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)
	case utf8.Valid(data):
		return nil
	}
	return charmap.Windows1252
}

// zeros counts the zero bytes at even (0) or odd (1) places.
func zeros(data []byte, from int) (n int) {
	for i := from; i < len(data); i += 2 {
		if data[i] == 0 {
			n++
		}
	}
	return n
}

// mostLogRows bounds the rows of a sheet with a log: as many as a sheet can have.
const mostLogRows = 1 << 20

// sheetText is the first sheet of a workbook as CSV, read row by row.
func sheetText(data []byte) (text string, err error) {
	book, err := open(data)
	if err != nil {
		return "", err
	}
	defer book.Close()
	sheet := book.GetSheetName(0)
	rows, err := book.Rows(sheet)
	if err != nil {
		return "", fmt.Errorf("sheet %s: %w", sheet, err)
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	var b strings.Builder
	w := csv.NewWriter(&b)
	for n := 1; rows.Next(); n++ {
		cells, err := rows.Columns()
		if err != nil {
			return "", fmt.Errorf("sheet %s, row %d: %w", sheet, n, err)
		}
		if len(cells) > mostColumns || n > mostLogRows {
			return "", fmt.Errorf("row %d ends in column %d; a log has at most %d rows and %d columns, take away what stands "+
				"beside it", n, len(cells), mostLogRows, mostColumns)
		}
		if err := w.Write(cells); err != nil {
			return "", err
		}
	}
	w.Flush()
	return b.String(), errors.Join(rows.Error(), w.Error())
}

func open(data []byte) (*excelize.File, error) {
	book, err := excelize.OpenReader(bytes.NewReader(data), excelize.Options{RawCellValue: true,
		UnzipSizeLimit: 4 * largestFile, UnzipXMLSizeLimit: largestFile})
	if err != nil {
		return nil, fmt.Errorf("this is not a workbook: %w", err)
	}
	return book, nil
}
