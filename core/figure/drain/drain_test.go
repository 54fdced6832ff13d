package drain_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// recorded is a run with one column, and states by when they began.
func recorded(t, amps []float64, states ...record.State) *record.Record {
	s := trace.Series{T: t, X: amps}
	rec := &record.Record{Stages: []record.Span{{Name: "hour", T0: t[0], T1: t[len(t)-1]}},
		Trace: func(_ string, from, to float64) (trace.Series, error) { return s.Between(from, to), nil }}
	for _, x := range states {
		rec.Marks = append(rec.Marks, record.Mark{T: x.At, Kind: record.MarkState, About: x})
	}
	return rec
}

func compute(rec *record.Record, id, state string, args map[string]float64) figure.Result {
	return catalogue.Figures().Compute(rec, figure.Request{ID: id, State: state, Args: args})
}

func TestAStateByItsWorkedExample(t *testing.T) {
	rec := recorded([]float64{0, 0.5, 1, 1.5, 2}, []float64{0.08, 0.12, 0.12, 0.1, 0.08},
		record.State{State: "transmit", At: 0})
	r := compute(rec, "state-duration", "transmit", nil)
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 2, r.Value, 1e-12)
	assert.InDelta(t, 58.3e-6, compute(rec, "state-charge", "transmit", nil).Value, 0.05e-6)
	assert.InDelta(t, 0.105, compute(rec, "state-mean-current", "transmit", nil).Value, 1e-9)
	assert.Equal(t, record.NoMark, compute(rec, "state-charge", "sleep", nil).Undetermined.Code)
}

// Percentiles are by time, however unevenly it was read.
func TestAPercentileByItsWorkedExample(t *testing.T) {
	var at, amps []float64
	now := 0.0
	add := func(x, seconds, every float64) {
		for past := 0.0; past < seconds-1e-9; past += every {
			at, amps = append(at, now+past), append(amps, x)
		}
		now += seconds
	}
	add(2e-6, 56, 0.5)
	add(8e-3, 3, 0.01)
	add(105e-3, 1, 0.001)
	rec := recorded(at, amps)
	for share, want := range map[float64]float64{0.5: 2e-6, 0.95: 8e-3, 0.99: 105e-3} {
		r := compute(rec, "current-percentile", "", map[string]float64{"share": share})
		require.Nil(t, r.Undetermined)
		assert.InDelta(t, want, r.Value, 1e-12, share)
	}
	few := recorded(at[:40], amps[:40])
	r := compute(few, "current-percentile", "", map[string]float64{"share": 0.95})
	assert.Equal(t, record.TooFew, r.Undetermined.Code)
}

// The mean of a profile of use, and how long a battery lasts with it.
func TestAProfileByItsWorkedExample(t *testing.T) {
	var at, amps []float64
	for k, x := range []float64{2e-6, 8e-3, 105e-3} {
		for i := range 11 {
			at, amps = append(at, float64(k)+float64(i)*0.0999), append(amps, x)
		}
	}
	rec := recorded(at, amps, record.State{State: "sleep", At: 0}, record.State{State: "listen", At: 0.9995},
		record.State{State: "transmit", At: 1.9995})
	req := figure.Request{ID: "profile-mean-current", Profile: map[string]float64{"sleep": 56, "listen": 3, "transmit": 1}}
	mean := catalogue.Figures().Compute(rec, req)
	require.Nil(t, mean.Undetermined)
	assert.InDelta(t, 2.152e-3, mean.Value, 0.02e-3)
	req.ID, req.Args = "battery-life-estimate", map[string]float64{"capacity": 1.2 * 3600, "usable": 0.85, "fades": 0.03}
	life := catalogue.Figures().Compute(rec, req)
	require.Nil(t, life.Undetermined)
	assert.InDelta(t, 473, life.Value, 5)
	assert.Contains(t, life.Remarks, "an estimate")
	delete(req.Args, "capacity")
	assert.Equal(t, record.NoRating, catalogue.Figures().Compute(rec, req).Undetermined.Code)
	rec.Ratings = map[string]quantity.Quantity{"battery_capacity": quantity.Of(1.2, "Ah")}
	assert.InDelta(t, life.Value, catalogue.Figures().Compute(rec, req).Value, 1e-9)
	req.Profile["measure"] = 1
	assert.Equal(t, record.NoData, catalogue.Figures().Compute(rec, req).Undetermined.Code)
}

