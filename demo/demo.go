// Package demo is the demo scenario: Skerry Light Works (made up) builds lantern electronics for harbour buoys.
// It holds their nameplates and procedures, and puts a simulated bench and a configuration together.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"maps"
	"strconv"
	"strings"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/battery"
	"usherbench/simbench/plant/charger"
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
var faulty = map[string]string{"TN-2213": "weak-regulation", "TN-2217": "low-efficiency", "TN-2219": "dead",
	"TN-2220": "poor-damping", "DN-604": "weak-coupling", "PT-702": "latching", LateCharger: "late", "PT-704": "hiccup",
	HotSupply: "hot-bar", "KW-803": "weak-module", "FU-903": "cracked-cell", "SK-1003": "early-avalanche",
	"CM-1103": "shorted-turn", "CM-1303": "punctured", "PF-1203": "wide-dead-zone", "LL-1403": "swapped",
	"LL-1404": "loose-crimp", "GM-1602": "noisy", "GM-1603": "distorting", "GM-1604": "settling", "TL-1502": "sleepless",
	SleepyPack: "sleepy", CollapsingPack: "collapsing", ShortPack: "short-of-cells", OtherPack: "other-chemistry"}

// Packs of the scenario that are not as they should be: one lay for years, one has a bad cell, and two are not
// what their label says.
const SleepyPack, CollapsingPack, ShortPack, OtherPack = "GP-288", "GP-291", "GP-293", "GP-294"

// GoodCharger and LateCharger are chargers of the scenario: the second gives up at more than its connector may carry.
const GoodCharger, LateCharger = "PT-701", "PT-703"

// GoodSupply and HotSupply are back-up supplies of the scenario: in the second a bus bar's joint is loose.
const GoodSupply, HotSupply = "KW-801", "KW-802"

// Good and Faulty are the units on which the demo runs its example.
const Good, Faulty = "TN-2208", "TN-2213"

// FaultyUnits gives the units with a fault, by serial number.
func FaultyUnits() map[string]string { return maps.Clone(faulty) }

// ChargerLog is what a logger beside the deck charger of a gannet pack wrote: a discharge of 4 Ah, then the
// charge, a row each 10 s, in the logger's own form: semicolons, decimal commas, milliamperes that are positive
// in a discharge.
func ChargerLog() (string, error) {
	pack, err := battery.Gannet("GP-306", plant.Healthy)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString("Deck logger 2\nsite;Skerry Light Works\nclock;U_bat [V];I_bat [mA];T_bat [°C]\n")
	for _, f := range charger.Gannet().Log(pack, 4*3600, 2, 10, 4*3600) {
		whole := int(f.T)
		fmt.Fprintf(&b, "%02d:%02d:%02d;%s;%s;%s\n", 6+whole/3600, whole/60%60, whole%60, comma(f.Volts, 3),
			comma(-1000*f.Amps, 1), comma(f.Celsius, 1))
	}
	return b.String(), nil
}

func comma(x float64, decimals int) string {
	return strings.Replace(strconv.FormatFloat(x, 'f', decimals, 64), ".", ",", 1)
}

// Layouts says what stands in the four bays of the demo.
func Layouts() []string {
	return []string{string(simbench.Converter), string(simbench.Scoped), string(simbench.BatteryPack),
		string(simbench.SerialLoad)}
}

// Config is the configuration of a service for a simulated bench: its channels fill the seats as it is wired,
// and the bench itself is the handler that puts each unit in place.
func Config(b *simbench.Bench, timeFactor float64) bench.Config {
	c := bench.Config{TimeFactor: timeFactor, Instruments: map[string]api.InstrumentConfig{},
		Bays: map[string]api.BayConfig{}}
	for _, i := range b.Instruments() {
		c.Instruments[i.Name] = api.InstrumentConfig{Address: i.Address, Dialect: "sim-" + i.Kind,
			Calibrated: "2026-03-16", Due: "2027-03-16"}
	}
	for i, w := range b.Wirings() {
		filled := map[string]api.SeatConfig{}
		for name, channels := range w.Seats {
			if len(channels) == 1 {
				seat := seatOf(channels[0], w.Probes[name])
				seat.Wiring = w.Wired[name]
				filled[name] = seat
				continue
			}
			seat := api.SeatConfig{Gang: w.Gangs[name]}
			for _, ch := range channels {
				seat.Channels = append(seat.Channels, api.ChannelRef{Instrument: ch.Instrument, Channel: ch.Number})
			}
			filled[name] = seat
		}
		c.Bays[w.Bay] = api.BayConfig{Title: fmt.Sprintf("Bay %d", i+1), Seats: filled, Handler: b.AdminURL() + "/bays/" +
			w.Bay + "/unit"}
	}
	return c
}

// seatOf is a seat that one channel fills; that of a scope has its probes.
func seatOf(c simbench.Channel, probes map[string]simbench.Probe) api.SeatConfig {
	seat := api.SeatConfig{Instrument: c.Instrument, Channel: c.Number}
	for probe, p := range probes {
		if seat.Probes == nil {
			seat.Probes = map[string]api.ProbeConfig{}
		}
		seat.Probes[probe] = api.ProbeConfig{Channel: p.Channel, Factor: p.Factor, Unit: p.Unit}
	}
	return seat
}
