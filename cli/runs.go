package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/report"
	"usherbench/store"
)

func (a *app) run() *cobra.Command {
	var start api.StartRun
	var parameters []string
	var follow, strict bool
	var at string
	c := &cobra.Command{
		Use: "run PROCEDURE --bay BAY --serial SERIAL", Short: "Start a run (operator)", Args: cobra.ExactArgs(1),
		Long: `Start a run of a procedure on a unit. With --follow it shows the run until it ends,
prints its figures, and the exit code is the outcome: 0 pass, 3 fail (marginal with --strict), 4 aborted, 5
undetermined. Leaving --follow does not end the run.`,
		Example: "  usher run tern-line-load --bay bay1 --serial TN-2208 --follow\n  usher run tern-soak --bay bay2 " +
			"--serial TN-2209 --param soak=10min",
		RunE: func(c *cobra.Command, args []string) error {
			values, err := parameterValues(parameters)
			if err != nil {
				return err
			}
			start.Procedure, start.Parameters = args[0], values
			cl, err := a.connect()
			if err != nil {
				return err
			}
			if at != "" {
				return a.runAt(c.Context(), cl, start, at)
			}
			run, err := cl.StartRun(c.Context(), start)
			if err != nil {
				return err
			}
			if !follow {
				if a.json {
					return a.printJSON(run)
				}
				fmt.Fprintf(a.out, "Run %s began in %s. Watch it with: usher watch %s\n", run.ID, run.Bay, run.Bay)
				return nil
			}
			return a.follow(c.Context(), cl, run.ID, strict)
		},
	}
	c.Flags().StringVar(&start.Bay, "bay", "", "bay that holds the unit")
	c.Flags().StringVar(&start.Serial, "serial", "", "serial number of the unit")
	c.Flags().StringVar(&start.Lot, "lot", "", "lot of the unit")
	c.Flags().IntVar(&start.Revision, "revision", 0, "revision of the procedure (default the newest)")
	c.Flags().StringArrayVar(&parameters, "param", nil, "value of a parameter, as name=value; may be repeated")
	c.Flags().StringSliceVar(&start.Vouched, "vouch", nil,
		"a check of the preflight for which you vouch after a look at the unit: cells")
	c.Flags().StringVar(&at, "at", "", "put it in line and begin not before this time: 22:00, or 2026-03-31 22:00")
	c.Flags().BoolVar(&follow, "follow", false, "show the run until it ends")
	c.Flags().BoolVar(&strict, "strict", false, "count marginal as a failure in the exit code")
	for _, name := range []string{"bay", "serial"} {
		if err := c.MarkFlagRequired(name); err != nil {
			panic(err) // the flag was made above
		}
	}
	// Cobra words missing flags as plain errors; here they are usage.
	c.PreRunE = func(c *cobra.Command, _ []string) error {
		if err := c.ValidateRequiredFlags(); err != nil {
			return usageError{err}
		}
		return nil
	}
	return c
}

// runAt puts a run in line for a time.
func (a *app) runAt(ctx context.Context, cl *client.Client, start api.StartRun, at string) error {
	when, err := moment(at, time.Now())
	if err != nil {
		return err
	}
	if len(start.Vouched) > 0 {
		return usage("--vouch does not go with --at: the unit is looked at when it begins; if it is held then, vouch " +
			"with: usher queue release")
	}
	all, err := cl.Enqueue(ctx, api.Enqueue{Bays: []string{start.Bay}, Serials: []string{start.Serial}, Lot: start.Lot,
		Procedures: []string{start.Procedure}, Parameters: start.Parameters, NotBefore: &when})
	if err != nil || a.json {
		return a.jsonOr(all, err)
	}
	fmt.Fprintf(a.out, "%s on %s begins in %s at %s, when the bay is free. See: usher queue\n", start.Procedure,
		start.Serial, start.Bay, when.Format("2006-01-02 15:04"))
	return nil
}

// follow shows a run until it ends, then its figures.
func (a *app) follow(ctx context.Context, cl *client.Client, id string, strict bool) error {
	run, err := cl.Run(ctx, id)
	if err != nil {
		return err
	}
	if run.State == "live" {
		if err := a.watchBay(ctx, cl, run.Bay, run.ID); err != nil {
			return err
		}
	}
	doc, err := awaitFigures(ctx, cl, id)
	if err != nil {
		return err
	}
	if a.json {
		if err := a.printJSON(doc); err != nil {
			return err
		}
	} else if err := a.printRun(doc); err != nil {
		return err
	}
	return codeOf(doc.Outcome, strict)
}

