package service_test

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/instrument/transport/memory"
	"usherbench/service/servicetest"
)

// threePhases is an analyser of three phases that leaves the sums to us.
const threePhases = `dialect: three-phases
title: Analyser of three phases
identity: "^Nobody,P3,"
seats: [meter]
measures: {ac: "FUNC AC", dc: "FUNC DC", both: "FUNC BOTH", ask: "FUNC?"}
read:
  - {message: "PHASES?", gives: [volts.1 to 3, amps.1 to 3, watts.1 to 3], units: {amps: mA}}
  - {message: "SPECTRUM?", gives: [amps.1.h1 to h5]}
  - {message: "SIDES?", gives: [volts.ac, volts.dc]}
ranges:
  read:
    volts: [{to: 300 V, reading: 0.1 %, offset: 0.1 V, resolution: 0.1 V}]
    watts: [{to: 1 kW, offset: 2 W, resolution: 0.1 W}]
`

// analyserOf serves such an instrument; the third harmonic grows when it is told to.
func analyserOf(t *testing.T, distorted *atomic.Bool) (address string) {
	listener, err := memory.Listen("analyser-of-" + strings.ToLower(t.Name()))
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	function := "BOTH"
	answer := func(line string) string {
		third := 0.1
		if distorted.Load() {
			third = 0.9
		}
		switch word, to, _ := strings.Cut(line, " "); word {
		case "*IDN?":
			return "Nobody,P3,1,1"
		case "FUNC?":
			return function
		case "FUNC":
			function = to
		case "PHASES?":
			return "230.1,231.2,228.7,1000,1100,900,200,220,180"
		case "SPECTRUM?":
			return fmt.Sprintf("0.98,0,%g,0,0.02", third)
		case "SIDES?":
			return "230,0.4"
		}
		return ""
	}
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				for lines := bufio.NewScanner(c); lines.Scan(); {
					if said := answer(strings.TrimSpace(lines.Text())); said != "" {
						fmt.Fprintln(c, said)
					}
				}
			}()
		}
	}()
	return "memory://" + listener.Addr().String()
}

const mainsTest = `procedure: mains-test
for: any
needs: {source: {volts: 60 V, amps: 5 A}, load: {volts: 20 V, amps: 9 A, modes: [current]}, meter3: {measures: ac}}
guards: [{when: "meter3.amps.1.h3 > 0.5 A for 100 ms", note: too much third harmonic}]
derived: {unit.percent: "100 % * meter3.amps.1.h3 / meter3.amps.1.h1", unit.speed: "meter3.volts.2 / 1 V * 0.1 r/s"}
stages:
  - name: wait
    set: {source: {volts: 48 V, amps: 5 A, output: on}}
    until: meter3.volts.2 > 231 V and meter3.volts.dc < 1 V for 200 ms
    within: 20 s
  - name: look
    acquire: {times: 5, every: 200 ms, quantities: [meter3.volts.3, meter3.watts, unit.speed]}
  - name: stay
    record: {on change: {meter3.amps.1.h3: 10 mA}}
    hold: {for: 1 h}
figures:
  - {figure: reading, row: look, quantity: meter3.volts.3}
  - {figure: reading, row: look, quantity: meter3.watts}
  - {figure: reading, row: look, quantity: unit.speed, in: r/min, limit: {min: 1380 r/min, max: 25 r/s}}
`

