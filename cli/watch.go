package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/report"
)

func (a *app) watch() *cobra.Command {
	var strict bool
	var less string
	c := &cobra.Command{
		Use: "watch BAY|RUN", Short: "Show live curves, readouts and progress", Args: cobra.ExactArgs(1),
		Long: `Watch a bay, or the bay of a live run. In a terminal it draws live curves; otherwise
it prints a line a second. A watched run is shown until it ends, and the exit code is its outcome. q leaves;
the run goes on; d draws the curves as their deviations from their means, from what they are rated for, and as they
are.`,
		Example: "  usher watch bay1\n  usher watch last --less rated",
		RunE: a.withClient(func(ctx context.Context, cl *client.Client, args []string) error {
			if !slices.Contains(reductions, less) {
				return usage("--less %q: choose mean or rated", less)
			}
			a.less = less
			if _, err := cl.Bay(ctx, args[0]); err == nil {
				return a.watchBay(ctx, cl, args[0], "")
			} else if p := new(api.Problem); !errors.As(err, &p) || p.Status != 404 {
				return err
			}
			run, err := cl.Run(ctx, args[0])
			if err != nil {
				return err
			}
			return a.follow(ctx, cl, run.ID, strict)
		}),
	}
	c.Flags().BoolVar(&strict, "strict", false, "count marginal as a failure in the exit code")
	c.Flags().StringVar(&less, "less", "", "draw the curves as their deviation from their mean, or from what they are "+
		"rated for (mean, rated)")
	return c
}

// watchBay shows a bay, until the given run ends; with run "" until the person leaves.
func (a *app) watchBay(ctx context.Context, cl *client.Client, bay, run string) error {
	bayNow, err := cl.Bay(ctx, bay)
	if err != nil {
		return err
	}
	v := newView(bayNow)
	v.less = a.less
	ctx, cancel := untilEnded(ctx, cl, bay, run)
	defer cancel()
	out, isFile := a.out.(*os.File)
	if !isFile || !term.IsTerminal(int(out.Fd())) || a.json {
		return a.watchLines(ctx, cl, bay, run, v)
	}
	if bayNow.Run != nil && bayNow.State == api.BayLive {
		v.backfill(ctx, cl)
	}
	v.reply = func(text string) error {
		_, err := cl.Intervene(ctx, bay, api.Intervention{Do: api.DoAnswer, Text: text})
		return err
	}
	program := tea.NewProgram(screen{v}, tea.WithContext(ctx), tea.WithOutput(out))
	go func() {
		err := cl.Live(ctx, bay, 0, func(e client.Event) error {
			program.Send(e)
			if endOf(e, run) {
				return errEnded
			}
			return nil
		}, func(err error) { program.Send(lostMessage{err}) })
		if errors.Is(err, errEnded) {
			program.Quit()
			return
		}
		if err != nil && ctx.Err() == nil {
			program.Send(lostMessage{err})
		}
	}()
	final, err := program.Run()
	if err != nil && !errors.Is(err, tea.ErrProgramKilled) {
		return err
	}
	if s, ok := final.(screen); ok && s.v.left && run != "" {
		fmt.Fprintf(a.out, "The run goes on. Watch it again with: usher watch %s\n", bay)
		return exitCode(exitDone)
	}
	return nil
}

var errEnded = errors.New("ended")

// endOf tells whether an event says that the run ended.
func endOf(e client.Event, run string) bool {
	var r api.RunSummary
	return run != "" && e.Kind == api.EventRun && e.Into(&r) == nil && r.ID == run && r.State != "live"
}

// looksEvery is how often it is looked whether a run is still in its bay.
const looksEvery = 500 * time.Millisecond

// untilEnded gives a context that ends with the run, with errEnded as its cause: one that takes a moment has ended
// before anybody listens, and then no event tells it.
func untilEnded(ctx context.Context, cl *client.Client, bay, run string) (context.Context, context.CancelFunc) {
	ctx, end := context.WithCancelCause(ctx)
	go func() {
		for run != "" {
			select {
			case <-ctx.Done():
				return
			case <-time.After(looksEvery):
			}
			if b, err := cl.Bay(ctx, bay); err != nil || b.Run != nil && b.Run.ID == run && b.Run.State == "live" {
				continue
			}
			if doc, err := cl.Run(ctx, run); err == nil && doc.State != "live" {
				end(errEnded)
				return
			}
		}
	}()
	return ctx, func() { end(nil) }
}

// watchLines prints a line a second, or a JSON document an event with --json.
func (a *app) watchLines(ctx context.Context, cl *client.Client, bay, run string, v *view) error {
	var last time.Time
	err := cl.Live(ctx, bay, 0, func(e client.Event) error {
		v.take(e)
		switch {
		case a.json && e.Kind != api.EventFrames:
			fmt.Fprintf(a.out, "{\"event\":%q,\"data\":%s}\n", e.Kind, e.Data)
		case !a.json && e.Kind == api.EventMark:
			var m api.MarkEvent
			if e.Into(&m) == nil && !quiet[m.Kind] {
				fmt.Fprintf(a.out, "%12s  %-10s %s\n", report.Seconds(m.T), m.Kind, plain(m.Label))
			}
		case !a.json && e.Kind == api.EventSignal:
			var m api.SignalEvent
			if e.Into(&m) == nil {
				fmt.Fprintf(a.out, "%12s  %s\n", "SIGNAL", plain(m.Message))
			}
		case !a.json && e.Kind == api.EventBay && v.bay.Prompt != nil && v.asked != v.bay.Prompt.T:
			v.asked = v.bay.Prompt.T
			fmt.Fprintf(a.out, "%12s  %s   answer with: usher answer %s …\n", "ASKS", plain(promptWords(*v.bay.Prompt)), bay)
		case !a.json && e.Kind == api.EventBay && time.Since(last) >= time.Second:
			last = time.Now()
			fmt.Fprintln(a.out, v.line())
		}
		if endOf(e, run) {
			return errEnded
		}
		return nil
	}, func(err error) {
		if err != nil {
			fmt.Fprintf(a.err, "usher: the connection was lost (%s); trying again\n", err)
		} else {
			fmt.Fprintln(a.err, "usher: connected again; nothing was missed")
		}
	})
	if errors.Is(err, errEnded) || errors.Is(context.Cause(ctx), errEnded) {
		return nil
	}
	return err
}

