package console_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

const stepped = `procedure: stepped
for: any
needs: {source: {volts: 48 V, amps: 5 A}, load: {volts: 15 V, amps: 4 A}, scope: {}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 1 A, output: on}}
  - hold: {for: 1 s}
  - name: step
    capture:
      channels: {output: {range: 4 V, offset: 14.9 V}, load: {range: 20 A, offset: 5 A}}
      span: 4 ms
      samples: 4000
      trigger: {channel: load, level: 1.5 A}
      back: {load: {amps: 1 A}}
      do: {load: {amps: 2 A}}
      times: 2
figures:
  - {figure: transient-undershoot, stage: step, channel: output}
`

// A capture is drawn, measured between cursors, laid over another, and its figure is told in millivolts.
func TestCapturesAreShown(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Scoped}, TimeFactor: 5}, api.Viewer)
	h.Push(stepped)
	doc := h.Ended(h.Start("bay1", "stepped", "TN-1"))
	assert.Equal(t, "done", doc.State, doc.Reason)
	const panel = `document.querySelector('[data-test=captures]')`
	do(t, ctx, Visit(h.Running.URL+"/runs/"+doc.ID), Visible(`[data-test=captures] canvas`),
		Until(panel+`.innerText.includes('4,000 samples, one every 1 µs')`),
		Until(`document.body.innerText.includes(' mV')`),
		Script(panel+`.querySelector('.chart').dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowRight',
			bubbles: true}))`),
		Visible(`[data-test=capture-cursors]`),
		Script(panel+`.querySelector('.chart').dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowRight',
			shiftKey: true, bubbles: true}))`),
		Script(panel+`.querySelector('.chart').dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowRight',
			shiftKey: true, bubbles: true}))`), // away from the first
		Until(panel+`.innerText.includes('effective')`),
		Click(`[data-test=way-spectrum]`), Until(panel+`.innerText.includes('load: strongest at')`),
		Click(`[data-test=way-histogram]`), Until(panel+`.innerText.includes('load: most often about')`),
		Click(`[data-test=way-time]`), Visible(`[data-test=capture-cursors]`),
		Script(panel+`.querySelectorAll('.list button')[1].dispatchEvent(new MouseEvent('click', {shiftKey: true,
			bubbles: true}))`),
		Until(panel+`.querySelectorAll('.list [aria-pressed=true]').length === 2`))
}
