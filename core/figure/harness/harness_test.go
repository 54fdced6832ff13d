package harness_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/wiring"
)

// scanned is a run in which one wire was read, and a lead was watched for openings.
func scanned(ohms float64, marks ...record.Mark) *record.Record {
	s := record.Scanned{Seat: "crosspoint", Scan: wiring.Scan{Pins: []string{"A1", "B1"}, Nets: []wiring.Net{{"A1", "B1"}},
		Limits: wiring.Limits{Closed: wiring.UsualClosed, Open: wiring.UsualOpen}, Range: 1e8,
		Pairs: []wiring.Pair{{A: 0, B: 1, Ohms: ohms}}}}
	return &record.Record{Marks: append([]record.Mark{s.Mark(1)}, marks...),
		Stages: []record.Span{{Name: "wiring", T0: 0, T1: 1}, {Name: "bent", T0: 1, T1: 30}}}
}

func compute(rec *record.Record, id, stage string, args map[string]float64) figure.Result {
	return catalogue.Figures().Compute(rec, figure.Request{ID: id, Stage: stage, Args: args})
}

func TestAContactByItsWorkedExample(t *testing.T) {
	rec := scanned(46.2e-3)
	for name, args := range map[string]map[string]float64{
		"its ohms":   {"zero": 12e-3, "wire": 27.58e-3},
		"its length": {"zero": 12e-3, "length": 1.2, "area": 0.75e-6, "celsius": 20},
	} {
		r := compute(rec, "contact-resistance", "", args)
		require.Nil(t, r.Undetermined, name)
		assert.InDelta(t, 6.62e-3, r.Value, 0.005e-3, name)
	}
	warm := compute(rec, "contact-resistance", "", map[string]float64{"zero": 12e-3, "length": 1.2, "area": 0.75e-6,
		"celsius": 45})
	assert.InDelta(t, 6.62e-3-0.00393*25*27.58e-3, warm.Value, 0.01e-3, "a warm wire has more of it")
	assert.Equal(t, record.NoData, compute(rec, "contact-resistance", "",
		map[string]float64{"length": 1.2}).Undetermined.Code)
	assert.Equal(t, record.Ambiguous, compute(rec, "contact-resistance", "",
		map[string]float64{"length": 1.2, "area": 0.75e-6, "wire": 1e-3}).Undetermined.Code)
	assert.Equal(t, record.Implausible, compute(rec, "contact-resistance", "",
		map[string]float64{"wire": 1}).Undetermined.Code)
}

func TestInterruptionsAreThoseOfTheLastWatch(t *testing.T) {
	open := func(at float64) record.Mark {
		return record.Opening{From: "A1", To: "B1", At: at, Lasted: 4e-3}.Mark()
	}
	ended := record.Watched{Seconds: 10, Least: 1e-3, Count: 2}.Mark(25)
	r := compute(scanned(0.03, open(3), open(16), open(20), ended), "wiring-interruptions", "bent", nil)
	require.Nil(t, r.Undetermined)
	assert.Equal(t, 2.0, r.Value)
	require.Len(t, r.Table.Rows, 2, "what was seen before a pause counts no longer")
	assert.Equal(t, 16.0, r.Table.Rows[0][1])
	assert.Contains(t, r.Remarks, "of 1 ms or longer, in 10 s")
	assert.Equal(t, record.NoData, compute(scanned(0.03, open(16)), "wiring-interruptions", "bent", nil).Undetermined.Code,
		"a watch that was broken off says nothing")
	many := record.Watched{Seconds: 10, Least: 1e-3, Count: 5000}.Mark(25)
	r = compute(scanned(0.03, open(16), many), "wiring-interruptions", "", nil)
	assert.Equal(t, 5000.0, r.Value)
	assert.Contains(t, r.Remarks, "the first 1 are listed")
}
