package battery

import (
	"fmt"
	"math"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/trace"
)

// cycle is a charge and a discharge in a row, or one half of it. What is not known of it is NaN.
type cycle struct {
	number            int
	in, out           *record.Half
	charge, energy    float64 // in, SI
	capacity, drained float64 // out, SI
	complete          bool
	volts             float64 // mean of the discharge
	hottest           float64 // °C
	end               string
	resistance        float64 // Ω, of the step into the discharge
}

// cycles lists the cycles of a run: each discharge with the charge before it, or after it where the run begins with
// a discharge.
func cycles(rec *record.Record, req figure.Request) ([]cycle, error) {
	all := paired(rec.Halves("charge", ""), rec.Halves("discharge", ""))
	if len(all) == 0 {
		return nil, record.Because(record.TooFew, "no charge or discharge took place")
	}
	for i := range all {
		c := &all[i]
		c.number = i + 1
		if c.in != nil {
			c.fillIn(rec)
		}
		if c.out != nil {
			c.fillOut(rec, req)
		}
	}
	return all, nil
}

// paired puts each discharge beside the charge before it; what has no other half stands alone.
func paired(charges, discharges []record.Half) (all []cycle) {
	var open *record.Half // a charge whose discharge is still to come
	add := func(in, out *record.Half) {
		nan := math.NaN()
		all = append(all, cycle{in: in, out: out, charge: nan, energy: nan, capacity: nan, drained: nan, volts: nan,
			hottest: nan, resistance: nan})
	}
	for len(charges) > 0 || len(discharges) > 0 {
		if len(discharges) == 0 || len(charges) > 0 && charges[0].T0 < discharges[0].T0 {
			if open != nil {
				add(open, nil)
			}
			open, charges = &charges[0], charges[1:]
			continue
		}
		add(open, &discharges[0])
		open, discharges = nil, discharges[1:]
	}
	if open != nil {
		add(open, nil)
	}
	return all
}

// fillIn reads the charge of a cycle.
func (c *cycle) fillIn(rec *record.Record) {
	if m, err := charged(rec, *c.in); err == nil {
		c.charge, c.energy = m.charge, m.energy
	}
	c.end = c.in.Ended
	c.warmed(rec, *c.in)
}

// fillOut reads the discharge of a cycle. Of one that something other than the cutoff ended it is what was moved.
func (c *cycle) fillOut(rec *record.Record, req figure.Request) {
	d, err := dischargeOf(rec, *c.out, req)
	switch {
	case err == nil:
		c.capacity, c.drained = d.charge, d.energy
	case d.b != nil:
		begin, beginEnergy := d.b.Count(c.out.From, true)
		end, endEnergy := d.b.Count(c.out.To, false)
		c.capacity, c.drained = begin-end, beginEnergy-endEnergy
	}
	c.volts = c.drained / c.capacity
	c.end = strings.Trim(c.end+", "+c.out.Ended, ", ")
	c.complete = c.out.Ended != "" && (c.in == nil || c.in.Ended != "")
	c.warmed(rec, *c.out)
	r, err := pulseResistance(rec, figure.Request{Stage: c.out.Name, Pass: passOf(rec, *c.out),
		Args: map[string]float64{"delay": 10, "before": 10}})
	if err == nil {
		c.resistance = r.Value / 1000
	}
}

// passOf is which time a stage of its name a half-cycle is, from 1.
func passOf(rec *record.Record, h record.Half) int {
	n := 0
	for _, s := range rec.Stages {
		if s.Name == h.Name && s.T0 <= h.T0 {
			n++
		}
	}
	return n
}

