package contract_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/contract"
)

// The objects of the table of source capabilities read as it says, and are written as they were.
func TestObjectsReadAsTheyAreWritten(t *testing.T) {
	for raw, want := range map[uint32]contract.Object{
		0x0801912C: {Kind: contract.Fixed, Lowest: 5, Highest: 5, Amps: 3, Source: contract.Source{Unconstrained: true}},
		0x00064145: {Kind: contract.Fixed, Lowest: 20, Highest: 20, Amps: 3.25},
		0x4FC2D078: {Kind: contract.Battery, Lowest: 9, Highest: 12.6, Watts: 30},
		0x9A42D0FA: {Kind: contract.Variable, Lowest: 9, Highest: 21, Amps: 2.5},
		0xC0DC2164: {Kind: contract.Programmable, Lowest: 3.3, Highest: 11, Amps: 5},
		0xD230968C: {Kind: contract.ExtendedRange, Lowest: 15, Highest: 28, Watts: 140},
		0xE004B0E1: {Kind: contract.StandardRange, Lowest: 9, Highest: 20, Amps: 3, AmpsAbove: 2.25},
		0x00000000: {Kind: contract.Empty},
		0xF0000001: {Kind: contract.Unknown, Reserved: 1},
		0x3F819000: {Kind: contract.Fixed, Lowest: 5, Highest: 5, Source: contract.Source{DualRolePower: true, Suspend: true,
			Unconstrained: true, Communications: true, DualRoleData: true, Unchunked: true, Extended: true}},
		0xC8000000: {Kind: contract.Programmable, Limited: true},
		0xE8000000: {Kind: contract.StandardRange, Lowest: 9, Highest: 15, Peak: 2},
	} {
		assert.Equal(t, want, contract.Decode(raw), "%#08x", raw)
		written, err := contract.Encode(want)
		require.NoError(t, err)
		assert.Equal(t, raw, written, "%#08x", written)
	}
}

// Every 32 bits can be read, and are written as they were, also by way of JSON.
func TestAnyObjectIsWrittenAsItWasRead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) { both(t, rapid.Uint32().Draw(t, "object")) })
}

func FuzzObject(f *testing.F) {
	for _, raw := range []uint32{0, 1, 0x0801912C, 0x4FC2D078, 0xD230968C, 0xFFFFFFFF} {
		f.Add(raw)
	}
	f.Fuzz(func(t *testing.T, raw uint32) { both(t, raw) })
}

func both(t require.TestingT, raw uint32) {
	o := contract.Decode(raw)
	written, err := contract.Encode(o)
	require.NoError(t, err)
	require.Equal(t, raw, written, "%+v", o)
	text, err := json.Marshal(o)
	require.NoError(t, err)
	var again contract.Object
	require.NoError(t, json.Unmarshal(text, &again))
	require.Equal(t, o, again)
	contract.Check([]contract.Object{o, o})
	_, _ = o.Needs(3)
}

func TestWhatCannotBeWrittenIsRefused(t *testing.T) {
	refusals := []struct {
		object contract.Object
		words  string
	}{
		{contract.Object{Kind: contract.Fixed, Highest: 20.01},
			"fixed: 20.01 V cannot be written; it goes in steps of 0.05 V up to 51.15 V"},
		{contract.Object{Kind: contract.Fixed, Highest: 5, Amps: 10.24}, "fixed: 10.24 A cannot be written"},
		{contract.Object{Kind: contract.Battery, Watts: -1}, "battery: -1 W cannot be written"},
		{contract.Object{Kind: contract.Battery, Peak: 1}, "battery: there is no peak current class 1"},
		{contract.Object{Kind: contract.Programmable, Reserved: 1}, "programmable: bits 0x1 are not reserved"},
		{contract.Object{Kind: "other"}, `no kind of source object called "other"`},
	}
	for _, r := range refusals {
		_, err := contract.Encode(r.object)
		assert.ErrorContains(t, err, r.words)
	}
}

func TestOddObjectsAreFound(t *testing.T) {
	offered := func(raws ...uint32) (all []contract.Object) {
		for _, raw := range raws {
			all = append(all, contract.Decode(raw))
		}
		return all
	}
	assert.Empty(t, contract.Check(offered(0x0801912C, 0x00064145, 0xC0DC2164, 0)))
	assert.Empty(t, contract.Check(nil))
	assert.Equal(t, []contract.Finding{{1, "the first object must be fixed, 5 V"},
		{3, "fixed volts must rise from object to object: 5 V comes after 20 V"}, {4, "its kind is not known"},
		{5, "reserved bits are set: 0x2000000"}, {5, "its lowest volts, 3.3 V, are above its highest, 0 V"}},
		contract.Check(offered(0x4FC2D078, 0x00064145, 0x0001912C, 0xF0000000, 0xC2002164)))
}

// Example of the definition of contract-current-check, and its edges.
func TestWhatObjectsNeedOfTheirCable(t *testing.T) {
	for _, c := range []struct {
		raw   uint32
		cable float64
		need  contract.Need
		amps  float64
	}{
		{0x00064145, 0, contract.Needs5A, 3.25},
		{0x4FC2D078, 0, contract.Needs5A, 30.0 / 9},
		{0x0004B12C, 0, contract.Fits3A, 3}, // 15 V 3 A
		{0x0004B12C, 3, contract.CableIsRight, 3},
		{0xC0DC2164, 3, contract.ExceedsCable, 5},
		{0xC0DC2164, 5, contract.CableIsRight, 5},
		{0xD230968C, 0, contract.Needs5A, 5},               // 140 W from 15 V: no more than a cable bears
		{0xD2309614, 3, contract.ExceedsCable, 20.0 / 15},  // of the extended range, however little it gives
		{0x0008C0C8, 0, contract.Needs5A, 2},               // fixed, 28 V, 2 A
		{0x00064000 | 501, 5, contract.ExceedsCable, 5.01}, // beyond every cable
		{0x00064000 | 501, 0, contract.Above5A, 5.01},      //
		{0xE004B0E1, 0, contract.Fits3A, 3},                // the larger of its fields
	} {
		o := contract.Decode(c.raw)
		amps, ok := o.HighestAmps()
		require.True(t, ok)
		assert.InDelta(t, c.amps, amps, 1e-9, "%#08x", c.raw)
		need, ok := o.Needs(c.cable)
		require.True(t, ok)
		assert.Equal(t, c.need, need, "%#08x on %g A", c.raw, c.cable)
	}
	for _, raw := range []uint32{0, 0xF0000000, 0x40000078} { // nothing, nobody knows, no lowest volts
		_, ok := contract.Decode(raw).Needs(3)
		assert.False(t, ok, "%#08x", raw)
	}
}
