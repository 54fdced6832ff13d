package service_test

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

func TestTheSameProcedureRunsUnchangedOnEveryBench(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		layouts := []simbench.Layout{simbench.Converter, simbench.CyclerPair, simbench.SerialLoad, simbench.RegistersTCP,
			simbench.Gang, simbench.Stacked, simbench.Metered}
		h := servicetest.Start(t, servicetest.Options{Layouts: layouts, TimeFactor: 5})
		h.Push(quick)
		var runs []api.RunSummary
		for i := range layouts {
			runs = append(runs, h.Start(bayName(i), "quick", "TN-2208"))
		}
		first := h.Ended(runs[0])
		require.Equal(t, "done", first.State, first.Reason)
		outside := 0
		for i, run := range runs[1:] {
			doc := h.Ended(run)
			require.Equal(t, "done", doc.State, "%s: %s", layouts[i+1], doc.Reason)
			for k, f := range doc.Figures {
				want := first.Figures[k]
				name := f.Result.ID
				require.Nil(t, f.Result.Undetermined, "%s: %s", layouts[i+1], name)
				apart := math.Abs(f.Result.Value - want.Result.Value)
				both := math.Hypot(f.Result.U, want.Result.U)
				if apart > both {
					outside++
					t.Logf("%s: %s is %.6g, and %.6g on the first bench; U of both %.2g", layouts[i+1], name, f.Result.Value,
						want.Result.Value, both)
				}
				assert.LessOrEqual(t, apart, 2*both, "%s: %s", layouts[i+1], name)
			}
		}
		// 48 differences with intervals of 95 %: two or three are expected outside.
		assert.LessOrEqual(t, outside, 7)
	})
}

func bayName(i int) string { return "bay" + string(rune('1'+i)) }

const packTest = `procedure: pack-pulse
for: any
needs:
  cycler: {volts: 30 V, amps: 5 A}
guards:
  - {when: "thermo.celsius > 45 °C", do: trip, note: the pack is hot}
stages:
  - name: charge
    set: {cycler: {volts: 29 V, amps: 2 A, output: on}}
  - name: go on
    hold: {for: 5 s}
  - name: discharge
    set: {cycler: {amps: -4 A}}
  - name: take
    hold: {until: "cycler.charge < -2 mAh", within: 60 s}
`

func TestACyclerChargesAndDischargesAPack(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.BatteryPack}})
		h.Push(strings.Replace(packTest, "needs:\n", "needs:\n  thermo: {}\n  meter: {}\n", 1))
		doc := h.Ended(h.Start("bay1", "pack-pulse", "GP-301"))
		require.Equal(t, "done", doc.State, doc.Reason)
		var names []string
		for _, c := range doc.Columns {
			names = append(names, c.Name)
		}
		assert.Subset(t, names, []string{"cycler.volts", "cycler.amps", "cycler.celsius", "cycler.charge", "meter.volts",
			"thermo.celsius"})
		assert.NotContains(t, names, "meter.amps", "what the multimeter does not read is no column")
		state, err := h.Bench.State("bay1")
		require.NoError(t, err)
		assert.False(t, state.SourceOn || state.LoadOn)
	})
}

// findings runs a preflight and gives what it found that is not fine, by check.
func findings(t *testing.T, h *servicetest.House, start api.StartRun) map[string]api.PreflightFinding {
	t.Helper()
	p, err := h.Local.Preflight(t.Context(), start)
	require.NoError(t, err)
	found := map[string]api.PreflightFinding{}
	for _, f := range p.Findings {
		if f.Verdict != api.Fine {
			found[f.Check] = f
		}
		assert.NotEmpty(t, f.What)
		assert.True(t, f.Verdict == api.Fine || f.Remedy != "", "%s has no remedy", f.What)
	}
	return found
}

const gannetPlate = `nameplate: gannet
title: Harbour lantern pack
kind: battery
ratings: {rated_volts: 25.9 V, cutoff: 21 V}
windows: {cycler.volts: {min: 0 V, max: 29.4 V}}
at rest: {cycler.volts: {min: 20 V, max: 29.4 V}}
`

