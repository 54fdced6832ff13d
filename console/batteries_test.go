package console_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/demo"
	"usherbench/service/servicetest"
)

func TestABatteryTesterOverlaysQueuesAndStatesABattery(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Engineer)
	text, err := demo.ChargerLog()
	require.NoError(t, err)
	look, err := h.Local.LookAtLog(t.Context(), api.ImportLog{Text: text[:4000]})
	require.NoError(t, err)
	look.Mapping.DischargeIs = "positive"
	for i := range 3 {
		_, err := h.Local.Import(t.Context(), api.ImportLog{Name: "deck.csv", Text: text, Mapping: look.Mapping,
			Serial: fmt.Sprintf("GP-31%d", i), Lot: "decks", Nameplate: "gannet"})
		require.NoError(t, err)
	}

	// Runs are chosen in the list and drawn over each other; one of them is called the one after.
	do(t, ctx, Visit(h.Running.URL+"/runs"), Visible("[data-test=runs] tbody tr"),
		Script(`document.querySelectorAll('[data-test=runs] input[type=checkbox]')[0].click()`),
		Until(`document.querySelector('[data-test=overlay]').textContent.includes('1')`),
		Script(`document.querySelectorAll('[data-test=runs] input[type=checkbox]')[1].click()`),
		Until(`document.querySelector('[data-test=overlay]').textContent.includes('2')`), Click("[data-test=overlay]"),
		Visible("[data-test=overlay-chart] canvas"), Until(`document.body.textContent.includes('2 curves')`),
		Script(`document.querySelectorAll('.chips .v-chip')[1].click()`), Until(`location.search.includes('after=')`))
	do(t, ctx, Visit(h.Running.URL+"/overlay?lot=decks&half=charge&over=time"),
		Visible("[data-test=overlay-chart] canvas"), Until(`document.body.textContent.includes('3 curves')`),
		Until(`document.body.textContent.includes('Charge returned')`))

	// Cells that lack a resistance cannot be matched, and the page says why.
	do(t, ctx, Visit(h.Running.URL+"/cells?lot=decks&size=2"),
		Until(`document.body.textContent.includes('too few cells')`))

	// A run in line is taken out again.
	later := time.Now().Add(time.Hour)
	_, err = h.Local.Enqueue(t.Context(), api.Enqueue{Bays: []string{"bay1"}, Serials: []string{"TN-1"},
		Procedures: []string{"tern-soak"}, NotBefore: &later})
	require.NoError(t, err)
	do(t, ctx, Visit(h.Running.URL+"/line"), Visible("[data-test=line] tbody tr"),
		Click("[data-test=line] tbody tr td:last-child button:last-child"),
		Until(`document.body.textContent.includes('Nothing waits')`))

	// A battery is stated by a form; what follows from its chemistry is shown before it is stored.
	do(t, ctx, Visit(h.Running.URL+"/nameplates"), Click("[data-test=new-battery]"), Visible("input[name=series]"),
		Fill("input[name=name]", "curlew"), Fill("input[name=series]", "4"), Fill("input[name=form-rated_capacity]", "20 Ah"),
		Until(`document.querySelector('[data-test=ratings] input[name=charge_volts]')?.placeholder === '16.6 V'`),
		Click("[data-test=save-nameplate]"), Until(`document.body.textContent.includes('curlew is stored.')`))
	// A rating in the table goes into the document, and what is emptied follows from the chemistry again.
	do(t, ctx, Fill("input[name=charge_volts]", "16.4 V"),
		Until(`document.querySelector('[data-test=nameplate-text]').value.includes('charge_volts: 16.4 V')`),
		Until(`[...document.querySelectorAll('[data-test=ratings] tr')].some((r) => `+
			`r.textContent.includes('charge_volts') && r.textContent.includes('the nameplate'))`),
		Fill("input[name=charge_volts]", ""),
		Until(`!document.querySelector('[data-test=nameplate-text]').value.includes('charge_volts')`),
		Fill("[data-test=ratings] input[name=cutoff]", "11.2 V"),
		Until(`document.querySelector('[data-test=nameplate-text]').value.includes('cutoff: 11.2 V')`),
		Until(`!document.querySelector('[data-test=save-nameplate]').disabled`), Click("[data-test=save-nameplate]"),
		Until(`document.body.textContent.includes('curlew is stored.')`))
	plate, err := h.Local.Nameplate(t.Context(), "curlew")
	require.NoError(t, err)
	require.Contains(t, plate.Text, "chemistry: NMC")
	require.Contains(t, plate.Text, "cells: {series: 4, parallel: 1}")
	require.Contains(t, plate.Text, "cutoff: 11.2 V")

	// The tables of figures stand in the run.
	do(t, ctx, Visit(h.Running.URL+"/runs/last"), Visible("[data-test=table-charger-stages]"),
		Until(`document.querySelector('[data-test=table-charger-stages]').textContent.includes('absorption')`))
}
