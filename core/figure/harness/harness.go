// Package harness computes what a scan tells of how a harness is wired: how many nets it has and what is wrong with
// them, the resistance of its contacts, and how well its nets are kept apart.
package harness

import (
	"errors"
	"fmt"
	"math"

	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
	"usherbench/core/wiring"
)

// Figures of this family.
var Figures = []figure.Definition{
	counted("wiring-nets", "Nets", func(f wiring.Found) int { return f.Nets }),
	faults("wiring-opens", "Opens", wiring.Opened),
	faults("wiring-miswires", "Miswires", wiring.Miswired),
	faults("wiring-shorts", "Shorts", wiring.Shorted),
	{ID: "wiring-interruptions", Title: "Interruptions", Unit: "count", Least: 0, Most: math.Inf(1),
		Needs: figure.Openings, AllSides: true, Exact: "counted", Formula: interruptions},
	{ID: "contact-resistance", Title: "Largest contact resistance", Unit: "Ω", Least: 0, Most: math.Inf(1),
		Needs: figure.Wiring, AllSides: true, Args: []figure.Arg{zero, wire, length, area, celsius}, Formula: contacts},
	{ID: "wiring-isolation", Title: "Isolation between nets", Unit: "Ω", Least: 0, Most: math.Inf(1),
		Needs: figure.Wiring, AllSides: true, Formula: isolation},
}

// zero is what the fixture reads with nothing but a short in it, wire what the wire itself has between two contacts,
// Ω. In place of wire that of copper may be computed ([wiring.Copper]): from its length, its area and its temperature.
var (
	length  = figure.Arg{Name: "length", Dim: quantity.Length, Default: 0, Least: 0, Most: 1e4}
	area    = figure.Arg{Name: "area", Dim: quantity.Area, Default: 0, Least: 0, Most: 1e-2}
	celsius = figure.Arg{Name: "celsius", Dim: quantity.Temperature, Default: 20, Least: -60, Most: 250}
	zero    = figure.Arg{Name: "zero", Dim: quantity.Resistance, Default: 0, Least: 0, Most: 1e3}
	wire    = figure.Arg{Name: "wire", Dim: quantity.Resistance, Default: 0, Least: 0, Most: 1e3}
)

type formula = func(*record.Record, figure.Request) (figure.Result, error)

func counted(id, title string, count func(wiring.Found) int) figure.Definition {
	return figure.Definition{ID: id, Title: title, Unit: "count", Least: 0, Most: math.Inf(1), Needs: figure.Wiring,
		AllSides: true, Exact: "counted", Formula: judged(func(s wiring.Scan, f wiring.Found) figure.Result {
			return figure.Result{Value: float64(count(f)), N: len(s.Pairs)}
		})}
}

// faults counts those of a kind, and lists them.
func faults(id, title string, kind wiring.FaultKind) figure.Definition {
	d := counted(id, title, nil)
	d.Formula = judged(func(s wiring.Scan, f wiring.Found) figure.Result {
		r := figure.Result{Value: float64(f.Count(kind)), N: len(s.Pairs)}
		table := &figure.Table{Columns: []figure.TableColumn{{Name: "fault"}, {Name: "read"}}}
		for _, x := range f.Faults {
			if x.Kind == kind {
				table.Rows = append(table.Rows, []any{x.Words(), s.OhmsWords(x.Ohms)})
			}
		}
		if len(table.Rows) > 0 {
			r.Table = table
		}
		return r
	})
	return d
}

// judged is a figure of a scan that can be judged.
func judged(of func(wiring.Scan, wiring.Found) figure.Result) formula {
	return func(rec *record.Record, req figure.Request) (figure.Result, error) {
		s, err := rec.ScanOf(req.Stage, req.Pass)
		if err != nil {
			return figure.Result{}, err
		}
		found, err := s.Judge()
		if err != nil {
			return figure.Result{}, because(err)
		}
		return of(s.Scan, found), nil
	}
}

// because is why a scan was not judged.
func because(err error) error {
	code := record.IsMissing
	switch {
	case errors.Is(err, wiring.ErrImplausible):
		code = record.Implausible
	case errors.Is(err, wiring.ErrAmbiguous):
		code = record.Ambiguous
	}
	return record.Because(code, "%s", err)
}

