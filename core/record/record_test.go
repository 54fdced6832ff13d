package record_test

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/record"
	"usherbench/core/record/recordtest"
	"usherbench/core/trace"
)

// course draws the samples of a battery: a current that changes now and then, and volts that follow it.
func course(r *rapid.T) []recordtest.Sample {
	var samples []recordtest.Sample
	t := 0.0
	for range rapid.IntRange(2, 6).Draw(r, "stretches") {
		amps := float64(rapid.IntRange(-40, 40).Draw(r, "deciamps")) / 10
		for range rapid.IntRange(2, 20).Draw(r, "frames") {
			samples = append(samples, recordtest.Sample{T: t, Volts: 25 + amps/10, Amps: amps})
			t += 1
		}
	}
	return samples
}

// What is counted from a to b and from b to c is what is counted from a to c, wherever b lies: at a frame, between
// frames, before the first or after the last.
func TestChargeAndEnergyAddUp(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		samples := course(r)
		end := samples[len(samples)-1].T
		rec := recordtest.Battery(nil, nil, nil, samples...)
		b, err := rec.Terminals(0, end)
		if err != nil {
			r.Skip("no current flows")
		}
		at := rapid.Float64Range(-2, end+2)
		times := []float64{at.Draw(r, "a"), at.Draw(r, "b"), at.Draw(r, "c")}
		between := func(from, to float64) (charge, energy float64) {
			q0, e0 := b.Count(from)
			q1, e1 := b.Count(to)
			return q1 - q0, e1 - e0
		}
		q1, e1 := between(times[0], times[1])
		q2, e2 := between(times[1], times[2])
		q, e := between(times[0], times[2])
		require.InDelta(r, q, q1+q2, 1e-9)
		require.InDelta(r, e, e1+e2, 1e-9)
	})
}

// Of a constant current charge is I·t, at every time, and energy U·I·t.
func TestAConstantCurrentCountsAsItsProduct(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		amps := rapid.Float64Range(-5, 5).Draw(r, "amps")
		if math.Abs(amps) < 0.01 {
			r.Skip("nothing flows")
		}
		b, err := recordtest.Battery(nil, nil, nil, recordtest.Steady(0, 100, 24, amps)...).Terminals(0, 99)
		require.NoError(r, err)
		from := rapid.Float64Range(0, 99).Draw(r, "from")
		to := rapid.Float64Range(0, 99).Draw(r, "to")
		q0, e0 := b.Count(from)
		q1, e1 := b.Count(to)
		require.InDelta(r, amps*(to-from), q1-q0, 1e-9)
		require.InDelta(r, 24*amps*(to-from), e1-e0, 1e-7)
	})
}

// A gap of a steady record is bridged up to ten seconds and undetermined beyond, and a bridge over a current that
// changed adds half of what the change could have moved.
func TestTheOneRuleOfGaps(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		long := float64(rapid.IntRange(6, 60).Draw(r, "gap"))
		after := float64(rapid.IntRange(-50, -1).Draw(r, "after")) / 10
		samples := recordtest.Steady(0, 50, 24, -2)
		for k := range 50 {
			samples = append(samples, recordtest.Sample{T: 49 + long + float64(k), Volts: 24, Amps: after})
		}
		rec := recordtest.Battery(nil, nil, nil, samples...)
		end := samples[len(samples)-1].T
		b, err := rec.Terminals(0, end)
		require.NoError(r, err)
		m, err := rec.Over(b, 0, end)
		if long > 10 {
			var u *record.Undetermined
			require.ErrorAs(r, err, &u)
			require.Equal(r, record.Gap, u.Code)
			require.Contains(r, u.Known, "outside the gap")
			rec.Bridge = 100
			_, err = rec.Over(b, 0, end)
			require.NoError(r, err, "the record may say that a longer one is bridged")
			return
		}
		require.NoError(r, err)
		require.InDelta(r, long*math.Abs(after+2)/2, m.Gaps.Within, 1e-9)
		require.Equal(r, []string{"bridged"}, m.Gaps.Remarks)
	})
}

