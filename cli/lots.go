package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/quantity"
	"usherbench/report"
)

// lots lists lots, and tells what one is like.
func (a *app) lots() *cobra.Command {
	c := &cobra.Command{Use: "lot", Short: "Lots: their units, yield, failures and capability"}
	c.AddCommand(a.lotList(), a.lotShow(), a.lotOrder(), a.lotReport(), a.lotLog(), a.lotCompare())
	return c
}

func (a *app) lotList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the lots, the one with the newest run first", Args: cobra.NoArgs,
		Example: "  usher lot list",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			all, err := cl.Lots(ctx)
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			rows := [][]string{{"LOT", "UNITS", "OF", "RUNS", "NEWEST", "STATE", "NOTE"}}
			for _, l := range all {
				of, newest, state := "—", "—", "open"
				if l.Quantity > 0 {
					of = strconv.Itoa(l.Quantity)
				}
				if l.Newest != nil {
					newest = l.Newest.Local().Format(time.DateTime)
				}
				if l.Closed {
					state = "closed"
				}
				rows = append(rows, []string{plain(l.Name), strconv.Itoa(l.Units), of, strconv.Itoa(l.Runs), newest, state,
					plain(l.Note)})
			}
			return a.table(rows)
		}),
	}
}

func (a *app) lotShow() *cobra.Command {
	var r api.LotRequest
	c := &cobra.Command{
		Use: "show LOT", Short: "Yield, failures, capability and pace of a lot", Args: cobra.ExactArgs(1),
		Long: `Tell what the runs of a lot say of it, procedure by procedure: yield with its 95 % interval, the figures by
which units fail, how well every figure lies within its limits, units that lie far from the others, and how long a
unit takes in each bay. A unit counts once, by its serial number; its values are those of its last attempt. Runs that
were aborted or could not be judged are listed beside, and count for nothing.`,
		Example: "  usher lot show L-2026-11\n  usher lot show L-2026-11 --procedure tern-acceptance --strict --json",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			lot, err := cl.Lot(ctx, args[0], r)
			if err != nil || a.json {
				return a.jsonOr(lot, err)
			}
			for i, p := range lot.Procedures {
				if i > 0 {
					fmt.Fprintln(a.out)
				}
				if err := a.printLot(lot.Name, p); err != nil {
					return err
				}
			}
			return nil
		}),
	}
	c.Flags().StringVar(&r.Procedure, "procedure", "", "only runs of this procedure")
	c.Flags().BoolVar(&r.Strict, "strict", false, "count marginal as a failure")
	c.Flags().BoolVar(&r.Each, "each", false, "count every failing figure of a unit, and not its first alone")
	return c
}

func (a *app) printLot(name string, p api.LotProcedure) error {
	fmt.Fprintf(a.out, "%s by %s: %d units, %d attempts", plain(name), p.Procedure, p.Units, p.Attempts)
	if p.Beside > 0 {
		fmt.Fprintf(a.out, ", and %d beside that were aborted or not judged", p.Beside)
	}
	fmt.Fprintf(a.out, "\n\nyield %s   at first %s   retested %s\n", shareOf(p.Yield), shareOf(p.FirstPass),
		shareOf(p.Retest))
	if len(p.Failing) > 0 {
		fmt.Fprintf(a.out, "failed: %s\n", plain(strings.Join(p.Failing, ", ")))
	}
	if len(p.Pareto) > 0 {
		fmt.Fprintln(a.out)
		rows := [][]string{{"FAILS BY", "UNITS", "SHARE", "TOGETHER"}}
		for _, c := range p.Pareto {
			rows = append(rows, []string{c.Figure, strconv.Itoa(c.Units), percent(c.Share), percent(c.Cumulative)})
		}
		if err := a.table(rows); err != nil {
			return err
		}
	}
	fmt.Fprintln(a.out)
	rows := [][]string{{"FIGURE", "AT", "N", "MEAN", "SD", "CPK", "PPK (95 %)", "DRIFT", "FAR OUT"}}
	for _, f := range p.Figures {
		rows = append(rows, lotRow(f))
	}
	if err := a.table(rows); err != nil {
		return err
	}
	fmt.Fprintln(a.out)
	rows = [][]string{{"BAY", "A TEST TAKES", "BETWEEN TWO", "A UNIT TAKES", "PAUSES", "IN USE"}}
	for _, b := range p.Bays {
		rows = append(rows, []string{b.Bay, secondsOrDash(b.Test), secondsOrDash(b.Idle), secondsOrDash(b.PerUnit),
			report.Seconds(b.Paused), percent(b.Use)})
	}
	if err := a.table(rows); err != nil || len(p.Bays) < 2 {
		return err
	}
	fmt.Fprintf(a.out, "\nside by side the bays saved %s\n", report.Seconds(p.Saved))
	return nil
}

