package wiring_test

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/wiring"
)

func TestNetsAreReadFromAList(t *testing.T) {
	nets, err := wiring.ReadNets(strings.NewReader("from,to\nA1,B1\n# the screen\nA2, B2\nA3,B3,S\nS,B2\nC9\n"))
	require.NoError(t, err)
	assert.Equal(t, []wiring.Net{{"A1", "B1"}, {"A2", "B2", "A3", "B3", "S"}}, nets)
	assert.Equal(t, "nets:\n  - [A1, B1]\n  - [A2, B2, A3, B3, S]\n", wiring.NetsText(nets))
	for _, wrong := range []string{"", "A1\nA2\n", "\"A1,B1\n"} {
		_, err := wiring.ReadNets(strings.NewReader(wrong))
		assert.ErrorContains(t, err, "write a row of pins for each wire", wrong)
	}
}

// However the rows of a list are shuffled, the same pins are joined.
func TestTheOrderOfAListJoinsNothingElse(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		wires := rapid.SampledFrom([]string{"A,B", "B,C", "D,E", "F,G,H", "H,D", "I,K", "A,L"})
		rows := rapid.SliceOfN(wires, 1, 12).Draw(r, "rows")
		shuffled := rapid.Permutation(rows).Draw(r, "shuffled")
		sets := func(rows []string) map[string]int {
			nets, err := wiring.ReadNets(strings.NewReader(strings.Join(rows, "\n")))
			require.NoError(r, err)
			of := map[string]int{}
			for _, n := range nets {
				bits := 0
				for _, pin := range n {
					bits |= 1 << (pin[0] - 'A')
				}
				for _, pin := range n {
					require.NotContains(r, of, pin)
					of[pin] = bits
				}
			}
			return of
		}
		assert.Equal(r, sets(rows), sets(shuffled))
	})
}

// What a good harness teaches is what another is judged by: it has no fault itself.
func TestAGoodHarnessTeachesItsNets(t *testing.T) {
	pins := []string{"A1", "A2", "A3", "B1", "B2", "B3"}
	s := wiring.Scan{Pins: pins, Limits: wiring.Limits{Closed: wiring.UsualClosed, Open: wiring.UsualOpen}, Range: 1e8}
	for _, p := range wiring.All(len(pins)) {
		ohms := math.Inf(1)
		if p[1] == p[0]+3 && p[0] != 1 {
			ohms = 0.03
		}
		s.Pairs = append(s.Pairs, wiring.Pair{A: p[0], B: p[1], Ohms: ohms})
	}
	nets, err := s.Learned()
	require.NoError(t, err)
	assert.Equal(t, []wiring.Net{{"A1", "B1"}, {"A3", "B3"}}, nets)
	s.Nets = nets
	found, err := s.Judge()
	require.NoError(t, err)
	assert.Empty(t, found.Faults)
	s.Pairs = s.Pairs[:3]
	_, err = s.Learned()
	assert.ErrorIs(t, err, wiring.ErrMissing)
}
