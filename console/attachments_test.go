package console_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
)

// drawn puts a picture into the field that chooses files, as if a person had chosen it.
func drawn(name string) Action {
	return Script(`(async () => {
		const canvas = new OffscreenCanvas(64, 48)
		canvas.getContext('2d').fillRect(0, 0, 32, 48)
		const blob = await canvas.convertToBlob({ type: 'image/png' })
		const chosen = new DataTransfer()
		chosen.items.add(new File([blob], '` + name + `', { type: 'image/png' }))
		const field = document.querySelector('[data-test=attach-file]')
		field.files = chosen.files
		field.dispatchEvent(new Event('change'))
	})()`)
}

func TestAPictureIsTakenForARunAndShownOverItsTime(t *testing.T) {
	h, ctx := open(t, servicetest.Options{TimeFactor: 20}, api.Engineer)
	h.Push(`procedure: pictured
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
stages:
  - name: bars
    ask: {picture: Take a picture of the bus bars}
  - hold: {for: 5 s}
`)
	run := h.Start("bay1", "pictured", "TN-2208")
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1"), Visible("[data-test=prompt]"), drawn("bars.png"),
		Gone("[data-test=prompt]"))
	doc := h.Ended(run)
	assert.Equal(t, "done", doc.State, doc.Reason)
	require.Len(t, doc.Attachments, 1)
	assert.Equal(t, "Take a picture of the bus bars", doc.Attachments[0].Note)

	do(t, ctx, Visit(h.Running.URL+"/runs/"+run.ID), Visible("[data-test=attachment]"), drawn("later.png"),
		Visible("[data-test=attach-about]"), Type("input[name=attach-note]", "the right module"), Click("[data-test=join]"),
		Until(`document.querySelectorAll('[data-test=attachment]').length === 2`),
		Click("[data-test=attachment]:last-child"), Visible("[data-test=attachment-shown]"),
		Until(`document.querySelector('[data-test=attachment-shown] img').naturalWidth === 64`))
	assert.Contains(t, text(t, ctx, "[data-test=attachment-shown]"), "the right module")
	do(t, ctx, Click("[data-test=look]"), Gone("[data-test=attachment-shown]"), Visible("[data-test=cursors]"),
		Click("[data-test=attachment]"), Visible("[data-test=drop]"), Click("[data-test=drop]"), Visible("input[name=why]"),
		Type("input[name=why]", "blurred\r"), Until(`document.querySelectorAll('[data-test=attachment]').length === 1`))
}

// Curves and readings have one cursor: whoever moves it in one sees it in the other.
func TestReadingsAndCurvesShareACursor(t *testing.T) {
	h, ctx := open(t, servicetest.Options{TimeFactor: 20}, api.Viewer)
	h.Push(`procedure: short
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
stages: [{hold: {for: 60 s}}]
`)
	run := h.Start("bay1", "short", "TN-2208")
	h.Ended(run)
	do(t, ctx, Visit(h.Running.URL+"/runs/"+run.ID), Visible("[data-test=show-readings]"),
		Click("[data-test=show-readings]"), Visible("[data-test=reading]:nth-child(8)"),
		Click("[data-test=reading]:nth-child(8)"), Visible("[data-test=cursors]"),
		Until(`document.querySelector('[data-test=readings] .at') !== null`))
	at := `document.querySelector('[data-test=readings] .at td').textContent.replace('A ', '').trim()`
	do(t, ctx, Until(at+` === document.querySelector('[data-test=cursors] th:nth-child(2)').textContent.slice(4).trim()`))
	before, err := Evaluate[string](ctx, at)
	require.NoError(t, err)
	do(t, ctx, Script(`for (let k = 0; k < 5; k++) document.querySelector('.chart').dispatchEvent(`+
		`new KeyboardEvent('keydown', {key: 'ArrowRight'}))`), Until(at+` !== '`+before+`'`))
}