func lotRow(f api.LotFigure) []string {
	number := func(x *float64, digits int) string {
		if x == nil {
			return "—"
		}
		unit, err := quantity.ParseUnit(f.Unit)
		if err != nil || unit.Dim == quantity.Number {
			return quantity.Digits(*x, digits) + " " + f.Unit
		}
		return quantity.Quantity{Value: *x * unit.Factor, Dim: unit.Dim}.Format(digits)
	}
	cpk, ppk := "—", "—"
	if f.Cpk != nil {
		cpk = quantity.Digits(f.Cpk.Value, 3)
	}
	if f.Ppk != nil {
		ppk = fmt.Sprintf("%s (%s to %s)", quantity.Digits(f.Ppk.Value, 3), quantity.Digits(f.Ppk.Low, 3),
			quantity.Digits(f.Ppk.High, 3))
	}
	drift := "—"
	if f.Drift != nil && f.DriftU != nil && (*f.Drift > *f.DriftU || *f.Drift < -*f.DriftU) {
		drift = number(f.Drift, 2) + " a unit"
	}
	var far []string
	for _, o := range f.Outliers {
		far = append(far, plain(o.Serial))
	}
	return []string{f.Figure, f.Where, strconv.Itoa(f.N), number(f.Mean, 5), number(f.SD, 2), cpk, ppk, drift,
		orDash(strings.Join(far, ", "))}
}

// shareOf words a share with its interval.
func shareOf(s *api.LotShare) string {
	if s == nil {
		return "—"
	}
	return fmt.Sprintf("%s (%s to %s)", percent(s.Value), quantity.Digits(s.Low, 3), quantity.Digits(s.High, 3))
}

func percent(x float64) string { return quantity.Digits(x, 3) + " %" }

func secondsOrDash(x *float64) string {
	if x == nil {
		return "—"
	}
	return report.Seconds(*x)
}

// lotOrder keeps what is said of a lot.
func (a *app) lotOrder() *cobra.Command {
	var o api.LotOrder
	c := &cobra.Command{
		Use: "order LOT", Short: "Say how many units a lot has, and whether it is closed", Args: cobra.ExactArgs(1),
		Long: "Keep what is known of a lot beside its runs. What is not given is forgotten; in a closed lot nothing " +
			"more is tested.",
		Example: "  usher lot order L-2026-12 --nameplate tern --quantity 96\n  usher lot order L-2026-12 --closed",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			kept, err := cl.OrderLot(ctx, args[0], o)
			if err != nil || a.json {
				return a.jsonOr(kept, err)
			}
			fmt.Fprintf(a.out, "lot %s: %d units, closed: %t\n", plain(args[0]), kept.Quantity, kept.Closed)
			return nil
		}),
	}
	c.Flags().StringVar(&o.Nameplate, "nameplate", "", "nameplate of its units")
	c.Flags().IntVar(&o.Quantity, "quantity", 0, "how many units it has; 0: not known")
	c.Flags().BoolVar(&o.Closed, "closed", false, "nothing more is tested in it")
	c.Flags().StringVar(&o.Note, "note", "", "a note")
	return c
}

