package procedure_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/kinds"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
)

const lithium = "nameplate: pack\nkind: battery\nchemistry: NMC\ncells: {series: 7, parallel: 2}\nratings: " +
	"{rated_capacity: 9.6 Ah, charge_volts: 29.2 V, target_capacity: 9 Ah}\n"

func forPack(t *testing.T, needs, stages string) (*procedure.Program, error) {
	plate, err := nameplate.Parse([]byte(lithium))
	require.NoError(t, err)
	return catalogue.Parse([]byte("procedure: p\nfor: pack\nneeds: {"+needs+"}\nstages:\n"+stages), plate, nil, nil)
}

func TestABatteryIsGuardedByItsNameplate(t *testing.T) {
	p, err := forPack(t, "cycler: {}, thermo: {}", "  - {name: fill, charge: {}}\n  - {name: empty, discharge: {}}\n")
	require.NoError(t, err)
	var words []string
	for _, g := range p.Guards {
		words = append(words, g.Words())
	}
	all := strings.Join(words, "\n")
	for _, want := range []string{"above the safe volts, by nameplate pack (cycler.volts > 29.75 V",
		"below the safe volts", "too hot to charge, by nameplate pack (thermo.celsius > 45 °C", "too cold to discharge",
		"a cell collapses"} {
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
	fill, empty := p.Stages[0].Action.(*kinds.Drive), p.Stages[1].Action.(*kinds.Drive)
	assert.InDelta(t, 4.8, procedure.ValueOf(fill.Settings, "amps"), 1e-9)
	assert.InDelta(t, 29.2, procedure.ValueOf(fill.Settings, "volts"), 1e-9)
	assert.Equal(t, []string{"taper", "time"}, []string{fill.Terminations[0].Word, fill.Terminations[1].Word})
	assert.InDelta(t, 0.96, fill.Before.Amps, 1e-9)
	assert.InDelta(t, 21, fill.Before.Below, 1e-9)
	assert.InDelta(t, -1.92, procedure.ValueOf(empty.Settings, "amps"), 1e-9)
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
	text := "  - name: again\n    repeat: {times: 5, until: [{figure: capacity, min: nameplate.target_capacity}, " +
		"{figure: capacity-gain, max: 1 %}]}\n    stages: [{charge: {}}, {discharge: {}}]\n"
	p, err := forPack(t, "cycler: {}", text)
	require.NoError(t, err)
	loop := p.Stages[0].Action.(*procedure.Repeat)
	require.Len(t, loop.Enough, 2)
	assert.InDelta(t, 9, loop.Enough[0].Min, 1e-9)
	assert.Contains(t, p.Stages[0].Words(), "capacity ≥ 9 Ah or capacity-gain ≤ 1 %")
	_, err = forPack(t, "cycler: {}", strings.Replace(text, "min: nameplate.target_capacity", "stage: nothing", 1))
	assert.ErrorContains(t, err, "give min or max of the figure")
	_, err = forPack(t, "cycler: {}", "  - {name: rest, rest: {for: 1 s}}\nfigures: [{figure: capacity}]\n")
	assert.ErrorContains(t, err, "needs a discharge, but no stage is one")
}

// What a charge and a discharge do when nothing but the chemistry is stated: four cells in series, 2 Ah.
func TestEachChemistryIsChargedAndDischargedItsOwnWay(t *testing.T) {
	for chemistry, want := range map[string]struct {
		volts, amps, out, cutoff float64
		ends                     []string
		safe, coldest            string
	}{
		"NMC":       {16.6, 1, 0.4, 12, []string{"taper", "time"}, "> 17 V", "< 5 °C"},
		"LFP":       {14.2, 1, 0.4, 10, []string{"taper", "time"}, "> 15 V", "< 5 °C"},
		"lead-acid": {9.6, 0.4, 0.1, 7, []string{"taper", "time"}, "> 10.6 V", "< 0 °C"},
		"NiMH":      {6.4, 1, 0.4, 4, []string{"volts drop", "celsius rate", "time"}, "> 7.2 V", "< 5 °C"},
		"{name: sodium, nominal: 3.1 V, charge: 3.95 V, cutoff: 1.5 V, least: 1.2 V, most: 4.1 V}": {15.8, 0.4, 0.4, 6,
			[]string{"taper", "time"}, "> 16.4 V", "< 5 °C"},
	} {
		t.Run(chemistry, func(t *testing.T) {
			plate, err := nameplate.Parse([]byte("nameplate: pack\nkind: battery\nchemistry: " + chemistry +
				"\ncells: {series: 4}\nratings: {rated_capacity: 2 Ah}\n"))
			require.NoError(t, err)
			p, err := catalogue.Parse([]byte("procedure: p\nfor: pack\nneeds: {cycler: {}, thermo: {}}\nstages:\n  - {name: "+
				"fill, "+
				"charge: {}}\n  - {name: empty, discharge: {}}\n"), plate, nil, nil)
			require.NoError(t, err)
			fill, empty := p.Stages[0].Action.(*kinds.Drive), p.Stages[1].Action.(*kinds.Drive)
			assert.InDelta(t, want.volts, procedure.ValueOf(fill.Settings, "volts"), 1e-9)
			assert.InDelta(t, want.amps, procedure.ValueOf(fill.Settings, "amps"), 1e-9)
			assert.InDelta(t, -want.out, procedure.ValueOf(empty.Settings, "amps"), 1e-9)
			assert.InDelta(t, want.cutoff, empty.Cutoff, 1e-9)
			var ends, guards []string
			for _, e := range fill.Terminations {
				ends = append(ends, e.Word)
			}
			for _, g := range p.Guards {
				guards = append(guards, g.Words())
			}
			assert.Equal(t, want.ends, ends)
			assert.Contains(t, strings.Join(guards, "\n"), "cycler.volts "+want.safe)
			assert.Contains(t, strings.Join(guards, "\n"), "too cold to charge, by nameplate pack (thermo.celsius "+want.coldest)
			for _, s := range p.Stages {
				assert.Positive(t, s.Duration(), "it is known about how long it takes")
			}
		})
	}
}

func TestMistakesOfChargesAndDischargesAreExplained(t *testing.T) {
	for text, want := range map[string]string{
		"charge: {precharge: {amps: 3 C}}":                  "lies between 0 A and the charge current",
		"charge: {precharge: {time: 0 s}}":                  "must be given up after some time",
		"charge: {volts: 40 V}":                             "40 V",
		"charge: {amps: 2 V}":                               "is volts, but here belong",
		"charge: {step down: {factor: 2}}":                  `unknown key "step down"`,
		"charge: {on: cycler2}":                             `"cycler2" is no seat for this; it needs a cycler or a source`,
		"discharge: {taper: 1 A}":                           `unknown key "taper"`,
		"discharge: {ohms: 3 ohm}":                          "cycler discharges with amps only",
		"discharge: {cutoff: 2 A}":                          "is amperes, but here belong volts",
		"discharge: {amps: 0.2 C, step down: {least: 1 C}}": "least",
		"discharge: {amps: 0.2 C, cutoff: 5 V}": "below the 17.5 V under which the guards of nameplate " +
			"pack end a run",
		"repeat: {until: [{figure: capacities, min: 9 Ah}]}":      `capacities`,
		"repeat: {times: 3, until: [{figure: capacity}]}":         "give min or max of the figure",
		"repeat: {times: 2, until: [{figure: capacity, max: 9}]}": "here belong ampere-hours",
	} {
		stages := "  - {name: x, " + text
		if strings.HasPrefix(text, "repeat") {
			stages += ", stages: [{name: empty, discharge: {}}]"
		}
		_, err := forPack(t, "cycler: {}", stages+"}\n")
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), want, text)
			assert.Regexp(t, `^\d+:\d+: `, strings.TrimPrefix(err.Error(), "The document has mistakes: "), "with its place")
		}
	}
}
