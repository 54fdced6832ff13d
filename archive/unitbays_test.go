package archive

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/store"
)

// What bays found of one unit is compared where they asked the same, by the newest attempt of each.
func TestBaysAreComparedByWhatTheyFound(t *testing.T) {
	s, err := store.Open(filepath.Join(t.TempDir(), store.File))
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	at := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	ran := func(id, bay, outcome string, revision int, amps string, values ...figure.Result) {
		at = at.Add(time.Minute)
		require.NoError(t, s.CreateRun(&store.Run{ID: id, Bay: bay, Serial: "TN-1", Procedure: "outgoing",
			Revision: revision, Parameters: map[string]string{"top": amps}, StartedAt: at, EndedAt: &at, State: "done"}))
		var judged []procedure.Judged
		for _, v := range values {
			v.ID = "efficiency"
			judged = append(judged, procedure.Judged{Result: v, Title: "Efficiency"})
		}
		require.NoError(t, s.SaveFigures(id, judged, map[string]any{"outcome": outcome}))
	}
	ran("R1", "bay1", "pass", 1, "8 A", figure.Result{Value: 80, U: 0.1})
	ran("R2", "bay2", "pass", 1, "8 A", figure.Result{Value: 94, U: 0.1})
	ran("R3", "bay1", "pass", 2, "4 A", figure.Result{Value: 90, U: 0.1})
	ran("R4", "bay2", "pass", 2, "8 A", figure.Result{Value: 94.0, U: 0.1}, figure.Result{Value: 95, U: 0})
	ran("R5", "bay1", "fail", 2, "8 A", figure.Result{Value: 94.3, U: 0.1}, figure.Result{Value: 96, U: 0.1})
	ran("R6", "bay3", "aborted", 2, "8 A", figure.Result{Value: 0, U: 0.1})
	u, err := Unit(s, "TN-1")
	require.NoError(t, err)
	require.Len(t, u.Across, 2, "the newest revision, with the same parameters: %+v", u.Across)
	f := u.Across[0]
	require.Len(t, f.Bays, 2, "an attempt that does not count says nothing")
	assert.Equal(t, []string{"R5", "R4"}, []string{f.Bays[0].Run, f.Bays[1].Run})
	assert.Equal(t, []string{"bay1", "bay2"}, []string{f.From, f.To})
	assert.InDelta(t, -0.3, f.Difference, 1e-9)
	assert.InDelta(t, 0.141421, f.U, 1e-6)
	assert.True(t, f.Differs)
	assert.Zero(t, u.Across[1].U, "where one uncertainty is not known")
	assert.False(t, u.Across[1].Differs, "nothing is said of agreement")
}
