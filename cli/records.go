package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service"
	"usherbench/store"
)

func (a *app) check() *cobra.Command {
	return &cobra.Command{
		Use: "check [FILE]", Short: "Read all records and say whether they are whole", Args: cobra.MaximumNArgs(1),
		Long: "Read the whole database and say whether it is the file that was opened and nothing in it is damaged, and\n" +
			"hold every entry of the journal against its seal. The service works on meanwhile. With a file it is a copy\n" +
			"that is read so; no service is needed for that.",
		Example: "  usher check\n  usher check monday.db",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				return a.checkFile(c.Context(), args[0])
			}
			return a.withClient(a.checkRecords)(c, args)
		},
	}
}

func (a *app) checkRecords(ctx context.Context, cl *client.Client, _ []string) error {
	v, err := cl.CheckRecords(ctx)
	if err != nil {
		return err
	}
	if a.json {
		err = a.printJSON(v)
	} else if v.Whole && v.Journal.Broken == 0 {
		fmt.Fprintf(a.out, "● The records are whole, and %d entries of the journal are as they were written.\n",
			v.Journal.Entries)
	}
	switch {
	case err != nil:
		return err
	case !v.Whole:
		return errors.New(v.Why)
	case v.Journal.Broken != 0:
		return errors.New(v.Journal.Why)
	}
	return nil
}

// checkFile reads a copy of records whole.
func (a *app) checkFile(ctx context.Context, file string) error {
	found, err := inspected(ctx, file)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(found)
	}
	fmt.Fprintf(a.out, "● %s is whole: %s.\n", file, holds(found))
	return nil
}

// inspected is what a file holds.
func inspected(ctx context.Context, file string) (api.RecordsCopy, error) {
	found, err := store.Inspect(ctx, file)
	if err != nil {
		return api.RecordsCopy{}, err
	}
	info, err := os.Stat(file)
	if err != nil {
		return api.RecordsCopy{}, err
	}
	return api.RecordsCopy{File: file, At: found.Newest, Bytes: info.Size(), Runs: found.Runs, Entries: found.Entries,
		Schema: found.Schema}, nil
}

func holds(c api.RecordsCopy) string {
	words := fmt.Sprintf("%s, %d entries of the journal, %s", runsWords(c.Runs), c.Entries, bytesWords(c.Bytes))
	if !c.At.IsZero() {
		words += ", to " + c.At.Local().Format(time.DateTime)
	}
	return words
}

func runsWords(n int) string {
	if n == 1 {
		return "1 run"
	}
	return fmt.Sprintf("%d runs", n)
}

func bytesWords(n int64) string {
	x, unit := float64(n), "B"
	for _, next := range []string{"kB", "MB", "GB", "TB"} {
		if x < 1000 {
			break
		}
		x, unit = x/1000, next
	}
	if unit == "B" {
		return fmt.Sprintf("%d B", n)
	}
	return fmt.Sprintf("%.1f %s", x, unit)
}

func (a *app) backup() *cobra.Command {
	return &cobra.Command{
		Use: "backup [FILE]", Short: "Copy all records into a file while the service works (admin)",
		Args: cobra.MaximumNArgs(1),
		Long: `Copy all records as they are now into one file, while the service works on and runs record. The file is
read whole before it is called one. It holds all accounts as well: keep it as you keep the records. Put back
by usher restore.

Without a file: the copies that the service makes by itself (copies: in its configuration).`,
		Example: "  usher backup monday.db\n  usher backup",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if len(args) == 0 {
				return a.listCopies(ctx, cl)
			}
			found, err := a.copyTo(ctx, cl, args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(found)
			}
			fmt.Fprintf(a.out, "● Wrote %s: %s. It was read whole.\n", args[0], holds(found))
			return nil
		}),
	}
}

// copyTo writes a copy of all records into a file that there is not yet.
func (a *app) copyTo(ctx context.Context, cl *client.Client, file string) (found api.RecordsCopy, err error) {
	if _, err := os.Stat(file); err == nil {
		return found, fmt.Errorf("%s: %w; nothing is written over a copy: choose another name", file, fs.ErrExist)
	}
	f, err := os.CreateTemp(filepath.Dir(file), ".usher-*") // nobody else reads it
	if err != nil {
		return found, err
	}
	defer os.Remove(f.Name()) // gone already if all went well
	if err := errors.Join(cl.CopyRecords(ctx, f), f.Sync(), f.Close()); err != nil {
		return found, err
	}
	if found, err = inspected(ctx, f.Name()); err != nil {
		return found, fmt.Errorf("the copy that came is not whole: %w", err)
	}
	found.File = file
	return found, os.Rename(f.Name(), file)
}

func (a *app) listCopies(ctx context.Context, cl *client.Client) error {
	all, err := cl.Copies(ctx)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(all)
	}
	if all.Folder == "" {
		fmt.Fprintln(a.out, "The service makes no copies by itself. Say so with copies: in its configuration.")
		return nil
	}
	every, err := all.Every.MarshalText()
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "A copy every %s in %s; %d are kept.\n", every, all.Folder, all.Keep)
	for _, c := range all.Copies {
		fmt.Fprintf(a.out, "  %s  %8s  %s\n", c.At.Local().Format(time.DateTime), bytesWords(c.Bytes),
			filepath.Base(c.File))
	}
	if all.Why != "" {
		return fmt.Errorf("the last copy could not be made: %s", all.Why)
	}
	return nil
}

func (a *app) restore() *cobra.Command {
	return &cobra.Command{
		Use: "restore FILE", Short: "Put a copy back as the records of a service that is stopped", Args: cobra.ExactArgs(1),
		Long: `Make a copy the records of the data folder (--data), which no service may use meanwhile. The copy is read
whole before anything is touched; the records that are there are moved aside into a folder beside them, and
the copy stays.

A copy of an older program is brought up to date when the service starts; one of a newer program is refused.`,
		Example: "  usher restore monday.db --data bench",
		RunE: func(c *cobra.Command, args []string) error {
			data := a.dataFolder()
			found, aside, err := service.PutBack(c.Context(), args[0], data, time.Now())
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(map[string]any{"file": args[0], "data": data, "aside": aside, "runs": found.Runs,
					"entries": found.Entries, "schema": found.Schema, "newest": found.Newest})
			}
			fmt.Fprintf(a.out, "● %s is put back in %s: %s, %d entries of the journal.\n", args[0], data,
				runsWords(found.Runs), found.Entries)
			if aside != "" {
				fmt.Fprintf(a.out, "  What was there before is in %s.\n", aside)
			}
			return nil
		},
	}
}
