package cli

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
)

func (a *app) importLog() *cobra.Command {
	var l api.ImportLog
	var timeColumn, volts, amps, celsius, began string
	var look bool
	c := &cobra.Command{
		Use: "import FILE --serial SERIAL", Short: "Bring a log that other equipment wrote in as a run (engineer)",
		Args: cobra.ExactArgs(1),
		Long: `Read a log in columns, with whatever separator, units, sign of the current and time
base, as a run on which figures, overlays and limits work. Columns and units are guessed; give COLUMN or
COLUMN:UNIT where the guess is wrong. What is given with --source is remembered, and used for the next log
of that source. --look shows what would be read. Text in UTF-8, UTF-16 or Latin-1 and workbooks (.xlsx) are
read; a row of units below the header, numbers with thousands set apart, words for an overload, and a last
line that was cut off are understood. With --capture it is a fast capture in equal steps, which gets figures
of ripple and transients, or those of the procedure for its stage.`,
		Example: "  usher import charger.csv --serial GP-310 --nameplate gannet --look\n  usher import charger.csv " +
			"--serial GP-310 --nameplate gannet --source 'deck charger' --amps 'I_bat:mA' --discharge-is positive\n  usher " +
			"import night.xlsx --serial GP-310 --skip 12 --accuracy volts=0.05%+2mV,amps=0.1%+5mA\n" +
			"  usher import step.csv --capture --serial TN-2208 --procedure tern-validation --stage 'load step up'",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			l.Name = filepath.Base(args[0])
			given := l.Mapping
			begin := l
			if utf8.Valid(text) {
				l.Text = string(text)
				begin.Text = firstPart(l.Text)
			} else {
				l.Data, begin.Data = text, firstBytes(text)
			}
			first, err := cl.LookAtLog(ctx, begin)
			if err != nil {
				return err
			}
			l.Mapping = first.Mapping
			l.Mapping.Source, l.Mapping.Join = given.Source, given.Join
			if given.Date != "" {
				l.Mapping.Date = given.Date
			}
			if given.DischargeIs != "" {
				l.Mapping.DischargeIs = given.DischargeIs
			}
			for text, to := range map[string]*api.MappedColumn{timeColumn: &l.Mapping.Time, volts: &l.Mapping.Volts,
				amps: &l.Mapping.Amps, celsius: &l.Mapping.Celsius} {
				if text != "" {
					give(to, text)
				}
			}
			if look {
				first.Mapping = l.Mapping
				return a.printLook(first)
			}
			if began != "" {
				at, err := time.ParseInLocation("2006-01-02 15:04", began, time.Local)
				if err != nil {
					return usage("--began %q: write it like 2026-03-31 22:00", began)
				}
				l.BeganAt = &at
			}
			run, err := cl.Import(ctx, l)
			if err != nil {
				return err
			}
			doc, err := cl.Run(ctx, run.ID)
			if err != nil || a.json {
				return a.jsonOr(doc, err)
			}
			return a.printRun(doc)
		}),
	}
	c.Flags().StringVar(&l.Serial, "serial", "", "serial number of the unit")
	c.Flags().BoolVar(&l.Capture, "capture", false, "it is a fast capture: time and volts, perhaps amps, in equal steps")
	c.Flags().StringVar(&l.Stage, "stage", "", "stage of the procedure that the capture stands for (default the first)")
	c.Flags().StringVar(&l.Lot, "lot", "", "lot of the unit")
	c.Flags().StringVar(&l.Nameplate, "nameplate", "", "nameplate of the unit, for its ratings")
	c.Flags().StringVar(&l.Procedure, "procedure", "",
		"procedure whose figures and limits are wanted (default the usual figures of a battery)")
	c.Flags().StringVar(&l.Mapping.Source, "source", "", "what wrote the log; the mapping is remembered by it")
	c.Flags().StringVar(&timeColumn, "time", "",
		"column of the time, COLUMN:UNIT; the unit clock reads 12:34:56 and dates")
	c.Flags().StringVar(&volts, "volts", "", "column of the volts, COLUMN:UNIT")
	c.Flags().StringVar(&amps, "amps", "", "column of the current, COLUMN:UNIT")
	c.Flags().StringVar(&celsius, "celsius", "", "column of the temperature")
	c.Flags().StringVar(&l.Mapping.DischargeIs, "discharge-is", "",
		"negative or positive amps (default negative, or as remembered)")
	c.Flags().StringVar(&l.Mapping.Date, "date", "", "column of the date, where it stands beside that of the time")
	c.Flags().IntVar(&l.Mapping.Skip, "skip", 0, "how many lines stand before the header (default: it is looked for)")
	c.Flags().BoolVar(&l.Mapping.Join, "join", false, "go on where the time of the log goes back, since its clock was set")
	c.Flags().StringToStringVar(&l.Accuracy, "accuracy", nil,
		"how well the log knows volts, amps or celsius, as volts=0.05%+2mV (default not stated)")
	c.Flags().StringVar(&began, "began", "", "when the log began, such as 2026-03-31 22:00")
	c.Flags().BoolVar(&look, "look", false, "only show what would be read")
	c.PreRunE = func(*cobra.Command, []string) error {
		if l.Serial == "" && !look {
			return usage("say of which unit the log is, with --serial")
		}
		return nil
	}
	return c
}

// give sets a column, and its unit if the text has one after a colon.
func give(to *api.MappedColumn, text string) {
	i := strings.LastIndex(text, ":")
	if i < 0 {
		to.Column = text
		return
	}
	to.Column, to.Unit = text[:i], text[i+1:]
}

// firstBytes is enough of a file in another coding for a first look; a workbook is needed whole.
func firstBytes(data []byte) []byte {
	const enough = 64 << 10
	if bytes.HasPrefix(data, []byte("PK")) || len(data) <= enough {
		return data
	}
	return data[:enough]
}

// firstPart is enough of a log for a first look.
func firstPart(text string) string {
	const enough = 64 << 10
	if len(text) <= enough {
		return text
	}
	if i := strings.LastIndexByte(text[:enough], '\n'); i > 0 {
		return text[:i]
	}
	return text[:enough]
}

func (a *app) printLook(l api.LogLook) error {
	if a.json {
		return a.printJSON(l)
	}
	m := l.Mapping
	how := "guessed"
	if l.Remembered {
		how = "remembered of " + m.Source
	}
	rows := [][]string{{"QUANTITY", "COLUMN", "UNIT"}}
	for _, x := range []struct {
		name string
		c    api.MappedColumn
	}{{"time", m.Time}, {"volts", m.Volts}, {"amps", m.Amps}, {"temperature", m.Celsius},
		{"date", api.MappedColumn{Column: m.Date}}} {
		if x.name == "date" && m.Date == "" {
			continue
		}
		rows = append(rows, []string{x.name, orDash(plain(x.c.Column)), orDash(x.c.Unit)})
	}
	fmt.Fprintf(a.out, "As %s; a discharge has %s amps, columns are parted by %q, the header is line %d.\n", how,
		cmp.Or(m.DischargeIs, "negative"), m.Separator, m.Skip+1)
	if err := a.table(rows); err != nil {
		return err
	}
	fmt.Fprintln(a.out)
	rows = [][]string{l.Headers}
	for i, row := range l.Rows {
		if i < 5 {
			rows = append(rows, row)
		}
	}
	for _, row := range rows {
		for i := range row {
			row[i] = plain(row[i])
		}
	}
	return a.table(rows)
}
