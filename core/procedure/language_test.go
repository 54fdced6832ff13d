package procedure_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/document"
	"usherbench/core/kinds"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
)

func battery(t testing.TB) *nameplate.Nameplate {
	p, err := nameplate.Parse([]byte("nameplate: pack\nratings: {rated_capacity: 9.6 Ah, charge_volts: 29.2 V, cutoff: " +
		"21 V}\nwindows: {source.volts: {max: 60 V}}\n"))
	require.NoError(t, err)
	return p
}

const seatsOfAll = `procedure: all
for: pack
needs: {source: {volts: 80 V, amps: 5 A}, load: {volts: 60 V, amps: 9 A}, cycler: {volts: 29.4 V, amps: 9.6 A},
  thermo: {}}
parameters: {level: {value: 2 A}}
stages:
`

// TestEveryMistakeOfADocumentIsFoundAtOnce plants ten mistakes in one document.
func TestEveryMistakeOfADocumentIsFoundAtOnce(t *testing.T) {
	_, err := catalogue.Parse([]byte(`procedure: all
for: pack
needs: {source: {volts: 80 V, amps: 5 A}, load: {volts: 60 V, amps: 9 A}}
guards:
  - {when: "load.volts > 3 A"}
stages:
  - set: {source: {volts: 61 V}}
  - hold: {unitl: load.volts > 1 V, for: 1 s}
  - play: {source.volts: [hold 1 s, ramp to 70 V in 5 ms]}
  - seek: {set: source.volts, from: 40 V, to: 30 V, coarse: 1 V, fine: 2 V, dwell: 1 s, until: "load.volts < 1 V"}
  - ask: {choice: Which one}
  - repeat: {}
    stages: [{hold: {for: 1 s}}]
  - {hold: {for: 1 s}, else: goto nowhere}
  - discharge: {amps: 2 A, watts: 3 W}
figures:
  - {figure: reading, row: nothing, quantity: load.volts}
`), battery(t), nil, nil)
	var findings document.Findings
	require.ErrorAs(t, err, &findings)
	want := []string{
		"5:13: compares volts with amperes", "7:27: source.volts = 61 V is outside the safe window",
		`8:12: unknown key "unitl"; did you mean "until"?`,
		"9:27: the shape begins here, so it must say from which level",
		"10:72: the fine step is more than 0 and less than the coarse one", "11:10: a choice needs choices",
		"12:13: the loop never ends", `14:5: else: no stage has the name "nowhere"`,
		"15:35: the discharge has amps and watts", `17:28: no stage fills a row "nothing"`,
	}
	require.Len(t, findings, len(want), "%v", findings)
	for i, f := range findings {
		assert.True(t, strings.HasPrefix(f.Error(), want[i]), "%s, not %s", f.Error(), want[i])
	}
}

