package warden

import (
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench"
)

// A warden that ends and does not start again is tried for as long as it takes, and meanwhile everybody can know.
func TestAWardenThatDoesNotStartIsTriedAgain(t *testing.T) {
	folder := t.TempDir()
	ready, script := filepath.Join(folder, "ready"), filepath.Join(folder, "warden.sh")
	text := fmt.Sprintf("#!/bin/sh\ntest -e %s || exit 1\nexec cat >/dev/null\n", ready)
	require.NoError(t, os.WriteFile(script, []byte(text), 0o700))
	k, err := Start(Command(script), "", slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer func() { require.NoError(t, k.Close()) }()
	within := func(is func() bool, words string) {
		t.Helper()
		require.Eventually(t, is, 20*time.Second, 5*time.Millisecond, words)
	}
	within(func() bool { return k.Down() != nil }, "it ends at once")
	assert.ErrorContains(t, k.Down(), "the warden ended: exit status 1")
	within(func() bool { return k.Restarts() >= 2 }, "it is tried again, and again")
	require.NoError(t, os.Rename(script, script+".away"))
	within(func() bool { return k.Down() != nil && os.IsNotExist(unwrapped(k.Down())) }, "it cannot even be started")
	require.NoError(t, os.WriteFile(ready, nil, 0o600))
	require.NoError(t, os.Rename(script+".away", script))
	within(func() bool { return k.Down() == nil }, "it comes as soon as it can")
	k.Energised("bay1", true) // and hears what there is to know
	k.Energised("bay1", false)
	assert.NoError(t, k.Down())
}

func unwrapped(err error) error {
	for {
		inner, ok := err.(interface{ Unwrap() error })
		if !ok {
			return err
		}
		err = inner.Unwrap()
	}
}

// A bay in an alarm that everybody knows of costs the other bays nothing: the service is not ended for it.
func TestAnAlarmEndsNoService(t *testing.T) {
	w := startWatched(t)
	w.energise("bay1")
	require.NoError(t, w.bench.SetFault("supply1", simbench.StuckOutput))
	w.say(word{Alive: []string{"bay1"}, Alarmed: []string{"bay1"}})
	r := w.report() // nobody looks after it from now on, and it cannot be confirmed off
	assert.Equal(t, "bay1", r.Bay)
	assert.Contains(t, r.Failed, "source (channel 1 of supply1) is not confirmed off")
	require.NoError(t, w.bench.SetFault("supply1", simbench.NoFault))
	w.say(word{Bye: true})
	require.NoError(t, w.end(), "it would have ended this process otherwise, its parent's")
}
