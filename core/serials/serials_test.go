package serials

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func day(t testing.TB, text string) Day {
	at, err := time.Parse(time.DateOnly, text)
	require.NoError(t, err)
	return dayOf(at)
}

func dayOf(at time.Time) Day {
	year, week := at.ISOWeek()
	return Day{at.Year(), int(at.Month()), at.Day(), year, week}
}

func TestSerialNumbersAreMadeByAPattern(t *testing.T) {
	for _, c := range []struct {
		pattern, day string
		n            int
		want         string
	}{
		{"TN-{count:4}", "2026-11-30", 7, "TN-0007"},
		{"TN-{count}", "2026-11-30", 12345, "TN-12345"},
		{"TN-{year:2}{week}-{count:4}", "2026-11-30", 7, "TN-2649-0007"},
		{"{year}{month}{day}/{count:3}", "2026-11-30", 99, "20261130/099"},
		{"{year}{week}-{count:2}", "2027-01-01", 1, "202653-01"}, // the year of the week
	} {
		p, err := Parse(c.pattern)
		require.NoError(t, err, c.pattern)
		made, err := p.Make(day(t, c.day), c.n)
		require.NoError(t, err, c.pattern)
		assert.Equal(t, c.want, made, c.pattern)
		assert.NoError(t, p.Check(made), c.pattern)
	}
}

// The standard's own example of MOD 11,10 is 0794 with the check digit 5, and of MOD 37,36 A12425GABC1234002M.
func TestCheckCharactersAreThoseOfTheStandard(t *testing.T) {
	assert.Equal(t, "5", piece{digit: true}.checkOf("0794"))
	assert.Equal(t, "M", piece{}.checkOf("A12425GABC1234002"))
	p, err := Parse("{any:17}{check}")
	require.NoError(t, err)
	assert.NoError(t, p.Check("A12425GABC1234002M"))
	assert.ErrorContains(t, p.Check("A12425GABC1234020M"), "misread or mistyped", "two neighbours are swapped")
}

func TestWhatIsMadeIsRightAndOneWrongCharacterIsFound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.SampledFrom([]string{"TN-{year:2}{week}-{count:4}{check}", "{count:6}{check:digit}",
			"{year}{month}{day}{count:4}{check}"}).Draw(t, "pattern")
		p, err := Parse(text)
		require.NoError(t, err)
		on := dayOf(time.Unix(rapid.Int64Range(0, 4e9).Draw(t, "day"), 0).UTC())
		n := rapid.IntRange(1, 9999).Draw(t, "n")
		serial, err := p.Make(on, n)
		require.NoError(t, err)
		require.NoError(t, p.Check(serial))
		other, err := p.Make(on, n%9999+1)
		require.NoError(t, err)
		assert.NotEqual(t, serial, other)

		at := rapid.IntRange(0, len(serial)-1).Draw(t, "at")
		wrong := []byte(serial)
		wrong[at] = rapid.SampledFrom([]byte(alphabet)).Filter(func(c byte) bool { return c != serial[at] }).Draw(t, "wrong")
		assert.Error(t, p.Check(string(wrong)), "%s for %s", wrong, serial)
	})
}

func TestNumbersBeginAnewWithTheDatePart(t *testing.T) {
	p, err := Parse("TN-{year:2}{week}-{count:4}{check}")
	require.NoError(t, err)
	assert.Equal(t, "TN-2649-#", p.Series(day(t, "2026-11-30")))
	assert.Equal(t, p.Series(day(t, "2026-11-30")), p.Series(day(t, "2026-12-06")), "the same week")
	assert.NotEqual(t, p.Series(day(t, "2026-11-30")), p.Series(day(t, "2026-12-07")))
}

func TestScannedNumbersAreLookedAt(t *testing.T) {
	p, err := Parse("SL{letters:2}-{month}-{digits:5}")
	require.NoError(t, err)
	assert.False(t, p.Makes())
	assert.NoError(t, p.Check("SLAB-11-00017"))
	assert.ErrorContains(t, p.Check("SLAB-13-00017"), "month")
	assert.ErrorContains(t, p.Check("SLab-11-00017"), "does not look like SL{letters:2}-{month}-{digits:5}")
	_, err = p.Make(day(t, "2026-11-30"), 1)
	assert.ErrorContains(t, err, "scan or type it")
	assert.NoError(t, Pattern{}.Check("anything"))
}

func TestUselessPatternsAreRefused(t *testing.T) {
	for text, why := range map[string]string{
		"TN-{year}":           "the same serial number",
		"TN-0001":             "the same serial number",
		"{check}{count:4}":    "belongs at the end",
		"{count:4}{count:4}":  "one {count}",
		"{number:4}":          "unknown field",
		"{year:3}{count}":     "how wide",
		"{count:99}":          "how wide",
		"TN {count:4}":        "cannot be seen",
		"TN-{count:4":         "brace",
		"{count:4}-{check:2}": "how wide",
	} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, why, text)
	}
	p, err := Parse("{count:2}")
	require.NoError(t, err)
	_, err = p.Make(day(t, "2026-11-30"), 100)
	assert.ErrorContains(t, err, "more digits")
}
