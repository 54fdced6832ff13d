package service_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

func TestCellsSideBySideAreBalancedAtTheTop(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.SideBySide}, TimeFactor: 1500})
		before, err := h.Bench.State("bay1")
		require.NoError(t, err)
		assert.Greater(t, before.Spread, 0.03)
		run := asRehearsed(t, h, 1500, ready{"bay1", "gannet-top-balance", map[string]string{"rate": "0.25 C"}})
		after, err := h.Bench.State("bay1")
		require.NoError(t, err)
		assert.Less(t, after.Spread, 0.003, "all are equally full")
		assert.Greater(t, after.Charge, 0.95)
		assert.Equal(t, "pass", run.Outcome, "it ended by the trickle, not by the time")

		share := figureOf(t, run, "share")
		require.Nil(t, share.Undetermined)
		require.Len(t, share.Table.Rows, 7)
		var percent, charge float64
		for _, row := range share.Table.Rows {
			charge += row[1].(float64)
			percent += row[2].(float64)
		}
		assert.InDelta(t, 100, percent, 1e-6)
		returned := figureOf(t, run, "charge-returned")
		require.Nil(t, returned.Undetermined)
		assert.InDelta(t, returned.Value, charge, 0.01*returned.Value, "what the cells took is what the cycler gave")
		assert.Positive(t, figureOf(t, run, "share-imbalance").Value)

		// A cell that a blown fuse takes out of it shows in its share.
		require.NoError(t, h.Bench.ClipModel("bay1", "gannet-bank", "GB-42", "blown-fuse"))
		h.Push(strings.Replace(mustText(t, "gannet-top-balance"), "procedure: gannet-top-balance", "procedure: balance-half",
			1))
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		bay := config.Bays["bay1"]
		bay.Handler = "" // it would mend the fuse
		_, err = h.Local.PutBay(t.Context(), "bay1", bay)
		require.NoError(t, err)
		blown, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "balance-half", Serial: "GB-42",
			Parameters: map[string]string{"longest": "1 h"}})
		require.NoError(t, err)
		doc := h.Ended(blown)
		imbalance := figureOf(t, doc, "share-imbalance")
		assert.InDelta(t, 100, imbalance.Value, 1, "one cell took nothing")
		assert.Contains(t, imbalance.Remarks, "farthest from its part: meter7.amps")
	})
}

// A serial number that was tested as one type is not tested as another before somebody has looked.
func TestAUnitOfAnotherTypeNeedsALook(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		const hold = "\nneeds: {source: {volts: 10 V}}\nstages: [{set: {source: {volts: 10 V, amps: 1 A}}}, " +
			"{hold: {for: 100 ms}}]\n"
		tern := ""
		for _, text := range demo.Nameplates() {
			if strings.Contains(text, "nameplate: tern\n") {
				tern = text
			}
		}
		_, err := h.Local.PushNameplate(t.Context(), strings.Replace(tern, "nameplate: tern", "nameplate: egret", 1))
		require.NoError(t, err)
		h.Push("procedure: as-tern\nfor: tern" + hold)
		h.Push("procedure: as-egret\nfor: egret" + hold)
		h.Ended(h.Start("bay1", "as-tern", "TN-1"))
		start := api.StartRun{Bay: "bay1", Procedure: "as-egret", Serial: "TN-1"}
		_, err = h.Local.StartRun(t.Context(), start)
		assert.Contains(t, problemOf(t, err).Detail, "TN-1 was tested as tern before, last with as-tern on 2026-11-02")
		start.Vouched = []string{"nameplate"}
		run, err := h.Local.StartRun(t.Context(), start)
		require.NoError(t, err)
		h.Ended(run)
		start.Vouched = nil
		p, err := h.Local.Preflight(t.Context(), start)
		require.NoError(t, err)
		assert.False(t, p.Blocked, "it is known as an egret now")
	})
}

