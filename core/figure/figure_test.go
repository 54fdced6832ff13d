package figure

import (
	"encoding/json"
	"errors"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/quantity"
	"usherbench/core/record"
)

func definition(formula func(*record.Record, Request) (Result, error)) Definition {
	return Definition{ID: "test", Unit: "V", Formula: formula, Args: []Arg{{Name: "bin", Dim: quantity.Time, Default: 30,
		Least: 1, Most: 3600}}}
}

// Whatever a formula does, what comes out is a finite value or a reason, and can be written down.
func TestWhateverAFormulaDoesTheResultIsSound(t *testing.T) {
	numbers := rapid.SampledFrom([]float64{0, 1, -3.5, math.NaN(), math.Inf(1), math.Inf(-1)})
	rapid.Check(t, func(t *rapid.T) {
		d := definition(func(*record.Record, Request) (Result, error) {
			r := Result{Value: numbers.Draw(t, "value"), U: numbers.Draw(t, "U"),
				Remarks: rapid.SliceOf(rapid.SampledFrom([]string{"bridged", "peak at NaN V", "height +Inf", "Infinity"})).
					Draw(t, "remarks"),
				Table: &Table{Rows: [][]any{{numbers.Draw(t, "cell"), "NaN is a word here", nil}}}}
			switch rapid.IntRange(0, 4).Draw(t, "ends") {
			case 0:
				panic("out of range")
			case 1:
				why := record.Because(record.NotReached, "no").Least(numbers.Draw(t, "bound"), "Ah")
				why.AtMost = why.AtLeast
				return r, why
			case 2:
				return r, errors.New("a disk is full")
			}
			return r, nil
		})
		r := d.Compute(&record.Record{}, Request{ID: "test"})
		data, err := json.Marshal(r)
		require.NoError(t, err)
		require.NotContains(t, string(data), "NaN V")
		require.NotContains(t, string(data), "+Inf")
		if r.Undetermined == nil {
			require.True(t, finite(r.Value) && finite(r.U))
			require.Equal(t, r.Value == 0, contains(r.Remarks, TrueZero))
		} else {
			require.NotEmpty(t, r.Undetermined.Code)
			require.Zero(t, r.Value)
		}
	})
}

func contains(all []string, word string) bool {
	for _, x := range all {
		if x == word {
			return true
		}
	}
	return false
}

func TestEveryArgumentHasItsBounds(t *testing.T) {
	asked := 0
	d := definition(func(_ *record.Record, req Request) (Result, error) {
		asked++
		return Result{Value: req.Args["bin"], U: 1}, nil
	})
	assert.Equal(t, 30.0, d.Compute(&record.Record{}, Request{}).Value, "its default")
	for _, x := range []float64{0, -5, 1e-6, 1e9, math.NaN()} {
		r := d.Compute(&record.Record{}, Request{Args: map[string]float64{"bin": x}})
		require.NotNil(t, r.Undetermined, "%g", x)
		assert.Equal(t, record.WrongConditions, r.Undetermined.Code)
		assert.Contains(t, r.Undetermined.Sentence, "bin is")
		assert.Contains(t, r.Undetermined.Sentence, "between 1 s and 60 min")
	}
	assert.Equal(t, 1, asked, "the formula never sees them")
}
