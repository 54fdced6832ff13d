package report

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/trace"
	"usherbench/store"
)

// The voltmeter stands before the ammeter, or behind it.
func TestAConnectionIsDrawn(t *testing.T) {
	drawings := map[string]string{}
	for _, w := range Wirings() {
		svg, err := Connection(w)
		require.NoError(t, err)
		for _, sign := range []string{">V</text>", ">A</text>", ">unit</text>"} {
			assert.Contains(t, string(svg), sign)
		}
		drawings[w] = string(svg)
	}
	assert.NotEqual(t, drawings["voltmeter-at-supply"], drawings["voltmeter-at-unit"])
	_, err := Connection("anywhere")
	assert.ErrorContains(t, err, "say voltmeter-at-supply or voltmeter-at-unit")
}

// A run of which nothing else is drawn has its course: the whole of each quantity, its parts left out.
func TestTheCourseOfARunIsDrawn(t *testing.T) {
	s, err := store.Open(filepath.Join(t.TempDir(), "usher.db"))
	require.NoError(t, err)
	defer s.Close()
	run := store.Run{ID: "01COURSE", State: store.Live, StartedAt: time.Now(),
		Columns: trace.Columns{"meter.watts", "meter.watts.1", "thermo.celsius", "meter.hertz"}}
	require.NoError(t, s.CreateRun(&run))
	r := s.NewRecorder(run.ID, run.Columns)
	for k := range 700 {
		r.Frame(trace.Frame{T: float64(k), Values: []float64{100, 33, 23 + float64(k)/100, 50}})
	}
	require.NoError(t, r.Finish(map[string]any{"state": "done", "duration": 699.0}))
	run.Duration = 699
	pictures, err := CoursePictures(t.Context(), s, run)
	require.NoError(t, err)
	require.Len(t, pictures, 2)
	assert.Equal(t, []string{"Watts", "Temperature"}, []string{pictures[0].Title, pictures[1].Title})
	require.Len(t, pictures[0].Lines, 1, "not its phases")
	assert.Equal(t, "min since the start", pictures[1].XLabel)
	x := pictures[1].Lines[0].X
	assert.InDelta(t, 699.0/60, x[len(x)-1], 0.1)
}
