package simbench

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"usherbench/simbench/plant"
)

// What can be wrong with a scope beside what can be wrong with any stand-in.
const (
	// NoTrigger never triggers.
	NoTrigger InstrumentFault = "no-trigger"
	// WrongProbe is a probe that is switched to another factor.
	WrongProbe InstrumentFault = "wrong-probe"
	// HungFetch hangs when samples are asked for.
	HungFetch InstrumentFault = "hung-fetch"
)

var scopeKind = standIn{"scope", slices.Concat([]InstrumentFault{Drop, Hang, Slow, Garbage, WrongIdentity}, textFault,
	[]InstrumentFault{NoTrigger, WrongProbe, HungFetch})}

// scopeFactors are those of the probes of its four channels, in the order of what can be seen: 10:1 for volts, 10
// mV/A for amps.
var scopeFactors = map[string]float64{"V": 10, "A": 100}

// scopeMost bounds the samples of a capture.
const scopeMost = 10_000_000

// scopeModel is the converter of a scope. Codes are left-justified in 16 bits.
type scopeModel struct {
	identity string
	inputs   int
	bits     int
	passes   float64 // Hz
	noise    float64 // share of the range
	// gain and offset bound the fixed errors of a channel: shares of the value, and of the range.
	gain, offset float64
	factors      map[string]float64 // of its probes, by what they see
	// rejects says that nothing above half the rate reaches the converter.
	rejects bool
}

var scopeModel12 = scopeModel{identity: "SIM-O4", inputs: 4, bits: 12, passes: 100e6, noise: 0.0004, gain: 0.01,
	offset: 0.005, factors: scopeFactors}

func (m scopeModel) code() float64 { return float64(int(1) << (16 - m.bits)) }

// scope sees the true waveforms of a unit, or of several: one at each input.
type scope struct {
	interpreter
	model   scopeModel
	clock   clock
	errors  *errorSource
	inputs  []scopeInput
	span    float64
	samples int
	before  float64
	source  int // channel that triggers, from 1; 0: at once
	level   float64
	falling bool
	order   binary.AppendByteOrder // of the bytes of a code
	// armed is when it was armed, trigger when it triggered, by the plant's clock; NaN: not.
	armed, trigger, looked float64
}

type scopeInput struct {
	model         scopeModel
	at            *fixture // nil: nothing is joined to it
	probe         plant.Probe
	full, offset  float64 // V at the connector
	ac            bool
	limit         float64 // Hz; 0: none
	gain, shifted float64
}

func newScope(m scopeModel, serial string, ideal bool, c clock) *scope {
	s := &scope{model: m, inputs: make([]scopeInput, m.inputs), clock: c, errors: newErrorSource(serial, ideal),
		span: 1e-3, samples: 1000, before: 0.1,
		armed: math.NaN(), trigger: math.NaN(), order: binary.BigEndian}
	s.health, s.reset = newHealth(), func() {}
	s.identity = "Usher Bench," + m.identity + "," + serial + ",1.0"
	for i := range s.inputs {
		d := s.errors.draw(channelModel{gain: m.gain, offset: m.offset})
		s.inputs[i] = scopeInput{model: m, probe: nowhere, full: 8, gain: d.gain, shifted: d.offset}
		if ideal {
			s.inputs[i].gain, s.inputs[i].shifted = 0, 0
		}
	}
	s.busy = func() bool { return s.state() == "WAIT" }
	s.timeBase()
	s.vertical()
	s.triggering()
	s.on("ACQuire:SCALe", nil, func(channel int) (string, error) {
		in, err := s.input(channel)
		if err != nil {
			return "", err
		}
		start := -s.before * s.span
		return fmt.Sprintf("%.12E,%.12E,%.9E,%.9E", start, s.step(), in.offset, in.full/(1<<16)), nil
	})
	s.on("FORMat:BORDer", func(args []string, _ int) error {
		switch strings.ToUpper(args[0]) {
		case "NORM", "NORMAL":
			s.order = binary.BigEndian
		case "SWAP", "SWAPPED":
			s.order = binary.LittleEndian
		default:
			return errParameter
		}
		return nil
	}, nil)
	s.on("ACQuire:DATA", nil, func(channel int) (string, error) {
		if s.health.now() == HungFetch {
			return "", nil // nothing is answered
		}
		codes, err := s.codes(channel)
		if err != nil {
			return "", err
		}
		raw := make([]byte, 0, 2*len(codes))
		for _, c := range codes {
			raw = s.order.AppendUint16(raw, uint16(c))
		}
		digits := strconv.Itoa(len(raw))
		return "#" + strconv.Itoa(len(digits)) + digits + string(raw), nil
	})
	return s
}

