package engine

import (
	"strings"

	"usherbench/engine/outputs"
	"usherbench/store"
)

// setByHand is how the journal names what somebody set by hand; the start of the service looks for it.
const setByHand = "set by hand"

// leftOnByHand tells whether the journal has an output switched on by hand that was not made safe since.
func (b *Bay) leftOnByHand() (bool, error) {
	entries, err := b.engine.store.JournalEntries(store.JournalFilter{Bay: b.name, Limit: 1000})
	for _, e := range entries { // newest first
		switch {
		case e.What == outputs.MadeSafe:
			return false, nil
		case e.What == setByHand && strings.HasSuffix(e.Detail, "output = on"):
			return true, nil
		}
	}
	return false, err
}
