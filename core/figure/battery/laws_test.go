package battery

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/record/recordtest"
	"usherbench/core/trace"
)

// shapeOf is a cycle of a battery that a law is held against: how long, how strong, and how its volts fall.
type shapeOf struct {
	begin          float64 // when it begins, s
	charge, taken  float64 // A
	filling, drain float64 // s
	every          float64 // s between frames
	top, sag       float64 // V
}

func drawShape(r *rapid.T) shapeOf {
	return shapeOf{begin: float64(rapid.IntRange(0, 5000).Draw(r, "begin")),
		charge: rapid.Float64Range(0.5, 5).Draw(r, "charge"), taken: rapid.Float64Range(0.5, 5).Draw(r, "taken"),
		filling: float64(rapid.IntRange(300, 900).Draw(r, "filling")),
		drain:   float64(rapid.IntRange(300, 900).Draw(r, "drain")),
		every:   rapid.SampledFrom([]float64{0.5, 1, 3}).Draw(r, "every"), top: rapid.Float64Range(25, 29).Draw(r, "top"),
		sag: rapid.Float64Range(5, 9).Draw(r, "sag")}
}

// record is the shape as a record; scale multiplies its currents.
func (s shapeOf) record(scale float64) *record.Record {
	var samples []recordtest.Sample
	turn, end := s.begin+s.filling, s.begin+s.filling+s.drain
	for t := s.begin; t < turn; t += s.every {
		samples = append(samples, recordtest.Sample{T: t + 1e-3, Volts: s.top, Amps: scale * s.charge})
	}
	for t := turn; t < end; t += s.every {
		samples = append(samples, recordtest.Sample{T: t + 1e-3, Volts: s.top - s.sag*(t+1e-3-turn)/s.drain,
			Amps: -scale * s.taken})
	}
	rec := recordtest.Battery(map[string]quantity.Quantity{"cutoff": quantity.Of(s.top-0.8*s.sag, "V"),
		"rated_capacity": quantity.Of(1, "Ah")},
		[]record.Span{{Name: "fill", Kind: "charge", T0: s.begin, T1: turn},
			{Name: "empty", Kind: "discharge", T0: turn, T1: end}},
		[]record.Mark{recordtest.Command(s.begin, "on"), recordtest.Ended(turn, "charge", "taper"),
			recordtest.Command(turn, "on"), recordtest.Ended(end, "discharge", "cutoff")}, samples...)
	rec.Specs = cycler()
	return rec
}

func value(r *rapid.T, rec *record.Record, id string) figure.Result {
	result := compute(rec, figure.Request{ID: id})
	if result.Undetermined != nil && result.Undetermined.Code == record.WrongConditions {
		r.Skip("not between equal states")
	}
	require.Nil(r, result.Undetermined, "%s: %v", id, result.Undetermined)
	return result
}

// What a cycle of constant currents gives has a closed form.
func TestACycleOfConstantCurrentsHasAClosedForm(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		s := drawShape(r)
		rec := s.record(1)
		cut := 0.8 * s.drain
		for id, want := range map[string]float64{
			"charge-returned": s.charge * s.filling / 3600, "energy-returned": s.charge * s.filling * s.top / 3600,
			"capacity": s.taken * cut / 3600, "discharge-energy": s.taken * cut * (s.top - 0.4*s.sag) / 3600,
			"mean-discharge-voltage": s.top - 0.4*s.sag, "state-of-health": 100 * s.taken * cut / 3600, "c-rate": s.taken,
		} {
			got := value(r, rec, id)
			require.InEpsilon(r, want, got.Value, 1e-5, id)
			require.Positive(r, got.U, id)
		}
	})
}

// A figure does not know when the run began; of twice the current it is twice, or the same.
func TestFiguresKnowNeitherTheHourNorTheUnit(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		s := drawShape(r)
		later, scale := s, rapid.Float64Range(0.2, 2).Draw(r, "scale")
		later.begin += float64(rapid.IntRange(1, 100_000).Draw(r, "later"))
		for id, power := range map[string]float64{"capacity": 1, "discharge-energy": 1, "charge-returned": 1,
			"energy-returned": 1, "c-rate": 1, "mean-discharge-voltage": 0, "coulombic-efficiency": 0,
			"energy-efficiency": 0} {
			before := value(r, s.record(1), id).Value
			require.InEpsilon(r, before, value(r, later.record(1), id).Value, 1e-6, "%s, later", id)
			require.InEpsilon(r, before*math.Pow(scale, power), value(r, s.record(scale), id).Value, 1e-6, "%s, scaled", id)
		}
	})
}

// A better instrument never makes a figure worse known.
func TestABetterInstrumentIsNeverWorse(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		rec := drawShape(r).record(1)
		better := rapid.Float64Range(0.1, 1).Draw(r, "better")
		column := rapid.SampledFrom([]string{"cycler.volts", "cycler.amps"}).Draw(r, "column")
		for _, id := range []string{"capacity", "discharge-energy", "charge-returned", "coulombic-efficiency",
			"energy-efficiency", "mean-discharge-voltage"} {
			rec.Specs = cycler()
			before := value(r, rec, id).U
			spec := rec.Specs[column]
			spec[0].Reading *= better
			spec[0].Offset *= better
			require.LessOrEqual(r, value(r, rec, id).U, before*1.03, "%s with a better %s", id, column)
		}
	})
}

// Lost frames make a figure worse known, or none; they do not move it beyond what is stated.
func TestLostFramesAreBridgedWithinWhatIsStated(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		s := drawShape(r)
		s.every = 0.5
		whole := s.record(1)
		from := rapid.Float64Range(s.begin+5, s.begin+s.filling-20).Draw(r, "from")
		long := rapid.Float64Range(0, 15).Draw(r, "long")
		trace := whole.Trace
		holed := s.record(1)
		holed.Trace = lossy(trace, from, from+long)
		sound, got := value(r, whole, "charge-returned"), compute(holed, figure.Request{ID: "charge-returned"})
		if got.Undetermined != nil {
			require.Equal(r, record.Gap, got.Undetermined.Code)
			require.Greater(r, long, 9.0, "ten seconds are bridged")
			return
		}
		require.LessOrEqual(r, long, 10.1)
		require.InDelta(r, sound.Value, got.Value, got.U)
	})
}

// lossy is a trace that lost the frames of a time.
func lossy(of func(string, float64, float64) (trace.Series, error), from,
	to float64) func(string, float64, float64) (trace.Series, error) {
	return func(column string, a, b float64) (trace.Series, error) {
		s, err := of(column, a, b)
		var kept trace.Series
		for k, t := range s.T {
			if t < from || t > to {
				kept.T, kept.X = append(kept.T, t), append(kept.X, s.X[k])
			}
		}
		return kept, err
	}
}