// lotReport writes the report of a lot.
func (a *app) lotReport() *cobra.Command {
	c := &cobra.Command{
		Use: "report LOT -o FILE", Short: "Write the report of a lot as PDF or HTML", Args: cobra.ExactArgs(1),
		Example: "  usher lot report L-2026-11 -o lot.pdf\n  usher lot report L-2026-11 -o lot.html --language fr",
	}
	printed, output := printedFlags(c)
	c.RunE = a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
		return a.write(*output, func(w io.Writer) error { return cl.LotReport(ctx, args[0], *printed, w) })
	})
	return c
}

// lotLog writes a line for every attempt of a lot.
func (a *app) lotLog() *cobra.Command {
	var format, output string
	c := &cobra.Command{
		Use: "log LOT", Short: "A line for every attempt of a lot, with a summary at the end", Args: cobra.ExactArgs(1),
		Long: `Write the log of a lot: its title, a line for every attempt with time and serial number, the failing figures
under what failed, and at the end how many passed, the total time and how long a test took.`,
		Example: "  usher lot log L-2026-11\n  usher lot log L-2026-11 -o lot.xlsx",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if a.json {
				log, err := cl.LotLog(ctx, args[0])
				return a.jsonOr(log, err)
			}
			if format == "" {
				format = "text"
				if ending := strings.TrimPrefix(filepath.Ext(output), "."); ending != "" && ending != "txt" {
					format = ending
				}
			}
			if !slices.Contains(report.LotLogFormats, format) {
				return usage("--format %q: choose %s", format, strings.Join(report.LotLogFormats, ", "))
			}
			return a.write(output, func(w io.Writer) error { return cl.WriteLotLog(ctx, args[0], format, w) })
		}),
	}
	c.Flags().StringVar(&format, "format", "",
		strings.Join(report.LotLogFormats, ", ")+" (default by the file's ending)")
	c.Flags().StringVarP(&output, "output", "o", "-", "file to write; - is standard output")
	return c
}

// lotCompare compares two lots.
func (a *app) lotCompare() *cobra.Command {
	var procedure string
	c := &cobra.Command{
		Use: "compare BEFORE AFTER", Short: "Which figures of two lots differ, beyond their scatter",
		Args: cobra.ExactArgs(2),
		Long: `Compare two lots, figure by figure: the difference of their means with its 95 % interval (Welch), whether it is
proven, and what share of the width of the limits it is, for proven is not important. Scatter alone is in the interval:
another bench or calibration adds its own.`,
		Example: "  usher lot compare L-2026-10 L-2026-11",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			d, err := cl.LotDifference(ctx, args[1], args[0], procedure)
			if err != nil || a.json {
				return a.jsonOr(d, err)
			}
			rows := [][]string{{"FIGURE", "AT", plain(d.Before), plain(d.After), "DIFFERENCE", "", "OF THE LIMITS"}}
			for _, f := range d.Figures {
				rows = append(rows, differenceRow(f))
			}
			return a.table(rows)
		}),
	}
	c.Flags().StringVar(&procedure, "procedure", "", "only by this procedure")
	return c
}

func differenceRow(f api.LotFigureDifference) []string {
	number := func(x float64, digits int) string { return quantity.Digits(x, digits) + " " + f.Unit }
	if f.Difference == nil || f.U == nil {
		return []string{f.Figure, f.Where, "—", "—", "—", f.Why, "—"}
	}
	differs, share := "not proven", "—"
	if f.Differs {
		differs = "differs"
	}
	if f.Share != nil {
		share = percent(*f.Share)
	}
	return []string{f.Figure, f.Where, fmt.Sprintf("%s (n = %d)", number(f.Before, 5), f.BeforeUnits),
		fmt.Sprintf("%s (n = %d)", number(f.After, 5), f.AfterUnits),
		fmt.Sprintf("%s ± %s", number(*f.Difference, 3), number(*f.U, 3)), differs, share}
}
