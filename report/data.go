package report

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"strconv"

	"usherbench/api"
	"usherbench/core/trace"
	"usherbench/store"
)

// WriteCSV writes an excerpt of a run: a header with units, then a line a frame or point. A missing reading is an empty
// field. Memory does not grow with the length of the run.
func WriteCSV(ctx context.Context, w io.Writer, s *store.Store, run store.Run, e Excerpt) error {
	if e.Layout == AsRecorded && len(e.With) == 0 {
		return writeFrames(ctx, w, s, run, e.From, e.To)
	}
	sh, err := sheetOf(ctx, s, run, e)
	if err != nil {
		return err
	}
	return writeSheet(w, sh)
}

// writeFrames is the quick way for frames as they are recorded.
func writeFrames(ctx context.Context, w io.Writer, s *store.Store, run store.Run, from, to float64) error {
	out := bufio.NewWriterSize(w, 64<<10)
	out.WriteString("time (s)")
	factors := make([]float64, len(run.Columns))
	for i, c := range run.Columns {
		unit := trace.UnitOf(c)
		factors[i] = unit.Factor
		out.WriteString("," + header(c, unit.Symbol))
	}
	out.WriteString("\n")
	line := make([]byte, 0, 512)
	err := s.EachFrames(ctx, run, from, to, func(times []float64, column func(int) ([]float64, error)) error {
		columns, err := decode(run, column)
		if err != nil {
			return err
		}
		for k, t := range times {
			line = strconv.AppendFloat(line[:0], t, 'f', -1, 64)
			for i, xs := range columns {
				line = append(line, ',')
				if !math.IsNaN(xs[k]) {
					line = appendValue(line, xs[k], factors[i])
				}
			}
			line = append(line, '\n')
			if _, err := out.Write(line); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return out.Flush()
}

// appendValue writes a value in the column's unit. Readings keep every digit; converted ones are written to 12
// digits, beyond which the conversion itself is noise.
func appendValue(dst []byte, x, factor float64) []byte {
	if factor == 1 {
		return strconv.AppendFloat(dst, x, 'f', -1, 64)
	}
	return strconv.AppendFloat(dst, x/factor, 'g', 12, 64)
}

func header(column, unit string) string {
	if unit == "" {
		return column
	}
	return column + " (" + unit + ")"
}

func decode(run store.Run, column func(int) ([]float64, error)) ([][]float64, error) {
	columns := make([][]float64, len(run.Columns))
	for i := range columns {
		xs, err := column(i)
		if err != nil {
			return nil, err
		}
		columns[i] = xs
	}
	return columns, nil
}

// WriteJSON writes everything on record about a run: the document of the run, its journal, and its frames for
// from ≤ t ≤ to as arrays that begin with the time in s, then the columns in their units; missing readings
// are null.
func WriteJSON(ctx context.Context, w io.Writer, s *store.Store, run store.Run, from, to float64) error {
	doc, err := Collect(s, run)
	if err != nil {
		return err
	}
	entries, err := s.JournalEntries(store.JournalFilter{Run: run.ID, Limit: 1000})
	if err != nil {
		return err
	}
	journal := []api.JournalEntry{}
	for _, e := range entries {
		journal = append(journal, api.JournalEntry{ID: e.ID, At: e.At, By: e.By, Bay: e.Bay, Run: e.RunID, What: e.What,
			Detail: e.Detail})
	}
	out := bufio.NewWriterSize(w, 64<<10)
	for _, part := range []struct {
		name  string
		value any
	}{{"run", doc}, {"journal", journal}} {
		data, err := json.Marshal(part.value)
		if err != nil {
			return fmt.Errorf("%s of run %s: %w", part.name, run.ID, err)
		}
		opening := ",\n"
		if part.name == "run" {
			opening = "{\n"
		}
		fmt.Fprintf(out, "%s%q: %s", opening, part.name, data)
	}
	out.WriteString(",\n\"frames\": [")
	first := true
	line := make([]byte, 0, 512)
	err = s.EachFrames(ctx, run, from, to, func(times []float64, column func(int) ([]float64, error)) error {
		columns, err := decode(run, column)
		if err != nil {
			return err
		}
		for k, t := range times {
			line = line[:0]
			if !first {
				line = append(line, ',')
			}
			first = false
			line = append(line, "\n["...)
			line = strconv.AppendFloat(line, t, 'f', -1, 64)
			for i, xs := range columns {
				line = append(line, ',')
				if math.IsNaN(xs[k]) {
					line = append(line, "null"...)
				} else {
					line = appendValue(line, xs[k], trace.UnitOf(run.Columns[i]).Factor)
				}
			}
			line = append(line, ']')
			if _, err := out.Write(line); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	out.WriteString("\n]\n}\n")
	return out.Flush()
}
