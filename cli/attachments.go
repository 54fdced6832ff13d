package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/quantity"
	"usherbench/report"
)

// attach joins a file to a run.
func (a *app) attach() *cobra.Command {
	var at, note, scale string
	var taken, answer bool
	var about client.Attaching
	c := &cobra.Command{
		Use: "attach RUN FILE", Short: "Join a picture or file to a run at an instant (operator)", Args: cobra.ExactArgs(2),
		Long: `Join a picture (JPEG, PNG, WebP) or file (PDF, plain text, CSV) to a run. It belongs to now, or to the end of a
run that has ended, unless --at says to which instant, or --taken that it is when the file was written. It stays with
the run: beside its curves, and in its report. RUN is an id, a unique beginning of one, or last.`,
		Example: "  usher attach last bus-bars.jpg --note \"left module\"\n" +
			"  usher attach last thermal.png --at 30min --scale 21..64\n" +
			"  usher attach last connector.jpg --answer",
		PreRunE: func(_ *cobra.Command, args []string) error {
			if at != "" && taken {
				return usage("--at and --taken both say when it was; give one of them")
			}
			about.Name, about.Note = filepath.Base(args[1]), note
			return readAttaching(&about, at, scale)
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			file, err := os.Open(args[1])
			if err != nil {
				return err
			}
			defer file.Close()
			if taken {
				info, err := file.Stat()
				if err != nil {
					return err
				}
				about.Taken = info.ModTime()
			}
			joined, err := cl.Attach(ctx, args[0], about, file)
			if err != nil {
				return err
			}
			if answer {
				run, err := cl.Run(ctx, args[0])
				if err != nil {
					return err
				}
				if _, err := cl.Intervene(ctx, run.Bay, api.Intervention{Do: api.DoAnswer,
					Text: strconv.Itoa(joined.Number)}); err != nil {
					return fmt.Errorf("it is joined as number %d, and answered nothing: %w", joined.Number, err)
				}
			}
			return a.done(joined, "joined as number %d: %s, at %s\n", joined.Number, joined.Name, report.Seconds(joined.T))
		}),
	}
	c.Flags().StringVar(&at, "at", "", "the instant, since the start of the run")
	c.Flags().BoolVar(&taken, "taken", false, "the instant is when the file was written")
	c.Flags().StringVar(&note, "note", "", "what is to be seen")
	c.Flags().StringVar(&scale, "scale", "", "what the colours of a thermal picture stand for: COLDEST..HOTTEST, °C")
	c.Flags().BoolVar(&answer, "answer", false, "and answer the run with it, which asks for a picture")
	return c
}

// readAttaching reads the instant and the scale of a file.
func readAttaching(about *client.Attaching, at, scale string) error {
	if at != "" {
		q, err := quantity.Parse(at)
		if err != nil || q.Dim != quantity.Time && q.Dim != quantity.Number {
			return usage("--at %q: write a time since the start, such as 90s or 2min", at)
		}
		about.T = &q.Value
	}
	if scale == "" {
		return nil
	}
	coldest, hottest, both := strings.Cut(scale, "..")
	low, err1 := strconv.ParseFloat(strings.TrimSpace(coldest), 64)
	high, err2 := strconv.ParseFloat(strings.TrimSpace(hottest), 64)
	if !both || err1 != nil || err2 != nil {
		return usage("--scale %q: write two temperatures in °C, such as 21..64", scale)
	}
	about.Scale = &api.ThermalScale{Coldest: low, Hottest: high}
	return nil
}

// attachments lists what was joined to a run, writes one to a file, or takes one away.
func (a *app) attachments() *cobra.Command {
	var output, why string
	var drop bool
	c := &cobra.Command{
		Use: "attachments RUN [NUMBER]", Short: "List the pictures and files of a run, save one or take one away",
		Args: cobra.RangeArgs(1, 2),
		Long: `List the pictures and files that were joined to a run. With the number of one, -o writes it as it was
joined, and --drop takes it away (engineer), for a reason that the journal keeps. RUN is an id, a unique beginning of
one, or last.`,
		Example: "  usher attachments last\n  usher attachments last 2 -o bus-bars.jpg\n" +
			"  usher attachments last 3 --drop --why \"another unit's picture\"",
		PreRunE: func(_ *cobra.Command, args []string) error {
			switch {
			case len(args) == 1 && (output != "" || drop):
				return usage("say which attachment by its number; usher attachments %s lists them", args[0])
			case len(args) == 2 && (output != "") == drop:
				return usage("give -o to save it, or --drop to take it away")
			case drop != (why != ""):
				return usage("--drop and --why go together: nothing is taken from a record without a reason")
			}
			if len(args) == 2 {
				if n, err := strconv.Atoi(args[1]); err != nil || n < 1 {
					return usage("%q is not the number of an attachment; they count from 1", args[1])
				}
			}
			return nil
		},
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if len(args) == 1 {
				all, err := cl.Attachments(ctx, args[0])
				if err != nil || a.json {
					return a.jsonOr(all, err)
				}
				return a.listAttachments(all)
			}
			number, err := strconv.Atoi(args[1])
			if err != nil {
				return err
			}
			if drop {
				if err := cl.DropAttachment(ctx, args[0], number, why); err != nil {
					return err
				}
				return a.done(map[string]int{"dropped": number}, "number %d is taken away; the journal says why\n", number)
			}
			return a.write(output, func(w io.Writer) error { return cl.Attachment(ctx, args[0], number, w) })
		}),
	}
	c.Flags().StringVarP(&output, "output", "o", "", "file for it; - is standard output")
	c.Flags().BoolVar(&drop, "drop", false, "take it away")
	c.Flags().StringVar(&why, "why", "", "why it is taken away")
	return c
}

func (a *app) listAttachments(all []api.Attachment) error {
	if len(all) == 0 {
		fmt.Fprintln(a.out, "Nothing was joined to the run.")
		return nil
	}
	rows := [][]string{{"NO", "AT", "NAME", "IS", "SIZE", "BY", "NOTE"}}
	for _, x := range all {
		rows = append(rows, []string{strconv.Itoa(x.Number), report.Seconds(x.T), x.Name, report.Contents(x),
			fmt.Sprintf("%d kB", (x.Size+999)/1000), x.By, x.Note})
	}
	return a.table(rows)
}
