package console_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/demo"
	"usherbench/service/servicetest"
)

// Somebody without a mouse finds out what the keys do, starts a run, goes round, and stops it.
func TestARunIsStartedAndStoppedWithoutAMouse(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Bays: 2}, api.Operator)
	text, err := demo.Library("tern-soak")
	require.NoError(t, err)
	h.Push(text)
	at := func(path string) Action { return Until("location.pathname === '" + path + "'") }
	do(t, ctx, Visit(h.Running.URL), Visible("[data-bay=bay2]"), Press("?"), Visible("[data-test=keys]"),
		Until(`document.querySelector('[data-test=keys]').textContent.includes('stop what is in view')`),
		Until(`document.activeElement.closest('[data-test=keys]') !== null`), Press("\x1b"),
		Gone(".v-overlay--active [data-test=keys]"), Press("gr"), at("/runs"), Press("gp"),
		at("/procedures"), Press("gf"), at("/"), Visible("[data-bay=bay2]"), Press("2"), at("/bays/bay2"),
		Visit(h.Running.URL+"/bays/bay2?procedure=tern-soak"), Visible("input[name=serial]"),
		Until(`document.activeElement.name === 'serial'`), Press("TN-2208"),
		Until(`!document.querySelector('[data-test=start]').disabled`), Press("\r"), Visible("[data-test=confirm]"),
		Until(`document.activeElement.dataset.test === 'confirm'`), Press("\r"),
		Gone(".v-overlay--active [data-test=confirm]"),
		Until(`!document.querySelector('button.at-thumb').disabled`), Script(`document.activeElement.blur()`), Press("s"),
		Visible(".v-overlay--active [data-test=confirm]"),
		Until(`document.activeElement.dataset.test === 'confirm'`), Press("\r"), Visible("[data-test=held]"))
	run, err := h.Local.Run(t.Context(), "last")
	require.NoError(t, err)
	assert.Equal(t, "aborted", run.State)
	assert.Contains(t, run.Reason, "stopped by test operator")
}
