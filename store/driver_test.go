package store

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever zone a time is told in, it is kept and compared as the instant that it is.
func TestTimesAreComparedAsInstants(t *testing.T) {
	s := open(t)
	east, west := time.FixedZone("east", 9*3600), time.FixedZone("west", -7*3600)
	noon := time.Date(2026, 3, 29, 12, 0, 0, 0, time.UTC)
	// By their texts the first would be the later one.
	require.NoError(t, s.CreateRun(&Run{ID: "01A", State: "done", StartedAt: noon.Add(-time.Hour).In(east)}))
	require.NoError(t, s.CreateRun(&Run{ID: "01B", State: "done", StartedAt: noon.Add(time.Hour).In(west)}))
	var texts []string
	require.NoError(t, s.db.Raw("SELECT started_at || '' FROM runs ORDER BY id").Scan(&texts).Error)
	assert.Equal(t, []string{"2026-03-29 11:00:00+00:00", "2026-03-29 13:00:00+00:00"}, texts)
	for _, zone := range []*time.Location{east, time.UTC, west} {
		runs, err := s.Runs(RunFilter{Since: noon.In(zone)})
		require.NoError(t, err)
		require.Len(t, runs, 1, zone)
		assert.Equal(t, "01B", runs[0].ID)
		assert.True(t, runs[0].StartedAt.Equal(noon.Add(time.Hour)))
		assert.Equal(t, time.Local, runs[0].StartedAt.Location(), "people are told in the zone of the computer")
	}
}
