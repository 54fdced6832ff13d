package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
)

// first answers usher without a command: the steps to a first run where some are left, else the help.
func (a *app) first(c *cobra.Command, _ []string) error {
	cl, err := a.connect()
	var steps []api.FirstStep
	if err == nil {
		steps, err = cl.FirstSteps(c.Context())
	}
	left := slices.ContainsFunc(steps, func(s api.FirstStep) bool { return !s.Done })
	if err != nil || !left && !a.json {
		return c.Help()
	}
	if a.json {
		return a.printJSON(steps)
	}
	a.printFirstSteps(cl, steps)
	return nil
}

func (a *app) printFirstSteps(cl *client.Client, steps []api.FirstStep) {
	fmt.Fprintf(a.out, "The service at %s is ready. To a first run:\n\n", cl.Server)
	next := true
	for _, s := range steps {
		sign := "○"
		if s.Done {
			sign = "●"
		}
		fmt.Fprintf(a.out, "%s %-12s %s\n", sign, s.Step, s.About)
		if !s.Done && next {
			fmt.Fprintf(a.out, "               %s\n", s.Command)
			next = false
		}
	}
	fmt.Fprintln(a.out, "\nAll commands: usher --help")
}
