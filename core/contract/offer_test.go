package contract_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/contract"
)

// The charger of the examples: 5 V 3 A, 20 V 3.25 A, nothing, 3.3 to 11 V 5 A, adjustable to 140 W and to 20 V.
const offered = "0x0801912C 0x00064145 0x00000000 0xC0DC2164 0xD230968C 0xE004B0E1"

func TestASourceGrantsWhatItOffersAndRefusesTheRest(t *testing.T) {
	offer, err := contract.ReadOffer(offered)
	require.NoError(t, err)
	assert.Equal(t, offered, offer.String())
	for _, c := range []struct {
		why           string
		asked, agreed contract.Terms
		refused       bool
	}{
		{"all that is offered", contract.Terms{Position: 1}, contract.Terms{Position: 1, Volts: 5, Amps: 3}, false},
		{"less than that", contract.Terms{Position: 2, Amps: 2}, contract.Terms{Position: 2, Volts: 20, Amps: 2}, false},
		{"more than that", contract.Terms{Position: 2, Amps: 3.26}, contract.Terms{}, true},
		{"the highest", contract.Terms{Position: 2, Amps: 3.25}, contract.Terms{Position: 2, Volts: 20, Amps: 3.25}, false},
		{"an empty place", contract.Terms{Position: 3}, contract.Terms{}, true},
		{"no place", contract.Terms{Position: 7}, contract.Terms{}, true},
		{"volts inside", contract.Terms{Position: 4, Volts: 9, Amps: 5}, contract.Terms{Position: 4, Volts: 9, Amps: 5},
			false},
		{"volts below", contract.Terms{Position: 4, Volts: 3.2}, contract.Terms{}, true},
		{"volts above", contract.Terms{Position: 4, Volts: 11.1}, contract.Terms{}, true},
		{"what the watts allow", contract.Terms{Position: 5, Volts: 28, Amps: 5},
			contract.Terms{Position: 5, Volts: 28, Amps: 5}, false},
		{"below 15 V", contract.Terms{Position: 6, Volts: 12, Amps: 3},
			contract.Terms{Position: 6, Volts: 12, Amps: 3}, false},
		{"above 15 V it is less", contract.Terms{Position: 6, Volts: 18, Amps: 3}, contract.Terms{}, true},
	} {
		agreed, ok := offer.Grant(c.asked)
		assert.Equal(t, !c.refused, ok, c.why)
		if ok {
			assert.Equal(t, c.agreed, agreed, c.why)
		}
	}
	for volts, want := range map[float64]int{5: 1, 20: 2, 9: 4, 12: 6, 28: 5} {
		found, ok := offer.Find(volts, 2)
		assert.True(t, ok, "%g V", volts)
		assert.Equal(t, want, found, "%g V", volts)
	}
	_, ok := offer.Find(20, 4)
	assert.True(t, ok, "140 W give 4 A at 20 V")
	_, ok = offer.Find(40, 1)
	assert.False(t, ok)
	for _, text := range []string{"", "0x1FFFFFFFF", "five volts", "1 2 3 4 5 6 7 8 9 10 11 12 13 14"} {
		_, err := contract.ReadOffer(text)
		assert.Error(t, err, text)
	}
}

// Whatever is offered: what is granted is never more than that, and is found again by its volts and amps.
func TestNothingIsGrantedThatIsNotOffered(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		offer := contract.Offer(rapid.SliceOfN(rapid.Uint32(), 1, contract.MostPlaces).Draw(t, "offer"))
		asked := contract.Terms{Position: rapid.IntRange(0, 14).Draw(t, "position"),
			Volts: rapid.Float64Range(0, 60).Draw(t, "volts"), Amps: rapid.Float64Range(0, 6).Draw(t, "amps")}
		agreed, ok := offer.Grant(asked)
		if !ok {
			return
		}
		x := contract.Decode(offer[asked.Position-1])
		most, _ := x.HighestAmps()
		assert.LessOrEqual(t, agreed.Amps, most+1e-6, "%v of %v", asked, x)
		assert.LessOrEqual(t, agreed.Volts, x.Highest+1e-6)
		assert.NotEmpty(t, x.Words())
		again, err := contract.ReadOffer(offer.String() + " 0")
		if err == nil {
			regranted, still := again.Grant(asked)
			assert.True(t, still)
			assert.Equal(t, agreed, regranted)
		}
	})
}