// contacts are R − R_z − R_wire from each anchor to the pins of its net (IEC 60512-2-1); the figure is the largest.
func contacts(rec *record.Record, req figure.Request) (figure.Result, error) {
	s, err := rec.ScanOf(req.Stage, req.Pass)
	if err != nil {
		return figure.Result{}, err
	}
	less, err := besides(req)
	if err != nil {
		return figure.Result{}, err
	}
	all := s.Contacts()
	if len(all) == 0 {
		return figure.Result{}, record.Because(record.NoData, "no contact of a net was read as closed")
	}
	largest := all[0]
	table := &figure.Table{Columns: []figure.TableColumn{{Name: "contact"}, {Name: "resistance", Unit: "Ω"}}}
	for _, c := range all {
		if c.Ohms > largest.Ohms {
			largest = c
		}
		table.Rows = append(table.Rows, []any{c.From + " to " + c.To, c.Ohms - less})
	}
	r := figure.Result{Value: largest.Ohms - less, N: len(all), Table: table,
		Remarks: []string{largest.From + " to " + largest.To}}
	reading, stated := rec.Input(s.Column(), largest.Ohms, 0)
	r.WithUncertainty(func(x []float64) float64 { return x[0] - less }, []uncertainty.Reading{reading}, stated)
	if r.Value < -r.U {
		return r, record.Because(record.Implausible, "%s to %s reads %.4g Ω, less than what fixture and wire have",
			largest.From, largest.To, largest.Ohms)
	}
	return r, nil
}

// besides is what a reading has besides the contacts: the fixture and the wire, Ω.
func besides(req figure.Request) (float64, error) {
	own, l, a := req.Args[wire.Name], req.Args[length.Name], req.Args[area.Name]
	switch {
	case l == 0 && a == 0:
	case l == 0 || a == 0:
		return 0, record.Because(record.NoData, "a wire is known by its length and its area; one of them is not said")
	case own > 0:
		return 0, record.Because(record.Ambiguous, "the wire is said by its ohms and by its length; say one of them")
	default:
		own = wiring.Copper(l, a, req.Args[celsius.Name])
	}
	return req.Args[zero.Name] + own, nil
}

// interruptions are the times at which a contact opened while the harness was watched, each with its instant.
func interruptions(rec *record.Record, req figure.Request) (figure.Result, error) {
	all, watched, err := rec.OpeningsOf(req.Stage)
	if err != nil {
		return figure.Result{}, err
	}
	show := func(x float64) string { return quantity.Quantity{Value: x, Dim: quantity.Time}.Format(3) }
	r := figure.Result{Value: float64(watched.Count), N: watched.Count, Remarks: []string{
		fmt.Sprintf("of %s or longer, in %s", show(watched.Least), show(watched.Seconds))}}
	if len(all) < watched.Count {
		r.Remarks = append(r.Remarks, fmt.Sprintf("the first %d are listed", len(all)))
	}
	table := &figure.Table{Columns: []figure.TableColumn{{Name: "contact"}, {Name: "at", Unit: "s"},
		{Name: "open for", Unit: "ms"}}}
	for _, o := range all {
		table.Rows = append(table.Rows, []any{o.From + " to " + o.To, o.At, 1e3 * o.Lasted})
	}
	if len(all) > 0 {
		r.Table = table
	}
	return r, nil
}

// isolation is the least resistance between pins of different nets; what is over range bounds it.
func isolation(rec *record.Record, req figure.Request) (figure.Result, error) {
	s, err := rec.ScanOf(req.Stage, req.Pass)
	if err != nil {
		return figure.Result{}, err
	}
	least, over, err := s.Isolation()
	switch {
	case errors.Is(err, wiring.ErrOneNet):
		return figure.Result{}, record.Because(record.TooFew, "%s", err)
	case err != nil:
		return figure.Result{}, because(err)
	case over:
		return figure.Result{}, record.Because(record.NotReached, "every pair of different nets is over range").Least(
			s.Range, "Ω")
	}
	r := figure.Result{Value: least.Ohms, N: len(s.Pairs), Remarks: []string{s.Pins[least.A] + " to " + s.Pins[least.B]}}
	reading, stated := rec.Input(s.Column(), least.Ohms, 0)
	r.WithUncertainty(func(x []float64) float64 { return x[0] }, []uncertainty.Reading{reading}, stated)
	return r, nil
}
