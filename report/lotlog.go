package report

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/procedure"
	"usherbench/core/record"
)

// LotLogFormats are the formats of a lot's log.
var LotLogFormats = []string{"text", "csv", "xlsx", "html", "pdf"}

// Evidence is what a run leaves to be looked at beside its numbers: the pictures from which its figures were read, and
// how a harness was found to be joined.
type Evidence struct {
	Figures []procedure.Judged
	Marks   []record.Mark
}

// WriteLotLog writes the log of a lot: a title, a line per unit with time and serial number, failing figures under
// failed units, and a summary with total and mean time at the end. On pages the evidence of each run is drawn under its
// line.
func WriteLotLog(w io.Writer, log api.LotLog, look Look, format string,
	evidence func(run string) (Evidence, error)) error {
	switch format {
	case "text":
		return writeLotText(w, log, look)
	case "csv":
		return writeLotCSV(w, log)
	case "xlsx":
		return writeLotXLSX(w, log)
	}
	p, err := look.begin(format, about{title: "Lot " + log.Name, foot: "Lot " + log.Name, at: log.Entries[0].Began})
	if err != nil {
		return err
	}
	p.begun(head{kind: "Lot", title: log.Name, about: log.Order.Note})
	p.known([]fact{{"Units", quantityOfLot(log.Order, log.Tally.Units, look)}, {"Attempts", fmt.Sprint(len(log.Entries))},
		{"Started", moment(&log.Entries[0].Began)}},
		[]fact{{"Yield", look.number(yieldWords(log.Tally))}, {"Duration", look.number(Seconds(log.Took))},
			{"a test takes", look.number(Seconds(log.Mean))}})
	p.section("Attempts")
	p.row([]cell{p.heading("Began", 34, "L"), p.heading("Unit", 44, "L"), p.heading("Procedure", 40, "L"),
		p.heading("Bay", 14, "L"), p.heading("Duration", 18, "R"), p.heading("Outcome", 24, "L")}, 6)
	for _, e := range log.Entries {
		p.row([]cell{{e.Began.Format("2006-01-02 15:04:05"), 34, "L", mutedColor, false}, {e.Serial, 44, "L", inkColor, true},
			{e.Procedure, 40, "L", inkColor, false}, {e.Bay, 14, "L", mutedColor, false},
			{Seconds(e.Took), 18, "R", inkColor, false},
			{orDash(look.say(e.Outcome)), 24, "L", outcomeColors(e.Outcome)[0], true}}, 5)
		for _, words := range e.Failing {
			p.row([]cell{{"", 34, "L", inkColor, false}, {look.number(words), inner - 34, "L", outcomes["fail"][0], false}}, 5)
		}
		found, err := evidence(e.Run)
		if err == nil {
			err = p.evident(found)
		}
		if err != nil {
			return fmt.Errorf("run %s: %w", e.Run, err)
		}
	}
	p.signatures()
	data, err := p.bytes("log of lot " + log.Name)
	if err != nil {
		return err
	}
	_, err = w.Write(data)
	return err
}

// The size of a picture of evidence, mm: two stand beside each other.
const evidenceWidth, evidenceHeight = (inner - 4) / 2, 34.0

// evident draws what a run leaves to be looked at.
func (p page) evident(e Evidence) error {
	doc := api.Run{Figures: e.Figures}
	doc.Curves, doc.Played = archive.Drawn(e.Figures)
	if pictures := Pictures(doc); len(pictures) > 0 {
		if err := p.drawn(pictures, evidenceWidth, evidenceHeight); err != nil {
			return err
		}
	}
	scans := ScansOf(e.Marks)
	if len(scans) == 0 {
		return nil
	}
	d, err := scans[len(scans)-1].Diagram()
	if err != nil { // the line of the run says so
		return nil
	}
	return p.drawn([]Picture{{Wired: &d}}, wiringWidth, heightOf(d))
}

func yieldWords(t api.Tally) string {
	if t.Units == 0 {
		return "—"
	}
	return percentWords(100 * float64(t.Passed+t.Marginal) / float64(t.Units))
}

