package kinds_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/kinds"
)

func TestATriggerIsWaitedForWithinWhatTheStageSays(t *testing.T) {
	for within, want := range map[string]float64{"": 5, "    within: 2 min\n": 120} {
		p, err := catalogue.Parse([]byte(fmt.Sprintf(`
procedure: test
for: any
needs: {source: {volts: 60 V}, scope: {}}
stages:
  - capture: {channels: {output: {range: 1 V}}, span: 1 ms, trigger: {channel: output, level: 0.5 V}}
%s`, within)), nil, nil, nil)
		require.NoError(t, err)
		assert.Equal(t, want, p.Stages[0].Action.(*kinds.Capture).Setup().Within)
	}
}

// A level in dBV is the volts it stands for, wherever volts are set, bounded or asked for.
func TestAGeneratorTakesALevel(t *testing.T) {
	document := func(drive string) []byte {
		return []byte(`
procedure: test
for: any
needs: {generator: {volts: 0 dBV}, load: {}, analyser: {}}
parameters: {drive: {value: -6.0206 dBV, max: 0 dBV}}
stages:
  - set: {generator: {volts: ` + drive + `, hertz: 1 kHz}}
`)
	}
	for drive, want := range map[string]float64{"-20 dBV": 0.1, "drive": 0.5, "100 mV": 0.1} {
		p, err := catalogue.Parse(document(drive), nil, nil, nil)
		require.NoError(t, err)
		assert.InDelta(t, want, p.Stages[0].Action.(*kinds.Set).Commands()[0].Value, 1e-5, drive)
	}
	p, err := catalogue.Parse(document("drive"), nil, map[string]string{"drive": "0.25 V"}, nil)
	require.NoError(t, err)
	assert.InDelta(t, 0.25, p.Stages[0].Action.(*kinds.Set).Commands()[0].Value, 1e-9)
	_, err = catalogue.Parse(document("-20 dB"), nil, nil, nil)
	assert.ErrorContains(t, err, "volts")
}

// What a capture must be to count is a figure of that capture.
func TestACaptureCountsByAFigureOfIt(t *testing.T) {
	document := func(valid string) []byte {
		return []byte(`
procedure: test
for: any
needs: {load: {}, analyser: {}}
stages:
  - {name: one, capture: {seat: analyser, channels: {output: {range: 1 V}}, span: 1 s}}
  - name: two
    capture: {seat: analyser, channels: {output: {range: 1 V}}, span: 1 s, valid: ` + valid + `}
    tries: 3
`)
	}
	p, err := catalogue.Parse(document("[{figure: output-noise, max: 1 mV}]"), nil, nil, nil)
	require.NoError(t, err)
	c := p.Stages[1].Action.(*kinds.Capture)
	require.Len(t, c.Valid, 1)
	assert.Equal(t, "two", c.Valid[0].Figure.Stage)
	assert.Equal(t, "output", c.Valid[0].Figure.Channel)
	assert.InDelta(t, 1e-3, c.Valid[0].Max, 1e-12)
	for valid, why := range map[string]string{
		"[{figure: output-noise, stage: one, max: 1 mV}]":  "no figure of this stage alone",
		"[{figure: mean, quantity: load.amps, max: 1 A}]":  "no figure of this stage alone",
		"[{figure: output-noise}]":                         "depends on nothing",
		"[{figure: output-noise, channel: input, max: 1}]": "channel of the capture",
	} {
		_, err := catalogue.Parse(document(valid), nil, nil, nil)
		assert.ErrorContains(t, err, why, valid)
	}
}
