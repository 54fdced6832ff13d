package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"usherbench/client"
	"usherbench/core/procedure"
	"usherbench/demo"
	"usherbench/report"
	"usherbench/tables"
)

// revisionCommands are the verbs of procedure that deal with revisions and files.
func (a *app) revisionCommands() []*cobra.Command {
	revisions := &cobra.Command{
		Use: "revisions PROCEDURE", Short: "List the revisions: who, when, why", Args: cobra.ExactArgs(1),
		Example: "  usher procedure revisions tern-line-load",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			all, err := cl.Revisions(ctx, args[0])
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			rows := [][]string{{"REV", "STATE", "BY", "AT", "HASH", "WHY"}}
			for _, p := range all {
				rows = append(rows, []string{fmt.Sprint(p.Revision), stateOf(p), p.By, p.At.Local().Format("2006-01-02 15:04"),
					p.Hash[:min(12, len(p.Hash))], orDash(p.Why)})
			}
			return a.table(rows)
		}),
	}
	var from, to int
	difference := &cobra.Command{
		Use: "difference PROCEDURE", Short: "Compare two revisions line by line", Args: cobra.ExactArgs(1),
		Example: "  usher procedure difference tern-line-load\n  usher procedure difference tern-line-load --from 1 --to 3",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			lines, err := cl.Difference(ctx, args[0], from, to)
			if err != nil || a.json {
				return a.jsonOr(lines, err)
			}
			for _, l := range lines {
				fmt.Fprintf(a.out, "%s %s\n", map[string]string{"same": " ", "old": "-", "new": "+"}[l.Kind], l.Text)
			}
			return nil
		}),
	}
	difference.Flags().IntVar(&from, "from", 0, "older revision (default the one before the newer)")
	difference.Flags().IntVar(&to, "to", 0, "newer revision (default the newest)")
	var folder string
	export := &cobra.Command{
		Use: "export [PROCEDURE …]", Short: "Write procedures as files, for version control",
		Example: "  usher procedure export --to procedures\n  usher procedure export tern-line-load --to .",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if len(args) == 0 {
				all, err := cl.Procedures(ctx)
				if err != nil {
					return err
				}
				for _, p := range all {
					args = append(args, p.Name)
				}
			}
			if err := os.MkdirAll(folder, 0o755); err != nil {
				return err
			}
			for _, name := range args {
				p, err := cl.Procedure(ctx, name, 0)
				if err != nil {
					return err
				}
				path := filepath.Join(folder, p.Name+".yaml")
				if err := os.WriteFile(path, []byte(p.Text), 0o644); err != nil {
					return err
				}
				fmt.Fprintf(a.out, "%s, revision %d\n", path, p.Revision)
			}
			return nil
		}),
	}
	export.Flags().StringVar(&folder, "to", ".", "folder to write to")
	var why string
	imports := &cobra.Command{
		Use: "import FILE|FOLDER …", Short: "Store every procedure of files or folders that differs (engineer)",
		Args: cobra.MinimumNArgs(1),
		Long: "Store procedures from files. One that is equal to the newest revision is left alone; nothing is stored " +
			"when one of them has findings.",
		Example: "  usher procedure import procedures --why \"as in the repository\"",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			return a.importAll(ctx, cl, args, why)
		}),
	}
	imports.Flags().StringVar(&why, "why", "", "why these revisions, for the journal")
	ready := &cobra.Command{
		Use: "ready [PROCEDURE]", Short: "List the procedures to start from, or print one", Args: cobra.MaximumNArgs(1),
		Example: "  usher procedure ready\n  usher procedure ready tern-lockout > mine.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			rows := [][]string{{"PROCEDURE", "FOR", "TITLE"}}
			for _, text := range demo.Procedures() {
				header, err := procedure.ReadHeader([]byte(text))
				if err != nil {
					return err
				}
				if len(args) == 1 && header.Name == args[0] {
					_, err := io.WriteString(a.out, text)
					return err
				}
				rows = append(rows, []string{header.Name, header.For, header.Title})
			}
			if len(args) == 1 {
				return fmt.Errorf("there is no ready procedure %q; list them with: usher procedure ready", args[0])
			}
			return a.table(rows)
		},
	}
	return []*cobra.Command{a.release(), revisions, difference, export, imports, ready}
}