func TestAPreflightNamesWhatIsWrongBeforeAnythingIsEnergised(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Converter, simbench.BatteryPack},
			Change: func(c *bench.Config) {
				i := c.Instruments["load1"]
				i.Due = "2026-01-31"
				c.Instruments["load1"] = i
			}})
		_, err := h.Local.PushNameplate(t.Context(), gannetPlate)
		require.NoError(t, err)
		h.Push(strings.NewReplacer("for: any", "for: gannet", "needs:\n", "needs:\n  thermo: {}\n").Replace(packTest))
		h.Push(strings.NewReplacer("procedure: pack-pulse", "procedure: too-much", "amps: 5 A", "amps: 50 A", "needs:\n",
			"needs:\n  thermo: {}\n").Replace(packTest))
		pack := api.StartRun{Bay: "bay2", Procedure: "pack-pulse", Serial: "GP-302"}
		assert.Empty(t, findings(t, h, pack), "a good pack on a good bench")

		for name, c := range map[string]struct {
			prepare func()
			start   api.StartRun
			check   string
			verdict api.Verdict
			words   string
		}{
			"polarity": {func() { clip(t, h, "bay2", "GP-303", "reversed") }, pack, "polarity", api.Blocks,
				"the unit is connected the wrong way round"},
			"wrong unit": {func() { clip(t, h, "bay2", "GP-304", "dead") }, pack, "unit", api.Blocks,
				"nameplate gannet says 20 V to 29.4 V"},
			"range": {func() {}, api.StartRun{Bay: "bay2", Procedure: "too-much", Serial: "GP-302"}, "range", api.Blocks,
				"must reach 50 A, but channel 1 of cycler2 ends at 12 A"},
			"interlock": {func() { require.NoError(t, h.Bench.SetFault("cycler2", simbench.OpenInterlock)) }, pack, "interlock",
				api.Blocks, "the interlock of cycler2 is open"},
			"calibration": {func() {}, api.StartRun{Bay: "bay1", Procedure: "quick", Serial: "TN-1"}, "calibration", api.Warns,
				"load1 was due on 2026-01-31"},
			"lockout": {func() { ask(t, h, "load1", "VOLT:LOCK 20") }, api.StartRun{Bay: "bay1", Procedure: "quick",
				Serial: "TN-1"}, "protection", api.Blocks,
				`"volts below" of load1 stands at 20 V, above the 15 V`},
			"over-voltage": {func() { ask(t, h, "supply1", "VOLT:PROT 50") }, api.StartRun{Bay: "bay1", Procedure: "quick",
				Serial: "TN-1"}, "protection", api.Blocks,
				`"volts above" of supply1 stands at 50 V, below the 60 V`},
			"another instrument": {func() { require.NoError(t, h.Bench.SetFault("supply1", simbench.WrongIdentity)) },
				api.StartRun{Bay: "bay1", Procedure: "quick", Serial: "TN-1"}, "identity", api.Blocks, "is not what is expected"},
			"errors waiting": {func() { ask(t, h, "supply1", "HUE 3") }, api.StartRun{Bay: "bay1", Procedure: "quick",
				Serial: "TN-1"}, "error queue", api.Warns, "Undefined header"},
			"missing seat": {func() {}, api.StartRun{Bay: "bay1", Procedure: "pack-pulse", Serial: "GP-302"}, "seats",
				api.Blocks, `needs a seat "cycler", which bay1 does not have`},
		} {
			h.Push(quick)
			handlerOff(t, h)
			c.prepare()
			f := findings(t, h, c.start)[c.check]
			assert.Equal(t, c.verdict, f.Verdict, name)
			assert.Contains(t, f.What, c.words, name)
			if c.verdict == api.Blocks {
				_, err := h.Local.StartRun(t.Context(), c.start)
				var p *api.Problem
				require.ErrorAs(t, err, &p)
				assert.Equal(t, 409, p.Status)
				assert.Contains(t, p.Detail, c.words)
				assert.NotEmpty(t, p.Preflight, "with all findings")
			}
			for _, i := range h.Bench.Instruments() {
				require.NoError(t, h.Bench.SetFault(i.Name, simbench.NoFault))
			}
			ask(t, h, "load1", "VOLT:LOCK 0")
			ask(t, h, "supply1", "VOLT:PROT 88")
			clip(t, h, "bay2", "GP-302", "")
		}
		run := h.Start("bay1", "quick", "TN-1")
		doc := h.Ended(run)
		assert.NotEmpty(t, doc.Preflight, "the findings go on record")
	})
}

func clip(t *testing.T, h *servicetest.House, bay, serial, fault string) {
	t.Helper()
	require.NoError(t, h.Bench.Clip(bay, serial, fault))
}

// handlerOff keeps the bench from putting a good unit in place of the one that a test clipped in.
func handlerOff(t *testing.T, h *servicetest.House) {
	t.Helper()
	config, err := h.Local.BenchConfig(t.Context())
	require.NoError(t, err)
	for name, b := range config.Bays {
		if b.Handler != "" {
			b.Handler = ""
			_, err := h.Local.PutBay(t.Context(), name, b)
			require.NoError(t, err)
		}
	}
}

