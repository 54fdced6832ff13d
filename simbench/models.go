package simbench

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
)

// channelModel is how well one quantity of a stand-in is set or read: bounds of gain and offset, noise and resolution.
type channelModel struct{ gain, offset, noise, resolution float64 }

// The stand-ins keep what their dialects promise: errors are drawn evenly from within these bounds.
var (
	supplyVolts     = channelModel{gain: 0.0003, offset: 6e-3, noise: 0.4e-3, resolution: 1e-3}
	supplyAmps      = channelModel{gain: 0.0005, offset: 1.5e-3, noise: 0.08e-3, resolution: 0.1e-3}
	supplySetVolts  = channelModel{gain: 0.0005, offset: 10e-3, resolution: 1e-3}
	loadVolts       = channelModel{gain: 0.00025, offset: 4e-3, noise: 0.15e-3, resolution: 0.1e-3}
	loadAmps        = channelModel{gain: 0.0005, offset: 2e-3, noise: 0.12e-3, resolution: 0.1e-3}
	loadSetAmps     = channelModel{gain: 0.0005, offset: 3e-3, resolution: 0.1e-3}
	standbyAmps     = channelModel{gain: 0.0005, offset: 40e-6, noise: 4e-6, resolution: 1e-6}
	cyclerVolts     = channelModel{gain: 0.0002, offset: 3e-3, noise: 0.15e-3, resolution: 0.1e-3}
	cyclerAmps      = channelModel{gain: 0.0005, offset: 1.5e-3, noise: 0.1e-3, resolution: 0.1e-3}
	cyclerSetVolts  = channelModel{gain: 0.0005, offset: 8e-3, resolution: 1e-3}
	cyclerSetAmps   = channelModel{gain: 0.0005, offset: 3e-3, resolution: 0.1e-3}
	analyserVolts   = channelModel{gain: 0.0001, offset: 1e-3, noise: 0.1e-3, resolution: 0.1e-3}
	analyserAmps    = channelModel{gain: 0.0001, offset: 0.2e-3, noise: 0.02e-3, resolution: 0.01e-3}
	analyserWatts   = channelModel{gain: 0.0002, offset: 5e-3, noise: 0.5e-3, resolution: 0.1e-3}
	meterVolts      = channelModel{gain: 0.00003, offset: 0.3e-3, noise: 0.02e-3, resolution: 0.01e-3}
	shuntAmps       = channelModel{gain: 0.0005, offset: 0.5e-3, noise: 0.05e-3, resolution: 0.1e-3}
	drainVolts      = channelModel{gain: 0.0001, offset: 0.3e-3, noise: 0.02e-3, resolution: 0.01e-3}
	drainSetVolts   = channelModel{gain: 0.0002, offset: 1e-3, resolution: 1e-3}
	bankVolts       = channelModel{gain: 0.002, offset: 5e-3, noise: 0.5e-3, resolution: 1e-3}
	bankAmps        = channelModel{gain: 0.002, offset: 2e-3, noise: 0.2e-3, resolution: 1e-3}
	mainsVolts      = channelModel{gain: 0.001, offset: 0.1, noise: 0.02, resolution: 0.01}
	mainsAmps       = channelModel{gain: 0.002, offset: 2e-3, noise: 0.2e-3, resolution: 1e-3}
	mainsSetVolts   = channelModel{gain: 0.001, offset: 0.1, resolution: 0.1}
	gridVolts       = channelModel{gain: 0.0005, offset: 0.02, noise: 3e-3, resolution: 1e-3}
	gridAmps        = channelModel{gain: 0.001, offset: 5e-6, noise: 1e-6, resolution: 1e-7}
	gridWatts       = channelModel{gain: 0.001, offset: 0.2e-3, noise: 30e-6, resolution: 1e-5}
	sinkVolts       = channelModel{gain: 0.0005, offset: 3e-3, noise: 0.2e-3, resolution: 0.1e-3}
	sinkAmps        = channelModel{gain: 0.001, offset: 3e-3, noise: 0.2e-3, resolution: 1e-3}
	gridHertz       = channelModel{offset: 5e-3, noise: 1e-3, resolution: 1e-3}
	threeVolts      = channelModel{gain: 0.0005, offset: 0.05, noise: 5e-3, resolution: 0.01}
	threeAmps       = channelModel{gain: 0.001, offset: 0.01, noise: 1e-3, resolution: 1e-3}
	threeWatts      = channelModel{gain: 0.001, offset: 5, noise: 0.5, resolution: 0.1}
	acLoadWatts     = channelModel{gain: 0.001, offset: 10, noise: 1, resolution: 0.1}
	acLoadSet       = channelModel{gain: 0.002, offset: 30, resolution: 1}
	highVolts       = channelModel{gain: 0.0002, offset: 0.2, noise: 5e-3, resolution: 10e-3}
	highSetVolts    = channelModel{gain: 0.0003, offset: 0.5, resolution: 10e-3}
	thermoCelsius   = channelModel{offset: 0.3, noise: 0.02, resolution: 0.01}
	lightIrradiance = channelModel{gain: 0.01, offset: 1, noise: 0.3, resolution: 0.1}
	brakeSet        = channelModel{gain: 0.005, offset: 0.02, resolution: 0.01}
	// By the ranges of a crosspoint.
	scannedContact   = channelModel{gain: 0.0002, offset: 0.5e-3, noise: 20e-6, resolution: 10e-6}
	scannedOhms      = channelModel{gain: 0.001, offset: 1, noise: 0.05, resolution: 0.01}
	scannedIsolation = channelModel{gain: 0.02, offset: 1e3, noise: 100, resolution: 10}
	shaftTorque      = channelModel{gain: 0.0005, offset: 5e-3, noise: 1e-3, resolution: 1e-3}
	shaftSpeed       = channelModel{offset: 1e-3, noise: 1e-4, resolution: 1e-4}
	accessoryOhms    = channelModel{gain: 0.0002, offset: 20e-3, noise: 3e-3, resolution: 1e-3}
	windingOhms      = channelModel{gain: 0.0002, offset: 2e-4, noise: 3e-5, resolution: 1e-5}
	shaking          = channelModel{gain: 0.02, offset: 5e-5, noise: 1e-5, resolution: 1e-5}
	roomHumidity     = channelModel{offset: 0.02, noise: 0.001, resolution: 0.001}
	roomCelsius      = channelModel{offset: 0.3, noise: 0.02, resolution: 0.01}
	drivePercent     = channelModel{offset: 0.05, noise: 0.01, resolution: 0.01}
	forceNewtons     = channelModel{gain: 0.001, offset: 0.3, noise: 0.2, resolution: 0.01}
	forceVolts       = channelModel{gain: 0.0005, offset: 2e-4, noise: 2e-5, resolution: 1e-5}
	registerVolts    = channelModel{gain: 0.001, offset: 5e-3, noise: 0.5e-3, resolution: 1e-3}
	registerAmps     = channelModel{gain: 0.002, offset: 5e-3, noise: 0.5e-3, resolution: 1e-3}
	registerSet      = channelModel{gain: 0.002, offset: 5e-3, resolution: 1e-3}
)

