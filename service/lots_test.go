package service_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/figure"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/service/servicetest"
	"usherbench/store"
)

// A lot of 96 units: 84 pass at once, 5 on a second attempt, 7 fail twice, by three figures; two runs were aborted.
func TestALotIsJudged(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		began := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
		low, high := 14.9, 15.1
		n := 0
		attempt := func(serial string, result outcome.Outcome, failing string, volts float64) {
			ended := began.Add(40 * time.Second)
			run := store.Run{ID: fmt.Sprintf("LOT%05d", n), Bay: "bay1", Serial: serial, Lot: "L 96", Procedure: "outgoing",
				State: "done", Outcome: string(result), StartedAt: began, EndedAt: &ended}
			n++
			began = began.Add(time.Minute)
			require.NoError(t, h.Running.Store.CreateRun(&run))
			judged := func(id string, value float64) procedure.Judged {
				j := procedure.Judged{Result: figure.Result{Request: figure.Request{ID: id}, Unit: "V", Value: value}, Title: id,
					Min: &low, Max: &high, Outcome: outcome.Pass}
				if id == failing {
					j.Outcome = outcome.Fail
				}
				return j
			}
			require.NoError(t, h.Running.Store.SaveFigures(run.ID, []procedure.Judged{judged("output", volts),
				judged("ripple", 15), judged("inrush", 15)}, map[string]any{"outcome": string(result)}))
		}
		for k := range 96 {
			serial, volts := fmt.Sprintf("TN-%d", 3000+k), 15+0.01*float64(k%5-2)
			failing := []string{"ripple", "inrush", "ripple"}[k%3]
			switch {
			case k < 84:
				attempt(serial, outcome.Pass, "", volts)
			case k < 89:
				attempt(serial, outcome.Fail, failing, volts)
				attempt(serial, outcome.Marginal, "", volts)
			default:
				attempt(serial, outcome.Fail, failing, volts)
				attempt(serial, outcome.Fail, failing, volts+1)
			}
		}
		attempt("TN-3000", outcome.Aborted, "", 3)
		attempt("TN-9999", outcome.Undetermined, "", 3)

		lots, err := h.Local.Lots(t.Context())
		require.NoError(t, err)
		require.Len(t, lots, 1)
		assert.Equal(t, []any{"L 96", 97, n}, []any{lots[0].Name, lots[0].Units, lots[0].Runs})
		lot, err := h.Local.Lot(t.Context(), "L 96", api.LotRequest{})
		require.NoError(t, err)
		require.Len(t, lot.Procedures, 1)
		p := lot.Procedures[0]
		assert.Equal(t, []int{96, 108, 2}, []int{p.Units, p.Attempts, p.Beside})
		assert.InDelta(t, 92.7, p.Yield.Value, 0.05)
		assert.InDelta(t, 85.7, p.Yield.Low, 0.05)
		assert.InDelta(t, 87.5, p.FirstPass.Value, 1e-9)
		assert.InDelta(t, 12.5, p.Retest.Value, 1e-9)
		assert.Len(t, p.Failing, 7)
		assert.Equal(t, "TN-3089", p.Failing[0])
		require.Len(t, p.Pareto, 2)
		assert.Equal(t, "ripple", p.Pareto[0].Figure)
		assert.Equal(t, 12, p.Pareto[0].Units+p.Pareto[1].Units, "every unit that failed once, once")
		require.Len(t, p.Figures, 3)
		output := p.Figures[0]
		assert.Equal(t, 96, output.N)
		assert.Len(t, output.Outliers, 7, "those that were 1 V off at last")
		assert.Equal(t, "TN-3089", output.Outliers[0].Serial)
		assert.NotNil(t, output.Cp)
		assert.Less(t, output.Cpk.Low, output.Cpk.Value)
		assert.Equal(t, "the values are all equal", p.Figures[1].Why)
		require.Len(t, p.Bays, 1)
		assert.InDelta(t, 40, *p.Bays[0].Test, 1e-6)
		assert.InDelta(t, 20, *p.Bays[0].Idle, 1e-6)

		strict, err := h.Local.Lot(t.Context(), "L 96", api.LotRequest{Strict: true, Each: true, Procedure: "outgoing"})
		require.NoError(t, err)
		assert.InDelta(t, 87.5, strict.Procedures[0].Yield.Value, 1e-9)
		_, err = h.Local.Lot(t.Context(), "L 96", api.LotRequest{Procedure: "another"})
		assert.Equal(t, 404, problemOf(t, err).Status)
		_, err = h.Local.Lot(t.Context(), "nothing", api.LotRequest{})
		assert.Equal(t, 404, problemOf(t, err).Status)
	})
}
