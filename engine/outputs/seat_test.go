package outputs

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/instrument"
	"usherbench/instrument/dialect"
)

// analyser is an instrument of three phases that gives neither their sums nor their means.
func analyser(t *testing.T) *instrument.Instrument {
	text := `dialect: three
identity: "^Nobody,P3,"
seats: [meter]
read:
  - {message: "PHASES?", gives: [volts.1 to 3, watts.1 to 3, hertz]}
  - {message: "SPECTRUM?", gives: [volts.1.h1 to h3]}
ranges:
  read:
    volts: [{to: 300 V, reading: 0.1 %, offset: 0.1 V}]
    watts: [{to: 1 kW, reading: 0.2 %, offset: 2 W}]
    volts.1.h3: [{to: 10 V, offset: 10 mV}]
`
	d, err := dialect.Library{}.Read(dialect.Source{File: "three.yaml", Text: text})
	require.NoError(t, err)
	return &instrument.Instrument{Name: "three", Dialect: d}
}

func seatOf(t *testing.T, c api.SeatConfig) *Seat {
	c.Instrument = "three"
	return newSeat("meter", c, map[string]*instrument.Instrument{"three": analyser(t)})
}

// What an instrument leaves to us is a reading like any other: volts are the mean of the phases, watts their sum.
func TestAWholeIsMadeOfItsPhases(t *testing.T) {
	x := seatOf(t, api.SeatConfig{})
	assert.Equal(t, []string{"volts.1", "volts.2", "volts.3", "watts.1", "watts.2", "watts.3", "hertz", "volts.1.h1",
		"volts.1.h2", "volts.1.h3", "volts", "watts"}, x.Gives, "no amps: nobody reads them")
	m := x.First()
	m.reading.values = []float64{230, 231, 235, 100, 120, -20, 50, 230, 0, 4}
	m.reading.lastGood = time.Now()
	for q, want := range map[string]float64{"volts": 232, "watts": 200, "volts.2": 231, "hertz": 50, "volts.1.h3": 4} {
		got, ok := m.Newest(q, time.Hour)
		assert.True(t, ok, q)
		assert.InDelta(t, want, got, 1e-12, q)
	}
	for _, q := range []string{"amps", "volts.ac", "volts.2.h1", "hertz.1", "charge"} {
		_, ok := m.Newest(q, time.Hour)
		assert.False(t, ok, q)
	}
	m.reading.lastGood = time.Now().Add(-time.Hour)
	_, ok := m.Newest("volts", time.Minute)
	assert.False(t, ok, "what is old is not what it reads")
}

// A part is as accurate as its quantity, if the instrument states nothing for it alone; a sum of ours has the offsets
// of all phases, a mean those of one.
func TestAPartHasTheAccuracyOfItsQuantity(t *testing.T) {
	x := seatOf(t, api.SeatConfig{})
	for q, want := range map[string]struct{ to, reading, offset float64 }{
		"volts.2": {300, 0.001, 0.1}, "volts.1.h2": {300, 0.001, 0.1}, "volts.1.h3": {10, 0, 0.01},
		"volts": {300, 0.001, 0.1}, "watts.1": {1000, 0.002, 2}, "watts": {3000, 0.002, 6},
	} {
		spec := x.ReadSpec(q)
		if assert.Len(t, spec, 1, q) {
			assert.InDelta(t, want.to, spec[0].To, 1e-9, q)
			assert.InDelta(t, want.reading, spec[0].Reading, 1e-12, q)
			assert.InDelta(t, want.offset, spec[0].Offset, 1e-12, q)
		}
	}
	assert.Empty(t, x.ReadSpec("hertz"), "nothing is stated")
}

// A sensor stands for a quantity of its own, and scales ranges and offsets with its readings.
func TestASensorHasTheAccuracyOfWhatItIsMadeFrom(t *testing.T) {
	x := seatOf(t, api.SeatConfig{Sensors: map[string]api.SensorConfig{"celsius": {From: "volts.1", Scale: 20},
		"watts": {Scale: 0.5}}})
	assert.Contains(t, x.Gives, "celsius")
	spec := x.ReadSpec("celsius")
	require.Len(t, spec, 1)
	assert.InDelta(t, 20*0.1, spec[0].Offset, 1e-12)
	assert.InDelta(t, 20*300, spec[0].To, 1e-9)
	assert.InDelta(t, 0.001, spec[0].Reading, 1e-12, "a gain stays what it is")
	assert.InDelta(t, 0.5*6, x.ReadSpec("watts")[0].Offset, 1e-12)
}

// A meter has no output: nothing on it is switched, and it is never energised.
func TestAMeterIsNeverEnergised(t *testing.T) {
	x := seatOf(t, api.SeatConfig{})
	b := newBench(t, []string{"source"})
	x.First().drive = &fake{bench: b, name: "meter"}
	require.NoError(t, x.switchOff(t.Context()))
	assert.Empty(t, b.took())
	assert.False(t, x.Energised())
	assert.Equal(t, "channel 1 of three", x.Channels())
	assert.Greater(t, x.Within(), 200*time.Millisecond)
	_, ok := x.Most("volts")
	assert.False(t, ok, "nothing of it can be set")
}