func writeLotText(w io.Writer, log api.LotLog, look Look) error {
	out := bufio.NewWriter(w)
	title := "Lot " + log.Name
	if look.Company != "" {
		title = look.Company + ", l" + title[1:]
	}
	fmt.Fprintf(out, "%s\n%s\n", title, strings.Repeat("=", len([]rune(title))))
	if log.Order.Note != "" {
		fmt.Fprintln(out, log.Order.Note)
	}
	if log.Order.Nameplate != "" {
		fmt.Fprintf(out, "Nameplate: %s\n", log.Order.Nameplate)
	}
	fmt.Fprintln(out)
	for _, e := range log.Entries {
		fmt.Fprintf(out, "%s  %-20s  %-20s  %-6s  %8.1f s  %s %s\n", e.Began.Format("2006-01-02 15:04:05"), e.Serial,
			e.Procedure, e.Bay, e.Took, Sign(e.Outcome), orDash(e.Outcome))
		for _, words := range e.Failing {
			fmt.Fprintf(out, "%21s%s\n", "", words)
		}
	}
	t := log.Tally
	fmt.Fprintf(out, "\n%d units, %d attempts: %d passed, %d marginal, %d failed; yield %s\n", t.Units, len(log.Entries),
		t.Passed, t.Marginal, t.Failed, yieldWords(t))
	if t.Quantity > 0 {
		fmt.Fprintf(out, "%d units were ordered\n", t.Quantity)
	}
	fmt.Fprintf(out, "total time %s, %.1f s a test in the mean\n", Seconds(log.Took), log.Mean)
	return out.Flush()
}

var lotLogHead = []string{"began", "serial", "procedure", "bay", "operator", "took (s)", "outcome", "failing", "run"}

func lotLogRow(e api.LotLogEntry) []any {
	return []any{e.Began.UTC().Format(time.RFC3339), e.Serial, e.Procedure, e.Bay, e.Operator, e.Took, e.Outcome,
		strings.Join(e.Failing, "; "), e.Run}
}

func writeLotCSV(w io.Writer, log api.LotLog) error {
	out := bufio.NewWriter(w)
	fmt.Fprintln(out, strings.Join(lotLogHead, ","))
	for _, e := range log.Entries {
		writeRow(out, lotLogRow(e))
	}
	return out.Flush()
}

// writeRow writes a row of numbers and words as CSV.
func writeRow(out *bufio.Writer, row []any) {
	for i, x := range row {
		if i > 0 {
			out.WriteString(",")
		}
		switch v := x.(type) {
		case nil:
		case string:
			out.WriteString(quoted(v))
		default:
			fmt.Fprint(out, v)
		}
	}
	out.WriteString("\n")
}

// writeLotXLSX writes a workbook. Words are written as words, so that no spreadsheet takes one for a formula.
func writeLotXLSX(w io.Writer, log api.LotLog) error {
	book := excelize.NewFile()
	defer book.Close()
	if err := book.SetSheetName("Sheet1", "lot"); err != nil {
		return err
	}
	out, err := book.NewStreamWriter("lot")
	if err != nil {
		return err
	}
	rows := [][]any{{"Lot", log.Name}, {log.Order.Note}, {}, words(lotLogHead)}
	for _, e := range log.Entries {
		rows = append(rows, lotLogRow(e))
	}
	t := log.Tally
	rows = append(rows, []any{}, []any{"units", t.Units, "passed", t.Passed, "marginal", t.Marginal, "failed", t.Failed},
		[]any{"total time (s)", log.Took, "a test in the mean (s)", log.Mean})
	for i, row := range rows {
		if err := out.SetRow(fmt.Sprintf("A%d", i+1), row); err != nil {
			return err
		}
	}
	if err := out.Flush(); err != nil {
		return err
	}
	return book.Write(w)
}

func words(all []string) (row []any) {
	for _, word := range all {
		row = append(row, word)
	}
	return row
}
