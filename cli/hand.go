package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/oklog/ulid/v2"
	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/quantity"
	"usherbench/core/stage"
)

// byHand are the verbs for what people do to a live run.
func (a *app) byHand() []*cobra.Command {
	verb := func(use, short, long, example string, args int, make func(args []string) (api.Intervention,
		error)) *cobra.Command {
		return &cobra.Command{
			Use: use, Short: short, Long: long, Example: example, Args: cobra.MinimumNArgs(args),
			RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
				i, err := make(args)
				if err != nil {
					return err
				}
				name, err := bayOf(ctx, cl, args[0])
				if err != nil {
					return err
				}
				bay, err := cl.Intervene(ctx, name, i)
				if err != nil || a.json {
					return a.jsonOr(bay, err)
				}
				fmt.Fprintln(a.out, situation(bay))
				return nil
			}),
		}
	}
	plain := func(do api.Doing) func([]string) (api.Intervention, error) {
		return func([]string) (api.Intervention, error) { return api.Intervention{Do: do}, nil }
	}
	text := func(do api.Doing) func([]string) (api.Intervention, error) {
		return func(args []string) (api.Intervention, error) {
			return api.Intervention{Do: do, Text: strings.Join(args[1:], " ")}, nil
		}
	}
	return []*cobra.Command{
		verb("pause BAY", "Hold a run: setpoints stay, guards go on (operator)",
			`Hold a run where it is. Setpoints stay and guards go on. A charge or discharge has
its output switched off meanwhile, since a battery does not stand still.`, "  usher pause bay1", 1, plain(api.DoPause)),
		verb("resume BAY", "Go on with a paused run (operator)", "", "  usher resume bay1", 1, plain(api.DoResume)),
		verb("skip BAY", "End the present stage as if it had reached what it waits for (operator)", "", "  usher skip bay1",
			1, plain(api.DoSkip)),
		verb("extend BAY TIME", "Make the present hold longer, or shorter with a minus (operator)", "",
			"  usher extend bay1 10min\n  usher extend bay1 -- -30s", 2,
			func(args []string) (api.Intervention, error) {
				q, err := quantity.Parse(strings.TrimPrefix(args[1], "-"))
				if err != nil || q.Dim != quantity.Time {
					return api.Intervention{}, usage("%q is not a time; write it like 10min", args[1])
				}
				if strings.HasPrefix(args[1], "-") {
					q.Value = -q.Value
				}
				return api.Intervention{Do: api.DoExtend, Seconds: q.Value}, nil
			}),
		verb("note BAY TEXT", "Write a note at this instant of the run (operator)", "",
			"  usher note bay1 \"fan switched on\"", 2, text(api.DoNote)),
		verb("label BAY STATE", "Say in which state the unit is from now on (operator)",
			"Say in which state the unit is from now on, to the next state: figures tell its charge and its current by state.\n"+
				"A program that tests a device says so through this, or through the API. A run may be named in place of its bay.",
			"  usher label bay1 transmit\n  usher label 01M8SWEBHH803FBJCADV5QRYGX sleep", 2, text(api.DoLabel)),
		verb("request BAY COLUMN=VALUE", "Say what the unit is asked for from now on (operator)",
			"Say what the unit is asked for from now on, in a column that the procedure lists under asked. A program that\n"+
				"drives a device says so through this, or through the API: it is recorded beside the current.",
			"  usher request bay1 unit.percent=30%", 2,
			func(args []string) (api.Intervention, error) {
				column, value, ok := strings.Cut(args[1], "=")
				if !ok {
					return api.Intervention{}, usage("%q: write it like unit.percent=30%%", args[1])
				}
				return api.Intervention{Do: api.DoRequest, Parameter: column, Value: value}, nil
			}),
		verb("answer BAY TEXT", "Answer what the run asks (operator)",
			"Answer the prompt of a run: yes or no, a number, one of the choices, a text; take or done where readings "+
				"are taken one by one.",
			"  usher answer bay1 yes\n  usher answer bay1 23.5\n  usher answer bay1 take", 2, text(api.DoAnswer)),
		verb("adjust BAY NAME=VALUE", "Change a parameter of the run that the procedure marks as adjustable (operator)", "",
			"  usher adjust bay1 level=4A", 2,
			func(args []string) (api.Intervention, error) {
				name, value, ok := strings.Cut(args[1], "=")
				if !ok {
					return api.Intervention{}, usage("%q: write it like level=4A", args[1])
				}
				return api.Intervention{Do: api.DoAdjust, Parameter: name, Value: value}, nil
			}),
	}
}

// bayOf is the bay of that name, or that in which a run of that number is live.
func bayOf(ctx context.Context, cl *client.Client, name string) (string, error) {
	if _, err := ulid.ParseStrict(name); err != nil {
		return name, nil
	}
	run, err := cl.Run(ctx, name)
	switch {
	case err != nil:
		return "", err
	case run.State != "live":
		return "", fmt.Errorf("run %s has ended: %s; nothing can be done to it any longer", name, run.State)
	}
	return run.Bay, nil
}

// situation says in a line how the run of a bay stands.
func situation(b api.Bay) string {
	p := b.Progress
	if p == nil {
		return b.Name + " is " + string(b.State)
	}
	return b.Name + ": " + standing(b)
}

// standing says how far a run is: its stage, what that waits for, and what is asked.
func standing(b api.Bay) string {
	p := b.Progress
	line := p.Name
	if p.Detail != "" {
		line += ", " + p.Detail
	}
	if p.Paused {
		line += ", paused"
	}
	if b.Prompt != nil {
		line += "; it asks: " + promptWords(*b.Prompt)
	}
	return line
}

// promptWords is a prompt with what may be answered.
func promptWords(a stage.Ask) string {
	words := a.Text
	switch a.Form {
	case stage.AskConfirm:
		words += " (yes or no)"
	case stage.AskChoice:
		words += " (" + strings.Join(a.Choice, ", ") + ")"
	case stage.AskTake:
		words += fmt.Sprintf(" (take, or done; %d taken, %d at least)", a.Take.Taken, a.Take.Least)
	case stage.AskPicture:
		words += " (join one with usher attach RUN FILE --answer)"
	case stage.AskNumber:
		words += " (a number in " + a.Unit + ")"
	}
	return words
}
