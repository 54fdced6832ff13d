package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"usherbench/client"
	"usherbench/report"
)

func (a *app) export() *cobra.Command {
	var format, layout, output, from, to, excerpt string
	var with []string
	var r client.Range
	c := &cobra.Command{
		Use: "export RUN --format csv|json|parquet|xlsx -o FILE", Short: "Write the data of a run", Args: cobra.ExactArgs(1),
		Long: `Write the data of a run: csv, parquet and xlsx have a row a frame with units in the
header, json everything on record. --layout battery has time, volts, amps, charge, energy, temperature,
cycle and stage of a battery in place of the quantities of every seat; --layout points a row for each point
of a grid and each row of an acquire or seek. --with adds the time of day, the stage, the setpoints in force,
or run, serial number and procedure to each frame. -o - writes to standard output.`,
		Example: "  usher export last --format csv -o run.csv\n  usher export last --layout battery -o run.parquet\n  " +
			"usher export 01K --format json -o - --from 12s --to 1min\n  " +
			"usher export last --with clock,stage,setpoints -o run.csv\n" +
			"  usher export last --excerpt dip -o dip.csv\n  usher export last --layout points -o points.csv",
		PreRunE: func(*cobra.Command, []string) error {
			if format == "" {
				format = strings.TrimPrefix(filepath.Ext(output), ".")
			}
			if !slices.Contains([]string{"csv", "json", "parquet", "xlsx"}, format) {
				return usage("give --format csv, json, parquet or xlsx")
			}
			if !slices.Contains([]string{"recorded", "battery", "points"}, layout) {
				return usage("--layout %q: choose recorded, battery or points", layout)
			}
			for _, extra := range with {
				if !slices.Contains(report.Extras(), report.Extra(extra)) {
					return usage("--with %q: choose of clock, stage, setpoints, run", extra)
				}
			}
			if len(with) > 0 && (layout != "recorded" || format == "json") {
				return usage("--with adds columns to the frames as they are recorded; leave --layout out, and choose another " +
					"format than json")
			}
			if excerpt != "" && (from != "" || to != "") {
				return usage("an excerpt has its own ends; leave --from and --to out")
			}
			r.With = with
			return readBounds(from, to, "since the start, such as 90s or 2min", &r.From, &r.To)
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) (err error) {
			if excerpt != "" {
				if r.From, r.To, err = boundsOf(ctx, cl, args[0], excerpt); err != nil {
					return err
				}
			}
			return a.write(output, func(w io.Writer) error { return cl.ExportLayout(ctx, args[0], format, layout, r, w) })
		}),
	}
	c.Flags().StringVar(&format, "format", "", "csv, json, parquet or xlsx (default by the file's ending)")
	c.Flags().StringVar(&layout, "layout", "recorded", "rows and columns of the file: recorded, battery or points")
	c.Flags().StringSliceVar(&with, "with", nil, "what else each frame has: clock, stage, setpoints, run")
	c.Flags().StringVarP(&output, "output", "o", "-", "file to write; - is standard output")
	c.Flags().StringVar(&from, "from", "", "begin, since the start of the run")
	c.Flags().StringVar(&to, "to", "", "end, since the start of the run")
	c.Flags().StringVar(&excerpt, "excerpt", "", "name of a part of the run that was kept")
	return c
}

func (a *app) report() *cobra.Command {
	c := &cobra.Command{
		Use: "report RUN -o FILE", Short: "Write the report of a run as PDF or HTML", Args: cobra.ExactArgs(1),
		Long: `Write the report of a run: PDF, or one file of HTML that needs no network and prints well, by the ending of the
file. Paper, language, company and signatures are as the office has set (usher office set) where nothing else is said.`,
		Example: "  usher report last -o report.pdf\n  usher report last -o report.html --language de --paper letter",
	}
	printed, output := printedFlags(c)
	c.RunE = a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
		return a.write(*output, func(w io.Writer) error { return cl.Report(ctx, args[0], *printed, w) })
	})
	return c
}

// printedFlags are the flags of a command that writes a report. Its format is that of the ending of the file.
func printedFlags(c *cobra.Command) (*client.Printed, *string) {
	p, output := &client.Printed{}, new(string)
	c.Flags().StringVarP(output, "output", "o", "", "file to write, .pdf or .html; - is standard output")
	c.Flags().StringVar(&p.Language, "language", "", "of the fixed words: "+strings.Join(report.Languages(), ", "))
	c.Flags().StringVar(&p.Paper, "paper", "", "a4 or letter")
	c.PreRunE = func(*cobra.Command, []string) error {
		if *output == "" {
			return usage("name the file with -o")
		}
		if strings.HasSuffix(strings.ToLower(*output), ".html") {
			p.Format = "html"
		}
		return nil
	}
	return p, output
}

// write writes a whole file or none: what is there already is replaced only when everything came.
func (a *app) write(path string, fill func(io.Writer) error) error {
	if path == "-" {
		return fill(a.out)
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".usher-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // gone already if all went well
	if err := fill(f); err != nil {
		f.Close()
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := os.Chmod(f.Name(), 0o644); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(map[string]string{"file": path})
	}
	fmt.Fprintf(a.out, "Wrote %s\n", path)
	return nil
}
