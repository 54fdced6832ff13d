package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/report"
	"usherbench/store"
)

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
			if err := a.printRun(run); err != nil {
				return err
			}
			return a.printPoints(run.Points)
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

// printPoints shows the points of a grid and the rows of acquire and seek, each quantity in its unit.
func (a *app) printPoints(points []record.Point) error {
	if len(points) > mostPoints {
		fmt.Fprintf(a.out, "\nIts %d points as a table: usher export RUN --layout points\n", len(points))
		return nil
	}
	if len(points) == 0 {
		return nil
	}
	t, same := report.WithoutSame(report.WithoutEmpty(report.TableOfPoints(points)))
	fmt.Fprintln(a.out, "\nPoints")
	if same != "" {
		fmt.Fprintf(a.out, "  The same at all: %s\n", same)
	}
	return a.printTable(t)
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
	fmt.Fprintf(a.out, "%s %s   %s, %s\n", report.Sign(r.Outcome), word, r.Serial, cmp.Or(r.Title, r.Procedure))
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
	a.printRemarks(figures)
	return a.printFigureTables(figures)
}

// printRemarks says why figures have no value and what is remarked of them. What several have in common is said once.
func (a *app) printRemarks(figures []procedure.Judged) {
	var said []string
	by := map[string][]string{}
	for _, f := range figures {
		words := f.Remarks
		if f.Undetermined != nil {
			words = slices.Concat([]string{f.Undetermined.Code + ": " + f.Undetermined.Sentence}, words)
		}
		for _, w := range words {
			if by[w] == nil {
				said = append(said, w)
			}
			if !slices.Contains(by[w], f.Request.ID) {
				by[w] = append(by[w], f.Request.ID)
			}
		}
	}
	for _, w := range said {
		ids := by[w]
		if n := len(ids); n > namedFigures {
			ids = []string{fmt.Sprintf("%s and %d more", ids[0], n-1)}
		}
		fmt.Fprintf(a.out, "  %s: %s\n", strings.Join(ids, ", "), w)
	}
}

// namedFigures is how many figures are named of which the same is remarked.
const namedFigures = 3

// mostPoints is how many points are printed; the figures of more would be out of sight.
const mostPoints = 12

// mostTable is how many rows of a figure's table are printed; a curve of hundreds of places is in the JSON.
const mostTable = 60

// printFigureTables shows what figures are made of: cycles, stages of a charger, steps.
func (a *app) printFigureTables(figures []procedure.Judged) error {
	for _, f := range figures {
		if f.Table == nil || len(f.Table.Rows) == 0 || len(f.Table.Rows) > mostTable {
			continue
		}
		fmt.Fprintf(a.out, "\n%s\n", f.Title)
		if err := a.printTable(f.Table); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) printTable(t *figure.Table) error {
	var head []string
	for _, c := range t.Columns {
		name := strings.ToUpper(c.Name)
		if c.Unit != "" && c.Unit != "s" {
			name += " " + c.Unit
		}
		head = append(head, name)
	}
	rows := [][]string{head}
	for _, row := range t.Rows {
		var cells []string
		for i, x := range row {
			cells = append(cells, report.TableCell(x, t.Columns[i].Unit))
		}
		rows = append(rows, cells)
	}
	return a.table(rows)
}
