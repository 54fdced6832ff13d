package procedure_test

import (
	"bytes"
	"math"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/document"
	"usherbench/core/kinds"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
)

func tern(t testing.TB) *nameplate.Nameplate {
	text, err := os.ReadFile("testdata/tern.yaml")
	require.NoError(t, err)
	plate, err := nameplate.Parse(text)
	require.NoError(t, err)
	return plate
}

func source(t testing.TB) string {
	text, err := os.ReadFile("testdata/line-load.yaml")
	require.NoError(t, err)
	return string(text)
}

func TestAProcedureIsResolved(t *testing.T) {
	p, err := catalogue.Parse([]byte(source(t)), tern(t), nil, nil)
	require.NoError(t, err)
	assert.Equal(t, "line-load", p.Name)
	assert.Equal(t, []string{"source.volts", "source.amps", "source.limited", "source.watts", "source.charge",
		"source.energy",
		"load.volts", "load.amps", "load.watts", "load.charge", "load.energy"}, []string(p.Columns))
	require.Len(t, p.Stages, 3)

	set := p.Stages[0].Action.(*kinds.Set).Settings
	assert.Equal(t, "load.mode = current", set[0].String(), "modes come before levels")
	assert.Equal(t, "source.output = on", set[len(set)-2].String(), "what feeds goes on before what drains")
	assert.Equal(t, "load.output = on", set[len(set)-1].String())

	g := p.Stages[1].Action.(*kinds.Grid)
	assert.Equal(t, 48, g.Places())
	assert.Equal(t, []procedure.Setting{{Seat: "source", Quantity: "volts", Value: 48},
		{Seat: "load", Quantity: "amps", Value: 0.5}}, g.Place(16))
	assert.Equal(t, 8.0, g.Axes[1].Values[15], "to: top takes the rating of the nameplate")
	assert.InDelta(t, 12+48*0.5, p.Duration(), 1e-9)

	require.NotNil(t, p.Figures[0].Limit)
	assert.InDelta(t, 93, p.Figures[0].Limit.Min, 1e-12, "limits are in the figure's unit")
	assert.True(t, math.IsInf(p.Figures[0].Limit.Max, 1))
	assert.Equal(t, procedure.Curve{Of: "efficiency", By: "load.amps", Per: "source.volts"}, p.Curves[0])
}

func TestParametersCanBeGiven(t *testing.T) {
	p, err := catalogue.Parse([]byte(source(t)), tern(t), map[string]string{"top": "6 A"}, nil)
	require.NoError(t, err)
	assert.Equal(t, 6.0, p.Stages[1].Action.(*kinds.Grid).Axes[1].Values[15])
	assert.Equal(t, 6.0, p.Figures[0].At["load.amps"])
	for text, want := range map[string]string{"6 V": "takes amperes", "six": "does not begin with a number",
		"20 A": "above the 10 A"} {
		_, err = catalogue.Parse([]byte(source(t)), tern(t), map[string]string{"top": text}, nil)
		assert.ErrorContains(t, err, want)
	}
	_, err = catalogue.Parse([]byte(source(t)), tern(t), map[string]string{"tip": "6 A"}, nil)
	assert.ErrorContains(t, err, `no parameter "tip"`)
	assert.ErrorContains(t, err, `did you mean "top"`)
}

// Each mistake replaces one text by another and gives exactly one finding, at the place of the mistake.
func TestMistakesAreFoundWhereTheyStand(t *testing.T) {
	for _, c := range []struct{ name, old, new, want string }{
		{"wrong unit", "{volts: 48 V, amps: 4 A", "{volts: 48 A, amps: 4 A",
			`17:23: "48 A" is amperes, but here belong volts`},
		{"unit that does not exist", "within: 2 s", "within: 2 seconds", `write s`},
		{"unknown seat", "      load: {mode", "      lode: {mode", `18:7: unknown seat "lode"; did you mean "load"?`},
		{"unknown key", "    settle: 300 ms", "    setle: 300 ms", `did you mean "settle"?`},
		{"unknown quantity in a guard", "load.volts > 17 V", "load.volt > 17 V",
			`13:13: "load.volt" is not known; did you mean "load.volts"?`},
		{"dimensions of a condition", "load.volts > 17 V", "load.volts > 17 A", `13:13: compares volts with amperes`},
		{"setpoint outside the nameplate's window", "amps: 0 A, output", "amps: 9.5 A, output",
			`outside the safe window of nameplate tern, up to 9 A`},
		{"setpoint above what the seat must do", "volts: 60 V, amps: 5 A", "volts: 50 V, amps: 5 A",
			`above the 50 V that needs asks`},
		{"unknown figure", "figure: efficiency", "figure: effciency", `did you mean "efficiency"?`},
		{"figure at a place that is not measured", "at: {source.volts: 48 V, load.amps: top}",
			"at: {source.volts: 50 V, load.amps: top}", "no grid has a place at source.volts = 50 V"},
		{"limit that can never be met", "{min: 93 %}", "{min: 103 %}", "can never be met"},
		{"a figure that has one unit", "figure: efficiency", "figure: efficiency, in: ppm",
			"efficiency is always in %; only a figure of a quantity can be told in another unit"},
		{"limit upside down", "{min: 93 %}", "{min: 93 %, max: 90 %}", "min is above max"},
		{"a wait without end", "    within: 2 s\n", "", "may never end"},
		{"a hold without end", "hold: {for: 12 s}", "hold: {}", "never ends"},
		{"two jobs in one stage", "    hold: {for: 12 s}", "    hold: {for: 12 s}\n    set: {source: {volts: 1 V}}",
			"write a stage for each"},
		{"mode that was not asked for", "mode: current", "mode: power", "not among the modes that needs asks"},
		{"a key twice", "title: Efficiency", "title: a\ntitle: Efficiency", `already defined`},
		{"curve in an odd form", "efficiency by load.amps per source.volts", "efficiency over load.amps",
			"a curve reads like"},
		{"curve less what nobody rates", "efficiency by load.amps per", "source.amps less rated by load.amps per",
			"does not say what source.amps is rated for"},
		{"curve less another dimension", "efficiency by load.amps per", "load.volts less load.amps by load.amps per",
			"one cannot be drawn less the other"},
		{"stage name of a figure", "stage: no load", "stage: no loud", `did you mean "no load"?`},
		{"negative setpoint", "amps: 0 A, output", "amps: -1 A, output", "not negative"},
	} {
		text := source(t)
		require.Contains(t, text, c.old, c.name)
		_, err := catalogue.Parse([]byte(strings.Replace(text, c.old, c.new, 1)), tern(t), nil, nil)
		var findings document.Findings
		require.ErrorAs(t, err, &findings, c.name)
		assert.Len(t, findings, 1, "%s: %v", c.name, err)
		assert.Contains(t, err.Error(), c.want, c.name)
		assert.Positive(t, findings[0].Line)
	}
}

