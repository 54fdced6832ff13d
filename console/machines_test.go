package console_test

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// A person takes readings of a motor: what one would be is shown with how good it is, and those that were taken.
func TestAPersonTakesReadings(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Machine}}, api.Operator)
	run := h.Start("bay1", "cormorant-routine", "CM-1101")
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1"), Visible("[data-test=yes]"), Click("[data-test=yes]"),
		Visible("[data-test=take]"),
		Until(`document.querySelector('[data-test=take] .good')?.textContent.includes('good')`))
	assert.Contains(t, text(t, ctx, "[data-test=take]"), "0 taken, 3 at least")
	taken := func(n string) Action {
		return Until(`document.querySelector('[data-test=take]')?.textContent.includes('` + n + ` taken')`)
	}
	do(t, ctx, Until(`document.querySelector('[data-test=take-done]').disabled`))
	for _, n := range []string{"1", "2", "3", "4"} {
		do(t, ctx, Visible("[data-test=take-one]"), Click("[data-test=take-one]"), taken(n))
	}
	do(t, ctx, Until(`document.querySelectorAll('[data-test=take] [data-test=rows] tbody tr').length === 4`))
	assert.Contains(t, text(t, ctx, "[data-test=take] [data-test=rows]"), "good")
	do(t, ctx, Click("[data-test=take-done]"), Gone("[data-test=take]"), Visible("[data-test=ended]"))
	doc := h.Ended(run)
	require.Equal(t, "done", doc.State, doc.Reason)
	assert.Equal(t, "pass", doc.Outcome)
}

// A motor passes its card at two places: what needs nobody after one scan, and what needs a person by the same keys.
func TestAMotorGoesThroughItsCard(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Insulation, simbench.Machine},
		TimeFactor: 30}, api.Operator)
	for bay, setup := range map[string]api.PlaceSetup{"bay1": {Procedures: []string{"cormorant-insulation"}},
		"bay2": {Card: "cormorant"}} {
		_, err := h.Local.SetUpPlace(t.Context(), bay, setup)
		require.NoError(t, err)
	}
	place := func(bay string) {
		do(t, ctx, Visit(h.Running.URL+"/operate/"+bay), Visible(`[data-test=scan]`), Script(verdictsSeen),
			Until(`document.activeElement === document.querySelector('[data-test=scan]')`))
	}
	asks := func(words string) Action {
		return Until(`document.querySelector('[data-test=place] main').innerText.includes('` + words + `')`)
	}
	place("bay1")
	assert.Equal(t, "pass CM-1101", scanner{t, ctx}.scan("CM-1101"))

	place("bay2")
	do(t, ctx, Press("CM-1101"+enter), asks("switch the motor on?"), Press(enter))
	for _, n := range []string{"0", "1", "2"} {
		do(t, ctx, asks(n+" taken"), Press(enter))
	}
	do(t, ctx, asks("3 taken"), Press("\x1b"),
		Until(`window.verdicts.some((v) => v.endsWith('CM-1101') && !v.startsWith('attention'))`))

	do(t, ctx, Visit(h.Running.URL+"/units/CM-1101"), Visible("[data-test=card] tbody tr"))
	states := map[string]api.CardState{}
	unit, err := h.Local.Unit(t.Context(), "CM-1101")
	require.NoError(t, err)
	for _, i := range unit.Card.Items {
		states[i.Procedure] = i.State
	}
	assert.EqualValues(t, "pass", states["cormorant-insulation"], states)
	assert.EqualValues(t, "pass", states["cormorant-routine"], states)
	card := text(t, ctx, "[data-test=card]")
	assert.Equal(t, 2, strings.Count(card, "pass"), card)
	for _, procedure := range []string{"cormorant-insulation", "cormorant-routine", "cormorant-heat-run"} {
		assert.Contains(t, card, procedure)
	}
}

