package kinds_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/kinds"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
)

// leadsOff takes the cycler's leads off, in the lab of these tests.
const leadsOff = "  - set: {source: {output: on}}\n"

// A charge and a discharge through which nothing flows end the run, after the time that is stated.
func TestNoCurrentEndsAChargeAndADischarge(t *testing.T) {
	for text, after := range map[string]float64{
		"discharge: {amps: 2 C, cutoff: 3.2 V}":                                30,
		"discharge: {amps: 2 C, cutoff: 3.2 V, current within: 5 s}":           5,
		"charge: {amps: 2 A, volts: 4 V, time: 30 min}":                        30,
		"charge: {amps: 2 A, volts: 3.5 V, time: 30 min}":                      30, // open leads show the volts of the charge
		"charge: {amps: 2 A, volts: 4 V, taper: 20 mA, current within: 1 min}": 60,
	} {
		t.Run(text, func(t *testing.T) {
			o := drive(t, parsed(t, leadsOff+"  - "+text+"\n"), nil, nil)
			require.Equal(t, stage.Aborted, o.end.Ending)
			assert.Contains(t, o.end.Reason, "no current flows: 0 A for ")
			assert.InDelta(t, after, o.end.T, 0.1)
			assert.Len(t, o.labels(record.MarkGuard), 1)
		})
	}
}

// Where the current has flown a charge may come to its end without any, and go on for as long as it says.
func TestAChargeMayHoldAFullBattery(t *testing.T) {
	o := drive(t, parsed(t, "  - charge: {amps: 2 A, volts: 3.6 V, time: 5 min}\n"), nil, nil)
	assert.Equal(t, stage.Done, o.end.Ending, o.end.Reason)
	assert.Equal(t, []string{"charge ended by time"}, o.labels(record.MarkCondition))
}

// A discharge tells a cycler the volts below which it lets none go by itself: below its cutoff, above what harms.
func TestADischargeSetsTheFloor(t *testing.T) {
	for text, floor := range map[string]float64{
		"discharge: {amps: 2 C, cutoff: 3.2 V}": 3.04,
		"discharge: {amps: 2 C, time: 10 s}":    2.945, // the cutoff of the nameplate
		"discharge: {amps: 4 A, step down: {}}": 2.945,
		"discharge: {amps: 2 C, cutoff: 3.9 V}": 3.705,
	} {
		p := parsed(t, "  - "+text+"\n")
		set := p.Stages[0].Action.(*kinds.Drive).Settings
		assert.InDelta(t, floor, procedure.ValueOf(set, "floor"), 1e-9, text)
		assert.Equal(t, "on", set[len(set)-1].Word)
	}
}

// A charge that nobody watched for a while is given no more time for that than for an instrument that is silent: it
// flowed meanwhile.
func TestWhatNobodySawProlongsNoCharge(t *testing.T) {
	p := parsed(t, "  - charge: {amps: 2 A, volts: 4 V, time: 10 h}\n    until: \"cycler.volts > 5 V\"\n"+
		"    within: 60 s\n")
	ended := func(from, to float64) (end stage.Finish) {
		m, err := stage.New(p)
		require.NoError(t, err)
		m.Start()
		values := make([]float64, len(p.Columns))
		for i, column := range p.Columns {
			values[i] = map[string]float64{"cycler.volts": 3.5, "cycler.amps": 2}[column]
		}
		m.Advance(stage.Applied{T: 0.01})
		for now := 0.02; now < 400 && !m.Finished(); now += 0.02 {
			if now > from && now < to {
				continue // nobody looks
			}
			for _, e := range m.Advance(stage.Frame{Frame: trace.Frame{T: now, Values: values}}) {
				if f, ok := e.(stage.Finish); ok {
					end = f
				}
			}
		}
		return end
	}
	assert.InDelta(t, 60, ended(1e9, 0).T, 0.2)
	assert.InDelta(t, 60+p.LostAfter, ended(20, 50).T, 0.2, "half a minute unseen")
	assert.InDelta(t, 300, ended(20, 300).T, 0.2, "at the first look")
}
