// Package units lists the types of units that the simulated bench can hold.
package units

import (
	"fmt"
	"slices"
	"strings"

	"usherbench/simbench/plant"
	"usherbench/simbench/plant/adapter"
	"usherbench/simbench/plant/amplifier"
	"usherbench/simbench/plant/backup"
	"usherbench/simbench/plant/battery"
	"usherbench/simbench/plant/converter"
	"usherbench/simbench/plant/device"
	"usherbench/simbench/plant/harness"
	"usherbench/simbench/plant/motor"
	"usherbench/simbench/plant/panel"
	"usherbench/simbench/plant/port"
	"usherbench/simbench/plant/portable"
	"usherbench/simbench/plant/thruster"
)

// Types are all types of units.
func Types() []plant.Type {
	return slices.Concat(battery.Types(), converter.Types(), adapter.Types(), port.Types(),
		backup.Types(), panel.Types(), device.Types(), motor.Types(),
		thruster.Types(), harness.Types(), portable.Types(),
		amplifier.Types())
}

// Model says which unit stands for a nameplate: a known one by Name, or one of Kind that is made from ratings.
type Model struct {
	Name, Kind string
	Chemistry  string
	Series     int
	Rating     func(name string) (x float64, ok bool)
}

// New makes a unit. Its tolerances are drawn from the serial number; an empty one makes the unit with nominal values.
// State is the state of charge at which a battery begins, 0 … 1.
func (m Model) New(serial string, fault plant.Fault, state float64) (plant.Unit, error) {
	for _, t := range Types() {
		if t.Name == m.Name && (m.Name != "" || t.Kind == m.Kind) {
			return t.New(plant.Asked{Serial: serial, Fault: fault, State: state, Chemistry: m.Chemistry, Series: m.Series,
				Rating: m.Rating})
		}
	}
	if m.Name != "" {
		return nil, fmt.Errorf("there is no plant %q; known: %s", m.Name, strings.Join(Names(), ", "))
	}
	return nil, fmt.Errorf("there is no plant for a unit of kind %q; known kinds: %s", m.Kind, strings.Join(kinds(), ", "))
}

// Names lists the known units.
func Names() []string {
	return list(func(t plant.Type) string { return t.Name })
}

func kinds() []string {
	return list(func(t plant.Type) string {
		if t.Name != "" {
			return ""
		}
		return t.Kind
	})
}

// Faults lists the faults that units can have.
func Faults() []string {
	var all []string
	for _, t := range Types() {
		all = append(all, t.Faults...)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

func list(of func(plant.Type) string) []string {
	var names []string
	for _, t := range Types() {
		if name := of(t); name != "" {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}
