package cli

import (
	"context"
	"fmt"
	"math"
	"slices"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/report"
)

// excerpts lists the parts of a run that have a name, names one, or forgets one.
func (a *app) excerpts() *cobra.Command {
	var from, to, note string
	var drop bool
	r := client.Open()
	c := &cobra.Command{
		Use: "excerpts RUN [NAME]", Short: "List, keep or forget named parts of a run", Args: cobra.RangeArgs(1, 2),
		Long: `List the parts of a run that somebody has named. With a NAME and --from and --to that part is kept under it, in
place of an earlier one; with --drop it is forgotten, while the frames stay. usher export RUN --excerpt NAME
writes one alone, and reports draw each. RUN is an id, a unique beginning of one, or last.`,
		Example: "  usher excerpts last\n" +
			"  usher excerpts last \"the dip\" --from 10920s --to 10922s --note \"mains flickered\"\n" +
			"  usher export last --excerpt \"the dip\" -o dip.csv\n  usher excerpts last \"the dip\" --drop",
		PreRunE: func(c *cobra.Command, args []string) error {
			bounds := from != "" || to != ""
			switch {
			case len(args) == 1 && (bounds || drop || note != ""):
				return usage("name the excerpt behind the run")
			case len(args) == 2 && drop == bounds:
				return usage("give --from and --to to keep the excerpt, or --drop to forget it")
			case bounds && (from == "" || to == ""):
				return usage("give both --from and --to")
			}
			return readBounds(from, to, "since the start, such as 90s or 2min", &r.From, &r.To)
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			switch {
			case len(args) == 1:
				all, err := cl.Excerpts(ctx, args[0])
				if err != nil || a.json {
					return a.jsonOr(all, err)
				}
				return a.listExcerpts(all)
			case drop:
				if err := cl.DropExcerpt(ctx, args[0], args[1]); err != nil {
					return err
				}
				return a.done(map[string]string{"dropped": args[1]}, "%s is forgotten; the frames stay\n", args[1])
			}
			e, err := cl.PutExcerpt(ctx, args[0], args[1], api.ExcerptRequest{From: r.From, To: r.To, Note: note})
			if err != nil {
				return err
			}
			return a.done(e, "%s is kept: %s to %s\n", e.Name, report.Seconds(e.From), report.Seconds(e.To))
		}),
	}
	c.Flags().StringVar(&from, "from", "", "begin, since the start of the run")
	c.Flags().StringVar(&to, "to", "", "end, since the start of the run")
	c.Flags().StringVar(&note, "note", "", "why it is kept")
	c.Flags().BoolVar(&drop, "drop", false, "forget it")
	return c
}

// done prints what was done as JSON or in words.
func (a *app) done(what any, form string, args ...any) error {
	if a.json {
		return a.printJSON(what)
	}
	fmt.Fprintf(a.out, form, args...)
	return nil
}

func (a *app) listExcerpts(all []api.Excerpt) error {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "The run has no excerpts.")
		return nil
	}
	rows := [][]string{{"EXCERPT", "FROM", "TO", "BY", "NOTE"}}
	for _, e := range all {
		rows = append(rows, []string{e.Name, report.Seconds(e.From), report.Seconds(e.To), e.By, e.Note})
	}
	return a.table(rows)
}

// boundsOf are the ends of an excerpt of a run.
func boundsOf(ctx context.Context, cl *client.Client, run, name string) (from, to float64, err error) {
	all, err := cl.Excerpts(ctx, run)
	if err != nil {
		return 0, 0, err
	}
	var names []string
	for _, e := range all {
		names = append(names, e.Name)
	}
	i := slices.Index(names, name)
	if i < 0 {
		return 0, 0, usage("the run has no excerpt %q; %s", name, document.Suggest(name, names))
	}
	return all[i].From, all[i].To, nil
}

// excursions lists where the columns of a run go furthest from where they usually are.
func (a *app) excursions() *cobra.Command {
	var from, to string
	var columns []string
	most := 10
	r := client.Open()
	c := &cobra.Command{
		Use: "excursions RUN", Args: cobra.ExactArgs(1),
		Short: "List where a run goes furthest from where it usually is",
		Long: `List where the columns of a run go furthest from where they usually are around there, the most unlike first,
with the very frame: out of hours the second that matters. What the run itself commanded is none. RUN is an id, a
unique beginning of one, or last.`,
		Example: "  usher excursions last\n  usher excursions last --column load.volts --most 3\n" +
			"  usher excursions 01K --from 1h --to 2h --json",
		PreRunE: func(*cobra.Command, []string) error {
			if most < 1 || most > 100 {
				return usage("--most %d: choose 1 to 100", most)
			}
			return readBounds(from, to, "since the start, such as 90s or 2min", &r.From, &r.To)
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			all, err := cl.Excursions(ctx, args[0], columns, r, most)
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			if len(all) == 0 {
				fmt.Fprintln(a.out, "Nothing goes far from where it usually is.")
				return nil
			}
			rows := [][]string{{"AT", "COLUMN", "VALUE", "USUALLY", "BY", "× SCATTER"}}
			for _, e := range all {
				rows = append(rows, []string{report.Seconds(e.T), e.Column, inUnit(e.Value, e.Unit), inUnit(e.Usual, e.Unit),
					inUnit(e.Value-e.Usual, e.Unit), quantity.Digits(math.Min(e.Unlike, 1000), 2)})
			}
			return a.table(rows)
		}),
	}
	c.Flags().StringSliceVar(&columns, "column", nil, "columns to look at (default all)")
	c.Flags().IntVar(&most, "most", most, "how many are listed")
	c.Flags().StringVar(&from, "from", "", "begin, since the start of the run")
	c.Flags().StringVar(&to, "to", "", "end, since the start of the run")
	return c
}
