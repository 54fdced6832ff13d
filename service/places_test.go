package service_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/serials"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// plover is a nameplate of tern modules under another name, with all that production asks for.
const plover = `nameplate: plover
kind: converter
plant: tern
ratings: {nominal_line: 48 V, rated_volts: 15 V, rated_current: 8 A}
serials: PL-{count:4}{check}
parts:
  board: {serials: "B-{digits:3}"}
retest: {attempts: 2}
card: {routine: [plover-quick, plover-corners], type: [plover-soak], at failure: stop}
`

// ploverTest is a procedure of a plover under a name.
func ploverTest(name string) string {
	return "procedure: " + name + "\ntitle: Plover, " + name + `
for: plover
needs:
  source: {volts: 60 V, amps: 5 A}
  load: {volts: 20 V, amps: 9 A, modes: [current]}
guards:
  - {when: "source.volts > 30 V and source.amps < 5 mA for 400 ms", do: reseat, note: no current at a present voltage}
stages:
  - name: power up
    set:
      source: {volts: 48 V, amps: 5 A, output: on}
      load: {mode: current, amps: 0.5 A, output: on}
    until: "load.volts > 14.5 V for 300 ms"
    within: 3 s
  - grid:
      over: [{set: load.amps, values: [1 A, 8 A]}]
      settle: 150 ms
      average: 150 ms
figures:
  - {figure: load-regulation, at: {source.volts: 48 V}, limit: {max: 0.5 %}}
`
}

// operated waits until the unit of a place is through.
func operated(t *testing.T, h *servicetest.House, bay string) api.Place {
	t.Helper()
	for range 600 {
		p, err := h.Local.Place(t.Context(), bay)
		require.NoError(t, err)
		if p.Unit == nil || p.Unit.Run == "" && p.Unit.Problem != "" {
			return p
		}
		time.Sleep(100 * time.Millisecond)
	}
	require.Fail(t, "the unit is never through")
	return api.Place{}
}

func setUp(t *testing.T, h *servicetest.House, bay string, setup api.PlaceSetup) {
	t.Helper()
	_, err := h.Local.SetUpPlace(t.Context(), bay, setup)
	require.NoError(t, err)
}

// tested scans a unit and waits for what comes of it.
func tested(t *testing.T, h *servicetest.House, bay, serial string) api.Place {
	t.Helper()
	p, err := h.Local.Scan(t.Context(), bay, serial)
	require.NoError(t, err)
	if p.Unit != nil {
		require.Empty(t, p.Unit.Problem)
	}
	return operated(t, h, bay)
}

// A good unit, one with a bad contact at first, a bad one and a dead one, as an operator meets them.
func TestUnitsAreScannedAndCounted(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 5, Faulty: map[string]string{"TN-2": "open-contact",
			"TN-3": "weak-regulation", "TN-4": "dead", "TN-5": "loose-contact"}})
		_, err := h.Local.Scan(t.Context(), "bay1", "TN-1")
		assert.ErrorContains(t, err, "not set up")
		setUp(t, h, "bay1", api.PlaceSetup{Procedures: []string{"tern-outgoing"}, Lot: "L-1"})
		_, err = h.Local.OrderLot(t.Context(), "L-1", api.LotOrder{Quantity: 24, Note: "first"})
		require.NoError(t, err)

		good := tested(t, h, "bay1", "TN-1")
		assert.Equal(t, api.VerdictPass, good.Last.Verdict, "%v", good.Last.Words)
		assert.Equal(t, api.Tally{Quantity: 24, Units: 1, Passed: 1}, good.Tally)

		open := tested(t, h, "bay1", "TN-2")
		assert.Equal(t, api.VerdictAttention, open.Last.Verdict)
		require.Len(t, open.Last.Words, 2)
		assert.Contains(t, open.Last.Words[0], "Open contact: no current at a present voltage")
		assert.Equal(t, "Put it in anew (1 of 2)", open.Last.Words[1])
		assert.Equal(t, 1, open.Tally.Units, "nothing is known of the unit")
		assert.Equal(t, api.VerdictPass, tested(t, h, "bay1", "TN-2").Last.Verdict)

		loose := tested(t, h, "bay1", "TN-5")
		assert.Equal(t, api.VerdictAttention, loose.Last.Verdict, "%v", loose.Last.Words)
		assert.Equal(t, api.VerdictPass, tested(t, h, "bay1", "TN-5").Last.Verdict)

		bad := tested(t, h, "bay1", "TN-3")
		assert.Equal(t, api.VerdictFail, bad.Last.Verdict)
		assert.Contains(t, fmt.Sprint(bad.Last.Words), "Load regulation")

		for range 2 {
			assert.Equal(t, api.VerdictAttention, tested(t, h, "bay1", "TN-4").Last.Verdict)
		}
		dead := tested(t, h, "bay1", "TN-4")
		assert.Equal(t, api.VerdictFail, dead.Last.Verdict, "put in anew twice, it counts")
		assert.Equal(t, api.Tally{Quantity: 24, Units: 5, Passed: 3, Failed: 2}, dead.Tally)

		lot, err := h.Local.Lot(t.Context(), "L-1", api.LotRequest{})
		require.NoError(t, err)
		require.Len(t, lot.Procedures, 1)
		p := lot.Procedures[0]
		assert.Equal(t, []string{"TN-3", "TN-4"}, p.Failing)
		assert.InDelta(t, 60, p.Yield.Value, 1e-9)
		assert.InDelta(t, 60, p.FirstPass.Value, 1e-9, "an open contact is no attempt")
		causes := map[string]int{}
		for _, c := range p.Pareto {
			causes[c.Figure] = c.Units
		}
		assert.Equal(t, map[string]int{"load-regulation": 1, "open-contact": 1}, causes)
		assert.Equal(t, 4, p.Beside)

		unit, err := h.Local.Unit(t.Context(), "TN-4")
		require.NoError(t, err)
		require.Len(t, unit.Runs, 3)
		assert.Equal(t, "fail", unit.Runs[0].Outcome)
		assert.Equal(t, "aborted", unit.Runs[1].Outcome)
		assert.Equal(t, "open-contact", unit.Runs[1].State)
	})
}

