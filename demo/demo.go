// Package demo is the demo scenario: Skerry Light Works (made up) builds lantern electronics for harbour buoys. It holds their
// nameplates and procedures, and puts a simulated bench and a configuration together.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"usherbench/engine"
	"usherbench/simbench"
)

//go:embed nameplates/*.yaml procedures/*.yaml
var files embed.FS

// Nameplates are the texts of the scenario's nameplates.
func Nameplates() []string { return texts("nameplates") }

// Procedures are the texts of the scenario's procedures.
func Procedures() []string { return texts("procedures") }

func texts(folder string) []string {
	names, err := fs.Glob(files, folder+"/*.yaml")
	if err != nil {
		panic(err) // the pattern is a constant
	}
	var all []string
	for _, name := range names {
		text, err := files.ReadFile(name)
		if err != nil {
			panic(err) // the file is in the program
		}
		all = append(all, string(text))
	}
	return all
}

// The units of the scenario that have a fault.
var faulty = map[string]string{"TN-2213": "weak-regulation", "TN-2217": "low-efficiency", "TN-2219": "dead"}

// Good and Faulty are the units on which the demo runs its example.
const Good, Faulty = "TN-2208", "TN-2213"

// FaultyUnits gives the units with a fault, by serial number.
func FaultyUnits() map[string]string { return maps.Clone(faulty) }

// Config is the configuration of a service for a simulated bench: a supply and a load in every bay, and the bench itself as the
// handler that puts each unit in place.
func Config(b *simbench.Bench, bays int, timeFactor float64) engine.Config {
	addresses := map[string]string{}
	for _, i := range b.Instruments() {
		addresses[i.Name] = i.Address
	}
	c := engine.Config{TimeFactor: timeFactor, Instruments: map[string]engine.InstrumentConfig{}, Bays: map[string]engine.BayConfig{}}
	for _, name := range slices.Sorted(maps.Keys(addresses)) {
		kind := strings.TrimRight(name, "0123456789")
		c.Instruments[name] = engine.InstrumentConfig{Address: addresses[name], Dialect: "sim-" + kind, Calibrated: "2026-03-16", Due: "2027-03-16"}
	}
	for n := 1; n <= bays; n++ {
		source := engine.SeatConfig{Instrument: fmt.Sprintf("supply%d", n), Channel: 1}
		if _, own := addresses[source.Instrument]; !own {
			source = engine.SeatConfig{Instrument: "supply1", Channel: 2}
		}
		name := fmt.Sprintf("bay%d", n)
		c.Bays[name] = engine.BayConfig{
			Title:   fmt.Sprintf("Bay %d", n),
			Seats:   map[string]engine.SeatConfig{"source": source, "load": {Instrument: fmt.Sprintf("load%d", n), Channel: 1}},
			Handler: b.AdminURL() + "/bays/" + name + "/unit",
		}
	}
	return c
}
