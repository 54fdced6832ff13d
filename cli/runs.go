package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/report"
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
	var since, output, format string
	c := &cobra.Command{
		Use: "runs", Short: "List runs, newest first", Args: cobra.NoArgs,
		Long: "List runs, newest first; or with -o write all that are chosen with their figures, a row a run, oldest first.",
		Example: "  usher runs --bay bay1 --outcome fail\n  usher runs --serial TN-2208 --since 2026-03-01\n" +
			"  usher runs --lot L-2026-11 -o lot.xlsx",
		PreRunE: func(*cobra.Command, []string) (err error) {
			if format == "" {
				format = strings.TrimPrefix(filepath.Ext(output), ".")
			}
			if output != "" && !slices.Contains(report.SelectionFormats, format) {
				return usage("give --format %s", strings.Join(report.SelectionFormats, ", "))
			}
			if since != "" {
				if f.Since, err = time.ParseInLocation(time.DateOnly, since, time.Local); err != nil {
					return usage("--since %q: write it like 2026-03-31", since)
				}
			}
			return nil
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			if output != "" {
				return a.write(output, func(w io.Writer) error { return cl.Selection(ctx, f, format, w) })
			}
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
	c.Flags().StringVarP(&output, "output", "o", "", "write the runs with their figures into a file; - is standard output")
	c.Flags().StringVar(&format, "format", "", strings.Join(report.SelectionFormats, ", ")+
		" (default by the file's ending)")
	return c
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
