package figure

import (
	"fmt"
	"math"
	"strings"
)

// cycle is a charge and a discharge in a row, or one half of it.
type cycle struct {
	number            int
	in, out           *half
	charge, energy    float64 // in, SI
	capacity, drained float64 // out, SI
	complete          bool
	volts, hottest    float64
	end               string
	resistance        float64 // Ω, of the step into the discharge; NaN
}

// cycles lists the cycles of a run: each discharge with the charge before it, or after it where the run begins
// with a discharge.
func (rec *Record) cycles(req Request) ([]cycle, error) {
	var all []cycle
	var open *half
	ins, outs := rec.halves("charge", ""), rec.halves("discharge", "")
	for len(ins) > 0 || len(outs) > 0 {
		if len(outs) == 0 || len(ins) > 0 && ins[0].T0 < outs[0].T0 {
			if open != nil {
				all = append(all, cycle{number: len(all) + 1, in: open})
			}
			open, ins = &ins[0], ins[1:]
			continue
		}
		all = append(all, cycle{number: len(all) + 1, in: open, out: &outs[0]})
		open, outs = nil, outs[1:]
	}
	if open != nil {
		all = append(all, cycle{number: len(all) + 1, in: open})
	}
	if len(all) == 0 {
		return nil, undetermined(TooFew, "no charge or discharge took place")
	}
	for i := range all {
		if err := rec.fillCycle(&all[i], req); err != nil {
			return nil, err
		}
	}
	return all, nil
}

func (rec *Record) fillCycle(c *cycle, req Request) error {
	nan := math.NaN()
	c.charge, c.energy, c.capacity, c.drained, c.volts, c.hottest, c.resistance = nan, nan, nan, nan, nan, math.Inf(-1),
		nan
	if c.in != nil {
		c.charge, c.energy, _, _, _ = rec.charged(*c.in)
		c.end = c.in.Ended
		rec.warmest(c, *c.in)
	}
	if c.out == nil {
		return nil
	}
	d, err := rec.dischargeOf(*c.out, req)
	if err == nil {
		c.capacity, c.drained, c.volts = d.charge, d.energy, d.energy/d.charge
	} else if d.b != nil { // it ended by something other than the cutoff: what was moved is known all the same
		q0, e0 := d.b.count(c.out.From, true)
		q1, e1 := d.b.count(c.out.To, false)
		c.capacity, c.drained = q0-q1, e0-e1
		c.volts = c.drained / c.capacity
	}
	c.end = strings.Trim(c.end+", "+c.out.Ended, ", ")
	c.complete = c.out.Ended != "" && (c.in == nil || c.in.Ended != "")
	rec.warmest(c, *c.out)
	if r, err := pulseResistance(rec, Request{Stage: c.out.Name, Pass: rec.passOf(*c.out),
		Args: map[string]float64{"delay": 10, "before": 10}}); err == nil {
		c.resistance = r.Value / 1000
	}
	return nil
}

// passOf is which time a stage of its name a half-cycle is, from 1.
func (rec *Record) passOf(h half) int {
	n := 0
	for _, s := range rec.Stages {
		if s.Name == h.Name && s.T0 <= h.T0 {
			n++
		}
	}
	return n
}

func (rec *Record) warmest(c *cycle, h half) {
	for _, column := range []string{"thermo.celsius", "cycler.celsius"} {
		if !rec.has(column) {
			continue
		}
		if s, err := rec.Trace(column, h.From, h.To); err == nil {
			for _, x := range s.Present().X {
				c.hottest = math.Max(c.hottest, x)
			}
			return
		}
	}
}

// known is a number of a table, or nil for one that is not known.
func known(x float64) any {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return x
}

// cycleTable lists the cycles; its value is how many are complete.
func cycleTable(rec *Record, req Request) (Result, error) {
	all, err := rec.cycles(req)
	if err != nil {
		return Result{}, err
	}
	r := Result{N: len(all), Table: &Table{Columns: []TableColumn{{"cycle", ""}, {"charge in", "Ah"}, {"charge out", "Ah"},
		{"energy in", "Wh"}, {"energy out", "Wh"},
		{"coulombic efficiency", "%"}, {"energy efficiency", "%"}, {"mean volts", "V"}, {"resistance", "mΩ"},
		{"hottest", "°C"}, {"charge took", "s"}, {"discharge took", "s"}, {"ended by", ""}, {"complete", ""}}}}
	for _, c := range all {
		took := func(h *half) any {
			if h == nil {
				return nil
			}
			return h.To - h.From
		}
		coulombic, energetic := 100*c.capacity/c.charge, 100*c.drained/c.energy
		if coulombic > mostReturned {
			coulombic, energetic = math.NaN(), math.NaN()
		}
		complete := "no"
		if c.complete {
			complete = "yes"
			r.Value++
		}
		r.Table.Rows = append(r.Table.Rows, []any{float64(c.number), known(c.charge / ampSeconds),
			known(c.capacity / ampSeconds), known(c.energy / wattSeconds), known(c.drained / wattSeconds),
			known(coulombic), known(energetic), known(c.volts), known(c.resistance * 1000), known(c.hottest), took(c.in),
			took(c.out), c.end, complete})
	}
	return r, nil
}

