package dialect

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"usherbench/instrument/modbus"

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

// Codes are told from readings, by what the dialect names or by what is usual for the form of a number.
func TestCodesAreNoReadings(t *testing.T) {
	library, err := Load("")
	require.NoError(t, err)
	const missing, overload, number = "missing", "overload", "a number"
	kind := func(x float64, is bool) string {
		switch {
		case !is:
			return number
		case math.IsNaN(x):
			return missing
		}
		return overload
	}
	for text, want := range map[string]string{"9.91E37": missing, "+9.91E+37": missing, "9.9E37": overload,
		"-9.9E+37": overload, "NAN": missing, "INF": overload, "12.5": number, "9.9E36": number, "----": number} {
		assert.Equal(t, want, kind(Codes{}.OfText(text)), text)
	}
	x, _ := Codes{}.OfText("-9.9E37")
	assert.True(t, math.IsInf(x, -1), "an overload keeps its sign")
	for _, c := range []struct {
		as   string
		x    float64
		want string
	}{
		{"uint16", 0xffff, missing}, {"uint32", 0xffffffff, missing}, {"uint32", 0xffff, number}, {"int16", -32768, missing},
		{"int32", -2147483648, missing}, {"int16", 32767, number}, {"float32", math.NaN(), missing},
		{"float32", math.Inf(-1), overload},
	} {
		assert.Equal(t, c.want, kind(Codes{}.OfRegisters(modbus.Form{As: c.as}, c.x)), "%v", c)
	}

	d, err := library.Read(Source{File: "mine.yaml", Text: `dialect: mine
protocol: registers
seats: [meter]
measures: dc
read:
  volts: {input: 0x10, as: uint32, unit: mV, missing: [0xFFFFFFFE, 0xFFFFFFFF], overload: 0x7FFFFFFF}
  amps: {input: 18, as: uint16, unit: mA, missing: []}
`})
	require.NoError(t, err)
	volts, amps := d.Read[0].Gives[0], d.Read[0].Gives[1]
	assert.Equal(t, 16, volts.Register.Address)
	of := func(g Reading, x float64) string { return kind(g.Codes.OfRegisters(g.Register.Form, x)) }
	assert.Equal(t, missing, of(volts, 0xfffffffe))
	assert.Equal(t, missing, of(volts, 0xffffffff))
	assert.Equal(t, overload, of(volts, 0x7fffffff))
	assert.Equal(t, number, of(amps, 0xffff), "where the dialect says that there is no code, there is none")

	d, err = library.Read(Source{File: "mine.yaml", Text: `dialect: mine
seats: [meter]
measures: dc
read: {message: "READ?", gives: [volts, amps], missing: {volts: "----", amps: [9999, "none"]}, overload: {volts: OVLD}}
`})
	require.NoError(t, err)
	volts, amps = d.Read[0].Gives[0], d.Read[0].Gives[1]
	assert.Equal(t, missing, kind(volts.Codes.OfText("----")))
	assert.Equal(t, overload, kind(volts.Codes.OfText("OVLD")))
	assert.Equal(t, missing, kind(amps.Codes.OfText("9999.0")))
	assert.Equal(t, number, kind(amps.Codes.OfText("OVLD")))
	_, err = library.Read(Source{File: "mine.yaml", Text: "dialect: mine\nseats: [meter]\nmeasures: dc\n" +
		"read: {message: \"READ?\", gives: [volts], missing: {amps: 1}}\n"})
	assert.ErrorContains(t, err, `"amps" is not among what the answer gives`)
}

const twoChannels = `dialect: mine
identity: "^Mine,"
channels: 2
seats: [source]
set:
  volts: "VOLT {value},{channel}"
  amps: "CURR {value},{channel}"
  output: {"on": "OUTP ON,{channel}", "off": "OUTP OFF,{channel}"}
read: {message: "MEAS? {channel}", gives: [volts, amps]}
confirm: {message: "OUTP? {channel}", "on": "1", "off": "0"}
make safe: "OUTP OFF,{channel}"
protect: {volts above: "PROT {value},{channel}"}
`

