package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"
	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/quantity"
	"usherbench/core/trace"
	"usherbench/rehearsal"
	"usherbench/rehearsal/shelf"
	"usherbench/report"
)

func (a *app) rehearse() *cobra.Command {
	var plateName, fault, serial, out string
	var parameters []string
	c := &cobra.Command{
		Use: "rehearse FILE", Short: "Run a procedure on the model of its unit; nothing is energised",
		Args: cobra.ExactArgs(1),
		Long: `Rehearse a procedure: it runs on the nameplate's model of the unit, in as little
time as the computation takes, and shows curves, figures, duration, energy and heat. No service is needed.
With --fault the unit has a fault. The exit code is the outcome that the run would have.`,
		Example: "  usher rehearse tern-line-load.yaml\n  usher rehearse mine.yaml --nameplate tern --fault " +
			"weak-regulation\n  usher rehearse gannet-capacity.yaml --param out=0.5C --csv curves.csv",
		RunE: func(c *cobra.Command, args []string) error {
			values, err := parameterValues(parameters)
			if err != nil {
				return err
			}
			file, err := readProcedure(args[0])
			if err != nil {
				return err
			}
			program, plate, err := a.checkHere(c.Context(), file, plateName, values)
			if err != nil {
				return a.findings(args[0], err)
			}
			began := time.Now()
			result, err := rehearsal.Run(c.Context(), program, plate, rehearsal.Options{Fault: fault, Serial: serial})
			if err != nil {
				return err
			}
			took := time.Since(began)
			if out != "" {
				if err := a.write(out, func(w io.Writer) error { return curvesCSV(w, result) }); err != nil {
					return err
				}
			}
			r := shelf.Shown(result, program)
			r.Fault, r.Took, r.At = fault, took.Seconds(), began
			if plate != nil {
				r.Nameplate = plate.Name
			}
			if a.json {
				if err := a.printJSON(r); err != nil {
					return err
				}
			} else if err := a.printRehearsal(r, result); err != nil {
				return err
			}
			return codeOf(r.Outcome, false)
		},
	}
	c.Flags().StringVar(&plateName, "nameplate", "", "nameplate of the unit: a file, or the name of a stored one")
	c.Flags().StringVar(&fault, "fault", "", "fault of the unit, such as weak-regulation")
	c.Flags().StringVar(&serial, "serial", "", "serial number that draws the unit's tolerances (default nominal values)")
	c.Flags().StringVar(&out, "csv", "", "file for the curves, - for standard output")
	c.Flags().StringArrayVar(&parameters, "param", nil, "value of a parameter, as name=value; may be repeated")
	return c
}

func parameterValues(parameters []string) (map[string]string, error) {
	values := map[string]string{}
	for _, p := range parameters {
		name, value, ok := strings.Cut(p, "=")
		if !ok {
			return nil, usage("--param %q: write it like top=6A", p)
		}
		values[name] = value
	}
	return values, nil
}

