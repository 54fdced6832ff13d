package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/client"
	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/trial"
)

func (a *app) dialect() *cobra.Command {
	c := &cobra.Command{
		Use: "dialect", Short: "List, show, check, try and push dialects: how instruments are spoken to", Args: cobra.NoArgs,
		Long: `A dialect is a text file that says how a model of instrument is spoken to. Write one
from the instrument's command list (docs/dialects.md), check it, try it on the instrument, and push it to
the service.`,
		Example: "  usher dialect list\n  usher dialect check my-load.yaml\n  usher dialect try my-load.yaml --address " +
			"tcp://192.168.1.20:5025\n  usher dialect push my-load.yaml",
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	list := &cobra.Command{
		Use:     "list",
		Short:   "List the dialects that the service knows; without a service those that ship and those of the data folder",
		Args:    cobra.NoArgs,
		Example: "  usher dialect list", RunE: func(c *cobra.Command, _ []string) error {
			all, err := a.knownDialects(c.Context())
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			rows := [][]string{{"DIALECT", "SPEAKS", "CHANNELS", "FOR", "TITLE"}}
			for _, d := range all {
				rows = append(rows, []string{d.Name, d.Protocol, fmt.Sprint(d.Channels), strings.Join(d.Seats, ", "), d.Title})
			}
			return a.table(rows)
		},
	}
	show := &cobra.Command{
		Use: "show DIALECT", Short: "Print the text of a dialect, to read or to build on", Args: cobra.ExactArgs(1),
		Example: "  usher dialect show sim-load",
		RunE: func(c *cobra.Command, args []string) error {
			d, err := a.findDialect(c.Context(), args[0])
			if err != nil || a.json {
				return a.jsonOr(d, err)
			}
			fmt.Fprint(a.out, d.Text)
			return nil
		},
	}
	check := &cobra.Command{
		Use: "check FILE", Short: "Check a dialect without an instrument", Args: cobra.ExactArgs(1),
		Long: `Check a dialect: keys, units, places in messages, and whether what it promises is
complete. Findings are printed as FILE:LINE:COLUMN: MESSAGE and the exit code is 1. A base named by from is
looked for in the same folder and among those that ship.`,
		Example: "  usher dialect check my-load.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			d, err := a.readDialect(args[0])
			if err != nil {
				return a.findings(args[0], err)
			}
			if a.json {
				return a.printJSON(bench.DescribeDialect(d))
			}
			fmt.Fprintf(a.out, "%s: no findings; %s\n", args[0], d.Describe())
			for _, seat := range d.Seats {
				for _, remark := range remarks(d.For(seat)) {
					fmt.Fprintf(a.out, "  as %s: %s\n", seat, remark)
				}
			}
			return nil
		},
	}
	push := &cobra.Command{
		Use: "push FILE", Short: "Store a dialect with the service and put it into force", Args: cobra.ExactArgs(1),
		Example: "  usher dialect push my-load.yaml",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			text, err := readDocument(args[0])
			if err != nil {
				return err
			}
			d, err := cl.PushDialect(ctx, string(text))
			if err != nil {
				return a.findings(args[0], err)
			}
			if a.json {
				return a.printJSON(d)
			}
			fmt.Fprintf(a.out, "Stored %s; instruments that speak it use it now.\n", d.Name)
			return nil
		}),
	}
	c.AddCommand(list, show, check, a.tryDialect(), push)
	return c
}

// remarks say what a sound dialect leaves open.
func remarks(d *dialect.Dialect) (all []string) {
	if d.Identity.Match == nil {
		all = append(all, "it does not ask for an identity, so another instrument at the address is not noticed")
	}
	unstated := map[string]bool{}
	for _, q := range d.Gives() {
		kind, _ := quantity.KindOf(q)
		if len(d.ReadRange(q)) == 0 && !kind.State && !kind.Parts.Places && !kind.Whole && q != "hertz" {
			unstated[quantity.WholeOf(q)] = true
		}
	}
	for _, q := range slices.Sorted(maps.Keys(unstated)) {
		all = append(all, fmt.Sprintf("no accuracy is stated for %s, so figures carry no uncertainty (ranges: read: %s)", q,
			q))
	}
	for _, q := range slices.Sorted(maps.Keys(d.Set)) {
		if _, ok := d.Most(q); !ok {
			all = append(all,
				fmt.Sprintf("no range is stated for setting %s, so preflight cannot tell whether it suffices (ranges: set: %s)", q,
					q))
		}
		if _, ok := d.Ask[q]; !ok {
			all = append(all, fmt.Sprintf("%s cannot be read back (set: %s: {message: …, ask: …})", q, q))
		}
	}
	return all
}

// readDialect reads a file with the dialects of its folder and those that ship as possible bases.
func (a *app) readDialect(file string) (*dialect.Dialect, error) {
	text, err := readDocument(file)
	if err != nil {
		return nil, err
	}
	library, err := dialect.Load(filepath.Dir(file))
	if library == nil {
		return nil, err
	}
	return library.Read(dialect.Source{File: file, Text: string(text)})
}

