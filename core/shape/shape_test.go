package shape

import (
	"math"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func made(t require.TestingT, segments ...Segment) *Shape {
	s, err := New(segments)
	require.NoError(t, err)
	return s
}

func TestEverySegmentHasItsTextbookValue(t *testing.T) {
	for name, c := range map[string]struct {
		segment Segment
		at      map[float64]float64
		low     float64
		high    float64
		slope   float64
		short   float64
	}{
		"hold": {hold(5, 2), map[float64]float64{0: 5, 1: 5, 9: 5}, 5, 5, 0, 2},
		"ramp": {ramp(48, 36, 0.004), map[float64]float64{0: 48, 0.001: 45, 0.004: 36, 1: 36}, 36, 48, 3000, 0.004},
		"sine": {Segment{Kind: Sine, For: 1, Around: 36, Swing: 2, Hertz: 4}, map[float64]float64{0: 36, 1.0 / 16: 38,
			3.0 / 16: 34}, 34, 38, 2 * math.Pi * 8, 1.0 / 16},
		"square": {Segment{Kind: Square, For: 1, Around: 10, Swing: 1, Hertz: 2, Duty: 0.25},
			map[float64]float64{0: 11, 0.1: 11, 0.13: 9, 0.6: 11}, 9, 11, 0, 0.125},
		"triangle": {Segment{Kind: Triangle, For: 1, Around: 10, Swing: 2, Hertz: 1}, map[float64]float64{0: 10, 0.125: 11,
			0.25: 12, 0.5: 10, 0.75: 8}, 8, 12, 8, 0.25},
		"exponential": {Segment{Kind: Exponential, For: 5, From: 10, To: 0, Tau: 1},
			map[float64]float64{0: 10, 1: 10 / math.E, 2: 10 / math.E / math.E}, 10 * math.Exp(-5), 10, 10, 1},
	} {
		s := made(t, c.segment)
		for at, want := range c.at {
			assert.InDelta(t, want, s.At(at), 1e-9, "%s at %v s", name, at)
		}
		low, high := s.Extremes()
		assert.InDelta(t, c.low, low, 1e-9, name)
		assert.InDelta(t, c.high, high, 1e-9, name)
		assert.InDelta(t, c.slope, s.Steepest(), 1e-9, name)
		assert.InDelta(t, c.short, s.Shortest(), 1e-9, name)
	}
	sum := made(t, Segment{Kind: Sum, For: 2, Parts: []*Shape{made(t, ramp(0, 10, 2)), made(t, hold(1, 1), hold(2, 1))}})
	assert.Equal(t, 3.5, sum.At(0.5))
	assert.Equal(t, 9.5, sum.At(1.5))
}

func TestAJumpBelongsToWhatFollows(t *testing.T) {
	s := made(t, hold(1, 1), hold(2, 1))
	assert.Equal(t, 1.0, s.At(0.999))
	assert.Equal(t, 2.0, s.At(1))
	assert.Equal(t, 1.0, s.Next(0, 0.1))
	assert.Equal(t, 2.0, s.Next(1, 0.1))
	assert.True(t, math.IsInf(s.Next(2, 0.1), 1))
	assert.Equal(t, []Knot{{0, 1}, {1, 1}, {1, 2}, {2, 2}}, s.Outline(100))
}

// anyShape draws shapes of every kind of segment.
func anyShape(t *rapid.T) *Shape {
	segment := rapid.Custom(func(t *rapid.T) Segment {
		level := rapid.Float64Range(-50, 50)
		g := Segment{For: rapid.Float64Range(0.01, 10).Draw(t, "for"), From: level.Draw(t, "from"), To: level.Draw(t, "to"),
			Around: level.Draw(t, "around"),
			Swing:  rapid.Float64Range(0.1, 5).Draw(t, "swing"), Hertz: rapid.Float64Range(0.1, 20).Draw(t, "hertz"),
			Duty: rapid.Float64Range(0.1, 0.9).Draw(t, "duty"),
			Tau:  rapid.Float64Range(0.05, 5).Draw(t, "tau")}
		g.Kind = rapid.SampledFrom([]Kind{Hold, Ramp, Sine, Square, Triangle, Exponential}).Draw(t, "kind")
		return g
	})
	return made(t, rapid.SliceOfN(segment, 1, 6).Draw(t, "segments")...)
}

func TestAShapeStaysWithinItsExtremesAndPacingEnds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := anyShape(t)
		low, high := s.Extremes()
		set := 0
		for at := 0.0; !math.IsInf(at, 1); {
			x := s.At(at)
			require.GreaterOrEqual(t, x, low-1e-9)
			require.LessOrEqual(t, x, high+1e-9)
			next := s.Next(at, 0.05)
			require.Greater(t, next, at)
			at = next
			set++
			require.Less(t, set, 10_000)
		}
	})
}

