package console_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
)

// An engineer comes with the numbers of a data sheet and leaves with a run on record, without a line of YAML.
func TestFromADataSheetToAFirstRun(t *testing.T) {
	h, ctx := open(t, servicetest.Options{TimeFactor: 5}, api.Engineer)
	do(t, ctx, Visit(h.Running.URL+"/nameplates"), Click("[data-test=new-converter]"), Visible("input[name=name]"),
		Fill("input[name=name]", "curlew"), Visible("[data-test=missing]"),
		Fill("input[name=form-nominal_line]", "48 V"), Fill("input[name=form-lowest_line]", "36 V"),
		Fill("input[name=form-highest_line]", "60 V"), Fill("input[name=form-rated_volts]", "15 V"),
		Until(`document.querySelector('[data-test=missing]').textContent.includes('Output amps')`),
		Fill("input[name=form-rated_current]", "8 A"), Gone("[data-test=missing]"),
		Until(`document.querySelector('[data-test=follows]').textContent.includes('source.volts up to 60.6 V')`),
		Fill("input[name=form-highest_line]", "56 V"),
		Until(`document.querySelector('[data-test=follows]').textContent.includes('source.volts up to 56.56 V')`),
		Until(`!document.querySelector('[data-test=save-nameplate]').disabled`), Click("[data-test=save-nameplate]"),
		Visible("[data-test=next]"), Click("[data-test=next]"), Visible("[data-test=begin]"),
		Until(`!document.querySelector('[data-test=begin]').disabled`), Click("[data-test=begin]"),
		Visible("[data-test=sound]"), Until(`!document.querySelector('[data-test=save]').disabled`),
		Click("[data-test=save]"),
		Until(`document.querySelector('[data-test=save]').textContent.includes('revision 2')`),
		Visit(h.Running.URL+"/bays/bay1?procedure=curlew-first"), Type(`input[name=serial]`, "C-1"),
		Until(`!document.querySelector('[data-test=start]').disabled`), Click(`[data-test=start]`),
		Visible(`[data-test=confirm]`), Click(`[data-test=confirm]`), Visible(`[data-test=ended]`))
	run, err := h.Local.Run(t.Context(), "last")
	require.NoError(t, err)
	assert.Equal(t, "done", run.State, run.Reason)
	assert.Equal(t, "curlew", run.Nameplate)
	for _, f := range run.Figures {
		assert.Nil(t, f.Undetermined, "%s: %+v", f.ID, f.Undetermined)
	}
	plate, err := h.Local.Nameplate(t.Context(), "curlew")
	require.NoError(t, err)
	assert.Contains(t, plate.Text, "kind: converter")
}
