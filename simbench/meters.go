package simbench

import (
	"encoding/binary"
	"fmt"
	"math"
	"slices"
	"strconv"

	"usherbench/simbench/plant"
)

var analyserKind = standIn{"analyser", slices.Concat(anyFault, textFault, leadFault)}

// analyser is the power analyser: it sits in the line that feeds a unit.
type analyser struct {
	interpreter
	volts, amps, watts drawn
	fixture            *fixture
	at                 float64 // when it looked last, by the plant's clock
	charge, energy     float64
	averages           int // readings of which each is the mean
}

func newAnalyser(serial string, ideal bool, f *fixture) *analyser {
	a := &analyser{fixture: f, at: f.plantTime(), averages: 1}
	a.health, a.reset = newHealth(), func() {}
	a.identity = "Usher Bench,SIM-A1," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	a.volts, a.amps, a.watts = errors.draw(analyserVolts), errors.draw(analyserAmps), errors.draw(analyserWatts)
	number := func(header string, d drawn, truth func(plant.Operating) float64) {
		a.on(header, nil, func(int) (string, error) {
			a.integrate()
			return a.averaged(d, truth(f.operating())), nil
		})
	}
	a.on("AVERage:COUNt", func(args []string, _ int) error {
		n, err := strconv.Atoi(args[0])
		if err != nil {
			return errParameter
		}
		if n < 1 || n > mostAverages {
			return errRange
		}
		a.averages = n
		return nil
	}, func(int) (string, error) { return strconv.Itoa(a.averages), nil })
	number("MEASure:VOLTage", a.volts, func(o plant.Operating) float64 { return a.health.volts(o.Line.Volts) })
	number("MEASure:CURRent", a.amps, func(o plant.Operating) float64 { return o.Line.Amps })
	number("MEASure:POWer", a.watts, func(o plant.Operating) float64 { return o.Line.Watts() })
	a.on("MEASure:FREQuency", nil, func(int) (string, error) { return "0.000", nil }) // of direct current
	a.on("MEASure:FACTor", nil, func(int) (string, error) { return "1.0000", nil })
	a.on("INTegrate:STARt", func([]string, int) error {
		a.at, a.charge, a.energy = f.plantTime(), 0, 0
		return nil
	}, nil)
	a.on("INTegrate:CHARge", nil, func(int) (string, error) {
		a.integrate()
		return strconv.FormatFloat(a.charge/3600, 'f', totalDigits, 64), nil
	})
	a.on("INTegrate:ENERgy", nil, func(int) (string, error) {
		a.integrate()
		return strconv.FormatFloat(a.energy/3600, 'f', totalDigits, 64), nil
	})
	return a
}

// mostAverages bounds the readings of which one is the mean; totalDigits are those of a total in Ah or Wh.
const (
	mostAverages = 256
	totalDigits  = 9
)

// averaged shows the mean of as many readings as it is told to take, with the digits of one.
func (a *analyser) averaged(d drawn, truth float64) string {
	if a.averages == 1 || a.health.number() != "" {
		return a.shown(d, truth)
	}
	sum := 0.0
	for range a.averages {
		sum += d.read(truth)
	}
	return d.show(sum / float64(a.averages))
}

// integrate adds what flowed since the last look, as one who looks all the time.
func (a *analyser) integrate() {
	now := a.fixture.plantTime()
	a.fixture.waves(func(at func(t float64) plant.Operating, _ []float64) {
		const looks = 32
		step := (now - a.at) / looks
		for k := range looks {
			if o := at(a.at + (float64(k)+0.5)*step); step > 0 {
				a.charge += o.Line.Amps * step
				a.energy += o.Line.Watts() * step
			}
		}
	})
	a.at = now
}

var multimeterKind = standIn{"multimeter", slices.Concat(anyFault, textFault, leadFault)}

// multimeter measures what a unit gives; its readings come also as a block of binary numbers.
type multimeter struct {
	interpreter
	volts   drawn
	fixture *fixture
}

func newMultimeter(serial string, ideal bool, f *fixture) *multimeter {
	m := &multimeter{fixture: f}
	m.health, m.reset = newHealth(), func() {}
	m.identity = "Usher Bench,SIM-D1," + serial + ",1.0"
	m.volts = newErrorSource(serial, ideal).draw(meterVolts)
	read := func() float64 { return m.volts.read(m.health.volts(f.operating().Output.Volts)) }
	m.on("MEASure:VOLTage[:DC]", nil,
		func(int) (string, error) { return m.shown(m.volts, m.health.volts(f.operating().Output.Volts)), nil })
	ohms := func(leads float64) func(int) (string, error) {
		return func(int) (string, error) {
			if text := m.health.number(); text != "" {
				return text, nil
			}
			o := f.operating()
			if o.Output.Amps < 1e-3 {
				return isOver, nil // nothing conducts
			}
			return strconv.FormatFloat(o.Output.Volts/o.Output.Amps+leads, 'f', 4, 64), nil
		}
	}
	m.on("MEASure:RESistance", nil, ohms(0.2)) // two-wire, with the leads
	m.on("MEASure:FRESistance", nil, ohms(0))
	m.on("FETCh:BLOCk", nil, func(int) (string, error) {
		raw := binary.BigEndian.AppendUint32(nil, math.Float32bits(float32(read())))
		if text := m.health.number(); text != "" {
			raw = binary.BigEndian.AppendUint32(nil, math.Float32bits(9.91e37))
		}
		return fmt.Sprintf("#1%d%s", len(raw), raw), nil
	})
	return m
}

var ammetersKind = standIn{"ammeters", slices.Concat(anyFault, textFault, leadFault)}

// ammeters are eight shunts, one at each of cells side by side; a current into the cell is positive.
type ammeters struct {
	interpreter
	amps    [8]drawn
	fixture *fixture
}

func newAmmeters(serial string, ideal bool, f *fixture) *ammeters {
	a := &ammeters{fixture: f}
	a.health, a.reset = newHealth(), func() {}
	a.identity = "Usher Bench,SIM-N8," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	for i := range a.amps {
		a.amps[i] = errors.draw(shuntAmps)
	}
	a.on("MEASure:CURRent", nil, func(channel int) (string, error) {
		if channel < 1 || channel > len(a.amps) {
			return "", errRange
		}
		truth := 0.0
		if cells := f.operating().Further; channel <= len(cells) {
			truth = cells[channel-1].Amps
		}
		return a.shown(a.amps[channel-1], a.health.volts(truth)), nil
	})
	return a
}

var thermometerKind = standIn{"thermometer", slices.Concat(anyFault, textFault)}

// thermometer has eight inputs, one at each unit.
type thermometer struct {
	interpreter
	inputs [8]thermoInput
}

type thermoInput struct {
	celsius drawn
	fixture *fixture // nil: the input lies in the room
}

func newThermometer(serial string, ideal bool) *thermometer {
	t := &thermometer{}
	t.health, t.reset = newHealth(), func() {}
	t.identity = "Usher Bench,SIM-T8," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	for i := range t.inputs {
		t.inputs[i].celsius = errors.draw(thermoCelsius)
	}
	t.on("MEASure:TEMPerature", nil, func(channel int) (string, error) {
		if channel < 1 || channel > len(t.inputs) {
			return "", errRange
		}
		x := t.inputs[channel-1]
		return t.shown(x.celsius, x.fixture.operating().Celsius), nil
	})
	return t
}
