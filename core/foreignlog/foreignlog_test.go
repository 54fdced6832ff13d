package foreignlog

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rows repeats a row with its time, so that a log is long enough.
func rows(head string, row func(k int) string) string {
	var b strings.Builder
	b.WriteString(head + "\n")
	for k := range 12 {
		b.WriteString(row(k) + "\n")
	}
	return b.String()
}

func TestLogsOfManyForms(t *testing.T) {
	for _, c := range []struct {
		name, text                string
		volts, amps, second, last float64
	}{
		{"plain", rows("Time (s),Voltage (V),Current (A)",
			func(k int) string { return []string{"0,12.5,-1", "10,12.4,-1"}[min(k, 1)] + strings.Repeat("", k) }), 12.5, -1, 10,
			10},
		{"commas and semicolons, in minutes and milliamperes", rows("Zeit [min];Spannung [mV];Strom [mA]",
			func(k int) string {
				return strings.ReplaceAll(strings.Join([]string{decimal(k), "12500,5", "-250,0"}, ";"), ".", ",")
			}), 12.5005, -0.25, 60, 660},
		{"clock that passes midnight, tabs, words above", "Logger 2\nsite\tpier\n" + rows("Clock\tU [V]\tI [A]\tTemp",
			func(k int) string {
				return []string{"23:59:5" + string(rune('0'+k)), "00:00:0" + string(rune('0'+max(k-10, 0)))}[btoi(k >= 10)] +
					"\t3.7\t0.5\t23"
			}), 3.7, 0.5, 1, 11},
		{"units as last words", rows("time_ms,pack_voltage_mV,current_mA",
			func(k int) string { return two(k) + "00,12500,-250" }), 12.5, -0.25, 0.1, 1.1},
		{"units in a line of their own", rows("Time;Voltage;Current\nmin;mV;mA",
			func(k int) string { return decimal(k) + ";12500;-250" }), 12.5, -0.25, 60, 660},
		{"strokes", rows("Test Time / s,Current / mA,Voltage / V", func(k int) string { return decimal(k) + ",-250,12.5" }),
			12.5, -0.25, 1, 11},
		{"dates", rows("timestamp,volts,amps", func(k int) string { return "2026-03-31 12:00:" + two(k) + ",4.1,1" }), 4.1, 1,
			1, 11},
	} {
		t.Run(c.name, func(t *testing.T) {
			first, err := Look(c.text, 0)
			require.NoError(t, err)
			log, err := Read(strings.NewReader(c.text), first.Mapping)
			if c.name == "plain" { // its times do not go on
				require.ErrorContains(t, err, "the log has 2 rows")
				return
			}
			require.NoError(t, err)
			assert.InDelta(t, c.volts, log.Volts[0], 1e-9)
			assert.InDelta(t, c.amps, log.Amps[0], 1e-9)
			assert.InDelta(t, c.second, log.T[1], 1e-9)
			assert.InDelta(t, c.last, log.T[len(log.T)-1], 1e-9)
		})
	}
}

func decimal(k int) string { return two(k) + ".0" }
func two(k int) string     { return string([]byte{byte('0' + k/10), byte('0' + k%10)}) }
func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

func TestMistakesOfALogAreNamedWithTheirLine(t *testing.T) {
	m := Mapping{Time: Column{"t", "s"}, Volts: Column{"u", "V"}, Amps: Column{"i", "A"}}
	good := rows("t,u,i", func(k int) string { return two(k) + ",1,2" })
	for text, words := range map[string]string{
		strings.Replace(good, "05,1,2", "05,x,2", 1): `line 7: "x" is not a number of volts`,
		strings.Replace(good, "05,1,2", "03,1,2", 1): "line 7: the time goes back",
		"t,u\n1,2\n": `no column is called "i"`,
		"":           "there is no header",
	} {
		_, err := Read(strings.NewReader(text), m)
		assert.ErrorContains(t, err, words)
	}
	m.Volts.Unit = "A"
	_, err := Read(strings.NewReader(good), m)
	assert.ErrorContains(t, err, "is no unit of volts")
	m.Volts.Unit, m.DischargePositive = "V", true
	log, err := Read(strings.NewReader(strings.Replace(good, "05,1,2", "04,1,2", 1)), m)
	require.NoError(t, err)
	assert.Equal(t, 1, log.Dropped)
	assert.InDelta(t, -2, log.Amps[0], 0)
	_, err = Look("no columns here", 0)
	assert.Error(t, err)
}

func FuzzLook(f *testing.F) {
	f.Add("Time (s);U [V];I [A]\n0;1,5;2\n1;1,4;2\n")
	f.Add("a,b,c\n12:00,1,2\n")
	f.Add("\ufeff\"t\",\"u\",\"i\"\r\n1,\"2\",3\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		first, err := Look(text, 0)
		if err != nil {
			return
		}
		log, err := Read(strings.NewReader(text), first.Mapping)
		if err != nil {
			return
		}
		for k := 1; k < len(log.T); k++ {
			if !(log.T[k] > log.T[k-1]) {
				t.Fatalf("times do not rise at %d", k)
			}
		}
	})
}

// A capture has its own time base, down to picoseconds, and is kept to a sixty-thousandth of its range.
func TestACaptureIsRead(t *testing.T) {
	text := "time [ns];volts [mV]\n"
	for k := range 50 {
		text += fmt.Sprintf("%.3f;%.3f\n", -10+0.4*float64(k), 12*math.Sin(float64(k)/5))
	}
	first, err := Look(text, 0)
	require.NoError(t, err)
	m := first.Mapping
	m.Time.Unit, m.Volts.Unit, m.Capture = "ns", "mV", true
	log, err := Read(strings.NewReader(text), m)
	require.NoError(t, err)
	waves, err := log.Waveforms("output", "current")
	require.NoError(t, err)
	require.Len(t, waves, 1)
	w := waves[0]
	assert.InDelta(t, 0.4e-9, w.Step, 1e-18)
	assert.InDelta(t, -10e-9, w.T0, 1e-18)
	for k := range 50 {
		assert.InDelta(t, 12e-3*math.Sin(float64(k)/5), w.At(k), 1e-6)
	}
	assert.False(t, w.Clipped(), "nobody knows where its range ends")

	for words, bad := range map[string]string{
		"equal steps": strings.Replace(text, "\n-9.600;", "\n-9.300;", 1),
		"no value":    strings.Replace(text, "\n-9.600;2.384", "\n-9.600;", 1),
	} {
		log, err := Read(strings.NewReader(bad), m)
		require.NoError(t, err)
		_, err = log.Waveforms("output", "current")
		assert.ErrorContains(t, err, words)
	}
	m.Capture = false
	_, err = Read(strings.NewReader(text), m)
	assert.ErrorContains(t, err, "should be the amps", "a log of a battery needs amps")
}
