package battery

import (
	"math"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/record/recordtest"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// without takes the samples of a time away.
func without(samples []recordtest.Sample, from, to float64) []recordtest.Sample {
	return slices.DeleteFunc(slices.Clone(samples), func(s recordtest.Sample) bool { return s.T >= from && s.T <= to })
}

// cycler states the accuracy of a cycler.
func cycler() map[string]uncertainty.Spec {
	return map[string]uncertainty.Spec{"cycler.volts": {{To: 60, Reading: 3e-4, Offset: 3e-3, Resolution: 1e-3}},
		"cycler.amps": {{To: 12, Reading: 5e-4, Offset: 2e-3, Resolution: 1e-3}}}
}

// long is a charge, a rest, a discharge past its cutoff of 21 V at 4000 s of 5000, and a recovery, a frame a second.
func long(lost ...float64) *record.Record {
	samples := recordtest.Steady(0, 4000, 28, 2.45)
	samples = append(samples, recordtest.Steady(4000, 4100, 27, 0)...)
	samples = append(samples, recordtest.Falling(1.9, 4100.5, 9100, 1, func(t float64) float64 {
		return 26 - 5*(t-4100)/4000
	})...)
	samples = append(samples, recordtest.Steady(9100.5, 10000, 24, 0)...)
	if len(lost) > 0 {
		samples = without(samples, lost[0], lost[1])
	}
	rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "fill", Kind: "charge", T0: 0, T1: 4000},
		{Name: "wait", Kind: "rest", T0: 4000, T1: 4100}, {Name: "empty", Kind: "discharge", T0: 4100, T1: 9100},
		{Name: "recover", Kind: "rest", T0: 9100, T1: 10000}},
		[]record.Mark{recordtest.Command(0, "on"), recordtest.Ended(4000, "charge", "taper"), recordtest.Command(4000, "off"),
			recordtest.Command(4100, "on"), recordtest.Ended(9100, "discharge", "cutoff"), recordtest.Command(9100, "off")},
		samples...)
	rec.Specs = cycler()
	return rec
}

// A part that is missing is a gap, wherever it is missing.
func TestWhatIsMissingIsAGapWhereverItIs(t *testing.T) {
	sound := []string{"capacity", "discharge-energy", "mean-discharge-voltage", "charge-returned", "energy-returned",
		"coulombic-efficiency", "energy-efficiency", "rest-recovery", "rest-voltage", "c-rate"}
	for _, id := range sound {
		r := compute(long(), figure.Request{ID: id})
		require.Nil(t, r.Undetermined, "%s: %v", id, r.Undetermined)
		assert.Positive(t, r.U, id)
	}
	for name, c := range map[string]struct {
		from, to float64
		ids      []string
	}{
		"the first 600 s of a charge": {-1, 600, []string{"charge-returned", "energy-returned",
			"coulombic-efficiency"}},
		"an hour of a charge":                {200, 3800, []string{"charge-returned", "energy-efficiency"}},
		"the last 1400 s of a charge":        {2600, 4000, []string{"charge-returned", "energy-returned"}},
		"the first 600 s of a discharge":     {4101, 4700, []string{"capacity", "discharge-energy", "coulombic-efficiency"}},
		"the last 1400 s of a discharge":     {7700, 9100, []string{"capacity", "coulombic-efficiency", "c-rate"}},
		"12 s inside":                        {6000, 6012, []string{"capacity", "mean-discharge-voltage", "c-rate"}},
		"90 s where the load went off":       {9050, 9140, []string{"rest-recovery"}},
		"where the recovery is read":         {9650, 9750, []string{"rest-recovery"}},
		"the end of a rest":                  {9900, 10001, []string{"rest-voltage"}},
		"8 s where the cutoff was crossed":   {8096, 8104, []string{"capacity", "state-of-health", "knee"}},
		"a minute where it was crossed":      {8070, 8130, []string{"capacity", "mean-discharge-voltage"}},
		"everything but the first 10 frames": {4111, 9100, []string{"capacity"}},
	} {
		for _, id := range c.ids {
			r := compute(long(c.from, c.to), figure.Request{ID: id})
			require.NotNil(t, r.Undetermined, "%s without %s: %g", id, name, r.Value)
			assert.Equal(t, record.Gap, r.Undetermined.Code, "%s without %s: %v", id, name, r.Undetermined)
		}
	}
	// A hole beside the window of a figure concerns it not
	assert.Nil(t, compute(long(200, 3800), figure.Request{ID: "capacity"}).Undetermined)
	assert.Nil(t, compute(long(8300, 9000), figure.Request{ID: "capacity"}).Undetermined, "the cutoff was crossed before")
}

