package simbench

import (
	"math"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/simbench/plant"
)

// Each case is one program message to a fresh supply and its answer.
func TestTheSupplyUnderstandsTheStandardsForms(t *testing.T) {
	for message, want := range map[string]string{
		"*IDN?":         "Usher Bench,SIM-S2,S2-1,1.0",
		"VOLT 12;VOLT?": "12.0000",
		"SOURCE:VOLTAGE:LEVEL:IMMEDIATE 12;:VOLT?": "12.0000",
		"sour:volt:lev 12;:source:voltage?":        "12.0000",
		"VOLT 12,(@2);VOLT? (@2);VOLT?":            "12.0000;0.0000",
		"CURR 1.5;:VOLT 3;:CURR?;VOLT?":            "1.5000;3.0000",
		"OUTP ON;OUTP?":                            "1",
		"OUTPUT:STATE 1;:OUTP?;OUTP:LIM?":          "1;0",
		"OUTP:STAT OFF;LIM?":                       "0",
		"MEAS:VOLT?;CURR?":                         "0.0000000000000000e+00;0.0000000000000000e+00",
		"MEAS:SCAL:VOLT:DC?;:MEAS:CURR?":           "0.0000000000000000e+00;0.0000000000000000e+00",
		"*OPC?;*STB?;*ESR?;*TST?":                  "1;0;0;0",
		"*WAI;SYST:ERR?":                           `0,"No error"`,
		"VOLT 500;SYST:ERR?;ERR?":                  `-222,"Data out of range";0,"No error"`,
		"VOLT -1;:SYSTEM:ERROR?":                   `-222,"Data out of range"`,
		"VOLT;:SYST:ERR?":                          `-109,"Missing parameter"`,
		"VOLT high;:SYST:ERR?":                     `-224,"Illegal parameter value"`,
		"OUTP MAYBE;:SYST:ERR?":                    `-224,"Illegal parameter value"`,
		"HUE 3;:SYST:ERR?":                         `-113,"Undefined header"`,
		"*HUE;SYST:ERR?":                           `-113,"Undefined header"`,
		"VOLTA 3;:SYST:ERR?":                       `-113,"Undefined header"`,
		"VOLT 1,(@x);:SYST:ERR?":                   `-102,"Syntax error"`,
		"VOLT 1,(@3);:SYST:ERR?":                   `-222,"Data out of range"`,
		"HUE;*ESR?;*STB?":                          "48;4",
		"HUE;*CLS;SYST:ERR?":                       `0,"No error"`,
		"VOLT 5;OUTP ON;*RST;VOLT?;:OUTP?":         "0.0000;0",
		"":                                         "",
		";;":                                       "",
	} {
		assert.Equal(t, want, newSupply("S2-1", true).execute(message), message)
	}
}

func TestTheLoadUnderstandsItsModes(t *testing.T) {
	l := newLoad("L1-1", true)
	for _, mode := range []string{"CURR", "VOLT", "POW", "RES"} {
		assert.Equal(t, mode, l.execute("FUNC "+mode+";FUNC?"))
	}
	assert.Equal(t, "2.5000;60.0000;7.5000;14.0000", l.execute("CURR 2.5;POW 60;RES 7.5;VOLT 14;CURR?;POW?;RES?;VOLT?"))
	assert.Equal(t, `-224,"Illegal parameter value"`, l.execute("FUNC DREAM;:SYST:ERR?"))
	assert.Equal(t, `-222,"Data out of range"`, l.execute("CURR 31;:SYST:ERR?"))
	assert.Equal(t, "1", l.execute("INP ON;INP?"))
	assert.Equal(t, "0", l.execute("*RST;INP?"))
}

func TestTheErrorQueueOverflowsAsTheStandardSays(t *testing.T) {
	s := newSupply("S2-1", true)
	s.execute(strings.Repeat("HUE;", 30))
	var last string
	for range longestQueue {
		last = s.execute("SYST:ERR?")
	}
	assert.Equal(t, `-350,"Queue overflow"`, last)
	assert.Equal(t, `0,"No error"`, s.execute("SYST:ERR?"))
}

func TestInstrumentErrorsStayInsideWhatTheDialectsPromise(t *testing.T) {
	worst := map[string]float64{}
	for serial := range 300 {
		errors := newErrorSource("S-"+strconv.Itoa(serial), false)
		for name, c := range map[string]struct {
			model channelModel
			at    float64
		}{"supply volts": {supplyVolts, 48}, "supply amps": {supplyAmps, 2.6}, "load volts": {loadVolts, 15},
			"load amps": {loadAmps, 8}, "standby amps": {standbyAmps, 0.017},
			"cycler volts": {cyclerVolts, 26}, "cycler amps": {cyclerAmps, 5}, "register volts": {registerVolts, 15},
			"register amps": {registerAmps, 8}, "multimeter": {meterVolts, 26}} {
			d := errors.draw(c.model)
			var mean float64
			const n = 50
			for range n {
				mean += d.read(c.at) / n
			}
			bound := c.model.gain*c.at + c.model.offset
			share := math.Abs(mean-c.at) / bound
			worst[name] = max(worst[name], share)
		}
	}
	for name, share := range worst {
		assert.Less(t, share, 1.15, "%s: beyond its bound by more than noise and rounding", name)
		assert.Greater(t, share, 0.6, "%s: the bound is not used, so tests against it would be idle", name)
	}
}

