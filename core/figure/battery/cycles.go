package battery

import (
	"errors"
	"math"
	"slices"
	"strings"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// cycle is a cycle with what is known of it; what is not is nil or NaN.
type cycle struct {
	record.Cycle
	number int
	// put and taken are what flowed in its halves; nil where a half is missing, or not known for a gap.
	put, taken *record.Moved
	hottest    float64 // °C
	resistance float64 // Ω, of the step into the discharge
}

// cycles lists the cycles of a run with what is known of each.
func cycles(rec *record.Record, req figure.Request) ([]cycle, error) {
	var all []cycle
	for i, halves := range rec.Cycles() {
		c := cycle{Cycle: halves, number: i + 1, hottest: math.NaN(), resistance: math.NaN()}
		if c.In != nil {
			if m, err := charged(rec, *c.In); err == nil {
				c.put = &m
			}
			c.warmed(rec, *c.In)
		}
		if c.Out != nil {
			c.fillOut(rec, req)
			c.warmed(rec, *c.Out)
		}
		all = append(all, c)
	}
	if len(all) == 0 {
		return nil, record.Because(record.TooFew, "no charge or discharge took place")
	}
	return all, nil
}

// fillOut reads the discharge of a cycle: down to the cutoff, or of one that something else ended what was moved.
func (c *cycle) fillOut(rec *record.Record, req figure.Request) {
	d, err := dischargeOf(rec, *c.Out, req)
	var why *record.Undetermined
	switch {
	case err == nil:
		c.taken = &d.moved
	case errors.As(err, &why) && why.Code == record.NotReached && d.moved.Charge < 0:
		c.taken = &d.moved
	}
	t0, span, err := stepOf(rec, *c.Out)
	if err != nil {
		return
	}
	if r, err := resistanceOf(rec, t0, span, 10, 10); err == nil {
		c.resistance = r.Value / 1000
	}
}

// end names the rules that ended it.
func (c cycle) end() string {
	var rules []string
	for _, h := range []*record.Half{c.In, c.Out} {
		if h != nil && h.Ended != "" {
			rules = append(rules, h.Ended)
		}
	}
	return strings.Join(rules, ", ")
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
		if c.Complete() {
			r.Value++
		}
		r.Table.Rows = append(r.Table.Rows, c.row(rec))
	}
	return r, nil
}

// row is the cycle as a row of the table.
func (c cycle) row(rec *record.Record) []any {
	nan := math.NaN()
	took := func(h *record.Half) any {
		if h == nil {
			return nil
		}
		return rec.Active(h.From, h.To)
	}
	charge, energy, capacity, drained := nan, nan, nan, nan
	if c.put != nil {
		charge, energy = c.put.Charge, c.put.Energy
	}
	if c.taken != nil {
		capacity, drained = -c.taken.Charge, -c.taken.Energy
	}
	coulombic, energetic := 100*capacity/charge, 100*drained/energy
	if coulombic > mostReturned {
		coulombic, energetic = nan, nan
	}
	complete := "no"
	if c.Complete() {
		complete = "yes"
	}
	return []any{float64(c.number), known(charge / record.AmpHour), known(capacity / record.AmpHour),
		known(energy / record.WattHour), known(drained / record.WattHour), known(coulombic), known(energetic),
		known(drained / capacity), known(c.resistance * 1000), known(c.hottest), took(c.In), took(c.Out), c.end(), complete}
}

// Fading is the capacities of complete cycles with their numbers, A·s.
type Fading struct {
	Number, Capacity []float64
	moved            []record.Moved
}

// Cycles reads the capacities of the complete cycles of a run.
func Cycles(rec *record.Record, req figure.Request) (Fading, error) {
	all, err := cycles(rec, req)
	f := Fading{}
	for _, c := range all {
		if c.Complete() && c.taken != nil {
			f.Number, f.Capacity = append(f.Number, float64(c.number)), append(f.Capacity, -c.taken.Charge)
			f.moved = append(f.moved, *c.taken)
		}
	}
	return f, err
}

// fading is a figure of the capacities of at least so many complete cycles, one of which they refer to.
func fading(rec *record.Record, req figure.Request, least int,
	of func(f Fading, reference float64) (float64, error)) (figure.Result, error) {
	f, err := Cycles(rec, req)
	r := figure.Result{N: len(f.Number)}
	want := req.Args["reference"]
	at := slices.Index(f.Number, want)
	switch {
	case err != nil:
		return r, err
	case len(f.Number) < least:
		return r, record.Because(record.TooFew, "%d complete cycles; %d are needed", len(f.Number), least)
	case at < 0:
		return r, record.Because(record.NoPoint, "cycle %g, the reference, is not complete", want)
	}
	if r.Value, err = of(f, f.Capacity[at]); err != nil {
		return r, err
	}
	r.KnownBy(rec.Account(f.moved...), func(charge, _ []float64) float64 {
		g := Fading{Number: f.Number, Capacity: make([]float64, len(charge))}
		for k, q := range charge {
			g.Capacity[k] = -q
		}
		x, err := of(g, g.Capacity[at])
		if err != nil { // a capacity that is off by what it is known to may be past the level or not
			return r.Value
		}
		return x
	})
	return r, nil
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
	return 0, record.Because(record.NotReached, "the capacity did not fall to 80 %%, confirmed by the cycle after").
		Least(f.Number[len(f.Number)-1], "cycles")
}

func fade(rec *record.Record, req figure.Request) (figure.Result, error) {
	return fading(rec, req, 2, func(f Fading, reference float64) (float64, error) { return f.Fade(reference), nil })
}

func fadePerCycle(rec *record.Record, req figure.Request) (figure.Result, error) {
	return fading(rec, req, 3, func(f Fading, reference float64) (float64, error) { return f.PerCycle(reference), nil })
}

func cycleLife(rec *record.Record, req figure.Request) (figure.Result, error) {
	return fading(rec, req, 2, Fading.Life)
}

// kneeOfCapacity is the cycle at the knee of the capacities. Its uncertainty is half the distance of two cycles.
func kneeOfCapacity(rec *record.Record, req figure.Request) (figure.Result, error) {
	f, err := Cycles(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{N: len(f.Number)}
	k, height, err := Knee(f.Number, f.Capacity)
	if err != nil {
		return r, err
	}
	r.Value = f.Number[k]
	r.Remarks = []string{quantity.Sprintf("%.4g Ah, height %.2g, over cycles %g to %g", f.Capacity[k]/record.AmpHour,
		height, f.Number[0], f.Number[len(f.Number)-1])}
	e := uncertainty.Expand([]float64{math.Max(f.Number[k]-f.Number[k-1], f.Number[k+1]-f.Number[k]) / 2}, nil)
	r.U, r.K = e.U, e.K
	return r, nil
}
