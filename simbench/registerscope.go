package simbench

import (
	"encoding/binary"
	"math"
	"time"
)

var registerScopeKind = standIn{"register-scope",
	[]InstrumentFault{Drop, Hang, Slow, Garbage, WrongIdentity, NoTrigger, WrongProbe, HungFetch}}

// registerScope is a digitiser of the low-cost kind: what the scope sees, in registers on a socket.
//
//	holding 0 arm (1) or stop (0)   1 channel that triggers, 0: at once   2 slope, 1: falling   3 page
//	        4–5 span, s   6–7 samples   8–9 share before the trigger   10–11 level, V
//	        20–21 range, V   22–23 offset, V   24 AC   25 filter, kHz, 0: none   (each channel 200 further on)
//	        900–905 model, text
//	input   0 state: 0 idle, 1 waiting, 2 done   4–7 start, s   8–11 step, s   12–13 samples
//	        20–21 volts of the code 0   22–23 volts of a step   60–179 samples of the page   (channels as above)
type registerScope struct {
	registerServer
	*scope
	written [registerScopeEnd]uint16
	kept    [4][]int16 // the codes of a channel, converted when the first of them are asked for
}

const (
	registerScopeEnd    = 800
	registerScopeStride = 200
	registerScopeWindow = 60
	registerScopePage   = 120
	registerScopeMost   = 20_000
	registerScopeDelay  = time.Millisecond
	registerScopeModel  = "SIM-D2 4CH12B"
)

func newRegisterScope(serial string, ideal bool, c clock) *registerScope {
	s := &registerScope{scope: newScope(scopeModel12, serial, ideal, c)}
	s.unit, s.device, s.registerServer.health, s.delay = registerUnit, s, s.scope.health, registerScopeDelay
	s.turn = make(chan struct{}, 1)
	return s
}

func (s *registerScope) writeRegister(address, value uint16) byte {
	if address >= registerScopeEnd {
		return illegalAddress
	}
	s.written[address] = value
	switch {
	case address == 0 && value == 1:
		return s.start()
	case address == 0:
		s.disarm()
	}
	return 0
}

// whole is the number of 32 bits that was written from an address on, and float the one of single precision.
func (s *registerScope) whole(address int) uint32 {
	return uint32(s.written[address])<<16 | uint32(s.written[address+1])
}

func (s *registerScope) float(address int) float64 {
	return float64(math.Float32frombits(s.whole(address)))
}

// start takes over what was written, and arms.
func (s *registerScope) start() byte {
	s.span, s.samples, s.before = s.float(4), int(s.whole(6)), s.float(8)
	s.source, s.falling, s.level = int(s.written[1]), s.written[2] == 1, s.float(10)
	if !(s.span >= 1e-6 && s.span <= 1000) || s.samples < 10 || s.samples > registerScopeMost || s.source > len(s.kept) ||
		!(s.before >= 0 && s.before <= 1) {
		return illegalValue
	}
	for k := range s.kept {
		at, in := 20+k*registerScopeStride, &s.inputs[k]
		in.full, in.offset = max(s.float(at), 1e-3), s.float(at+2)
		in.ac, in.limit = s.written[at+4] == 1, 1e3*float64(s.written[at+5])
		s.kept[k] = nil
	}
	s.arm()
	return 0
}

func (s *registerScope) readRegister(input bool, address uint16) (uint16, bool) {
	if !input {
		return s.readHolding(address)
	}
	double := func(x float64, from uint16) (uint16, bool) {
		raw := binary.BigEndian.AppendUint64(nil, math.Float64bits(x))
		return binary.BigEndian.Uint16(raw[2*(address-from):]), true
	}
	word := func(bits uint32, from uint16) (uint16, bool) {
		return uint16(bits >> (16 * (1 - (address - from)))), true
	}
	single := func(x float64, from uint16) (uint16, bool) { return word(math.Float32bits(float32(x)), from) }
	switch {
	case address == 0:
		return map[string]uint16{"WAIT": 1, "DONE": 2}[s.state()], true
	case address >= 4 && address < 8:
		return double(-s.before*s.span, 4)
	case address >= 8 && address < 12:
		return double(s.step(), 8)
	case address >= 12 && address < 14:
		return word(uint32(s.samples), 12)
	}
	channel := int(address / registerScopeStride)
	if channel >= len(s.kept) {
		return 0, false
	}
	in, at := &s.inputs[channel], address%registerScopeStride
	switch first := uint16(20 + channel*registerScopeStride); {
	case at >= 20 && at < 22:
		return single(in.offset, first)
	case at >= 22 && at < 24:
		return single(in.full/(1<<16), first+2)
	case at >= registerScopeWindow && at < registerScopeWindow+registerScopePage:
		return s.sample(channel, int(s.written[3])*registerScopePage+int(at)-registerScopeWindow)
	}
	return 0, false
}

func (s *registerScope) readHolding(address uint16) (uint16, bool) {
	if k := int(address) - 900; k >= 0 && k < 6 {
		model := registerScopeModel
		if s.scope.health.now() == WrongIdentity {
			model = "SIM-Z7 ------"
		}
		return uint16(model[2*k])<<8 | uint16(model[2*k+1]), true
	}
	if address >= registerScopeEnd {
		return 0, false
	}
	return s.written[address], true
}

// sample is one code of a channel.
func (s *registerScope) sample(channel, k int) (uint16, bool) {
	s.mute = s.scope.health.now() == HungFetch
	if s.kept[channel] == nil {
		codes, err := s.codes(channel + 1)
		if err != nil {
			return 0, false
		}
		s.kept[channel] = codes
	}
	if k >= len(s.kept[channel]) {
		return 0, false
	}
	return uint16(s.kept[channel][k]), true
}
