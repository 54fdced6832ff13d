package console_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/client"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

func TestAnEngineerSetsByHandAndTakesOver(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Engineer)
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1/manual"), Visible(`[data-seat=source] input[name="source.volts"]`),
		Fill(`input[name="source.volts"]`, "46.5"),
		Until(`document.querySelector('input[name="source.volts"]').value === '46.5'`),
		Click(`[aria-label="more volts"]`), Until(`document.querySelector('input[name="source.volts"]').value === '47.5'`),
		Fill(`input[name="source.amps"]`, "2"), Click(`[data-seat=source] [data-test=output-on]`),
		Visible(`[data-test=confirm-on]`), Click(`[data-test=confirm-on]`),
		Until(`document.querySelector('[data-seat=source]').innerText.includes('energised')`),
		Until(`document.querySelector('[data-seat=source]').innerText.match(/47\.[45]/) !== null`),
		Click(`[data-test=take-over]`), Visible(`[data-test=taken]`))
	state, err := h.Bench.State("bay1")
	require.NoError(t, err)
	assert.True(t, state.SourceOn)
	assert.Contains(t, text(t, ctx, "[data-test=taken]"), "source: {volts: 47.5 V")
	do(t, ctx, Fill(`input[name="source.volts"]`, "500"), Until(`document.body.innerText.includes('is above the 80 V')`),
		Click(`[data-seat=source] [data-test=output-off]`),
		Until(`document.querySelector('[data-seat=source]').innerText.includes('○ off')`))
	state, err = h.Bench.State("bay1")
	require.NoError(t, err)
	assert.False(t, state.SourceOn)
}

// holdAnswers has the page wait for every answer to a change until release() is called there; held counts them.
const holdAnswers = `(() => {
	const ask = window.fetch
	let open
	const opened = new Promise((release) => { open = release })
	window.held = 0
	window.release = open
	window.fetch = async (...request) => {
		const answer = await ask(...request)
		if ((request[1]?.method ?? 'GET') === 'GET') return answer
		window.held++
		await opened
		window.held--
		return answer
	}
})()`

// A field that is left sends its value. Its answer may come when the question of the output is open already, and
// leaves it open.
func TestAnAnswerDoesNotCloseAQuestionThatItDidNotAsk(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Engineer)
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1/manual"), Visible(`[data-seat=source] input[name="source.volts"]`),
		Script(holdAnswers), Fill(`input[name="source.volts"]`, "46.5"), Until(`window.held === 1`),
		Click(`[data-seat=source] [data-test=output-on]`), Visible(`[data-test=confirm-on]`),
		Script(`window.release()`), Until(`window.held === 0`),
		Until(`new Promise((later) => requestAnimationFrame(() => requestAnimationFrame(() => later(true))))`),
		Click(`.v-overlay--active [data-test=confirm-on]`),
		Until(`document.querySelector('[data-seat=source]').innerText.includes('energised')`))
	state, err := h.Bench.State("bay1")
	require.NoError(t, err)
	assert.True(t, state.SourceOn)
}

// A note that is being written stays when the answer to something else comes.
func TestAnAnswerLeavesANoteThatIsBeingWritten(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Operator)
	h.Push("procedure: soak\nfor: any\nneeds: {source: {volts: 50 V}}\nstages:\n  - hold: {for: 10 min}\n")
	run := h.Start("bay1", "soak", "TN-2208")
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1"), Visible(`[data-test=pause]`), Script(holdAnswers),
		Click(`[data-test=pause]`), Until(`window.held === 1`), Click(`[data-test=note]`), Visible(`input[name=note]`),
		Fill(`input[name=note]`, "the fan is loud"), Script(`window.release()`), Visible(`[data-test=resume]`),
		Until(`document.querySelector('input[name=note]').value === 'the fan is loud'`))
	_, err := h.Local.Stop(t.Context(), run.Bay, "")
	require.NoError(t, err)
}

func TestAnEngineerAddsAnInstrumentAndReadsItsMessages(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Converter, simbench.Metered}}, api.Engineer)
	address := ""
	for _, i := range h.Bench.Instruments() {
		if i.Kind == "analyser" {
			address = i.Address
		}
	}
	_, err := h.Local.RemoveBay(t.Context(), "bay2")
	require.NoError(t, err)
	_, err = h.Local.RemoveInstrument(t.Context(), "analyser2")
	require.NoError(t, err)
	do(t, ctx, Visit(h.Running.URL+"/bench"), Visible(`[data-test=instruments] tbody tr`),
		Type(`input[name=address]`, address), Click(`[data-test=identify]`),
		Until(`document.querySelector('[data-test=add]').innerText.includes('SIM-A1')`), Click(`[data-test=add-instrument]`),
		Until(`document.querySelector('[data-test=instruments]').innerText.includes('analyser-new')`))
	config, err := h.Local.BenchConfig(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "sim-analyser", config.Instruments["analyser-new"].Dialect)
	do(t, ctx, Visit(h.Running.URL+"/bench/instruments/supply1"),
		Until(`document.querySelector('[data-test=messages]')?.innerText.includes('MEAS:VOLT?')`))
}

