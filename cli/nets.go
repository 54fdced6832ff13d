package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"usherbench/client"
	"usherbench/core/record"
	"usherbench/core/wiring"
)

// nets is the command that makes the nets of a harness for its nameplate.
func (a *app) nets() *cobra.Command {
	var run string
	c := &cobra.Command{
		Use: "nets [FILE]", Short: "Print the nets of a harness from a list, or from the scan of a good one",
		Long: "Print the nets of a harness as its nameplate has them: from a list as CSV, in which a row joins its pins,\n" +
			"or from the last scan of a run of a harness that is known to be good. Look at what was learned before it goes\n" +
			"into a nameplate: every other harness is judged by it.",
		Args:    cobra.MaximumNArgs(1),
		Example: "  usher nameplate nets lantern-lead.csv >> lantern-lead.yaml\n  usher nameplate nets --run last",
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case len(args) == 1 && run != "", len(args) == 0 && run == "":
				return usage("name a list of nets, or with --run a run of a good harness")
			case run != "":
				return a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
					nets, err := learned(ctx, cl, run)
					return a.printNets(nets, err)
				})(c, nil)
			}
			f, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer f.Close()
			nets, err := wiring.ReadNets(f)
			if err != nil {
				err = fmt.Errorf("%s: %w", args[0], err)
			}
			return a.printNets(nets, err)
		},
	}
	c.Flags().StringVar(&run, "run", "", "run of a harness that is known to be good; last is the last one")
	return c
}

// learned are the nets of the last scan of a run.
func learned(ctx context.Context, cl *client.Client, id string) ([]wiring.Net, error) {
	run, err := cl.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	for i := len(run.Marks) - 1; i >= 0; i-- {
		if s, is := run.Marks[i].About.(record.Scanned); is {
			return s.Learned()
		}
	}
	return nil, fmt.Errorf("nothing was scanned in run %s; name one with the stage wiring", id)
}

func (a *app) printNets(nets []wiring.Net, err error) error {
	if err != nil || a.json {
		return a.jsonOr(nets, err)
	}
	fmt.Fprint(a.out, wiring.NetsText(nets))
	return nil
}
