package service_test

import (
	"cmp"
	"fmt"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// The matrix of faults goes through every fault of every kind of instrument. It is also what docs/faults.md is
// made of: run the test with USHER_WRITE_DOCS=1 to write it anew.

// faultBound is how long after a fault the outputs that can be reached are off, at the lost_after of this test.
const (
	faultBound = 3 * time.Second
	lostAfter  = time.Second
)

const converterFaults = `procedure: faults
for: tern
needs: {source: {}, load: {}%s}
guards:
  - {when: "load.volts < 10 V for 100 ms and elapsed > 2 s", note: the output is gone}
  - {when: "source.volts < 30 V for 100 ms and elapsed > 2 s", note: the line is gone}
%s
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A, output: on}}
  - hold: {for: 1000 s}
`

const meteredGuards = `  - {when: "meter.volts < 30 V for 100 ms and elapsed > 2 s", note: the analyser sees no line}
  - {when: "thermo.celsius > 80 °C", note: too hot}
`

const packFaults = `procedure: faults
for: any
needs: {cycler: {}, meter: {}, thermo: {}}
guards:
  - {when: "cycler.volts < 15 V for 100 ms", note: the pack is gone}
  - {when: "meter.volts < 15 V for 100 ms", note: the meter sees no pack}
stages:
  - set: {cycler: {volts: 29 V, amps: 1 A, output: on}}
  - hold: {for: 1000 s}
`

const mainsFaults = `procedure: faults
for: any
needs: {mains: {}, meter: {measures: ac}}
guards:
  - {when: "mains.volts < 100 V for 100 ms and elapsed > 2 s", note: the source sees no volts}
  - {when: "meter.volts < 100 V for 100 ms and elapsed > 2 s", note: the analyser sees no line}
stages:
  - set: {mains: {volts: 230 V, hertz: 50 Hz, amps: 1 A, output: on}}
  - hold: {for: 1000 s}
`

const contractFaults = `procedure: faults
for: any
needs: {mains: {}, contract: {}, load: {}}
guards:
  - {when: "contract.volts < 4 V for 100 ms and elapsed > 2 s", note: the sink sees no volts}
stages:
  - set:
      mains: {volts: 230 V, hertz: 50 Hz, amps: 1 A, output: on}
      contract: {position: 1, output: on}
      load: {mode: current, amps: 1 A, output: on}
  - hold: {for: 1000 s}
`

const circleFaults = `procedure: faults
for: any
needs: {mains: {}, acload: {}, meter: {measures: ac}, switch: {}}
guards:
  - {when: "mains.volts < 100 V for 100 ms and elapsed > 2 s", note: the feeder sees no volts}
  - {when: "acload.volts < 100 V for 100 ms and elapsed > 2 s", note: the load sees no volts}
  - {when: "meter.volts < 100 V for 100 ms and elapsed > 2 s", note: the analyser sees no line}
stages:
  - set:
      switch: {output: on}
      mains: {volts: 230 V, hertz: 50 Hz, amps: 110 A, output: on}
      acload: {watts: 5 kW, output: on}
  - hold: {for: 1000 s}
`

const panelFaults = `procedure: faults
for: any
needs: {load: {}, light: {}}
guards:
  - {when: "light.irradiance < 100 W/m² for 100 ms and elapsed > 2 s", note: it is dark}
stages:
  - set: {load: {mode: voltage, volts: 15 V, output: on}}
  - hold: {for: 1000 s}
`

const machineFaults = `procedure: faults
for: any
needs: {mains: {}, shaft: {}, meter: {measures: ac}, ohmmeter: {}, thermo: {}, vibration: {}, climate: {}}
guards:
  - {when: "mains.volts < 100 V for 100 ms and elapsed > 2 s", note: the feeder sees no volts}
  - {when: "meter.volts < 100 V for 100 ms and elapsed > 2 s", note: the analyser sees no line}
  - {when: "shaft.speed < 5 r/s for 100 ms and elapsed > 2 s", note: it does not turn}
  - {when: "vibration.vibration < 0.1 mm/s for 100 ms and elapsed > 2 s", note: it does not shake}
  - {when: "climate.humidity < 5 % for 100 ms and elapsed > 2 s", note: no air is that dry}
stages:
  - set:
      mains: {volts: 231 V, hertz: 50 Hz, amps: 60 A, output: on}
      shaft: {torque: 5 N·m, output: on}
  - hold: {for: 1000 s}
`

const coldFaults = `procedure: faults
for: any
needs: {ohmmeter: {}, mains: {}}
guards:
  - {when: "ohmmeter.ohms < 100 mΩ for 100 ms and elapsed > 2 s", note: no winding}
stages:
  - set: {mains: {volts: 0 V, hertz: 50 Hz, amps: 1 A, output: on}}
  - hold: {for: 1000 s}
`

const amplifierFaults = `procedure: faults
for: any
needs: {source: {}, switch: {}, generator: {}, load: {}, analyser: {}}
guards:
  - {when: "source.volts < 10 V for 100 ms and elapsed > 2 s", note: no supply}
  - {when: "load.volts < 1 V for 100 ms and elapsed > 2 s", note: no sound}
  - {when: "switch.amps < 5 mA for 100 ms and elapsed > 2 s", note: it takes nothing}
stages:
  - set:
      source: {volts: 24 V, amps: 5 A, output: on}
      switch: {output: on}
      generator: {volts: 0.2 V, hertz: 1 kHz, output: on}
      load: {mode: resistance, ohms: 8 Ω, output: on}
  - hold: {for: 600 ms}
  - capture: {seat: analyser, channels: {output: {range: 30 V}}, span: 100 ms, samples: 1000, times: 200, settle: 50 ms}
  - hold: {for: 1000 s}
`

const drainFaults = `procedure: faults
for: any
needs: {source: {}}
guards:
  - {when: "source.volts < 2 V for 100 ms and elapsed > 2 s", note: the node has no volts}
stages:
  - set: {source: {volts: 3.6 V, amps: 0.5 A, output: on}}
  - hold: {for: 1000 s}
`

const thrustFaults = `procedure: faults
for: any
needs: {source: {}, drive: {}, force: {}}
guards:
  - {when: "drive.percent < 5 % for 100 ms and elapsed > 2 s", note: the drive is gone}
  - {when: "force.newtons < 20 N for 100 ms and elapsed > 5 s", note: no force}
stages:
  - set: {source: {volts: 24 V, amps: 10 A, output: on}, drive: {percent: 40 %, output: on}}
  - hold: {for: 1000 s}
`

const lockedFaults = `procedure: faults
for: any
needs: {sourcemeter: {volts: 2000 V, amps: 1 mA}, thermo: {}}
guards:
  - {when: "sourcemeter.volts < 1000 V for 100 ms and elapsed > 2 s", note: the volts are gone}
stages:
  - set: {sourcemeter: {volts: 1500 V, amps: 100 µA, output: on}}
  - hold: {for: 1000 s}
`

const cellFaults = `procedure: faults
for: any
needs: {cycler: {}, meter: {}}
guards:
  - {when: "meter.amps < 0.3 A for 100 ms and elapsed > 2 s", note: the ammeter sees no charge}
stages:
  - set: {cycler: {volts: 4.1 V, amps: 6 A, output: on}}
  - hold: {for: 1000 s}
`

const scopeFaults = `procedure: faults
for: any
needs: {source: {}, load: {}, scope: {}}
stages:
  - set: {source: {volts: 48 V, amps: 5 A, output: on}, load: {mode: current, amps: 2 A, output: on}}
  - repeat: {times: 2000}
    stages:
      - name: step
        capture:
          channels: {output: {range: 4 V, offset: 14.9 V}, load: {range: 20 A, offset: 5 A}}
          span: 2 ms
          samples: 500
          trigger: {channel: load, level: 3 A}
          back: {load: {amps: 2 A}}
          do: {load: {amps: 4 A}}
      - hold: {for: 500 ms}
`

// cell is a fault of a kind of instrument, and what came of it.
type cell struct {
	kind, fault, run, outputs, message string
}

// effect is what a fault must lead to.
type effect struct {
	when    string // "running", "starting" or "ending"
	ends    bool   // the run is aborted
	alarmed bool   // an output cannot be confirmed off
	words   string // of the reason, the preflight or the alarm
	// state is what the run comes to; empty: aborted. goesOn says what is different in one that goes on.
	state, goesOn string
}

// scopeEffectOf is what a fault of a scope leads to, which nobody asks but for captures.
func scopeEffectOf(fault simbench.InstrumentFault) effect {
	switch fault {
	case simbench.ErrorQueue:
		return effect{when: "starting", ends: true, words: "System error"}
	case simbench.WrongIdentity:
		return effect{when: "starting", ends: true, words: "is not what is expected"}
	case simbench.Slow:
		return effect{when: "running", goesOn: "goes on, with slower captures"}
	case simbench.WrongProbe:
		return effect{when: "running", goesOn: "goes on; what is captured is ten times off, and clipped"}
	case simbench.NoTrigger:
		return effect{when: "running", ends: true, words: "did not trigger", state: "failed"}
	}
	return effect{when: "running", ends: true, words: "instrument "}
}

func effectOf(kind string, fault simbench.InstrumentFault, output bool) effect {
	if strings.HasSuffix(kind, "scope") || kind == "signal-analyser" {
		return scopeEffectOf(fault)
	}
	switch fault {
	case simbench.Behind:
		words := "has not answered"
		// The answer to the one before is of its other input, which sees nothing, or says whether its output is on.
		if kind == "three-phase-meter" || kind == "drive" {
			words = "guard tripped"
		}
		return effect{when: "running", ends: true, words: words}
	case simbench.Drop, simbench.Hang, simbench.Garbage:
		return effect{when: "running", ends: true, alarmed: output, words: "has not answered"}
	case simbench.Slow:
		return effect{when: "running", goesOn: "goes on, with fewer readings of it"}
	case simbench.WrongIdentity:
		return effect{when: "starting", ends: true, words: "is not what is expected"}
	case simbench.ErrorQueue:
		if output {
			return effect{when: "starting", ends: true, words: "System error"}
		}
		return effect{when: "starting", words: "had errors waiting"}
	case simbench.NotANumber, simbench.Overload:
		return effect{when: "running", ends: true, words: "guard cannot be watched"}
	case simbench.Reversed, simbench.OpenSense:
		return effect{when: "running", ends: true, words: "guard tripped"}
	case simbench.StuckOutput:
		return effect{when: "ending", ends: true, alarmed: true, words: "it reads back as on"}
	case simbench.Distorted, simbench.Drifting:
		return effect{when: "running", goesOn: "goes on; figures of the supply tell it"}
	case simbench.OpenInterlock:
		if kind == "sourcemeter" { // its output is on only while the interlock reads closed
			return effect{when: "running", ends: true, words: "is open while its output is on"}
		}
		return effect{when: "starting", ends: true, words: "the interlock of"}
	}
	return effect{}
}

func TestTheMatrixOfFaults(t *testing.T) {
	var mu sync.Mutex
	var cells []cell
	kinds, err := simbench.Kinds()
	require.NoError(t, err)
	delete(kinds, "crosspoint") // where it stands nothing is switched on; it has a test of its own
	ran := 0
	t.Run("kinds", func(t *testing.T) {
		for kind, layout := range kinds {
			t.Run(kind, func(t *testing.T) {
				servicetest.Simulated(t, func(t *testing.T) {
					got := faultsOfKind(t, kind, layout)
					mu.Lock()
					defer mu.Unlock()
					cells = append(cells, got...)
					ran++
				})
			})
		}
	})
	if ran < len(kinds) {
		assert.Empty(t, os.Getenv("USHER_WRITE_DOCS"), "a part of the matrix is not written; run the whole test")
		return // a part was asked for, or failed
	}
	slices.SortFunc(cells, func(a, b cell) int { return strings.Compare(a.kind+a.fault, b.kind+b.fault) })
	text := faultsPage(cells)
	if os.Getenv("USHER_WRITE_DOCS") != "" {
		require.NoError(t, os.WriteFile("../docs/faults.md", []byte(text), 0o644))
	}
	page, err := os.ReadFile("../docs/faults.md")
	require.NoError(t, err)
	if !t.Failed() {
		assert.Equal(t, string(page), text, "the page is not what the bench does; write it anew with USHER_WRITE_DOCS=1")
	}
}

func faultsPage(cells []cell) string {
	var page strings.Builder
	page.WriteString(`# Faults of instruments

Made by the test TestTheMatrixOfFaults, which breaks every kind of stand-in in every way over the real protocols
and reads the outputs from the stand-ins' own record. In every row the other bays go on, what was recorded stays,
and the bay can be used again when the instrument is mended, without a restart. "Off" means
within ` + fmt.Sprint(faultBound) + ` of the fault with lost_after at ` + fmt.Sprint(lostAfter) + `.

| instrument | fault | the run | outputs | what it says |
|---|---|---|---|---|
`)
	for _, c := range cells {
		fmt.Fprintf(&page, "| %s | %s | %s | %s | %s |\n", c.kind, c.fault, c.run, c.outputs, c.message)
	}
	return page.String()
}

func faultsOfKind(t *testing.T, kind string, layout simbench.Layout) (cells []cell) {
	h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{layout, simbench.Converter}, TimeFactor: 5,
		Change: func(c *bench.Config) {
			b := c.Bays["bay1"]
			b.LostAfter = api.Span(lostAfter)
			c.Bays["bay1"] = b
		}})
	switch layout {
	case simbench.BatteryPack:
		h.Push(packFaults)
	case simbench.SideBySide:
		h.Push(cellFaults)
	case simbench.Mains:
		h.Push(mainsFaults)
	case simbench.Contracts:
		h.Push(contractFaults)
	case simbench.Recirculated:
		h.Push(circleFaults)
	case simbench.Panel:
		h.Push(panelFaults)
	case simbench.HighVoltage, simbench.Insulation:
		h.Push(lockedFaults)
	case simbench.Machine:
		h.Push(map[bool]string{true: coldFaults, false: machineFaults}[kind == "winding-ohmmeter"])
	case simbench.ThrustStand:
		h.Push(thrustFaults)
	case simbench.Drain:
		h.Push(drainFaults)
	case simbench.Amplified:
		h.Push(amplifierFaults)
	case simbench.Metered:
		h.Push(fmt.Sprintf(converterFaults, ", meter: {}, thermo: {}", meteredGuards))
	case simbench.Scoped, simbench.Digitised:
		h.Push(scopeFaults)
	default:
		h.Push(fmt.Sprintf(converterFaults, "", ""))
	}
	h.Push(strings.Replace(fmt.Sprintf(converterFaults, "", ""), "procedure: faults", "procedure: undisturbed", 1))
	other := h.Start("bay2", "undisturbed", "TN-2")
	for _, i := range h.Bench.Instruments() {
		if i.Kind != kind {
			continue
		}
		for _, fault := range i.Faults() {
			cells = append(cells, oneFault(t, h, i, fault))
			live, err := h.Local.Run(t.Context(), other.ID)
			require.NoError(t, err)
			require.Equal(t, "live", live.State, "%s %s: the other bay: %s", kind, fault, live.Reason)
		}
		break
	}
	_, err := h.Local.StopAll(t.Context(), "")
	require.NoError(t, err)
	return cells
}

