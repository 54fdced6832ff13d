package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
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
	var bays []string
	var setup api.PlaceSetup
	c := &cobra.Command{
		Use: "operate --bay BAY", Short: "An operator's place: scan a unit, see pass or fail, take the next",
		Args: cobra.NoArgs,
		Long: `Work at the operator's place of a bay. --procedure or --card say what every unit is tested by, --lot to which
lot it counts; without them the place stays as it was set up. What a scanner types is the next unit; where a nameplate
asks for its parts, they are scanned after it. An empty line begins the test where the place begins by key, and gives
the next unit a serial number where it makes them; - (Esc on a screen) takes a wrong scan back before its test begins.
With several bays a unit goes to the first that is empty, and an empty line begins all that wait for it together.
In a terminal the outcome fills the screen; otherwise serial numbers are read from the input, a line each, and a line
is printed for each unit.`,
		Example: "  usher operate --bay bay1 --procedure tern-outgoing --lot L-2026-12\n" +
			"  usher operate --bay bay1 --card tern --begins key\n" +
			"  usher operate --bay bay1 --bay bay2 --bay bay3 --procedure tern-outgoing --begins key\n" +
			"  printf 'TN-1\\nTN-2\\n' | usher operate --bay bay1 --json",
	}
	f := c.Flags()
	f.StringArrayVar(&bays, "bay", nil, "the bay; several are worked at together")
	f.StringArrayVar(&setup.Procedures, "procedure", nil,
		"procedure that every unit is tested by; several run in this order")
	f.StringVar(&setup.Card, "card", "", "nameplate whose routine procedures every unit is to pass")
	f.StringVar(&setup.Lot, "lot", "", "lot to which the units count")
	f.StringVar(&setup.Begins, "begins", "", "when a test begins: scan (at once), key, or contact")
	f.StringVar(&setup.When, "when", "", "condition of --begins contact, such as \"meter.volts > 3 V for 0.5 s\"")
	f.BoolVar(&setup.Make, "make", false, "give the next unit a serial number by its nameplate where nothing is scanned")
	f.BoolVar(&setup.GoOn, "go-on", false, "run what is left of a unit's procedures after a failure")
	c.RunE = a.withClient(func(ctx context.Context, cl *client.Client, _ []string) error {
		if len(bays) == 0 {
			return usage("say with --bay at which bay")
		}
		var changed bool
		for _, name := range []string{"procedure", "card", "lot", "begins", "when", "make", "go-on"} {
			changed = changed || f.Changed(name)
		}
		at := workplace{cl, bays}
		places, err := at.places(ctx)
		if err != nil {
			return err
		}
		for i, place := range places {
			if changed {
				if places[i], err = cl.SetUpPlace(ctx, place.Bay, setup); err != nil {
					return err
				}
			} else if place.Setup == nil {
				return usage("%s is not set up; say with --procedure or --card what is tested there", place.Bay)
			}
		}
		in, typed := a.in.(*os.File)
		out, shown := a.out.(*os.File)
		if !a.json && typed && shown && term.IsTerminal(int(in.Fd())) && term.IsTerminal(int(out.Fd())) {
			return a.operateScreen(ctx, at, places, out)
		}
		return a.operateLines(ctx, at)
	})
	return c
}

// workplace is where an operator works: the place of a bay, or those of several.
type workplace struct {
	client *client.Client
	bays   []string
}

// places tells how they are, in the order of the bays.
func (w workplace) places(ctx context.Context) (all []api.Place, err error) {
	for _, bay := range w.bays {
		place, err := w.client.Place(ctx, bay)
		if err != nil {
			return nil, err
		}
		all = append(all, place)
	}
	return all, nil
}

// takeBack is what a line says to take a scan back.
const takeBack = "-"

// act does what was typed or scanned, and gives the places at which something changed.
func (w workplace) act(ctx context.Context, text string) ([]api.Place, error) {
	all, err := w.places(ctx)
	if err != nil {
		return nil, err
	}
	one := func(place api.Place, err error) ([]api.Place, error) { return []api.Place{place}, err }
	switch ready := readyOf(all); {
	case text == takeBack:
		return one(w.client.TakeBack(ctx, lastScanned(all).Bay))
	case text == "" && len(ready) > 0:
		return w.client.BeginTogether(ctx, ready...)
	}
	next := nextOf(all)
	if next == nil && (len(all) > 1 || underTest(all[0])) {
		return nil, &noPlace{text}
	}
	if next == nil {
		next = &all[0]
	}
	if text == "" && !next.Setup.Make {
		return one(w.client.BeginPlace(ctx, next.Bay)) // the service says what is missing
	}
	return one(w.client.Scan(ctx, next.Bay, text))
}

