package stage_test

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/catalogue"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
)

// watching is a program with triggers, and a stage that captures between two that hold.
func watching(triggers string) (*procedure.Program, error) {
	return catalogue.Parse([]byte(`
procedure: test
for: any
needs:
  source: {volts: 60 V, amps: 5 A}
  load: {volts: 20 V, amps: 10 A}
  scope: {}
triggers:
`+triggers+`
stages:
  - name: power up
    set: {source: {volts: 48 V, amps: 4 A, output: on}, load: {amps: 1 A, output: on}}
  - name: before
    hold: {for: 10 s}
  - name: shot
    capture: {channels: {output: {range: 1 V}}, span: 1 ms}
  - name: after
    hold: {for: 10 s}
`), nil, nil, nil)
}

const (
	dips = `
  - name: dips
    capture: {channels: {output: {range: 4 V}}, span: 1 ms, trigger: {channel: output, level: 14 V, slope: falling}}
    keep: {worst: %d, newest: %d}
    pause: 1 s
`
	low = `
  - {name: low, when: "load.volts < 14.9 V", capture: {channels: {output: {range: 4 V}}, span: 1 ms}}
`
)

func channel(low, high float64) []record.Channel {
	return []record.Channel{{Name: "output", Unit: "V", Low: low, High: high, Range: 1}}
}

// Whatever comes, those are kept that came last, and of the others those that go furthest beyond the level.
func TestTheWorstAndTheNewestAreKept(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		worst, newest := rapid.IntRange(0, 4).Draw(rt, "worst"), rapid.IntRange(1, 4).Draw(rt, "newest")
		p, err := watching(fmt.Sprintf(dips, worst, newest))
		require.NoError(rt, err)
		m, err := stage.New(p)
		require.NoError(rt, err)
		b := newBench()
		hasCommand(m.Start(), b)
		m.Advance(stage.Applied{T: 0})
		deep := rapid.SliceOfN(rapid.IntRange(1, 1000), 1, 8).Draw(rt, "deep")
		kept := map[int]float64{}
		now := 0.0
		for i, d := range deep {
			var armed *stage.Arm
			for armed == nil {
				now += 0.02
				for _, e := range m.Advance(b.frame(now, p.Columns)) {
					if arm, is := e.(stage.Arm); is {
						armed = &arm
					}
				}
			}
			require.GreaterOrEqual(rt, now, float64(i)*1.0, "no two within the pause")
			m.Advance(stage.Armed{T: now, Shot: armed.Shot})
			stale := stage.Captured{T: now, Shot: armed.Shot - 7, Channels: channel(0, 15)}
			assert.Empty(rt, m.Advance(stale), "of an earlier one")
			for _, e := range m.Advance(stage.Captured{T: now, Triggered: now, Shot: armed.Shot,
				Channels: channel(14-float64(d)/1000, 15)}) {
				switch e := e.(type) {
				case stage.Taken:
					kept[e.Index] = e.Beyond
				case stage.Dropped:
					delete(kept, e.Index)
				}
			}
			want := wanted(deep[:i+1], worst, newest)
			require.Len(rt, kept, len(want))
			for index := range want {
				assert.InDelta(rt, float64(deep[index])/1000, kept[index], 1e-9)
			}
		}
	})
}

// wanted are the indexes of those that are to be kept.
func wanted(deep []int, worst, newest int) map[int]bool {
	want := map[int]bool{}
	old := max(len(deep)-newest, 0)
	for i := old; i < len(deep); i++ {
		want[i] = true
	}
	var indexes []int
	for i := range old {
		indexes = append(indexes, i)
	}
	slices.SortStableFunc(indexes, func(a, b int) int { return cmp.Compare(deep[b], deep[a]) })
	for _, i := range indexes[:min(worst, len(indexes))] {
		want[i] = true
	}
	return want
}

// A condition captures once each time it comes to hold; a stage that captures has the scope for itself, and the
// trigger waits again behind it, also after a break.
func TestAStageThatCapturesHasTheScope(t *testing.T) {
	p, err := watching(fmt.Sprintf(dips, 1, 1) + low)
	require.NoError(t, err)
	m, err := stage.New(p)
	require.NoError(t, err)
	b, now := newBench(), 0.0
	hasCommand(m.Start(), b)
	m.Advance(stage.Applied{T: 0})
	var asked []stage.Arm
	var kept []string
	take := func(es []stage.Effect) {
		for _, e := range es {
			switch e := e.(type) {
			case stage.Arm:
				asked = append(asked, e)
			case stage.Taken:
				kept = append(kept, e.Stage)
			}
		}
	}
	until := func(end, amps float64) {
		for b.load["amps"] = amps; now < end; {
			now += 0.02
			take(m.Advance(b.frame(now, p.Columns)))
		}
	}
	last := func() stage.Arm { return asked[len(asked)-1] }
	answer := func() {
		take(m.Advance(stage.Captured{T: now, Triggered: now, Shot: last().Shot, Channels: channel(0, 15)}))
	}
	until(3, 1)
	require.Len(t, asked, 1)
	require.NotNil(t, last().Setup.Trigger, "the scope waits for its trigger")
	until(4, 20) // 14.8 V
	require.Len(t, asked, 2)
	require.Nil(t, last().Setup.Trigger, "it captures at once")
	answer()
	until(6, 1)
	require.Len(t, asked, 3)
	require.NotNil(t, last().Setup.Trigger, "it waits again")
	until(7, 20)
	require.Len(t, asked, 4, "the condition held again")
	answer()
	until(10.5, 1)
	require.Len(t, asked, 6)
	require.Positive(t, last().Shot, "the stage has come")
	take(m.Advance(stage.Armed{T: now, Shot: last().Shot}))
	until(11, 20)
	require.Len(t, asked, 6, "nobody else asks meanwhile")
	answer()
	until(11.5, 1)
	require.Len(t, asked, 7)
	require.NotNil(t, last().Setup.Trigger)
	assert.Equal(t, []string{"low", "low", "shot"}, kept)

	data, err := m.Snapshot()
	require.NoError(t, err)
	m, err = stage.Restore(p, data)
	require.NoError(t, err)
	until(12, 1)
	require.Len(t, asked, 8, "what was armed before the break is armed anew")
	assert.NotEqual(t, asked[6].Shot, asked[7].Shot)
}

func TestMistakesOfTriggers(t *testing.T) {
	with := func(old, text string) string { return strings.Replace(low, old, text, 1) }
	for text, words := range map[string]string{
		with("name: low", "name: shot"): `a stage has the name "shot" already`,
		low + low:                       `another trigger has the name "low" already`,
		fmt.Sprintf(dips, 0, 0):         "none would be kept",
		fmt.Sprintf(dips+strings.Replace(dips, "dips", "more", 1), 1, 1, 1, 1): `the scope already waits for the trigger ` +
			`of "dips"`,
		with(`when: "load.volts < 14.9 V", `, ""): "say when: a condition, or the scope's own trigger",
		with("range: 4 V", ""): "the range of output is to be found by trying, which only a stage " +
			"can",
		with("span: 1 ms", "span: 1 ms, times: 3"):                "it takes several, which only a stage can",
		with("span: 1 ms", "span: 1 ms, do: {load: {amps: 1 A}}"): "it sets something, which only a stage can",
		with("capture:", "pause: 1 ms, capture:"):                 "between two captures there is 100 ms at least",
		with("span: 1 ms", "span: 1 ms, trigger: {channel: output, level: 1 V}"): "the scope has a trigger " +
			"of its own",
	} {
		_, err := watching(text)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), words, text)
	}
}