func oneFault(t *testing.T, h *servicetest.House, i *simbench.Instrument, fault simbench.InstrumentFault) cell {
	t.Helper()
	want := effectOf(i.Kind, fault, i.Switches())
	c := cell{kind: i.Kind, fault: string(fault)}
	name := i.Name + " " + c.fault
	start := api.StartRun{Bay: "bay1", Procedure: "faults", Serial: "TN-1"}
	switch want.when {
	case "starting":
		c.run, c.message = startBroken(t, h, i, fault, start, want)
		c.outputs = "off"
	default:
		run := h.Start("bay1", "faults", "TN-1")
		settled(t, h, run)
		broke := time.Now()
		require.NoError(t, h.Bench.SetFault(i.Name, fault))
		c.run, c.message = runBroken(t, h, run, want, name)
		c.outputs = outputsAfter(t, h, want, broke, name)
	}
	require.NoError(t, h.Bench.SetFault(i.Name, simbench.NoFault))
	require.Eventually(t, func() bool {
		b, err := h.Local.Bay(t.Context(), "bay1")
		return err == nil && b.Alarm == "" && b.State == api.BayIdle && b.SafeSince != nil
	}, 20*time.Second, 20*time.Millisecond, "%s: the bay is free again without a restart", name)
	require.Eventually(t, func() bool {
		p, err := h.Local.Preflight(t.Context(), start)
		return err == nil && !p.Blocked
	}, 20*time.Second, 50*time.Millisecond, "%s: and nothing blocks a start", name)
	assert.False(t, on(t, h), name)
	return c
}

