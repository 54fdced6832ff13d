package console_test

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
)

// scanner is a person with a scanner in front of an operator's place: what it reads is typed, and ends with Enter.
type scanner struct {
	t   *testing.T
	ctx context.Context
}

const enter = "\r"

// scan scans a unit and gives the verdict that then fills the screen.
func (s scanner) scan(serial string) string {
	s.t.Helper()
	do(s.t, s.ctx, Script(`window.verdictsBefore = window.verdicts.length`), Press(serial+enter),
		Until(`window.verdicts.length > window.verdictsBefore`))
	seen, err := Evaluate[string](s.ctx, `window.verdicts.at(-1)`)
	require.NoError(s.t, err)
	return seen
}

// verdictsSeen has the page remember every verdict that it shows, with the unit.
const verdictsSeen = `window.verdicts = []
{
	const look = () => {
		const kind = document.querySelector('[data-test=place]')?.dataset.kind
		const serial = document.querySelector('[data-test=serial]')?.innerText
		const shown = kind + ' ' + serial
		if (shown !== window.shownLast && ['pass', 'marginal', 'fail', 'attention'].includes(kind))
			window.verdicts.push(shown)
		window.shownLast = shown
	}
	new MutationObserver(look).observe(document.body,
		{ subtree: true, childList: true, characterData: true, attributes: true, attributeFilter: ['data-kind'] })
}`

// aLot are the units of a lot: some faulty in three ways, and some with a bad contact at first. All tests have 24
// units, make lot has as many as asked.
func aLot(t *testing.T) (serials []string, faulty map[string]string) {
	units := 24
	if asked := os.Getenv("LOT"); asked != "" {
		var err error
		units, err = strconv.Atoi(asked)
		require.NoError(t, err)
	}
	faulty = map[string]string{}
	for k := range units {
		serial := fmt.Sprintf("TN-%d", 4000+k)
		serials = append(serials, serial)
		switch k {
		case 7, 31, 64:
			faulty[serial] = "weak-regulation"
		case 12, 77:
			faulty[serial] = "low-efficiency"
		case 18, 40:
			faulty[serial] = "dead"
		case 3, 50:
			faulty[serial] = "open-contact"
		case 22, 71:
			faulty[serial] = "loose-contact"
		}
	}
	return serials, faulty
}

// A lot goes through an operator's place, in a browser, as by a person with a scanner.
func TestALotIsScanned(t *testing.T) {
	serials, faulty := aLot(t)
	h, ctx := open(t, servicetest.Options{TimeFactor: 5, Faulty: faulty}, api.Operator)
	_, err := h.Local.OrderLot(t.Context(), "L-96", api.LotOrder{Nameplate: "tern", Quantity: len(serials)})
	require.NoError(t, err)
	_, err = h.Local.SetUpPlace(t.Context(), "bay1", api.PlaceSetup{Procedures: []string{"tern-outgoing"}, Lot: "L-96"})
	require.NoError(t, err)
	do(t, ctx, Visit(h.Running.URL+"/operate/bay1"), Visible(`[data-test=scan]`), Script(verdictsSeen),
		Until(`document.activeElement === document.querySelector('[data-test=scan]')`))
	person := scanner{t, ctx}
	found := map[string]string{}
	reseated := 0
	for k, serial := range serials {
		verdict := person.scan(serial)
		for verdict == "attention "+serial { // put in anew
			reseated++
			verdict = person.scan(serial)
		}
		switch verdict {
		case "fail " + serial:
			found[serial] = faulty[serial]
		case "pass " + serial, "marginal " + serial:
		default:
			require.Fail(t, "another unit", "scanned %s, shown %s", serial, verdict)
		}
		if k == len(serials)/2 {
			do(t, ctx, Script(`location.reload()`), Visible(`[data-test=scan]`),
				Until(`document.activeElement === document.querySelector('[data-test=scan]')`), Script(verdictsSeen),
				Until(`document.querySelector('[data-test=serial]').innerText === `+fmt.Sprintf("%q", serial)))
		}
	}
	want, causes, contacts := map[string]string{}, map[string]int{}, 0
	cause := map[string]string{"weak-regulation": "load-regulation", "low-efficiency": "efficiency",
		"dead": "open-contact"}
	for serial, fault := range faulty {
		if cause[fault] == "" {
			contacts++
			continue
		}
		want[serial] = fault
		causes[cause[fault]]++
	}
	assert.Equal(t, want, found, "the bad ones are found, and no good unit counts as bad")
	assert.Equal(t, contacts+2*causes["open-contact"], reseated, "bad contacts once, and dead units twice each")
	tally := text(t, ctx, "[data-test=tally]")
	yield := 100 * float64(len(serials)-len(want)) / float64(len(serials))
	for _, words := range []string{fmt.Sprintf("%d of %d", len(serials), len(serials)), fmt.Sprintf("%.1f %%", yield)} {
		assert.Contains(t, tally, words)
	}

	lot, err := h.Local.Lot(t.Context(), "L-96", api.LotRequest{})
	require.NoError(t, err)
	p := lot.Procedures[0]
	assert.Equal(t, len(serials), p.Units)
	assert.InDelta(t, yield, p.Yield.Value, 1e-9)
	seen := map[string]int{}
	for _, c := range p.Pareto {
		seen[c.Figure] = c.Units
	}
	assert.Equal(t, causes, seen)

	do(t, ctx, Visit(h.Running.URL+"/lots/L-96"), Visible(`[data-test=pareto] .cause`))
	assert.Contains(t, text(t, ctx, "[data-test=shares]"), fmt.Sprintf("%.1f %%", yield))
	assert.Contains(t, text(t, ctx, "[data-test=pareto]"), "Open contact")
	do(t, ctx, Click(`[data-test=failing] a`), Visible(`[data-test=unit-runs] tbody tr`))
	assert.Contains(t, text(t, ctx, "h1"), "TN-4007")
}

