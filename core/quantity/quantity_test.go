package quantity

import (
	"math"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestParseReadsNumbersWithUnits(t *testing.T) {
	for text, want := range map[string]Quantity{
		"1.5 A":      {1.5, Current},
		"36V":        {36, Voltage},
		"−20 mV":     {-0.02, Voltage},
		"-20mV":      {-0.02, Voltage},
		"9.6 Ah":     {34560, Charge},
		"0.2 %":      {0.002, Number},
		"50 ppm":     {50e-6, Number},
		"2":          {2, Number},
		"1e3 Ω":      {1000, Resistance},
		"4.7 kohm":   {4700, Resistance},
		"300 ms":     {0.3, Time},
		"5 min":      {300, Time},
		"2 h":        {7200, Time},
		"85 °C":      {85, Temperature},
		"5 mV/s":     {0.005, Dimension{Volt: 1, Second: -1}},
		"0.2 C":      {0.2, ChargeRate},
		"3 µA":       {3e-6, Current},
		"3 uA":       {3e-6, Current},
		" 12 V ":     {12, Voltage},
		"1.5e-3 kHz": {1.5, Frequency},
	} {
		got, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want.Dim, got.Dim, text)
		assert.InEpsilon(t, want.Value, got.Value, 1e-12, text)
	}
}

func TestParseErrorsQuoteTheInputAndSayWhatToWrite(t *testing.T) {
	for text, want := range map[string]string{
		"":          "empty",
		"V":         "does not begin with a number",
		"12 volts":  `"12 volts": "volts" is not a unit here; write V`,
		"3 quux":    `"quux" is not a unit`,
		"1e999 V":   "does not begin with a number",
		"5 mmin":    "not a unit",
		"1 mV/flop": `"flop" is not a unit`,
	} {
		_, err := Parse(text)
		require.Error(t, err, text)
		var syntax *SyntaxError
		require.ErrorAs(t, err, &syntax)
		assert.Contains(t, err.Error(), want)
	}
}

func TestWhatChangesWithTimeIsPerSecond(t *testing.T) {
	assert.Equal(t, "250 mV/s", Quantity{0.25, Dimension{Volt: 1, Second: -1}}.String())
	assert.Equal(t, "5 mV/s", Quantity{0.005, Dimension{Volt: 1, Second: -1}}.String())
	perSecond := Temperature
	perSecond.Second = -1
	assert.Equal(t, "20 mK/s", Quantity{0.02, perSecond}.String())
}

func TestFormatUsesPrefixesAndTrueMinus(t *testing.T) {
	for want, q := range map[string]Quantity{
		"1.5 A":    {1.5, Current},
		"−9 mV":    {-0.009, Voltage},
		"2.4 Ah":   {8640, Charge},
		"999.5 mV": {0.9995, Voltage},
		"1 V":      {0.99999999, Voltage},
		"0 V":      {0, Voltage},
		"300 ms":   {0.3, Time},
		"2 min":    {120, Time},
		"93.31":    {93.31, Number},
		"27.4 °C":  {27.4, Temperature},
		"—":        {math.NaN(), Voltage},
	} {
		assert.Equal(t, want, q.String())
	}
	assert.Equal(t, "−0.50", Fixed(-0.5, 2))
	assert.Equal(t, "0.00", Fixed(-0.001, 2))
}

func TestDecimalsShowTwoDigitsOfTheUncertainty(t *testing.T) {
	for _, c := range []struct {
		u    float64
		want int
	}{{0.066, 3}, {0.17, 2}, {1.2, 1}, {17, 0}, {0.0999, 2}, {0, 4}, {math.NaN(), 4}} {
		assert.Equal(t, c.want, Decimals(c.u, 4), "%v", c.u)
	}
}

func TestWhatIsFormattedParsesBack(t *testing.T) {
	dims := []Dimension{Voltage, Current, Power, Resistance, Frequency, Charge, Energy, Number, Time}
	rapid.Check(t, func(t *rapid.T) {
		q := Quantity{rapid.Float64Range(-1e9, 1e9).Draw(t, "value"), rapid.SampledFrom(dims).Draw(t, "dimension")}
		if math.Abs(q.Value) < 1e-9 {
			return
		}
		back, err := Parse(q.Format(9))
		require.NoError(t, err)
		require.Equal(t, q.Dim, back.Dim)
		require.InEpsilon(t, q.Value, back.Value, 1e-8)
	})
}

func TestLiteralPatternLeavesWordsAlone(t *testing.T) {
	re := regexp.MustCompile("^" + LiteralPattern())
	for text, want := range map[string]string{
		"3 and x": "3", "3 A and x": "3 A", "5 mV/s)": "5 mV/s", "2 min": "2 min", "2 minx": "2", "4 V / x": "4 V",
		"85 °C": "85 °C", "10 %": "10 %",
	} {
		assert.Equal(t, want, re.FindString(text))
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"1.5 A", "−20 mV", "", "1e", "5 mV/s", "°C", "9e9e9 V", "\xff V"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		q, err := Parse(text)
		if err != nil {
			var syntax *SyntaxError
			require.ErrorAs(t, err, &syntax)
			return
		}
		require.False(t, math.IsInf(q.Value, 0))
		_ = q.String()
	})
}

func TestNumbersForPeopleHaveNoExponent(t *testing.T) {
	for want, got := range map[string]string{
		"110 ms":        Sprintf("%.2g ms", 113.0),
		"−0.0158 Ah":    Sprintf("%.3g %s", -0.015832, "Ah"),
		"123000":        Sprintf("%.3g", 123456.0),
		"0.00000012":    Sprintf("%.2g", 1.23e-7),
		"+3.2 and 4":    Sprintf("%+.2g and %d", 3.21, 4),
		"0.5, 1.50, 1e": Sprintf("%g, %.2f, %s", 0.5, 1.5, "1e"),
		"—":             Sprintf("%.3g", math.NaN()),
	} {
		assert.Equal(t, want, got)
	}
}
