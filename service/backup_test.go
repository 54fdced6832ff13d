package service_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/outcome"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant/backup"
)

// carried runs a procedure of the scenario on a back-up supply.
func carried(t *testing.T, h *servicetest.House, name, serial string, parameters map[string]string) api.Run {
	run, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: name, Serial: serial,
		Parameters: parameters})
	require.NoError(t, err)
	return h.Ended(run)
}

// Full power goes round: what the unit loses is found though the load loses more, and what is wrong with a unit shows.
func TestPowerGoesRoundABackUpSupply(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 20, Layouts: []simbench.Layout{simbench.Recirculated}})
		answering(t, h)
		parameters := map[string]string{"between": "2 min"}
		run := carried(t, h, "kittiwake-recirculated", demo.GoodSupply, parameters)
		require.Equal(t, "done", run.State, run.Reason)
		require.Equal(t, "pass", run.Outcome)
		supply, err := backup.Kittiwake(demo.GoodSupply, "")
		require.NoError(t, err)
		power := 60e3 * (1 + figureOf(t, run, "hold-deviation").Value/100)
		for id, truth := range map[string]float64{"unit-loss": supply.Loss(power), "input-output-loss": supply.Loss(power),
			"input-output-efficiency": 100 * power / (power + supply.Loss(power))} {
			f := figureOf(t, run, id)
			assert.InDelta(t, truth, f.Value, 1.5*f.U, "%s, ± %g", id, f.U)
		}
		assert.Less(t, 10*figureOf(t, run, "unit-loss").U, figureOf(t, run, "input-output-loss").U,
			"one meter knows a small difference better than two")
		assert.Len(t, run.Attachments, 5, "a picture each time")

		hot := carried(t, h, "kittiwake-recirculated", demo.HotSupply, parameters)
		assert.Equal(t, outcome.Fail, figureOf(t, hot, "maximum").Outcome)
		weak := carried(t, h, "kittiwake-recirculated", "KW-803", parameters)
		assert.Equal(t, "aborted", weak.State)
		assert.Contains(t, weak.Reason, "the output leaves its band")

		_, err = h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "kittiwake-recirculated",
			Serial: "KW-804", Parameters: map[string]string{"each": "21 kW"}})
		assert.ErrorContains(t, err, "21 kW", "a module is asked for no more than its nameplate states")
		two := carried(t, h, "kittiwake-recirculated", "KW-804", map[string]string{"modules": "2", "between": "1 min"})
		assert.InDelta(t, 40e3, 40e3*(1+figureOf(t, two, "hold-deviation").Value/100), 400)
	})
}

func TestABackUpSupplyCarriesItsLoadUntilItGivesUp(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 20, Layouts: []simbench.Layout{simbench.Recirculated}})
		answering(t, h)
		run := carried(t, h, "kittiwake-backup", demo.GoodSupply, map[string]string{"power": "45 kW"})
		require.Equal(t, "done", run.State, run.Reason)
		supply, err := backup.Kittiwake(demo.GoodSupply, "")
		require.NoError(t, err)
		found := figureOf(t, run, "backup-time")
		require.Nil(t, found.Undetermined)
		lasts := supply.Store / (45e3 + supply.Loss(45e3))
		assert.InDelta(t, lasts, found.Value, math.Max(found.U, 0.01*lasts))
	})
}
