package rehearsal_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/demo"
	"usherbench/rehearsal"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/port"
)

// contracts is the ready procedure of chargers, for what a unit offers; empty: what its nameplate says.
func contracts(t *testing.T, offer string) *procedure.Program {
	text, err := demo.Library("petrel-contracts")
	require.NoError(t, err)
	values := map[string]string{}
	if offer != "" {
		values[procedure.Contracts] = offer
	}
	p, err := catalogue.Parse([]byte(text), plates(t)["petrel"], values, demo.Library)
	require.NoError(t, err)
	return p
}

// Each way to fail is told from every other, contract by contract, with the levels of the unit's truth.
func TestEveryFaultOfAChargerIsTold(t *testing.T) {
	for _, c := range []struct {
		fault plant.Fault
		class record.ComebackClass
		is    outcome.Outcome
	}{{plant.Healthy, record.ByItself, outcome.Pass}, {port.Latching, record.InputCycle, outcome.Pass},
		{port.Hiccup, record.ByHiccup, outcome.Pass}, {port.Late, record.ByItself, outcome.Fail},
		{port.Drooping, record.ByItself, outcome.Fail}} {
		for _, serial := range []string{"PT-1", "PT-2", "PT-3"} {
			truth, err := port.Petrel(serial, c.fault)
			require.NoError(t, err)
			r, err := rehearsal.Run(t.Context(), contracts(t, ""), plates(t)["petrel"], rehearsal.Options{Serial: serial,
				Fault: string(c.fault)})
			require.NoError(t, err)
			require.Equal(t, stage.Done, r.Ending, r.Reason)
			assert.Equal(t, c.is, r.Outcome(), "%s %s", serial, c.fault)
			told := map[string]procedure.Judged{}
			for _, f := range r.Figures {
				told[fmt.Sprintf("%s %g", f.ID, f.At[record.ContractColumn])] = f
			}
			for i, place := range truth.Places {
				of := func(id string) procedure.Judged { return told[fmt.Sprintf("%s %d", id, i+1)] }
				assert.InDelta(t, place.Trip, of("trip-level").Value, 0.01+1e-9, "%s %s %d", serial, c.fault, i+1)
				assert.Equal(t, string(c.class), of("recovery-class").Text, "%s %s %d", serial, c.fault, i+1)
				assert.InDelta(t, truth.Resistance, of("droop-resistance").Value, 1e-6)
				if c.class == record.ByItself {
					assert.InDelta(t, truth.Delay, of("recovery-delay").Value, of("recovery-delay").U+0.1)
				}
			}
		}
	}
}

// A loop over contracts is written out for what a unit offers, and a rehearsal is of what its nameplate states.
func TestALoopOverContractsIsOfWhatIsOffered(t *testing.T) {
	agreed := func(p *procedure.Program) (n int) {
		for _, s := range p.Stages {
			if s.Kind() == "contract" {
				n++
			}
		}
		return n
	}
	assert.Equal(t, 5, agreed(contracts(t, "")))
	assert.Equal(t, 2, agreed(contracts(t, "0x0801912C 0x00000000 0x0004B12C")), "an empty place is none")
	r, err := rehearsal.Run(t.Context(), contracts(t, ""), plates(t)["petrel"], rehearsal.Options{
		Fault: string(port.Meagre)})
	require.NoError(t, err)
	assert.Equal(t, stage.Aborted, r.Ending)
	assert.Contains(t, r.Reason, "which its nameplate does not state")
	text, err := demo.Library("petrel-contracts")
	require.NoError(t, err)
	for offer, why := range map[string]string{"0x0801912C 0x000F4145": "outside the safe window",
		"five": "no source object"} {
		_, err := catalogue.Parse([]byte(text), plates(t)["petrel"], map[string]string{procedure.Contracts: offer},
			demo.Library)
		assert.ErrorContains(t, err, why, offer)
	}
	plain, err := demo.Library("eider-standby-look")
	require.NoError(t, err)
	_, err = catalogue.Parse([]byte(plain), plates(t)["eider"], map[string]string{procedure.Contracts: "0x0801912C"},
		demo.Library)
	assert.ErrorContains(t, err, "no loop over them")
	_, err = catalogue.Parse([]byte(text), plates(t)["tern"], nil, demo.Library)
	assert.ErrorContains(t, err, "states what its units offer")
}
