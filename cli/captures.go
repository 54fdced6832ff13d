package cli

import (
	"context"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"github.com/guptarohit/asciigraph"
	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/quantity"
	"usherbench/report"
)

// captures lists the captures of a run, draws one, or writes its samples.
func (a *app) captures() *cobra.Command {
	var output, from, to string
	var spectrum, histogram bool
	r := client.Open()
	c := &cobra.Command{
		Use: "captures RUN [NUMBER]", Short: "List the captures of a run, draw one or write its samples",
		Args: cobra.RangeArgs(1, 2),
		Long: `List the captures of a run; with the number of one draw its channels, or write its samples as CSV with -o.
With --spectrum or --histogram it is the frequencies or the values of them, over the part between --from and --to.
Times count from the trigger. RUN is an id, a unique beginning of one, or last.`,
		Example: "  usher captures last\n  usher captures last 2 --from -100us --to 1ms\n" +
			"  usher captures 01K 0 -o start.csv\n  usher captures last 1 --spectrum\n" +
			"  usher captures last 1 --histogram -o values.csv",
		PreRunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 1 && (output != "" || from != "" || to != "" || spectrum || histogram) {
				return usage("say which capture by its number; usher captures %s lists them", args[0])
			}
			if spectrum && histogram {
				return usage("say --spectrum or --histogram; they are two pictures")
			}
			if len(args) == 2 {
				if n, err := strconv.Atoi(args[1]); err != nil || n < 0 {
					return usage("%q is not the number of a capture; they count from 0", args[1])
				}
			}
			return readBounds(from, to, "from the trigger, such as -100us or 2ms", &r.From, &r.To)
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if len(args) == 1 {
				all, err := cl.Captures(ctx, args[0])
				if err != nil || a.json {
					return a.jsonOr(all, err)
				}
				return a.listCaptures(all)
			}
			n, err := strconv.Atoi(args[1])
			if err != nil {
				return err
			}
			if spectrum || histogram {
				all, err := cl.CaptureMakeup(ctx, args[0], n, r)
				switch {
				case err != nil:
					return err
				case output != "":
					return a.write(output, func(w io.Writer) error { return report.WriteMakeup(w, all, spectrum) })
				case a.json:
					return a.printJSON(all)
				}
				a.drawMakeup(all, spectrum)
				return nil
			}
			if output != "" {
				return a.write(output, func(w io.Writer) error { return cl.ExportCapture(ctx, args[0], n, r, w) })
			}
			window, err := cl.Capture(ctx, args[0], n, r, 4*plottedWidth)
			if err != nil || a.json {
				return a.jsonOr(window, err)
			}
			a.drawCapture(window)
			return nil
		}),
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file for the samples as CSV; - is standard output")
	c.Flags().BoolVar(&spectrum, "spectrum", false, "its frequencies")
	c.Flags().BoolVar(&histogram, "histogram", false, "how often each value occurs")
	c.Flags().StringVar(&from, "from", "", "begin, from the trigger")
	c.Flags().StringVar(&to, "to", "", "end, from the trigger")
	return c
}

// readBounds reads the two ends of a stretch; kind says which times they are, with an example.
func readBounds(from, to, kind string, first, last *float64) error {
	for _, bound := range []struct {
		name, text string
		to         *float64
	}{{"--from", from, first}, {"--to", to, last}} {
		if bound.text == "" {
			continue
		}
		q, err := quantity.Parse(bound.text)
		if err != nil || q.Dim != quantity.Time && q.Dim != quantity.Number {
			return usage("%s %q: write a time %s", bound.name, bound.text, kind)
		}
		*bound.to = q.Value
	}
	return nil
}