// importAll pushes procedures, after all of them were checked.
func (a *app) importAll(ctx context.Context, cl *client.Client, paths []string, why string) error {
	var files []string
	for _, path := range paths {
		info, err := os.Stat(path)
		if err != nil {
			return err
		}
		if !info.IsDir() {
			files = append(files, path)
			continue
		}
		inside, err := filepath.Glob(filepath.Join(path, "*.yaml"))
		if err != nil {
			return err
		}
		files = append(files, inside...)
	}
	var all []procedureFile
	for _, path := range files {
		f, err := readProcedure(path)
		if err != nil {
			return err
		}
		if _, err := procedure.ReadHeader(f.text); err != nil && strings.Contains(err.Error(), "this is not a procedure") &&
			len(files) > 1 {
			continue // a nameplate in the same folder
		}
		if _, _, err := a.checkHere(ctx, f, "", nil); err != nil {
			return a.findings(path, err)
		}
		all = append(all, f)
	}
	for _, f := range all {
		p, err := cl.PushProcedure(ctx, string(f.text), why)
		if err != nil {
			return a.findings(f.path, err)
		}
		fmt.Fprintf(a.out, "%s is revision %d.\n", p.Name, p.Revision)
	}
	return nil
}

func (a *app) tables() *cobra.Command {
	c := &cobra.Command{Use: "table", Short: "Read, convert and draw tables of setpoints", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	check := &cobra.Command{
		Use: "check FILE", Short: "Check a table, CSV or XLSX", Args: cobra.ExactArgs(1),
		Example: "  usher table check dip.xlsx",
		Long: `Check a table of setpoints. The first row is the header: "time [s]" for absolute
times or "duration [ms]" for the time of each row, then quantities with units, "volts [V]" or "source.volts
[V]". Without a time it is a list of setpoints, for a grid. A mistake is named with its cell.`,
		RunE: func(_ *cobra.Command, args []string) error {
			t, err := readTable(args[0])
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if a.json {
				return a.printJSON(map[string]any{"file": args[0], "rows": t.Len(), "names": t.Names, "seconds": t.Length(),
					"list": t.Listed})
			}
			length := report.Seconds(t.Length()) + " long"
			if t.Listed {
				length = "a list for a grid"
			}
			fmt.Fprintf(a.out, "%s: %d rows, %s, %s\n", args[0], t.Len(), strings.Join(t.Names, ", "), length)
			return nil
		},
	}
	convert := &cobra.Command{
		Use: "convert FROM TO", Short: "Convert a table between CSV and XLSX", Args: cobra.ExactArgs(2),
		Example: "  usher table convert dip.xlsx dip.csv",
		RunE: func(_ *cobra.Command, args []string) error {
			t, err := readTable(args[0])
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			return a.write(args[1], func(w io.Writer) error { return tables.Write(w, t, tables.FormatOf(args[1])) })
		},
	}
	var name, plate string
	draw := &cobra.Command{
		Use: "draw PROCEDURE-FILE TO", Short: "Write the shapes of a stage as a table", Args: cobra.ExactArgs(2),
		Example: "  usher table draw tern-cranking.yaml cranking.xlsx --stage cranking",
		RunE: func(c *cobra.Command, args []string) error {
			file, err := readProcedure(args[0])
			if err != nil {
				return err
			}
			program, _, err := a.checkHere(c.Context(), file, plate, nil)
			if err != nil {
				return a.findings(args[0], err)
			}
			t, err := program.Table(name)
			if err != nil {
				return err
			}
			return a.write(args[1], func(w io.Writer) error { return tables.Write(w, t, tables.FormatOf(args[1])) })
		},
	}
	draw.Flags().StringVar(&name, "stage", "", "stage that plays (default the first)")
	draw.Flags().StringVar(&plate, "nameplate", "", "nameplate: a file, or the name of a stored one")
	c.AddCommand(check, convert, draw)
	return c
}