// A wrong scan is taken back before the start, and the place begins by key, without a mouse.
func TestAnOperatorsPlaceByKeys(t *testing.T) {
	h, ctx := open(t, servicetest.Options{TimeFactor: 5, Layouts: nil}, api.Operator)
	_, err := h.Local.SetUpPlace(t.Context(), "bay1", api.PlaceSetup{Procedures: []string{"tern-outgoing"}, Lot: "L-1",
		Begins: api.BeginsByKey})
	require.NoError(t, err)
	do(t, ctx, Visit(h.Running.URL+"/operate/bay1"), Visible(`[data-test=scan]`), Script(verdictsSeen),
		Until(`document.activeElement === document.querySelector('[data-test=scan]')`), Press("TN-77"+enter),
		Until(`document.querySelector('[data-test=serial]').innerText === 'TN-77'`), Press("\x1b"),
		Until(`document.querySelector('[data-test=verdict]').innerText.includes('Scan a unit')`), Press("TN-78"+enter),
		Until(`document.querySelector('[data-test=serial]').innerText === 'TN-78'`))
	ground := func() string {
		color, err := Evaluate[string](ctx, `getComputedStyle(document.querySelector('[data-test=place]')).backgroundColor`)
		require.NoError(t, err)
		return color
	}
	waiting := ground()
	assert.Equal(t, "pass TN-78", scanner{t, ctx}.scan(""), "Enter begins")
	assert.NotEqual(t, waiting, ground(), "the verdict fills the screen with its colour")
	units, err := h.Local.Runs(t.Context(), api.RunFilter{})
	require.NoError(t, err)
	assert.Len(t, units, 1, "TN-77 was never tested")
}

// Units are scanned into three places one after the other, begun with one key, and one of them fails.
func TestPlacesAreWorkedTogether(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Bays: 3, TimeFactor: 5, Faulty: map[string]string{"TN-82": "weak-regulation"}},
		api.Operator)
	field := Until(`document.activeElement === document.querySelector('[data-test=scan]')`)
	hint := func(words string) Action {
		return Until(`document.querySelector('[data-test=hint]')?.innerText.includes("` + words + `")`)
	}
	do(t, ctx, Visit(h.Running.URL+"/operate"), Click(`[data-test=choose-bay1] input`),
		Click(`[data-test=choose-bay2] input`), Click(`[data-test=choose-bay3] input`), Click(`[data-test=together]`),
		Visible(`[data-test=set-up]`))
	for _, bay := range []string{"bay1", "bay2", "bay3"} {
		_, err := h.Local.SetUpPlace(t.Context(), bay, api.PlaceSetup{Procedures: []string{"tern-outgoing"}, Lot: "L-1",
			Begins: api.BeginsByKey})
		require.NoError(t, err)
	}
	do(t, ctx, field, hint("scan for Bay 1"), Press("TN-81"+enter), hint("Enter begins Bay 1"), Press("TN-82"+enter),
		hint("Bay 1, Bay 2"), Press("TN-83"+enter), hint("Bay 1, Bay 2, Bay 3"), Press("TN-84"+enter),
		Until(`document.querySelector('[data-test=problem]').innerText.includes('TN-84 has no place')`), Press("\x1b"),
		hint("begins Bay 1, Bay 2"), Press("TN-85"+enter), hint("Bay 1, Bay 2, Bay 3"), Press(enter),
		Until(`document.querySelectorAll('[data-kind=pass]').length === 2`),
		Until(`document.querySelector('[data-test=tile-bay2]').dataset.kind === 'fail'`), hint("scan for Bay 1"))
	assert.Contains(t, text(t, ctx, "[data-test=tile-bay2]"), "Load regulation")
	assert.Contains(t, text(t, ctx, "[data-test=tile-bay3]"), "TN-85")
	assert.Contains(t, text(t, ctx, "[data-test=tally]"), "66.7 %")
}