func TestADialectIsCheckedInTheConsole(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Engineer)
	do(t, ctx, Visit(h.Running.URL+"/bench"), Visible(`[data-test=new-dialect]`), Click(`[data-test=new-dialect]`),
		Visible(`textarea`))
	write := func(s string) Action {
		return Fill("textarea", s)
	}
	good := "dialect: mine\nseats: [meter]\nread: {message: \"V?\", gives: [volts]}\n"
	do(t, ctx, write(strings.Replace(good, "gives", "gvies", 1)), Click(`[data-test=push-dialect]`),
		Until(`document.body.innerText.includes('line 3, column 23')`),
		write(good), Click(`[data-test=push-dialect]`),
		Until(`[...document.querySelectorAll('td')].some((d) => d.innerText === 'mine')`))
	d, err := h.Local.Dialect(t.Context(), "mine")
	require.NoError(t, err)
	assert.Equal(t, good, d.Text)
}

func TestAPreflightIsShownBeforeAStart(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Operator)
	require.NoError(t, h.Bench.SetFault("supply1", simbench.WrongIdentity))
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1?procedure=tern-line-load"), Visible(`input[name=serial]`),
		Until(`document.querySelector('.start').innerText.includes('tern-line-load')`),
		Type(`input[name=serial]`, "TN-2208"), Click(`[data-test=preflight]`), Visible(`[data-test=findings]`),
		Until(`document.querySelector('[data-test=findings]').innerText.includes('is not what is expected')`))
	require.NoError(t, h.Bench.SetFault("supply1", simbench.NoFault))
	do(t, ctx, Click(`[data-test=preflight]`),
		Until(`document.querySelector('[data-test=findings]').innerText.includes('Nothing stands in the way')`))
}

func TestAnOperatorVouchesForAPackAfterALook(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Layouts: []simbench.Layout{simbench.BatteryPack}, TimeFactor: 600}, api.Operator)
	h.Push(`procedure: out
for: gannet
needs: {cycler: {volts: 29.4 V, amps: 9.6 A}}
stages: [{name: empty, discharge: {amps: 0.5 C, cutoff: 21.4 V}}]
`)
	h.Push(`procedure: top-up
for: gannet
needs: {cycler: {volts: 29.4 V, amps: 9.6 A}}
stages: [{name: fill, charge: {amps: 0.1 C, time: 2 min}}]
`)
	drained := h.Ended(h.Start("bay1", "out", "GP-320"))
	require.Equal(t, "done", drained.State, drained.Reason)
	config, err := h.Local.BenchConfig(t.Context())
	require.NoError(t, err)
	bay := config.Bays["bay1"]
	bay.Handler = "" // the pack stays, and gets a label that nothing is on record of
	_, err = h.Local.PutBay(t.Context(), "bay1", bay)
	require.NoError(t, err)
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1?procedure=top-up"), Visible(`input[name=serial]`),
		Until(`document.querySelector('.start').innerText.includes('top-up')`),
		Type(`input[name=serial]`, "GP-321"), Click(`[data-test=start]`), Visible(`[data-test=confirm]`),
		Click(`[data-test=confirm]`),
		Until(`document.querySelector('[data-test=findings]')?.innerText.includes('look at the label')`),
		Click(`[data-test=vouch-cells] input`), Click(`[data-test=start]`), Visible(`[data-test=confirm]`),
		Click(`[data-test=confirm]`), Gone(`[data-test=findings]`))
	require.Eventually(t, func() bool {
		runs, err := h.Local.Runs(t.Context(), client.RunFilter{Serial: "GP-321"})
		return err == nil && len(runs) == 1
	}, 20*time.Second, 50*time.Millisecond)
}

// Whoever changes a bay by its form keeps what the form does not show, and says what the probes of a scope see.
func TestProbesAreSaidInTheFormOfABay(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Scoped}, Change: func(c *bench.Config) {
		b := c.Bays["bay1"]
		b.Seats["source"] = api.SeatConfig{Instrument: "supply1", Channel: 1, Defaults: map[string]string{"amps": "1 A"}}
	}}, api.Admin)
	before, err := h.Local.BenchConfig(t.Context())
	require.NoError(t, err)
	known := len(before.Bays["bay1"].Seats["scope"].Probes)
	require.NotZero(t, known)
	const last = `[...document.querySelectorAll('.probe')].at(-1)`
	do(t, ctx, Visit(h.Running.URL+"/bench"), Click(`[data-test=edit-bay1]`), Visible(`[data-test=add-probe]`),
		Click(`[data-test=add-probe]`), Until(fmt.Sprintf(`document.querySelectorAll('.probe').length === %d`, known+1)),
		Script(last+`.setAttribute('data-test', 'new-probe')`),
		Fill(`[data-test=new-probe] input`, "shunt"), Fill(`[data-test=new-probe] input[type=number]`, "50"),
		Click(`[data-test=save-bay]`), Until(`document.querySelector('[data-test=bays]').innerText.includes('shunt')`))
	after, err := h.Local.BenchConfig(t.Context())
	require.NoError(t, err)
	seats := after.Bays["bay1"].Seats
	assert.Equal(t, map[string]string{"amps": "1 A"}, seats["source"].Defaults)
	assert.Len(t, seats["scope"].Probes, known+1)
	assert.Equal(t, 50.0, seats["scope"].Probes["shunt"].Factor)
	for name, p := range before.Bays["bay1"].Seats["scope"].Probes {
		assert.Equal(t, p.Factor, seats["scope"].Probes[name].Factor, name)
	}
}