// Serial numbers are made, parts are scanned, and all of a card runs in a row.
func TestACardIsWorkedThrough(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 5})
		_, err := h.Local.PushNameplate(t.Context(), plover)
		require.NoError(t, err)
		for _, name := range []string{"plover-quick", "plover-corners", "plover-soak"} {
			h.Push(ploverTest(name))
		}
		setUp(t, h, "bay1", api.PlaceSetup{Card: "plover", Lot: "P-1", Make: true})
		p, err := h.Local.Scan(t.Context(), "bay1", "")
		require.NoError(t, err)
		first := p.Unit.Serial
		assert.Regexp(t, `^PL-0001[0-9A-Z]$`, first)
		assert.Equal(t, []string{"board"}, p.Unit.Wanted)
		_, err = h.Local.Scan(t.Context(), "bay1", "whatever")
		assert.ErrorContains(t, err, "does not look like B-{digits:3}")
		_, err = h.Local.Scan(t.Context(), "bay1", "B-017")
		require.NoError(t, err)
		p = operated(t, h, "bay1")
		assert.Equal(t, api.VerdictPass, p.Last.Verdict, "%v", p.Last.Words)
		assert.Len(t, p.Last.Runs, 2, "both routine procedures ran without a person")

		unit, err := h.Local.Unit(t.Context(), first)
		require.NoError(t, err)
		require.NotNil(t, unit.Card)
		assert.Equal(t, api.CardPassed, unit.Card.State)
		assert.Equal(t, map[string]string{"board": "B-017"}, unit.Parts)
		states := map[string]api.CardState{}
		for _, i := range unit.Card.Items {
			states[i.Procedure] = i.State
		}
		assert.Equal(t, map[string]api.CardState{"plover-quick": "pass", "plover-corners": "pass", "plover-soak": "to do"},
			states)
		_, err = h.Local.Scan(t.Context(), "bay1", first)
		assert.ErrorContains(t, err, "has passed everything on the card")

		p, err = h.Local.Scan(t.Context(), "bay1", "")
		require.NoError(t, err)
		assert.Regexp(t, `^PL-0002`, p.Unit.Serial)
		_, err = h.Local.TakeBack(t.Context(), "bay1")
		require.NoError(t, err)
	})
}

