package tables

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// The same log in every coding, with a sign that tells them apart.
func TestALogInAnyCoding(t *testing.T) {
	const text = "Zeit [s];Temperatur [°C];Prüfling µA\n1;2;3\n4;5;6\n"
	for name, c := range map[string]encoding.Encoding{
		"UTF-16, low byte first, with its mark":  unicode.UTF16(unicode.LittleEndian, unicode.UseBOM),
		"UTF-16, high byte first, with its mark": unicode.UTF16(unicode.BigEndian, unicode.UseBOM),
		"UTF-16, low byte first":                 unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM),
		"UTF-16, high byte first":                unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM),
		"Latin-1":                                charmap.Windows1252,
		"UTF-8":                                  encoding.Nop,
	} {
		data, err := c.NewEncoder().Bytes([]byte(text))
		require.NoError(t, err)
		read, err := LogText(data)
		require.NoError(t, err)
		assert.Equal(t, text, read, name)
	}
}

func TestALogInAWorkbook(t *testing.T) {
	book := excelize.NewFile()
	for row, cells := range [][]any{{"made by a logger"}, {"time", "volts", "amps"}, {0, 12.5, -1}, {0.1, 12.25, "OL"}} {
		cell, err := excelize.CoordinatesToCellName(1, row+1)
		require.NoError(t, err)
		require.NoError(t, book.SetSheetRow("Sheet1", cell, &cells))
	}
	var data bytes.Buffer
	require.NoError(t, book.Write(&data))
	text, err := LogText(data.Bytes())
	require.NoError(t, err)
	assert.Equal(t, "made by a logger\ntime,volts,amps\n0,12.5,-1\n0.1,12.25,OL\n", text)
	require.NoError(t, book.SetCellValue("Sheet1", "XFD2", 1))
	data.Reset()
	require.NoError(t, book.Write(&data))
	_, err = LogText(data.Bytes())
	assert.ErrorContains(t, err, "row 2 ends in column 16384")
	_, err = LogText([]byte("PK\x03\x04 and no more"))
	assert.ErrorContains(t, err, "not a workbook")
}