// on tells by the bench's own record whether an output of the bay is on.
func on(t *testing.T, h *servicetest.House) bool {
	s, err := h.Bench.State("bay1")
	require.NoError(t, err)
	return s.SourceOn || s.LoadOn
}

// settled waits until the guards of a run watch.
func settled(t *testing.T, h *servicetest.House, run api.RunSummary) {
	t.Helper()
	require.Eventually(t, func() bool {
		doc, err := h.Local.Run(t.Context(), run.ID)
		require.NoError(t, err)
		require.Equal(t, "live", doc.State, doc.Reason)
		return time.Since(doc.StartedAt) > 550*time.Millisecond && on(t, h)
	}, 20*time.Second, 100*time.Millisecond)
}

func startBroken(t *testing.T, h *servicetest.House, i *simbench.Instrument, fault simbench.InstrumentFault,
	start api.StartRun, want effect) (run, message string) {
	t.Helper()
	require.NoError(t, h.Bench.SetFault(i.Name, fault))
	p, err := h.Local.Preflight(t.Context(), start)
	require.NoError(t, err)
	for _, f := range p.Findings {
		if f.Verdict != api.Fine {
			message = f.What
			assert.NotEmpty(t, f.Remedy)
		}
	}
	summary, err := h.Local.StartRun(t.Context(), start)
	switch {
	case p.Blocked:
		require.ErrorContains(t, err, want.words)
		run = "is not started: preflight blocks"
	case want.ends:
		require.NoError(t, err)
		doc := h.Ended(summary)
		assert.Equal(t, "aborted", doc.State)
		assert.Contains(t, doc.Reason, want.words)
		run, message = "preflight warns; aborted at the first command", doc.Reason
	default:
		require.NoError(t, err)
		settled(t, h, summary)
		_, err = h.Local.Stop(t.Context(), "bay1", "")
		require.NoError(t, err)
		run = "preflight warns; goes on"
	}
	assert.Contains(t, message, want.words, "%s %s", i.Name, fault)
	return run, tidy(message)
}