// Everything that the cover has said stays in window.said, however short it stood there.
const keepsWhatTheCoverSays = `(() => {
	window.said = ''
	const cover = () => { window.said += document.querySelector('[data-test=cover]')?.textContent ?? '' }
	new MutationObserver(cover).observe(document.body, { subtree: true, childList: true, characterData: true })
	return true
})()`

// What stands behind an interlock says whether it may be opened, on the floor and in its bay, and points come one by
// one. The bench is slow enough that the sweep is still on when the page of the bay has come.
func TestACoverSaysWhetherItMayBeOpened(t *testing.T) {
	h, ctx := open(t, servicetest.Options{
		Layouts: []simbench.Layout{simbench.HighVoltage}, TimeFactor: 1}, api.Operator)
	cover := func(kind string) Action {
		return Until(`document.querySelector('[data-test=cover]')?.dataset.kind === '` + kind + `'`)
	}
	do(t, ctx, Visit(h.Running.URL+"/"), cover("safe"))
	run := h.Start("bay1", "skua-blocking", "SK-1001")
	do(t, ctx, cover("closed"), Visit(h.Running.URL+"/bays/bay1"), cover("closed"),
		Until(`document.querySelectorAll('[data-test=live-points] [data-test=points] tbody tr').length > 4`),
		Visible("[data-test=live-points] [data-test=points-chart]"))
	do(t, ctx, Until(keepsWhatTheCoverSays))
	require.NoError(t, h.Bench.SetFault("sourcemeter1", simbench.OpenInterlock))
	do(t, ctx, Visible("[data-test=ended]"), cover("safe"), Until(`window.said.includes('still reads')`))
	doc := h.Ended(run)
	assert.Equal(t, "the interlock of sourcemeter1 is open while its output is on", doc.Reason)
}

// While something moves every view says so, and kills it at once: by a button, and by a key also where somebody types.
func TestWhatMovesIsKilledFromEveryView(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Layouts: []simbench.Layout{simbench.ThrustStand}}, api.Operator)
	driven := func() {
		for _, s := range []api.ManualSet{{Seat: "source", Quantity: "volts", Value: "24 V"},
			{Seat: "source", Quantity: "amps", Value: "10 A"}, {Seat: "source", Quantity: "output", Value: "on"},
			{Seat: "drive", Quantity: "percent", Value: "30 %"}, {Seat: "drive", Quantity: "output", Value: "on"}} {
			_, err := h.Local.Set(t.Context(), "bay1", s)
			require.NoError(t, err)
		}
	}
	off := func(where string) {
		s, err := h.Bench.State("bay1")
		require.NoError(t, err)
		assert.False(t, s.LoadOn, where)
	}
	do(t, ctx, Visit(h.Running.URL+"/"), Gone("[data-test=moving]"))
	for where, kill := range map[string]Action{"/runs": Click("[data-test=kill-bay1]"), "/procedures": Press(kb.F9),
		"/operate/bay1": Press(kb.F9), "/bays/bay1": Click("[data-test=kill-bay1]")} {
		driven()
		do(t, ctx, Visit(h.Running.URL+where), Visible("[data-test=kill-bay1]"), kill, Gone("[data-test=moving]"))
		off(where)
	}
}

// Curves are held to be looked at, say so, and are live again with one press.
func TestCurvesAreHeldAndLiveAgain(t *testing.T) {
	h, ctx := open(t, servicetest.Options{TimeFactor: 1}, api.Operator)
	h.Start("bay1", "tern-soak", "TN-2209")
	title := func(words string) Action {
		return Until(`[...document.querySelectorAll('.tools h2')].some((h) => h.textContent.includes('` + words + `'))`)
	}
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1"), title("Live curves"), Click("[data-test=look-back]"),
		title("Curves held at"), Gone("[data-test=look-back]"))
	assert.NotContains(t, text(t, ctx, "main"), "Live curves", "what is held is not shown as live")
	do(t, ctx, Click("[data-test=to-live]"), title("Live curves"), Gone("[data-test=held-curves]"))
}