// A break of which it is known when the outputs went off is no gap; one of which it is not known is.
func TestABreakIsKnownByItsOutputs(t *testing.T) {
	samples := recordtest.Steady(0, 50, 24, -2)
	for k := range 50 {
		samples = append(samples, recordtest.Sample{T: 500 + float64(k), Volts: 24, Amps: -2})
	}
	over := func(off float64) (record.Moved, error) {
		rec := recordtest.Battery(nil, nil, nil, samples...)
		rec.Breaks = []record.Break{{T0: 49, T1: 500, Off: off, Within: 0.9}}
		b, err := rec.Terminals(0, 549)
		require.NoError(t, err)
		return rec.Over(b, 0, 549)
	}
	m, err := over(0.4)
	require.NoError(t, err)
	assert.InDelta(t, 0.9, m.Gaps.Within, 1e-12)
	assert.Equal(t, []string{"resumed"}, m.Gaps.Remarks)
	_, err = over(-1)
	assert.ErrorContains(t, err, "may not be bridged")
}

// A level that a straight line goes through is crossed where algebra says, with the charge of that instant.
func TestALineCrossesWhereAlgebraSays(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		slope := rapid.Float64Range(0.001, 0.1).Draw(r, "slope")
		level := 28 - slope*rapid.Float64Range(1, 98).Draw(r, "instant")
		amps := rapid.Float64Range(0.5, 5).Draw(r, "amps")
		samples := recordtest.Falling(amps, 0, 100, 1, func(t float64) float64 { return 28 - slope*t })
		rec := recordtest.Battery(nil, nil, nil, samples...)
		b, err := rec.Terminals(0, 100)
		require.NoError(r, err)
		for _, fit := range []int{0, 10} {
			x, err := rec.Cross(b, record.Level{Volts: level, From: 0, To: 100, Fit: fit})
			require.NoError(r, err)
			want := (28 - level) / slope
			require.InDelta(r, want, x.T, 1e-6)
			require.InDelta(r, -amps*want, x.Charge, 1e-5)
			require.InDelta(r, -slope, x.Slope, 1e-6)
			require.LessOrEqual(r, x.Before, x.T+1e-9)
			require.GreaterOrEqual(r, x.After, x.T-1e-9)
		}
		_, err = rec.Cross(b, record.Level{Volts: 28 - slope*200, From: 0, To: 100})
		require.ErrorContains(r, err, record.NotReached)
		_, err = rec.Cross(b, record.Level{Volts: 29, From: 0, To: 100})
		require.ErrorContains(r, err, record.AlreadyBeyond)
	})
}

// Whatever a mark says comes back as it was, and what a newer program says is left alone.
func TestAMarkComesBackAsItWas(t *testing.T) {
	word := rapid.StringMatching(`[a-z]{1,8}`)
	number := rapid.Float64Range(-1e6, 1e6)
	rapid.Check(t, func(r *rapid.T) {
		about := rapid.OneOf(
			rapid.Custom(func(r *rapid.T) record.About {
				return record.Began{Stage: word.Draw(r, "stage"), Index: rapid.IntRange(-1, 99).Draw(r, "index")}
			}),
			rapid.Custom(func(r *rapid.T) record.About {
				return record.Commanded{Levels: map[string]float64{word.Draw(r, "column"): number.Draw(r, "level")}}
			}),
			rapid.Custom(func(r *rapid.T) record.About {
				return record.Ended{Stage: "charge", Rules: rapid.SliceOfN(word, 1, 3).Draw(r, "rules")}
			}),
			rapid.Custom(func(r *rapid.T) record.About {
				return record.SteppedDown{Step: rapid.IntRange(1, 9).Draw(r, "step"), Amps: number.Draw(r, "amps")}
			}),
			rapid.Just[record.About](record.CutoffReached{Step: 2}),
			rapid.Just[record.About](nil),
		).Draw(r, "about")
		mark := record.Mark{T: number.Draw(r, "t"), Kind: record.MarkCondition, Label: word.Draw(r, "label"), About: about}
		data, err := json.Marshal(mark)
		require.NoError(r, err)
		var back record.Mark
		require.NoError(r, json.Unmarshal(data, &back))
		require.Equal(r, mark, back)
	})
	about, err := record.UnmarshalAbout([]byte(`{"is":"melted","at":3}`))
	require.NoError(t, err)
	assert.Nil(t, about)
	_, err = record.UnmarshalAbout([]byte(`{"is":"ended","rules":7}`))
	assert.Error(t, err)
}