// rangeOf is the finest of some ranges, by their upper ends, that holds a value; the last where none does.
func rangeOf(ends []float64, x float64) int {
	k := slices.IndexFunc(ends, func(most float64) bool { return math.Abs(x) <= most })
	if k < 0 {
		return len(ends) - 1
	}
	return k
}

// standbyRange is the upper end of the supply's fine current range, A.
const standbyRange = 0.1

const (
	mostSupplyVolts = 80
	mostSupplyAmps  = 10
	mostLoadVolts   = 150
	mostLoadAmps    = 30
	mostLoadWatts   = 300
	mostLoadOhms    = 10_000
	mostCyclerVolts = 80
	mostCyclerAmps  = 12
	mostMainsVolts  = 300
	mostMainsAmps   = 8
	mostFeederAmps  = 120
	mostACLoadWatts = 66_000
)

// errorSource draws the fixed errors and the noise of one instrument.
type errorSource struct {
	rng   *rand.Rand
	ideal bool
}

// drawn is one quantity of one instrument with its own fixed errors.
type drawn struct {
	model        channelModel
	gain, offset float64
	source       *errorSource
}

func newErrorSource(serial string, ideal bool) *errorSource {
	h := fnv.New64a()
	h.Write([]byte(serial))
	return &errorSource{rng: rand.New(rand.NewPCG(h.Sum64(), 0x5e7)), ideal: ideal}
}

func (s *errorSource) draw(m channelModel) drawn {
	even := func(bound float64) float64 { return (2*s.rng.Float64() - 1) * bound }
	return drawn{model: m, gain: even(m.gain), offset: even(m.offset), source: s}
}

// read is what the instrument shows of a true value; it draws noise, so calls are serialised by the interpreter's lock.
func (d drawn) read(truth float64) float64 {
	if d.source.ideal {
		return truth
	}
	x := truth*(1+d.gain) + d.offset + d.model.noise*d.source.rng.NormFloat64()
	return round(x, d.model.resolution)
}

// set is what the instrument really gives for a setpoint.
func (d drawn) set(x float64) float64 {
	if d.source.ideal {
		return x
	}
	return max(round(x, d.model.resolution)*(1+d.gain)+d.offset, 0)
}

func round(x, step float64) float64 { return math.Round(x/step) * step }

// show writes a reading with the digits of its resolution; exact readings keep every digit.
func (d drawn) show(x float64) string {
	if d.source.ideal {
		return strconv.FormatFloat(x, 'e', 16, 64)
	}
	return strconv.FormatFloat(x, 'f', max(0, int(math.Ceil(-math.Log10(d.model.resolution)-1e-9))), 64)
}