// What is a gap in a stage is told by the rule of that stage, not by that of the slowest.
func TestTheRuleOfAStageIsItsOwn(t *testing.T) {
	rec := long(8075, 8125)
	rec.Stages[3].AtLeast = 60 // the rest keeps a frame a minute
	assert.Equal(t, record.Gap, compute(rec, figure.Request{ID: "capacity"}).Undetermined.Code)
	rec.Stages[2].AtLeast = 60
	assert.Nil(t, compute(rec, figure.Request{ID: "capacity"}).Undetermined, "where the stage itself allows it")
}

// Of two stages of one name each figure takes the one of its kind.
func TestStagesOfOneNameAreToldApart(t *testing.T) {
	rec := long()
	for k := range rec.Stages[:3] {
		rec.Stages[k].Name = "step"
	}
	assert.InDelta(t, 2.45*4000./3600, compute(rec, figure.Request{ID: "charge-returned", Stage: "step"}).Value, 1e-2)
	assert.InDelta(t, 1.9*4000/3600, compute(rec, figure.Request{ID: "capacity", Stage: "step"}).Value, 1e-2)
	assert.InDelta(t, 27, compute(rec, figure.Request{ID: "rest-voltage", Stage: "step", Pass: 1}).Value, 1e-9)
	table := compute(rec, figure.Request{ID: "cycle-table"}).Table
	require.Len(t, table.Rows, 1)
	assert.NotNil(t, table.Rows[0][8], "the resistance of the step into the discharge, not into the charge")
}

// A current that flows the wrong way is no negative capacity.
func TestWhatFlowsTheWrongWayHasNoValue(t *testing.T) {
	samples := append(recordtest.Steady(0, 1000, 28, 2), recordtest.Falling(-0.4, 1000.5, 2000, 1,
		func(t float64) float64 { return 25 - 5*(t-1000)/1000 })...)
	rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "fill", Kind: "charge", T0: 0, T1: 1000},
		{Name: "empty", Kind: "discharge", T0: 1000, T1: 2000}}, []record.Mark{recordtest.Command(0, "on"),
		recordtest.Ended(1000, "charge", "taper"), recordtest.Command(1000, "on"),
		recordtest.Ended(2000, "discharge", "cutoff")}, samples...)
	for _, id := range []string{"capacity", "discharge-energy", "coulombic-efficiency", "energy-efficiency",
		"mean-discharge-voltage"} {
		r := compute(rec, figure.Request{ID: id})
		require.NotNil(t, r.Undetermined, "%s: %g", id, r.Value)
		assert.Equal(t, record.WrongSign, r.Undetermined.Code, id)
	}
}

