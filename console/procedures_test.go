package console_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
)

const draft = `# The dip that the harbour asked for.
procedure: dip
title: A dip
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
stages:
  - name: power up
    set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A, output: on}}
    until: load.volts > 14 V   # half a volt of room
    within: 5 s
  - name: dip
    play:
      source.volts:
        - hold 1 s at 48 V
        - ramp to 40 V in 1 s
        - hold 1 s
  - name: soak
    hold: {for: 2 s}
`

// written is the text in the editor, as the drawing of it has lines.
const written = `[...document.querySelectorAll('.cm-line')].map((l) => l.textContent).join('\n')`

func TestAnEngineerWritesChecksDrawsAndSavesAProcedure(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Engineer)
	h.Push(draft)
	do(t, ctx, Visit(h.Running.URL+"/procedures"), Visible("table.plain"), Visit(h.Running.URL+"/procedures/dip"),
		Visible("[data-test=sound]"))

	// A mistake is named at its line while one types, and saving waits until it is gone.
	do(t, ctx, Click(".cm-content"),
		Script(`document.querySelector('.cm-content').dispatchEvent(new KeyboardEvent('keydown', {key: 'Home', code: `+
			`'Home', keyCode: 36, ctrlKey: true, bubbles: true}))`),
		Script(`document.execCommand('insertText', false, 'odd: 1\n')`), Visible("[data-test=unsound]"),
		Until(`document.querySelector('[data-test=finding-list]').textContent.includes('unknown key "odd"')`),
		Visible(".cm-lint-marker-error"))
	do(t, ctx, Until(`document.querySelector('[data-test=save]').disabled`))
	do(t, ctx, Visit(h.Running.URL+"/bench"))
	// Leaving asks, since the change would be lost; a browser without a person accepts, so the page is opened anew.
	do(t, ctx, Visit(h.Running.URL+"/procedures/dip"), Visible("[data-test=sound]"))

	// The form of a stage edits the value where it stands; comments stay.
	do(t, ctx, Click("ol li:nth-child(3) button"), Visible("[data-test=stage-form]"),
		Script(`(() => { const f = [...document.querySelectorAll('[data-test=stage-form] input')].find((i) => i.value === `+
			`'2 s'); f.value = '3 s'; f.dispatchEvent(new Event('input', {bubbles: true})); f.dispatchEvent(new `+
			`Event('change', {bubbles: true})) })()`),
		Until(written+`.includes('hold: {for: 3 s}')`))

	// A handle of the shape moves with the arrow keys.
	do(t, ctx, Click("[data-test=tab-shapes]"), Visible("[data-test=handle]"),
		Script(`(() => { const b = document.querySelectorAll('[data-test=handle]')[1]; b.focus(); b.dispatchEvent(new `+
			`KeyboardEvent('keydown', {key: 'ArrowDown', bubbles: true})) })()`),
		Until(written+`.includes('ramp to 39.84 V in 1 s')`))

	do(t, ctx, Click("[data-test=tab-rehearsal]"), Until(`!document.querySelector('[data-test=rehearse]').disabled`),
		Click("[data-test=rehearse]"), Visible("[data-test=rehearsed]"), Visible(".chart canvas"))
	do(t, ctx, Until(`!document.querySelector('[data-test=save]').disabled`), Click("[data-test=save]"),
		Until(`document.querySelector('[data-test=save]').textContent.includes('revision 3')`))
	p, err := h.Local.Procedure(t.Context(), "dip", 2)
	require.NoError(t, err)
	want := strings.NewReplacer("ramp to 40 V", "ramp to 39.84 V", "for: 2 s", "for: 3 s").Replace(draft)
	assert.Equal(t, want, p.Text, "comments and everything else stay as they were")
	do(t, ctx, Click("[data-test=tab-revisions]"),
		Until(`document.querySelectorAll('.right-side table.plain tbody tr').length === 2`),
		Click(".right-side table.plain tbody tr:first-child button"),
		Visible("[data-test=difference]"))
	assert.Contains(t, text(t, ctx, "[data-test=difference]"), "+         - ramp to 39.84 V in 1 s")
}

func TestANewProcedureBeginsFromAnotherOne(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Engineer)
	h.Push(draft)
	do(t, ctx, Visit(h.Running.URL+"/procedures/harbour?from=dip"), Visible("[data-test=sound]"),
		Until(written+`.includes('procedure: harbour')`),
		Until(`!document.querySelector('[data-test=save]').disabled`), Click("[data-test=save]"),
		Until(`document.querySelector('[data-test=save]').textContent.includes('revision 2')`))
	p, err := h.Local.Procedure(t.Context(), "harbour", 0)
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(draft, "procedure: dip", "procedure: harbour", 1), p.Text)
}

func TestAnOperatorAnswersHoldsAndGoesOn(t *testing.T) {
	h, ctx := open(t, servicetest.Options{TimeFactor: 20}, api.Operator)
	h.Push(`procedure: asks
for: tern
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}}
stages:
  - name: ready
    ask: {confirm: Is the unit clipped in}
  - name: wait
    hold: {for: 100 h}
  - name: end
    hold: {for: 1 s}
`)
	run := h.Start("bay1", "asks", "TN-2208")
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1"), Visible("[data-test=prompt]"))
	assert.Contains(t, text(t, ctx, "[data-test=prompt]"), "Is the unit clipped in")
	do(t, ctx, Click("[data-test=yes]"), Gone("[data-test=prompt]"), Visible("[data-test=extend]"),
		Click("[data-test=pause]"), Visible("[data-test=resume]"), Click("[data-test=note]"),
		Visible("input[name=note]"), Type("input[name=note]", "fog comes up\r"),
		Until(`document.body.textContent.includes('fog comes up')`), Click("[data-test=resume]"),
		Visible("[data-test=pause]"), Click("[data-test=state]"), Visible("input[name=state]"),
		Type("input[name=state]", "listens\r"), Visible("[data-test=state-listens]"),
		Until(`document.body.textContent.includes('listens, said by')`), Click("[data-test=state]"),
		Gone("input[name=state]"),
		Click("[data-test=skip]"), Visible("[data-test=confirm-skip]"), Click("[data-test=confirm-skip]"),
		Visible("[data-test=ended]"))
	doc := h.Ended(run)
	assert.Equal(t, "done", doc.State, doc.Reason)
}
