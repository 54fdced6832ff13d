package quantity

import (
	"math"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestUnitsOfWhatComes(t *testing.T) {
	for text, want := range map[string]Quantity{
		"5 VA":      {5, ApparentPower},
		"2.5 kvar":  {2500, ReactivePower},
		"600 N":     {600, Force},
		"14.3 N·m":  {14.3, TorqueMoment},
		"1500 rpm":  {25, Speed},
		"25 r/s":    {25, Speed},
		"1500r/min": {25, Speed},
		"120°":      {120, PlaneAngle},
		"−3 dB":     {-3, Decibels},
		"6 dBV":     {6, DecibelVolts},
	} {
		got, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want.Dim, got.Dim, text)
		assert.InDelta(t, want.Value, got.Value, 1e-9, text)
	}
	_, err := Parse("5 VAR")
	assert.ErrorContains(t, err, "write var")
}

func TestWhatPeopleTellApartIsShownSo(t *testing.T) {
	for want, q := range map[string]Quantity{
		"1.2 kVA":    {1200, ApparentPower},
		"350 mvar":   {0.35, ReactivePower},
		"14.3 N·m":   {14.3, TorqueMoment},
		"24.167 r/s": {24.166667, Speed},
		"−3 dB":      {-3, Decibels},
		"120 °":      {120, PlaneAngle},
		"2 kN":       {2000, Force},
	} {
		assert.Equal(t, want, q.Format(5))
	}
	assert.Equal(t, "volt-amperes", ApparentPower.String())
	assert.Equal(t, "newton-metres", TorqueMoment.String())
}

func TestAspectsInArithmetic(t *testing.T) {
	assert.Equal(t, Number, Power.Per(ApparentPower), "a power factor is a plain number")
	assert.Equal(t, Power, TorqueMoment.Times(Speed), "torque times speed is power, but for 2π")
	assert.Equal(t, TorqueMoment, TorqueMoment.Times(Number))
	assert.Equal(t, ApparentPower, Number.Times(ApparentPower))
	assert.Equal(t, Decibels, Decibels.Per(Number))
	assert.Equal(t, Force, Energy.Per(Dimension{Metre: 1}))
	assert.True(t, Power.Like(ApparentPower))
	assert.True(t, Voltage.Times(Current).Like(ReactivePower))
	assert.False(t, Energy.Like(TorqueMoment))
	assert.False(t, Number.Like(Decibels), "3 dB is not 3")
	assert.False(t, Frequency.Like(Speed))
}

func TestTheTableOfQuantitiesIsSound(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range Kinds() {
		assert.False(t, seen[k.Name], k.Name)
		seen[k.Name] = true
		assert.NotZero(t, k.Unit.Factor, k.Name)
		assert.NotEmpty(t, k.Title, k.Name)
		assert.NotEmpty(t, k.Colour, k.Name)
		assert.False(t, k.Counted && (k.Read || k.Set), "%s is counted, not read", k.Name)
		if k.Unit.Symbol != "" {
			back, err := Parse("1 " + k.Unit.Symbol)
			require.NoError(t, err, k.Name)
			assert.Equal(t, k.Unit.Dim, back.Dim, k.Name)
		}
	}
	_, ok := KindOfColumn("volts")
	assert.False(t, ok, "a column names its seat")
	va, ok := KindOfColumn("meter.va")
	assert.True(t, ok)
	assert.Equal(t, "VA", va.Unit.Symbol, "watts and volt-amperes are told apart")
}

// A level over 1 V and the volts that it stands for are one.
func TestALevelIsTheVoltsItStandsFor(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		level := Quantity{rapid.Float64Range(-140, 80).Draw(t, "level"), DecibelVolts}
		volts := level.As(Voltage)
		require.Equal(t, Voltage, volts.Dim)
		require.InDelta(t, level.Value, 20*math.Log10(volts.Value), 1e-9)
		require.InDelta(t, level.Value, volts.As(DecibelVolts).Value, 1e-9)
	})
	assert.InDelta(t, 0.775, Of(-2.214, "dBV").As(Voltage).Value, 1e-4)
	for _, same := range []struct {
		q  Quantity
		as Dimension
	}{{Of(3, "dB"), Voltage}, {Of(3, "dBV"), Number}, {Of(0, "V"), DecibelVolts}, {Of(-1, "V"), DecibelVolts},
		{Of(1, "A"), Voltage}} {
		assert.Equal(t, same.q, same.q.As(same.as), "it stays what it is")
	}
}

// Whatever unit follows a number within a longer text, all of it is found: mΩ is not m, and °C is not °.
func TestALiteralEndsBehindItsUnit(t *testing.T) {
	literal := regexp.MustCompile(LiteralPattern())
	for symbol, base := range baseUnits {
		written := []string{symbol}
		if base.prefixed {
			for prefix := range prefixes {
				written = append(written, prefix+symbol)
			}
		}
		for _, unit := range written {
			for _, text := range []string{"3 " + unit, "3" + unit} {
				require.Equal(t, text, literal.FindString(text+" and"), unit)
				require.Equal(t, text, literal.FindString(text+"*2"), unit)
			}
		}
	}
	assert.Equal(t, "3 ", literal.FindString("3 and")+" ")
	q, err := Parse("0.75 mm²")
	require.NoError(t, err)
	assert.Equal(t, "0.75 mm²", q.String())
	assert.Equal(t, "1.2 m", Of(1.2, "m").String())
}
