package console_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// beepsHeard has the page remember the pitch of every tone that it plays, Hz.
const beepsHeard = `window.beeps = []
const pitched = AudioParam.prototype.setValueAtTime
AudioParam.prototype.setValueAtTime = function (x, at) {
	if (x > 20) window.beeps.push(x)
	return pitched.call(this, x, at)
}`

// Forty leads go through an operator's place by button, six of them faulty in five ways: each outcome is heard, and log
// and summary tell them.
func TestABatchOfLeads(t *testing.T) {
	faulty := map[string]string{"LL-2003": "broken-wire", "LL-2008": "swapped", "LL-2014": "touching",
		"LL-2021": "chafed", "LL-2027": "bad-crimp", "LL-2036": "broken-wire"}
	h, ctx := open(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Harness}, Faulty: faulty}, api.Operator)
	_, err := h.Local.OrderLot(t.Context(), "L-77", api.LotOrder{Nameplate: "lantern-lead", Quantity: 40})
	require.NoError(t, err)
	_, err = h.Local.SetUpPlace(t.Context(), "bay1", api.PlaceSetup{Lot: "L-77", Begins: api.BeginsByKey,
		Procedures: []string{"lantern-lead-wiring"}})
	require.NoError(t, err)
	do(t, ctx, Visit(h.Running.URL+"/operate/bay1"), Visible(`[data-test=scan]`), Script(verdictsSeen), Script(beepsHeard),
		Until(`document.activeElement === document.querySelector('[data-test=scan]')`))
	found := map[string]bool{}
	for k := range 40 {
		serial := fmt.Sprintf("LL-%d", 2000+k)
		do(t, ctx, Press(serial+enter), Until(`document.querySelector('[data-test=serial]').innerText === '`+serial+`'`))
		verdict := scanner{t, ctx}.scan("") // the button
		if verdict == "fail "+serial {
			found[serial] = true
		} else {
			assert.Equal(t, "pass "+serial, verdict)
		}
	}
	assert.Len(t, found, 6)
	for serial := range faulty {
		assert.True(t, found[serial], serial)
	}
	high, err := Evaluate[int](ctx, `window.beeps.filter((hz) => hz > 1000).length`)
	require.NoError(t, err)
	low, err := Evaluate[int](ctx, `window.beeps.filter((hz) => hz < 300).length`)
	require.NoError(t, err)
	assert.Equal(t, []int{34, 3 * 6}, []int{high, low}, "one high tone for each good one, three low ones for each bad one")

	log, err := h.Local.LotLog(t.Context(), "L-77")
	require.NoError(t, err)
	assert.Len(t, log.Entries, 40)
	var page strings.Builder
	require.NoError(t, h.Local.WriteLotLog(t.Context(), "L-77", "text", &page))
	for serial := range faulty {
		assert.Contains(t, page.String(), serial)
	}
	lot, err := h.Local.Lot(t.Context(), "L-77", api.LotRequest{})
	require.NoError(t, err)
	assert.InDelta(t, 85, lot.Procedures[0].Yield.Value, 1e-9)
	do(t, ctx, Visit(h.Running.URL+"/lots/L-77"), Visible(`[data-test=pareto] .cause`))
	assert.Contains(t, text(t, ctx, "[data-test=pareto]"), "Miswires")
}
