// Package cli is the command line: the verbs of the service, of its client, and of the simulated bench.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"usherbench/api"
	"usherbench/core/outcome"
	"usherbench/service"
)

// Exit codes.
const (
	exitDone         = 0
	exitError        = 1
	exitUsage        = 2
	exitFail         = 3
	exitAborted      = 4
	exitUndetermined = 5
)

// exitCode is an error that only sets the exit code: everything was said already.
type exitCode int

func (e exitCode) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// usageError is a mistake in how a command was called.
type usageError struct{ err error }

func (e usageError) Error() string { return e.err.Error() }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// app is what all commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	server   string
	data     string
	json     bool
	less     string // what watched curves are drawn less of
}

// Main runs the command line and returns the exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return Run(ctx, args, in, out, errOut)
}

// Run is Main with a context of the caller's.
func Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	a := &app{in: in, out: out, err: errOut}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	var code exitCode
	var use usageError
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &code):
		return int(code)
	case errors.As(err, &use) || strings.HasPrefix(err.Error(), "unknown command"):
		fmt.Fprintf(errOut, "usher: %s\nSee: usher --help\n", err)
		return exitUsage
	case errors.Is(err, context.Canceled):
		return exitError
	}
	fmt.Fprintf(errOut, "usher: %s\n", a.explain(err))
	return exitError
}

// explain words an error for a person.
func (a *app) explain(err error) string {
	var p *api.Problem
	if errors.As(err, &p) {
		if len(p.Findings) > 0 {
			return p.Title + "\n" + p.Findings.Error()
		}
		if len(p.Preflight) > 0 {
			text := p.Title
			for _, f := range p.Preflight {
				if f.Verdict == api.Blocks {
					text += "\n■ " + f.What + "\n  → " + remedy(f)
				}
			}
			return text
		}
		if p.Status == 401 {
			return p.Error() + "; with the command line: usher sign-in"
		}
	}
	return err.Error()
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "usher",
		Short: "Drive supplies and loads through test procedures, watch, and judge the units",
		Long: `Usher Bench drives supplies and electronic loads through line, load, charge and discharge
procedures, shows live curves, and logs efficiency and regulation for each unit.

Exit codes: 0 done or pass, 1 error, 2 wrong usage, 3 fail (marginal with --strict), 4 aborted, 5 undetermined.`,
		Example: `  usher demo                                    a bench to learn on, in the browser
  usher serve --data bench                      the service for your own bench
  usher run tern-line-load --bay bay1 --serial TN-2208 --follow
  usher show last`,
		SilenceUsage: true, SilenceErrors: true, Version: service.Version,
		Args: cobra.NoArgs, RunE: a.first,
	}
	root.PersistentFlags().StringVar(&a.server, "server", "",
		"address of the service (default: the one on this machine; env USHER_SERVER)")
	root.PersistentFlags().StringVar(&a.data, "data", "",
		"data folder of the service on this machine (default usher-data; env USHER_DATA)")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print JSON")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.AddCommand(a.serve(), a.warden(), a.desk(), a.demo(), a.simbench(), a.signIn(), a.signOut(), a.account(),
		a.changePassword(), a.token(), a.bench(), a.dialect(), a.preflight(), a.procedure(), a.nameplate(), a.run(),
		a.licences(), a.watch(), a.stop(), a.goOn(), a.runs(), a.show(), a.export(),
		a.captures(), a.statistics(), a.excursions(), a.excerpts(), a.attach(), a.attachments(),
		a.report(), a.journal(), a.check(), a.backup(), a.restore(),
		a.rehearse(), a.deviations(), a.judge(), a.tables(), a.queue(), a.overlay(), a.match(), a.lots(), a.units(),
		a.operate(), a.office(), a.importLog(), a.catalogue(), a.contract())
	root.AddCommand(a.byHand()...)
	wrapArgs(root)
	return root
}

// wrapArgs makes every complaint about arguments one of usage.
func wrapArgs(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if err := check(c, args); err != nil {
				return usageError{fmt.Errorf("%s: %w; usage: %s", c.CommandPath(), err, c.UseLine())}
			}
			return nil
		}
	}
	for _, sub := range c.Commands() {
		wrapArgs(sub)
	}
}

// printJSON prints a value for programs.
func (a *app) printJSON(v any) error {
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

// table prints rows in columns, for people; the first row is the heading.
func (a *app) table(rows [][]string) error {
	w := tabwriter.NewWriter(a.out, 0, 0, 2, ' ', 0)
	for _, row := range rows {
		fmt.Fprintln(w, strings.TrimRight(strings.Join(row, "\t"), "\t"))
	}
	return w.Flush()
}

// codeOf is the exit code for an outcome.
func codeOf(o string, strict bool) error {
	switch outcome.Outcome(o) {
	case outcome.Fail:
		return exitCode(exitFail)
	case outcome.Marginal:
		if strict {
			return exitCode(exitFail)
		}
	case outcome.Aborted:
		return exitCode(exitAborted)
	case outcome.Undetermined:
		return exitCode(exitUndetermined)
	}
	return nil
}

func orDash(s string) string {
	if s == "" {
		return "—"
	}
	return s
}