// Fading is the capacities of complete cycles with their numbers.
type Fading struct{ Number, Capacity []float64 }

func (rec *Record) fading(req Request, least int) (f Fading, reference float64, err error) {
	all, err := rec.cycles(req)
	if err != nil {
		return f, 0, err
	}
	want := int(req.Args["reference"])
	for _, c := range all {
		if !c.complete || math.IsNaN(c.capacity) {
			if c.number == want {
				return f, 0, undetermined(NoPoint, "cycle %d, the reference, is not complete", want)
			}
			continue
		}
		if c.number == want {
			reference = c.capacity
		}
		f.Number, f.Capacity = append(f.Number, float64(c.number)), append(f.Capacity, c.capacity)
	}
	switch {
	case len(f.Number) < least:
		return f, 0, undetermined(TooFew, "%d complete cycles; %d are needed", len(f.Number), least)
	case reference <= 0:
		return f, 0, undetermined(NoPoint, "there is no cycle %d to refer to", want)
	}
	return f, reference, nil
}

// Fade is 100·(1 − C_last/C_ref).
func (f Fading) Fade(reference float64) float64 {
	return 100 * (1 - f.Capacity[len(f.Capacity)-1]/reference)
}

// PerCycle is −100·b/C_ref with b the regression slope of capacity over cycles.
func (f Fading) PerCycle(reference float64) float64 {
	_, b, _ := lineThrough(f.Number, f.Capacity)
	return -100 * b / reference
}

// Life is where capacity crosses 80 % of the reference, interpolated, and confirmed by the next cycle. It fails
// with not-reached.
func (f Fading) Life(reference float64) (float64, error) {
	level := 0.8 * reference
	for k := 0; k+1 < len(f.Number); k++ {
		if f.Capacity[k] > level && f.Capacity[k+1] <= level && k+2 < len(f.Number) && f.Capacity[k+2] <= level {
			return f.Number[k] + (f.Number[k+1]-f.Number[k])*(f.Capacity[k]-level)/(f.Capacity[k]-f.Capacity[k+1]), nil
		}
	}
	return 0, &Undetermined{Code: NotReached, Sentence: "the capacity did not fall to 80 %, confirmed by the cycle after",
		Known: fmt.Sprintf("> %g cycles", f.Number[len(f.Number)-1])}
}

func fade(rec *Record, req Request) (Result, error) {
	f, reference, err := rec.fading(req, 2)
	if err != nil {
		return Result{}, err
	}
	return Result{Value: f.Fade(reference), N: len(f.Number)}, nil
}

func fadePerCycle(rec *Record, req Request) (Result, error) {
	f, reference, err := rec.fading(req, 3)
	if err != nil {
		return Result{}, err
	}
	return Result{Value: f.PerCycle(reference), N: len(f.Number)}, nil
}

func cycleLife(rec *Record, req Request) (Result, error) {
	f, reference, err := rec.fading(req, 2)
	if err != nil {
		return Result{}, err
	}
	life, err := f.Life(reference)
	return Result{Value: life, N: len(f.Number)}, err
}

func kneeOfCapacity(rec *Record, req Request) (Result, error) {
	req.Args = with(req.Args, "reference", 1)
	f, _, err := rec.fading(req, 5)
	if err != nil {
		return Result{}, err
	}
	k, height, err := Knee(f.Number, f.Capacity)
	if err != nil {
		return Result{N: len(f.Number)}, err
	}
	return Result{Value: f.Number[k], N: len(f.Number),
		Remarks: []string{fmt.Sprintf("%.4g Ah, height %.2g, over cycles %g to %g", f.Capacity[k]/ampSeconds, height,
			f.Number[0], f.Number[len(f.Number)-1])}}, nil
}
