package wiring_test

import (
	"encoding/json"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/wiring"
)

var (
	three  = []wiring.Net{{"A1", "B1"}, {"A2", "B2"}, {"A3", "B3"}}
	usual  = wiring.Limits{Closed: wiring.UsualClosed, Open: wiring.UsualOpen}
	beyond = math.Inf(1)
)

// harness is one as it is, for scans: closed joints with their ohms.
type harness map[[2]string]float64

// scan reads pairs of it: what is joined over others reads their sum, all else is over range.
func (h harness) scan(pins []string, nets []wiring.Net, pairs [][2]int) wiring.Scan {
	s := wiring.Scan{Pins: pins, Nets: nets, Limits: usual, Range: 100e6}
	least := map[[2]string]float64{}
	at := func(a, b string) float64 {
		switch x, ok := least[[2]string{a, b}]; {
		case a == b:
			return 0
		case ok:
			return x
		}
		return beyond
	}
	for p, ohms := range h {
		least[p], least[[2]string{p[1], p[0]}] = ohms, ohms
	}
	for _, over := range pins {
		for _, a := range pins {
			for _, b := range pins {
				if x := at(a, over) + at(over, b); x < at(a, b) {
					least[[2]string{a, b}] = x
				}
			}
		}
	}
	for _, p := range pairs {
		s.Pairs = append(s.Pairs, wiring.Pair{A: p[0], B: p[1], Ohms: at(pins[p[0]], pins[p[1]])})
	}
	return s
}

func counts(t *testing.T, s wiring.Scan) [4]int {
	found, err := s.Judge()
	require.NoError(t, err)
	return [4]int{found.Nets, found.Count(wiring.Opened), found.Count(wiring.Miswired), found.Count(wiring.Shorted)}
}

func TestHarnessesByTheirWorkedExamples(t *testing.T) {
	pins := []string{"A1", "A2", "A3", "B1", "B2", "B3"}
	all := wiring.All(len(pins))
	crossed := harness{{"A1", "B2"}: 0.21, {"A2", "B1"}: 0.19}.scan(pins, three, all)
	assert.Equal(t, [4]int{4, 1, 2, 0}, counts(t, crossed))
	found, _ := crossed.Judge()
	var words []string
	for _, f := range found.Faults {
		words = append(words, string(f.Kind)+": "+f.Words()+" "+crossed.OhmsWords(f.Ohms))
	}
	assert.Equal(t, []string{"miswire: B2 is joined to A1 210 mΩ", "miswire: B1 is joined to A2 190 mΩ",
		"open: B3 is parted from A3 over 100 MΩ"}, words)
	short := harness{{"A1", "B1"}: 0.2, {"A2", "B2"}: 0.2, {"A3", "B3"}: 0.2, {"B1", "A2"}: 0.4}.scan(pins, three, all)
	assert.Equal(t, [4]int{2, 0, 0, 1}, counts(t, short))
	assert.Equal(t, "15 of 15 pairs read: short, A1 and A2 are joined", short.Words())

	leaks := harness{{"A1", "B1"}: 0.2, {"A2", "B2"}: 0.2, {"A3", "B3"}: 0.2}.scan(pins, three, all)
	least, over, err := leaks.Isolation()
	require.NoError(t, err)
	assert.True(t, over, "a bound: %v", least)
	leaks.Pairs[2].Ohms = 48e6
	least, over, err = leaks.Isolation()
	require.NoError(t, err)
	assert.False(t, over)
	assert.InDelta(t, 48e6, least.Ohms, 1)
	assert.Equal(t, "15 of 15 pairs read: 3 nets, as they shall be", leaks.Words())
	assert.InDelta(t, 27.58e-3, wiring.Copper(1.2, 0.75e-6, 20), 0.01e-3)
}