// noPlace says that what was scanned fits nowhere, since every place has a unit.
type noPlace struct{ text string }

func (e *noPlace) Error() string {
	return plain(e.text) + " has no place: every one has a unit; an empty line begins, - takes one back"
}

// nextOf is the place to which goes what is scanned: the one whose unit lacks a part, or the first that is empty.
func nextOf(all []api.Place) *api.Place {
	wants := func(p api.Place) bool { return p.Unit != nil && p.Unit.Run == "" && len(p.Unit.Wanted) > 0 }
	empty := func(p api.Place) bool { return p.Unit == nil }
	for _, is := range []func(api.Place) bool{wants, empty} {
		if i := slices.IndexFunc(all, is); i >= 0 {
			return &all[i]
		}
	}
	return nil
}

// readyOf are the bays whose units wait for a key.
func readyOf(all []api.Place) (bays []string) {
	for _, p := range all {
		if p.Unit != nil && p.Unit.Run == "" && len(p.Unit.Wanted) == 0 {
			bays = append(bays, p.Bay)
		}
	}
	return bays
}

// lastScanned is the place of the unit that was scanned last and is not tested; without one, the first place.
func lastScanned(all []api.Place) api.Place {
	last := all[0]
	for _, p := range all {
		if p.Unit != nil && p.Unit.Run == "" && (last.Unit == nil || last.Unit.Run != "" || p.Unit.At.After(last.Unit.At)) {
			last = p
		}
	}
	return last
}

// underTest tells whether a test is under way at a place.
func underTest(p api.Place) bool { return p.Unit != nil && p.Unit.Run != "" }

// looksAgain is how often a place is asked for while a test is under way.
const looksAgain = 100 * time.Millisecond

// operateLines tests what is read, a line each, and prints a line for each unit when it is through. What is scanned
// waits while there is no place for it and a test is under way.
func (a *app) operateLines(ctx context.Context, at workplace) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	lines, failed := make(chan string), make(chan error, 1)
	go func() {
		defer close(lines)
		input := bufio.NewScanner(a.in)
		for input.Scan() {
			select {
			case lines <- strings.TrimSpace(input.Text()):
			case <-ctx.Done():
				failed <- ctx.Err()
				return
			}
		}
		failed <- input.Err()
	}()
	running := map[string]bool{}
	var waits *noPlace // what was scanned last, until there is a place for it
	for read := lines; read != nil || waits != nil || len(running) > 0; {
		from, again := read, (<-chan time.Time)(nil)
		if waits != nil {
			from = nil
		}
		if len(running) > 0 {
			again = time.After(looksAgain)
		}
		var changed []api.Place
		var err error
		select {
		case text, more := <-from:
			if !more {
				read = nil
				continue
			}
			changed, err = at.act(ctx, text)
		case <-again:
			if changed, err = at.through(ctx, running); err == nil && len(changed) > 0 && waits != nil {
				var more []api.Place
				more, err = at.act(ctx, waits.text)
				changed, waits = append(changed, more...), nil
			}
		case <-ctx.Done():
			err = ctx.Err()
		}
		if errors.As(err, &waits) && len(running) > 0 {
			err = nil
		}
		if err != nil {
			return err
		}
		for _, p := range changed {
			if running[p.Bay] = underTest(p); running[p.Bay] {
				continue
			}
			delete(running, p.Bay)
			if err := a.printPlace(p); err != nil {
				return err
			}
		}
		if waits != nil && len(running) == 0 { // nothing that ends could make a place for it
			return waits
		}
	}
	return <-failed
}

// through are the places whose tests were under way and are not any more.
func (w workplace) through(ctx context.Context, running map[string]bool) (ended []api.Place, err error) {
	for _, bay := range w.bays {
		if !running[bay] {
			continue
		}
		place, err := w.client.Place(ctx, bay)
		if err != nil {
			return ended, err
		}
		if !underTest(place) {
			ended = append(ended, place)
		}
	}
	return ended, nil
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

// operateScreen is a place, or several beside each other, over the whole terminal.
func (a *app) operateScreen(ctx context.Context, at workplace, places []api.Place, out *os.File) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	s := &placeScreen{places: places, act: func(text string) ([]api.Place, error) { return at.act(ctx, text) }}
	program := tea.NewProgram(s, tea.WithContext(ctx), tea.WithOutput(out))
	bay := ""
	if len(at.bays) == 1 {
		bay = at.bays[0]
	}
	go func() {
		_ = at.client.Live(ctx, bay, 0, func(e client.Event) error { // it ends with the screen
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
