package service_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

const behindLeads = `procedure: behind-leads
for: any
needs: {source: {volts: 48 V, amps: 5 A}, load: {volts: 15 V, amps: 8 A}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 1 A, output: on}}
  - grid:
      over: [{set: source.volts, values: [48 V]}, {set: load.amps, values: [1 A, 4 A, 8 A]}]
      settle: 500 ms
      average: 500 ms
  - name: full
    hold: {for: 1 s}
figures:
  - {figure: settled-average, stage: full, quantity: load.volts}
  - {figure: efficiency, at: {load.amps: 8 A}}
  - {figure: load-shift}
`

// A load that reads at its own terminals sees too few volts behind thick current and thin leads. Stated leads correct
// that, with what they are known to in U; the unit's figures are those of a bench without leads.
func TestVoltsAreCorrectedForLeads(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		figures := func(truth float64, stated *api.LeadsConfig) ([]procedure.Judged, api.Preflight) {
			h := servicetest.Start(t, servicetest.Options{Ideal: true, LoadLeads: truth, Change: func(c *bench.Config) {
				seat := c.Bays["bay1"].Seats["load"]
				seat.Leads = stated
				c.Bays["bay1"].Seats["load"] = seat
			}})
			h.Push(behindLeads)
			p, err := h.Local.Preflight(t.Context(), api.StartRun{Bay: "bay1", Procedure: "behind-leads", Serial: "TN-7"})
			require.NoError(t, err)
			doc := h.Ended(h.Start("bay1", "behind-leads", "TN-7"))
			require.Equal(t, "done", doc.State, doc.Reason)
			require.Len(t, doc.Figures, 3)
			return doc.Figures, p
		}
		const ohms, within = 0.05, 0.004
		truth, _ := figures(0, nil)
		off, _ := figures(ohms, nil)
		right, p := figures(ohms, &api.LeadsConfig{Ohms: ohms, Within: within})
		poor, _ := figures(ohms, &api.LeadsConfig{Ohms: ohms - 0.9*within, Within: within})
		assert.InDelta(t, truth[0].Result.Value-8*ohms, off[0].Result.Value, 1e-3, "what nobody corrects is off")
		for k := range truth {
			name, want := truth[k].Result.ID, truth[k].Result.Value
			assert.NotContains(t, truth[k].Result.Remarks, figure.Corrected, name)
			assert.Contains(t, right[k].Result.Remarks, figure.Corrected, name)
			assert.InEpsilon(t, want, right[k].Result.Value, 1e-3, name)
			assert.Greater(t, right[k].Result.U, truth[k].Result.U, name)
			assert.LessOrEqual(t, math.Abs(poor[k].Result.Value-want), poor[k].Result.U, "%s holds the truth", name)
			assert.Greater(t, math.Abs(off[k].Result.Value-want), 2*off[k].Result.U, name)
		}
		said := false
		for _, f := range p.Findings {
			said = said || f.What == "volts of load are corrected for leads of 50 mΩ ± 4 mΩ"
		}
		assert.True(t, said, "%+v", p.Findings)
	})
}

// Leads that nobody can know, or that carry nothing, are refused.
func TestLeadsAreChecked(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Metered}})
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		for _, c := range []struct {
			seat, words string
			leads       api.LeadsConfig
		}{
			{"load", "nobody knows it exactly", api.LeadsConfig{Ohms: 0.05}},
			{"load", "above 0 and up to 100", api.LeadsConfig{Ohms: -1, Within: 0.1}},
			{"thermo", "carries no current", api.LeadsConfig{Ohms: 0.05, Within: 0.01}},
		} {
			b := config.Bays["bay1"]
			b.Seats = map[string]api.SeatConfig{}
			for name, seat := range config.Bays["bay1"].Seats {
				if name == c.seat {
					seat.Leads = &c.leads
				}
				b.Seats[name] = seat
			}
			_, err := h.Local.PutBay(t.Context(), "bay1", b)
			require.Error(t, err)
			assert.Equal(t, 400, problemOf(t, err).Status)
			assert.Contains(t, err.Error(), c.words)
		}
	})
}
