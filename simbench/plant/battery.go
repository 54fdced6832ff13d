package plant

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
)

// Battery is a pack of cells in series and parallel: open-circuit voltage over state of charge, an ohmic and two RC resistances,
// and a thermal mass. Charge is in ampere-seconds.
type Battery struct {
	Series, Parallel int
	Capacity         float64 // of the pack, A·s
	Ohmic            float64 // of the pack, Ω
	FastOhms         float64 // first RC element, Ω
	FastTau          float64 // s
	SlowOhms         float64 // second RC element, Ω
	SlowTau          float64 // s
	ThermalOhms      float64 // K/W to the ambient
	ThermalTau       float64 // s
	Reversed         bool    // the leads are the wrong way round
	Open             bool    // a broken lead
}

// The open-circuit voltage of an NMC cell over its state of charge, typical of the chemistry.
var openCircuitNMC = [][2]float64{
	{0, 3.00}, {0.02, 3.18}, {0.05, 3.32}, {0.10, 3.43}, {0.20, 3.53}, {0.30, 3.59}, {0.40, 3.63}, {0.50, 3.68}, {0.60, 3.77}, {0.70, 3.87},
	{0.80, 3.97}, {0.90, 4.08}, {1, 4.19},
}

// Gannet is the 7-cell NMC pack of the demo scenario, as the pack with the given serial number was made.
func Gannet(serial string, fault Fault) (Battery, error) {
	h := fnv.New64a()
	h.Write([]byte(serial))
	rng := rand.New(rand.NewPCG(h.Sum64(), 0x9a22))
	spread := func(nominal, share float64) float64 {
		if serial == "" {
			return nominal
		}
		return nominal * (1 + share*max(min(rng.NormFloat64(), 2.5), -2.5))
	}
	b := Battery{Series: 7, Parallel: 2, Capacity: spread(9.6*3600, 0.008), Ohmic: spread(0.063, 0.05), FastOhms: spread(0.028, 0.05), FastTau: 12,
		SlowOhms: spread(0.035, 0.05), SlowTau: 240, ThermalOhms: 2.2, ThermalTau: 900}
	return b, b.apply(fault)
}

// Faults of a battery.
const (
	ReversedLeads Fault = "reversed"
	WeakPack      Fault = "weak"
)

// OpenCircuit is the voltage of the pack at rest, at a state of charge.
func (b Battery) OpenCircuit(state float64) float64 {
	state = min(max(state, -0.02), 1.05)
	table := openCircuitNMC
	k := 1
	for k < len(table)-1 && state > table[k][0] {
		k++
	}
	low, high := table[k-1], table[k]
	cell := low[1] + (high[1]-low[1])*(state-low[0])/(high[0]-low[0])
	return cell * float64(b.Series)
}

// BatteryState is a battery in time.
type BatteryState struct {
	Charge     float64 // A·s in it
	fast, slow float64 // volts over the RC elements
	warmth     float64 // K above the ambient
	t          float64
	amps       float64 // into the battery
	begun      bool
}

// Ambient is the temperature of the room, °C.
const Ambient = 23

// At is the operating point at time t. It must be called with increasing t; between calls the current is constant.
func (b Battery) At(s *BatteryState, t float64, source Source, load Load) Operating {
	if !s.begun {
		s.begun, s.t = true, t
	}
	dt := max(t-s.t, 0)
	s.t = t
	s.Charge = min(max(s.Charge+s.amps*dt, -0.02*b.Capacity), 1.05*b.Capacity)
	relax := func(volts *float64, ohms, tau float64) {
		*volts += (s.amps*ohms - *volts) * (1 - math.Exp(-dt/tau))
	}
	relax(&s.fast, b.FastOhms, b.FastTau)
	relax(&s.slow, b.SlowOhms, b.SlowTau)
	loss := s.amps * s.amps * (b.Ohmic + b.FastOhms + b.SlowOhms)
	s.warmth += (loss*b.ThermalOhms - s.warmth) * (1 - math.Exp(-dt/b.ThermalTau))
	if b.Open {
		s.amps = 0
		return Operating{LineVolts: offVolts(source), OutputVolts: offVolts(source), Celsius: Ambient}
	}
	inner := b.OpenCircuit(s.Charge/b.Capacity) + s.fast + s.slow
	if b.Reversed {
		// A supply or load must not be switched onto a reversed pack; what happens then is left to the fuse.
		s.amps = 0
		return Operating{LineVolts: -inner, OutputVolts: -inner, Celsius: Ambient + s.warmth}
	}
	in, out := b.solve(inner, source, load)
	s.amps = in - out
	volts := inner + s.amps*b.Ohmic
	return Operating{LineVolts: volts, OutputVolts: volts, LineAmps: in, LoadAmps: out, SourceLimited: source.On && in >= source.Amps*0.999, Celsius: Ambient + s.warmth, Heat: loss}
}

func offVolts(s Source) float64 {
	if s.On {
		return s.Volts
	}
	return 0
}

// solve finds what a source gives and a load takes, together.
func (b Battery) solve(inner float64, source Source, load Load) (in, out float64) {
	for range 30 {
		volts := inner + (in-out)*b.Ohmic
		next := load.amps(volts)
		if math.IsInf(next, 1) { // constant voltage below the pack's: all that brings it there
			next = max((inner+in*b.Ohmic-load.Level)/b.Ohmic, 0)
		}
		out = min(next, 200)
		if source.On {
			in = min(max((source.Volts-inner)/b.Ohmic+out, 0), source.Amps)
		}
	}
	return in, out
}
