package kinds_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/catalogue"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
)

// once gives an event at a time.
func once(at float64, make func(now float64) stage.Event) func(*stage.Machine, float64) stage.Event {
	done := false
	return func(_ *stage.Machine, now float64) stage.Event {
		if done || now < at {
			return nil
		}
		done = true
		return make(now)
	}
}

func several(acts ...func(*stage.Machine, float64) stage.Event) func(*stage.Machine, float64) stage.Event {
	return func(m *stage.Machine, now float64) stage.Event {
		for _, act := range acts {
			if e := act(m, now); e != nil {
				return e
			}
		}
		return nil
	}
}

// A pause makes a run longer by its length, whatever the stage does, and changes nothing else.
func TestAPauseOnlyMakesARunLonger(t *testing.T) {
	for name, text := range everyStage {
		p := parsed(t, text)
		plain := drive(t, p, nil, nil)
		if plain.end.T < 0.3 {
			continue
		}
		rapid.Check(t, func(rt *rapid.T) {
			at := rapid.Float64Range(0.05, min(plain.end.T-0.1, 20)).Draw(rt, "at")
			long := rapid.Float64Range(0.1, 3).Draw(rt, "for")
			held := drive(rt, p, nil, several(once(at, func(now float64) stage.Event { return stage.Paused{T: now, By: "ada"} }),
				once(at+long, func(now float64) stage.Event { return stage.Resumed{T: now, By: "ada"} })))
			require.Equal(rt, stage.Done, held.end.Ending, "%s: %s", name, held.end.Reason)
			if len(p.Guards) == 0 && !containsElapsed(text) && name != "withstand" { // that begins anew
				require.InDelta(rt, plain.end.T+long, held.end.T, 0.5, name)
			}
			sameRows(rt, name, plain, held)
		})
	}
}

// sameRows: as many points, but for readings that are taken for as long as something lasts.
func sameRows(t require.TestingT, name string, plain, other outcome) {
	if strings.HasPrefix(name, "acquire until") {
		require.NotEmpty(t, other.points, name)
		return
	}
	require.Equal(t, len(plain.points), len(other.points), name)
}

// A run goes on after its service was away, whatever its stage was doing, and comes to the same end with as
// many points.
func TestARunGoesOnAfterAnInterruption(t *testing.T) {
	for name, text := range everyStage {
		p := parsed(t, text)
		plain := drive(t, p, nil, nil)
		if plain.end.T < 0.3 {
			continue
		}
		rapid.Check(t, func(rt *rapid.T) {
			at := rapid.Float64Range(0.05, min(plain.end.T-0.1, 20)).Draw(rt, "at")
			long := rapid.Float64Range(0.1, 30).Draw(rt, "away")
			back := drive(rt, p, nil,
				several(once(at, func(now float64) stage.Event { return stage.Interrupted{T: now, Why: "the service was away"} }),
					once(at+long, func(now float64) stage.Event { return stage.Returned{T: now} })))
			require.Equal(rt, stage.Done, back.end.Ending, "%s: %s", name, back.end.Reason)
			sameRows(rt, name, plain, back)
		})
	}
}

func TestWhatWasInForceIsSetAgain(t *testing.T) {
	p := parsed(t, powered+"  - {name: soak, hold: {for: 2 s}}\n")
	o := drive(t, p, nil,
		several(once(1, func(now float64) stage.Event { return stage.Interrupted{T: now, Why: "the service was away"} }),
			once(5, func(now float64) stage.Event { return stage.Returned{T: now} })))
	require.Equal(t, stage.Done, o.end.Ending)
	assert.InDelta(t, 6.1, o.end.T, 0.3, "the time away does not count")
	assert.Equal(t, []string{"the service was away", "goes on after 4 s"}, o.labels(record.MarkBreak)[:2])
	again := ""
	for i, line := range o.lines {
		if strings.Contains(line, "goes on after") {
			again = o.lines[i+1]
		}
	}
	assert.Regexp(t, `^stage.Command \{\[.*source.output = on load.output = on\]`, again,
		"levels first, then the source, then the load")

	paused := drive(t, p, nil, several(once(0.5, func(now float64) stage.Event { return stage.Paused{T: now, By: "ada"} }),
		once(1, func(now float64) stage.Event { return stage.Interrupted{T: now, Why: "away"} }),
		once(2, func(now float64) stage.Event { return stage.Returned{T: now} }),
		once(8, func(now float64) stage.Event { return stage.Resumed{T: now, By: "ada"} })))
	assert.InDelta(t, 9.6, paused.end.T, 0.4, "what somebody had paused stays so")
}