func TestWhoHasLookedVouchesForAPackThatMayBeOfFewerCells(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.BatteryPack}, TimeFactor: 600})
		ctx := t.Context()
		h.Push(`procedure: top-up
for: gannet
needs: {cycler: {volts: 29.4 V, amps: 9.6 A}}
stages: [{name: fill, charge: {amps: 0.1 C, time: 2 min}}]
`)
		h.Push(`procedure: nearly-out
for: gannet
needs: {cycler: {volts: 29.4 V, amps: 9.6 A}}
stages: [{name: empty, discharge: {amps: 0.5 C, cutoff: 21.4 V}}, {name: rest, rest: {for: 2 min}}]
`)
		// Seven cells that are nearly empty look like six that are half full.
		drained := h.Ended(h.Start("bay1", "nearly-out", "GP-320"))
		require.Equal(t, "done", drained.State, drained.Reason)
		start := api.StartRun{Bay: "bay1", Procedure: "top-up", Serial: "GP-320"}
		p, err := h.Local.Preflight(ctx, start)
		require.NoError(t, err)
		assert.False(t, p.Blocked, "it was emptied by a run on record")
		assert.Contains(t, findings(t, h, start)["cells"].What, "since run "+drained.ID+" on it went well")

		start.Serial = "GP-320 B" // another label on the same pack: the bench is told to leave it in place
		config, err := h.Local.BenchConfig(ctx)
		require.NoError(t, err)
		bay := config.Bays["bay1"]
		bay.Handler = ""
		_, err = h.Local.PutBay(ctx, "bay1", bay)
		require.NoError(t, err)
		_, err = h.Local.StartRun(ctx, start)
		problem := problemOf(t, err)
		assert.Equal(t, http.StatusConflict, problem.Status)
		assert.Contains(t, problem.Detail, "look at the label")
		assert.Contains(t, problem.Detail, "cells of NMC in series have, and the nameplate says 7")

		discharge := start
		discharge.Procedure = "nearly-out"
		assert.Equal(t, api.Warns, findings(t, h, discharge)["cells"].Verdict, "a discharge does no harm")
		taken, err := h.Local.StartRun(ctx, discharge)
		require.NoError(t, err)
		require.Equal(t, "done", h.Ended(taken).State)
		_, err = h.Local.StartRun(ctx, start)
		assert.Equal(t, http.StatusConflict, problemOf(t, err).Status, "that it could be discharged does not tell its cells")
		start.Vouched = []string{"polarity"}
		_, err = h.Local.StartRun(ctx, start)
		problem = problemOf(t, err)
		assert.Equal(t, http.StatusBadRequest, problem.Status)
		assert.Contains(t, problem.Detail, `nobody can vouch for "polarity"`)
		start.Vouched = nil

		start.Serial = "GP-320 D"
		queued, err := h.Local.Enqueue(ctx, api.Enqueue{Bays: []string{"bay1"}, Serials: []string{start.Serial},
			Procedures: []string{start.Procedure}})
		require.NoError(t, err)
		held := func(words string) api.Waiting {
			var w api.Waiting
			require.Eventually(t, func() bool {
				q, err := h.Local.Queue(ctx, "bay1")
				if err != nil || len(q) == 0 || !strings.Contains(q[0].Held, words) {
					return false
				}
				w = q[0]
				return true
			}, 20*time.Second, 20*time.Millisecond)
			return w
		}
		assert.Empty(t, held("put GP-320 D in place").Asks)
		_, err = h.Local.Release(ctx, queued[0].ID)
		require.NoError(t, err)
		assert.Equal(t, []string{"cells"}, held("look at the label").Asks, "that it is in place says nothing of its cells")
		_, err = h.Local.Release(ctx, queued[0].ID)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			runs, err := h.Local.Runs(ctx, client.RunFilter{Serial: start.Serial})
			return err == nil && len(runs) == 1 && runs[0].State == "done"
		}, 30*time.Second, 50*time.Millisecond)

		start.Serial, start.Vouched = "GP-320 C", []string{"cells"}
		run, err := h.Local.StartRun(ctx, start)
		require.NoError(t, err)
		doc := h.Ended(run)
		assert.Equal(t, "done", doc.State, doc.Reason)
		for _, f := range doc.Preflight {
			if f.Check == "cells" {
				assert.Contains(t, f.What, "the operator vouches for it")
			}
		}
	})
}
