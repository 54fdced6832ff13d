package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"github.com/guptarohit/asciigraph"
	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/overlay"
	"usherbench/core/quantity"
	"usherbench/report"
)

func (a *app) overlay() *cobra.Command {
	var r api.OverlayRequest
	var before, after []string
	var level float64
	var data, pdf string
	c := &cobra.Command{
		Use: "overlay [RUN …]", Short: "Lay the curves of runs over each other", Args: cobra.ArbitraryArgs,
		Long: `Lay the curves of runs over each other: their half-cycles over time, charge, share
of the charge or cycle, whole runs or their excerpts over time, or runs, excerpts and their settled points over
any of their columns, as amps over volts; aligned at a mark or at a level. A sweep up and the sweep back are
curves of their own. It prints the picture with the band, the figures with their spread, and the differences from
the first run. Two sets, --before and --after, are compared with the significance of each difference.`,
		Example: "  usher overlay --lot C-2026-11 --over charge\n  usher overlay --before 01KA --after 01KB --over charge " +
			"--report before-after.pdf\n  usher overlay 01KA 01KB --half run --quantity thermo.celsius\n" +
			"  usher overlay 01KA 01KB --half points --over load.amps --quantity load.volts\n" +
			"  usher overlay 01KA 01KB --excerpt dip --quantity load.volts\n" +
			"  usher overlay 01KA 01KB --half run --quantity load.volts --less mean",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			r.Runs = args
			if err := a.sets(ctx, cl, &r, before, after); err != nil {
				return err
			}
			if !math.IsNaN(level) {
				r.Level = &level
			}
			if pdf != "" {
				err := a.write(pdf, func(w io.Writer) error { return cl.OverlayReport(ctx, r, w) })
				if err != nil || data == "" {
					return err
				}
			}
			o, err := cl.Overlay(ctx, r)
			switch {
			case err != nil:
				return err
			case data != "":
				return a.write(data, func(w io.Writer) error { return writeOverlay(w, o) })
			case a.json:
				return a.printJSON(o)
			}
			return a.printOverlay(o)
		}),
	}
	c.Flags().StringVar(&r.Lot, "lot", "", "every unit of this lot, each with its last run")
	c.Flags().StringVar(&r.Serial, "serial", "", "every run of this unit")
	c.Flags().StringVar(&r.Procedure, "procedure", "", "only runs of this procedure")
	c.Flags().StringVar(&r.Over, "over", api.OverTime, "x axis: time, charge, state or cycle, or a column")
	c.Flags().StringVar(&r.Half, "half", "", "discharge, charge, both, run for the whole run, points for its settled "+
		"points, or excerpts for what was kept of it (default discharge; over a column run)")
	c.Flags().StringVar(&r.Excerpt, "excerpt", "", "only the excerpts of this name")
	c.Flags().StringVar(&r.Quantity, "quantity", "", "column on the y axis (default the volts, and over them the amps)")
	c.Flags().StringVar(&r.Mark, "mark", "", "align time at the first mark with this label")
	c.Flags().Float64Var(&level, "level", math.NaN(),
		"align at the first crossing of this level, in the unit of the y axis")
	c.Flags().IntVar(&r.Most, "most", 0, "draw this many labels at most; band and tables are of all")
	c.Flags().StringVar(&r.Reference, "reference", "", "run that the differences refer to (default the first)")
	c.Flags().StringVar(&r.Less, "less", "", "draw every curve as its deviation: from the mean of all, or from the "+
		"reference (mean, reference)")
	c.Flags().StringSliceVar(&before, "before", nil, "runs of the first set")
	c.Flags().StringSliceVar(&after, "after", nil, "runs of the second set")
	c.Flags().StringVar(&data, "csv", "", "write the curves to this file")
	c.Flags().StringVar(&pdf, "report", "", "write the overlay as PDF to this file")
	return c
}

// sets gives the runs of two sets their names, by full id.
func (a *app) sets(ctx context.Context, cl *client.Client, r *api.OverlayRequest, before, after []string) error {
	for name, refs := range map[string][]string{"before": before, "after": after} {
		for _, ref := range refs {
			run, err := cl.Run(ctx, ref)
			if err != nil {
				return err
			}
			if r.Groups == nil {
				r.Groups = map[string]string{}
			}
			r.Groups[run.ID] = name
		}
	}
	r.Runs = append(append(r.Runs, before...), after...)
	return nil
}