func TestMistakesInStagesAreExplained(t *testing.T) {
	for text, want := range map[string]string{
		"- play: {source.volts: [jump to 3 V]}":                             `"jump" is no segment`,
		"- play: {source.volts: [hold 1 s at 3 A]}":                         "is amperes, but here belong volts",
		"- play: {source.volts: [{table: dip.csv}]}":                        `there is no table "dip.csv"`,
		"- play: {source.volts: [{profile: dip}]}":                          `unknown profile "dip"`,
		"- play: {source.volts: [{profile: cranking-dip, fall: 0 s}]}":      "must be more than 0",
		"- play: {source.volts: [{repeat: 300000, of: [hold 1 s at 3 V]}]}": "from 1 to 200000",
		"- play: {source.volts: [{sum: [[hold 1 s at 3 V]]}]}":              "a sum adds two shapes",
		"- play: {source.volts: [hold 1 s at 62 V]}":                        "outside the safe window",
		"- play: {source.output: [hold 1 s at 3 V]}":                        "is switched, not played",
		"- play: {times: 3}":                                                "nothing is played",
		"- charge: {amps: 0.5 C, taper: 1 C}":                               "between 0 A and the charge current",
		"- charge: {}":                                                      `"amps" is missing`,
		"- charge: {amps: 0.5 C}":                                           "never ends",
		"- charge: {on: load, amps: 1 A, time: 1 h}":                        `"load" is no seat for this`,
		"- discharge: {watts: 10 W}":                                        "cycler discharges with amps only",
		"- discharge: {amps: 1 C, step down: {factor: 1}}":                  "so it is more than 1",
		"- discharge: {amps: 20 A}":                                         "above the 9.6 A that needs asks",
		"- ask: {number: how many, unit: V}": "named" +
			" with into|name it with into",
		"- ask: {confirm: ready, text: why}":           "write a stage for each",
		"- ask: {text: why, unit: V}":                  "unit goes with number only",
		"- hold: {for: 1 s}\n  until: answer.room > 3": "no stage before asks for a number into room",
		"- hold: {for: 1 s}\n  until: 1 > 2":           "always or never holds",
		"- grid: {over: [{set: load.amps, values: [1 A]}], settle: 1 s, average: 1 s}\n" +
			"  else: next": "else does not go with grid",

		"- hold: {for: 1 s}\n  stages: []": "it belongs to repeat and when",

		"- hold: {for: 1 s}\n  set: {load: {amps: 1 A}}": "write a stage for each",

		"- repeat: {times: 2}": "there is nothing to repeat",
		"- repeat: {times: 2}\n  stages: [{set: {load: {amps: 1 A}}}]":                  "takes no time",
		"- repeat: {times: 9}\n  stages: [{signal: hello}, {set: {load: {amps: 1 A}}}]": "takes no time",
		"- repeat: {times: 5000}\n" +
			"  stages: [{repeat: {times: 5000}, stages: [{hold: {for: 1 s}}]}]": "at most 10000000 are done",
		"- repeat: {times: 2}\n  stages: [{repeat: {times: 2}, stages: [{set: {load: {amps: 1 A}}}]}]": "takes no time",
		"- repeat: {over: {a: [1 A, 2 A], b: [1 V]}}\n  stages: [{hold: {for: 1 s}}]":                  "not equally long",

		"- repeat: {until: load.volts > 1 V}\n  stages: [{hold: {for: 1 s}}]": "how many times at most",
		"- when: {figure: reading, row: none, quantity: load.volts}\n" +
			"  stages: [{hold: {for: 1 s}}]": `no stage fills a row "none"`,
		"- use: other": `procedure "other" is not known`,
		"- watch: {stable: {quantity: load.volts, window: 1 s, band: 1 V/s}}": "watch ends by",
		"- seek: {set: load.mode, from: 1 V, to: 2 V, coarse: 1 V, " +
			"dwell: 1 s, until: load.volts > 1 V}": "is switched, not stepped",

		"- hold: {for: 1 s}\n  record: {every: 1 s, on change: {load.volts: 1 V}}": "give one of the two",
		"- hold: {for: 1 s}\n  tries: 0":                                           "from 1 to 1000",
	} {
		_, err := catalogue.Parse([]byte(seatsOfAll+"  "+strings.ReplaceAll(text, "\n", "\n  ")+"\n"), battery(t), nil, nil)
		if assert.Error(t, err, text) {
			assert.Regexp(t, "(?i)"+quoteAll(want), err.Error(), text)
		}
	}
}

func quoteAll(want string) string {
	parts := strings.Split(want, "|")
	for i, p := range parts {
		parts[i] = strings.NewReplacer("(", `\(`, ")", `\)`, "?", `\?`, ".", `\.`).Replace(p)
	}
	return strings.Join(parts, "|")
}

