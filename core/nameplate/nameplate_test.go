package nameplate

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/quantity"
)

func TestABatteryIsCompletedFromItsChemistry(t *testing.T) {
	p, err := Parse([]byte("nameplate: pack\nkind: battery\nchemistry: NMC\ncells: {series: 7, parallel: 2}\nratings: " +
		"{rated_capacity: 9.6 Ah, charge_volts: 29.2 V}\n"))
	require.NoError(t, err)
	for name, want := range map[string]quantity.Quantity{
		"cutoff": quantity.Of(21, "V"), "charge_volts": quantity.Of(29.2, "V"), "safe_most_volts": quantity.Of(29.75, "V"),
		"taper_current":  quantity.Of(0.48, "A"),
		"charge_hottest": quantity.Of(45, "°C"), "rated_volts": quantity.Of(25.9, "V"),
	} {
		assert.InDelta(t, want.Value, p.Ratings[name].Value, 1e-9, name)
		assert.Equal(t, want.Dim, p.Ratings[name].Dim, name)
	}
	assert.Equal(t, "chemistry NMC", p.Assumed["cutoff"])
	assert.Empty(t, p.Assumed["charge_volts"], "what the text states is not assumed")
	assert.Equal(t, Window{Min: 0, Max: 29.75}, p.Windows["cycler.volts"])
	assert.Equal(t, Window{Min: 17.5, Max: 29.75}, p.AtRest["load.volts"])
	assert.True(t, p.Battery())
	for _, name := range Chemistries() {
		c, _ := ChemistryOf(name)
		assert.NotEmpty(t, c.Source, "%s says where its values are from", name)
		assert.True(t, c.Least < c.Cutoff && c.Cutoff < c.Nominal && c.Nominal < c.Charge && c.Charge < c.Most, name)
	}
}

func TestACapacityFollowsFromTheActiveMass(t *testing.T) {
	p, err := Parse([]byte("nameplate: coin\nkind: battery\nchemistry: LFP\ncells: {series: 1}\nratings: {active_mass: " +
		"12.5 mg, specific_capacity: 160 mAh/g}\n"))
	require.NoError(t, err)
	capacity, err := p.Rating("rated_capacity", quantity.Charge)
	require.NoError(t, err)
	assert.InDelta(t, 2e-3*3600, capacity, 1e-9, "12.5 mg × 160 mAh/g = 2.00 mAh")
	assert.InDelta(t, 0.4e-3, p.Ratings["discharge_current"].Value, 1e-9, "0.2 C of it")
	assert.Equal(t, "active mass × specific capacity", p.Assumed["rated_capacity"])
}

func TestAChemistryOfOnesOwn(t *testing.T) {
	p, err := Parse([]byte("nameplate: salt\nkind: battery\nchemistry: {name: sodium-ion, nominal: 3.1 V, charge: 3.9 " +
		"V, cutoff: 2 V, least: 1.5 V, most: 4 V, taper: 0.1 C}\ncells: {series: 4}\nratings: {rated_capacity: 10 Ah}\n"))
	require.NoError(t, err)
	assert.InDelta(t, 15.6, p.Ratings["charge_volts"].Value, 1e-9)
	assert.InDelta(t, 1, p.Ratings["taper_current"].Value, 1e-9)
	assert.InDelta(t, 8, p.Ratings["empty_volts"].Value, 1e-9)
}

func TestMistakesOfANameplate(t *testing.T) {
	for text, words := range map[string]string{
		"chemistry: NMX": "unknown chemistry \"NMX\"",
		"chemistry: NMC\ncells: {series: 6}\n" +
			"ratings: {rated_capacity: 9.6 Ah, charge_volts: 29.2 V}": "with 6 cells of NMC in series one of them is wrong",

		"chemistry: NMC\ncells: {series: 0}": "whole number from 1 to 1000",
		"chemistry: {name: odd, nominal: 3 V, charge: 2 V, cutoff: " +
			"2 V, least: 1 V, most: 4 V}": "the voltages of a chemistry rise",
		"windows: {cycler.volts: {min: 5 V, max: 2 V}}": "min is above max",
	} {
		if !strings.Contains(text, "ratings:") {
			text += "\nratings: {}"
		}
		_, err := Parse([]byte("nameplate: odd\nkind: battery\n" + text + "\n"))
		assert.ErrorContains(t, err, words, text)
	}
}

// Every output of several has ratings of its own, which have its seat before them.
func TestAUnitWithSeveralOutputs(t *testing.T) {
	p, err := Parse([]byte("nameplate: rails\nratings: {nominal_line: 24 V}\noutputs:\n" +
		"  load: {title: radio, rated_volts: 12 V}\n  load2: {rated_volts: 5 V, rated_current: 3 A}\n"))
	require.NoError(t, err)
	assert.Equal(t, []Output{{"load", "radio"}, {"load2", ""}}, p.Outputs)
	assert.Equal(t, quantity.Of(5, "V"), p.Ratings["load2.rated_volts"])
	assert.Equal(t, quantity.Of(3, "A"), p.Ratings["load2.rated_current"])
	assert.NotContains(t, p.Ratings, "rated_volts")

	_, err = Parse([]byte("nameplate: rails\nratings: {nominal_line: 24 V}\noutputs:\n  source: {rated_volts: 12 V}\n"))
	assert.ErrorContains(t, err, `"source" is not a seat that drains an output, such as load2`)
	_, err = Parse([]byte("nameplate: rails\nratings: {nominal_line: 24 V}\noutputs:\n  load2: {rated_volts: 12}\n"))
	assert.ErrorContains(t, err, "rated_volts has no unit")
}
