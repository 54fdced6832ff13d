// Package demo is the demo scenario: Skerry Light Works (made up) builds lantern electronics for harbour buoys. It holds their
// nameplates and procedures, and puts a simulated bench and a configuration together.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"maps"

	"usherbench/api"
	"usherbench/engine"
	"usherbench/simbench"
)

//go:embed nameplates/*.yaml procedures/*.yaml
var files embed.FS

// Nameplates are the texts of the scenario's nameplates.
func Nameplates() []string { return texts("nameplates") }

// Procedures are the texts of the scenario's procedures.
func Procedures() []string { return texts("procedures") }

// Library gives the text of a procedure of the scenario, for others that use it.
func Library(name string) (string, error) {
	text, err := files.ReadFile("procedures/" + name + ".yaml")
	if err != nil {
		return "", fmt.Errorf("there is no procedure %s in the demo scenario", name)
	}
	return string(text), nil
}

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

// Layouts says what stands in the four bays of the demo.
func Layouts() []string {
	return []string{string(simbench.Converter), string(simbench.Metered), string(simbench.BatteryPack), string(simbench.SerialLoad)}
}

// Config is the configuration of a service for a simulated bench: its channels fill the seats as it is wired, and the bench itself is the
// handler that puts each unit in place.
func Config(b *simbench.Bench, timeFactor float64) engine.Config {
	c := engine.Config{TimeFactor: timeFactor, Instruments: map[string]engine.InstrumentConfig{}, Bays: map[string]engine.BayConfig{}}
	for _, i := range b.Instruments() {
		c.Instruments[i.Name] = engine.InstrumentConfig{Address: i.Address, Dialect: "sim-" + i.Kind, Calibrated: "2026-03-16", Due: "2027-03-16"}
	}
	for i, w := range b.Wirings() {
		seats := map[string]engine.SeatConfig{}
		for name, channels := range w.Seats {
			if len(channels) == 1 {
				seats[name] = engine.SeatConfig{Instrument: channels[0].Instrument, Channel: channels[0].Number}
				continue
			}
			seat := engine.SeatConfig{Gang: w.Gangs[name]}
			for _, ch := range channels {
				seat.Channels = append(seat.Channels, api.ChannelRef{Instrument: ch.Instrument, Channel: ch.Number})
			}
			seats[name] = seat
		}
		c.Bays[w.Bay] = engine.BayConfig{Title: fmt.Sprintf("Bay %d", i+1), Seats: seats, Handler: b.AdminURL() + "/bays/" + w.Bay + "/unit"}
	}
	return c
}
