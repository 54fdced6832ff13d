package service_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// rippled is a test of every unit that also sees its ripple: it needs the scope for a fifth of its time.
const rippled = `procedure: rippled
for: tern
needs:
  source: {volts: 60 V, amps: 5 A}
  load: {volts: 20 V, amps: 9 A, modes: [current]}
  scope: {}
stages:
  - name: power up
    set:
      source: {volts: 48 V, amps: 5 A, output: on}
      load: {mode: current, amps: 0.5 A, output: on}
    until: "load.volts > 14.5 V for 300 ms"
    within: 3 s
  - grid:
      over:
        - {set: source.volts, values: [36 V, 60 V, 48 V]}
        - {set: load.amps, values: [0.5 A, 8 A]}
      settle: 150 ms
      average: 150 ms
  - name: ripple
    capture: {channels: {output: {range: 800 mV, coupling: ac}}, span: 200 us, samples: 20000}
  - name: slow ripple
    capture: {channels: {output: {range: 800 mV, coupling: ac}}, span: 500 ms, samples: 2000}
figures:
  - {figure: ripple-rms, stage: ripple, limit: {max: 15 mV}}
  - {figure: load-regulation, at: {source.volts: 48 V}, limit: {max: 0.5 %}}
`

// throughput tests units by a procedure at places of some bays, as fast as they go, and tells how long that took.
func throughput(t *testing.T, h *servicetest.House, procedure, lot string, bays, units int) time.Duration {
	t.Helper()
	began := time.Now()
	var all sync.WaitGroup
	for b := range bays {
		bay := fmt.Sprintf("bay%d", b+1)
		setUp(t, h, bay, api.PlaceSetup{Procedures: []string{procedure}, Lot: lot})
		all.Go(func() {
			for k := b; k < units; k += bays {
				_, err := h.Local.Scan(t.Context(), bay, fmt.Sprintf("TN-%d", 3000+k))
				if !assert.NoError(t, err) {
					return
				}
				for {
					p, err := h.Local.Place(t.Context(), bay)
					if !assert.NoError(t, err) || p.Unit == nil {
						break
					}
					time.Sleep(10 * time.Millisecond)
				}
			}
		})
	}
	all.Wait()
	return time.Since(began)
}

// means are those of the figures of a lot of 16 units.
func means(t *testing.T, h *servicetest.House, lot string) (all []float64) {
	t.Helper()
	l, err := h.Local.Lot(t.Context(), lot, api.LotRequest{})
	require.NoError(t, err)
	require.Equal(t, 16, l.Procedures[0].Units)
	for _, f := range l.Procedures[0].Figures {
		all = append(all, *f.Mean)
	}
	return all
}

// Four bays that share one scope still are three times as fast as one, with the same figures.
func TestFourBaysWithOneScopeAreThreeTimesAsFast(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 1, Ideal: true, SharedScope: true,
			Layouts: []simbench.Layout{simbench.Scoped, simbench.Scoped, simbench.Scoped, simbench.Scoped}})
		h.Push(rippled)
		one, four := throughput(t, h, "rippled", "one", 1, 16), throughput(t, h, "rippled", "four", 4, 16)
		t.Logf("one bay %v, four %v: %.2f times as fast", one, four, one.Seconds()/four.Seconds())
		assert.GreaterOrEqual(t, one.Seconds()/four.Seconds(), 3.0)
		assert.InDeltaSlice(t, means(t, h, "one"), means(t, h, "four"), 0.02)
	})
}

// Four bays side by side are nearly four times as fast as one, with the same figures.
func TestFourBaysAreFourTimesAsFast(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 4, TimeFactor: 1, Ideal: true})
		one, four := throughput(t, h, "tern-outgoing", "one", 1, 16), throughput(t, h, "tern-outgoing", "four", 4, 16)
		assert.GreaterOrEqual(t, one.Seconds()/four.Seconds(), 3.8)
		assert.InDeltaSlice(t, means(t, h, "one"), means(t, h, "four"), 0.02)
		for lot, want := range map[string]float64{"one": 0, "four": 3 * four.Seconds()} {
			l, err := h.Local.Lot(t.Context(), lot, api.LotRequest{})
			require.NoError(t, err)
			assert.InDelta(t, want, l.Procedures[0].Saved, 0.2*four.Seconds(), "saved by %s", lot)
			for _, b := range l.Procedures[0].Bays {
				assert.Greater(t, b.Use, 80.0, "%s of %s", b.Bay, lot)
			}
		}
		d, err := h.Local.LotDifference(t.Context(), "four", "one", "")
		require.NoError(t, err)
		require.Len(t, d.Figures, 4)
		for _, f := range d.Figures {
			assert.False(t, f.Differs, "%s: the same units in other bays", f.Figure)
		}
	})
}

