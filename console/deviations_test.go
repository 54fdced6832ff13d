package console_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
)

const rated = `procedure: rated
for: tern
needs: {source: {volts: 48 V, amps: 5 A}, load: {volts: 15 V, amps: 8 A}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 1 A, output: on}}
  - grid:
      over: [{set: source.volts, values: [48 V]}, {set: load.amps, values: [1 A, 4 A, 8 A]}]
      settle: 200 ms
      average: 200 ms
  - name: asked
    ask: {confirm: Look}
report: {curves: [load.volts less rated by load.amps]}
`

// What the unit is rated for is a reference everywhere: on the floor while a run is live, over its curves, and in the
// pictures of its points, whose numbers are saved as they are drawn.
func TestDeviationsFromWhatIsRated(t *testing.T) {
	h, ctx := open(t, servicetest.Options{TimeFactor: 5}, api.Engineer)
	h.Push(rated)
	run := h.Start("bay1", "rated", "TN-1")
	const tile = `document.querySelector('[data-bay=bay1]')`
	do(t, ctx, Visit(h.Running.URL+"/"), Visible(`[data-test=floor-curve]`),
		Until(tile+`.querySelector('svg') !== null`), Click(`[data-test=floor-curve]`),
		Visible(`[data-test=floor-curve-rated]`), Script(`document.querySelector('[data-test=floor-curve-rated]').click()`),
		Until(tile+`.innerText.includes('from rated 15.00 V')`))
	_, err := h.Local.Stop(t.Context(), "bay1", "")
	assert.NoError(t, err)
	h.Ended(run)
	do(t, ctx, Visit(h.Running.URL+"/runs/"+run.ID), Visible(`[data-test=points-chart] canvas`),
		Until(`document.querySelector('[data-test=points-chart] h2').innerText === `+
			`'Load volts less rated 15.00 V by load amps'`),
		Script(`(() => {
			const made = URL.createObjectURL
			URL.createObjectURL = (b) => { b.text().then((x) => { window.saved = x }); return made(b) }
		})()`),
		Click(`[data-test=points-csv]`),
		Until(`/^curve,load.amps \[A\],Load volts less rated 15.00 V \[V\]\n(Load volts,[0-9.]+,-?0\.0[0-9]+\n){3}$/`+
			`.test(window.saved)`),
		Click(`[data-test=reference]`), Visible(`[data-test=reference-rated]`),
		Script(`document.querySelector('[data-test=reference-rated]').click()`),
		Until(`document.querySelector('[data-test=curves]')?.innerHTML.includes('from what is rated') || `+
			`document.body.innerHTML.includes('from what is rated')`),
		Visit(h.Running.URL+"/overlay?runs="+run.ID+"&half=points&over=load.amps&quantity=load.volts&less=mean"),
		Visible(`[data-test=overlay-chart] canvas`),
		Until(`document.querySelector('[data-test=overlay-less]').innerText.includes('deviation from the mean')`))
}
