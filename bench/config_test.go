package bench

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/instrument/dialect"
)

func benchConfig() Config {
	return Config{
		Instruments: map[string]api.InstrumentConfig{"psu": {Address: "tcp://x:5025", Dialect: "sim-supply"},
			"eload": {Address: "tcp://y:5025", Dialect: "sim-load"}},
		Bays: map[string]api.BayConfig{"bay1": {Seats: map[string]api.SeatConfig{"source": {Instrument: "psu"},
			"load": {Instrument: "eload"}}}},
	}
}

func TestAConfigurationIsCompleted(t *testing.T) {
	dialects, err := dialect.Load("")
	require.NoError(t, err)
	c := benchConfig()
	require.NoError(t, c.complete(dialects))
	assert.Equal(t, 1.0, c.TimeFactor)
	assert.EqualValues(t, 20*time.Millisecond, c.Bays["bay1"].Interval)
	assert.EqualValues(t, 2*time.Second, c.Bays["bay1"].LostAfter)
	assert.Equal(t, 1, c.Bays["bay1"].Seats["source"].Channel)
	empty := Config{}
	assert.NoError(t, empty.complete(dialects), "a bench may be empty")
}

func TestEveryMistakeOfAConfigurationIsNamed(t *testing.T) {
	dialects, err := dialect.Load("")
	require.NoError(t, err)
	for want, change := range map[string]func(*Config){
		"time_factor: 9999 is not between": func(c *Config) { c.TimeFactor = 9999 },
		`"Big PSU" is not a name`:          func(c *Config) { c.Instruments["Big PSU"] = c.Instruments["psu"] },
		"calibrated: \"last spring\" is not a date": func(c *Config) {
			i := c.Instruments["psu"]
			i.Calibrated = "last spring"
			c.Instruments["psu"] = i
		},
		"it has no seats": func(c *Config) { c.Bays["bay2"] = api.BayConfig{} },
		`bays.bay1.seats.sauce: unknown seat`: func(c *Config) {
			c.Bays["bay1"].Seats["sauce"] = api.SeatConfig{Instrument: "psu", Channel: 2}
		},
		"psu has no channel 3": func(c *Config) {
			c.Bays["bay1"].Seats["source"] = api.SeatConfig{Instrument: "psu", Channel: 3}
		},
		"eload cannot fill it": func(c *Config) {
			c.Bays["bay1"].Seats["source2"] = api.SeatConfig{Instrument: "eload"}
		},
		"is not an HTTP address": func(c *Config) {
			b := c.Bays["bay1"]
			b.Handler = "over there"
			c.Bays["bay1"] = b
		},
		"interval must be at least 1ms": func(c *Config) {
			b := c.Bays["bay1"]
			b.Interval = api.Span(time.Microsecond)
			c.Bays["bay1"] = b
		},
		"this is not a name": func(c *Config) {
			c.Bays["Bay One"] = api.BayConfig{Seats: map[string]api.SeatConfig{"source": {Instrument: "psu", Channel: 2}}}
		},
	} {
		c := benchConfig()
		change(&c)
		assert.ErrorContains(t, c.complete(dialects), want)
	}
	c := Config{Instruments: map[string]api.InstrumentConfig{"a": {Address: "x"}, "b": {Address: "y"}}}
	err = c.complete(dialects)
	assert.ErrorContains(t, err, "instruments.a")
	assert.ErrorContains(t, err, "instruments.b", "all mistakes at once")
}