// knownDialects are the service's, or without one those of the data folder and those that ship.
func (a *app) knownDialects(ctx context.Context) ([]api.Dialect, error) {
	if cl, err := a.connect(); err == nil {
		if all, err := cl.Dialects(ctx); err == nil {
			return all, nil
		}
	}
	library, err := dialect.Load(filepath.Join(a.dataFolder(), "dialects"))
	var all []api.Dialect
	for _, name := range slices.Sorted(maps.Keys(library)) {
		all = append(all, bench.DescribeDialect(library[name]))
	}
	return all, err
}

func (a *app) findDialect(ctx context.Context, name string) (api.Dialect, error) {
	if cl, err := a.connect(); err == nil {
		if d, err := cl.Dialect(ctx, name); err == nil {
			return d, nil
		}
	}
	all, err := a.knownDialects(ctx)
	if err != nil && len(all) == 0 {
		return api.Dialect{}, err
	}
	var names []string
	for _, d := range all {
		if names = append(names, d.Name); d.Name == name && d.Text != "" {
			return d, nil
		}
	}
	return api.Dialect{}, fmt.Errorf("there is no dialect %q; %s", name, document.Suggest(name, names))
}

func (a *app) tryDialect() *cobra.Command {
	var address string
	var o trial.Options
	var whole time.Duration
	c := &cobra.Command{
		Use: "try FILE|DIALECT --address ADDRESS", Short: "Try each capability of a dialect on an instrument, harmlessly",
		Args: cobra.ExactArgs(1),
		Long: `Try a dialect on its instrument: switch the output off, read, and set each quantity
to a small value and back, with the output off. Each message and answer is shown. What goes wrong is printed
as FILE:LINE:COLUMN: MESSAGE with what to write instead, and the exit code is 1. Disconnect the unit first.
--energise also switches the output on, with every setpoint at its least.

The command speaks to the instrument itself, not through the service; an instrument that takes one
connection only must be free.`,
		Example: "  usher dialect try my-load.yaml --address tcp://192.168.1.20:5025\n  usher dialect try my-load.yaml " +
			"--address \"modbus-rtu:///dev/ttyUSB0?baud=9600&unit=3\" --energise",
		RunE: func(c *cobra.Command, args []string) error {
			if address == "" {
				return usage("say where the instrument is: --address tcp://192.168.1.20:5025")
			}
			d, err := a.dialectToTry(args[0])
			if err != nil {
				return a.findings(args[0], err)
			}
			if o.Channel < 0 || o.Channel > d.Channels {
				return usage("--channel %d: the dialect has channels 1 to %d", o.Channel, d.Channels)
			}
			i, err := instrument.Open(d.Name, address, d)
			if err != nil {
				return err
			}
			defer i.Close()
			if !a.json {
				o.Done = a.printStep
			}
			ctx, cancel := context.WithTimeout(c.Context(), whole)
			defer cancel()
			steps := trial.Run(ctx, i, o)
			if a.json {
				if err := a.printJSON(steps); err != nil {
					return err
				}
			}
			return a.verdict(steps)
		},
	}
	c.Flags().StringVar(&address, "address", "", "where the instrument is")
	c.Flags().IntVar(&o.Channel, "channel", 0, "channel to try; without it the first, and with --energise that each\n"+
		"answers for itself")
	c.Flags().BoolVar(&o.Energise, "energise", false, "also switch the output on, with every setpoint at its least")
	c.Flags().DurationVar(&whole, "within", 2*time.Minute, "how long the whole trial may take")
	return c
}

// dialectToTry is a file, or the name of one that is known.
func (a *app) dialectToTry(name string) (*dialect.Dialect, error) {
	if _, err := os.Stat(name); err == nil || strings.Contains(name, ".yaml") {
		return a.readDialect(name)
	}
	library, err := dialect.Load(filepath.Join(a.dataFolder(), "dialects"))
	if d, ok := library[name]; ok {
		return d, nil
	}
	return nil, errors.Join(err, fmt.Errorf("there is no file or dialect %q; %s", name,
		document.Suggest(name, slices.Collect(maps.Keys(library)))))
}

var verdictSigns = map[trial.Verdict]string{trial.Right: "●", trial.Wrong: "■", trial.Skipped: "○"}

func (a *app) printStep(s trial.Step) {
	what := ": " + s.What
	if s.Verdict == trial.Wrong { // it stands below, with its place
		what = ""
	}
	fmt.Fprintf(a.out, "%s %s%s\n", verdictSigns[s.Verdict], s.Name, what)
	for _, x := range s.Exchanges {
		answer := x.Answer
		switch {
		case x.Error != "":
			answer = "no answer"
		case answer == "":
			answer = "(sent)"
		}
		fmt.Fprintf(a.out, "      %-44s → %s  %.1f ms\n", x.Message, answer, float64(x.Latency.Microseconds())/1000)
	}
	if s.Verdict == trial.Wrong {
		fmt.Fprintf(a.out, "  %s: %s\n", s.Place, s.What)
		if s.Remedy != "" {
			fmt.Fprintf(a.out, "  → %s\n", s.Remedy)
		}
	}
}

func (a *app) verdict(steps []trial.Step) error {
	wrong := 0
	for _, s := range steps {
		if s.Verdict == trial.Wrong {
			wrong++
		}
	}
	if wrong > 0 {
		if !a.json {
			fmt.Fprintf(a.out, "\n%d of %d wrong.\n", wrong, len(steps))
		}
		return exitCode(exitError)
	}
	if !a.json {
		fmt.Fprintf(a.out, "\nAll %d right.\n", len(steps))
	}
	return nil
}
