package simulation

import (
	"maps"
	"slices"
	"strings"

	"usherbench/simbench"
)

// The procedures of scenarios, by the seats that they need.
const (
	converterStages = `
needs: {source: {}, load: {}}
guards:
  - {when: "load.amps > 5 A for 100 ms", note: too much load}
  - {when: "source.volts < 30 V for 100 ms and elapsed > 500 ms", note: the line is gone}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A, output: on}}
`
	packStages = `
needs: {cycler: {}}
guards: [{when: "cycler.volts < 15 V for 100 ms", note: the pack is gone}]
stages:
  - set: {cycler: {volts: 29 V, amps: 1 A, output: on}}
`
	cellStages = `
needs: {cycler: {}}
stages:
  - set: {cycler: {volts: 4.1 V, amps: 6 A, output: on}}
`
	pairStages = `
needs: {source: {}, load: {}}
guards: [{when: "source.volts < 30 V for 100 ms and elapsed > 500 ms", note: the line is gone}]
stages:
  - set: {source: {volts: 48 V, amps: 3 A, output: on}, load: {mode: current, amps: 1 A, output: on}}
`
	drainStages = `
needs: {load: {}}
stages:
  - set: {load: {mode: current, amps: 2 A, output: on}}
`
	mainsStages = `
needs: {mains: {volts: 264 V, amps: 2 A}}
guards: [{when: "mains.volts < 100 V for 100 ms and elapsed > 500 ms", note: the line is gone}]
stages:
  - set: {mains: {volts: 230 V, hertz: 50 Hz, amps: 2 A, output: on}}
`
	contractStages = `
needs: {mains: {volts: 264 V, amps: 2 A}, contract: {}, load: {}}
guards: [{when: "mains.volts < 100 V for 100 ms and elapsed > 500 ms", note: the line is gone}]
stages:
  - set:
      mains: {volts: 230 V, hertz: 50 Hz, amps: 2 A, output: on}
      contract: {position: 1, output: on}
      load: {mode: current, amps: 1 A, output: on}
`
	circleStages = `
needs: {mains: {volts: 253 V, amps: 110 A}, acload: {watts: 60 kW}, switch: {}}
guards: [{when: "mains.volts < 100 V for 100 ms and elapsed > 500 ms", note: the line is gone}]
stages:
  - set:
      switch: {output: on}
      mains: {volts: 230 V, hertz: 50 Hz, amps: 110 A, output: on}
      acload: {watts: 20 kW, output: on}
`
	panelStages = `
needs: {load: {}}
stages:
  - set: {load: {mode: voltage, volts: 15 V, output: on}}
`
	machineStages = `
needs: {mains: {volts: 253 V, amps: 60 A}, shaft: {}}
guards: [{when: "mains.volts < 100 V for 100 ms and elapsed > 500 ms", note: the line is gone}]
stages:
  - set:
      mains: {volts: 231 V, hertz: 50 Hz, amps: 60 A, output: on}
      shaft: {torque: 5 N·m, output: on}
`
	thrustStages = `
needs: {source: {volts: 30 V, amps: 10 A}, drive: {}}
guards: [{when: "source.volts < 12 V for 100 ms and elapsed > 500 ms", note: the line is gone}]
stages:
  - set: {source: {volts: 24 V, amps: 10 A, output: on}, drive: {percent: 30 %, output: on}}
`
	nodeStages = `
needs: {source: {volts: 4 V, amps: 500 mA}}
guards: [{when: "source.volts < 2 V for 100 ms and elapsed > 500 ms", note: the line is gone}]
stages:
  - set: {source: {volts: 3.6 V, amps: 500 mA, output: on}}
`
	amplifierStages = `
needs: {source: {volts: 27 V, amps: 8 A}, switch: {}, generator: {volts: 1 V}, load: {}, analyser: {}}
guards: [{when: "source.volts < 12 V for 100 ms and elapsed > 500 ms", note: the line is gone}]
stages:
  - set:
      generator: {volts: 0 V, hertz: 1 kHz}
      load: {mode: resistance, ohms: 4 Ω, output: on}
      source: {volts: 24 V, amps: 8 A, output: on}
      switch: {output: on}
`
	// burstStages have the load bear all that it may.
	burstStages = `
  - repeat: {times: 100000}
    stages:
      - capture:
          seat: analyser
          channels: {output: {range: 100 V}}
          span: 1 s
          samples: 500
          before: 0 %
          do: {generator: {volts: 0.95 V, output: on}}
          back: {generator: {output: off}}
          bears: 90 W
`
	lockedStages = `
needs: {sourcemeter: {volts: 2000 V, amps: 1 mA}}
guards: [{when: "sourcemeter.volts < 1000 V for 100 ms and elapsed > 500 ms", note: the volts are gone}]
stages:
  - set: {sourcemeter: {volts: 1500 V, amps: 100 µA, output: on}}
`
)

