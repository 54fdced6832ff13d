package cli_test

import (
	"bytes"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/service/servicetest"
)

func TestAPictureIsJoinedListedAndSaved(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true, TimeFactor: 20})
	t.Setenv("USHER_SERVER", h.Running.URL)
	t.Setenv("USHER_TOKEN", h.Local.Token)
	h.Push(`procedure: pictured
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
stages:
  - hold: {for: 20 s}
  - ask: {picture: Take a picture of the bus bars}
`)
	run := h.Start("bay1", "pictured", "TN-2208")
	h.Asked("bay1")
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, 64, 48))))
	file := write(t, "bars.png", b.Bytes())
	code, out, errOut := usher(t, "", "attach", run.ID, file, "--at", "5s", "--scale", "21..64", "--note", "left")
	require.Equal(t, 0, code, errOut)
	assert.Equal(t, "joined as number 1: bars.png, at 5.00 s\n", out)
	code, _, errOut = usher(t, "", "attach", run.ID, file, "--answer")
	require.Equal(t, 0, code, errOut)
	h.Ended(run)

	code, out, _ = usher(t, "", "attachments", "last")
	require.Equal(t, 0, code)
	assert.Regexp(t, `1 +5.00 s +bars.png +PNG 64 × 48, 21 to 64 °C +1 kB .* left`, out)
	saved := filepath.Join(t.TempDir(), "out.png")
	code, _, errOut = usher(t, "", "attachments", "last", "2", "-o", saved)
	require.Equal(t, 0, code, errOut)
	back, err := os.ReadFile(saved)
	require.NoError(t, err)
	assert.Equal(t, b.Bytes(), back)
	code, _, errOut = usher(t, "", "attachments", "last", "2", "--drop", "--why", "blurred")
	require.Equal(t, 0, code, errOut)
	code, out, _ = usher(t, "", "attachments", "last", "--json")
	require.Equal(t, 0, code)
	assert.NotContains(t, out, `"number": 2`)

	for _, wrong := range [][]string{{"attach", "last", file, "--at", "soon"}, {"attach", "last", file, "--scale", "21"},
		{"attach", "last", file, "--at", "1s", "--taken"}, {"attachments", "last", "--drop"},
		{"attachments", "last", "1", "--drop"}, {"attachments", "last", "x", "-o", saved}} {
		code, _, errOut = usher(t, "", wrong...)
		assert.Equal(t, 2, code, "%v: %s", wrong, errOut)
	}
	code, _, errOut = usher(t, "", "attach", "last", filepath.Join(t.TempDir(), "none.png"))
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "no such file")
}
