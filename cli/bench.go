package cli

import (
	"context"
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/trace"
)

func (a *app) bench() *cobra.Command {
	c := &cobra.Command{
		Use: "bench", Short: "Show instruments, seats and health", Args: cobra.NoArgs,
		Example: "  usher bench\n  usher bench --json\n  usher bench set bay1 source.volts=12V source.output=on",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			instruments, err := cl.Instruments(ctx)
			if err != nil {
				return err
			}
			bays, err := cl.Bays(ctx)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"instruments": instruments, "bays": bays})
			}
			drill, err := cl.LastDrill(ctx)
			if err != nil {
				return err
			}
			if err := a.printBench(instruments, bays); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "\n"+lastDrill(drill))
			return nil
		}),
	}
	set := &cobra.Command{
		Use: "set BAY SEAT.QUANTITY=VALUE …", Short: "Set something by hand; refused while a run owns the bay",
		Args:    cobra.MinimumNArgs(2),
		Example: "  usher bench set bay1 source.volts=12V source.amps=1A source.output=on",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			var bay api.Bay
			for _, setting := range args[1:] {
				column, value, ok := strings.Cut(setting, "=")
				seat, q, dotted := strings.Cut(column, ".")
				if !ok || !dotted {
					return usage("%q: write it like source.volts=12V", setting)
				}
				var err error
				if bay, err = cl.Set(ctx, args[0], api.ManualSet{Seat: seat, Quantity: q, Value: value}); err != nil {
					return err
				}
			}
			if a.json {
				return a.printJSON(bay)
			}
			return a.table(readings(bay))
		}),
	}
	read := &cobra.Command{
		Use: "read BAY", Short: "Read every seat of a bay", Args: cobra.ExactArgs(1), Example: "  usher bench read bay1",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			bay, err := cl.Bay(ctx, args[0])
			if err != nil || a.json {
				return a.jsonOr(bay, err)
			}
			return a.table(readings(bay))
		}),
	}
	safe := &cobra.Command{
		Use: "safe BAY", Short: "End the run of a bay, if any, and switch its outputs off", Args: cobra.ExactArgs(1),
		Example: "  usher bench safe bay1",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			bay, err := cl.MakeSafe(ctx, args[0], "")
			if err != nil || a.json {
				return a.jsonOr(bay, err)
			}
			fmt.Fprintf(a.out, "%s is safe: every output is read back as off.\n", bay.Title)
			return nil
		}),
	}
	there := &cobra.Command{
		Use: "still-there BAY", Short: "Say that you are there, so that outputs that are on by hand stay on",
		Args: cobra.ExactArgs(1), Example: "  usher bench still-there bay1",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			bay, err := cl.StillThere(ctx, args[0])
			if err != nil || a.json {
				return a.jsonOr(bay, err)
			}
			fmt.Fprintf(a.out, "What is on by hand in %s stays on.\n", bay.Title)
			return nil
		}),
	}
	looked := &cobra.Command{
		Use: "looked BAY", Short: "State that you looked and the outputs of a bay with an alarm are off",
		Long: "State that you looked and the outputs of a bay with an alarm are off at the instruments, so that the bay\n" +
			"may be configured anew for the next ten minutes. The alarm stays until they read back as off.",
		Args: cobra.ExactArgs(1), Example: "  usher bench looked bay1",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			bay, err := cl.Looked(ctx, args[0])
			if err != nil || a.json {
				return a.jsonOr(bay, err)
			}
			fmt.Fprintf(a.out, "%s may be configured anew for the next ten minutes. It is in the journal that you looked.\n",
				bay.Title)
			return nil
		}),
	}
	c.AddCommand(set, read, safe, there, looked, a.forgetOutputs())
	c.AddCommand(a.configureCommands()...)
	return c
}

func readings(bay api.Bay) [][]string {
	rows := [][]string{{"QUANTITY", "READING"}}
	for _, seat := range bay.Seats {
		var gives []string
		for column := range bay.Readings {
			if given, ok := strings.CutPrefix(column, seat.Name+"."); ok {
				gives = append(gives, given)
			}
		}
		kind, _ := seats.KindOf(seat.Name)
		for _, column := range kind.Columns(seat.Name, gives) {
			value, ok := bay.Readings[column]
			if k, known := quantity.KindOfColumn(column); ok && known && k.Read {
				rows = append(rows, []string{column, reading(column, value)})
			}
		}
	}
	return rows
}