// ends are how a procedure goes on after its beginning.
var ends = map[string][2]string{
	"stay":   {"", "  - hold: {for: 100 h}\n"},
	"resume": {"resume: {rest: 500 ms, within: 1 h}\n", "  - hold: {for: 100 h}\n"},
	"brief":  {"", "  - hold: {for: 700 ms}\n"},
	"loop":   {"", "  - repeat: {times: 100000}\n    stages: [{hold: {for: 20 ms}}]\n"},
}

// beginnings are the kinds of beginnings.
var beginnings = map[string]string{"converter": converterStages, "pair": pairStages, "pack": packStages,
	"cells": cellStages, "drain": drainStages, "mains": mainsStages, "contract": contractStages,
	"circle": circleStages, "panel": panelStages, "locked": lockedStages,
	"machine": machineStages, "thrust": thrustStages, "node": nodeStages, "amplifier": amplifierStages}

// timeless ends the names of procedures that nobody can write: a pass of their loop takes no time.
const timeless = "-timeless"

// procedureTexts are all procedures.
func procedureTexts() (all []string) {
	for kind, beginning := range beginnings {
		for end, x := range ends {
			after := x[1]
			if kind == "amplifier" && end != "brief" {
				after = strings.TrimPrefix(burstStages, "\n") + after
			}
			all = append(all, text(kind+"-"+end, x[0], beginning, after))
		}
	}
	slices.Sort(all)
	return all
}

// timelessTexts are the procedures that nobody can write.
func timelessTexts() (all []string) {
	for _, kind := range slices.Sorted(maps.Keys(beginnings)) {
		seat := "load"
		switch kind {
		case "pack", "cells":
			seat = "cycler"
		case "mains", "circle", "machine":
			seat = "mains"
		case "thrust", "node", "amplifier":
			seat = "source"
		case "locked":
			seat = "sourcemeter"
		}
		all = append(all, text(kind+timeless, "", beginnings[kind], "  - repeat: {times: 20000}\n    stages: [{set: {"+seat+
			": {amps: 1 mA}}}]\n"))
	}
	return all
}

func text(name, head, beginning, end string) string {
	return "procedure: " + name + "\nfor: any\n" + head + strings.TrimPrefix(beginning, "\n") + end
}

// beginningOf is what can be begun in a layout.
func beginningOf(l simbench.Layout) string {
	switch l {
	case simbench.BatteryPack:
		return "pack"
	case simbench.SideBySide:
		return "cells"
	case simbench.CyclerPair:
		return "pair"
	case simbench.Charged, simbench.BatteryEnds:
		return "drain"
	case simbench.Mains, simbench.MainsAtUnit:
		return "mains"
	case simbench.Contracts:
		return "contract"
	case simbench.Recirculated:
		return "circle"
	case simbench.Panel:
		return "panel"
	case simbench.HighVoltage, simbench.Insulation:
		return "locked"
	case simbench.Machine:
		return "machine"
	case simbench.ThrustStand:
		return "thrust"
	case simbench.Drain:
		return "node"
	case simbench.Amplified:
		return "amplifier"
	}
	return "converter"
}

func proceduresOf(l simbench.Layout) (names []string) {
	for end := range ends {
		names = append(names, beginningOf(l)+"-"+end)
	}
	slices.Sort(names)
	return names
}
