package cli

import (
	"context"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
)

func (a *app) preflight() *cobra.Command {
	var start api.StartRun
	var parameters map[string]string
	c := &cobra.Command{
		Use:   "preflight PROCEDURE --bay BAY --serial SERIAL",
		Short: "Check procedure, unit and bay without energising anything", Args: cobra.ExactArgs(1),
		Long: `Check whether a run could start: instruments, calibration, ranges, protections,
polarity and voltage of the unit, interlock, disk. The same checks are made before every run. Exit code 0:
nothing blocks; 1: something does.`,
		Example: "  usher preflight tern-line-load --bay bay1 --serial TN-2208",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if start.Bay == "" || start.Serial == "" {
				return usage("name the bay and the unit: --bay bay1 --serial TN-2208")
			}
			start.Procedure, start.Parameters = args[0], parameters
			p, err := cl.Preflight(ctx, start)
			if err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(p)
			} else {
				err = a.printFindings(p.Findings)
			}
			if err == nil && p.Blocked {
				err = exitCode(exitError)
			}
			return err
		}),
	}
	c.Flags().StringVar(&start.Bay, "bay", "", "bay")
	c.Flags().StringVar(&start.Serial, "serial", "", "serial number of the unit")
	c.Flags().IntVar(&start.Revision, "revision", 0, "revision of the procedure (default the newest)")
	c.Flags().StringToStringVar(&parameters, "param", nil, "value for a parameter, top=6A")
	return c
}

func (a *app) printFindings(findings []api.PreflightFinding) error {
	rows := [][]string{{"VERDICT", "CHECK", "FINDING"}}
	for _, verdict := range []api.Verdict{api.Blocks, api.Warns, api.Fine} {
		for _, f := range findings {
			if f.Verdict != verdict {
				continue
			}
			rows = append(rows, []string{findingSigns[verdict], f.Check, f.What})
			if f.Remedy != "" {
				rows = append(rows, []string{"", "", "→ " + remedy(f)})
			}
		}
	}
	return a.table(rows)
}

// remedy is what to do about a finding, at the command line.
func remedy(f api.PreflightFinding) string {
	if f.Vouch && f.Verdict == api.Blocks {
		return f.Remedy + " (usher run … --vouch " + f.Check + ")"
	}
	return f.Remedy
}
