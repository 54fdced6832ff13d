package outputs

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/procedure"
	"usherbench/instrument/dialect"
)

// voltages is a cycler with one voltage, with a second one as floor, or with a ceiling alone, and what it was set to.
type voltages struct {
	fake
	volts, floor, amps float64
}

func (v *voltages) Set(_ context.Context, quantity string, value float64) error {
	*map[string]*float64{"volts": &v.volts, "floor": &v.floor, "amps": &v.amps}[quantity] = value
	return nil
}

func cyclerOf(t testing.TB, d *dialect.Dialect) (*bench, *voltages) {
	b := newBench(t, []string{"cycler"})
	v := &voltages{fake: fake{bench: b, name: "cycler"}, floor: -1}
	m := b.board.Seat("cycler").First()
	m.drive, m.Channel.Dialect = v, d
	b.board.Grant(NewPermit(context.Background()))
	return b, v
}

// Whatever is set in whatever order: one voltage is the floor while the current discharges, and the ceiling while it
// charges, unless somebody has set it after the floor.
func TestOneVoltageIsFloorAndCeiling(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		b, v := cyclerOf(t, &dialect.Dialect{OneVoltage: true})
		ceiling, floor := 0.0, 0.0
		for range rapid.IntRange(1, 12).Draw(rt, "settings") {
			s := procedure.Setting{Seat: "cycler", Quantity: rapid.SampledFrom([]string{"volts", "floor", "amps"}).Draw(rt, "q"),
				Value: rapid.SampledFrom([]float64{1, 2, 3, 4}).Draw(rt, "x")}
			switch {
			case s.Quantity == "volts":
				ceiling, floor = s.Value, 0
			case s.Quantity == "floor":
				floor = s.Value
			case rapid.Bool().Draw(rt, "discharges"):
				s.Value = -s.Value
			}
			require.NoError(rt, b.board.Apply(t.Context(), b.board.Seat("cycler"), s))
		}
		switch {
		case v.amps < 0 && floor > 0:
			assert.Equal(rt, floor, v.volts)
		case v.amps > 0 && ceiling > 0:
			assert.Equal(rt, ceiling, v.volts)
		}
		assert.Negative(rt, v.floor, "nothing is sent that the instrument does not know")
	})
}

func TestAFloorOfItsOwnIsSetAndACeilingAloneIsLeft(t *testing.T) {
	floor := procedure.Setting{Seat: "cycler", Quantity: "floor", Value: 3}
	b, v := cyclerOf(t, &dialect.Dialect{Set: map[string]dialect.Setter{"floor": {Messages: []string{"LOW {value}"}}}})
	require.NoError(t, b.board.Apply(t.Context(), b.board.Seat("cycler"), floor))
	assert.Equal(t, 3.0, v.floor)
	b, v = cyclerOf(t, &dialect.Dialect{})
	require.NoError(t, b.board.Apply(t.Context(), b.board.Seat("cycler"), floor))
	assert.Zero(t, v.volts)
	assert.Negative(t, v.floor)
}