// awaitFigures reads a run that has just ended, when its figures are there.
func awaitFigures(ctx context.Context, cl *client.Client, id string) (api.Run, error) {
	for {
		doc, err := cl.Run(ctx, id)
		if err != nil || doc.State != "live" {
			return doc, err
		}
		select {
		case <-ctx.Done():
			return doc, ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func (a *app) runs() *cobra.Command {
	var f client.RunFilter
	var since string
	c := &cobra.Command{
		Use: "runs", Short: "List runs, newest first", Args: cobra.NoArgs,
		Example: "  usher runs --bay bay1 --outcome fail\n  usher runs --serial TN-2208 --since 2026-03-01",
		PreRunE: func(*cobra.Command, []string) (err error) {
			if since != "" {
				if f.Since, err = time.ParseInLocation(time.DateOnly, since, time.Local); err != nil {
					return usage("--since %q: write it like 2026-03-31", since)
				}
			}
			return nil
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			runs, err := cl.Runs(ctx, f)
			if err != nil || a.json {
				return a.jsonOr(runs, err)
			}
			rows := [][]string{{"RUN", "STARTED", "BAY", "UNIT", "PROCEDURE", "REV", "OUTCOME", "DURATION"}}
			for _, r := range runs {
				state, duration := r.Outcome, report.Seconds(r.Duration)
				if state == "" {
					state = r.State
				}
				if r.State == "live" {
					duration = "—"
				}
				rows = append(rows, []string{r.ID, r.StartedAt.Local().Format("2006-01-02 15:04:05"), r.Bay, r.Serial, r.Procedure,
					fmt.Sprint(r.Revision),
					report.Sign(r.Outcome) + " " + state, duration})
			}
			return a.table(rows)
		}),
	}
	for _, chosen := range f.Texts() {
		c.Flags().StringVar(chosen.Value, chosen.Name, "", "only "+chosen.About)
	}
	c.Flags().StringVar(&since, "since", "", "only from this day on, such as 2026-03-31")
	c.Flags().IntVar(&f.Limit, "limit", 30, "how many")
	return c
}

func (a *app) show() *cobra.Command {
	return &cobra.Command{
		Use: "show RUN", Short: "Show figures with limits, uncertainty and outcome", Args: cobra.ExactArgs(1),
		Long:    "Show a run. RUN is an id, a unique beginning of one, or last.",
		Example: "  usher show last\n  usher show 01K --json",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			run, err := cl.Run(ctx, args[0])
			if err != nil || a.json {
				return a.jsonOr(run, err)
			}
			if run.State == store.Live {
				bay, err := cl.Bay(ctx, run.Bay)
				if err != nil {
					return err
				}
				return a.printLive(run, bay)
			}
			return a.printRun(run)
		}),
	}
}

// printLive shows how far a run is: where it stands, what is on record by now, and the newest readings.
func (a *app) printLive(r api.Run, bay api.Bay) error {
	a.printHead(r)
	if bay.Run == nil || bay.Run.ID != r.ID || bay.Progress == nil { // it has just begun, or is ending
		fmt.Fprintf(a.out, "%s is %s.\n", bay.Title, bay.State)
		return nil
	}
	p := bay.Progress
	fmt.Fprintf(a.out, "Stage %d of %d: %s", p.Stage+1, len(bay.Stages), standing(bay))
	if p.Left > 0 {
		fmt.Fprintf(a.out, "; %s to go as far as is known", report.Seconds(p.Left))
	}
	fmt.Fprint(a.out, "\n\n")
	if err := a.table(readings(bay)); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "\nFigures come when the run has ended. Watch it with: usher watch %s\n", r.Bay)
	return nil
}

// printRun shows a run for people.
func (a *app) printRun(r api.Run) error {
	a.printHead(r)
	if len(r.Figures) == 0 {
		fmt.Fprintln(a.out, "No figures.")
		return nil
	}
	return a.printFigures(r.Figures)
}

// printHead says which run it is and what is on record of it.
func (a *app) printHead(r api.Run) {
	word := r.Outcome
	switch {
	case r.State == "live":
		word = "live"
	case word == "":
		word = "no limits"
	}
	fmt.Fprintf(a.out, "%s %s   %s, %s\n", report.Sign(r.Outcome), word, r.Serial, r.Title)
	if r.Reason != "" {
		fmt.Fprintf(a.out, "  %s\n", r.Reason)
	}
	fmt.Fprintf(a.out, "  run %s, %s revision %d in %s by %s\n", r.ID, r.Procedure, r.Revision, r.Bay, r.Operator)
	factor := ""
	if r.TimeFactor > 1 {
		factor = " of bench time, ×" + quantity.Quantity{Value: r.TimeFactor}.String()
	}
	fmt.Fprintf(a.out, "  %s, %s%s, %d frames, %d points\n\n", r.StartedAt.Local().Format("2006-01-02 15:04:05"),
		report.Seconds(r.Duration), factor, r.Frames, len(r.Points))
}