// What the labels of earlier versions said is read in one place.
func TestTheLabelsOfEarlierVersionsAreTranslated(t *testing.T) {
	for _, c := range []struct {
		kind  record.MarkKind
		label string
		want  record.About
	}{
		{record.MarkCondition, "discharge ended by cutoff, time",
			record.Ended{Stage: "discharge", Rules: []string{"cutoff", "time"}}},
		{record.MarkCondition, "charge ended by taper", record.Ended{Stage: "charge", Rules: []string{"taper"}}},
		{record.MarkCondition, "rest ended by time", nil},
		{record.MarkCondition, "cutoff, step 3", record.CutoffReached{Step: 3}},
		{record.MarkCondition, "cutoff, step three", nil},
		{record.MarkCommand, "stepped down to 1.25 A", record.SteppedDown{Amps: 1.25}},
		{record.MarkCommand, "cycler.amps = 1 A", nil},
		{record.MarkNote, "charge ended by taper", nil}, // somebody wrote that
	} {
		assert.Equal(t, c.want, record.AboutOfLabel(c.kind, c.label), c.label)
	}
	marks := []record.Mark{{Kind: record.MarkStage, Label: "fill"},
		{Kind: record.MarkStage, Label: "empty", About: record.Began{Stage: "discharge", Index: 4}}}
	told := record.StagesByName(marks, map[string]string{"fill": "charge", "empty": "rest"})
	assert.Equal(t, record.Began{Stage: "charge", Index: -1}, told[0].About)
	assert.Equal(t, record.Began{Stage: "discharge", Index: 4}, told[1].About, "what a mark says itself counts")
	assert.Nil(t, marks[0].About, "the marks are not changed")
}

// The stages that happened are what their marks say, one after another, the last to the end of the run.
func TestStagesFollowFromTheirMarks(t *testing.T) {
	marks := []record.Mark{
		{T: 0, Kind: record.MarkStage, Label: "fill", About: record.Began{Stage: "charge"}},
		{T: 3, Kind: record.MarkNote, Label: "hello"},
		{T: 10, Kind: record.MarkStageEnd, Label: "fill"},
		{T: 12, Kind: record.MarkStage, Label: "rest", About: record.Began{Stage: "rest"}},
	}
	spans := record.SpansOf(marks, 40)
	assert.Equal(t, []record.Span{{Name: "fill", Kind: "charge", T0: 0, T1: 10},
		{Name: "rest", Kind: "rest", T0: 12, T1: 40}}, spans)
	rec := &record.Record{Marks: marks, Stages: spans}
	assert.Len(t, rec.MarksIn(spans[0]), 3)
	assert.Len(t, rec.MarksIn(spans[1]), 1)
}

// The half-cycles of a log cover it without a gap, in order, and no two neighbours are of one kind.
func TestHalfCyclesOfALogCoverIt(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		samples := course(r)
		var times, amps []float64
		for _, s := range samples {
			times, amps = append(times, s.T), append(amps, s.Amps)
		}
		spans := record.LogSpans(times, amps)
		require.NotEmpty(r, spans)
		require.Equal(r, times[0], spans[0].T0)
		require.Equal(r, times[len(times)-1], spans[len(spans)-1].T1)
		names := map[string]bool{}
		for k, s := range spans {
			require.LessOrEqual(r, s.T0, s.T1)
			require.False(r, names[s.Name], "each has a name of its own")
			names[s.Name] = true
			if k > 0 {
				require.Equal(r, spans[k-1].T1, s.T0)
				require.NotEqual(r, spans[k-1].Kind, s.Kind)
			}
		}
	})
}

// Of a source and a load together the battery gets what is fed less what is drained.
func TestWhatIsDrainedCountsAgainstWhatIsFed(t *testing.T) {
	series := map[string]trace.Series{}
	put := func(column string, x func(k int) float64) {
		s := trace.Series{}
		for k := range 101 {
			s.T, s.X = append(s.T, float64(k)), append(s.X, x(k))
		}
		series[column] = s
	}
	put("source.volts", func(int) float64 { return 12 })
	put("source.amps", func(k int) float64 { return 3 * float64(min(k, 50)) / 50 })
	put("load.amps", func(int) float64 { return 1 })
	rec := &record.Record{Trace: func(column string, a, b float64) (trace.Series, error) {
		s, ok := series[column]
		if !ok {
			return s, trace.ErrNoData
		}
		return s.Between(a, b), nil
	}}
	for column := range series {
		rec.Columns = append(rec.Columns, column)
	}
	b, err := rec.Terminals(0, 100)
	require.NoError(t, err)
	q0, _ := b.Count(0)
	q1, _ := b.Count(100)
	assert.InDelta(t, 0.5*3*50+3*50-100, q1-q0, 1e-9)
	assert.Equal(t, "source.volts", b.VoltsColumn)
}