func withUnit(label, unit string) string {
	if unit == "" {
		return label
	}
	return label + " (" + unit + ")"
}

// writeOverlay writes the curves in long form: a line a place.
func writeOverlay(w io.Writer, o api.Overlay) error {
	out := csv.NewWriter(w)
	rows := [][]string{{"label", "run", "half", "pass", "group", withUnit(o.XLabel, o.XUnit), withUnit(o.YLabel, o.YUnit)}}
	for _, c := range o.Curves {
		for k := range c.X {
			rows = append(rows, []string{c.Label, c.Run, c.Half, strconv.Itoa(c.Pass), c.Group,
				strconv.FormatFloat(c.X[k], 'g', 10, 64), strconv.FormatFloat(c.Y[k], 'g', 10, 64)})
		}
	}
	return out.WriteAll(rows)
}

// mostPlotted is how many curves a terminal shows apart.
const mostPlotted = 8

func (a *app) printOverlay(o api.Overlay) error {
	var drawn []overlay.Curve
	for _, c := range o.Curves {
		if c.Drawn && len(c.X) > 1 {
			drawn = append(drawn, overlay.Curve{Label: c.Label, X: c.X, Y: c.Y})
		}
	}
	if len(drawn) > 0 {
		from, to := math.Inf(1), math.Inf(-1)
		for _, c := range drawn {
			from, to = math.Min(from, c.X[0]), math.Max(to, c.X[len(c.X)-1])
		}
		step := max((len(drawn)+mostPlotted-1)/mostPlotted, 1)
		var data [][]float64
		var names []string
		for i := 0; i < len(drawn); i += step {
			ys := make([]float64, plottedWidth)
			for k := range ys {
				ys[k] = drawn[i].At(from + (to-from)*float64(k)/(plottedWidth-1))
			}
			data, names = append(data, ys), append(names, drawn[i].Label)
		}
		fmt.Fprint(a.out, quantity.Sprintf("%s over %s, %.4g to %.4g %s   %s\n%s\n\n", withUnit(o.YLabel, o.YUnit), o.XLabel,
			from, to, o.XUnit, strings.Join(names, ", "),
			asciigraph.PlotMany(data, asciigraph.Height(2*plottedHeight), asciigraph.Width(plottedWidth))))
	}
	if o.Band != nil {
		fmt.Fprint(a.out, quantity.Sprintf("%d curves; the band is widest at %.4g %s: %.4g %s\n\n", len(o.Curves),
			o.Band.At, o.XUnit, o.Band.Widest, o.YUnit))
	}
	for _, c := range o.Comparisons {
		sign := "○"
		if c.Differs {
			sign = "●"
		}
		fmt.Fprintf(a.out, "%s %s\n", sign, c.Words)
	}
	if len(o.Comparisons) > 0 {
		fmt.Fprintln(a.out)
	}
	if err := a.overlayTables(o); err != nil {
		return err
	}
	for _, l := range o.Left {
		fmt.Fprintf(a.out, "%s is not on the picture: %s\n", l.Label, l.Why)
	}
	return nil
}

func (a *app) overlayTables(o api.Overlay) error {
	if len(o.Pairs) > 0 {
		first, second := report.Sides(o)
		rows := [][]string{{"FIGURE", first, second, "DIFFERENCE"}}
		for _, x := range o.Pairs {
			rows = append(rows, []string{x.Title, report.Side(x.First, x.Unit), report.Side(x.Second, x.Unit), report.Apart(x)})
		}
		if err := a.table(rows); err != nil {
			return err
		}
		fmt.Fprintln(a.out)
	}
	if len(o.Figures) > 0 && len(o.Pairs) == 0 {
		rows := [][]string{{"FIGURE", "RUNS", "MEAN", "SPREAD", "SD"}}
		for _, f := range o.Figures {
			rows = append(rows, []string{f.Title, fmt.Sprint(len(f.Values)), quantity.Sprintf("%.5g %s", f.Mean, f.Unit),
				share(f.Spread), share(f.SD)})
		}
		if err := a.table(rows); err != nil {
			return err
		}
		fmt.Fprintln(a.out)
	}
	if len(o.Differences) == 0 {
		return nil
	}
	rows := [][]string{{"FROM " + strings.ToUpper(o.Reference), "MEAN", "RMS", "LARGEST", "AT", "END"}}
	number := func(x *float64, unit string) string {
		if x == nil {
			return "—"
		}
		return quantity.Sprintf("%.4g %s", *x, unit)
	}
	for _, d := range o.Differences {
		rows = append(rows, []string{d.Label, number(d.Mean, o.YUnit), number(d.RMS, o.YUnit), number(d.Largest, o.YUnit),
			number(d.At, o.XUnit), number(d.End, o.XUnit)})
	}
	return a.table(rows)
}

