package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

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
of that source. --look shows what would be read.`,
		Example: "  usher import charger.csv --serial GP-310 --nameplate gannet --look\n  usher import charger.csv " +
			"--serial GP-310 --nameplate gannet --source 'deck charger' --amps 'I_bat:mA' --discharge-is positive",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			l.Name, l.Text = filepath.Base(args[0]), string(text)
			given := l.Mapping
			begin := l
			begin.Text = firstPart(l.Text)
			first, err := cl.LookAtLog(ctx, begin)
			if err != nil {
				return err
			}
			l.Mapping = first.Mapping
			l.Mapping.Source = given.Source
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
	}{{"time", m.Time}, {"volts", m.Volts}, {"amps", m.Amps}, {"temperature", m.Celsius}} {
		rows = append(rows, []string{x.name, orDash(plain(x.c.Column)), orDash(x.c.Unit)})
	}
	fmt.Fprintf(a.out, "As %s; a discharge has %s amps, columns are parted by %q.\n", how, m.DischargeIs, m.Separator)
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