// Cycles of which a half is missing, or was ended by something else, are listed and never fitted.
func TestCyclesThatAreNotCompleteAreNotFitted(t *testing.T) {
	var samples []recordtest.Sample
	var stages []record.Span
	var marks []record.Mark
	now := 0.0
	add := func(kind string, seconds, amps float64, ended string) {
		from := now
		marks = append(marks, recordtest.Command(from, "on"))
		for past := 0.5; past < seconds; past++ {
			volts := 28.0
			if amps < 0 {
				volts = 26 - 5.1*past/seconds
			}
			samples = append(samples, recordtest.Sample{T: from + past, Volts: volts, Amps: amps})
		}
		now += seconds
		stages = append(stages, record.Span{Name: kind, Kind: kind, T0: from, T1: now})
		if ended != "" {
			marks = append(marks, recordtest.Ended(now, kind, ended))
		}
	}
	add("discharge", 1800, -2, "cutoff") // as it came: no charge before
	for range 3 {
		add("charge", 1000, 2, "taper")
		add("discharge", 980, -2, "cutoff")
	}
	add("charge", 200, 2, "") // somebody stopped it
	add("discharge", 190, -2, "cutoff")
	rec := recordtest.Battery(gannetRatings(), stages, marks, samples...)
	rec.Specs = cycler()
	r := compute(rec, figure.Request{ID: "fade", Args: map[string]float64{"reference": 2}})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 0, r.Value, 1e-6, "three equal cycles")
	assert.Equal(t, 3, r.N)
	assert.Equal(t, record.NoPoint, compute(rec, figure.Request{ID: "fade"}).Undetermined.Code, "cycle 1 had no charge")
	assert.Equal(t, record.TooFew, compute(rec, figure.Request{ID: "capacity-knee"}).Undetermined.Code)
	life := compute(rec, figure.Request{ID: "cycle-life", Args: map[string]float64{"reference": 2}})
	require.NotNil(t, life.Undetermined)
	assert.InDelta(t, 4, *life.Undetermined.AtLeast, 1e-9, "more than the last complete cycle")
	// A charge with a hole has no number in the table, not 0
	rec = recordtest.Battery(gannetRatings(), stages, marks, without(samples, 2000, 2600)...)
	assert.Nil(t, compute(rec, figure.Request{ID: "cycle-table"}).Table.Rows[1][1])
}

// Between the crossing and the command that steps down the current flows on, and counts; what recovers only after the
// blank has recovered.
func TestAStepDownCountsAllThatFlowed(t *testing.T) {
	var samples []recordtest.Sample
	for past := 0.0; past <= 300; past += 0.5 {
		amps, volts := -2.0, 22-past*0.01 // crosses 21 V at 100 s; the command comes at 110 s
		if past > 110 {
			amps, volts = -1, 20.95
			if past > 111.5 { // below the cutoff within the blank
				volts = 22 - (past-111.5)*0.01
			}
		}
		samples = append(samples, recordtest.Sample{T: past, Volts: volts, Amps: amps})
	}
	rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "empty", Kind: "discharge", T0: 0, T1: 250}},
		[]record.Mark{recordtest.Command(0, "on"), {T: 100, Kind: record.MarkCondition, About: record.CutoffReached{Step: 1}},
			{T: 110, Kind: record.MarkCommand, About: record.SteppedDown{Step: 1, Amps: 1}},
			recordtest.Ended(212, "discharge", "cutoff")}, samples...)
	rec.Specs = cycler()
	r := compute(rec, figure.Request{ID: "step-down-capacity"})
	require.Nil(t, r.Undetermined, "%v", r.Undetermined)
	assert.InDelta(t, (2*110+1*101.5)/3600, r.Value, 2e-4, "to the last crossing at 211.5 s, all of it")
	require.Len(t, r.Table.Rows, 2)
	assert.InDelta(t, 2*110./3600, r.Table.Rows[0][2], 2e-4)
	assert.Empty(t, r.Table.Rows[1][4], "below the cutoff in the blank only: it recovered")
	holed := recordtest.Battery(gannetRatings(), rec.Stages, rec.Marks, without(samples, 130, 170)...)
	assert.Equal(t, record.Gap, compute(holed, figure.Request{ID: "step-down-capacity"}).Undetermined.Code)
}

