package report

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/xuri/excelize/v2"

	"usherbench/core/procedure"
	"usherbench/store"
)

// SelectionFormats are the formats of a selection of runs.
var SelectionFormats = []string{"csv", "json", "xlsx", "parquet"}

// selection is a table of runs: what each was, then a column for every figure.
type selection struct {
	words   []string // columns of words
	figures []sheetColumn
	rows    []selectedRun
}

type selectedRun struct {
	words  []string
	took   float64
	values []float64 // NaN: undetermined, or the run has no such figure
}

// selectedWords are the columns of words, in their order; they come before the figures.
var selectedWords = []string{"run", "began", "serial", "lot", "procedure", "bay", "operator", "state", "outcome"}

// selectionOf makes a table of runs.
func selectionOf(s *store.Store, runs []store.Run) (selection, error) {
	out := selection{words: selectedWords}
	places := map[string]int{}
	for _, r := range runs {
		judged, err := s.Figures(r.ID)
		if err != nil {
			return out, err
		}
		row := selectedRun{took: r.Duration, words: []string{r.ID, r.StartedAt.UTC().Format(time.RFC3339), r.Serial, r.Lot,
			r.Procedure, r.Bay, r.Operator, r.State, r.Outcome}}
		for _, j := range judged {
			row.put(out.place(places, j), j)
		}
		out.rows = append(out.rows, row)
	}
	for i := range out.rows {
		out.rows[i].reach(len(out.figures))
	}
	return out, nil
}

// place is the column of a figure; one that was not met before gets the next.
func (s *selection) place(places map[string]int, j procedure.Judged) int {
	name := strings.TrimSpace(j.ID + " " + j.Where)
	at, known := places[name]
	if !known {
		at = len(s.figures)
		places[name] = at
		s.figures = append(s.figures, sheetColumn{name: name, unit: j.Unit})
	}
	return at
}

func (r *selectedRun) reach(n int) {
	for len(r.values) < n {
		r.values = append(r.values, math.NaN())
	}
}

func (r *selectedRun) put(at int, j procedure.Judged) {
	r.reach(at + 1)
	if j.Undetermined == nil {
		r.values[at] = j.Value
	}
}

func (s selection) head() []string {
	head := append(append([]string{}, s.words...), "took (s)")
	for _, f := range s.figures {
		head = append(head, header(f.name, f.unit))
	}
	return head
}

// row is a run as words and numbers; nil where there is no value.
func (r selectedRun) row() (row []any) {
	for _, word := range r.words {
		row = append(row, word)
	}
	row = append(row, r.took)
	for _, x := range r.values {
		if math.IsNaN(x) {
			row = append(row, nil)
		} else {
			row = append(row, x)
		}
	}
	return row
}

// WriteSelection writes a selection of runs with their figures, a row a run, in a format.
func WriteSelection(w io.Writer, s *store.Store, runs []store.Run, format string) error {
	table, err := selectionOf(s, runs)
	if err != nil {
		return err
	}
	switch format {
	case "csv":
		return table.writeCSV(w)
	case "json":
		return table.writeJSON(w)
	case "xlsx":
		return table.writeXLSX(w)
	case "parquet":
		return table.writeParquet(w)
	}
	return fmt.Errorf("there is no format %q; say %s", format, strings.Join(SelectionFormats, ", "))
}

func (s selection) writeCSV(w io.Writer) error {
	out := bufio.NewWriter(w)
	writeRow(out, words(s.head()))
	for _, r := range s.rows {
		writeRow(out, r.row())
	}
	return out.Flush()
}

func (s selection) writeJSON(w io.Writer) error {
	type run struct {
		Run       string              `json:"run"`
		Began     string              `json:"began"`
		Serial    string              `json:"serial"`
		Lot       string              `json:"lot"`
		Procedure string              `json:"procedure"`
		Bay       string              `json:"bay"`
		Operator  string              `json:"operator"`
		State     string              `json:"state"`
		Outcome   string              `json:"outcome"`
		Took      float64             `json:"took"`
		Figures   map[string]*float64 `json:"figures"`
	}
	all := []run{}
	for _, r := range s.rows {
		x := run{r.words[0], r.words[1], r.words[2], r.words[3], r.words[4], r.words[5], r.words[6], r.words[7], r.words[8],
			r.took, map[string]*float64{}}
		for i, f := range s.figures {
			if v := r.values[i]; !math.IsNaN(v) {
				x.Figures[header(f.name, f.unit)] = &v
			}
		}
		all = append(all, x)
	}
	return json.NewEncoder(w).Encode(all)
}

func (s selection) writeXLSX(w io.Writer) error {
	book := excelize.NewFile()
	defer book.Close()
	if err := book.SetSheetName("Sheet1", "runs"); err != nil {
		return err
	}
	out, err := book.NewStreamWriter("runs")
	if err != nil {
		return err
	}
	if err := out.SetRow("A1", words(s.head())); err != nil {
		return err
	}
	for i, r := range s.rows {
		if err := out.SetRow(fmt.Sprintf("A%d", i+2), r.row()); err != nil {
			return err
		}
	}
	if err := out.Flush(); err != nil {
		return err
	}
	return book.Write(w)
}

func (s selection) writeParquet(w io.Writer) error {
	group := parquet.Group{"took_s": parquet.Leaf(parquet.DoubleType)}
	for _, word := range s.words {
		group[word] = parquet.String()
	}
	names := make([]string, len(s.figures))
	for i, f := range s.figures {
		names[i] = strings.NewReplacer(" ", "_", ",", "", ".", "_", "-", "_").Replace(parquetName(f))
		group[names[i]] = parquet.Optional(parquet.Leaf(parquet.DoubleType))
	}
	schema := parquet.NewSchema("runs", group)
	place := map[string]int{}
	for i, path := range schema.Columns() {
		place[path[0]] = i
	}
	out := parquet.NewWriter(w, schema)
	for _, r := range s.rows {
		row := make(parquet.Row, len(place))
		for i, word := range s.words {
			k := place[word]
			row[k] = parquet.ByteArrayValue([]byte(r.words[i])).Level(0, 0, k)
		}
		took := place["took_s"]
		row[took] = parquet.DoubleValue(r.took).Level(0, 0, took)
		for i, name := range names {
			k := place[name]
			row[k] = parquet.NullValue().Level(0, 0, k)
			if !math.IsNaN(r.values[i]) {
				row[k] = parquet.DoubleValue(r.values[i]).Level(0, 1, k)
			}
		}
		if _, err := out.WriteRows([]parquet.Row{row}); err != nil {
			return err
		}
	}
	return out.Close()
}