// What a nameplate says of serial numbers, attempts and quarantine holds for every way in which a run may begin.
func TestRulesOfUnitsHoldForEveryWayIn(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 5})
		_, err := h.Local.PushNameplate(t.Context(), plover)
		require.NoError(t, err)
		h.Push(ploverTest("plover-quick"))
		start := func(serial string, parts map[string]string) error {
			run, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "plover-quick", Serial: serial,
				Parts: parts, Lot: "P-1"})
			if err == nil {
				h.Ended(run)
			}
			return err
		}
		board := map[string]string{"board": "B-001"}
		assert.ErrorContains(t, start("PL-0001A", board), "misread or mistyped")
		assert.ErrorContains(t, start("TN-1", board), "does not look like PL-{count:4}{check}")
		form, err := serials.Parse("PL-{count:4}{check}")
		require.NoError(t, err)
		good, err := form.Make(serials.Day{}, 1)
		require.NoError(t, err)
		assert.ErrorContains(t, start(good, nil), "which board is in it")
		require.NoError(t, start(good, board))
		why := "smells burnt"
		_, err = h.Local.ChangeUnit(t.Context(), good, api.UnitChange{Quarantine: &why})
		require.NoError(t, err)
		assert.ErrorContains(t, start(good, board), "in quarantine: smells burnt")
		none, extra := "", 1
		_, err = h.Local.ChangeUnit(t.Context(), good, api.UnitChange{Quarantine: &none, Why: "it was the pizza"})
		require.NoError(t, err)
		require.NoError(t, start(good, board))
		assert.ErrorContains(t, start(good, board), "allows 2 attempts")
		_, err = h.Local.ChangeUnit(t.Context(), good, api.UnitChange{Extra: &extra})
		require.NoError(t, err)
		_, err = h.Local.OrderLot(t.Context(), "P-1", api.LotOrder{Closed: true})
		require.NoError(t, err)
		assert.ErrorContains(t, start(good, board), "lot P-1 is closed")
		_, err = h.Local.OrderLot(t.Context(), "P-1", api.LotOrder{})
		require.NoError(t, err)
		require.NoError(t, start(good, board))
		_, err = h.Local.Unit(t.Context(), "PL-9999X")
		assert.ErrorContains(t, err, "was never tested")
	})
}

// The place is as it was when the service comes back, and what ran meanwhile is counted.
func TestAPlaceSurvivesARestart(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 1})
		setUp(t, h, "bay1", api.PlaceSetup{Procedures: []string{"tern-outgoing"}, Lot: "L-1", Begins: api.BeginsByKey})
		p, err := h.Local.Scan(t.Context(), "bay1", "TN-1")
		require.NoError(t, err)
		assert.Empty(t, p.Unit.Run, "it waits for the key")
		_, err = h.Local.Scan(t.Context(), "bay1", "TN-2")
		require.NoError(t, err, "a wrong scan is put right by the next one")
		_, err = h.Local.BeginPlace(t.Context(), "bay1")
		require.NoError(t, err)
		_, err = h.Local.TakeBack(t.Context(), "bay1")
		assert.ErrorContains(t, err, "has begun")
		h.Close()
		h.Open()
		p = operated(t, h, "bay1")
		require.NotNil(t, p.Setup)
		assert.Equal(t, "L-1", p.Setup.Lot)
		require.NotNil(t, p.Last)
		assert.Equal(t, "TN-2", p.Last.Serial)
		assert.Equal(t, api.VerdictAttention, p.Last.Verdict, "the service ended it: %v", p.Last.Words)
		require.NoError(t, h.Local.ClearPlace(t.Context(), "bay1"))
		p, err = h.Local.Place(t.Context(), "bay1")
		require.NoError(t, err)
		assert.Nil(t, p.Setup)
	})
}

// A run that goes on after the service was away is followed to its end.
func TestAPlaceFollowsARunThatResumes(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 1, Layouts: []simbench.Layout{simbench.BatteryPack}})
		h.Push("procedure: long\nfor: gannet\nneeds: {cycler: {}}\nresume: always\nstages: [{hold: {for: 20 s}}]\n")
		setUp(t, h, "bay1", api.PlaceSetup{Procedures: []string{"long"}})
		p, err := h.Local.Scan(t.Context(), "bay1", "GP-306")
		require.NoError(t, err)
		require.Empty(t, p.Unit.Problem)
		time.Sleep(5 * time.Second)
		h.Close()
		h.Open()
		time.Sleep(time.Second)
		p, err = h.Local.Place(t.Context(), "bay1")
		require.NoError(t, err)
		require.NotNil(t, p.Unit, "it goes on")
		time.Sleep(10 * time.Minute) // the battery rests first
		p = operated(t, h, "bay1")
		run, err := h.Local.Run(t.Context(), p.Last.Runs[0])
		require.NoError(t, err)
		assert.Equal(t, "done", run.State)
		assert.Equal(t, []string{"The procedure has no limits: nothing was judged"}, p.Last.Words)
	})
}
