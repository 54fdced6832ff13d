package seats

import (
	"cmp"
	"strings"

	"usherbench/core/quantity"
)

// The one safe order. What drains goes off before what feeds, so that nothing is left that pushes current into a load
// that is gone or pulls it out of a source that is; connections are broken last, without current. The way on is the
// way off reversed: levels, what is asked for with them, connections, what feeds, what drains.
const (
	rankDrainsOff = iota
	rankFeedsOff
	rankOpened
	rankMode
	rankLevel
	rankAsked
	rankClosed
	rankFeedsOn
	rankDrainsOn
)

// Rank orders settings: of two that must be made, the one with the lower rank is made first. word is the setting's
// where it has one.
func Rank(seat, quantity, word string) int {
	kind, _ := KindOf(seat)
	switch {
	case quantity == Mode:
		return rankMode
	case quantity == Position:
		return rankAsked
	case quantity != Output:
		return rankLevel
	case word == Off:
		return kind.rankOff()
	}
	return kind.rankOn()
}

func (k Kind) rankOff() int {
	switch {
	case k.Is(Drains):
		return rankDrainsOff
	case k.Is(Connects):
		return rankOpened
	}
	return rankFeedsOff
}

func (k Kind) rankOn() int {
	switch {
	case k.Is(Drains):
		return rankDrainsOn
	case k.Is(Connects):
		return rankClosed
	}
	return rankFeedsOn
}

// ShownBefore compares two kinds for columns and readouts: what feeds stands before what drains, then what measures,
// then what connects.
func ShownBefore(a, b Kind) int { return a.place() - b.place() }

func (k Kind) place() int {
	switch {
	case k.Is(Drains):
		return 1
	case k.Is(Feeds):
		return 0
	case k.Is(Connects):
		return 3
	}
	return 2
}

// OffBefore compares two kinds for slices.SortFunc: what is switched off first comes first.
func OffBefore(a, b Kind) int { return a.rankOff() - b.rankOff() }

// CompareColumns orders columns as people read them, for slices.SortFunc: by what their seats do, by seat, then by
// quantity.
func CompareColumns(a, b string) int {
	seatA, quantityA, _ := strings.Cut(a, ".")
	seatB, quantityB, _ := strings.Cut(b, ".")
	kindA, _ := KindOf(seatA)
	kindB, _ := KindOf(seatB)
	return cmp.Or(ShownBefore(kindA, kindB), strings.Compare(seatA, seatB),
		quantity.PlaceOf(quantityA)-quantity.PlaceOf(quantityB), strings.Compare(quantityA, quantityB))
}
