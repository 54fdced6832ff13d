package rehearsal_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/nameplate"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/demo"
	"usherbench/rehearsal"
)

func plates(t testing.TB) map[string]*nameplate.Nameplate {
	all := map[string]*nameplate.Nameplate{}
	for _, text := range demo.Nameplates() {
		p, err := nameplate.Parse([]byte(text))
		require.NoError(t, err)
		all[p.Name] = p
	}
	return all
}

// ready parses a ready procedure of the demo; one for any unit gets the tern's nameplate.
func ready(t testing.TB, text string) (*procedure.Program, *nameplate.Nameplate) {
	header, err := procedure.ReadHeader([]byte(text))
	require.NoError(t, err)
	plate := plates(t)[header.For]
	if plate == nil {
		plate = plates(t)["tern"]
	}
	p, err := catalogue.Parse([]byte(text), plate, nil, demo.Library)
	require.NoError(t, err, header.Name)
	return p, plate
}

func TestEveryReadyProcedureIsRehearsed(t *testing.T) {
	require.GreaterOrEqual(t, len(demo.Procedures()), 12)
	for _, text := range demo.Procedures() {
		p, plate := ready(t, text)
		r, err := rehearsal.Run(t.Context(), p, plate, rehearsal.Options{Serial: "TN-2208"})
		require.NoError(t, err, p.Name)
		assert.Equal(t, stage.Done, r.Ending, "%s: %s", p.Name, r.Reason)
		assert.NotEqual(t, outcome.Fail, r.Outcome(), "%s: %+v", p.Name, r.Figures)
		assert.Positive(t, r.Duration)
		t.Logf("%-18s %8.1f s, %5d frames, %s %s", p.Name, r.Duration, len(r.T), r.Ending, r.Outcome())
	}
}

func TestAProcedureThatGoesOnAndOnIsBounded(t *testing.T) {
	text := "procedure: endless\nfor: tern\nneeds: {source: {volts: 60 V, amps: 5 A}}\nstages:\n  - repeat: {times: " +
		"1000000}\n    stages: [{hold: {for: 1 h}}]\n"
	p, plate := ready(t, text)
	r, err := rehearsal.Run(t.Context(), p, plate, rehearsal.Options{MostFrames: 450_000})
	require.NoError(t, err)
	assert.Equal(t, stage.Aborted, r.Ending)
	assert.Contains(t, r.Reason, "goes on and on")
	assert.LessOrEqual(t, len(r.T), 200_000, "long rehearsals keep every so many frames")
	assert.Greater(t, len(r.T), 90_000)
	assert.InDelta(t, r.Duration, r.T[len(r.T)-1], 10)
	_, err = rehearsal.Foretell(t.Context(), p, plate, rehearsal.Options{})
	assert.ErrorIs(t, err, rehearsal.ErrTooLong)
}

// What is rare happens to a model too: every dip of a lively load is an event, and the worst and the newest are kept.
func TestWhatIsRareIsRehearsed(t *testing.T) {
	for _, text := range demo.Procedures() {
		if h, err := procedure.ReadHeader([]byte(text)); err != nil || h.Name != "tern-watch" {
			continue
		}
		p, plate := ready(t, text)
		r, err := rehearsal.Run(t.Context(), p, plate, rehearsal.Options{})
		require.NoError(t, err)
		events := 0
		for _, m := range r.Marks {
			if m.Kind == record.MarkEvent {
				events++
			}
		}
		assert.Equal(t, 7, events, "one for every step up")
		require.Len(t, r.Captures, 5)
		deepest := 0.0
		for _, c := range r.Captures {
			assert.Equal(t, "dips", c.Stage)
			deepest = max(deepest, c.Beyond)
		}
		assert.Contains(t, []float64{r.Captures[0].Beyond, r.Captures[1].Beyond, r.Captures[2].Beyond}, deepest)
		require.Len(t, r.Figures, 1)
		assert.Nil(t, r.Figures[0].Undetermined)
		return
	}
	require.Fail(t, "there is no tern-watch")
}