func TestTheBenchIsConfiguredWhileItRuns(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Converter, simbench.Metered}})
		h.Push(long)
		busy := h.Start("bay2", "long", "TN-2")
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		assert.Equal(t, "file", config.Origin["instruments.supply1"])

		found, err := h.Local.Discover(t.Context(), api.Discovery{Addresses: []string{config.Instruments["analyser2"].Address,
			"tcp://127.0.0.1:1"}})
		require.NoError(t, err)
		assert.Equal(t, "analyser2", found[0].Name)
		assert.Equal(t, []string{"sim-analyser"}, found[0].Dialects, "dialects are offered by identity")
		assert.NotEmpty(t, found[1].Problem)
		_, err = h.Local.Discover(t.Context(), api.Discovery{Hosts: []string{"127.0.0.1"}})
		assert.ErrorContains(t, err, "name the ports")

		second := api.InstrumentConfig{Address: config.Instruments["supply1"].Address, Dialect: "sim-supply",
			Due: "2027-01-01"}
		_, err = h.Local.PutInstrument(t.Context(), "second", second)
		assert.ErrorContains(t, err, "both are one instrument")
		bay := config.Bays["bay1"]
		bay.Seats = map[string]api.SeatConfig{"load": {Instrument: "load1"}}
		_, err = h.Local.PutBay(t.Context(), "bay1", bay)
		require.NoError(t, err)
		_, err = h.Local.RemoveInstrument(t.Context(), "supply1")
		require.NoError(t, err)
		_, err = h.Local.PutInstrument(t.Context(), "second", second)
		require.NoError(t, err)
		bay.Seats = map[string]api.SeatConfig{"source": {Instrument: "second", Channel: 1}, "load": {Instrument: "load1"},
			"load2": {Instrument: "load2"}}
		_, err = h.Local.PutBay(t.Context(), "bay1", bay)
		assert.ErrorContains(t, err, "channel 1 of load2 fills bay1.load2 already; a channel can be in one place only")
		delete(bay.Seats, "load2")
		config, err = h.Local.PutBay(t.Context(), "bay1", bay)
		require.NoError(t, err)
		assert.Equal(t, "console", config.Origin["bays.bay1"])
		doc := h.Ended(h.Start("bay1", "tern-load-steps", "TN-1"))
		assert.Equal(t, "pass", doc.Outcome)
		assert.Equal(t, "second", doc.Instruments[0].Instrument)

		_, err = h.Local.PutBay(t.Context(), "bay2",
			api.BayConfig{Seats: map[string]api.SeatConfig{"source": {Instrument: "supply2"}}})
		assert.ErrorContains(t, err, "a run owns the bay")
		_, err = h.Local.RemoveInstrument(t.Context(), "second")
		assert.ErrorContains(t, err, "second is in use: it fills source of bay1", "a seat needs it")
		_, err = h.Local.PutInstrument(t.Context(), "third", api.InstrumentConfig{Address: "tcp://x", Dialect: "sim-suply"})
		assert.ErrorContains(t, err, `did you mean "sim-supply"?`)
		_, err = h.Local.RemoveInstrument(t.Context(), "fourth")
		assert.ErrorContains(t, err, "no such instrument")
		live, err := h.Local.Run(t.Context(), busy.ID)
		require.NoError(t, err)
		assert.Equal(t, "live", live.State, "the other bay went on all the while")
		_, err = h.Local.Stop(t.Context(), "bay2", "")
		require.NoError(t, err)
		_, err = h.Local.RemoveBay(t.Context(), "bay2")
		require.NoError(t, err)
		_, err = h.Local.Bay(t.Context(), "bay2")
		assert.ErrorContains(t, err, "no such bay")
	})
}

