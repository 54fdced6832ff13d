package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/document"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/demo"
	"usherbench/report"
)

func (a *app) procedure() *cobra.Command {
	c := &cobra.Command{Use: "procedure", Short: "List, show, check and push procedures", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	list := &cobra.Command{
		Use: "list", Short: "List the procedures", Args: cobra.NoArgs, Example: "  usher procedure list",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			all, err := cl.Procedures(ctx)
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			rows := [][]string{{"PROCEDURE", "REV", "FOR", "TITLE", "BY", "AT"}}
			for _, p := range all {
				rows = append(rows, []string{p.Name, fmt.Sprint(p.Revision), p.For, p.Title, p.By,
					p.At.Local().Format("2006-01-02 15:04")})
			}
			return a.table(rows)
		}),
	}
	var revision int
	show := &cobra.Command{
		Use: "show PROCEDURE", Short: "Print the text of a procedure", Args: cobra.ExactArgs(1),
		Example: "  usher procedure show tern-line-load --revision 2",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			p, err := cl.Procedure(ctx, args[0], revision)
			if err != nil || a.json {
				return a.jsonOr(p, err)
			}
			fmt.Fprint(a.out, p.Text)
			return nil
		}),
	}
	show.Flags().IntVar(&revision, "revision", 0, "revision (default the newest)")
	var plateFile string
	check := &cobra.Command{
		Use: "check FILE", Short: "Check a procedure without storing it", Args: cobra.ExactArgs(1),
		Long: `Check a procedure: syntax, units, names, setpoints against the nameplate, limits
that nothing feeds. Findings are printed as FILE:LINE:COLUMN: MESSAGE and the exit code is 1. The nameplate
is taken from --nameplate, else from the service if one runs, else from the demo scenario.`,
		Example: "  usher procedure check tern-line-load.yaml\n  usher procedure check mine.yaml --nameplate mine-plate.yaml",
		RunE: func(c *cobra.Command, args []string) error {
			file, err := readProcedure(args[0])
			if err != nil {
				return err
			}
			p, _, err := a.checkHere(c.Context(), file, plateFile, nil)
			if err != nil {
				return a.findings(args[0], err)
			}
			if a.json {
				return a.printJSON(api.Procedure{Name: p.Name, Title: p.Title, For: p.For, Duration: p.Duration()})
			}
			fmt.Fprintf(a.out, "%s: no findings; %d stages, takes about %s\n", args[0], len(p.Stages),
				report.Seconds(p.Duration()))
			return nil
		},
	}
	check.Flags().StringVar(&plateFile, "nameplate", "", "nameplate to check with: a file, or the name of a stored one")
	var why string
	push := &cobra.Command{
		Use: "push FILE", Short: "Store a procedure as its next revision (engineer)", Args: cobra.ExactArgs(1),
		Example: "  usher procedure push tern-line-load.yaml --why \"limit as agreed in March\"",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			file, err := readProcedure(args[0])
			if err != nil {
				return err
			}
			// What is no procedure at all is not even sent.
			if _, err := procedure.ReadHeader(file.text); err != nil {
				return a.findings(args[0], err)
			}
			p, err := cl.PushProcedure(ctx, string(file.text), why)
			if err != nil {
				return a.findings(args[0], err)
			}
			if a.json {
				return a.printJSON(p)
			}
			fmt.Fprintf(a.out, "%s is revision %d.\n", p.Name, p.Revision)
			return nil
		}),
	}
	push.Flags().StringVar(&why, "why", "", "why this revision, for the journal")
	c.AddCommand(list, show, check, push)
	c.AddCommand(a.revisionCommands()...)
	return c
}

// readDocument reads a file, or standard input for "-". One that is far too large is read only as far as the
// check needs to say so.
func readDocument(path string) ([]byte, error) {
	f := os.Stdin
	if path != "-" {
		var err error
		if f, err = os.Open(path); err != nil {
			return nil, err
		}
		defer f.Close()
	}
	return io.ReadAll(io.LimitReader(f, 8*document.LongestDocument))
}