// A discharge that ends with the first reading below its cutoff ends early, by its noise. The crossing is where a line
// through the last frames has it, with the charge that would have flowed by then; U says how well that is known.
func TestNoiseMakesNoCrossingEarly(t *testing.T) {
	const slope, cutoff, truth, every, noise, amps = -0.005, 21.0, 1000.0, 0.05, 0.002, 2.0
	random := rand.New(rand.NewPCG(1, 2))
	var early, plain, charge, scatter, told float64
	const runs = 200
	for range runs {
		var samples []recordtest.Sample
		for at := 990.0; ; at += every {
			volts := cutoff + slope*(at-truth) + noise*random.NormFloat64()
			samples = append(samples, recordtest.Sample{T: at, Volts: volts, Amps: -amps})
			if volts <= cutoff {
				break
			}
		}
		end := samples[len(samples)-1].T
		for k := range 20 { // it recovers
			samples = append(samples, recordtest.Sample{T: end + float64(k+1)*every, Volts: cutoff + 0.3})
		}
		rec := recordtest.Battery(nil, nil, nil, samples...)
		b, err := rec.Terminals(990, end+1)
		require.NoError(t, err)
		x, err := rec.Cross(b, record.Level{Volts: cutoff, From: 990, To: end + 1})
		require.NoError(t, err)
		first, err := rec.Cross(b, record.Level{Volts: cutoff, From: 990, To: end + 1, Fit: 1})
		require.NoError(t, err)
		assert.GreaterOrEqual(t, x.Fit, 6, "%g %g", x.T, first.T)
		early += (x.T - truth) / runs
		plain += (first.T - truth) / runs
		scatter += (x.T - truth) * (x.T - truth) / runs
		told += math.Pow(x.Noise/x.Slope, 2) / runs
		begin, _ := b.Count(990)
		charge += (-(x.Charge - begin) - amps*(x.T-990)) / runs
	}
	assert.Less(t, plain, -0.35, "the first reading below")
	assert.InDelta(t, 0, early, 0.15)
	assert.InDelta(t, 0, charge, 1e-6)
	assert.InDelta(t, math.Sqrt(scatter), math.Sqrt(told), 0.6*math.Sqrt(scatter), "the noise is told as large as it is")

	clean := recordtest.Battery(nil, nil, nil, recordtest.Falling(amps, 0, 100, 1, func(t float64) float64 {
		return cutoff - 0.05*(t-50.5)
	})...)
	b, err := clean.Terminals(0, 100)
	require.NoError(t, err)
	x, err := clean.Cross(b, record.Level{Volts: cutoff, From: 0, To: 100})
	require.NoError(t, err)
	assert.Zero(t, x.Fit)
	assert.InDelta(t, 50.5, x.T, 1e-9)
}

// The computer stands still while the readings at the crossing come: their time is not known, and no line through
// frames of other times says when the level was crossed.
func TestACrossingInReadingsThatTookLongIsNotKnown(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const every, slope, cutoff = 0.05, -0.005, 21.0
		truth := 100 + rapid.Float64Range(0, 1).Draw(t, "truth")
		asked := truth - rapid.Float64Range(0.01, 0.2).Draw(t, "asked before")
		read := truth + rapid.Float64Range(0, 0.04).Draw(t, "read after")
		came := read + rapid.Float64Range(0.3, 3).Draw(t, "came after")
		noise := rapid.SampledFrom([]float64{0, 0.0005}).Draw(t, "noise")
		var samples []recordtest.Sample
		volts := func(at float64) float64 {
			return cutoff + slope*(at-truth) + noise*(rapid.Float64Range(-1, 1).Draw(t, "deviation"))
		}
		for at := 90.0; at < asked; at += every {
			samples = append(samples, recordtest.Sample{T: at, Volts: max(volts(at), cutoff+1e-6), Amps: -2})
		}
		frame := (asked + came) / 2
		samples = append(samples, recordtest.Sample{T: frame, Volts: cutoff - 1e-4, Amps: -2})
		for k := range 20 {
			samples = append(samples, recordtest.Sample{T: came + float64(k+1)*every, Volts: cutoff + 0.3})
		}
		rec := recordtest.Battery(nil, nil, nil, samples...)
		rec.Marks = append(rec.Marks, record.Spread{From: asked, To: came}.Mark(frame))
		b, err := rec.Terminals(90, came+1)
		require.NoError(t, err)
		x, err := rec.Cross(b, record.Level{Volts: cutoff, From: 90, To: came + 1})
		require.NoError(t, err)
		assert.True(t, x.InGap)
		assert.LessOrEqual(t, x.Before, truth)
		assert.GreaterOrEqual(t, x.After, truth)
	})
}
