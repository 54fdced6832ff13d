package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A key that means nothing is named with its place, and with what was probably meant.
func TestKeysOfTheConfigurationAreChecked(t *testing.T) {
	for text, words := range map[string]string{
		"listen: 127.0.0.1:0\nlisen: x\n": `usher.yaml:2:1: unknown key "lisen"; did you mean "listen"?`,
		"bays:\n  bay1:\n    seats:\n      source: {instument: psu1}\n": `usher.yaml:4:16: unknown key "instument"; ` +
			`did you mean "instrument"?`,
		"bays:\n\tbay1: {}\n": "usher.yaml:2:1: not YAML: a tab stands where only spaces may; indent with spaces",
		"instruments: {psu1: {address: \"tcp://a:1\", adress: b}}\n": `unknown key "adress"; did you mean "address"?`,
	} {
		file := filepath.Join(t.TempDir(), "usher.yaml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		assert.ErrorContains(t, checkSettings(file), words)
	}
	file := filepath.Join(t.TempDir(), "usher.yaml")
	require.NoError(t, os.WriteFile(file, []byte("log_level: info\nbays: {bay1: {lost_after: 2s, seats: {load: {gang: "+
		"parallel, channels: [{instrument: a}, {instrument: b}], sensors: {volts: {zero: 0.1}}}}}}\n"), 0o600))
	assert.NoError(t, checkSettings(file))
}
