package procedure

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/nameplate"
)

const lithium = "nameplate: pack\nkind: battery\nchemistry: NMC\ncells: {series: 7, parallel: 2}\nratings: {rated_capacity: 9.6 Ah, charge_volts: 29.2 V, target_capacity: 9 Ah}\n"

func forPack(t *testing.T, needs, stages string) (*Program, error) {
	plate, err := nameplate.Parse([]byte(lithium))
	require.NoError(t, err)
	return Parse([]byte("procedure: p\nfor: pack\nneeds: {"+needs+"}\nstages:\n"+stages), plate, nil, nil)
}

func TestABatteryIsGuardedByItsNameplate(t *testing.T) {
	p, err := forPack(t, "cycler: {}, thermo: {}", "  - {name: fill, charge: {}}\n  - {name: empty, discharge: {}}\n")
	require.NoError(t, err)
	var words []string
	for _, g := range p.Guards {
		words = append(words, g.Words())
	}
	all := strings.Join(words, "\n")
	for _, want := range []string{"above the safe volts, by nameplate pack (cycler.volts > 29.75 V", "below the safe volts", "too hot to charge, by nameplate pack (thermo.celsius > 45 °C", "too cold to discharge", "a cell collapses"} {
		assert.Contains(t, all, want)
	}
	p, err = forPack(t, "cycler: {}", "  - {name: fill, charge: {}}\n")
	require.NoError(t, err)
	assert.Len(t, p.Guards, 2, "without a thermometer only the volts are watched")
	p, err = forPack(t, "cycler: {celsius: 60 °C}", "  - {name: fill, charge: {}}\n")
	require.NoError(t, err)
	assert.Greater(t, len(p.Guards), 2, "a cycler that reads the temperature will do")
	assert.True(t, p.Resume.Allowed, "a battery's run may go on")
}

func TestAChargeTakesWhatItDoesNotSayFromTheNameplate(t *testing.T) {
	p, err := forPack(t, "cycler: {}", "  - {name: fill, charge: {precharge: {}}}\n  - {name: empty, discharge: {}}\n")
	require.NoError(t, err)
	fill, empty := p.Stages[0].Action.(*Drive), p.Stages[1].Action.(*Drive)
	assert.InDelta(t, 4.8, setValue(fill.Settings, "amps"), 1e-9)
	assert.InDelta(t, 29.2, setValue(fill.Settings, "volts"), 1e-9)
	assert.Equal(t, []string{"taper", "time"}, []string{fill.Ends[0].Word, fill.Ends[1].Word})
	assert.InDelta(t, 0.96, fill.Before.Amps, 1e-9)
	assert.InDelta(t, 21, fill.Before.Below, 1e-9)
	assert.InDelta(t, -1.92, setValue(empty.Settings, "amps"), 1e-9)
	assert.InDelta(t, 21, empty.Cutoff, 1e-9)
}

func TestACRateStandsWhereACurrentIsAsked(t *testing.T) {
	p, err := forPack(t, "cycler: {}", "  - {name: fill, charge: {}, until: \"cycler.amps < 0.05 C for 10 s\"}\n")
	require.NoError(t, err)
	assert.NotEmpty(t, p.Stages[0].Until)
	_, err = forPack(t, "cycler: {}", "  - {name: fill, charge: {}, until: \"cycler.volts < 0.05 C\"}\n")
	assert.ErrorContains(t, err, "both sides must be of one kind")
}

func TestALoopEndsByFigures(t *testing.T) {
	text := "  - name: again\n    repeat: {times: 5, until: [{figure: capacity, min: nameplate.target_capacity}, {figure: capacity-gain, max: 1 %}]}\n    stages: [{charge: {}}, {discharge: {}}]\n"
	p, err := forPack(t, "cycler: {}", text)
	require.NoError(t, err)
	loop := p.Stages[0].Action.(*Repeat)
	require.Len(t, loop.Enough, 2)
	assert.InDelta(t, 9, loop.Enough[0].Min, 1e-9)
	assert.Contains(t, p.Stages[0].Words(), "capacity ≥ 9 Ah or capacity-gain ≤ 1 %")
	_, err = forPack(t, "cycler: {}", strings.Replace(text, "min: nameplate.target_capacity", "stage: nothing", 1))
	assert.ErrorContains(t, err, "give min or max of the figure")
	_, err = forPack(t, "cycler: {}", "  - {name: rest, rest: {for: 1 s}}\nfigures: [{figure: capacity}]\n")
	assert.ErrorContains(t, err, "needs a discharge, but no stage is one")
}
