package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
)

func (a *app) benchDrill() *cobra.Command {
	yes, last := false, false
	c := &cobra.Command{
		Use: "drill [BAY]", Short: "Have the service stand still on purpose, to see the warden switch the outputs off",
		Args: cobra.MaximumNArgs(1),
		Long: "Have the service give no sign of life on purpose, or stall one bay, as if it hung, and see how fast the\n" +
			"warden switches the outputs off. Live runs end by it, or go on after a rest where their procedures allow that.",
		Example: "  usher bench set bay1 source.output=on\n  usher bench drill bay1 --yes\n  usher bench drill --yes\n" +
			"  usher bench drill --last",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			switch {
			case last:
				d, err := cl.LastDrill(ctx)
				if err != nil || a.json {
					return a.jsonOr(d, err)
				}
				fmt.Fprintln(a.out, lastDrill(d))
				return nil
			case !yes:
				return usage("the drill ends live runs; give --yes if that is meant")
			case len(args) == 1:
				d, err := cl.Drill(ctx, args[0])
				if err != nil || a.json {
					return a.jsonOr(d, err)
				}
				fmt.Fprintln(a.out, drillWords(d))
				return nil
			}
			all, err := cl.DrillHouse(ctx)
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			for _, d := range all.Bays {
				fmt.Fprintln(a.out, drillWords(d))
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&yes, "yes", false, "live runs may end by it")
	c.Flags().BoolVar(&last, "last", false, "only say when the last drill was")
	return c
}

func drillWords(d api.Drill) string {
	return fmt.Sprintf("The warden switched %s off, %.0f ms after the stall began: %s.", d.Bay, d.OffAfter*1000,
		strings.Join(d.Off, ", "))
}

// lastDrill says when the last drill was.
func lastDrill(d api.Drills) string {
	if d.At == nil {
		return "The warden has had no drill yet: usher bench drill"
	}
	return fmt.Sprintf("The warden passed its last drill on %s (%s): %s.", d.At.Local().Format(time.DateTime), d.By,
		d.Words)
}