// The voltage at rest is weighted by time, of frames at rest, also where a slow record has one a minute.
func TestTheVoltageAtRestIsThatOfTheRest(t *testing.T) {
	samples := recordtest.Steady(0, 100, 20, -2)
	for past := 100.0; past <= 1000; past += 60 {
		samples = append(samples, recordtest.Sample{T: past + 0.5, Volts: 22 + past/1000, Amps: 0})
	}
	rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "empty", Kind: "discharge", T0: 0, T1: 100},
		{Name: "recover", Kind: "rest", T0: 100, T1: 1001, AtLeast: 60}},
		[]record.Mark{recordtest.Command(0, "on"), recordtest.Command(100, "off")}, samples...)
	r := compute(rec, figure.Request{ID: "rest-voltage"})
	require.Nil(t, r.Undetermined, "%v", r.Undetermined)
	assert.InDelta(t, 23, r.Value, 0.03)
	r = compute(rec, figure.Request{ID: "rest-voltage", Args: map[string]float64{"average": 5000}})
	assert.Greater(t, r.Value, 22.4, "frames under load are not at rest")
}

// The rate of a current that alternates is that of its flow.
func TestTheRateOfAnAlternatingCurrentIsThatOfItsFlow(t *testing.T) {
	var samples []recordtest.Sample
	for past := 0.0; past < 1000; past++ {
		samples = append(samples, recordtest.Sample{T: past, Volts: 25,
			Amps: math.Copysign(1.92, math.Mod(past, 20)-9.5)})
	}
	rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "shake", Kind: "discharge", T0: 0, T1: 999}}, nil,
		samples...)
	assert.InDelta(t, 0.2, compute(rec, figure.Request{ID: "c-rate"}).Value, 0.01)
}

// Two instruments at one battery are two: their gains do not cancel, and each enters with its own accuracy.
func TestTwoAmmetersAreNotTakenForOne(t *testing.T) {
	columns := map[string]*trace.Series{"load.volts": {}, "source.amps": {}, "load.amps": {}}
	put := func(t, volts, fed, drained float64) {
		for column, x := range map[string]float64{"load.volts": volts, "source.amps": fed, "load.amps": drained} {
			columns[column].T, columns[column].X = append(columns[column].T, t), append(columns[column].X, x)
		}
	}
	for past := 0.0; past < 1000; past++ {
		put(past, 28, 2, 0)
	}
	for past := 1000.5; past < 2000; past++ {
		put(past, 25-5*(past-1000)/1000, 0, 1.9)
	}
	rec := &record.Record{Ratings: gannetRatings(), Columns: []string{"load.volts", "source.amps", "load.amps"},
		Stages: []record.Span{{Name: "fill", Kind: "charge", T0: 0, T1: 1000},
			{Name: "empty", Kind: "discharge", T0: 1000, T1: 2000}},
		Marks: []record.Mark{recordtest.Command(0, "on"), recordtest.Ended(1000, "charge", "taper"),
			recordtest.Command(1000, "on"), recordtest.Ended(2000, "discharge", "cutoff")},
		Specs: map[string]uncertainty.Spec{"load.volts": {{To: 60}}, "source.amps": {{To: 10, Reading: 1e-3}},
			"load.amps": {{To: 30, Reading: 1e-3}}},
		Trace: func(column string, a, b float64) (trace.Series, error) { return columns[column].Between(a, b), nil }}
	r := compute(rec, figure.Request{ID: "coulombic-efficiency"})
	require.Nil(t, r.Undetermined)
	assert.InDelta(t, 1.902*0.1*0.95/math.Sqrt(3)*math.Sqrt2, r.U, 0.01, "two rectangles of 0.1 % of 95 %")
	rec.Specs["source.amps"] = uncertainty.Spec{{To: 10, Reading: 5e-3}}
	assert.InDelta(t, 0.95*5e-3*2*1000/3600, compute(rec, figure.Request{ID: "charge-returned"}).U, 2e-4,
		"what was fed is known as well as the supply's ammeter knows it")
	rec.Specs["load.volts"] = uncertainty.Spec{{To: 60, Reading: 0.01}}
	energy := compute(rec, figure.Request{ID: "energy-returned"})
	assert.Greater(t, energy.U, 0.0095*energy.Value, "the volts are a part of the energy")
	delete(rec.Specs, "source.amps")
	assert.Contains(t, compute(rec, figure.Request{ID: "charge-returned"}).Remarks, figure.NotStated)
}