// A mark between two readings divides what flowed between them as a straight line does.
func TestAStateEndsWhereItsMarkStands(t *testing.T) {
	var at, amps []float64
	for k := range 101 {
		at, amps = append(at, float64(k)), append(amps, float64(k))
	}
	rec := recorded(at, amps, record.State{State: "a", At: 10.5}, record.State{State: "b", At: 20.25},
		record.State{State: "a", At: 60}, record.State{State: "b", At: 70})
	a := compute(rec, "state-charge", "a", nil)
	require.Nil(t, a.Undetermined)
	assert.InDelta(t, ((20.25*20.25-10.5*10.5)/2+(4900-3600)/2)/3600, a.Value, 1e-9)
	assert.InDelta(t, 19.75, compute(rec, "state-duration", "a", nil).Value, 1e-12)
}

// The mean current of a state lies within its uncertainty of the truth, in as many of 1,000 runs as it says.
func TestIntervalsOfAStateHoldTheTruth(t *testing.T) {
	rng := rand.New(rand.NewPCG(20, 11))
	spec := uncertainty.Spec{{To: 1, Reading: 5e-4, Offset: 20e-6, Resolution: 1e-6}}
	held := 0
	for range 1000 {
		gain, offset := (2*rng.Float64()-1)*5e-4, (2*rng.Float64()-1)*20e-6
		var at, amps []float64
		for k := range 600 {
			x := 8e-3
			if k >= 200 && k < 400 {
				x = 105e-3
			}
			read := x*(1+gain) + offset + 3e-5*rng.NormFloat64()
			at, amps = append(at, 0.01*float64(k)), append(amps, math.Round(read/1e-6)*1e-6)
		}
		rec := recorded(at, amps, record.State{State: "listen", At: 0}, record.State{State: "transmit", At: 2.1},
			record.State{State: "listen", At: 3.9})
		rec.Specs = map[string]uncertainty.Spec{"source.amps": spec}
		r := compute(rec, "state-mean-current", "transmit", nil)
		require.Nil(t, r.Undetermined)
		if math.Abs(r.Value-105e-3) <= r.U {
			held++
		}
	}
	assert.GreaterOrEqual(t, held, 930)
	assert.LessOrEqual(t, held, 975)
}

// Where the instrument counts, pulses that no reading sees are in the charge of a state.
func TestACounterSeesWhatNoReadingDoes(t *testing.T) {
	var at, amps, counts []float64
	q := 0.0
	for k := range 121 {
		x := 0.5 * float64(k)
		at, amps, counts = append(at, x), append(amps, 2e-6), append(counts, q)
		q += 1e-6
		if k == 60 {
			q += 0.1 // a pulse between two readings
		}
	}
	rec := recorded(at, amps, record.State{State: "sleep", At: 0}, record.State{State: "transmit", At: 30},
		record.State{State: "sleep", At: 31})
	both := map[string]trace.Series{"source.amps": {T: at, X: amps}, "source.charge": {T: at, X: counts}}
	rec.Trace = func(c string, from, to float64) (trace.Series, error) { return both[c].Between(from, to), nil }
	rec.Specs = map[string]uncertainty.Spec{"source.amps": {{To: 1, Reading: 1e-3}},
		"source.charge": {{To: 1e6, Reading: 1e-3}}}
	sent := compute(rec, "state-charge", "transmit", nil)
	require.Nil(t, sent.Undetermined)
	assert.InDelta(t, 0.100002/3600, sent.Value, 1e-12)
	assert.InDelta(t, 1e-4/3600, sent.U, 2e-5/3600)
	slept := compute(rec, "state-charge", "sleep", nil)
	assert.InDelta(t, 118e-6/3600, slept.Value, 1e-12)
}

// A percentile of a state is that of its visits, whatever was between them.
func TestAPercentileOfAState(t *testing.T) {
	var at, amps []float64
	for k := range 4000 {
		at = append(at, float64(k)/10)
		x := 2e-6
		if k/1000%2 == 1 { // it transmits from 100 to 200 s, and from 300 to 400 s
			x = 0.1
			if k%10 == 0 {
				x = 0.2
			}
		}
		amps = append(amps, x)
	}
	rec := recorded(at, amps, record.State{State: "sleep", At: 0}, record.State{State: "transmit", At: 100},
		record.State{State: "sleep", At: 200}, record.State{State: "transmit", At: 300})
	for _, c := range []struct {
		state       string
		share, want float64
	}{{"sleep", 0.9, 2e-6}, {"transmit", 0.5, 0.1}, {"transmit", 0.95, 0.2}, {"", 0.3, 2e-6}, {"", 0.7, 0.1}} {
		r := compute(rec, "current-percentile", c.state, map[string]float64{"share": c.share})
		require.Nil(t, r.Undetermined, c)
		assert.InDelta(t, c.want, r.Value, 1e-12, "%v", c)
	}
	assert.Equal(t, record.NoMark, compute(rec, "current-percentile", "flying", nil).Undetermined.Code)
}
