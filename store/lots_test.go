package store

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/procedure"
)

// A lot that is read in two halves is the same as one that is read at once, whatever lies where.
func TestALotIsReadInHalves(t *testing.T) {
	s, err := Open(filepath.Join(t.TempDir(), File))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	at := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	for k := range 12 {
		id := fmt.Sprintf("R%02d", k)
		state, began := "done", at.Add(time.Duration(k%5)*time.Minute) // not as they came on record
		if k == 7 {
			state = Live
		}
		require.NoError(t, s.CreateRun(&Run{ID: id, Lot: []string{"L-1", "L-2"}[k/4%2], Procedure: "quick",
			Serial: fmt.Sprintf("TN-%d", k%3), StartedAt: began, State: state}))
		require.NoError(t, s.SaveFigures(id, []procedure.Judged{{Result: figure.Result{Value: float64(k),
			Request: figure.Request{ID: "efficiency"}}}}, map[string]any{"outcome": "pass"}))
	}
	require.NoError(t, s.UpdateRun("R09", map[string]any{"results": ""})) // of an earlier schema
	for _, lot := range []string{"L-1", "L-2", "L-3"} {
		whole, err := s.Lot(lot, "")
		require.NoError(t, err)
		halves, err := s.lot(lot, "quick", 2)
		require.NoError(t, err)
		assert.Equal(t, whole, halves, lot)
		assert.Len(t, whole, map[string]int{"L-1": 8, "L-2": 3}[lot])
		for _, r := range halves {
			require.Len(t, r.Values, 1)
			assert.Equal(t, r.ID, fmt.Sprintf("R%02.0f", r.Values[0].Value))
		}
	}
}