func TestWhyAScanIsNotJudged(t *testing.T) {
	pins := []string{"A1", "B1", "A2", "B2"}
	nets := three[:2]
	whole := harness{{"A1", "B1"}: 0.2, {"A2", "B2"}: 0.2}
	doubt := whole.scan(pins, nets, wiring.All(4))
	doubt.Pairs[1].Ohms = 4700
	_, err := doubt.Judge()
	require.ErrorIs(t, err, wiring.ErrAmbiguous)
	assert.ErrorContains(t, err, "4700 Ω between A1 and A2")

	diode := whole.scan(pins, nets, append(wiring.All(4), [2]int{2, 0}))
	diode.Pairs[6].Ohms = 3
	_, err = diode.Judge()
	require.ErrorIs(t, err, wiring.ErrAmbiguous)

	missing := whole.scan(pins, nets, [][2]int{{0, 1}, {2, 3}})
	_, err = missing.Judge()
	require.ErrorIs(t, err, wiring.ErrMissing)

	twice := harness{{"A1", "B1"}: 0.2, {"B1", "A2"}: 0.2, {"A2", "B2"}: 0.2}.scan(pins, nets, wiring.All(4))
	twice.Pairs[1].Ohms = 5e6
	_, err = twice.Judge()
	require.ErrorIs(t, err, wiring.ErrImplausible)
}

func TestWhatNetsAreWrong(t *testing.T) {
	pins := []string{"A1", "B1", "A2", "B2"}
	assert.NoError(t, wiring.Check(pins, three[:2]))
	assert.ErrorContains(t, wiring.Check(pins, three), "A3, which there is not")
	assert.ErrorContains(t, wiring.Check(pins, []wiring.Net{{"A1", "B1"}, {"A2", "B1"}}), "in two nets")
	assert.ErrorContains(t, wiring.Check(pins, []wiring.Net{{"A1"}}), "one pin")
	assert.ErrorContains(t, wiring.Check(append(pins, "B2"), nil), "twice")
}

// Whatever is wrong with a harness, the smart subset finds exactly what all pairs find.
func TestTheSmartSubsetSaysAsMuchAsAllPairs(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		var nets []wiring.Net
		var pins []string
		for k := range rapid.IntRange(1, 5).Draw(r, "nets") {
			net := wiring.Net{}
			for i := range rapid.IntRange(2, 4).Draw(r, "pins") {
				net = append(net, fmt.Sprintf("%c%d", 'A'+i, k+1))
			}
			nets = append(nets, net)
		}
		pins = append(wiring.PinsOf(nets), "free")
		joints := harness{}
		for _, net := range nets {
			for i := range net[1:] {
				if !rapid.Bool().Draw(r, "cut") || rapid.Bool().Draw(r, "after all not") {
					joints[[2]string{net[i], net[i+1]}] = 0.1
				}
			}
		}
		for range rapid.IntRange(0, 3).Draw(r, "wrong joints") {
			a, b := rapid.SampledFrom(pins).Draw(r, "a"), rapid.SampledFrom(pins).Draw(r, "b")
			if a != b {
				joints[[2]string{a, b}] = 0.1
			}
		}
		whole := joints.scan(pins, nets, wiring.All(len(pins)))
		smart := joints.scan(pins, nets, wiring.First(pins, nets))
		for pairs := smart.Next(); len(pairs) > 0; pairs = smart.Next() {
			smart.Pairs = append(smart.Pairs, joints.scan(pins, nets, pairs).Pairs...)
		}
		want, err := whole.Judge()
		require.NoError(r, err)
		got, err := smart.Judge()
		require.NoError(r, err)
		assert.Equal(r, want.Nets, got.Nets)
		for _, kind := range []wiring.FaultKind{wiring.Opened, wiring.Miswired, wiring.Shorted} {
			assert.Equal(r, want.Count(kind), got.Count(kind), kind)
		}
		assert.LessOrEqual(r, len(smart.Pairs), len(whole.Pairs))
	})
}

func TestAScanIsKeptAsItWasRead(t *testing.T) {
	s := harness{{"A1", "B1"}: 0.2}.scan([]string{"A1", "B1", "A2"}, three[:1], wiring.All(3))
	text, err := json.Marshal(s)
	require.NoError(t, err)
	assert.Contains(t, string(text), `[0,2,null]`)
	var back wiring.Scan
	require.NoError(t, json.Unmarshal(text, &back))
	assert.Equal(t, s, back)
}
