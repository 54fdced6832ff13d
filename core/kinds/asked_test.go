package kinds_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
)

// A procedure that is used asks the unit in columns of the whole, which need not be listed again.
func TestAProcedureThatIsUsedAsksInColumnsOfTheWhole(t *testing.T) {
	const busy = `procedure: busy
for: any
needs: {source: {}}
asked: [unit.percent]
stages:
  - {asks: {unit.percent: [ramp from 0 % to 50 % in 10 s]}, hold: {for: 20 s}}
`
	whole := func(asked string) []byte {
		return []byte("procedure: whole\nfor: any\nneeds: {source: {}}\n" + asked + "stages:\n  - use: busy\n")
	}
	for _, asked := range []string{"", "asked: [unit.percent]\n", "asked: [unit.hertz]\n"} {
		p, err := catalogue.Parse(whole(asked), nil, nil, func(string) (string, error) { return busy, nil })
		require.NoError(t, err, asked)
		assert.Contains(t, p.Asked, "unit.percent")
		assert.GreaterOrEqual(t, p.Columns.Index("unit.percent"), 0)
		require.Len(t, p.Stages[0].Asks, 1)
		assert.InDelta(t, 0.25, p.Stages[0].Asks[0].Shape.At(5), 1e-9)
		for k, column := range p.Columns {
			assert.Equal(t, k, p.Columns.Index(column), "each is there once")
		}
	}
	hold := "hold: {for: 1 s}}]"
	looped := "asked: [unit.percent]\nstages: [{asks: {unit.percent: 3 %}, repeat: {times: 2}, stages: [{" + hold + "}]"
	for text, why := range map[string]string{
		"asked: [percent]\nstages: [{" + hold:                                 "named like a seat's",
		"asked: [source.volts]\nstages: [{" + hold:                            "read or counted already",
		"stages: [{asks: {unit.percent: 3 %}, " + hold:                        "no column of what is asked",
		"asked: [unit.percent]\nstages: [{asks: {unit.percent: 3 V}, " + hold: "volts",
		looped: "belongs",
	} {
		_, err := catalogue.Parse([]byte("procedure: t\nfor: any\nneeds: {source: {}}\n"+text), nil, nil, nil)
		assert.ErrorContains(t, err, why, text)
	}
}
