package console_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/amplifier"
)

// A batch of amplifiers with a noisy, a distorting and a dead one goes through an operator's place: each is off when
// the next one is asked for, and the log has the spectra of each under its line.
func TestABatchOfAmplifiers(t *testing.T) {
	want := map[string]string{"GM-1": "pass", "GM-2": "fail", "GM-3": "fail", "GM-4": "fail", "GM-5": "pass"}
	h, ctx := open(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Amplified}, TimeFactor: 1,
		Faulty: map[string]string{"GM-2": string(amplifier.Noisy), "GM-3": string(amplifier.Distorting),
			"GM-4": string(plant.DeadUnit)}}, api.Operator)
	_, err := h.Local.SetUpPlace(t.Context(), "bay1", api.PlaceSetup{Lot: "A-1",
		Procedures: []string{"guillemot-acceptance"}})
	require.NoError(t, err)
	do(t, ctx, Visit(h.Running.URL+"/operate/bay1"), Visible(`[data-test=scan]`), Script(verdictsSeen),
		Until(`document.activeElement === document.querySelector('[data-test=scan]')`))
	for _, serial := range []string{"GM-1", "GM-2", "GM-3", "GM-4", "GM-5"} {
		assert.Equal(t, want[serial]+" "+serial, scanner{t, ctx}.scan(serial))
		s, err := h.Bench.State("bay1")
		require.NoError(t, err)
		assert.False(t, s.SourceOn || s.LoadOn, "the power is off before the next one is put in")
	}
	lot, err := h.Local.Lot(t.Context(), "A-1", api.LotRequest{})
	require.NoError(t, err)
	assert.Equal(t, []string{"GM-2", "GM-3", "GM-4"}, lot.Procedures[0].Failing)
	var log strings.Builder
	require.NoError(t, h.Local.WriteLotLog(t.Context(), "A-1", "html", &log))
	for serial, of := range want {
		_, line, _ := strings.Cut(log.String(), ">"+serial+"<")
		line, _, _ = strings.Cut(line, ">GM-")
		spectra := strings.Count(line, "<figcaption>Spectrum of ")
		if serial == "GM-4" {
			assert.Equal(t, 1, spectra, "the dead one's silence; no tone came out of it")
		} else {
			assert.Equal(t, 2, spectra, "%s (%s): under its line", serial, of)
		}
	}
	most, bears := h.Bench.Borne("bay1")
	assert.Less(t, most, bears)
}