func TestReadingsHaveTheDigitsOfTheirResolution(t *testing.T) {
	d := newErrorSource("x", false).draw(loadVolts)
	text := d.show(d.read(15.00123456))
	_, decimals, ok := strings.Cut(text, ".")
	require.True(t, ok)
	assert.Len(t, decimals, 4)
	exact := newErrorSource("x", true).draw(loadVolts)
	back, err := strconv.ParseFloat(exact.show(exact.read(15.00123456)), 64)
	require.NoError(t, err)
	assert.Equal(t, 15.00123456, back, "an ideal bench loses no digit")
}

func TestTheBenchKeepsItsOwnRecord(t *testing.T) {
	b, err := Start(Options{Bays: 2, SharedSupply: true, Ideal: true, Faulty: map[string]string{"TN-9": "dead"}})
	require.NoError(t, err)
	defer b.Close()
	assert.Len(t, b.Instruments(), 3, "one supply for both bays")
	require.NoError(t, b.Clip("bay2", "TN-9", ""))
	state, err := b.State("bay2")
	require.NoError(t, err)
	assert.Equal(t, "dead", state.Fault, "a unit that is known to be faulty brings its fault along")
	assert.ErrorContains(t, b.Clip("bay9", "x", ""), `no bay "bay9"`)
	assert.ErrorContains(t, b.SetFault("load9", Drop), `no instrument "load9"`)
	assert.ErrorContains(t, b.SetFault("load1", "melt"), "known: drop, hang, slow")

	f, err := b.fixture("bay1")
	require.NoError(t, err)
	f.feeds[0].set(plant.Source{On: true, Volts: 48, Amps: 5})
	f.drains[0].set(plant.Load{On: true, Mode: plant.ConstantCurrent, Level: 4})
	state, err = b.State("bay1")
	require.NoError(t, err)
	assert.True(t, state.SourceOn && state.LoadOn)
	assert.Equal(t, []string{"source", "load"}, []string{state.History[0].What, state.History[1].What})
	truth, err := b.Truth("bay1", 48, 4)
	require.NoError(t, err)
	assert.InDelta(t, 15, truth.Output.Volts, 0.1)
	assert.Equal(t, 4.0, truth.Output.Amps)
}

func TestProtectionsProgramsAndTheWatchdogOfTheSupply(t *testing.T) {
	s := newSupply("S2-1", true)
	assert.Equal(t, "0;1", s.execute("VOLT:PROT 20;:OUTP ON;:VOLT 24;:OUTP?;OUTP:PROT:TRIP?"), "an over-voltage latches")
	assert.Equal(t, "0", s.execute("VOLT 5;:OUTP ON;OUTP?"), "until it is cleared")
	assert.Equal(t, "1", s.execute("OUTP:PROT:CLE;:OUTP ON;OUTP?"))
	assert.Equal(t, "REM;LOC", s.execute("SENS REM;SENS?;:SENS LOC;SENS?"))
	assert.Equal(t, "3", s.execute("LIST:VOLT 1,2,3;VOLT?"))
	assert.Equal(t, "1", s.execute(":LIST:DWEL 0.002,0.002,0.002;RUN;RUN?"))
	require.Eventually(t, func() bool { return s.execute("LIST:RUN?") == "0" }, 5e9, 1e6)
	assert.Equal(t, "3.0000", s.execute("VOLT?"), "it ends at the last level")
	assert.Equal(t, "0.050", s.execute("SYST:WATC 0.05;WATC?"))
	require.Eventually(t, func() bool { return s.execute("OUTP?") == "0" }, 5e9, 1e6, "nobody fed the watchdog")
}

func TestTheLoadLocksOutAndTrips(t *testing.T) {
	f := &fixture{standard: "tern", clock: clock{time.Now(), 1}}
	require.NoError(t, f.clip("", "TN-1", plant.Healthy))
	l := newLoad("L1-1", true)
	l.drain = f.newDrain()
	f.newFeed().set(plant.Source{On: true, Volts: 48, Amps: 8})
	l.execute("CURR 4;:INP ON")
	require.Eventually(t, func() bool {
		return strings.HasPrefix(l.execute("MEAS:VOLT?"), "1.49") || strings.HasPrefix(l.execute("MEAS:VOLT?"), "1.50")
	}, 5e9, 1e6)
	l.execute("VOLT:LOCK 20")
	assert.True(t, strings.HasPrefix(l.execute("MEAS:CURR?"), "0.0"), "below its lockout it takes nothing")
	assert.Equal(t, "1;0",
		strings.Join(strings.Split(l.execute("VOLT:LOCK 0;:POW:PROT 30;:MEAS:CURR?;:INP:PROT:TRIP?;:INP?"), ";")[1:], ";"),
		"too much power trips it")
}

func TestEveryFaultIsRefusedWhereItMakesNoSense(t *testing.T) {
	b, err := Start(Options{Layouts: []Layout{BatteryPack, SerialLoad, Metered}})
	require.NoError(t, err)
	defer b.Close()
	for _, i := range b.Instruments() {
		for _, name := range FaultNames() {
			err := b.SetFault(i.Name, InstrumentFault(name))
			if slices.Contains(i.Faults(), InstrumentFault(name)) {
				assert.NoError(t, err, "%s %s", i.Name, name)
			} else {
				assert.ErrorContains(t, err, "is not a fault of this kind", "%s %s", i.Name, name)
			}
		}
		require.NoError(t, b.SetFault(i.Name, NoFault))
	}
}
