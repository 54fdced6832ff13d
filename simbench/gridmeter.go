package simbench

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"usherbench/simbench/plant"
)

var gridMeterKind = standIn{"grid-meter", slices.Concat(anyFault, textFault)}

// gridMeter is a power analyser for alternating current. It takes a little power itself, which it reads as if it was
// the unit's: in its voltage input, or in the shunt of its current input, as it is wired.
type gridMeter struct {
	interpreter
	volts, amps, watts, hertz drawn
	fixture                   *fixture
	atUnit                    bool    // the voltage input is at the unit, behind the shunt
	at, energy                float64 // when it counted last, and what, W·s
}

// The meter's own resistances, Ω: across its voltage input, and of its shunt.
const (
	gridMeterAcross  = 2e6
	gridMeterThrough = 0.5
)

// update is over how long a reading is the mean power, s.
const update = 0.2

// Harmonics that the meter reads of volts and of amps.
const (
	gridVoltOrders = 13
	gridAmpOrders  = 50
)

func newGridMeter(serial string, ideal bool, f *fixture, atUnit bool) *gridMeter {
	m := &gridMeter{fixture: f, atUnit: atUnit, at: f.plantTime()}
	m.health, m.reset = newHealth(), func() {}
	m.identity = "Usher Bench,SIM-A2," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	m.volts, m.amps, m.watts, m.hertz = errors.draw(gridVolts), errors.draw(gridAmps), errors.draw(gridWatts),
		errors.draw(gridHertz)
	number := func(header string, d *drawn, truth func(grid) float64) {
		m.on(header, nil, func(int) (string, error) { return m.shown(*d, truth(m.look())), nil })
	}
	number("MEASure:VOLTage", &m.volts, func(g grid) float64 { return g.volts })
	number("MEASure:CURRent", &m.amps, func(g grid) float64 { return g.amps })
	number("MEASure:POWer", &m.watts, func(g grid) float64 { return g.watts })
	number("MEASure:APParent", &m.watts, func(g grid) float64 { return g.volts * g.amps })
	number("MEASure:REACtive", &m.watts, func(g grid) float64 {
		va := g.volts * g.amps
		return math.Sqrt(math.Max(va*va-g.watts*g.watts, 0))
	})
	m.on("MEASure:FACTor", nil, func(int) (string, error) {
		if text := m.health.number(); text != "" {
			return text, nil
		}
		g := m.look()
		if va := g.volts * g.amps; va > 0 {
			return strconv.FormatFloat(g.watts/va, 'f', 4, 64), nil
		}
		return "0", nil
	})
	number("MEASure:FREQuency", &m.hertz, func(g grid) float64 { return g.wave.Hertz })
	number("MEASure:PEAK:VOLTage", &m.volts, func(g grid) float64 { return g.wave.PeakVolts })
	number("MEASure:PEAK:CURRent", &m.amps, func(g grid) float64 { return g.wave.PeakAmps })
	m.spectrum("MEASure:HARMonics:VOLTage", gridVoltOrders, &m.volts, func(w plant.Wave) []float64 { return w.VoltOrders })
	m.spectrum("MEASure:HARMonics:CURRent", gridAmpOrders, &m.amps, func(w plant.Wave) []float64 { return w.AmpOrders })
	m.on("INTegrate:STARt", func([]string, int) error {
		m.at, m.energy = m.fixture.plantTime(), 0
		return nil
	}, nil)
	m.on("INTegrate:ENERgy", nil, func(int) (string, error) {
		m.integrate()
		return strconv.FormatFloat(m.energy/3600, 'f', 7, 64), nil
	})
	return m
}

// spectrum adds the question for a row of harmonics.
func (m *gridMeter) spectrum(header string, orders int, d *drawn, of func(plant.Wave) []float64) {
	m.on(header, nil, func(int) (string, error) {
		if text := m.health.number(); text != "" {
			return strings.TrimSuffix(strings.Repeat(text+",", orders), ","), nil
		}
		found := of(m.look().wave)
		row := make([]string, orders)
		for i := range row {
			truth := 0.0
			if i < len(found) {
				truth = found[i]
			}
			row[i] = d.show(truth * (1 + d.gain))
		}
		return strings.Join(row, ","), nil
	})
}

// grid is what the meter sees, with what it takes itself.
type grid struct {
	volts, amps, watts float64
	wave               plant.Wave
}

// look is what the meter would read without an error of its own.
func (m *gridMeter) look() grid {
	m.integrate()
	o := m.fixture.operating()
	g := grid{volts: o.Line.Volts, amps: o.Line.Amps}
	if o.Line.Wave == nil {
		return g
	}
	g.wave = *o.Line.Wave
	now := m.fixture.plantTime()
	g.watts = m.fixture.taken(now-update, now) / update
	return g.burdened(m.atUnit)
}

// burdened adds what the meter takes, for any waveform: only means of products occur.
func (g grid) burdened(atUnit bool) grid {
	v, i, p := g.volts, g.amps, g.watts
	if atUnit {
		g.watts = p + v*v/gridMeterAcross
		g.amps = math.Sqrt(i*i + 2*p/gridMeterAcross + v*v/(gridMeterAcross*gridMeterAcross))
		return g
	}
	g.watts = p + gridMeterThrough*i*i
	g.volts = math.Sqrt(v*v + 2*gridMeterThrough*p + gridMeterThrough*gridMeterThrough*i*i)
	return g
}

// integrate adds what flowed since the last look, without a gap.
func (m *gridMeter) integrate() {
	now := m.fixture.plantTime()
	o := m.fixture.operating()
	g := grid{volts: o.Line.Volts, amps: o.Line.Amps}
	if dt := now - m.at; dt > 0 {
		g.watts = m.fixture.taken(m.at, now) / dt
		if o.Line.Wave != nil {
			g = g.burdened(m.atUnit)
		}
		m.energy += (g.watts*(1+m.watts.gain) + m.watts.offset) * dt // it counts what it reads
	}
	m.at = now
}
