package machine

import (
	"cmp"
	"math"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
)

type formula = func(*record.Record, figure.Request) (figure.Result, error)

// The columns of a machine where a request names no others: its resistance, its own temperature, that of the room or
// of what cools it.
const (
	ohmsColumn    = "ohmmeter.ohms"
	machineColumn = "thermo.celsius"
	roomColumn    = "thermo2.celsius"
)

// mostApart is how far a machine may be from the room when its cold resistance is taken, K.
const mostApart = 2

func ohmsOf(req figure.Request) string { return cmp.Or(req.Quantity, ohmsColumn) }

// cold is a resistance with the temperature at which it was taken, as means over a row.
type cold struct {
	readings []uncertainty.Reading // ohms and temperature, in turn
	stated   bool
}

// coldRow reads a row of cold resistances.
func coldRow(rec *record.Record, req figure.Request, row string) (c cold, err error) {
	taken, err := rec.Row(row)
	if err != nil {
		return c, err
	}
	c.stated = true
	for _, p := range taken {
		for _, column := range []string{ohmsOf(req), machineColumn} {
			if p.Averages[column].N == 0 {
				return c, record.Because(record.NoData, "%s was not read in row %q", column, row)
			}
			reading, ok := rec.Reading(p, column)
			c.readings, c.stated = append(c.readings, reading), c.stated && ok
		}
		room, machine := p.Averages[roomColumn], p.Averages[machineColumn]
		if room.N > 0 && math.Abs(room.Mean-machine.Mean) > mostApart {
			return c, record.Because(record.WrongConditions,
				"the machine has %.1f °C and the room %.1f °C: more than 2 K apart",
				machine.Mean, room.Mean)
		}
	}
	return c, nil
}

// means are the resistance and the temperature of a row from its readings.
func means(x []float64) (ohms, celsius float64) {
	n := float64(len(x) / 2)
	for k := 0; k < len(x); k += 2 {
		ohms, celsius = ohms+x[k]/n, celsius+x[k+1]/n
	}
	return ohms, celsius
}

func values(readings []uncertainty.Reading) []float64 {
	x := make([]float64, len(readings))
	for k, r := range readings {
		x[k] = r.Value
	}
	return x
}

// windingResistance is R·(k + θ_r)/(k + θ).
func windingResistance(rec *record.Record, req figure.Request) (figure.Result, error) {
	c, err := coldRow(rec, req, req.Row)
	if err != nil {
		return figure.Result{}, err
	}
	k, to := req.Args[constant.Name], req.Args[reference.Name]
	referred := func(x []float64) float64 {
		ohms, celsius := means(x)
		return ohms * (k + to) / (k + celsius)
	}
	r := figure.Result{Value: referred(values(c.readings)), N: len(c.readings) / 2,
		Remarks: []string{quantity.Sprintf("at %g °C", to)}}
	r.WithUncertainty(referred, c.readings, c.stated)
	return r, nil
}

// cooling is a row of resistances with the times since the machine was switched off.
type cooling struct {
	t        []float64
	readings []uncertainty.Reading
	stated   bool
	late     bool
	off      float64 // when it was switched off, in the run
}

// coolingRow reads a row that was taken after a machine was switched off.
func coolingRow(rec *record.Record, req figure.Request, row string) (c cooling, err error) {
	taken, err := rec.Row(row)
	if err != nil {
		return c, err
	}
	if len(taken) < 3 {
		return c, record.Because(record.TooFew, "row %q has %d resistances; three are needed", row, len(taken))
	}
	off, ok := switchedOff(rec, taken[0].T0)
	if !ok {
		return c, record.Because(record.NoMark, "nothing was switched off before row %q", row)
	}
	c.stated, c.off = true, off
	column := ohmsOf(req)
	for _, p := range taken {
		if _, err := p.Mean(column); err != nil {
			return c, err
		}
		reading, ok := rec.Reading(p, column)
		c.t = append(c.t, (p.T0+p.T1)/2-off)
		c.readings, c.stated = append(c.readings, reading), c.stated && ok
	}
	by := req.Args[firstBy.Name]
	if by == 0 {
		by = firstBy.Default
	}
	if c.t[0] > 2*by {
		return c, record.Because(record.NoPoint, "the first resistance was read %.3g s after switch-off; by %.3g s is usual",
			c.t[0], by)
	}
	c.late = c.t[0] > by
	for k := 1; k < len(c.readings); k++ {
		if c.readings[k].Value > c.readings[0].Value {
			return c, record.Because(record.Implausible, "the resistance rises after switch-off, from %.5g to %.5g Ω",
				c.readings[0].Value, c.readings[k].Value)
		}
	}
	return c, nil
}

// switchedOff is when an output of what feeds was last switched off before a time.
func switchedOff(rec *record.Record, before float64) (t float64, ok bool) {
	for _, m := range rec.Marks {
		c, is := m.About.(record.Commanded)
		if m.T > before || !is {
			continue
		}
		for column, word := range c.Words {
			seat, output := strings.CutSuffix(column, "."+seats.Output)
			if kind, _ := seats.KindOf(seat); output && word == seats.Off && kind.Is(seats.Feeds) {
				t, ok = m.T, true
			}
		}
	}
	return t, ok
}
