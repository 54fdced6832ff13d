package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"usherbench/api"
	"usherbench/client"
)

// operate is an operator's place in a terminal.
func (a *app) operate() *cobra.Command {
	var bay string
	var setup api.PlaceSetup
	c := &cobra.Command{
		Use: "operate --bay BAY", Short: "An operator's place: scan a unit, see pass or fail, take the next",
		Args: cobra.NoArgs,
		Long: `Work at the operator's place of a bay. --procedure or --card say what every unit is tested by, --lot to which
lot it counts; without them the place stays as it was set up. What a scanner types is the next unit; where a nameplate
asks for its parts, they are scanned after it. An empty line begins the test where the place begins by key, and gives
the next unit a serial number where it makes them; - (Esc on a screen) takes a wrong scan back before its test begins.
In a terminal the outcome fills the screen; otherwise serial numbers are read from the input, a line each, and a line
is printed for each unit.`,
		Example: "  usher operate --bay bay1 --procedure tern-outgoing --lot L-2026-12\n" +
			"  usher operate --bay bay1 --card tern --begins key\n" +
			"  printf 'TN-1\\nTN-2\\n' | usher operate --bay bay1 --json",
	}
	f := c.Flags()
	f.StringVar(&bay, "bay", "", "the bay")
	f.StringArrayVar(&setup.Procedures, "procedure", nil,
		"procedure that every unit is tested by; several run in this order")
	f.StringVar(&setup.Card, "card", "", "nameplate whose routine procedures every unit is to pass")
	f.StringVar(&setup.Lot, "lot", "", "lot to which the units count")
	f.StringVar(&setup.Begins, "begins", "", "when a test begins: scan (at once), key, or contact")
	f.StringVar(&setup.When, "when", "", "condition of --begins contact, such as \"meter.volts > 3 V for 0.5 s\"")
	f.BoolVar(&setup.Make, "make", false, "give the next unit a serial number by its nameplate where nothing is scanned")
	f.BoolVar(&setup.GoOn, "go-on", false, "run what is left of a unit's procedures after a failure")
	c.RunE = a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
		if bay == "" {
			return usage("say with --bay at which bay")
		}
		var changed bool
		for _, name := range []string{"procedure", "card", "lot", "begins", "when", "make", "go-on"} {
			changed = changed || f.Changed(name)
		}
		place, err := cl.Place(ctx, bay)
		if changed && err == nil {
			place, err = cl.SetUpPlace(ctx, bay, setup)
		}
		switch {
		case err != nil:
			return err
		case place.Setup == nil:
			return usage("%s is not set up; say with --procedure or --card what is tested there", bay)
		}
		in, typed := a.in.(*os.File)
		out, shown := a.out.(*os.File)
		if !a.json && typed && shown && term.IsTerminal(int(in.Fd())) && term.IsTerminal(int(out.Fd())) {
			return a.operateScreen(ctx, cl, place, out)
		}
		return a.operateLines(ctx, cl, bay)
	})
	return c
}

// operateLines tests what is read, a line each.
func (a *app) operateLines(ctx context.Context, cl *client.Client, bay string) error {
	lines := bufio.NewScanner(a.in)
	for lines.Scan() {
		place, err := a.operateOne(ctx, cl, bay, strings.TrimSpace(lines.Text()))
		if err != nil {
			return err
		}
		if err := a.printPlace(place); err != nil {
			return err
		}
	}
	return lines.Err()
}

// takeBack is what a line says to take a scan back.
const takeBack = "-"

// operateOne does what was typed or scanned, and waits for what comes of it.
func (a *app) operateOne(ctx context.Context, cl *client.Client, bay, text string) (api.Place, error) {
	place, err := act(ctx, cl, bay, text)
	if err != nil || !underTest(place) {
		return place, err
	}
	return throughOf(ctx, cl, bay)
}

// act does what was typed or scanned at a place.
func act(ctx context.Context, cl *client.Client, bay, text string) (api.Place, error) {
	switch text {
	case takeBack:
		return cl.TakeBack(ctx, bay)
	case "":
		place, err := cl.Place(ctx, bay)
		if err != nil || place.Unit != nil && len(place.Unit.Wanted) == 0 {
			return begun(ctx, cl, bay, err)
		}
	}
	return cl.Scan(ctx, bay, text)
}

func begun(ctx context.Context, cl *client.Client, bay string, err error) (api.Place, error) {
	if err != nil {
		return api.Place{}, err
	}
	return cl.BeginPlace(ctx, bay)
}

// underTest tells whether a test is under way at a place.
func underTest(p api.Place) bool { return p.Unit != nil && p.Unit.Run != "" }

// looksAgain is how often a place is asked for while a test is under way.
const looksAgain = 100 * time.Millisecond

// throughOf waits until the unit of a place is through, or something stands in the way.
func throughOf(ctx context.Context, cl *client.Client, bay string) (api.Place, error) {
	for {
		place, err := cl.Place(ctx, bay)
		if err != nil || !underTest(place) {
			return place, err
		}
		select {
		case <-ctx.Done():
			return place, ctx.Err()
		case <-time.After(looksAgain):
		}
	}
}

// The shapes of verdicts, beside their words and colours.
var verdictShapes = map[api.UnitVerdict]string{api.VerdictPass: "●", api.VerdictMarginal: "▲",
	api.VerdictFail: "■", api.VerdictAttention: "◆"}

// printPlace prints a line for a unit.
func (a *app) printPlace(p api.Place) error {
	if a.json {
		return json.NewEncoder(a.out).Encode(p)
	}
	switch u := p.Unit; {
	case u != nil && u.Problem != "":
		fmt.Fprintf(a.out, "◆ %-9s  %s  %s\n", api.VerdictAttention, plain(u.Serial), plain(u.Problem))
	case u != nil && len(u.Wanted) > 0:
		fmt.Fprintf(a.out, "? %-9s  %s  scan which %s is in it\n", "scan", plain(u.Serial), u.Wanted[0])
	case u != nil:
		fmt.Fprintf(a.out, "? %-9s  %s  an empty line begins\n", "ready", plain(u.Serial))
	case p.Last != nil:
		fmt.Fprintf(a.out, "%s %-9s  %s  %s  (%s)\n", verdictShapes[p.Last.Verdict], p.Last.Verdict, plain(p.Last.Serial),
			plain(strings.Join(p.Last.Words, "; ")), tallyWords(p.Tally))
	}
	return nil
}

// tallyWords count the units of a lot.
func tallyWords(t api.Tally) string {
	words := fmt.Sprintf("%d units", t.Units)
	if t.Units == 1 {
		words = "1 unit"
	}
	if t.Quantity > 0 {
		words = fmt.Sprintf("%d of %d units", t.Units, t.Quantity)
	}
	return fmt.Sprintf("%s: %d passed, %d marginal, %d failed", words, t.Passed, t.Marginal, t.Failed)
}

// operateScreen is the place over the whole terminal.
func (a *app) operateScreen(ctx context.Context, cl *client.Client, place api.Place, out *os.File) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &placeScreen{place: place, act: func(text string) (api.Place, error) {
		return act(ctx, cl, place.Bay, text)
	}}
	program := tea.NewProgram(s, tea.WithContext(ctx), tea.WithOutput(out))
	go func() {
		_ = cl.Live(ctx, place.Bay, 0, func(e client.Event) error { // it ends with the screen
			program.Send(e)
			return nil
		}, func(err error) { program.Send(lostMessage{err}) })
	}()
	_, err := program.Run()
	if errors.Is(err, tea.ErrProgramKilled) {
		return nil
	}
	return err
}