func TestAllMistakesAreReportedAtOnce(t *testing.T) {
	text := strings.NewReplacer("48 V, amps: 4 A", "48 A, amps: 4 A", "figure: efficiency", "figure: effciency",
		"settle: 300 ms", "settle: 300 mV").Replace(source(t))
	_, err := catalogue.Parse([]byte(text), tern(t), nil, nil)
	var findings document.Findings
	require.ErrorAs(t, err, &findings)
	assert.Len(t, findings, 3)
	assert.Less(t, findings[0].Line, findings[2].Line)
}

func TestWhatIsNoProcedureAtAll(t *testing.T) {
	noise := make([]byte, 10<<20)
	rng := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(rng.Uint32())
	}
	for name, text := range map[string][]byte{
		"noise": noise, "short noise": noise[:4096], "empty": nil, "a list": []byte("- 1\n- 2\n"),
		"not YAML": []byte("a: [1, 2\nb: }"), "text": []byte("hello"),
		"deep": bytes.Repeat([]byte("["), 100_000), "deep lines": bytes.Repeat([]byte("[\n"), 50_000),
		"dashes":        bytes.Repeat([]byte("- "), 50_000),
		"two documents": []byte(source(t) + "\n---\na: 1\n"), "tabs": []byte("procedure:\tx\n\tfor: y"),
		"anchor": []byte("procedure: &a x\nfor: *a\n"),
	} {
		_, err := catalogue.Parse(text, nil, nil, nil)
		var findings document.Findings
		require.ErrorAs(t, err, &findings, name)
		assert.Positive(t, findings[0].Line, name)
		assert.Less(t, len(findings[0].Message), 400, name)
	}
}

func TestAnyUnitNeedsNoNameplate(t *testing.T) {
	text := "procedure: soak\nfor: any\nneeds: {source: {volts: 20 V}}\nstages:\n  - set: {source: {volts: 12 V, " +
		"output: on}}\n  - hold: {for: 1 min}\n"
	p, err := catalogue.Parse([]byte(text), nil, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, 60.0, p.Stages[1].Action.(*kinds.Hold).For)
	_, err = catalogue.Parse([]byte(source(t)), nil, nil, nil)
	assert.ErrorContains(t, err, `nameplate "tern" is not known`)
}

func TestNameplateMistakes(t *testing.T) {
	_, err := nameplate.Parse([]byte("nameplate: Big One\nratings: {rated_volts: 15 X, Bad: 1 V}\nwindows: " +
		"{source.volts: {min: 5 V, max: 1 V}, foo: {}}\n"))
	for _, want := range []string{`1:12: "Big One" is not a name`, `"X" is not a unit`, `"Bad" is not a name of a rating`,
		"min is above max", `"foo" is not a quantity`} {
		assert.ErrorContains(t, err, want)
	}
	_, err = tern(t).Rating("rated_volt", quantity.Voltage)
	assert.ErrorContains(t, err, `did you mean "rated_volts"`)
	_, err = tern(t).Rating("rated_volts", quantity.Current)
	assert.ErrorContains(t, err, "states rated_volts in volts")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(source(f)))
	f.Add([]byte("procedure: x\nfor: any\nneeds: {source: {}}\nstages: [{hold: {for: 1 s}}]"))
	plate := tern(f)
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := catalogue.Parse(text, plate, nil, nil)
		if err != nil {
			var findings document.Findings
			require.ErrorAs(t, err, &findings)
			require.NotEmpty(t, findings)
			return
		}
		require.NotEmpty(t, p.Stages)
	})
}
