package transport

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An address opens no other file than a device of an instrument, whatever links lead there.
func TestAnAddressOpensDevicesOnly(t *testing.T) {
	secret := filepath.Join(t.TempDir(), "local-access.json")
	require.NoError(t, os.WriteFile(secret, []byte("secret"), 0o600))
	for scheme, options := range map[string]string{"serial": "", "usbtmc": "", "modbus-rtu": "?unit=1"} {
		for _, path := range []string{secret, "/etc/passwd", "/dev/../etc/passwd", "/dev/null", "/dev/zero", "/dev/tty",
			"/dev/mem", "/dev/fd/0", "/dev/stdin"} {
			a, err := Parse(scheme + "://" + path + options)
			require.NoError(t, err, path)
			_, err = Open(t.Context(), a)
			assert.Error(t, err, path)
			assert.NotContains(t, err.Error(), "ioctl", "it was opened")
		}
	}
	link := "/dev/shm/usher-" + filepath.Base(t.TempDir())
	if err := os.Symlink(secret, link); err == nil {
		defer os.Remove(link)
		_, err := device(link)
		assert.ErrorContains(t, err, "is no serial port and no USB instrument", "links are followed before it is looked at")
	}
	text, err := os.ReadFile(secret)
	require.NoError(t, err)
	assert.Equal(t, "secret", string(text))
}