// containsElapsed tells whether a program looks at the clock of the run, which a pause does not stop.
func containsElapsed(text string) bool {
	for i := range len(text) - 8 {
		if text[i:i+8] == " elapsed" || text[i:i+8] == "\"elapsed" {
			return true
		}
	}
	return false
}

func TestAPausedDischargeTakesNothing(t *testing.T) {
	p := parsed(t, "  - {name: empty, discharge: {amps: 1 A, cutoff: 3.1 V, charge: 3 mAh}}\n")
	o := drive(t, p, nil, several(once(1, func(now float64) stage.Event { return stage.Paused{T: now, By: "ada"} }),
		once(5, func(now float64) stage.Event { return stage.Resumed{T: now, By: "ada"} })))
	assert.Equal(t, stage.Done, o.end.Ending)
	assert.InDelta(t, 3e-3*3600+4, o.end.T, 0.2, "the charge that it may take is taken while it is not paused")
	assert.Contains(t, o.lines, "stage.Command {[cycler.output = off] false}")
	assert.Contains(t, o.lines, "stage.Command {[cycler.output = on] false}")
}

func TestAStageIsMadeLongerShorterAndSkipped(t *testing.T) {
	p := parsed(t,
		powered+"  - {name: soak, hold: {for: 2 s}}\n  - {name: empty, discharge: {amps: 1 A, cutoff: 3.01 V}}\n  - hold: "+
			"{for: 100 ms}\n")
	longer := drive(t, p, nil,
		several(once(0.5, func(now float64) stage.Event { return stage.Extended{T: now, By: "ada", Seconds: 1} }),
			once(4, func(now float64) stage.Event { return stage.Skipped{T: now, By: "ada"} })))
	assert.Equal(t, stage.Done, longer.end.Ending)
	assert.InDelta(t, 4.1, longer.end.T, 0.2)
	hand := longer.labels(record.MarkHand)
	assert.Equal(t, []string{"ada changed the length of soak by +1 s", "ada skipped the rest of empty"}, hand)
	assert.Contains(t, longer.lines, "stage.Command {[cycler.output = off] false}", "a skipped discharge does not go on")
	shorter := drive(t, p, nil,
		several(once(0.5, func(now float64) stage.Event { return stage.Extended{T: now, By: "ada", Seconds: -5} }),
			once(1, func(now float64) stage.Event { return stage.Skipped{T: now, By: "ada"} })))
	assert.InDelta(t, 1.1, shorter.end.T, 0.2)
}

func TestAnAdjustedParameterIsInForceAtOnce(t *testing.T) {
	text := powered + "  - {name: soak, hold: {for: wait}}\n"
	o := drive(t, parsed(t, text), nil, nil)
	assert.InDelta(t, 1, o.end.T, 0.1)
	m, err := stage.New(parsed(t, text))
	require.NoError(t, err)
	m.Start()
	m.Advance(stage.Applied{T: 0})
	with := func(values map[string]string) *procedure.Program {
		p, err := parseWith(text, values)
		require.NoError(t, err)
		return p
	}
	effects, err := m.Adjust(with(map[string]string{"level": "3 A", "wait": "5 s"}), 0.5, "ada", "level")
	require.NoError(t, err)
	require.Len(t, effects, 2)
	assert.Equal(t, "load.amps = 3 A", effects[1].(stage.Command).Settings[0].String())
	m.Advance(stage.Applied{T: 0.5})
	l := newLab()
	for now := 0.6; now < 4.9; now += 0.1 {
		require.Empty(t, m.Advance(stage.Frame{Frame: l.frame(now, m.Program().Columns)}), "the hold is as long as it is now")
	}
	assert.NotEmpty(t, m.Advance(stage.Frame{Frame: l.frame(5.1, m.Program().Columns)}))
	other, err := parseWith(powered, nil)
	require.NoError(t, err)
	m, err = stage.New(parsed(t, text))
	require.NoError(t, err)
	m.Start()
	_, err = m.Adjust(other, 1, "ada", "level")
	assert.ErrorContains(t, err, "alters the course of the procedure")
}