func TestPhasesHarmonicsAndSidesAreReadingsLikeAnyOther(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		var distorted atomic.Bool
		_, err := h.Local.PushDialect(t.Context(), threePhases)
		require.NoError(t, err)
		_, err = h.Local.PutInstrument(t.Context(), "mains", api.InstrumentConfig{Address: analyserOf(t, &distorted),
			Dialect: "three-phases", Due: "2027-03-16"})
		require.NoError(t, err)
		bench, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		bay := bench.Bays["bay1"]
		bay.Seats["meter3"] = api.SeatConfig{Instrument: "mains"}
		_, err = h.Local.PutBay(t.Context(), "bay1", bay)
		require.NoError(t, err)
		h.Push(mainsTest)

		look := findings(t, h, api.StartRun{Bay: "bay1", Procedure: "mains-test", Serial: "TN-1"})
		assert.Empty(t, look)
		run := h.Start("bay1", "mains-test", "TN-1")
		h.Until(func(e client.Event) bool {
			bay, err := h.Local.Bay(t.Context(), "bay1")
			require.NoError(t, err)
			return bay.Progress != nil && bay.Progress.Name == "stay"
		})
		live, err := h.Local.Bay(t.Context(), "bay1")
		require.NoError(t, err)
		i := slices.IndexFunc(live.Seats, func(s api.Seat) bool { return s.Name == "meter3" })
		assert.Equal(t, "ac", live.Seats[i].Measures, "as the procedure asks")
		for column, want := range map[string]float64{
			"volts":    230, // the mean of the phases, which the instrument does not give
			"watts":    600, // and their sum
			"amps.2":   1.1, // in amps: the unit of a quantity is that of its phases
			"volts.dc": 0.4} {
			shown := live.Readings["meter3."+column]
			if assert.NotNil(t, shown, column) {
				assert.InDelta(t, want, *shown, 1e-9, column)
			}
		}
		distorted.Store(true)
		doc := h.Ended(run)
		assert.Equal(t, "aborted", doc.State)
		assert.Contains(t, doc.Reason, "too much third harmonic")
		assert.Equal(t, []string{"meter3.volts", "meter3.volts.ac", "meter3.volts.dc", "meter3.volts.1", "meter3.volts.2",
			"meter3.volts.3", "meter3.amps", "meter3.amps.1", "meter3.amps.1.h1", "meter3.amps.1.h2", "meter3.amps.1.h3",
			"meter3.amps.1.h4", "meter3.amps.1.h5", "meter3.amps.2", "meter3.amps.3", "meter3.watts", "meter3.watts.1",
			"meter3.watts.2", "meter3.watts.3", "meter3.charge", "meter3.energy"}, columnsOfSeat(doc.Columns, "meter3"),
			"phase by phase, each with its spectrum")
		require.Len(t, doc.Figures, 3)
		third, power, speed := doc.Figures[0], doc.Figures[1], doc.Figures[2]
		assert.Equal(t, "r/min", speed.Unit, "as it was asked for")
		assert.InDelta(t, 1387.2, speed.Value, 1e-6, "of 23.12 r/s")
		assert.InDelta(t, 1500, *speed.Max, 1e-6)
		assert.Equal(t, "pass", string(speed.Outcome))
		assert.InDelta(t, 228.7, third.Value, 1e-9)
		assert.InDelta(t, 600, power.Value, 1e-9)
		// The specification of volts holds for each phase: 0.1 % of 228.7 V as its gain and 0.1 V as its offset, each evenly
		// spread by itself, so that 5 % of a trapezoid lie outside. The three powers that we add up may all be off by 2 W
		// the same way
		assert.InDelta(t, 0.2287+0.1-math.Sqrt(0.2*0.2287*0.1), third.U, 0.01)
		assert.InDelta(t, 0.95*6, power.U, 0.1)

		var out bytes.Buffer
		require.NoError(t, h.Local.Export(t.Context(), doc.ID, "csv", client.Range{}, &out))
		rows, err := csv.NewReader(&out).ReadAll()
		require.NoError(t, err)
		assert.Subset(t, rows[0], []string{"meter3.volts.2 (V)", "meter3.amps.1.h3 (A)", "unit.percent (%)"})
		window, err := h.Local.Window(t.Context(), doc.ID, []string{"meter3.amps.1.h3"}, client.Range{}, 10)
		require.NoError(t, err)
		require.Len(t, window.Traces, 1)
	})
}

func columnsOfSeat(columns []api.Column, seat string) (of []string) {
	for _, c := range columns {
		if strings.HasPrefix(c.Name, seat+".") {
			of = append(of, c.Name)
		}
	}
	return of
}