func runBroken(t *testing.T, h *servicetest.House, run api.RunSummary, want effect, name string) (what,
	message string) {
	t.Helper()
	if !want.ends {
		before, err := h.Local.Bay(t.Context(), "bay1")
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			b, err := h.Local.Bay(t.Context(), "bay1")
			return err == nil && b.Progress != nil && b.ReadAt.Sub(before.ReadAt) > lostAfter+lostAfter/4
		}, 20*time.Second, 20*time.Millisecond)
		doc, err := h.Local.Run(t.Context(), run.ID)
		require.NoError(t, err)
		assert.Equal(t, "live", doc.State, "%s: %s", name, doc.Reason)
		_, err = h.Local.Stop(t.Context(), "bay1", "")
		require.NoError(t, err)
		return want.goesOn, "—"
	}
	if want.when == "ending" {
		_, err := h.Local.Stop(t.Context(), "bay1", "")
		assert.Equal(t, http.StatusBadGateway, problemOf(t, err).Status, "a stop that left something on is none")
	}
	doc := h.Ended(run)
	assert.Equal(t, cmp.Or(want.state, "aborted"), doc.State, name)
	assert.Positive(t, doc.Frames, "%s: what was recorded stays", name)
	what, message = doc.State, doc.Reason
	if want.alarmed {
		b, err := h.Local.Bay(t.Context(), "bay1")
		require.NoError(t, err)
		assert.Contains(t, b.Alarm, "is not confirmed off", name)
		assert.Contains(t, b.Alarm, "Switch it off at the instrument", "%s: with a remedy", name)
		assert.Contains(t, journalOf(t, h, run.ID), "ALARM: make safe not confirmed", name)
		if want.when == "ending" {
			message = b.Alarm
		}
	}
	assert.Contains(t, message, want.words, name)
	return what, tidy(message)
}

