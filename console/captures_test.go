package console_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
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

// A capture of other equipment comes in with the figures and limits of a stage of a procedure.
func TestACaptureIsImportedForAStage(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Engineer)
	h.Push(strings.NewReplacer("name: step", "name: kick", "stage: step", "stage: kick", "channel: output}",
		"channel: output, limit: {max: 1 V}}").Replace(stepped))
	item := func(text string) Action {
		return Until(`(() => { const i = [...document.querySelectorAll('.v-overlay-container .v-list-item')].find(` +
			`e => e.innerText.trim() === '` + text + `'); if (i) i.click(); return !!i })()`)
	}
	do(t, ctx, Visit(h.Running.URL+"/runs"), Click(`[data-test=import-open]`), Visible(`[data-test=import]`),
		Script(`(() => {
			let text = 'time;volts\n'
			for (let k = -100; k < 900; k++) text += (k * 1e-5).toFixed(5) + ';' +
				(k < 0 ? 15 : 15 - 0.3 * Math.exp(-k / 40)).toFixed(4) + '\n'
			const to = new DataTransfer()
			to.items.add(new File([text], 'kick.csv'))
			const input = document.querySelector('[data-test=import] input[type=file]')
			input.files = to.files
			input.dispatchEvent(new Event('change', {bubbles: true}))
		})()`),
		Visible(`[data-test=import-procedure]`),
		Click(`[data-test=import-procedure] .v-field`), item("stepped"), Visible(`[data-test=import-stage]`),
		Until(`document.querySelector('[data-test=import-stage]').innerText.includes('kick')`),
		Fill(`[data-test=import-serial] input`, "TN-77"), Click(`[data-test=bring]`), Visible(`[data-test=captures] canvas`),
		Until(`document.body.innerText.includes('TN-77')`))
	found, err := h.Local.Runs(t.Context(), client.RunFilter{Serial: "TN-77"})
	require.NoError(t, err)
	require.Len(t, found, 1)
	doc, err := h.Local.Run(t.Context(), found[0].ID)
	require.NoError(t, err)
	judged := doc.Figures[len(doc.Figures)-1]
	assert.Nil(t, judged.Undetermined)
	assert.Equal(t, "pass", string(judged.Outcome))
}