func TestWhatIsSetByHandCanBeTakenOver(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		for _, s := range []api.ManualSet{{Seat: "source", Quantity: "volts", Value: "47.5 V"},
			{Seat: "source", Quantity: "amps", Value: "2 A"}, {Seat: "load", Quantity: "mode", Value: "power"},
			{Seat: "source", Quantity: "output", Value: "on"}, {Seat: "source", Quantity: "sense", Value: "remote"}} {
			_, err := h.Local.Set(t.Context(), "bay1", s)
			require.NoError(t, err, "%v", s)
		}
		taken, err := h.Local.TakeOver(t.Context(), "bay1")
		require.NoError(t, err)
		assert.Contains(t, taken.Stage, "source: {volts: 47.5 V, amps: 2 A, output: on}")
		assert.Contains(t, taken.Stage, "mode: power")
		assert.Equal(t, "47.5 V", taken.Defaults["source"]["volts"])
		h.Push("procedure: taken\nfor: any\nneeds: {source: {}, load: {}}\nstages:\n" + indent(taken.Stage))
		bay, err := h.Local.Bay(t.Context(), "bay1")
		require.NoError(t, err)
		var volts api.Control
		for _, c := range bay.Seats[0].Controls {
			if c.Quantity == "volts" {
				volts = c
			}
		}
		require.NotNil(t, volts.Most)
		assert.Equal(t, 80.0, *volts.Most)
		assert.True(t, bay.Seats[0].Energised)
		_, err = h.Local.Set(t.Context(), "bay1", api.ManualSet{Seat: "source", Quantity: "volts", Value: "90 V"})
		assert.ErrorContains(t, err, "is above the 80 V that channel 1 of supply1 can do")

		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		b := config.Bays["bay1"]
		seat := b.Seats["source"]
		seat.Defaults = taken.Defaults["source"]
		b.Seats["source"] = seat
		_, err = h.Local.PutBay(t.Context(), "bay1", b)
		require.NoError(t, err)
		state, err := h.Bench.State("bay1")
		require.NoError(t, err)
		assert.False(t, state.SourceOn, "a bay that is configured anew is made safe first")
	})
}

func indent(s string) string {
	return "  " + strings.ReplaceAll(strings.TrimSpace(s), "\n", "\n  ") + "\n"
}

func TestSensorsAreZeroedAndCalibrated(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Metered}, Ideal: true})
		read := func(column string) float64 {
			var value float64
			require.Eventually(t, func() bool {
				b, err := h.Local.Bay(t.Context(), "bay1")
				require.NoError(t, err)
				if x := b.Readings[column]; x != nil {
					value = *x
					return true
				}
				return false
			}, 10*time.Second, 20*time.Millisecond)
			return value
		}
		assert.InDelta(t, 23, read("thermo.celsius"), 0.5)
		_, err := h.Local.ChangeSensor(t.Context(), "bay1", "thermo", "celsius", api.SensorChange{Zero: true})
		require.NoError(t, err)
		assert.InDelta(t, 0, read("thermo.celsius"), 0.1)
		_, err = h.Local.ChangeSensor(t.Context(), "bay1", "thermo", "celsius",
			api.SensorChange{Points: []api.CalibrationPoint{{Reading: 20, True: 21}, {Reading: 30, True: 41}}})
		require.NoError(t, err)
		assert.InDelta(t, 27, read("thermo.celsius"), 0.5)
		_, err = h.Local.ChangeSensor(t.Context(), "bay1", "thermo", "celsius", api.SensorChange{Sensor: &api.SensorConfig{}})
		require.NoError(t, err)
		assert.InDelta(t, 23, read("thermo.celsius"), 0.5)
		_, err = h.Local.ChangeSensor(t.Context(), "bay1", "thermo", "volts", api.SensorChange{Zero: true})
		assert.ErrorContains(t, err, `a thermo has no "volts"`)
		_, err = h.Local.ChangeSensor(t.Context(), "bay1", "thermo", "celsius",
			api.SensorChange{Points: []api.CalibrationPoint{{Reading: 1, True: 2}}})
		assert.ErrorContains(t, err, "two different points")
	})
}

func TestMessagesOfAnInstrumentAreShown(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		_, err := h.Local.Set(t.Context(), "bay1", api.ManualSet{Seat: "source", Quantity: "volts", Value: "12 V"})
		require.NoError(t, err)
		list, err := h.Local.Exchanges(t.Context(), "supply1", 500)
		require.NoError(t, err)
		var text strings.Builder
		for _, x := range list {
			text.WriteString(x.Message + " → " + x.Answer + "\n")
			assert.Positive(t, x.Latency)
		}
		assert.Contains(t, text.String(), "VOLT 12.0000,(@1);:SYST:ERR? → 0,\"No error\"")
		var csv strings.Builder
		require.NoError(t, h.Local.ExchangesCSV(t.Context(), "supply1", 10, &csv))
		assert.Contains(t, csv.String(), "at,message,answer,latency_ms,error\n")
		_, err = h.Local.Exchanges(t.Context(), "supply9", 10)
		assert.ErrorContains(t, err, `did you mean "supply1"?`)
		all, err := h.Local.Instruments(t.Context())
		require.NoError(t, err)
		assert.Positive(t, all[0].Median)
		assert.GreaterOrEqual(t, all[0].P99, all[0].Median)
	})
}

// ask sends a message to a stand-in past the service.
func ask(t *testing.T, h *servicetest.House, instrument, message string) {
	t.Helper()
	conn := h.Dial(instrument)
	defer conn.Close()
	_, err := conn.Write([]byte(message + "\n*OPC?\n"))
	require.NoError(t, err)
	_, err = conn.Read(make([]byte, 10))
	require.NoError(t, err)
}

