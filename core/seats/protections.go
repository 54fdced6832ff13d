package seats

import (
	"maps"
	"slices"
)

// Hardware protections of a channel, and the quantity that each bounds.
var protections = map[string]string{
	"volts above": "volts", "amps above": "amps", "watts above": "watts", "volts below": "volts",
}

// Protections lists the hardware protections.
func Protections() []string { return slices.Sorted(maps.Keys(protections)) }

// ProtectedQuantity is what a protection bounds; empty if there is no such protection.
func ProtectedQuantity(protection string) string { return protections[protection] }
