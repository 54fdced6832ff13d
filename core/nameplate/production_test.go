package nameplate

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const head = "nameplate: plover\nratings: {rated_volts: 5 V}\n"

func TestHowUnitsGoThroughTheTests(t *testing.T) {
	p, err := Parse([]byte(head + `serials: {form: "PL-{count:4}{check}", others: warn}
parts:
  board: {serials: "B-{digits:5}"}
  coil: {about: who wound it, required: no}
retest: {attempts: 3, counts: first}
reseats: 1
card: {routine: [plover-quick], type: [plover-whole], optional: [plover-soak], at failure: go on}
`))
	require.NoError(t, err)
	refused, err := p.CheckSerial("PL-17")
	assert.ErrorContains(t, err, "does not look like PL-{count:4}{check}")
	assert.False(t, refused, "others are warned of")
	assert.NoError(t, p.CheckParts(map[string]string{"board": "B-00017"}))
	assert.ErrorContains(t, p.CheckParts(map[string]string{"coil": "ida"}), "which board")
	assert.ErrorContains(t, p.CheckParts(map[string]string{"board": "17"}), "board: ")
	assert.ErrorContains(t, p.CheckParts(map[string]string{"board": "B-00017", "lid": "x"}), `no part "lid"`)
	assert.Equal(t, Retest{Attempts: 3, First: true}, p.Retest)
	assert.Equal(t, 1, ReseatsOf(p))
	assert.Equal(t, []string{"plover-quick", "plover-whole", "plover-soak"}, p.Card.Procedures())
	assert.True(t, p.Card.GoOn)

	plain, err := Parse([]byte(head + "serials: PL-{digits:4}\n"))
	require.NoError(t, err)
	refused, err = plain.CheckSerial("17")
	assert.Error(t, err)
	assert.True(t, refused)
	assert.Equal(t, UsualReseats, ReseatsOf(plain))
	assert.Equal(t, UsualReseats, ReseatsOf(nil))
}

func TestWhatIsOddInProductionIsFound(t *testing.T) {
	for text, why := range map[string]string{
		"serials: PL-1":                                 "the same serial number",
		"parts: {Board: {}}":                            "not a name of a part",
		"retest: {attempts: 0}":                         "from 1 to 1000",
		"card: {routine: [plover-quick, plover-quick]}": "twice",
		"card: {routine: [Plover]}":                     "not a name of a procedure",
		"reseats: often":                                "a whole number from 0 to 20",
	} {
		_, err := Parse([]byte(head + text + "\n"))
		assert.ErrorContains(t, err, why, text)
	}
}