// findNameplate looks for the text of a nameplate: a file, the service, the demo scenario. It is nil if there
// is none, which is a finding of the check.
func (a *app) findNameplate(ctx context.Context, name, file string) ([]byte, error) {
	if file != "" {
		return os.ReadFile(file)
	}
	if cl, err := a.connect(); err == nil {
		if n, err := cl.Nameplate(ctx, name); err == nil {
			return []byte(n.Text), nil
		}
	}
	for _, text := range demo.Nameplates() {
		if n, err := nameplate.Parse([]byte(text)); err == nil && n.Name == name {
			return []byte(text), nil
		}
	}
	return nil, nil
}

// findings prints the findings of a check as FILE:LINE:COLUMN: MESSAGE; other errors go their usual way.
func (a *app) findings(path string, err error) error {
	var found document.Findings
	var p *api.Problem
	switch {
	case errors.As(err, &p) && len(p.Findings) > 0:
		found = p.Findings
	case !errors.As(err, &found):
		return err
	}
	if a.json {
		if err := a.printJSON(map[string]any{"file": path, "findings": found}); err != nil {
			return err
		}
		return exitCode(exitError)
	}
	for _, f := range found {
		fmt.Fprintf(a.err, "%s:%s\n", filepath.ToSlash(path), f.Error())
	}
	return exitCode(exitError)
}

func (a *app) nameplate() *cobra.Command {
	c := &cobra.Command{Use: "nameplate", Short: "List, show and push nameplates", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	list := &cobra.Command{
		Use: "list", Short: "List the nameplates", Args: cobra.NoArgs, Example: "  usher nameplate list",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			all, err := cl.Nameplates(ctx)
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			rows := [][]string{{"NAMEPLATE", "TITLE", "BY", "AT"}}
			for _, n := range all {
				rows = append(rows, []string{n.Name, n.Title, n.By, n.At.Local().Format("2006-01-02 15:04")})
			}
			return a.table(rows)
		}),
	}
	show := &cobra.Command{
		Use: "show NAMEPLATE", Short: "Print the text of a nameplate", Args: cobra.ExactArgs(1),
		Example: "  usher nameplate show tern",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			n, err := cl.Nameplate(ctx, args[0])
			if err != nil || a.json {
				return a.jsonOr(n, err)
			}
			fmt.Fprint(a.out, n.Text)
			return nil
		}),
	}
	push := &cobra.Command{
		Use: "push FILE", Short: "Store a nameplate (engineer)", Args: cobra.ExactArgs(1),
		Example: "  usher nameplate push tern.yaml",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			text, err := readDocument(args[0])
			if err != nil {
				return err
			}
			if _, err := nameplate.Parse(text); err != nil {
				return a.findings(args[0], err)
			}
			n, err := cl.PushNameplate(ctx, string(text))
			if err != nil {
				return a.findings(args[0], err)
			}
			if a.json {
				return a.printJSON(n)
			}
			fmt.Fprintf(a.out, "%s is stored.\n", n.Name)
			return nil
		}),
	}
	check := &cobra.Command{
		Use:   "check FILE",
		Short: "Check a nameplate and show its ratings, those that follow from the chemistry included; no service needed",
		Args:  cobra.ExactArgs(1), Example: "  usher nameplate check gannet.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := readDocument(args[0])
			if err != nil {
				return err
			}
			plate, err := nameplate.Parse(text)
			if err != nil {
				return a.findings(args[0], err)
			}
			if a.json {
				return a.printJSON(map[string]any{"name": plate.Name, "ratings": plate.Ratings, "assumed": plate.Assumed})
			}
			if plate.Battery() {
				fmt.Fprintf(a.out, "%s: %d cells of %s in series, %d in parallel\n", plate.Name, plate.Series, plate.Chemistry.Name,
					plate.Parallel)
			}
			rows := [][]string{{"RATING", "VALUE", "FROM"}}
			for _, name := range slices.Sorted(maps.Keys(plate.Ratings)) {
				from := plate.Assumed[name]
				if from == "" {
					from = "the nameplate"
				}
				rows = append(rows, []string{name, plate.Ratings[name].String(), from})
			}
			return a.table(rows)
		},
	}
	c.AddCommand(list, show, push, check, a.nets())
	return c
}
