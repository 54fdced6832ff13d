package tables

import (
	"bytes"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"usherbench/core/shape"
)

func TestATableSurvivesEveryFormat(t *testing.T) {
	for _, text := range []string{"duration [ms],source.volts [V],load.amps [mA]\n100,48,2000\n5,36.125,2500\n",
		"load.amps [mA]\n0\n900\n1850.5\n"} {
		table, err := shape.ReadCSV(strings.NewReader(text))
		require.NoError(t, err)
		for _, format := range []string{CSV, XLSX} {
			var b bytes.Buffer
			require.NoError(t, Write(&b, table, format))
			again, err := Read(&b, format)
			require.NoError(t, err, format)
			assert.Equal(t, table, again, format)
		}
	}
	assert.Equal(t, []string{XLSX, XLSX, CSV, CSV}, []string{FormatOf("a.xlsx"), FormatOf("b.XLSX"), FormatOf("c.csv"),
		FormatOf("d")})
}

func TestAMistakeInAWorkbookNamesTheCell(t *testing.T) {
	book := excelize.NewFile()
	for cell, value := range map[string]any{"A1": "time [s]", "B1": "volts [V]", "A2": 0, "B2": 12, "A3": 1,
		"B3": "high"} {
		require.NoError(t, book.SetCellValue("Sheet1", cell, value))
	}
	var b bytes.Buffer
	require.NoError(t, book.Write(&b))
	_, err := Read(&b, XLSX)
	assert.ErrorContains(t, err, `cell B3: "high" is not a number`)
	_, err = Read(strings.NewReader("not a workbook"), XLSX)
	assert.ErrorContains(t, err, "this is not a workbook")
}

func FuzzRead(f *testing.F) {
	var b bytes.Buffer
	table, _ := shape.ReadCSV(strings.NewReader("time [s],volts [V]\n0,1\n1,2\n"))
	if err := Write(&b, table, XLSX); err != nil {
		f.Fatal(err)
	}
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		if _, err := Read(bytes.NewReader(data), XLSX); err != nil {
			require.NotEmpty(t, err.Error())
		}
	})
}

// A sheet with cells far out, as a spreadsheet has them after somebody formatted a whole column, is refused before it
// fills the memory.
func TestASheetThatIsTooWideIsRefused(t *testing.T) {
	book := excelize.NewFile()
	for row := 1; row <= 40; row++ {
		require.NoError(t, book.SetCellValue("Sheet1", fmt.Sprintf("XFD%d", row), 1))
	}
	var file bytes.Buffer
	require.NoError(t, book.Write(&file))
	require.NoError(t, book.Close())
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err := Read(&file, XLSX)
	require.ErrorContains(t, err, "row 1 ends in column 16384; a table has at most 100001 rows and 256 columns")
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(50<<20))
}
