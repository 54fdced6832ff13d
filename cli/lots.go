package cli

import (
	"context"
	"fmt"
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
	c.AddCommand(a.lotList(), a.lotShow(), a.lotOrder())
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
	rows = [][]string{{"BAY", "A TEST TAKES", "BETWEEN TWO", "A UNIT TAKES", "PAUSES"}}
	for _, b := range p.Bays {
		rows = append(rows, []string{b.Bay, secondsOrDash(b.Test), secondsOrDash(b.Idle), secondsOrDash(b.PerUnit),
			report.Seconds(b.Paused)})
	}
	return a.table(rows)
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
