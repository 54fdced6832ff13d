package foreignlog

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What strangers write, each as a whole file: the guess reads it, and the numbers are right.
func TestLogsOfStrangers(t *testing.T) {
	for name, c := range map[string]struct {
		text  string
		skip  int
		check func(t *testing.T, l *Log)
	}{
		"the header is repeated": {rows("t [s],u [V],i [A]", func(k int) string {
			if k == 5 {
				return "t [s],u [V],i [A]"
			}
			return two(k) + ",12.5,-1"
		}), 0, func(t *testing.T, l *Log) { assert.Equal(t, 1, l.Heads) }},
		"two columns are called alike": {rows("Time,Voltage,Current,Current", func(k int) string {
			return two(k) + ",12.5,-1,7"
		}), 0, func(t *testing.T, l *Log) { assert.Equal(t, -1.0, l.Amps[0]) }},
		"thousands with commas": {rows("t;u [mV];i [mA]",
			func(k int) string { return two(k) + ";12,500.5;-1,000.0" }), 0, nil},
		"thousands with points": {rows("t;u [mV];i [mA]",
			func(k int) string { return two(k) + ";12.500,5;-1.000,0" }), 0, nil},
		"thousands with spaces": {rows("t;u [mV];i [mA]",
			func(k int) string { return two(k) + ";12 500,5;-1 000,0" }), 0, nil},
		"date and time apart": {rows("Date,Time,Voltage,Current", func(k int) string {
			return fmt.Sprintf("%02d.03.2026,23:59:%02d,12.5,-1", 30+k/6, 54+k%6) // six seconds of each evening
		}), 0, func(t *testing.T, l *Log) {
			assert.Equal(t, 86400.0, l.T[6])
			assert.Equal(t, "2026-03-30 23:59:54", l.Began.Format("2006-01-02 15:04:05"))
		}},
		"half days": {rows("Timestamp,Voltage,Current", func(k int) string {
			return fmt.Sprintf("3/30/2026 %d:00:00 %s,12.5,-1", []int{11, 12, 1}[min(k, 2)]+max(k-2, 0), []string{"AM",
				"PM"}[btoi(k > 0)])
		}), 0, func(t *testing.T, l *Log) { assert.Equal(t, 3600.0, l.T[2]-l.T[1]) }},
		"half days without a date": {rows("Clock,Voltage,Current", func(k int) string {
			return fmt.Sprintf("11:59:%02d PM,12.5,-1", 48+k)
		}), 0, nil},
		"words for an overload": {rows("t,u,i", func(k int) string {
			return two(k) + []string{",12.5,-1", ",OVLD,-1", ",OL,-1", ",----,-1"}[min(k%5, 3)]
		}), 0, func(t *testing.T, l *Log) {
			assert.True(t, math.IsNaN(l.Volts[1]))
			assert.Positive(t, l.Overloads)
		}},
		"the last line is cut off": {rows("t,u,i", func(k int) string { return two(k) + ",12.5,-1" }) + "12,12.5,-", 0,
			func(t *testing.T, l *Log) { assert.Len(t, l.T, 12+1) }},
		"the last line ends in a time": {rows("time,u,i", func(k int) string { return "12:00:" + two(k) + ",12.5,-1" }) +
			"12:", 0, func(t *testing.T, l *Log) { assert.True(t, l.CutOff); assert.Len(t, l.T, 12) }},
		"lines before the table that look like one": {"a,b,c\n1,2,3\nx,y,z\n" + rows("time,volts,amps",
			func(k int) string { return two(k) + ",12.5,-1" }), 3, nil},
		"instants of a workbook": {rows("When the time was,volts,amps", func(k int) string {
			return fmt.Sprintf("%.10f,12.5,-1", 46111.5+float64(k)/86400)
		}), 0, func(t *testing.T, l *Log) { assert.InDelta(t, 1, l.T[1], 1e-4) }},
		"units below the header": {rows("Test,Voltage,Current\n[h],[mV],[mA]", func(k int) string {
			return two(k) + ",12500,-1000"
		}), 0, func(t *testing.T, l *Log) { assert.Equal(t, 3600.0, l.T[1]) }},
	} {
		t.Run(name, func(t *testing.T) {
			first, err := Look(c.text, c.skip)
			require.NoError(t, err)
			log, err := Read(strings.NewReader(c.text), first.Mapping)
			require.NoError(t, err, "%+v", first.Mapping)
			assert.InDelta(t, 12.5, log.Volts[0], 1e-2)
			assert.InDelta(t, -1, log.Amps[0], 1e-3)
			if c.check != nil {
				c.check(t, log)
			}
		})
	}
}

// Time that goes back is a mistake until somebody says that the clock was set; then the log goes on.
func TestAClockThatWasSet(t *testing.T) {
	text := rows("time,volts,amps", func(k int) string { return fmt.Sprintf("%d,12.5,-1", 3600+10*k-btoi(k > 5)*1800) })
	first, err := Look(text, 0)
	require.NoError(t, err)
	_, err = Read(strings.NewReader(text), first.Mapping)
	require.ErrorContains(t, err, "if the clock was set there, join the parts")
	first.Mapping.Join = true
	log, err := Read(strings.NewReader(text), first.Mapping)
	require.NoError(t, err)
	assert.Equal(t, []float64{60}, log.Joined)
	assert.Equal(t, 110.0, log.T[11])
}

// A current whose sign the volts contradict is asked for.
func TestTheSignOfTheCurrentIsAskedForWhereTheVoltsContradictIt(t *testing.T) {
	log := func(amps, slope float64) *Log {
		l := &Log{}
		for k := range 100 {
			l.T, l.Volts, l.Amps = append(l.T, float64(k)), append(l.Volts, 25+slope*float64(k)), append(l.Amps, amps)
		}
		return l
	}
	assert.Contains(t, log(-2, 0.03).Doubt(), "the volts rise from 25.39 V to")
	assert.Contains(t, log(2, -0.03).Doubt(), "in charge 1: is a discharge positive")
	for _, l := range []*Log{log(-2, -0.03), log(2, 0.03), log(2, -0.001), log(0, 0.1)} {
		assert.Empty(t, l.Doubt())
	}
	gaps := (&Log{T: []float64{0, 1, 2, 9, 10, 14}}).Gaps(5, 1)
	require.Len(t, gaps, 1)
	assert.Equal(t, 2.0, gaps[0].From)
}