func (a *app) listCaptures(all []api.Capture) error {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "The run has no captures.")
		return nil
	}
	rows := [][]string{{"NO", "STAGE", "AT", "CHANNEL", "SAMPLES", "SPAN", "LOWEST", "HIGHEST", ""}}
	for _, c := range all {
		for i, k := range c.Channels {
			row := []string{"", "", ""}
			if i == 0 {
				row = []string{strconv.Itoa(c.Index), fmt.Sprintf("%s, %d", c.Stage, c.Of), report.Seconds(c.T)}
			}
			var remarks []string
			if i == 0 && c.Beyond != 0 {
				remarks = append(remarks, inUnit(c.Beyond, k.Unit)+" beyond")
			}
			if k.Clipped {
				remarks = append(remarks, "clipped")
			}
			rows = append(rows, append(row, k.Name, strconv.Itoa(k.Samples), inUnit(float64(k.Samples)*k.Step, "s"),
				inUnit(k.Low, k.Unit), inUnit(k.High, k.Unit), strings.Join(remarks, ", ")))
		}
	}
	return a.table(rows)
}

// inUnit writes a value for people: 12.5 mV.
func inUnit(x float64, symbol string) string {
	unit, err := quantity.ParseUnit(symbol)
	if err != nil {
		return quantity.Sprintf("%.4g %s", x, symbol)
	}
	return quantity.Quantity{Value: x, Dim: unit.Dim}.Format(4)
}

// drawCapture draws each channel with its lowest and highest values.
func (a *app) drawCapture(w api.CaptureWindow) {
	fmt.Fprintf(a.out, "%s, %d   triggered at %s\n", w.Stage, w.Of, report.Seconds(w.T))
	for _, t := range w.Traces {
		if len(t.T) < 2 {
			continue
		}
		first, last := t.T[0], t.T[len(t.T)-1]
		data := [][]float64{along(t.T, t.Low, first, last, math.Min)}
		if t.High != nil {
			data = append(data, along(t.T, t.High, first, last, math.Max))
		}
		fmt.Fprintf(a.out, "\n%s, %s   %s to %s\n%s\n", t.Name, t.Unit, inUnit(first, "s"), inUnit(last, "s"),
			asciigraph.PlotMany(data, asciigraph.Height(plottedHeight), asciigraph.Width(plottedWidth),
				asciigraph.Precision(3)))
	}
}

// drawMakeup draws the spectrum of each channel over the logarithm of the frequency, in powers of ten of its unit, or
// its histogram.
func (a *app) drawMakeup(all []api.Makeup, spectrum bool) {
	for _, m := range all {
		x, y, what, unit := m.Values, m.Shares, "shares of the samples", m.Unit
		if spectrum {
			x, y, what, unit = nil, nil, "powers of ten of "+m.Unit, "Hz"
			for i, amplitude := range m.Amplitudes {
				if amplitude > 0 {
					x, y = append(x, math.Log10(m.Hertz[i])), append(y, math.Log10(amplitude))
				}
			}
		}
		if len(x) < 2 {
			continue
		}
		first, last := x[0], x[len(x)-1]
		data := along(x, y, first, last, math.Max)
		if spectrum {
			first, last = m.Hertz[0], m.Hertz[len(m.Hertz)-1]
		}
		fmt.Fprintf(a.out, "\n%s, %s   %s to %s\n%s\n", m.Name, what, inUnit(first, unit), inUnit(last, unit),
			asciigraph.Plot(data, asciigraph.Height(plottedHeight), asciigraph.Width(plottedWidth), asciigraph.Precision(2)))
	}
}

// along takes the extremes of values over as many columns as are drawn.
func along(t, x []float64, first, last float64, of func(a, b float64) float64) []float64 {
	out := make([]float64, plottedWidth)
	for k := range out {
		out[k] = math.NaN()
	}
	for i := range t {
		k := min(int(float64(plottedWidth)*(t[i]-first)/(last-first)), plottedWidth-1)
		if math.IsNaN(out[k]) {
			out[k] = x[i]
		}
		out[k] = of(out[k], x[i])
	}
	for k := 1; k < len(out); k++ {
		if math.IsNaN(out[k]) {
			out[k] = out[k-1]
		}
	}
	return out
}
