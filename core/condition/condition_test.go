package condition

import (
	"errors"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/quantity"
)

func scope(name string) (Ref, error) {
	columns := map[string]int{"load.volts": 0, "load.amps": 1}
	if i, ok := columns[name]; ok {
		kind, _ := quantity.KindOfColumn(name)
		return Ref{Column: i, Dim: kind.Unit.Dim}, nil
	}
	if name == "cutoff" {
		q := quantity.Of(3, "V")
		return Ref{Constant: &q}, nil
	}
	return Ref{}, fmt.Errorf("%q is not known", name)
}

func sample(t, volts, amps float64) Sample {
	return Sample{T: t, StageT: t - 10, Columns: []float64{volts, amps}}
}

func TestConditionsOnOneFrame(t *testing.T) {
	nan := math.NaN()
	for text, want := range map[string]Truth{
		"load.volts < 14.2 V":                             True,
		"load.volts >= 12 V and load.amps > 2 A":          False,
		"load.volts >= 12 V and load.amps <= 2 A":         True,
		"not load.volts < 14.2 V":                         False,
		"load.volts < cutoff or load.amps > 1500 mA":      True,
		"load.volts * load.amps > 23.9 W":                 True,
		"(load.volts - 2 V) / load.amps < 5.1 Ω":          True,
		"(load.volts < 1 V or load.amps < 3 A) and 1 < 2": True,
		"load.volts + 2 * cutoff > 17 V":                  True,
		"-load.amps < −1 A":                               True,
		"elapsed > 1 min":                                 True,
		"stage.elapsed > 1 min":                           False,
		"load.volts / 0 > 1 V":                            Unknown,
	} {
		c, err := Compile(text, scope)
		require.NoError(t, err, text)
		assert.Equal(t, want, c.Evaluate(sample(65, 12, 2)), text)
	}
	for text, want := range map[string]Truth{
		"load.volts < 14 V":                      Unknown,
		"load.volts < 14 V or load.amps > 1 A":   True,
		"load.volts < 14 V and load.amps > 1 A":  Unknown,
		"load.volts < 14 V and load.amps > 10 A": False,
		"not load.volts < 14 V":                  Unknown,
	} {
		c, err := Compile(text, scope)
		require.NoError(t, err)
		assert.Equal(t, want, c.Evaluate(sample(0, nan, 2)), text)
	}
}

func TestForNeedsAnUnbrokenTime(t *testing.T) {
	c, err := Compile("load.volts < 14 V for 2 s", scope)
	require.NoError(t, err)
	steps := []struct {
		t, volts float64
		want     Truth
	}{{0, 13, False}, {1, 13, False}, {1.5, 15, False}, {2, 13, False}, {3, math.NaN(), Unknown}, {3.9, 13, False},
		{4, 13, True}, {5, 13, True}}
	for _, s := range steps {
		assert.Equal(t, s.want, c.Evaluate(sample(s.t, s.volts, 0)), "at %v s", s.t)
	}

	state := c.State()
	again, err := Compile(c.Text, scope)
	require.NoError(t, err)
	again.Restore(state)
	assert.Equal(t, True, again.Evaluate(sample(5.1, 13, 0)), "a restored condition goes on where it was")
	again.Reset()
	assert.Equal(t, False, again.Evaluate(sample(5.2, 13, 0)))
}

func TestMistakesHaveAColumnAndAReason(t *testing.T) {
	for text, want := range map[string]struct {
		column int
		reason string
	}{
		"load.volts < 3 A":              {1, "compares volts with amperes"},
		"load.volts < 3 V for 2 V":      {22, "after for comes a time"},
		"load.watt < 3 W":               {1, `"load.watt" is not known`},
		"load.volts + load.amps > 1 V":  {12, "adds or subtracts volts and amperes"},
		"load.volts <":                  {13, "a condition reads like"},
		"load.volts ! 3 V":              {12, "a condition reads like"},
		"load.volts < 3 V and":          {21, "a condition reads like"},
		"load.volts > 14 V and 3 volts": {25, "a condition reads like"},
	} {
		_, err := Compile(text, scope)
		var mistake *Error
		require.True(t, errors.As(err, &mistake), "%s: %v", text, err)
		assert.Equal(t, want.column, mistake.Column, text)
		assert.Contains(t, mistake.Reason, want.reason, text)
	}
}

func TestMarginIsTheDistanceToTrip(t *testing.T) {
	c, err := Compile("load.volts > 17 V for 20 ms", scope)
	require.NoError(t, err)
	d, ok := c.Margin(sample(0, 15, 0))
	require.True(t, ok)
	assert.Equal(t, "2 V", d.String())
	assert.Equal(t, []int{0}, c.Columns())
	c, err = Compile("load.volts > 17 V or load.amps > 9 A", scope)
	require.NoError(t, err)
	_, ok = c.Margin(sample(0, 15, 0))
	assert.False(t, ok)
}

func FuzzCompile(f *testing.F) {
	for _, seed := range []string{"load.volts < 3 V for 2 s", "((((", "not not x", "1 V < 2 V and", "a.b.c > −3 %"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Compile(text, scope)
		if err != nil {
			var mistake *Error
			require.ErrorAs(t, err, &mistake)
			require.GreaterOrEqual(t, mistake.Column, 1)
			return
		}
		c.Evaluate(sample(1, 2, 3))
	})
}
