package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
)

func (a *app) queue() *cobra.Command {
	var bay string
	c := &cobra.Command{
		Use: "queue", Short: "Show and change what waits in line for the bays", Args: cobra.NoArgs,
		Long: `Runs wait in line for their bay and begin one after another, by themselves where a
unit handler changes the unit. Where a person does, the line holds until somebody says that the unit is in
place.`,
		Example: "  usher queue\n  usher queue add gannet-cell-capacity --bays bay1,bay2,bay3,bay4 --serials " +
			"GC-001..GC-024 --lot C-2026-11\n  usher queue release 7",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
			all, err := cl.Queue(ctx, bay)
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			return a.printQueue(all)
		}),
	}
	c.Flags().StringVar(&bay, "bay", "", "only this bay")
	c.AddCommand(a.queueAdd(), a.queueChange("remove", "Take a run out of the line (operator)",
		func(ctx context.Context, cl *client.Client, id uint) (string, error) {
			return "is out of the line", cl.Dequeue(ctx, id)
		}), a.queueChange("release",
		"Let a held run begin: its unit is in place, or what stood in the way is mended (operator)",
		func(ctx context.Context, cl *client.Client, id uint) (string, error) {
			w, err := cl.Release(ctx, id)
			return fmt.Sprintf("may begin: %s on %s in %s", w.Procedure, w.Serial, w.Bay), err
		}))
	return c
}

func (a *app) printQueue(all []api.Waiting) error {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "Nothing waits.")
		return nil
	}
	rows := [][]string{{"NO", "BAY", "UNIT", "LOT", "PROCEDURE", "BEGINS", "BY"}}
	var held []string
	for _, w := range all {
		begins := "in its turn"
		switch {
		case w.Held != "":
			begins = "held, see below"
			held = append(held, fmt.Sprintf("%d is held: %s", w.ID, w.Held))
			if len(w.Asks) > 0 {
				held = append(held, fmt.Sprintf("   → who has looked vouches for it with: usher queue release %d", w.ID))
			}
		case w.NotBefore != nil:
			begins = "from " + w.NotBefore.Local().Format("2006-01-02 15:04")
		}
		rows = append(rows, []string{fmt.Sprint(w.ID), w.Bay, w.Serial, orDash(w.Lot), w.Procedure, begins, w.By})
	}
	if err := a.table(rows); err != nil {
		return err
	}
	for _, words := range held {
		fmt.Fprintln(a.out, words)
	}
	return nil
}

func (a *app) queueAdd() *cobra.Command {
	var e api.Enqueue
	var serials, parameters []string
	var at string
	c := &cobra.Command{
		Use: "add PROCEDURE … --bays BAY,… --serials SERIAL,…", Short: "Put units in line (operator)",
		Args: cobra.MinimumNArgs(1),
		Long: `Put units in line. They are dealt out over the bays in order; each goes through
every procedure, one after the other, in its bay. A range of serial numbers counts up: GC-001..GC-024.`,
		Example: "  usher queue add gannet-cell-capacity --bays bay1,bay2 --serials GC-001..GC-024 --lot C-2026-11\n  " +
			"usher queue add gannet-capacity gannet-storage --bays bay3 --serials GP-303 --at 22:00",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			var err error
			if e.Serials, err = serialRange(serials); err != nil {
				return err
			}
			if e.Parameters, err = parameterValues(parameters); err != nil {
				return err
			}
			if at != "" {
				when, err := moment(at, time.Now())
				if err != nil {
					return err
				}
				e.NotBefore = &when
			}
			e.Procedures = args
			all, err := cl.Enqueue(ctx, e)
			if err != nil || a.json {
				return a.jsonOr(all, err)
			}
			return a.printQueue(all)
		}),
	}
	c.Flags().StringSliceVar(&e.Bays, "bays", nil, "bays that the units are dealt out over")
	c.Flags().StringSliceVar(&serials, "serials", nil, "serial numbers, or ranges such as GC-001..GC-024")
	c.Flags().StringVar(&e.Lot, "lot", "", "lot of the units")
	c.Flags().StringArrayVar(&parameters, "param", nil, "value of a parameter, as name=value; may be repeated")
	c.Flags().StringVar(&at, "at", "", "begin not before this time: 22:00, or 2026-03-31 22:00")
	return c
}

func (a *app) queueChange(verb, short string, do func(context.Context, *client.Client, uint) (string,
	error)) *cobra.Command {
	return &cobra.Command{
		Use: verb + " NO", Short: short, Args: cobra.ExactArgs(1), Example: "  usher queue " + verb + " 7",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			id, err := strconv.ParseUint(args[0], 10, 32)
			if err != nil {
				return usage("%q is no number of a run in line; see usher queue", args[0])
			}
			words, err := do(ctx, cl, uint(id))
			if err != nil || a.json {
				return a.jsonOr(map[string]uint64{"id": id}, err)
			}
			fmt.Fprintf(a.out, "No %d %s.\n", id, words)
			return nil
		}),
	}
}

// mostSerials bounds a range.
const mostSerials = 2000

// serialRange writes ranges out: GC-001..GC-024.
func serialRange(texts []string) ([]string, error) {
	var all []string
	for _, text := range texts {
		first, last, ranged := strings.Cut(strings.TrimSpace(text), "..")
		if !ranged {
			all = append(all, first)
			continue
		}
		i := len(first)
		for i > 0 && first[i-1] >= '0' && first[i-1] <= '9' {
			i--
		}
		word, digits := first[:i], first[i:]
		from, err1 := strconv.Atoi(digits)
		to, err2 := strconv.Atoi(strings.TrimPrefix(last, word))
		if err1 != nil || err2 != nil || to < from || to-from >= mostSerials {
			return nil, usage("--serials %q: a range counts up from one number to another, such as GC-001..GC-024", text)
		}
		for n := from; n <= to; n++ {
			all = append(all, fmt.Sprintf("%s%0*d", word, len(digits), n))
		}
	}
	return all, nil
}

// moment reads a time of day, today or tomorrow, or a date with a time, in local time.
func moment(text string, now time.Time) (time.Time, error) {
	if at, err := time.ParseInLocation("2006-01-02 15:04", text, time.Local); err == nil {
		return at, nil
	}
	clock, err := time.ParseInLocation("15:04", text, time.Local)
	if err != nil {
		return time.Time{}, usage("--at %q: write it like 22:00, or 2026-03-31 22:00", text)
	}
	at := time.Date(now.Year(), now.Month(), now.Day(), clock.Hour(), clock.Minute(), 0, 0, time.Local)
	if !at.After(now) {
		at = at.AddDate(0, 0, 1)
	}
	return at, nil
}
