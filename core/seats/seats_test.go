package seats

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func kind(t require.TestingT, name string) Kind {
	k, ok := KindOf(name)
	require.True(t, ok, name)
	return k
}

func TestANumberedSeatIsOfItsKind(t *testing.T) {
	assert.Equal(t, kind(t, "source"), kind(t, "source2"))
	_, ok := KindOf("sauce")
	assert.False(t, ok)
}

func TestWhatASeatGivesToABattery(t *testing.T) {
	assert.Equal(t, 1.0, kind(t, "cycler").Gives(), "it counts with a sign")
	assert.Equal(t, 1.0, kind(t, "source").Gives())
	assert.Equal(t, -1.0, kind(t, "load").Gives())
	assert.Zero(t, kind(t, "meter").Gives())
	assert.True(t, kind(t, "cycler").Signed("amps"))
	assert.False(t, kind(t, "cycler").Signed("volts"))
	assert.False(t, kind(t, "source").Signed("amps"))
}

func TestWhoDoesBothIsAskedFirst(t *testing.T) {
	assert.Equal(t, "cycler or a source", NamesHaving(Feeds))
	assert.Equal(t, "cycler or a load", NamesHaving(Drains))
}

func TestColumnsAreReadingsAndWhatIsDerived(t *testing.T) {
	assert.Equal(t, []string{"load.volts", "load.amps", "load.watts", "load.charge", "load.energy"},
		[]string(kind(t, "load").Columns("load", []string{"volts", "amps"})))
	assert.Equal(t, []string{"meter.volts"}, []string(kind(t, "meter").Columns("meter", []string{"volts"})))
}

// Every order of a few settings becomes the same safe one.
func TestSettingsHaveOneSafeOrder(t *testing.T) {
	type setting struct{ seat, quantity, word string }
	want := []setting{
		{"load", Output, Off}, {"source", Output, Off}, {"switch", Output, Off}, {"load", Mode, "current"},
		{"load", "amps", ""}, {"switch2", Output, On}, {"source", Output, On}, {"load", Output, On},
	}
	rapid.Check(t, func(t *rapid.T) {
		got := rapid.Permutation(want).Draw(t, "order")
		slices.SortStableFunc(got, func(a, b setting) int {
			return Rank(a.seat, a.quantity, a.word) - Rank(b.seat, b.quantity, b.word)
		})
		require.Equal(t, want, got)
	})
}

func TestWhatDrainsGoesOffFirst(t *testing.T) {
	order := []Kind{kind(t, "source"), kind(t, "load")}
	slices.SortStableFunc(order, OffBefore)
	assert.Equal(t, "load", order[0].Name)
	slices.SortStableFunc(order, ShownBefore)
	assert.Equal(t, "source", order[0].Name)
}

func TestTheTableIsSound(t *testing.T) {
	for _, k := range All() {
		assert.NotZero(t, k.Roles, k.Name)
		assert.Equal(t, k.HasOutput(), !k.Is(Measures) && !k.Is(Captures) && !k.Is(Scans),
			"%s: what does something to the unit can be switched off", k.Name)
		assert.Equal(t, len(k.Modes) > 0, slices.Contains(k.Sets, Mode), k.Name)
		for _, must := range k.Must {
			assert.Contains(t, k.Sets, must, k.Name)
		}
	}
	assert.Equal(t, "volts", ProtectedQuantity("volts above"))
	assert.Empty(t, ProtectedQuantity("volts beside"))
	assert.Contains(t, Protections(), "amps above")
}