// reading words a value that is in its column's unit. What is less than its digits show has a prefix: only an
// instrument that resolves it reads it.
func reading(column string, value *float64) string {
	unit := trace.UnitOf(column)
	switch {
	case value == nil:
		return "—"
	case *value != 0 && math.Abs(*value) < 5e-5:
		return quantity.Quantity{Value: *value * unit.Factor, Dim: unit.Dim}.Format(4)
	}
	return quantity.Fixed(*value, 4) + " " + unit.Symbol
}

// latency words how long answers take.
func latency(i api.Instrument) string {
	if i.Median == 0 {
		return "—"
	}
	return fmt.Sprintf("%.1f ms", i.Median*1000)
}

func (a *app) forgetOutputs() *cobra.Command {
	return &cobra.Command{
		Use: "forget NAME", Short: "State that outputs which no bay has any longer are off, or gone for good",
		Long: "State that you looked, and that outputs which could not be confirmed off when their bay was configured\n" +
			"anew are off, or their instrument is gone for good: they are tried no longer. The journal keeps what you said.",
		Args: cobra.ExactArgs(1), Example: `  usher bench forget "bay1 (before)"`,
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if err := cl.ForgetOutputs(ctx, args[0]); err != nil || a.json {
				return a.jsonOr(map[string]string{"forgotten": args[0]}, err)
			}
			fmt.Fprintf(a.out, "The outputs of %s are tried no longer. It is in the journal that you said so.\n", args[0])
			return nil
		}),
	}
}

func (a *app) printBench(instruments []api.Instrument, bays []api.Bay) error {
	rows := [][]string{{"INSTRUMENT", "ADDRESS", "DIALECT", "HEALTH", "IDENTITY", "CALIBRATION DUE", "LATENCY", "FILLS"}}
	for _, i := range instruments {
		health := "● ok"
		if !i.Healthy {
			health = "■ " + i.Problem
		}
		rows = append(rows, []string{i.Name, i.Address, i.Dialect, health, orDash(i.Identity), orDash(i.Due), latency(i),
			orDash(strings.Join(i.Fills, ", "))})
	}
	if err := a.table(rows); err != nil {
		return err
	}
	fmt.Fprintln(a.out)
	rows = [][]string{{"BAY", "STATE", "UNIT", "PROCEDURE", "SEATS"}}
	for _, b := range bays {
		var seats []string
		for _, s := range b.Seats {
			seats = append(seats, fmt.Sprintf("%s: %s channel %d", s.Name, s.Instrument, s.Channel))
		}
		unit, procedure := "—", "—"
		if b.Run != nil {
			unit, procedure = b.Run.Serial, b.Run.Procedure
		}
		rows = append(rows, []string{b.Name, string(b.State), unit, procedure, strings.Join(seats, ", ")})
		if b.Held != nil {
			rows = append(rows, []string{"", "‖ held since " + b.Held.At.Local().Format(time.TimeOnly) + ": " + b.Held.Why})
		}
		if b.Alarm != "" {
			rows = append(rows, []string{"", "■ " + b.Alarm})
		}
		if b.Cover != nil {
			rows = append(rows, []string{"", coverWords(*b.Cover)})
		}
	}
	return a.table(rows)
}

// coverWords say whether what stands behind an interlock may be opened.
func coverWords(c api.Cover) string {
	if c.SafeToOpen {
		return "○ safe to open"
	}
	return "■ keep closed: " + c.Why
}