func TestAnswersAreHeldAgainstThePrompt(t *testing.T) {
	low, high := 0.0, 50.0
	for _, c := range []struct {
		ask   stage.Prompt
		text  string
		value float64
		fails string
	}{
		{stage.Prompt{Form: stage.AskConfirm}, "yes", 0, ""},
		{stage.Prompt{Form: stage.AskConfirm}, "maybe", 0, "say yes or no"},
		{stage.Prompt{Form: stage.AskNumber, Unit: "mV"}, "1500", 1.5, ""},
		{stage.Prompt{Form: stage.AskNumber, Unit: "mV"}, "1.5 V", 1.5, ""},
		{stage.Prompt{Form: stage.AskNumber, Unit: "mV"}, "1.5 A", 0, "is not a number in mV"},
		{stage.Prompt{Form: stage.AskNumber, Unit: "°C", Min: &low, Max: &high}, "−3", 0, "outside 0 to 50 °C"},
		{stage.Prompt{Form: stage.AskNumber, Max: &high}, "51", 0, "up to 50"},
		{stage.Prompt{Form: stage.AskChoice, Choice: []string{"red", "green"}}, "blue", 0,
			"not among the choices: red, green"},
		{stage.Prompt{Form: stage.AskText}, "  ", 0, "empty"},
		{stage.Prompt{Form: stage.AskSerial}, "TN-1", 0, ""},
	} {
		x, err := stage.AnswerOf(&c.ask, c.text)
		if c.fails != "" {
			assert.ErrorContains(t, err, c.fails, c.text)
			continue
		}
		require.NoError(t, err, c.text)
		assert.InDelta(t, c.value, x, 1e-12)
	}
}

func parseWith(stages string, values map[string]string) (*procedure.Program, error) {
	plate, err := nameplate.Parse([]byte(small))
	if err != nil {
		return nil, err
	}
	return catalogue.Parse([]byte(header+stages), plate, values, nil)
}

// A condition that ends a shape early, or another try of it, stops what the instrument plays by itself.
func TestAnInstrumentDoesNotPlayOn(t *testing.T) {
	for name, text := range map[string]string{
		"an until": "  - {play: {by: instrument, source.volts: [hold 5 s at 48 V]}, until: elapsed > 1 s, within: 9 s}\n",
		"a try": "  - {play: {by: instrument, source.volts: [hold 5 s at 48 V]}, until: load.volts > 20 V, within: " +
			"1 s, tries: 2, else: next}\n",
		"what is not": "  - {play: {by: instrument, source.volts: [hold 500 ms at 48 V]}}\n",
	} {
		m, err := stage.New(parsed(t, text+"  - hold: {for: 100 ms}\n"))
		require.NoError(t, err)
		halts, performs := 0, 0
		count := func(es []stage.Effect) {
			for len(es) > 0 {
				acknowledge := false
				for _, e := range es {
					switch e.(type) {
					case stage.Perform:
						performs++
						acknowledge = true
					case stage.Halt:
						halts++
					}
				}
				if !acknowledge {
					return
				}
				es = m.Advance(stage.Applied{T: m.Now()})
			}
		}
		count(m.Start())
		l := newLab()
		for step := 1; !m.Finished(); step++ {
			require.Less(t, step, 1000, name)
			count(m.Advance(stage.Frame{Frame: l.frame(0.02*float64(step), m.Program().Columns)}))
		}
		assert.Equal(t, map[string][2]int{"an until": {1, 1}, "a try": {2, 2}, "what is not": {0, 1}}[name],
			[2]int{halts, performs}, name)
	}
}