// The units at several places are begun together, or none where one is not ready; a unit is at one place only.
func TestPlacesBeginTogether(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 3, TimeFactor: 1})
		for _, bay := range []string{"bay1", "bay2"} {
			setUp(t, h, bay, api.PlaceSetup{Procedures: []string{"tern-outgoing"}, Lot: "L-1", Begins: api.BeginsByKey})
		}
		scan := func(bay, serial string) error {
			_, err := h.Local.Scan(t.Context(), bay, serial)
			return err
		}
		require.NoError(t, scan("bay1", "TN-1"))
		assert.ErrorContains(t, scan("bay2", "TN-1"), "TN-1 was scanned in bay1")
		for want, bays := range map[string][]string{"no unit was scanned": {"bay1", "bay2"}, "named twice": {"bay1", "bay1"},
			"not set up": {"bay1", "bay3"}, "say at which places": {}, "bay9": {"bay1", "bay9"}} {
			_, err := h.Local.BeginTogether(t.Context(), bays...)
			assert.ErrorContains(t, err, want)
		}
		p, err := h.Local.Place(t.Context(), "bay1")
		require.NoError(t, err)
		assert.Empty(t, p.Unit.Run, "none begins where one is not ready")
		require.NoError(t, scan("bay2", "TN-2"))
		all, err := h.Local.BeginTogether(t.Context(), "bay1", "bay2")
		require.NoError(t, err)
		require.Len(t, all, 2)
		var began []time.Time
		for i, bay := range []string{"bay1", "bay2"} {
			require.Empty(t, all[i].Unit.Problem)
			run, err := h.Local.Run(t.Context(), all[i].Unit.Run)
			require.NoError(t, err)
			began = append(began, run.StartedAt)
			assert.Equal(t, api.VerdictPass, operated(t, h, bay).Last.Verdict)
		}
		assert.InDelta(t, 0, began[1].Sub(began[0]).Seconds(), 0.1)

		why := "smells burnt"
		_, err = h.Local.ChangeUnit(t.Context(), "TN-4", api.UnitChange{Quarantine: &why})
		require.NoError(t, err)
		for _, bay := range []string{"bay1", "bay2"} {
			p, err := h.Local.Place(t.Context(), bay)
			require.NoError(t, err)
			assert.Equal(t, 2, p.Tally.Passed, "%s shows what is counted for the whole lot", bay)
		}
		require.NoError(t, scan("bay1", "TN-3"))
		require.NoError(t, scan("bay2", "TN-4"))
		all, err = h.Local.BeginTogether(t.Context(), "bay2", "bay1")
		require.NoError(t, err)
		assert.Contains(t, all[0].Unit.Problem, "smells burnt", "what stands in the way of one")
		assert.NotEmpty(t, all[1].Unit.Run, "does not keep the others")
		assert.Equal(t, api.VerdictPass, operated(t, h, "bay1").Last.Verdict)
	})
}

// Two healthy bays agree on a unit, within the uncertainties that they state; the unit's page and report say so.
func TestTwoBaysAgreeOnAUnit(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2, TimeFactor: 1})
		for _, bay := range []string{"bay1", "bay2"} {
			setUp(t, h, bay, api.PlaceSetup{Procedures: []string{"tern-outgoing"}})
			assert.Equal(t, api.VerdictPass, tested(t, h, bay, "TN-7").Last.Verdict)
		}
		u, err := h.Local.Unit(t.Context(), "TN-7")
		require.NoError(t, err)
		require.Len(t, u.Across, 4)
		for _, f := range u.Across {
			assert.False(t, f.Differs, "%+v", f)
			assert.Positive(t, f.U, "%+v", f)
		}
		var page strings.Builder
		require.NoError(t, h.Local.UnitReport(t.Context(), "TN-7", "history", client.Printed{Format: "html"}, &page))
		assert.Contains(t, page.String(), "In several bays")
		assert.Contains(t, page.String(), "agree")
	})
}