// Where only a bound is known, it is given in the figure's own unit.
func TestBoundsAreNumbersInTheUnitOfTheFigure(t *testing.T) {
	rec := long()
	rec.Ratings["cutoff"] = quantity.Of(10, "V")
	for id, least := range map[string]float64{"capacity": 1.9 * 5000 / 3600,
		"discharge-energy": 1.9 * 5000 / 3600 * (26 - 5*2500./4000), "state-of-health": 100 * 1.9 * 5000 / 3600 / 9.6} {
		r := compute(rec, figure.Request{ID: id})
		require.NotNil(t, r.Undetermined, id)
		require.NotNil(t, r.Undetermined.AtLeast, id)
		assert.InEpsilon(t, least, *r.Undetermined.AtLeast, 2e-3, id)
	}
	r := compute(rec, figure.Request{ID: "mean-discharge-voltage"})
	assert.Nil(t, r.Undetermined.AtLeast, "a mean may go either way")
}

// A pulse is known no better than a step of the voltmeter, however often it was read before.
func TestAResistanceDoesNotAverageTheStepAway(t *testing.T) {
	rec := pulse(recordtest.Sample{T: 0, Volts: 25.84, Amps: 0}, recordtest.Sample{T: 0, Volts: 25.168, Amps: -9.6})
	rec.Specs = map[string]uncertainty.Spec{"cycler.volts": {{To: 60, Resolution: 0.01}}, "cycler.amps": {{To: 12}}}
	r := compute(rec, figure.Request{ID: "pulse-resistance", Stage: "pulse"})
	require.Nil(t, r.Undetermined)
	assert.GreaterOrEqual(t, r.U, 1000*0.95*0.005/9.6, "half a step of 10 mV at each end")
}

// A discharge that was interrupted takes as long as one that was not, and says that it was.
func TestTheTimeAwayIsNoTimeOfADischarge(t *testing.T) {
	line := func(t float64) float64 { return 21.030 - (t-17990)*0.005 }
	const off, on = 8100.0, 8360.0
	late := func(t float64) float64 { return line(t - (on - off)) }
	frames := recordtest.Falling(1.92, 0, 8000, 10, line)
	for at := 8300.0; at < on; at += 10 {
		frames = append(frames, recordtest.Sample{T: at, Volts: 24})
	}
	frames = append(frames, recordtest.Falling(1.92, on, 18010+on-off, 10, late)...)
	end := 18000 + on - off
	rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "empty", Kind: "discharge", T0: 0, T1: end + 10}},
		[]record.Mark{recordtest.Command(0, ""), {T: 8000, Kind: record.MarkBreak}, {T: on, Kind: record.MarkBreak},
			recordtest.Ended(end, "discharge", "cutoff")}, frames...)
	rec.Breaks = []record.Break{{T0: 8000, Off: off, T1: 8300, Within: 3.6}}
	rec.Specs = map[string]uncertainty.Spec{"cycler.volts": {{To: 200}}, "cycler.amps": {{To: 12, Offset: 0.001}}}
	for id, want := range map[string]float64{"termination": 18000, "crossing-time": 17996, "c-rate": 0.2} {
		r := compute(rec, figure.Request{ID: id, Args: map[string]float64{"level": 21}})
		if assert.Nil(t, r.Undetermined, id) {
			assert.InEpsilon(t, want, r.Value, 3e-3, id)
			assert.Contains(t, r.Remarks, "resumed", id)
		}
	}
	r := compute(rec, figure.Request{ID: "capacity"})
	require.Nil(t, r.Undetermined)
	assert.Regexp(t, `^\d.* % of U² is from gaps$`, strings.Join(r.Remarks[len(r.Remarks)-1:], ""))
}

