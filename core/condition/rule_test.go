package condition

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestARuleIsWrittenAsAPersonWouldWriteIt(t *testing.T) {
	volts, amps := Column("load.volts"), Column("load.amps")
	for want, rule := range map[string]Rule{
		"":                              {},
		"load.volts <= 21 V":            Holds(volts, AtMost, 21, "V"),
		"load.volts > 4.2 V for 500 ms": Holds(volts, Above, 4.2, "V").Lasting(0.5),
		"(load.volts >= 29.1416 V and load.amps <= 0.48 A) for 10 s": Holds(volts, AtLeast, 29.1416, "V").
			And(amps, AtMost, 0.48, "A").Lasting(10),
		"drop(mean(load.volts, 10 s), 5 min) >= 0.01 V": Holds(Drop(Mean(volts, 10), 300), AtLeast, 0.01, "V"),
		"rate(load.volts, 5 min) < 0.001 V/s":           Holds(Rate(volts, 300), Below, 0.001, "V/s"),
		"-load.amps >= 2 A":                             Holds(Neg(amps), AtLeast, 2, "A"),
		"gain(load.volts, 30 s) >= 1 V for 120 s":       Holds(Gain(volts, 30), AtLeast, 1, "V").Lasting(120),
		"load.volts >= 0.333333333 V":                   Holds(volts, AtLeast, 1./3, "V"),
	} {
		assert.Equal(t, want, rule.String())
		if want != "" {
			_, err := Compile(want, scope)
			require.NoError(t, err, want)
		}
	}
}

// What a rule says of a frame is what its numbers say.
func TestARuleMeansItsNumbers(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		level := float64(rapid.IntRange(-100, 100).Draw(r, "level")) / 8
		least := float64(rapid.IntRange(-100, 100).Draw(r, "least")) / 8
		volts := float64(rapid.IntRange(-100, 100).Draw(r, "volts")) / 8
		amps := float64(rapid.IntRange(-100, 100).Draw(r, "amps")) / 8
		op := rapid.SampledFrom([]Op{AtLeast, AtMost, Above, Below}).Draw(r, "op")
		rule := Holds(Column("load.volts"), op, level, "V").And(Neg(Column("load.amps")), AtLeast, least, "A")
		c, err := Compile(rule.String(), scope)
		require.NoError(r, err, rule.String())
		first := map[Op]bool{AtLeast: volts >= level, AtMost: volts <= level, Above: volts > level,
			Below: volts < level}[op]
		want := False
		if first && -amps >= least {
			want = True
		}
		require.Equal(r, want, c.Evaluate(sample(20, volts, amps)), rule.String())
	})
}

// A rule that is added to leaves the one that it was made of as it was.
func TestRulesDoNotShareTheirComparisons(t *testing.T) {
	one := Holds(Column("load.volts"), AtLeast, 1, "V").And(Column("load.amps"), AtLeast, 1, "A")
	two := one.And(Column("load.amps"), AtMost, 2, "A")
	three := one.And(Column("load.amps"), AtMost, 3, "A")
	assert.Equal(t, "load.volts >= 1 V and load.amps >= 1 A", one.String())
	assert.Contains(t, two.String(), "<= 2 A")
	assert.Contains(t, three.String(), "<= 3 A")
}
