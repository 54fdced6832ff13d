package cli

import (
	"context"
	"strconv"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/quantity"
)

// statistics tells what the columns of a run, or the channels of a capture, are over a window.
func (a *app) statistics() *cobra.Command {
	var from, to string
	index := -1
	r := client.Open()
	c := &cobra.Command{
		Use: "statistics RUN", Short: "Mean, effective value, extremes, slope and integral over a part of a run",
		Args: cobra.ExactArgs(1),
		Long: `Tell what every column of a run is over a part of it, from every frame: mean, effective value, least and
largest, slope and integral over time. With --capture it is of the channels of a capture, from every sample, with
the dominant frequency; times then count from the trigger. RUN is an id, a unique beginning of one, or last.`,
		Example: "  usher statistics last --from 12s --to 20s\n  usher statistics last --capture 4 --from 0s --to 2ms",
		PreRunE: func(c *cobra.Command, _ []string) error {
			if c.Flags().Changed("capture") && index < 0 {
				return usage("captures count from 0")
			}
			return readBounds(from, to, "from the trigger, such as -100us or 2ms", &r.From, &r.To)
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) (err error) {
			var all []api.Statistic
			if index >= 0 {
				all, err = cl.CaptureStatistics(ctx, args[0], index, r)
			} else {
				all, err = cl.Statistics(ctx, args[0], r)
			}
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			rows := [][]string{{"", "UNIT", "READINGS", "MEAN", "EFFECTIVE", "LEAST", "LARGEST", "SLOPE /s", "INTEGRAL s",
				"FREQUENCY"}}
			for _, x := range all {
				frequency := ""
				if x.Frequency != nil {
					frequency = inUnit(*x.Frequency, "Hz")
				}
				rows = append(rows, []string{x.Name, x.Unit, strconv.Itoa(x.N), orDashOf(x.Mean), orDashOf(x.RMS),
					orDashOf(x.Least), orDashOf(x.Largest), orDashOf(x.Slope), orDashOf(x.Integral), frequency})
			}
			return a.table(rows)
		}),
	}
	c.Flags().IntVar(&index, "capture", -1, "number of a capture of the run")
	c.Flags().StringVar(&from, "from", "", "begin, since the start of the run or from the trigger")
	c.Flags().StringVar(&to, "to", "", "end, since the start of the run or from the trigger")
	return c
}

func orDashOf(x *float64) string {
	if x == nil {
		return "—"
	}
	return quantity.Sprintf("%.5g", *x)
}