func TestAStaircaseLiesOnTheShape(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := anyShape(t)
		steps, off, err := s.Staircase(1e-3, 0.05, 1_000_000)
		require.NoError(t, err)
		var at float64
		for _, step := range steps {
			middle := at + step.For/2
			if i := s.segmentAt(at); i == s.segmentAt(at+step.For-1e-9) && s.Segments[i].Kind != Square {
				require.InDelta(t, s.At(middle), step.Level, off+1e-6, "at %v s", middle)
			}
			require.GreaterOrEqual(t, step.For, 1e-3*(1-1e-6))
			at += step.For
		}
		require.InDelta(t, s.Duration(), at, 1e-6)
	})
	_, _, err := made(t, ramp(48, 36, 0.005)).Staircase(0.01, 0.1, 100)
	assert.ErrorContains(t, err, "a part of 5 ms, but the shortest dwell is 10 ms")
	_, _, err = made(t, ramp(48, 36, 10)).Staircase(0.001, 0.001, 100)
	assert.ErrorContains(t, err, "more than 100 steps")
}

func TestPhrasesAreTakenApart(t *testing.T) {
	for _, example := range Forms() {
		_, err := ReadPhrase(example)
		assert.NoError(t, err, example)
	}
	p, err := ReadPhrase("ramp from 2 * low to top in 5 ms")
	require.NoError(t, err)
	assert.Equal(t, Phrase{"ramp", map[string]Arg{"from": {"2 * low", 11}, "to": {"top", 22}, "in": {"5 ms", 29}}}, p)
	for text, want := range map[string]PhraseError{
		"jump to 3 V":            {1, `"jump" is no segment`},
		"ramp to 3 V":            {1, "in is missing"},
		"hold 2 s at":            {12, `after "at" a value is missing`},
		"ramp to 3 V to 4 V in":  {16, `"to" stands twice`},
		"hold 2 s tau 3 s":       {14, `"tau" does not go with hold`},
		"ramp 3 V to 4 V in 2 s": {6, "out of place"},
		"sine at 3 Hz for 2 s":   {1, "a value is missing"},
	} {
		_, err := ReadPhrase(text)
		var perr *PhraseError
		require.ErrorAs(t, err, &perr, text)
		assert.Equal(t, want.Column, perr.Column, text)
		assert.Contains(t, perr.Reason, want.Reason, text)
	}
}

func TestTablesAreReadAndWrittenBack(t *testing.T) {
	table, err := ReadCSV(strings.NewReader("time [ms];source.volts [V];amps " +
		"[mA]\n0;48;2000\n5;36,5;2000\n5;40;2500\n20;40;2500\n"))
	require.NoError(t, err)
	i, err := table.Pick("source", "volts")
	require.NoError(t, err)
	s := made(t, table.Segments(i, false)...)
	assert.InDelta(t, 42.25, s.At(0.0025), 1e-9)
	assert.Equal(t, 40.0, s.At(0.005))
	assert.InDelta(t, 0.02, s.Duration(), 1e-12)
	i, err = table.Pick("source", "amps")
	require.NoError(t, err)
	assert.Equal(t, 2.5, made(t, table.Segments(i, true)...).At(0.01))
	again, err := ReadRows(table.Rows())
	require.NoError(t, err)
	assert.Equal(t, table, again)

	drawn := TableOf([]string{"source.volts"}, []*Shape{made(t, hold(48, 1), hold(36, 1), ramp(36, 52, 0.5))}, 0.01)
	assert.Equal(t, []float64{0, 1, 1, 2, 2.5}, drawn.Time)
	assert.Equal(t, []float64{48, 48, 36, 36, 52}, drawn.Levels[0])
}