// A dialect as a user writes it from a command list: one message for one thing, the error queue asked apart.
const writtenByHand = `dialect: quay-load
title: Quay load 30 A
identity: "^Usher Bench,SIM-L1,"
seats: [load]
answers within: 1 s
errors: {query: "SYSTEM:ERROR?", none: "0,"}
numbers: {digits: 6}
set:
  amps: {message: "CURRENT {value}", ask: "CURRENT?"}
  mode: {current: "FUNC CURR"}
  output: {"on": "INPUT ON", "off": "INPUT OFF"}
read:
  - {message: "MEASURE:VOLTAGE?", gives: [volts]}
  - {message: "MEASURE:CURRENT?", gives: [amps]}
confirm: {message: "INPUT?", "on": "1", "off": "0"}
ranges:
  set: {amps: [{to: 30 A}]}
  read:
    volts: [{to: 150 V, reading: 0.025 %, offset: 4 mV, resolution: 0.1 mV}]
    amps: [{to: 30 A, reading: 0.05 %, offset: 2 mA, resolution: 0.1 mA}]
`

func TestADialectWrittenByHandDrivesAFullRun(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		_, err := h.Local.PushDialect(t.Context(), writtenByHand)
		require.NoError(t, err)
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		i := config.Instruments["load1"]
		i.Dialect = "quay-load"
		_, err = h.Local.PutInstrument(t.Context(), "load1", i)
		require.NoError(t, err)
		doc := h.Ended(h.Start("bay1", "tern-load-steps", "TN-2208"))
		assert.Equal(t, "pass", doc.Outcome, doc.Reason)
		assert.Equal(t, "quay-load", doc.Instruments[1].Dialect)
		_, err = h.Local.PushDialect(t.Context(), strings.Replace(writtenByHand, "seats: [load]", "seats: [source]", 1))
		assert.ErrorContains(t, err, "a source must let volts be set")
		_, err = h.Local.PushDialect(t.Context(), "dialect: quay-load\nfrom: sim-analyser\n")
		assert.ErrorContains(t, err, "load1 cannot fill it", "what would break the bench is not kept")
		doc = h.Ended(h.Start("bay1", "tern-load-steps", "TN-2208"))
		assert.Equal(t, "pass", doc.Outcome, "and the bench goes on with the one before")
	})
}

func TestAGangThatSharesUnevenlyIsSwitchedOff(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Gang}})
		h.Push(long)
		run := h.Start("bay1", "long", "TN-1")
		require.Eventually(t, func() bool { s, err := h.Bench.State("bay1"); return err == nil && s.LoadOn }, 10*time.Second,
			5*time.Millisecond)
		ask(t, h, "load1-b", "CURR 0.1")
		doc := h.Ended(run)
		assert.Equal(t, "aborted", doc.State)
		assert.Contains(t, doc.Reason,
			"the channels of load (channel 1 of load1 and channel 1 of load1-b) share unevenly for 2 s; check their wiring")
		assert.False(t, on(t, h))
	})
}

func TestAnAlarmOutlivesAChangeOfTheBay(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		run := h.Start("bay1", "long", "TN-1")
		require.Eventually(t, func() bool { return on(t, h) }, 10*time.Second, 5*time.Millisecond)
		require.NoError(t, h.Bench.SetFault("load1", simbench.Drop))
		h.Ended(run)
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		b := config.Bays["bay1"]
		b.Title = "Another title"
		_, err = h.Local.PutBay(t.Context(), "bay1", b)
		assert.ErrorContains(t, err, "nobody knows whether its outputs are off")
		_, err = h.Local.RemoveBay(t.Context(), "bay1")
		assert.ErrorContains(t, err, "nobody knows whether its outputs are off")
		_, err = h.Local.Looked(t.Context(), "bay1")
		require.NoError(t, err)
		_, err = h.Local.PutBay(t.Context(), "bay1", b)
		require.NoError(t, err)
		bay, err := h.Local.Bay(t.Context(), "bay1")
		require.NoError(t, err)
		assert.Contains(t, bay.Alarm, "load (channel 1 of load1) is not confirmed off")
		require.NoError(t, h.Bench.SetFault("load1", simbench.NoFault))
		require.Eventually(t, func() bool {
			b, err := h.Local.Bay(t.Context(), "bay1")
			return err == nil && b.Alarm == "" && !on(t, h)
		}, 20*time.Second, 20*time.Millisecond, "and the new bay goes on trying")
	})
}
