package simbench

import (
	"math"
	"slices"
	"time"

	"usherbench/simbench/plant"
)

var registerLoadKind = standIn{"register-load", slices.Concat(anyFault, leadFault, outputFault)}

// registerLoad is the load of the low-cost kind: registers in mV and mA, slow, on a serial line.
//
//	holding 0 on/off   1 mode: 0 current, 1 voltage, 2 power, 3 resistance   2 mA   3 mV   4 0.1 W
//	        5 10 mΩ   6 lockout, mV
//	input   0 mV   1 mA   2–3 mW, low word first   4 0.1 °C, signed
//	holding 100–105 model, text
type registerLoad struct {
	registerServer
	on        bool
	mode      uint16
	levels    [5]uint16 // registers 2 … 6
	setAmps   drawn
	readVolts drawn
	readAmps  drawn
	drain     *drain
}

var registerModes = []plant.Mode{plant.ConstantCurrent, plant.ConstantVoltage, plant.ConstantPower,
	plant.ConstantResistance}

// registerDelay is how long its processor takes.
const registerDelay = 4 * time.Millisecond

const (
	mostRegisterAmps  = 12_000 // mA
	mostRegisterVolts = 60_000 // mV
)

func newRegisterLoad(serial string, ideal bool, unit byte) *registerLoad {
	l := &registerLoad{}
	l.unit, l.device, l.health, l.delay, l.turn = unit, l, newHealth(), registerDelay, make(chan struct{}, 1)
	errors := newErrorSource(serial, ideal)
	l.setAmps, l.readVolts, l.readAmps = errors.draw(registerSet), errors.draw(registerVolts), errors.draw(registerAmps)
	return l
}

func (l *registerLoad) readRegister(input bool, address uint16) (uint16, bool) {
	if input {
		return l.readInput(address)
	}
	switch {
	case address == 0:
		return map[bool]uint16{true: 1}[l.on], true
	case address == 1:
		return l.mode, true
	case address >= 2 && address <= 6:
		return l.levels[address-2], true
	case address >= 100 && address <= 105:
		model := "SIM-M1 12A60V"
		if l.health.now() == WrongIdentity {
			model = "SIM-Z7 ------"
		}
		k := 2 * (address - 100)
		return uint16(model[k])<<8 | uint16(model[k+1]), true
	}
	return 0, false
}

func (l *registerLoad) readInput(address uint16) (uint16, bool) {
	o := l.drain.operating()
	if l.health.number() != "" && address <= 4 {
		return 0x8000, true // the sensor is open or over its range
	}
	milli := func(x float64) uint16 { return uint16(int16(math.Round(min(max(x*1000, -32767), 32767)))) }
	switch address {
	case 0:
		return milli(l.readVolts.read(l.health.volts(o.Output.Volts))), true
	case 1:
		return milli(l.readAmps.read(o.Output.Amps)), true
	case 2, 3:
		watts := uint32(max(o.Output.Volts*o.Output.Amps, 0) * 1000)
		return uint16(watts >> (16 * (address - 2))), true
	case 4:
		return uint16(int16(10 * (plant.Ambient + 12))), true
	}
	return 0, false
}

func (l *registerLoad) writeRegister(address, value uint16) byte {
	switch {
	case address == 0 && value <= 1:
		if !l.health.stuck(l.on, value == 1) {
			l.on = value == 1
		}
	case address == 1 && int(value) < len(registerModes):
		l.mode = value
	case address == 2 && value <= mostRegisterAmps, address == 3 && value <= mostRegisterVolts, address >= 4 &&
		address <= 6:
		l.levels[address-2] = value
	case address <= 6:
		return illegalValue
	default:
		return illegalAddress
	}
	l.push()
	return 0
}

func (l *registerLoad) push() {
	scales := []float64{1e-3, 1e-3, 0.1, 0.01}
	level := float64(l.levels[l.mode]) * scales[l.mode]
	if l.mode == 0 && level > 0 {
		level = l.setAmps.set(level)
	}
	l.drain.set(plant.Load{On: l.on, Mode: registerModes[l.mode], Level: level, Lockout: float64(l.levels[4]) / 1000})
}
