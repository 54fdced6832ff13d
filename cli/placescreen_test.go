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
	s := &placeScreen{place: api.Place{Title: "Bay 1", Setup: setup}, act: func(text string) (api.Place, error) {
		sent = append(sent, text)
		return api.Place{Title: "Bay 1", Setup: setup, Unit: &api.PlaceUnit{Serial: text, Run: "01A", Of: 1}}, nil
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
