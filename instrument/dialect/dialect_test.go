package dialect

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestShippedDialectsAreSound(t *testing.T) {
	l, err := Load("")
	require.NoError(t, err)
	d := l["sim-supply"]
	require.NotNil(t, d)
	assert.Equal(t, []string{"VOLT 12.5000,(@2)"}, d.Fill(d.Set["volts"], 2, 12.5))
	assert.True(t, d.Identity.Match.MatchString("Usher Bench,SIM-S2,S2-0101,1.0"))
	r, ok := d.ReadRanges["amps"].Find(2)
	require.True(t, ok)
	assert.InDelta(t, 0.0005*2+1.5e-3, r.Bound(2), 1e-12)
	r, _ = d.ReadRanges["amps"].Find(0.05)
	assert.InDelta(t, 1e-6, r.Resolution, 1e-15)
}

func TestMistakesInADialectHaveAPlace(t *testing.T) {
	text := `dialect: mine
identity: "^(Acorn"
seats: [source, lode]
set:
  volts: "VOLT {valeu}"
  hue: "HUE {value}"
  output: {"on": "OUTP 1"}
read: {message: "MEAS?", gives: [volts, brightness]}
ranges: {read: {volts: [{to: 80 V}, {to: 20 V, reading: 5 V}]}}
`
	_, err := Library{}.Read(Source{"mine.yaml", text})
	for _, want := range []string{
		"2:11: ", "is not a regular expression", `3:17: "lode" is not possible here`, "5:16: {valeu} has no meaning",
		"write {value}", `6:3: "hue" cannot be set`,
		"what switches it on and what switches it off", `"brightness" is not a quantity`, "from the smallest to the largest",
		`"5 V" is volts, but here belong a plain number`,
	} {
		assert.ErrorContains(t, err, want)
	}
}

const phases = `dialect: phases
title: Three phases
identity: "^Nobody,P3,"
seats: [meter]
measures: {ac: "FUNC AC", both: "FUNC BOTH", ask: "FUNC?"}
read:
  - {message: "PHASES?", gives: [volts.1 to 3, amps.1 to 3], units: {amps: mA}}
  - {message: "SPECTRUM?", gives: [amps.1.h1 to h3, volts.ac]}
ranges:
  read:
    volts: [{to: 300 V, offset: 100 mV}]
    amps.2: [{to: 5 A, offset: 1 mA}]
    amps: [{to: 5 A, offset: 2 mA}]
`

// Rows of readings are written short and mean each of them; a unit of a quantity is that of its parts, and so is an
// accuracy for which the part has none of its own.
func TestADialectReadsPartsOfQuantities(t *testing.T) {
	d, err := Library{}.Read(Source{"phases.yaml", phases})
	require.NoError(t, err)
	assert.Equal(t, []string{"volts.1", "volts.2", "volts.3", "amps.1", "amps.2", "amps.3", "amps.1.h1", "amps.1.h2",
		"amps.1.h3", "volts.ac"}, d.Gives())
	for reading, want := range map[string]float64{"volts.3": 0.1, "volts.ac": 0.1, "amps.1": 2e-3, "amps.2": 1e-3,
		"amps.1.h3": 2e-3} {
		spec, ok := d.ReadRange(reading).Find(1)
		assert.True(t, ok, reading)
		assert.InDelta(t, want, spec.Offset, 1e-15, reading)
	}
	assert.Empty(t, d.ReadRange("watts.1"))
	for what, replaced := range map[string][2]string{
		"volts.4": {"volts.1 to 3", "volts.1 to 4"},
		"celsius": {"volts.ac", "celsius.1"},
		"h51":     {"amps.1.h1 to h3", "amps.1.h49 to h51"},
		"amps.1":  {"volts.ac", "amps.1"}, // twice
		"neither": {"ac: \"FUNC AC\"", "neither: \"FUNC AC\""},
		"to 300":  {"{to: 300 V, offset: 100 mV}", "{to: 300 A, offset: 100 mV}"},
	} {
		_, err := Library{}.Read(Source{"phases.yaml", strings.Replace(phases, replaced[0], replaced[1], 1)})
		assert.Error(t, err, what)
	}
}

func TestAFolderAddsAndReplacesDialects(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("mine.yaml",
		"dialect: mine\nidentity: x\nseats: [load]\nset: {output: {on: a, off: b}}\nconfirm: {message: \"O?\", on: a, "+
			"off: b}\nread: {message: \"M?\", gives: [volts]}\n")
	write("sim-load.yaml",
		"dialect: sim-load\ntitle: replaced\nidentity: x\nseats: [load]\nset: {output: {on: a, off: b}}\nconfirm: "+
			"{message: \"O?\", on: a, off: b}\nread: {message: \"M?\", gives: [volts]}\n")
	write("broken.yaml", "dialect: [")
	l, err := Load(dir)
	assert.ErrorContains(t, err, "broken.yaml")
	assert.Contains(t, l, "mine")
	assert.Equal(t, "replaced", l["sim-load"].Title)
	assert.Contains(t, l, "sim-supply", "a broken file does not hide the others")
	_, err = Load(filepath.Join(dir, "none"))
	assert.NoError(t, err)
	assert.False(t, strings.Contains(l["mine"].Sources[0].Text, "replaced"))
}

func FuzzParse(f *testing.F) {
	library := must(Load(""))
	for name := range library {
		f.Add(must(Load(""))[name].Sources[0].Text)
	}
	f.Fuzz(func(_ *testing.T, text string) { _, _ = library.Read(Source{Text: text}) })
}

func must(l Library, err error) Library {
	if err != nil {
		panic(err)
	}
	return l
}