// outputsAfter says from the bench's own record how the outputs are, and holds them to the bound.
func outputsAfter(t *testing.T, h *servicetest.House, want effect, broke time.Time, name string) string {
	t.Helper()
	s, err := h.Bench.State("bay1")
	require.NoError(t, err)
	for _, x := range s.History {
		// An output that cannot be reached is switched off later, by the watchdog of its instrument.
		own := strings.Contains(name, "cycler") ||
			strings.Contains(name, map[string]string{"load": "load", "source": "supply"}[x.What])
		if !x.On && x.At.After(broke) && want.ends && want.when == "running" && !(want.alarmed && own) {
			assert.Less(t, x.At.Sub(broke), faultBound, "%s: %s went off late", name, x.What)
		}
	}
	if !want.alarmed {
		assert.False(t, on(t, h), name)
		return "off"
	}
	return "the others off; an alarm for this one until it reads back as off"
}

var address = regexp.MustCompile(` at (memory|tcp|modbus-rtu|modbus-tcp)://[^ ]+`)

// tidy leaves out of a message what differs from run to run, and what would break the table.
// otherSeats are those of an instrument with several: not all may be named.
var otherSeats = regexp.MustCompile(`(\([a-z]+), [a-z0-9, ]+\)`)

func tidy(message string) string {
	for _, end := range []string{": memory://", ": tcp://", ": modbus-rtu://", ": instrument ",
		": the question is still open", "; check its power", `"; -310`} {
		message, _, _ = strings.Cut(message, end)
	}
	message = strings.Join(strings.Fields(address.ReplaceAllString(message, "")), " ")
	return strings.ReplaceAll(otherSeats.ReplaceAllString(message, "$1, …)"), "|", "/")
}