// view is what is known of a watched bay.
type view struct {
	bay    api.Bay
	t      []float64
	traces map[string][]float64
	marks  []string
	lost   error
	left   bool
	asked  float64 // when the prompt that was last shown was made
	typed  string  // the answer so far
	reply  func(text string) error
	failed string // why the last answer was refused
	signal string
	heard  time.Time
	less   string // what the curves are drawn less of
	width  int
	height int
}

// quiet marks are too many, or say nothing that the next one does not.
var quiet = map[record.MarkKind]bool{record.MarkCommand: true, record.MarkPointDone: true, record.MarkStageEnd: true}

// keptFrames bounds the curve of a terminal, which is at most a few hundred columns wide.
const keptFrames = 3000

func newView(bay api.Bay) *view {
	return &view{bay: bay, traces: map[string][]float64{}, asked: -1, heard: time.Now(), width: 100, height: 32}
}

// backfill takes what was recorded before the watch began.
func (v *view) backfill(ctx context.Context, cl *client.Client) {
	w, err := cl.Window(ctx, v.bay.Run.ID, nil, client.Range{}, 600)
	if err != nil {
		return // the curves then begin now
	}
	v.t = w.T
	for _, t := range w.Traces {
		for _, x := range t.Min {
			v.traces[t.Name] = append(v.traces[t.Name], orNaN(x))
		}
	}
}

func orNaN(x *float64) float64 {
	if x == nil {
		return math.NaN()
	}
	return *x
}

// take takes an event into the view. What cannot be read is left out.
func (v *view) take(e client.Event) {
	v.heard = time.Now()
	switch e.Kind {
	case api.EventBay:
		var b api.Bay
		if e.Into(&b) != nil {
			return
		}
		if b.Run != nil && v.bay.Run != nil && b.Run.ID != v.bay.Run.ID {
			v.t, v.traces, v.marks = nil, map[string][]float64{}, nil
		}
		v.bay = b
	case api.EventFrames:
		var f api.Frames
		if e.Into(&f) != nil {
			return
		}
		drop := max(len(v.t)+len(f.T)-keptFrames, 0)
		v.t = append(v.t, f.T...)[drop:]
		for i, column := range f.Columns {
			xs := v.traces[column]
			for _, x := range f.Values[i] {
				xs = append(xs, orNaN(x))
			}
			v.traces[column] = xs[min(drop, len(xs)):]
		}
	case api.EventSignal:
		var m api.SignalEvent
		if e.Into(&m) == nil {
			v.signal = m.Message
		}
	case api.EventMark:
		var m api.MarkEvent
		if e.Into(&m) == nil && !quiet[m.Kind] {
			v.marks = append(v.marks, fmt.Sprintf("%10s  %-9s %s", report.Seconds(m.T), m.Kind, plain(m.Label)))
			v.marks = v.marks[max(0, len(v.marks)-4):]
		}
	}
}

// inLine tells what one line has room for: what curves show, but for what is a product of it.
func inLine(k quantity.Kind) bool { return k.Drawn && k.Name != "watts" }

// line is the view in one line.
func (v *view) line() string {
	parts := []string{string(v.bay.State)}
	if p := v.bay.Progress; p != nil {
		parts = append(parts, strings.TrimSpace(p.Name+" "+p.Detail)+", "+report.Seconds(p.Left)+" to go")
		if p.Paused {
			parts = append(parts, "PAUSED")
		}
	}
	for _, seat := range v.bay.Seats {
		for _, q := range quantity.Names(inLine) {
			column := seat.Name + "." + q
			if x, read := v.bay.Readings[column]; read {
				parts = append(parts, column+" "+reading(column, x))
			}
		}
	}
	return strings.Join(parts, "  ")
}

// The colours of the console's quantities, as a dark terminal shows them.
var (
	voltsStyle = lipgloss.NewStyle().Foreground(lipgloss.Color("#5fb8ee")).Bold(true)
	ampsStyle  = lipgloss.NewStyle().Foreground(lipgloss.Color("#f58a4b")).Bold(true)
	wattsStyle = lipgloss.NewStyle().Foreground(lipgloss.Color("#35c79a")).Bold(true)
	mutedStyle = lipgloss.NewStyle().Foreground(lipgloss.Color("#9bb0ab"))
	liveStyle  = lipgloss.NewStyle().Foreground(lipgloss.Color("#f3b33d")).Bold(true)
	failStyle  = lipgloss.NewStyle().Foreground(lipgloss.Color("#ff9d92")).Bold(true)
	boldStyle  = lipgloss.NewStyle().Bold(true)
)

// staleAfter is how long the view may hear nothing before it says that its numbers are old.
const staleAfter = 3 * time.Second