// nowhere is a probe that nothing is joined to.
var nowhere = plant.Probe{Unit: "V", Seen: func(plant.Operating) float64 { return 0 }}

// see puts a probe at every place of a unit that can be seen.
func (s *scope) see(f *fixture) {
	for i, p := range plant.Probes() {
		s.inputs[i].join(f, p)
	}
}

// join puts a probe at a unit.
func (in *scopeInput) join(f *fixture, p plant.Probe) { in.at, in.probe = f, p }

// factor is that of the probe.
func (in *scopeInput) factor() float64 { return in.model.factors[in.probe.Unit] }

// waves has somebody look at what the input sees, as [fixture.waves] does.
func (in *scopeInput) waves(look func(at func(t float64) plant.Operating, stirred []float64)) {
	if in.at == nil {
		look(func(float64) plant.Operating { return plant.Operating{} }, nil)
		return
	}
	in.at.waves(look)
}

func (s *scope) step() float64 { return s.span / float64(s.samples) }

func (s *scope) input(channel int) (*scopeInput, error) {
	if channel < 1 || channel > len(s.inputs) {
		return nil, errRange
	}
	return &s.inputs[channel-1], nil
}

// timeBase has what sets the time.
func (s *scope) timeBase() {
	number := func(header string, least, most float64, to func(float64)) {
		s.on(header, func(args []string, _ int) error {
			x, err := strconv.ParseFloat(args[0], 64)
			if err != nil {
				return errParameter
			}
			if x < least || x > most {
				return errRange
			}
			to(x)
			return nil
		}, nil)
	}
	number("ACQuire:SPAN", 1e-7, 1000, func(x float64) { s.span = x })
	number("ACQuire:SAMPles", 10, scopeMost, func(x float64) { s.samples = int(x) })
	number("ACQuire:BEFore", 0, 1, func(x float64) { s.before = x })
	number("TRIGger:LEVel", -1e3, 1e3, func(x float64) { s.level = x })
}

// vertical has what sets a channel.
func (s *scope) vertical() {
	word := func(header string, set func(in *scopeInput, word string) error) {
		s.on(header, func(args []string, channel int) error {
			in, err := s.input(channel)
			if err != nil {
				return err
			}
			return set(in, strings.ToUpper(args[0]))
		}, nil)
	}
	parsed := func(to func(in *scopeInput, x float64)) func(in *scopeInput, word string) error {
		return func(in *scopeInput, word string) error {
			x, err := strconv.ParseFloat(word, 64)
			if err != nil {
				return errParameter
			}
			to(in, x)
			return nil
		}
	}
	word("INPut:RANGe", parsed(func(in *scopeInput, x float64) { in.full = math.Max(x, 1e-3) }))
	word("INPut:OFFSet", parsed(func(in *scopeInput, x float64) { in.offset = x }))
	word("INPut:COUPling", func(in *scopeInput, word string) error {
		if word != "AC" && word != "DC" {
			return errParameter
		}
		in.ac = word == "AC"
		return nil
	})
	word("INPut:BANDwidth", func(in *scopeInput, word string) error {
		if word == "FULL" {
			in.limit = 0
			return nil
		}
		return parsed(func(in *scopeInput, x float64) { in.limit = x })(in, word)
	})
}