// A setting that is meant for the second channel must not reach the first.
func TestChannelsAreToldApart(t *testing.T) {
	library, err := Load("")
	require.NoError(t, err)
	read := func(text string) error {
		_, err := library.Read(Source{File: "mine.yaml", Text: text})
		return err
	}
	require.NoError(t, read(twoChannels))
	for line, text := range strings.Split(twoChannels, "\n") {
		if !strings.Contains(text, "{channel}") {
			continue
		}
		without := strings.NewReplacer(",{channel}", "", " {channel}", "").Replace(text)
		blind := strings.Replace(twoChannels, text, without, 1)
		err := read(blind)
		require.ErrorContains(t, err, "of 2 channels it reaches the same one always", text)
		assert.ErrorContains(t, err, fmt.Sprintf("%d:", line+1), text)
		assert.NoError(t, read(strings.Replace(blind, "channels: 2", "channels: 1", 1)), text)
		assert.NoError(t, read(blind+"select: \"INST {channel}\"\n"), text)
	}
	assert.ErrorContains(t, read(twoChannels+"select: \"INST 1\"\n"), "it chooses no channel")
	assert.ErrorContains(t, read("dialect: mine\nfrom: sim-register-load\nchannels: 2\n"), "channel stride")
	assert.ErrorContains(t, read("dialect: mine\nfrom: sim-load\nchannels: 2\n"), "reaches the same one")
	assert.ErrorContains(t, read("dialect: mine\nfrom: sim-supply\nchannel names: [A, A]\n"), "two channels are called")
}

func TestANumberMustFitItsRegisters(t *testing.T) {
	library, err := Load("")
	require.NoError(t, err)
	for text, words := range map[string]string{
		"set: {amps: {register: 2, as: uint32, unit: mA, function: 6}}":  "uint32 fills 2 registers",
		"read: {amps: {input: 1, unit: mA}, volts: {input: 0, bit: 16}}": "uint16 has no bit 16; its bits are 0 to 15",
		"confirm: {register: 0, bit: 31, \"on\": 1, \"off\": 0}":         "uint16 has no bit 31",
	} {
		_, err := library.Read(Source{File: "mine.yaml", Text: "dialect: mine\nfrom: sim-register-load\n" + text + "\n"})
		assert.ErrorContains(t, err, words, text)
	}
}

func TestACyclerSaysWhatItsVoltsBound(t *testing.T) {
	library, err := Load("")
	require.NoError(t, err)
	const text = "dialect: mine\nfrom: sim-cycler\nset: {volts: {message: \"VOLT {value},(@{channel})\", bounds: %s}}\n"
	for word, one := range map[string]bool{"both": true, "charges": false} {
		d, err := library.Read(Source{File: "mine.yaml", Text: fmt.Sprintf(text, word)})
		require.NoError(t, err)
		assert.Equal(t, one, d.For("cycler").OneVoltage)
	}
	_, err = library.Read(Source{File: "mine.yaml", Text: fmt.Sprintf(text, "discharges")})
	assert.ErrorContains(t, err, "both")
}

// A load that takes one level is in the mode of that level, though it cannot be told.
func TestAModelThatTakesOneLevelIsInItsMode(t *testing.T) {
	shipped, err := Load("")
	require.NoError(t, err)
	for set, mode := range map[string]string{
		`amps: "I {value}"`:                          "current",
		`ohms: "R {value}"`:                          "resistance",
		`{amps: "I {value}", volts: "V {value}"}`:    "",
		`{amps: "I {value}", mode: {current: "CC"}}`: "",
		`{amps: "I {value}", hertz: "F {value}"}`:    "current",
		`{amps: "I {value}", watts: "P {value}"}`:    "",
	} {
		inside, isMap := strings.CutPrefix(set, "{")
		if isMap {
			inside = strings.TrimSuffix(inside, "}")
		}
		d, err := shipped.Read(Source{File: "x.yaml", Text: "dialect: x\nseats: [load]\nset: {" + inside +
			`, output: {"on": "1", "off": "0"}}` + "\nread: {message: \"M\", gives: [volts, amps]}\n" +
			"confirm: {message: \"O\", \"on\": \"1\", \"off\": \"0\"}\n"})
		require.NoError(t, err, set)
		assert.Equal(t, mode, d.BuiltMode(), set)
	}
}
