package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/report"
)

// units shows units and changes what is kept of them.
func (a *app) units() *cobra.Command {
	c := &cobra.Command{Use: "unit", Short: "Units: their history, card, parts and quarantine", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	show := &cobra.Command{
		Use: "show SERIAL", Short: "All runs of a unit, its parts, and how far it is on its card", Args: cobra.ExactArgs(1),
		Example: "  usher unit show TN-2208",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			u, err := cl.Unit(ctx, args[0])
			if err != nil || a.json {
				return a.jsonOr(u, err)
			}
			return a.printUnit(u)
		}),
	}
	c.AddCommand(show, a.unitChange("quarantine SERIAL", "Keep a unit from being tested", "smells burnt",
		func(why string, _ []string, change *api.UnitChange) error {
			if why == "" {
				return usage("say with --why what is wrong with it")
			}
			change.Quarantine, change.Why = &why, ""
			return nil
		}), a.unitChange("release SERIAL", "Let a unit in quarantine be tested again", "the lead was re-soldered",
		func(why string, _ []string, change *api.UnitChange) error {
			change.Quarantine, change.Why = new(string), why
			return nil
		}), a.unitChange("parts SERIAL NAME=SERIAL…", "Say what is in a unit", "board was swapped",
		func(why string, more []string, change *api.UnitChange) error {
			parts := map[string]string{}
			for _, text := range more {
				name, value, ok := strings.Cut(text, "=")
				if !ok || name == "" {
					return usage("%q: write NAME=SERIAL, such as board=B-00017", text)
				}
				parts[name] = value
			}
			change.Parts, change.Why = &parts, why
			return nil
		}), a.unitAllow(), a.unitReport())
	return c
}

// unitReport writes the history of a unit, or its card.
func (a *app) unitReport() *cobra.Command {
	var card bool
	c := &cobra.Command{
		Use: "report SERIAL -o FILE", Short: "Write the history of a unit, or its card, as PDF or HTML",
		Args: cobra.ExactArgs(1),
		Long: "Write the history of a unit with all its runs, or with --card what is handed over with it: every procedure " +
			"of its card with the figures that count.",
		Example: "  usher unit report TN-2213 -o history.pdf\n  usher unit report TN-2213 --card -o card.pdf",
	}
	printed, output := printedFlags(c)
	c.Flags().BoolVar(&card, "card", false, "the card in place of the history")
	c.RunE = a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
		kind := "history"
		if card {
			kind = "card"
		}
		return a.write(*output, func(w io.Writer) error { return cl.UnitReport(ctx, args[0], kind, *printed, w) })
	})
	return c
}

// unitChange is a verb that changes what is kept of a unit.
func (a *app) unitChange(use, short, reason string, fill func(why string, more []string,
	change *api.UnitChange) error) *cobra.Command {
	var why string
	name, about, _ := strings.Cut(use, " ")
	arguments, example := cobra.ExactArgs(1), "  usher unit "+name+" TN-2213 --why "+fmt.Sprintf("%q", reason)
	if strings.Contains(about, " ") {
		arguments, example = cobra.MinimumNArgs(2), "  usher unit "+name+" TN-2213 board=B-00017"
	}
	c := &cobra.Command{
		Use: use, Short: short, Args: arguments, Example: example,
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			var change api.UnitChange
			if err := fill(why, args[1:], &change); err != nil {
				return err
			}
			u, err := cl.ChangeUnit(ctx, args[0], change)
			if err != nil || a.json {
				return a.jsonOr(u, err)
			}
			return a.printUnit(u)
		}),
	}
	c.Flags().StringVar(&why, "why", "", "reason, kept in the journal")
	return c
}

// unitAllow allows further attempts.
func (a *app) unitAllow() *cobra.Command {
	var why string
	var more int
	c := &cobra.Command{
		Use: "allow SERIAL", Short: "Allow attempts beyond those of the nameplate", Args: cobra.ExactArgs(1),
		Example: "  usher unit allow TN-2213 --attempts 1 --why \"the fixture was at fault\"",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			u, err := cl.ChangeUnit(ctx, args[0], api.UnitChange{Extra: &more, Why: why})
			if err != nil || a.json {
				return a.jsonOr(u, err)
			}
			return a.printUnit(u)
		}),
	}
	c.Flags().IntVar(&more, "attempts", 1, "how many in all")
	c.Flags().StringVar(&why, "why", "", "reason, kept in the journal")
	return c
}

func (a *app) printUnit(u api.Unit) error {
	fmt.Fprintf(a.out, "%s, %s", plain(u.Serial), orDash(u.Nameplate))
	if len(u.Lots) > 0 {
		fmt.Fprintf(a.out, ", lot %s", plain(strings.Join(u.Lots, ", ")))
	}
	fmt.Fprintln(a.out)
	if u.Quarantine != "" {
		fmt.Fprintf(a.out, "■ in quarantine: %s\n", plain(u.Quarantine))
	}
	if u.Extra > 0 {
		fmt.Fprintf(a.out, "%d attempts more than its nameplate allows\n", u.Extra)
	}
	for _, name := range slices.Sorted(maps.Keys(u.Parts)) {
		fmt.Fprintf(a.out, "%s: %s\n", plain(name), plain(u.Parts[name]))
	}
	if u.Card != nil {
		fmt.Fprintf(a.out, "\nCard: %s\n", u.Card.State)
		rows := [][]string{{"PROCEDURE", "KIND", "STATE", "ATTEMPTS", "AT"}}
		for _, i := range u.Card.Items {
			at := "—"
			if i.At != nil {
				at = i.At.Local().Format("2006-01-02 15:04")
			}
			rows = append(rows, []string{i.Procedure, i.Kind, string(i.State), fmt.Sprint(i.Attempts), at})
		}
		if err := a.table(rows); err != nil {
			return err
		}
	}
	if err := a.printAcross(u.Across); err != nil {
		return err
	}
	if len(u.Runs) == 0 {
		return nil
	}
	fmt.Fprintln(a.out)
	rows := [][]string{{"RUN", "BEGAN", "PROCEDURE", "BAY", "STATE", "OUTCOME", "WHY"}}
	for _, r := range u.Runs {
		rows = append(rows, []string{r.ID, r.StartedAt.Local().Format("2006-01-02 15:04"), r.Procedure, r.Bay, r.State,
			orDash(r.Outcome), plain(r.Reason)})
	}
	return a.table(rows)
}

// printAcross prints what several bays found of a unit.
func (a *app) printAcross(all []api.BaysFigure) error {
	if len(all) == 0 {
		return nil
	}
	fmt.Fprintln(a.out, "\nIn several bays:")
	rows := [][]string{{"FIGURE", "AT", "BAYS", "DIFFERENCE", ""}}
	for _, f := range all {
		var bays []string
		for _, b := range f.Bays {
			bays = append(bays, b.Bay+" "+report.Uncertain(b.Value, b.U, f.Unit))
		}
		word := "agree"
		switch {
		case f.U == 0:
			word = "no uncertainty is known"
		case f.Differs:
			word = "■ differ"
		}
		rows = append(rows, []string{f.Title, orDash(f.Where), strings.Join(bays, ", "),
			report.Uncertain(f.Difference, f.U, f.Unit), word})
	}
	return a.table(rows)
}