func curvesCSV(w io.Writer, r *rehearsal.Result) error {
	out := csv.NewWriter(w)
	header := []string{"time [s]"}
	for _, c := range r.Columns {
		header = append(header, fmt.Sprintf("%s [%s]", c, trace.UnitOf(c).Symbol))
	}
	if err := out.Write(header); err != nil {
		return err
	}
	for k, t := range r.T {
		row := []string{strconv.FormatFloat(t, 'g', -1, 64)}
		for i, c := range r.Columns {
			row = append(row, strconv.FormatFloat(r.Values[i][k]/trace.UnitOf(c).Factor, 'g', 9, 64))
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// printRehearsal shows a rehearsal for people.
func (a *app) printRehearsal(r api.Rehearsal, result *rehearsal.Result) error {
	unit := "a healthy unit"
	if r.Fault != "" {
		unit = "a unit with the fault " + r.Fault
	}
	word := r.Outcome
	if word == "" {
		word = "no limits"
	}
	fmt.Fprintf(a.out, "%s %s   rehearsal of %s on %s, nameplate %s\n", report.Sign(r.Outcome), word, r.Procedure, unit,
		r.Nameplate)
	if r.Reason != "" {
		fmt.Fprintf(a.out, "  %s\n", r.Reason)
	}
	fmt.Fprint(a.out, quantity.Sprintf("  takes %s, draws %.4g Wh, of which %.4g Wh stay in the unit as heat",
		report.Seconds(r.Duration), r.Energy, r.Heat))
	if r.Hottest != nil {
		fmt.Fprintf(a.out, "; hottest %.1f °C", *r.Hottest)
	}
	fmt.Fprint(a.out, quantity.Sprintf("\n  computed in %.2g s\n\n", r.Took))
	for _, group := range [][]string{{"volts", "V"}, {"amps", "A"}} {
		a.plotRehearsed(result, group[0], group[1])
	}
	rows := [][]string{{"STAGE", "KIND", "BEGINS", "TAKES"}}
	for _, s := range result.Spans {
		rows = append(rows, []string{s.Name, s.Kind, report.Seconds(s.T0), report.Seconds(s.T1 - s.T0)})
	}
	if len(rows) > 40 {
		rows = append(rows[:39], []string{fmt.Sprintf("… and %d more", len(rows)-39)})
	}
	if err := a.table(rows); err != nil {
		return err
	}
	if len(r.Figures) == 0 {
		return nil
	}
	fmt.Fprintln(a.out)
	return a.printFigures(r.Figures)
}

// plotted is the width and height of a curve in the terminal.
const plottedWidth, plottedHeight = 90, 8

// plotRehearsed draws the traces of one quantity over time.
func (a *app) plotRehearsed(r *rehearsal.Result, q, unit string) {
	var data [][]float64
	var names []string
	for _, c := range r.Columns {
		if _, of, _ := strings.Cut(c, "."); of != q || strings.HasPrefix(c, "meter") {
			continue
		}
		s := r.Column(c)
		var xs []float64
		for k := range plottedWidth {
			t := r.Duration * float64(k) / (plottedWidth - 1)
			if x := s.At(min(max(t, s.T[0]), s.T[len(s.T)-1])); x == x {
				xs = append(xs, x)
			}
		}
		data, names = append(data, xs), append(names, c)
	}
	if len(data) == 0 {
		return
	}
	fmt.Fprintf(a.out, "%s   %s   0 to %s\n%s\n\n", unit, strings.Join(names, ", "), report.Seconds(r.Duration),
		asciigraph.PlotMany(data, asciigraph.Height(plottedHeight), asciigraph.Width(plottedWidth)))
}

func (a *app) deviations() *cobra.Command {
	return &cobra.Command{
		Use: "deviations RUN", Short: "Compare a run with its rehearsal", Args: cobra.ExactArgs(1),
		Long: `Rehearse what a run ran, on healthy units, and show where the run left what they do:
traces, the time of stages, figures. RUN is an id, a unique beginning of one, or last.`,
		Example: "  usher deviations last",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			r, err := cl.RunRehearsal(ctx, args[0])
			if err != nil || a.json {
				return a.jsonOr(r, err)
			}
			if len(r.Deviations) == 0 {
				fmt.Fprintf(a.out, "The run lies where healthy units lie; rehearsed were %s.\n", report.Seconds(r.Duration))
				return nil
			}
			rows := [][]string{{"FROM", "TO", "WHAT"}}
			for _, d := range r.Deviations {
				from, to := report.Seconds(d.T0), report.Seconds(d.T1)
				if d.What == "figure" {
					from, to = "—", "—"
				}
				rows = append(rows, []string{from, to, d.Words})
			}
			return a.table(rows)
		}),
	}
}

func (a *app) judge() *cobra.Command {
	var j api.JudgeAgain
	var file string
	c := &cobra.Command{
		Use: "judge RUN | --lot LOT", Short: "Compute figures and outcomes anew from the record (engineer)",
		Args: cobra.MaximumNArgs(1),
		Long: `Judge a run, or every run of a lot, again: by the procedure that ran, or by a
changed one with other figures or limits. The record is never changed. Both judgements stay on record; with
--adopt the new figures become those of the run.`,
		Example: "  usher judge last --procedure tern-line-load.yaml\n  usher judge --lot L-2026-11 --procedure " +
			"stricter.yaml --why \"limit agreed in March\" --adopt",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if len(args) == 1 {
				j.Run = args[0]
			}
			if (j.Run == "") == (j.Lot == "") {
				return usage("name a run, or a lot with --lot")
			}
			if file != "" {
				f, err := readProcedure(file)
				if err != nil {
					return err
				}
				j.Text = string(f.text)
			}
			all, err := cl.Judge(ctx, j)
			if err != nil {
				return a.findings(file, err)
			}
			if a.json {
				return a.printJSON(all)
			}
			return a.printJudgements(all, j.Adopt)
		}),
	}
	c.Flags().StringVar(&j.Lot, "lot", "", "judge every run of this lot")
	c.Flags().StringVar(&file, "procedure", "", "file with the changed procedure (default the one that ran)")
	c.Flags().StringVar(&j.Why, "why", "", "why, for the journal")
	c.Flags().BoolVar(&j.Adopt, "adopt", false, "make the new figures those of the run")
	return c
}

func (a *app) printJudgements(all []api.Judgement, adopted bool) error {
	different := 0
	for _, j := range all {
		if j.Before != j.Outcome {
			different++
		}
		fmt.Fprintf(a.out, "%s %s   %s, run %s: %s → %s\n", report.Sign(j.Outcome), j.Serial,
			j.At.Local().Format("2006-01-02 15:04"), j.Run, orDash(j.Before), orDash(j.Outcome))
		for _, change := range j.Changes {
			fmt.Fprintf(a.out, "    %s\n", change)
		}
	}
	kept := "The outcomes of the runs stay as they were; --adopt makes these theirs."
	if adopted {
		kept = "These are now the outcomes of the runs; the earlier ones stay on record."
	}
	fmt.Fprintf(a.out, "\n%d judged, %d with another outcome. %s\n", len(all), different, kept)
	return nil
}
