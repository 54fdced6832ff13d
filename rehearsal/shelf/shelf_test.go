package shelf

import (
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/rehearsal"
	"usherbench/store"
)

const plate = `nameplate: knot
kind: converter
ratings: {rated_volts: 12 V, rated_current: 5 A, nominal_line: 48 V, lowest_line: 36 V, rated_efficiency: 92 %}
`

const text = `procedure: knot-point
for: knot
needs: {source: {}, load: {}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 5 A, output: on}}
  - name: measure
    grid:
      over: [{set: load.amps, values: [1 A, 5 A]}, {set: source.volts, values: [48 V]}]
      settle: 4 s
      average: 1 s
figures:
  - {figure: efficiency, at: {source.volts: 48 V, load.amps: 5 A}}
`

func newShelf(t *testing.T) (*Shelf, *store.Store) {
	s, err := store.Open(filepath.Join(t.TempDir(), "usher.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return New(s, func(string) (string, error) { return "", procedure.ErrNoLibrary }), s
}

// The same draft is rehearsed once; whatever a rehearsal depends on makes another of it.
func TestADraftIsRehearsedOnce(t *testing.T) {
	s, _ := newShelf(t)
	draft := api.Draft{Text: text, Nameplate: plate}
	first, err := s.Rehearse(t.Context(), draft)
	require.NoError(t, err)
	assert.Equal(t, "done", first.Ending)
	assert.InDelta(t, 10, first.Duration, 1)
	again, err := s.Rehearse(t.Context(), draft)
	require.NoError(t, err)
	assert.True(t, first.At.Equal(again.At), "it was kept")
	assert.Equal(t, first.Values, again.Values)
	assert.Equal(t, first.Took, again.Took)
	keys := map[string]bool{first.Key: true}
	for _, other := range []api.Draft{
		{Text: text, Nameplate: plate, Serial: "TN-2"},
		{Text: text, Nameplate: plate, Fault: "weak-regulation"},
		{Text: text + "# a remark\n", Nameplate: plate},
		{Text: text, Nameplate: plate + "title: Knot\n"},
	} {
		r, err := s.Rehearse(t.Context(), other)
		require.NoError(t, err)
		assert.False(t, keys[r.Key], "%+v", other)
		keys[r.Key] = true
	}
}

func TestAFaultShowsInTheRehearsal(t *testing.T) {
	s, _ := newShelf(t)
	well, err := s.Rehearse(t.Context(), api.Draft{Text: text, Nameplate: plate})
	require.NoError(t, err)
	require.Nil(t, well.Figures[0].Undetermined)
	assert.InDelta(t, 92, well.Figures[0].Value, 0.2, "the efficiency of its nameplate at full load")
	ill, err := s.Rehearse(t.Context(), api.Draft{Text: text, Nameplate: plate, Fault: "low-efficiency"})
	require.NoError(t, err)
	assert.Less(t, ill.Figures[0].Value, well.Figures[0].Value-1)
}

func TestManyAtOnceGetTheSame(t *testing.T) {
	s, _ := newShelf(t)
	var wg sync.WaitGroup
	got := make([]api.Rehearsal, 8)
	for i := range got {
		wg.Add(1)
		go func() {
			defer wg.Done()
			var err error
			got[i], err = s.Rehearse(t.Context(), api.Draft{Text: text, Nameplate: plate})
			assert.NoError(t, err)
		}()
	}
	wg.Wait()
	for _, r := range got {
		assert.Equal(t, got[0].Key, r.Key)
		assert.Equal(t, got[0].Values, r.Values)
	}
}

func TestWhatCannotBeRehearsedSaysWhy(t *testing.T) {
	s, records := newShelf(t)
	_, err := s.Rehearse(t.Context(), api.Draft{Text: "procedure: [", Nameplate: plate})
	assert.Error(t, err)
	_, err = s.Rehearse(t.Context(), api.Draft{Text: text, Nameplate: plate, Fault: "rusty"})
	assert.ErrorIs(t, err, api.ErrBadRequest)
	assert.ErrorContains(t, err, `"rusty" is not a fault of a converter`)
	_, err = s.Rehearse(t.Context(), api.Draft{Text: text})
	assert.Error(t, err, "its nameplate is not stored")
	require.NoError(t, records.PutNameplate(store.Nameplate{Name: "knot", Text: plate}))
	_, err = s.Rehearse(t.Context(), api.Draft{Text: text})
	assert.NoError(t, err)
}

func TestAPictureHasNoMoreFramesThanAScreenShows(t *testing.T) {
	for _, n := range []int{0, 1, 7, 4000, 4001, 100_000} {
		times := make([]float64, n)
		keep := thinned(times, mostShown)
		assert.LessOrEqual(t, len(keep), mostShown+1)
		if n > 0 {
			assert.Equal(t, 0, keep[0])
			assert.Equal(t, n-1, keep[len(keep)-1], "the last one is kept")
		}
	}
}

// The newest rehearsals of runs stay in memory, and no more.
func TestOnlyTheNewestForetellingsStay(t *testing.T) {
	var f foretellings
	computed := 0
	for round := range 2 {
		for i := range mostForetold + 1 {
			_, err := f.of(string(rune('a'+i)), func() (*rehearsal.Foretold, error) { computed++; return nil, nil })
			require.NoError(t, err)
		}
		require.Len(t, f.keys, mostForetold, "round %d", round)
		require.Len(t, f.all, mostForetold)
	}
	assert.Equal(t, 2*(mostForetold+1), computed, "one more than is kept, in turn, is never found")
	_, err := f.of(f.keys[0], func() (*rehearsal.Foretold, error) { t.Error("it is known"); return nil, nil })
	require.NoError(t, err)
}