func TestAProgramIsWrittenOut(t *testing.T) {
	library := func(name string) (string, error) {
		if name != "part" {
			return "", procedure.ErrNoLibrary
		}
		return "procedure: part\nfor: any\nneeds: {load: {}}\nparameters: {long: {value: 1 s}}\nguards: [{when: " +
			"load.volts > 50 V}]\nstages: [{name: inner, hold: {for: long}}]\n", nil
	}
	p, err := catalogue.Parse([]byte(seatsOfAll+`  - repeat: {over: {level: [1 A, 3 A]}}
    stages:
      - set: {load: {amps: level}}
      - hold: {until: load.amps > level, within: 1 s}
  - repeat: {times: 4}
    stages:
      - {name: part, use: part, with: {long: 2 * 1.5 s}}
    guards: [{when: load.amps > 8 A, do: warn}]
  - name: choose
    when: load.volts > 1 V
    stages: [{hold: {for: 10 s}}]
    otherwise: [{hold: {for: 20 s}}]
  - charge: {amps: 0.5 C, taper: 0.05 C, time: 0 s}
  - discharge: {amps: 4.8 A, step down: {factor: 2, least: 0.6 A}}
  - rest: {for: 60 s}
`), battery(t), nil, library)
	require.NoError(t, err)
	var words []string
	for _, s := range p.Stages {
		words = append(words, s.Kind())
	}
	assert.Equal(t, []string{"set", "hold", "set", "hold", "repeat", "hold", "again", "when", "hold", "skip", "hold",
		"charge", "discharge", "rest"}, words)
	assert.Equal(t, 3.0, p.Stages[2].Action.(*kinds.Set).Settings[0].Value)
	assert.Equal(t, 3.0, p.Stages[3].Locals["level"].Value, "a condition knows the value of its pass")
	assert.Equal(t, []string{"stage 1, level 3 A"}, p.Stages[2].Path)
	assert.Equal(t, 7, p.Stages[4].Action.(*procedure.Repeat).End)
	assert.Equal(t, []int{10, 11}, []int{p.Stages[7].Action.(*procedure.When).Otherwise,
		p.Stages[9].Action.(*procedure.Skip).To})
	assert.Equal(t, []procedure.Guard{{When: "load.volts > 50 V", From: 5, To: 6, Locals: p.Guards[0].Locals},
		{When: "load.amps > 8 A", Warn: true, From: 4, To: 7}}, p.Guards)
	charge, discharge := p.Stages[11].Action.(*kinds.Drive), p.Stages[12].Action.(*kinds.Drive)
	assert.Equal(t,
		[]string{"taper: (cycler.volts >= 29.1416 V and cycler.amps <= 0.48 A) for 10 s"}, ends(charge))
	assert.Equal(t, "cycler.volts = 29.2 V, cycler.amps = 4.8 A, cycler.output = on",
		procedure.SettingWords(charge.Settings))
	assert.Equal(t, []string{"cutoff: cycler.volts <= 21 V"}, ends(discharge))
	assert.Equal(t, 4, discharge.Down.Steps(4.8))
	assert.Equal(t, map[string]procedure.Extent{"load.amps": {1, 3}, "cycler.amps": {-4.8, 4.8},
		"cycler.floor": {19.95, 19.95}, "cycler.volts": {29.2, 29.2}},
		p.Extremes())
	assert.InDelta(t, 4*3+10+7200+7200+60, p.Duration(), 1e-6)
	least, most := p.RunsFor()
	assert.InDelta(t, 2, most-least, 1e-9)
	volts, ok := p.Lowest("cycler.volts")
	assert.True(t, ok)
	assert.Equal(t, 21.0, volts)
	for _, s := range p.Stages {
		if !procedure.Control(s.Action) {
			assert.NotEmpty(t, s.Words(), s.Kind())
		}
	}
}

func TestAProcedureCannotUseItself(t *testing.T) {
	library := func(name string) (string, error) {
		return fmt.Sprintf("procedure: %s\nfor: any\nneeds: {}\nstages: [{use: %s}]\n", name,
			map[string]string{"a": "b", "b": "a"}[name]), nil
	}
	_, err := catalogue.Parse([]byte(seatsOfAll+"  - use: a\n"), battery(t), nil, library)
	assert.ErrorContains(t, err, "a uses itself: all → a → b → a")
}

func FuzzDraft(f *testing.F) {
	f.Add(seatsOfAll + "  - play: {source.volts: [hold 1 s at 3 V, {profile: cranking-dip}]}\n")
	f.Add(seatsOfAll +
		"  - charge: {amps: 1 C, time: 1 h}\n  - {when: 'load.volts > 1 V', stages: [{rest: {for: 1 s}}]}\n")
	f.Add("stages: [{repeat: {over: {a: [1]}}, stages: [{use: x}]}]")
	plate := battery(f)
	f.Fuzz(func(t *testing.T, text string) {
		p, _ := catalogue.Draft([]byte(text), plate, nil, nil)
		require.NotNil(t, p)
	})
}

// ends are the terminations of a charge or discharge as people read them.
func ends(d *kinds.Drive) (all []string) {
	for _, e := range d.Terminations {
		all = append(all, e.Word+": "+e.When.String())
	}
	return all
}

// A limit begins at what is needed, else at the most; never beyond what is safe for the unit.
func TestALimitBeginsWithinTheWindow(t *testing.T) {
	plate, err := nameplate.Parse([]byte("nameplate: small\nratings: {rated_volts: 4 V}\n" +
		"windows: {cycler.volts: {min: 0 V, max: 4.2 V}}\n"))
	require.NoError(t, err)
	for needs, want := range map[string]float64{"{}": 4.2, "{volts: 4.1 V}": 4.1} {
		p, err := catalogue.Parse([]byte("procedure: x\nfor: small\nneeds: {cycler: "+needs+"}\n"+
			"stages: [{hold: {for: 1 s}}]\n"), plate, nil, nil)
		require.NoError(t, err)
		begins := map[string]float64{}
		for _, s := range p.Beginning("cycler", func(_, word string) bool { return word == "" },
			func(string) (float64, bool) { return 80, true }) {
			begins[s.Quantity] = s.Value
		}
		assert.Equal(t, map[string]float64{"volts": want, "floor": 0, "amps": 0, "averages": 1}, begins, needs)
	}
}
