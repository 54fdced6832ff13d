package cli

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/core/catalogue"
)

// What a scanner types is sent with Enter, and the outcome fills the screen; Esc takes a scan back.
func TestThePlaceFillsTheScreen(t *testing.T) {
	setup := &api.PlaceSetup{Procedures: []string{"tern-outgoing"}, Lot: "L-5"}
	var sent []string
	s := &placeScreen{places: []api.Place{{Title: "Bay 1", Setup: setup}}, act: func(text string) ([]api.Place, error) {
		sent = append(sent, text)
		return []api.Place{{Title: "Bay 1", Setup: setup, Unit: &api.PlaceUnit{Serial: text, Run: "01A", Of: 1}}}, nil
	}}
	shown := func() string { return colours.ReplaceAllString(s.draw(), "") }
	s.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	assert.Contains(t, shown(), "SCAN A UNIT")
	press := func(key tea.KeyPressMsg) {
		if _, do := s.Update(key); do != nil {
			s.Update(do())
		}
	}
	for _, r := range "TN-1" {
		press(tea.KeyPressMsg{Code: r, Text: string(r)})
	}
	assert.Contains(t, shown(), "TN-1▏")
	press(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Contains(t, shown(), "TESTING")
	press(tea.KeyPressMsg{Code: tea.KeyEscape})
	assert.Equal(t, []string{"TN-1", takeBack}, sent)
	for verdict, shape := range verdictShapes {
		last := &api.PlaceResult{Serial: "TN-1", Verdict: verdict, Words: []string{"because\x1b[2J"}, At: time.Now()}
		_, heard := s.Update(event(t, api.EventPlace, api.Place{Title: "Bay 1", Setup: setup, Last: last}))
		require.NotNil(t, heard, "every verdict is heard")
		assert.Contains(t, shown(), shape)
		assert.Contains(t, shown(), "because")
		assert.NotContains(t, s.draw(), "\x1b[2J", "words of others cannot act on the terminal")
	}
	s.Update(lostMessage{assert.AnError})
	assert.Contains(t, shown(), "NO CONTACT WITH THE SERVICE")
}

// Several places share the screen: what is scanned goes where the mark is, and each has its own outcome.
func TestPlacesShareTheScreen(t *testing.T) {
	setup := &api.PlaceSetup{Procedures: []string{"tern-outgoing"}, Lot: "L-5"}
	s := &placeScreen{places: []api.Place{{Bay: "bay1", Title: "Bay 1", Setup: setup},
		{Bay: "bay2", Title: "Bay 2", Setup: setup}}}
	s.Update(tea.WindowSizeMsg{Width: 100, Height: 24})
	shown := func() string { return colours.ReplaceAllString(s.draw(), "") }
	assert.Contains(t, shown(), "▸ Bay 1")
	s.Update(actedMessage{places: []api.Place{{Bay: "bay1", Title: "Bay 1", Setup: setup,
		Unit: &api.PlaceUnit{Serial: "TN-1", Of: 1, ToDo: []string{"tern-outgoing"}}}}})
	assert.Contains(t, shown(), "READY")
	assert.Contains(t, shown(), "▸ Bay 2")
	last := &api.PlaceResult{Serial: "TN-2", Verdict: api.VerdictFail, At: time.Now()}
	_, heard := s.Update(event(t, api.EventPlace, api.Place{Bay: "bay2", Title: "Bay 2", Setup: setup, Last: last}))
	assert.NotNil(t, heard)
	assert.Contains(t, shown(), "■  FAIL")
	assert.Contains(t, shown(), "READY", "the other one keeps its own")
	_, heard = s.Update(event(t, api.EventPlace, api.Place{Bay: "bay3", Title: "Bay 3", Setup: setup, Last: last}))
	assert.Nil(t, heard, "another bay is somebody else's")
}

// A picture that lies beside a procedure travels in its text.
func TestAPictureIsTakenFromBeside(t *testing.T) {
	folder := t.TempDir()
	text := "procedure: seen\nfor: any\nneeds: {load: {}}\nstages:\n  - ask: {confirm: Is it so?, picture: lid.jpg}\n"
	path := filepath.Join(folder, "seen.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "lid.jpg"), []byte("\xff\xd8\xff\xe0"), 0o600))
	f, err := readProcedure(path)
	require.NoError(t, err)
	assert.Contains(t, string(f.text), "pictures:\n  lid.jpg: /9j/4A==\n")
	program, err := catalogue.Parse(f.text, nil, nil, nil)
	require.NoError(t, err)
	assert.Len(t, program.Pictures, 1)
}

// What comes late is how a place was before: it is neither shown nor heard.
func TestAPlaceIsNeverAsItWasBefore(t *testing.T) {
	last := &api.PlaceResult{Serial: "LL-2", Verdict: api.VerdictPass}
	s := &placeScreen{places: []api.Place{{Bay: "bay1", Last: last, Change: 7}}}
	assert.Nil(t, s.take(event(t, api.EventPlace, api.Place{Bay: "bay1", Change: 6,
		Last: &api.PlaceResult{Serial: "LL-1", Verdict: api.VerdictFail, At: time.Unix(1, 0)}})))
	assert.Equal(t, last, s.places[0].Last)
}