// triggering has what arms and triggers.
func (s *scope) triggering() {
	s.on("TRIGger:SOURce", func(args []string, _ int) error {
		if strings.ToUpper(args[0]) == "NOW" {
			s.source = 0
			return nil
		}
		n, err := strconv.Atoi(args[0])
		if err != nil || n < 1 || n > len(s.inputs) {
			return errRange
		}
		s.source = n
		return nil
	}, nil)
	s.on("TRIGger:SLOPe", func(args []string, _ int) error {
		switch word := strings.ToUpper(args[0]); word {
		case "RIS", "RISING", "FALL", "FALLING":
			s.falling = strings.HasPrefix(word, "FALL")
			return nil
		}
		return errParameter
	}, nil)
	s.on("ACQuire:STARt", func([]string, int) error {
		s.arm()
		return nil
	}, nil)
	s.on("ACQuire:ABORt", func([]string, int) error {
		s.disarm()
		return nil
	}, nil)
	s.on("ACQuire:STATe", nil, func(int) (string, error) { return s.state(), nil })
}

func (s *scope) arm() {
	s.armed, s.trigger = s.clock.now(), math.NaN()
	s.looked = s.armed
}

func (s *scope) disarm() { s.armed, s.trigger = math.NaN(), math.NaN() }

// state looks for the trigger.
func (s *scope) state() string {
	if math.IsNaN(s.armed) {
		return "IDLE"
	}
	now := s.clock.now()
	after := s.span * (1 - s.before)
	switch {
	case s.health.now() == NoTrigger:
		return "WAIT"
	case math.IsNaN(s.trigger) && s.source == 0:
		s.trigger = s.armed + s.before*s.span
	case math.IsNaN(s.trigger):
		s.look(now)
	}
	if math.IsNaN(s.trigger) || now < s.trigger+after {
		return "WAIT"
	}
	return "DONE"
}

// look looks for the trigger in what came since the last look: finely behind every change, and for some periods.
func (s *scope) look(now float64) {
	in := &s.inputs[s.source-1]
	in.waves(func(at func(t float64) plant.Operating, stirred []float64) {
		mean := s.mean(in.probe.Seen, at, s.looked, in.ac)
		g := plant.Trigger{Level: s.level * in.factor(), Falling: s.falling,
			Seen: func(t float64) float64 { return in.probe.Seen(at(t)) - mean }}
		s.trigger = g.Find(s.armed, s.looked, now, s.step(), stirred)
		s.looked = now
	})
}

// mean is what AC coupling takes away: the mean of some milliseconds before an instant.
func (s *scope) mean(seen func(plant.Operating) float64, at func(float64) plant.Operating, t float64, ac bool) float64 {
	if !ac {
		return 0
	}
	const n = 64
	sum := 0.0
	for k := range n {
		sum += seen(at(t + (float64(k)+0.37)*s.span/n))
	}
	return sum / n
}

// codes are the samples of a channel.
func (s *scope) codes(channel int) ([]int16, error) {
	in, err := s.input(channel)
	if err != nil {
		return nil, err
	}
	if math.IsNaN(s.trigger) {
		return nil, scpiError{-230, "Data corrupt or stale"}
	}
	probe, factor := in.probe, in.factor()
	if s.health.now() == WrongProbe {
		factor /= 10
	}
	codes := make([]int16, s.samples)
	in.waves(func(at func(t float64) plant.Operating, _ []float64) {
		start, step := s.trigger-s.before*s.span, s.step()
		mean := s.mean(probe.Seen, at, start, in.ac)
		passes := s.model.passes
		if in.limit > 0 {
			passes = math.Min(in.limit, passes)
		}
		share := 1 - math.Exp(-2*math.Pi*passes*step)
		y := math.NaN()
		for i := range codes {
			o := at(start + float64(i)*step)
			x := (probe.Seen(o) - mean) / factor
			if s.model.rejects && probe.Noise != nil {
				x += probe.Noise(o) * math.Sqrt(0.5/step) * s.errors.rng.NormFloat64() / factor
			}
			if math.IsNaN(y) {
				y = x
			}
			y += share * (x - y)
			codes[i] = in.code(y, s.errors)
		}
	})
	return codes, nil
}

// code is what the converter makes of volts at the connector.
func (in *scopeInput) code(volts float64, errors *errorSource) int16 {
	x := volts*(1+in.gain) + in.shifted*in.full - in.offset
	if !errors.ideal {
		x += in.model.noise * in.full * errors.rng.NormFloat64()
	}
	step := in.model.code()
	c := math.Round(x/in.full*(1<<16)/step) * step
	return int16(math.Max(math.MinInt16, math.Min(1<<15-step, c)))
}
