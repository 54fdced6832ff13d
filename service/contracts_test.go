package service_test

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/port"
)

// fineStep is the step in which the ready procedure finds the trip level, A.
const fineStep = 0.02

// contracted are the figures of a run over all contracts, by id and position.
func contracted(run api.Run) map[string]procedure.Judged {
	all := map[string]procedure.Judged{}
	for _, f := range run.Figures {
		id := f.ID
		if k, is := f.At[record.ContractColumn]; is {
			id += fmt.Sprintf(" %g", k)
		}
		all[id] = f
	}
	return all
}

// Each contract that a charger offers is tried, and its trip level, droop and recovery are those of its truth.
func TestEveryContractOfAChargerIsTried(t *testing.T) {
	for _, c := range []struct {
		fault   plant.Fault
		class   record.ComebackClass
		outcome string
	}{{port.Latching, record.InputCycle, "pass"}, {port.Meagre, record.ByItself, "pass"}} {
		t.Run(string("a charger that is "+c.fault), func(t *testing.T) {
			servicetest.Simulated(t, func(t *testing.T) {
				const serial = "PT-7"
				h := servicetest.Start(t, servicetest.Options{TimeFactor: 4, Layouts: []simbench.Layout{simbench.Contracts},
					Faulty: map[string]string{serial: string(c.fault)}})
				run := h.Ended(h.Start("bay1", "petrel-contracts", serial))
				require.Equal(t, "done", run.State, run.Reason)
				assert.Equal(t, c.outcome, run.Outcome)
				truth, err := port.Petrel(serial, c.fault)
				require.NoError(t, err)
				figures := contracted(run)
				offers := figures["source-capabilities"]
				assert.Equal(t, float64(len(truth.Places)), offers.Value)
				for i, place := range truth.Places {
					assert.Equal(t, fmt.Sprintf("0x%08X", place.Object), offers.Table.Rows[i][1], "every bit is on record")
					at := fmt.Sprintf(" %d", i+1)
					trip, r := figures["trip-level"+at], figures["droop-resistance"+at]
					if assert.Nil(t, trip.Undetermined, at) {
						assert.InDelta(t, place.Trip, trip.Value, fineStep/2+8e-3, at)
						assert.InDelta(t, place.Trip/place.Amps, figures["trip-ratio"+at].Value, 0.01, at)
					}
					assert.Equal(t, string(c.class), figures["recovery-class"+at].Text, at)
					if assert.Nil(t, r.Undetermined, at) {
						assert.InDelta(t, truth.Resistance, r.Value, r.U, at)
					}
					if d := figures["recovery-delay"+at]; c.class == record.ByItself && assert.Nil(t, d.Undetermined) {
						assert.InDelta(t, truth.Delay, d.Value, d.U+0.02, at)
					}
				}
				assert.NotContains(t, figures, fmt.Sprintf("trip-level %d", len(truth.Places)+1), "nothing more is offered")
			})
		})
	}
}

// A charger that agrees to nothing but its first contract has the others undetermined: they are not forgotten.
func TestAContractThatIsNotKeptIsNotForgotten(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 4, Layouts: []simbench.Layout{simbench.Contracts},
			Faulty: map[string]string{"PT-8": string(port.Mute)}})
		run := h.Ended(h.Start("bay1", "petrel-contracts", "PT-8"))
		require.Equal(t, "done", run.State, run.Reason)
		assert.Equal(t, "undetermined", run.Outcome)
		figures := contracted(run)
		assert.Nil(t, figures["trip-level 1"].Undetermined)
		for k := 2; k <= 5; k++ {
			if f := figures[fmt.Sprintf("trip-level %d", k)]; assert.NotNil(t, f.Undetermined, k) {
				assert.Equal(t, record.NoPoint, f.Undetermined.Code)
			}
		}
		good := h.Ended(h.Start("bay1", "petrel-contracts", "PT-10"))
		require.Equal(t, "pass", good.Outcome)
		besideEachOther(t, h, good, run)
	})
}

