package units

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
)

// lineOf is what feeds units of a kind.
func lineOf(kind plant.Type) plant.Source {
	if kind.Kind == "adapter" || kind.Kind == "contract charger" || kind.Kind == "back-up supply" || kind.Kind == "motor" {
		return plant.Source{On: true, Volts: 230, Amps: 10, Hertz: 50}
	}
	return plant.Source{On: true, Volts: 48, Amps: 10}
}

// ratings are those of a unit of each kind that is made from its ratings alone.
var ratings = map[string]map[string]float64{
	"battery":        {"rated_volts": 25.6, "rated_capacity": 9 * 3600},
	"converter":      {"rated_volts": 12, "rated_current": 5, "nominal_line": 48, "lowest_line": 36},
	"adapter":        {"rated_volts": 24, "rated_current": 5},
	"panel":          {"open_volts": 22, "short_current": 1.9},
	"device":         {"blocking_volts": 1700},
	"motor":          {"rated_power": 2200, "poles": 4},
	"thruster":       {"rated_force": 600},
	"harness":        {"ways": 9},
	"portable":       {"rated_volts": 3.6},
	"amplifier":      {"rated_power": 60, "rated_load": 4},
	"back-up supply": {"modules": 2, "nominal_line": 230},
}

func modelOf(t plant.Type) Model {
	if t.Name != "" {
		return Model{Name: t.Name}
	}
	return Model{Kind: t.Kind, Rating: func(name string) (float64, bool) {
		x, ok := ratings[t.Kind][name]
		return x, ok
	}}
}

func TestEveryTypeMakesItsUnitsWithEveryFault(t *testing.T) {
	for _, kind := range Types() {
		require.NotEmpty(t, kind.Faults, kind)
		for _, fault := range append([]string{""}, kind.Faults...) {
			unit, err := modelOf(kind).New("TN-7", plant.Fault(fault), 0.6)
			require.NoError(t, err, "%s %s %s", kind.Kind, kind.Name, fault)
			o := unit.At(0, plant.Joined{})
			assert.Zero(t, o.Line.Amps, "nothing flows that nobody gives")
			for _, x := range []float64{o.Line.Volts, o.Output.Volts, o.Celsius, o.Heat} {
				assert.False(t, math.IsNaN(x) || math.IsInf(x, 0), "%s %s %s: %+v", kind.Kind, kind.Name, fault, o)
			}
		}
		_, err := modelOf(kind).New("TN-7", "nonsense", 0.6)
		assert.ErrorContains(t, err, `"nonsense" is not a fault of`)
		assert.ErrorContains(t, err, kind.Faults[0], "it names the known ones")
	}
}

// The same serial number is always the same unit, another is another, and without one the values are nominal.
func TestASerialNumberIsAUnit(t *testing.T) {
	at := func(kind plant.Type, serial string) any {
		source := lineOf(kind)
		unit, err := modelOf(kind).New(serial, plant.Healthy, 0.6)
		require.NoError(t, err)
		if kind.Kind == "battery" {
			source.Volts = 4
		}
		joined := plant.Joined{Line: source, Output: plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 1},
			Sink: plant.Sink{On: true, Position: 1}, Shaft: plant.Brake{On: true, Torque: 5},
			Drive: plant.Command{On: true, Command: 0.5}}
		unit.At(0, joined)
		if w, ok := unit.(plant.Wired); ok {
			return w.Between(0, 1)
		}
		return unit.At(1, joined)
	}
	for _, kind := range Types() {
		assert.Equal(t, at(kind, "TN-7"), at(kind, "TN-7"), kind.Name)
		assert.Equal(t, at(kind, ""), at(kind, ""), kind.Name)
		if kind.Name != "" { // what is made from ratings has no tolerances
			assert.NotEqual(t, at(kind, "TN-7"), at(kind, "TN-8"), kind.Name)
		}
	}
}

// A battery keeps its charge when a fault comes and goes.
func TestAFaultTakesNoChargeAway(t *testing.T) {
	for _, kind := range Types() {
		unit, err := modelOf(kind).New("TN-7", plant.Healthy, 0.6)
		require.NoError(t, err)
		stored, ok := unit.(plant.Storage)
		require.Equal(t, kind.Kind == "battery", ok, "%s %s", kind.Kind, kind.Name)
		if !ok {
			continue
		}
		for _, fault := range append(kind.Faults, "") {
			other, err := modelOf(kind).New("TN-7", plant.Fault(fault), 0.1)
			require.NoError(t, err)
			stored.Remake(other.(plant.Storage))
		}
		assert.InDelta(t, 0.6, stored.StateOfCharge(), 0.03, kind.Name)
	}
}

// Energy is neither made nor lost: what a converter or an adapter does not give it keeps as heat.
func TestAConverterKeepsTheBooks(t *testing.T) {
	for _, kind := range Types() {
		unit, err := modelOf(kind).New("TN-7", plant.Healthy, 0)
		require.NoError(t, err)
		steady, ok := unit.(plant.Steady)
		if !ok || kind.Kind == "panel" || kind.Kind == "device" { // one gives what its light is, one keeps what it blocks
			continue
		}
		for _, amps := range []float64{0, 0.5, 2, 5} {
			load := plant.Load{On: amps > 0, Mode: plant.ConstantCurrent, Level: amps}
			truth := steady.Steady(plant.Joined{Line: lineOf(kind), Output: load})
			var o plant.Operating
			for at := 0.0; at < 2; at += 0.1 {
				o = unit.At(at, plant.Joined{Line: lineOf(kind), Output: load})
			}
			assert.InDelta(t, truth.Output.Volts, o.Output.Volts, 1e-9, "%g A: it settles to its truth", amps)
			assert.InDelta(t, truth.Line.Amps, o.Line.Amps, 1e-9)
			assert.InDelta(t, o.Line.Watts()-o.Output.Watts(), o.Heat, 1e-12)
			assert.Positive(t, o.Heat)
			unit, err = modelOf(kind).New("TN-7", plant.Healthy, 0)
			require.NoError(t, err)
		}
	}
}

func TestAnUnknownUnitIsNamed(t *testing.T) {
	_, err := Model{Name: "ternn"}.New("", plant.Healthy, 0)
	assert.EqualError(t, err,
		`there is no plant "ternn"; known: cormorant, dunlin, eider, fulmar, gannet, gannet-bank, gannet-cell, guillemot, `+
			`kittiwake, lantern-lead, petrel, puffin, skua, teal, tern`)
	_, err = Model{Kind: "kettle"}.New("", plant.Healthy, 0)
	assert.EqualError(t, err, `there is no plant for a unit of kind "kettle"; `+
		`known kinds: adapter, amplifier, back-up supply, battery, converter, device, harness, motor, panel, portable, `+
		`thruster`)
	_, err = Model{Kind: "battery", Rating: func(string) (float64, bool) { return 0, false }}.New("", plant.Healthy, 0)
	assert.ErrorContains(t, err, "state both")
}
