package cli

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every module that is part of the program has its notice; if this fails, run scripts/notices.sh.
func TestEveryPartOfTheProgramHasItsNotice(t *testing.T) {
	out, err := exec.Command("go", "list", "-deps", "-f",
		"{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}}{{end}}{{end}}", "../cmd/usher").Output()
	require.NoError(t, err)
	parts := map[string]string{}
	for _, n := range allNotices() {
		parts[n.Part] = n.Text
	}
	for _, module := range strings.Fields(strings.ReplaceAll(string(out), " ", "@")) {
		assert.NotEmpty(t, parts[strings.Replace(module, "@", " ", 1)], module)
	}
}