// Pulses are no cycles: three cycles with a pulse in each charge and discharge are three.
func TestPulsesAreNoCycles(t *testing.T) {
	var stages []record.Span
	var marks []record.Mark
	var samples []recordtest.Sample
	at := 0.0
	stage := func(name, kind, rule string, seconds, amps float64) {
		stages = append(stages, record.Span{Name: name, Kind: kind, T0: at, T1: at + seconds})
		marks = append(marks, recordtest.Command(at, ""), recordtest.Ended(at+seconds, kind, rule))
		for k := 0.0; k < seconds; k += 2 {
			volts := 25.0
			if kind == "discharge" && rule == "cutoff" && k+2 >= seconds {
				volts = 20.9
			}
			samples = append(samples, recordtest.Sample{T: at + k, Volts: volts, Amps: amps})
		}
		at += seconds
	}
	for n := range 3 {
		stage("fill", "charge", "taper", 4000, 2)
		stage("pulse", "discharge", "time", 10, -8)
		stage("pulse up", "charge", "charge", 20, 4)
		stage("empty", "discharge", "cutoff", 3600-100*float64(n), -2)
		stage("last pulse", "discharge", "time", 10, -8)
	}
	rec := recordtest.Battery(gannetRatings(), stages, marks, samples...)
	table := compute(rec, figure.Request{ID: "cycle-table"})
	require.Nil(t, table.Undetermined)
	assert.Equal(t, 3.0, table.Value)
	assert.Len(t, table.Table.Rows, 3)
	fade := compute(rec, figure.Request{ID: "fade"})
	require.Nil(t, fade.Undetermined)
	assert.InDelta(t, 100*200.0/3600, fade.Value, 0.05)
	capacity := compute(rec, figure.Request{ID: "capacity"})
	assert.InDelta(t, 2*3400.0/3600, capacity.Value, 0.01, "the last discharge is no pulse")
	assert.InDelta(t, 8*10.0/3600, -pulsed(t, rec), 0.01, "by its name it is found all the same")
	cycles := rec.Cycles()
	assert.Equal(t, []float64{0, stages[5].T0, stages[10].T0}, []float64{cycles[0].Began(), cycles[1].Began(),
		cycles[2].Began()})
}

func pulsed(t *testing.T, rec *record.Record) float64 {
	h, err := rec.Half("discharge", "pulse", 0)
	require.NoError(t, err)
	b, err := rec.Terminals(h.T0, h.T1)
	require.NoError(t, err)
	m, err := rec.Over(b, h.From, h.To)
	require.NoError(t, err)
	return m.Charge / record.AmpHour
}

// A log that ended at somebody else's cutoff, a hair above ours, has the capacity of what it holds, and says what may
// be missing. One that ended far above has a bound alone.
func TestALogThatEndsJustAboveTheCutoff(t *testing.T) {
	log := func(last float64) figure.Result {
		frames := recordtest.Falling(1.92, 0, 18000, 10, func(t float64) float64 { return last + (18000-t)*0.0005 })
		frames = append(frames, recordtest.Sample{T: 18010, Volts: 24}, recordtest.Sample{T: 18020, Volts: 24})
		rec := recordtest.Battery(gannetRatings(), []record.Span{{Name: "discharge 1", Kind: "discharge", T0: 0, T1: 18010}},
			[]record.Mark{recordtest.Ended(18010, "discharge", record.EndOfCurrent)}, frames...)
		rec.Specs = map[string]uncertainty.Spec{"cycler.volts": {{To: 200}}, "cycler.amps": {{To: 12}}}
		return compute(rec, figure.Request{ID: "capacity"})
	}
	near := log(21.0004)
	require.Nil(t, near.Undetermined)
	assert.InDelta(t, 1.92*18000/3600, near.Value, 1e-3)
	assert.Equal(t, "the log ends at 21.0004 V: of what flows down to 21 V at most 0.00043 Ah is missing",
		near.Remarks[0])
	assert.Greater(t, near.U, 0.0004)
	far := log(22)
	require.NotNil(t, far.Undetermined)
	assert.Equal(t, record.NotReached, far.Undetermined.Code)
	assert.NotNil(t, far.Undetermined.AtLeast)
}