func share(x *float64) string {
	if x == nil {
		return "—"
	}
	return quantity.Sprintf("%.3g %%", *x)
}

func (a *app) match() *cobra.Command {
	var r api.MatchRequest
	var capacity, resistance, curve float64
	var labels string
	c := &cobra.Command{
		Use: "match --lot LOT --size N", Short: "Group the cells of a lot that belong together", Args: cobra.NoArgs,
		Long: `Group cells by capacity, resistance and the course of their discharge, each with its
last run that has a capacity. The score is the sum over the groups of the squares of their spreads, each
over its scale: 1 % of capacity, 5 % of resistance, 5 mV of curve. It is shown beside that of the same
number of groups cut from the list sorted by capacity. For cells in series raise the weight of capacity, in
parallel that of resistance.`,
		Example: "  usher match --lot C-2026-11 --size 7\n  usher match --lot C-2026-11 --size 7 --labels labels.pdf",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			r.Capacity, r.Resistance, r.Curve = &capacity, &resistance, &curve
			if labels != "" {
				return a.write(labels, func(w io.Writer) error { return cl.MatchLabels(ctx, r, w) })
			}
			m, err := cl.Match(ctx, r)
			if err != nil || a.json {
				return a.jsonOr(m, err)
			}
			return a.printMatching(m)
		}),
	}
	c.Flags().StringVar(&r.Lot, "lot", "", "lot of the cells")
	c.Flags().StringVar(&r.Procedure, "procedure", "", "only runs of this procedure")
	c.Flags().IntVar(&r.Size, "size", 0, "cells of a group")
	c.Flags().IntVar(&r.Groups, "groups", 0, "this many groups at most (default as many as there are cells for)")
	c.Flags().Float64Var(&capacity, "capacity", 1, "weight of capacity")
	c.Flags().Float64Var(&resistance, "resistance", 1, "weight of resistance")
	c.Flags().Float64Var(&curve, "curve", 1, "weight of the curve")
	c.Flags().Uint64Var(&r.Seed, "seed", 1, "beginning of the search, which is the same for the same seed")
	c.Flags().StringVar(&labels, "labels", "", "write the labels as PDF to this file")
	c.PreRunE = func(*cobra.Command, []string) error {
		if r.Lot == "" || r.Size < 2 {
			return usage("name the lot with --lot, and the cells of a group with --size")
		}
		return nil
	}
	return c
}

func (a *app) printMatching(m api.Matching) error {
	rows := [][]string{{"GROUP", "CELL", "CAPACITY", "RESISTANCE", "RUN"}}
	for _, g := range m.Groups {
		for _, c := range g.Cells {
			rows = append(rows, []string{g.Name, c.Serial, fmt.Sprintf("%.4f Ah", c.Capacity),
				fmt.Sprintf("%.1f mΩ", c.Resistance), c.Run})
		}
	}
	if err := a.table(rows); err != nil {
		return err
	}
	fmt.Fprintln(a.out)
	rows = [][]string{{"GROUP", "SCORE", "CAPACITY", "RESISTANCE", "CURVES"}}
	for _, g := range m.Groups {
		rows = append(rows, []string{g.Name, fmt.Sprintf("%.2f", g.Score), fmt.Sprintf("%.2f %%", g.CapacitySpread),
			fmt.Sprintf("%.1f %%", g.ResistanceSpread), fmt.Sprintf("%.1f mV", g.CurveDistance)})
	}
	if err := a.table(rows); err != nil {
		return err
	}
	fmt.Fprintln(a.out)
	for _, r := range m.Rejects {
		fmt.Fprintf(a.out, "× %s %s\n", r.Serial, r.Why)
	}
	better := ""
	if m.Score > 0 {
		better = fmt.Sprintf(", %.1f times as much", m.Sorted/m.Score)
	}
	fmt.Fprintf(a.out, "\nScore %.2f; groups cut from the list sorted by capacity have %.2f%s.\n", m.Score, m.Sorted,
		better)
	return nil
}