func TestATableWithoutTimesIsAList(t *testing.T) {
	table, err := ReadCSV(strings.NewReader("load.volts [V],load.amps [mA]\n22,0\n18,1500\n0,1750\n"))
	require.NoError(t, err)
	assert.True(t, table.Listed)
	assert.Equal(t, [][]float64{{22, 18, 0}, {0, 1.5, 1.75}}, table.Levels)
	assert.Equal(t, 3, table.Len())
	assert.Zero(t, table.Length())
	again, err := ReadRows(table.Rows())
	require.NoError(t, err)
	assert.Equal(t, table, again)
}

func TestMistakesInTablesNameTheCell(t *testing.T) {
	for text, want := range map[string]string{
		"":                                     "cell A1: the table is empty",
		"time [s],volts [V]\n":                 "cell A2: the table has a header, but no rows",
		"time [s],volts\n0,1":                  `cell B1: "volts" is no header`,
		"time [V],volts [V]\n0,1":              "cell A1: V is volts, not a time",
		"time [s],volts [A]\n0,1":              "cell B1: A is amperes, but volts are volts",
		"time [s],volts [V]\n0,1\n1,x":         `cell B3: "x" is not a number`,
		"time [s],volts [V]\n0,1\n1,2\n0.5,3":  "cell A4: the time goes back",
		"duration [s],volts [V]\n1,1\n0,2":     "cell A3: a row lasts for more than no time",
		"time [s],volts [V]\n0,1\n1":           "cell B3: the row has 1 cells, the header 2",
		"when [s],volts [V]\n0,1":              "cell A1: the first column is time, duration or a quantity",
		"volts [V],amps [A]\n1,2\n3":           "cell B3: the row has 1 cells, the header 2",
		"time [s]\n0":                          "cell B1: the table has no quantity",
		"time [s],volts [V],colour [V]\n0,1,2": `cell C1: "colour" is no quantity`,
	} {
		_, err := ReadCSV(strings.NewReader(text))
		assert.ErrorContains(t, err, want, text)
	}
}

func TestProfilesHaveTheirEdgesAndExtremes(t *testing.T) {
	for _, p := range Profiles() {
		segments, err := p.Build(nil)
		require.NoError(t, err, p.Name)
		s := made(t, segments...)
		assert.NotEmpty(t, p.Standard)
		assert.InDelta(t, s.First(), s.Last(), 0.03, "%s begins and ends alike", p.Name)
		for i := 1; i < len(segments); i++ {
			if p.Name != "reset-steps" {
				assert.InDelta(t, segments[i-1].at(segments[i-1].For), segments[i].at(0), 0.03, "%s is joined at segment %d",
					p.Name, i)
			}
		}
	}
	p, _ := LookupProfile("cranking-dip")
	segments, err := p.Build(map[string]float64{"rest": 48, "dip": 34, "plateau": 38, "ripple": 2, "turning": 3})
	require.NoError(t, err)
	s := made(t, segments...)
	low, high := s.Extremes()
	assert.Equal(t, []float64{34, 48, 5e-3}, []float64{low, high, s.ShortestEdge()})
	_, err = p.Build(map[string]float64{"fall": 0})
	assert.ErrorContains(t, err, "must be more than 0")
}

func FuzzReadCSV(f *testing.F) {
	for _, seed := range []string{"time [s],volts [V]\n0,1\n1,2", "duration [ms];source.volts [mV]\n1;2", "\ufeff\"",
		"time [s],volts [V]\n,"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		table, err := ReadCSV(strings.NewReader(text))
		if err != nil {
			return
		}
		for i := range table.Names {
			segments := table.Segments(i, false)
			if s, err := New(segments); err == nil {
				s.Outline(50)
				s.Extremes()
			}
		}
	})
}

func FuzzReadPhrase(f *testing.F) {
	for _, seed := range Forms() {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		_, err := ReadPhrase(text)
		if err != nil {
			require.NotEmpty(t, err.Error())
		}
	})
}