// warmed raises the hottest temperature of a cycle to that of one of its halves.
func (c *cycle) warmed(rec *record.Record, h record.Half) {
	s, ok := celsius(rec, h)
	if !ok {
		return
	}
	for _, x := range s.X {
		if math.IsNaN(c.hottest) || x > c.hottest {
			c.hottest = x
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

var cycleColumns = []figure.TableColumn{
	{Name: "cycle"}, {Name: "charge in", Unit: "Ah"}, {Name: "charge out", Unit: "Ah"}, {Name: "energy in", Unit: "Wh"},
	{Name: "energy out", Unit: "Wh"}, {Name: "coulombic efficiency", Unit: "%"}, {Name: "energy efficiency", Unit: "%"},
	{Name: "mean volts", Unit: "V"}, {Name: "resistance", Unit: "mΩ"}, {Name: "hottest", Unit: "°C"},
	{Name: "charge took", Unit: "s"}, {Name: "discharge took", Unit: "s"}, {Name: "ended by"}, {Name: "complete"},
}

// cycleTable lists the cycles; its value is how many are complete.
func cycleTable(rec *record.Record, req figure.Request) (figure.Result, error) {
	all, err := cycles(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{N: len(all), Table: &figure.Table{Columns: cycleColumns}}
	for _, c := range all {
		if c.complete {
			r.Value++
		}
		r.Table.Rows = append(r.Table.Rows, c.row())
	}
	return r, nil
}

// row is the cycle as a row of the table.
func (c cycle) row() []any {
	took := func(h *record.Half) any {
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
	}
	return []any{float64(c.number), known(c.charge / record.AmpHour), known(c.capacity / record.AmpHour),
		known(c.energy / record.WattHour), known(c.drained / record.WattHour), known(coulombic), known(energetic),
		known(c.volts), known(c.resistance * 1000), known(c.hottest), took(c.in), took(c.out), c.end, complete}
}

// Fading is the capacities of complete cycles with their numbers.
type Fading struct{ Number, Capacity []float64 }

func fading(rec *record.Record, req figure.Request, least int) (f Fading, reference float64, err error) {
	all, err := cycles(rec, req)
	if err != nil {
		return f, 0, err
	}
	want := int(req.Args["reference"])
	for _, c := range all {
		if !c.complete || math.IsNaN(c.capacity) {
			if c.number == want {
				return f, 0, record.Because(record.NoPoint, "cycle %d, the reference, is not complete", want)
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
		return f, 0, record.Because(record.TooFew, "%d complete cycles; %d are needed", len(f.Number), least)
	case reference <= 0:
		return f, 0, record.Because(record.NoPoint, "there is no cycle %d to refer to", want)
	}
	return f, reference, nil
}

// Fade is 100·(1 − C_last/C_ref).
func (f Fading) Fade(reference float64) float64 {
	return 100 * (1 - f.Capacity[len(f.Capacity)-1]/reference)
}

// PerCycle is −100·b/C_ref with b the regression slope of capacity over cycles.
func (f Fading) PerCycle(reference float64) float64 {
	line, err := trace.Fit(f.Number, f.Capacity)
	if err != nil {
		return math.NaN()
	}
	return -100 * line.Slope / reference
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
	return 0, &record.Undetermined{Code: record.NotReached,
		Sentence: "the capacity did not fall to 80 %, confirmed by the cycle after",
		Known:    fmt.Sprintf("> %g cycles", f.Number[len(f.Number)-1])}
}

func fade(rec *record.Record, req figure.Request) (figure.Result, error) {
	f, reference, err := fading(rec, req, 2)
	if err != nil {
		return figure.Result{}, err
	}
	return figure.Result{Value: f.Fade(reference), N: len(f.Number)}, nil
}

func fadePerCycle(rec *record.Record, req figure.Request) (figure.Result, error) {
	f, reference, err := fading(rec, req, 3)
	if err != nil {
		return figure.Result{}, err
	}
	return figure.Result{Value: f.PerCycle(reference), N: len(f.Number)}, nil
}

func cycleLife(rec *record.Record, req figure.Request) (figure.Result, error) {
	f, reference, err := fading(rec, req, 2)
	if err != nil {
		return figure.Result{}, err
	}
	life, err := f.Life(reference)
	return figure.Result{Value: life, N: len(f.Number)}, err
}

func kneeOfCapacity(rec *record.Record, req figure.Request) (figure.Result, error) {
	req.Args = figure.With(req.Args, "reference", 1)
	f, _, err := fading(rec, req, 5)
	if err != nil {
		return figure.Result{}, err
	}
	k, height, err := Knee(f.Number, f.Capacity)
	if err != nil {
		return figure.Result{N: len(f.Number)}, err
	}
	return figure.Result{Value: f.Number[k], N: len(f.Number),
		Remarks: []string{fmt.Sprintf("%.4g Ah, height %.2g, over cycles %g to %g", f.Capacity[k]/record.AmpHour, height,
			f.Number[0], f.Number[len(f.Number)-1])}}, nil
}

// Cycles reads the capacities of the complete cycles of a run, for curves over cycles.
func Cycles(rec *record.Record, req figure.Request) (Fading, error) {
	req.Args = figure.With(req.Args, "reference", 0)
	f := Fading{}
	all, err := cycles(rec, req)
	for _, c := range all {
		if c.complete && !math.IsNaN(c.capacity) {
			f.Number, f.Capacity = append(f.Number, float64(c.number)), append(f.Capacity, c.capacity)
		}
	}
	return f, err
}