// besideEachOther lays a good charger and one that keeps its first contract only over each other: each contract is a
// curve of its own, and each figure stands beside the other's.
func besideEachOther(t *testing.T, h *servicetest.House, good, bad api.Run) {
	t.Helper()
	o, err := h.Local.Overlay(t.Context(), api.OverlayRequest{Runs: []string{good.ID, bad.ID}, Over: "load.amps",
		Half: "points"})
	require.NoError(t, err)
	drawn := map[string]int{}
	for _, c := range o.Curves {
		drawn[c.Serial]++
		assert.Positive(t, c.Contract)
	}
	assert.Equal(t, map[string]int{"PT-10": 5, "PT-8": 1}, drawn)
	assert.Nil(t, o.Band, "curves of different contracts have no band together")
	seen := 0
	for _, p := range o.Pairs {
		switch {
		case strings.HasPrefix(p.Title, "Droop, resistance contract 1"):
			seen++
			require.NotNil(t, p.Difference)
			assert.InDelta(t, *p.Second.Value-*p.First.Value, *p.Difference, 1e-12)
			assert.InDelta(t, math.Hypot(*p.First.U, *p.Second.U), *p.U, 1e-3*(*p.U))
		case strings.HasPrefix(p.Title, "Trip level contract 3"):
			seen++
			assert.Nil(t, p.Difference)
			assert.Equal(t, []string{record.NoPoint, "undetermined"}, []string{p.Second.Why, p.Second.Outcome})
		case strings.HasPrefix(p.Title, "Recovery contract 1"):
			seen++
			assert.Equal(t, []any{"self", "self", false}, []any{p.First.Text, p.Second.Text, p.Differs})
		}
	}
	assert.Equal(t, 3, seen)
	less, err := h.Local.Overlay(t.Context(), api.OverlayRequest{Runs: []string{good.ID, bad.ID}, Over: "load.amps",
		Half: "points", Less: api.LessReference})
	require.NoError(t, err)
	for _, c := range less.Curves {
		for _, y := range c.Y {
			assert.InDelta(t, 0, y, 0.1, "from the same contract of the first: %s", c.Label)
		}
	}
}

// What a charger offers beyond the safe window of its nameplate ends the run before anything of it is asked for.
func TestAnOfferBeyondTheNameplateIsNotAskedFor(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 4, Layouts: []simbench.Layout{simbench.Contracts}})
		for _, plate := range demo.Nameplates() {
			if strings.Contains(plate, "nameplate: petrel\n") {
				tame := strings.NewReplacer("contract.volts: {min: 0 V, max: 21 V}", "contract.volts: {min: 0 V, max: 16 V}",
					"  - {volts: 20 V, amps: 3.25 A}\n", "").Replace(plate)
				_, err := h.Local.PushNameplate(t.Context(), tame)
				require.NoError(t, err)
			}
		}
		run := h.Ended(h.Start("bay1", "petrel-contracts", "PT-9"))
		assert.Equal(t, "aborted", run.State)
		assert.Contains(t, run.Reason, "4: 20 V 3.25 A")
		assert.Contains(t, run.Reason, "outside the safe window")
		state, err := h.Bench.State("bay1")
		require.NoError(t, err)
		require.NotEmpty(t, state.History)
		assert.False(t, state.History[len(state.History)-1].On)
	})
}

// A cable is joined again by the product itself, where the sink can let go of it.
func TestACableIsJoinedAgain(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 4, Layouts: []simbench.Layout{simbench.Contracts},
			Faulty: map[string]string{"PT-7": string(port.Latching)}})
		text, err := demo.Library("petrel-contracts")
		require.NoError(t, err)
		joined := strings.NewReplacer("procedure: petrel-contracts", "procedure: petrel-joined", "cycle: mains",
			"cycle: contract").Replace(text)
		require.NotEqual(t, text, joined)
		h.Push(joined)
		run := h.Ended(h.Start("bay1", "petrel-joined", "PT-7"))
		require.Equal(t, "pass", run.Outcome, run.Reason)
		rows := 0
		for _, p := range run.Points {
			if p.Comeback != nil {
				rows++
				assert.Equal(t, record.InputCycle, p.Comeback.Class)
			}
		}
		assert.Equal(t, 5, rows, "each contract")
	})
}