func (a *app) stop() *cobra.Command {
	var all bool
	var why string
	c := &cobra.Command{
		Use: "stop BAY | --all", Short: "End the run of a bay, or every run, and make safe", Args: cobra.MaximumNArgs(1),
		Example: "  usher stop bay1 --why \"smells hot\"\n  usher stop --all",
		RunE: func(c *cobra.Command, args []string) error {
			if all == (len(args) == 1) {
				return usage("name one bay, or give --all")
			}
			cl, err := a.connect()
			if err != nil {
				return err
			}
			if all {
				bays, err := cl.StopAll(c.Context(), why)
				if err != nil || a.json {
					return a.jsonOr(bays, err)
				}
				fmt.Fprintln(a.out, "All runs ended; every output is read back as off. Nothing goes on before: usher go-on")
				return nil
			}
			bay, err := cl.Stop(c.Context(), args[0], why)
			if err != nil || a.json {
				return a.jsonOr(bay, err)
			}
			fmt.Fprintf(a.out, "The run in %s ended; its outputs are read back as off.\n", bay.Title)
			return nil
		},
	}
	c.Flags().BoolVar(&all, "all", false, "every bay")
	c.Flags().StringVar(&why, "why", "", "reason, for the journal")
	return c
}

func (a *app) goOn() *cobra.Command {
	return &cobra.Command{
		Use: "go-on [BAY]", Short: "Free the house after everything was stopped, or a bay after a stop",
		Long: "After usher stop --all nothing can be energised in any bay, and after a stop or a failed run nothing that " +
			"waits in line\nbegins in its bay, until a person who has looked says go on.",
		Args: cobra.MaximumNArgs(1), Example: "  usher go-on\n  usher go-on bay1",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if len(args) == 0 {
				bays, err := cl.GoOn(ctx)
				if err != nil || a.json {
					return a.jsonOr(bays, err)
				}
				fmt.Fprintln(a.out, "The house goes on: runs may begin, and what waits in line does.")
				return nil
			}
			bay, err := cl.GoOnBay(ctx, args[0])
			if err != nil || a.json {
				return a.jsonOr(bay, err)
			}
			fmt.Fprintf(a.out, "%s goes on: what waits in its line may begin.\n", bay.Title)
			return nil
		}),
	}
}

func (a *app) journal() *cobra.Command {
	var f api.JournalFilter
	var since, until, output string
	c := &cobra.Command{
		Use: "journal", Short: "Show what was done, by whom, to what", Args: cobra.NoArgs,
		Example: "  usher journal --bay bay1 --limit 50\n  usher journal --by ada --since 2026-11-01 -o journal.csv",
		PreRunE: func(*cobra.Command, []string) (err error) {
			for text, to := range map[*string]*time.Time{&since: &f.Since, &until: &f.Until} {
				if *text == "" {
					continue
				}
				if *to, err = time.ParseInLocation(time.DateOnly, *text, time.Local); err != nil {
					return usage("%q is not a day: write it like 2026-03-31", *text)
				}
			}
			return nil
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			if f.Run != "" {
				found, err := cl.Run(ctx, f.Run)
				if err != nil {
					return err
				}
				f.Run = found.ID
			}
			if output != "" {
				return a.write(output, func(w io.Writer) error { return cl.WriteJournal(ctx, f, w) })
			}
			entries, err := cl.Journal(ctx, f)
			if err != nil || a.json {
				return a.jsonOr(entries, err)
			}
			rows := [][]string{{"AT", "BY", "BAY", "WHAT", "DETAIL"}}
			for _, e := range entries {
				rows = append(rows, []string{e.At.Local().Format("2006-01-02 15:04:05"), e.By, orDash(e.Bay), e.What, e.Detail})
			}
			return a.table(rows)
		}),
	}
	c.Flags().StringVar(&f.Bay, "bay", "", "only this bay")
	c.Flags().StringVar(&f.Run, "run", "", "only this run")
	c.Flags().StringVar(&f.By, "by", "", "only what this account did")
	c.Flags().StringVar(&f.What, "what", "", "only such entries, such as \"run started\"")
	c.Flags().StringVar(&since, "since", "", "only from this day on, such as 2026-03-31")
	c.Flags().StringVar(&until, "until", "", "only before this day")
	c.Flags().IntVar(&f.Limit, "limit", 40, "how many entries, newest first")
	c.Flags().StringVarP(&output, "output", "o", "", "write the entries as CSV into a file; - is standard output")
	c.AddCommand(a.journalVerify())
	return c
}