// printFigures shows figures with limits, uncertainty and outcome, and what is to be said of them.
func (a *app) printFigures(figures []procedure.Judged) error {
	rows := [][]string{{"", "FIGURE", "AT", "VALUE ± U (95 %)", "LIMIT", "OUTCOME"}}
	for _, f := range figures {
		rows = append(rows, []string{report.Sign(string(f.Outcome)), f.Request.ID, orDash(f.Where), report.Value(f),
			report.Limit(f), orDash(string(f.Outcome))})
	}
	if err := a.table(rows); err != nil {
		return err
	}
	for _, f := range figures {
		if f.Undetermined != nil {
			fmt.Fprintf(a.out, "  %s: %s: %s\n", f.Request.ID, f.Undetermined.Code, f.Undetermined.Sentence)
		}
		for _, remark := range f.Remarks {
			fmt.Fprintf(a.out, "  %s: %s\n", f.Request.ID, remark)
		}
	}
	return a.printFigureTables(figures)
}

// mostTable is how many rows of a figure's table are printed; a curve of hundreds of places is in the JSON.
const mostTable = 60

// printFigureTables shows what figures are made of: cycles, stages of a charger, steps.
func (a *app) printFigureTables(figures []procedure.Judged) error {
	for _, f := range figures {
		if f.Table == nil || len(f.Table.Rows) == 0 || len(f.Table.Rows) > mostTable {
			continue
		}
		fmt.Fprintf(a.out, "\n%s\n", f.Title)
		var head []string
		for _, c := range f.Table.Columns {
			name := strings.ToUpper(c.Name)
			if c.Unit != "" && c.Unit != "s" {
				name += " " + c.Unit
			}
			head = append(head, name)
		}
		rows := [][]string{head}
		for _, row := range f.Table.Rows {
			var cells []string
			for i, x := range row {
				cells = append(cells, report.TableCell(x, f.Table.Columns[i].Unit))
			}
			rows = append(rows, cells)
		}
		if err := a.table(rows); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) export() *cobra.Command {
	var format, layout, output, from, to string
	var r client.Range
	c := &cobra.Command{
		Use: "export RUN --format csv|json|parquet|xlsx -o FILE", Short: "Write the data of a run", Args: cobra.ExactArgs(1),
		Long: `Write the data of a run: csv, parquet and xlsx have a row a frame with units in the
header, json everything on record. --layout battery has time, volts, amps, charge, energy, temperature,
cycle and stage of a battery in place of the quantities of every seat. -o - writes to standard output.`,
		Example: "  usher export last --format csv -o run.csv\n  usher export last --layout battery -o run.parquet\n  " +
			"usher export 01K --format json -o - --from 12s --to 1min",
		PreRunE: func(*cobra.Command, []string) error {
			if format == "" {
				format = strings.TrimPrefix(filepath.Ext(output), ".")
			}
			if !slices.Contains([]string{"csv", "json", "parquet", "xlsx"}, format) {
				return usage("give --format csv, json, parquet or xlsx")
			}
			if layout != "recorded" && layout != "battery" {
				return usage("--layout %q: choose recorded or battery", layout)
			}
			for _, bound := range []struct {
				name, text string
				to         *float64
			}{{"--from", from, &r.From}, {"--to", to, &r.To}} {
				if bound.text == "" {
					continue
				}
				q, err := quantity.Parse(bound.text)
				if err != nil || q.Dim != quantity.Time && q.Dim != quantity.Number {
					return usage("%s %q: write a time since the start, such as 90s or 2min", bound.name, bound.text)
				}
				*bound.to = q.Value
			}
			return nil
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			return a.write(output, func(w io.Writer) error { return cl.ExportLayout(ctx, args[0], format, layout, r, w) })
		}),
	}
	c.Flags().StringVar(&format, "format", "", "csv, json, parquet or xlsx (default by the file's ending)")
	c.Flags().StringVar(&layout, "layout", "recorded", "columns of the file: recorded, or battery")
	c.Flags().StringVarP(&output, "output", "o", "-", "file to write; - is standard output")
	c.Flags().StringVar(&from, "from", "", "begin, since the start of the run")
	c.Flags().StringVar(&to, "to", "", "end, since the start of the run")
	return c
}

func (a *app) report() *cobra.Command {
	var output string
	c := &cobra.Command{
		Use: "report RUN -o FILE.pdf", Short: "Write the report of a run as PDF", Args: cobra.ExactArgs(1),
		Example: "  usher report last -o report.pdf",
		PreRunE: func(*cobra.Command, []string) error {
			if output == "" {
				return usage("name the file with -o")
			}
			return nil
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			return a.write(output, func(w io.Writer) error { return cl.Report(ctx, args[0], w) })
		}),
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file to write; - is standard output")
	return c
}

// write writes a whole file or none: what is there already is replaced only when everything came.
func (a *app) write(path string, fill func(io.Writer) error) error {
	if path == "-" {
		return fill(a.out)
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".usher-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // gone already if all went well
	if err := fill(f); err != nil {
		f.Close()
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := os.Chmod(f.Name(), 0o644); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]string{"file": path})
	}
	fmt.Fprintf(a.out, "Wrote %s\n", path)
	return nil
}

// plain drops control characters from text of others before it is shown in a terminal.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, s)
}
