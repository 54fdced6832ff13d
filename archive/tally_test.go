package archive

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/store"
)

// What is counted unit by unit, as outcomes come on record and change there, is what counting from the beginning gives.
func TestCountingOnIsCountingFromTheBeginning(t *testing.T) {
	s, err := store.Open(filepath.Join(t.TempDir(), store.File))
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	var heard []string
	s.HearOutcomes(func(run string) { heard = append(heard, run) })
	checked := 0
	rapid.Check(t, func(t *rapid.T) {
		checked++
		lot := fmt.Sprintf("L-%d", checked)
		id := func(run int) string { return fmt.Sprintf("R-%d-%d", checked, run) }
		counted, err := Count(s, lot, "", time.Time{})
		require.NoError(t, err)
		at := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
		runs := 0
		for range rapid.IntRange(1, 30).Draw(t, "steps") {
			outcome := rapid.SampledFrom([]string{"pass", "marginal", "fail", "aborted", "undetermined"}).Draw(t, "outcome")
			which := rapid.IntRange(0, runs).Draw(t, "run")
			if which == runs { // a new one
				runs++
				counts := rapid.SampledFrom([]string{"first", "last"}).Draw(t, "counts")
				require.NoError(t, s.CreateRun(&store.Run{ID: id(which),
					Serial:        rapid.SampledFrom([]string{"TN-1", "TN-2", "TN-3"}).Draw(t, "serial"),
					Procedure:     rapid.SampledFrom([]string{"quick", "long"}).Draw(t, "procedure"),
					Lot:           rapid.SampledFrom([]string{lot, "another"}).Draw(t, "lot"),
					NameplateText: "nameplate: tern\nkind: converter\nretest: {counts: " + counts + "}\n",
					StartedAt:     at.Add(time.Duration(which) * time.Minute), State: "done"}))
			}
			require.NoError(t, s.UpdateRun(id(which), map[string]any{"outcome": outcome}))
			require.Equal(t, []string{id(which)}, heard)
			run, err := s.Run(heard[0])
			require.NoError(t, err)
			if heard = nil; counted.Concerns(run) {
				require.NoError(t, counted.Again(run))
			}
			anew, err := Count(s, lot, "", time.Time{})
			require.NoError(t, err)
			require.Equal(t, anew.tally, counted.tally)
			require.Equal(t, anew.units, counted.units)
		}
	})
}
