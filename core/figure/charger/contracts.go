package charger

import (
	"fmt"
	"math"
	"strings"

	"usherbench/core/contract"
	"usherbench/core/figure"
	"usherbench/core/quantity"
	"usherbench/core/record"
	"usherbench/core/seats"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
)

// Contracted are the figures of a charger whose contracts are tested one by one.
var Contracted = []figure.Definition{
	{ID: "trip-level", Title: "Trip level", Unit: "A", Least: 0, Most: math.Inf(1), Needs: figure.Row, PerContract: true,
		Formula: tripLevel},
	{ID: "trip-ratio", Title: "Trip level over advertised current", Unit: "A/A", Least: 0, Most: math.Inf(1),
		Needs: figure.Row, PerContract: true, Formula: tripRatio},
	{ID: "recovery-class", Title: "Recovery", Unit: "s", Least: 0, Most: math.Inf(1), Needs: figure.Row, PerContract: true,
		Exact: "a word", Formula: recoveryClass},
	{ID: "recovery-delay", Title: "Recovery delay", Unit: "s", Least: 0, Most: math.Inf(1), Needs: figure.Row,
		PerContract: true, Formula: recoveryDelay},
	{ID: "droop-resistance", Title: "Droop, resistance", Unit: "Ω", Least: math.Inf(-1), Most: math.Inf(1),
		Needs: figure.Grid, PerContract: true, Args: droopArgs, Formula: droopResistance},
	{ID: "droop-intercept", Title: "Droop, volts at no current", Unit: "V", Least: math.Inf(-1), Most: math.Inf(1),
		Needs: figure.Grid, PerContract: true, Args: droopArgs, Formula: droopIntercept},
	{ID: "droop-residual", Title: "Droop, largest residual", Unit: "V", Least: 0, Most: math.Inf(1), Needs: figure.Grid,
		PerContract: true, Args: droopArgs, Formula: droopResidual},
	{ID: "source-capabilities", Title: "What the source offers", Unit: "objects", Least: 0, Most: contract.MostPlaces,
		Exact: "counted", Formula: sourceCapabilities},
	{ID: "contract-current-check", Title: "Current and cable", Unit: "A", Least: 0, Most: math.Inf(1), PerContract: true,
		Exact: "as it is advertised", Formula: currentCheck},
}

var droopArgs = []figure.Arg{
	{Name: "from", Dim: quantity.Number, Default: 0, Least: 0, Most: 2},
	{Name: "to", Dim: quantity.Number, Default: 1, Least: 0, Most: 2},
}

// seat is where contracts are made, position the column of the contract in force.
const (
	seat     = seats.Contract
	position = record.ContractColumn
)

// Shares by which a trip and a droop are judged.
const (
	collapsed = 0.50 // of the contract's volts: below it the unit has given up
	sagging   = 0.95 // below it, without a collapse, it folds back
	leastSpan = 0.20 // of the advertised current that a droop spans
)

// object is what the source offered in the place of the contract that was in force where averages were taken.
func object(averages map[string]trace.Average) (at int, o contract.Object, err error) {
	in, read := averages[position]
	if !read || in.N == 0 {
		return 0, o, record.Because(record.NoRating, "%s was not read, so nobody knows which contract it was", position)
	}
	at = int(math.Round(in.Mean))
	column := seats.OfferColumn(seat, at)
	raw, read := averages[column]
	if at < 1 || !read || raw.N == 0 || raw.Mean == 0 {
		return at, o, record.Because(record.NoRating, "no contract was in force, so no current was advertised")
	}
	return at, contract.Decode(uint32(math.Round(raw.Mean))), nil
}

// tripOf is what a seek over the amps of the load found in the contract that is asked for.
func tripOf(rec *record.Record, req figure.Request) (b record.Bracket, r figure.Result, err error) {
	column := req.Output + ".amps"
	if b, err = rec.BracketOf(req.Row, req.At, column); err != nil {
		return b, r, err
	}
	if err := record.Unlimited(record.Point{Place: b.Point.Place, Averages: b.Point.Before}, "mains"); err != nil {
		return b, r, err
	}
	r = figure.Found(rec, b, column)
	_, o, known := object(b.Point.Before)
	if known != nil {
		return b, r, nil
	}
	volts := b.Point.Averages[seat+".volts"]
	if agreed := b.Point.Before[seat+".volts.agreed"]; agreed.N > 0 && agreed.Mean > 0 {
		o.Highest = agreed.Mean
	}
	if volts.N > 0 && volts.Mean >= collapsed*o.Highest && volts.Mean < sagging*o.Highest {
		r.Remarks = record.AddRemark(r.Remarks, "foldback")
	}
	return b, r, nil
}

// tripLevel is the current at which the charger gives up: the midpoint of the last step that held and the first that
// tripped. Source: figures, family 5.
func tripLevel(rec *record.Record, req figure.Request) (figure.Result, error) {
	_, r, err := tripOf(rec, req)
	return r, err
}

// tripRatio is the trip level over the current that the contract advertises.
func tripRatio(rec *record.Record, req figure.Request) (figure.Result, error) {
	b, r, err := tripOf(rec, req)
	_, o, known := object(b.Point.Before)
	amps, ok := o.HighestAmps()
	if err != nil {
		why := *record.ReasonOf(err)
		if why.AtLeast != nil { // it is a bound of the level, A
			if known != nil || !ok {
				why.AtLeast, why.Known = nil, ""
			} else {
				why.Least(*why.AtLeast/amps, "A/A")
			}
		}
		return r, &why
	}
	if known != nil {
		return r, known
	}
	if !ok || amps <= 0 {
		return r, record.Because(record.NoRating, "the contract advertises no current")
	}
	r.Value, r.U = r.Value/amps, r.U/amps
	return r, nil
}

// cameBack is how the unit came back after the last seek of a row.
func cameBack(rec *record.Record, req figure.Request) (record.Comeback, error) {
	p, err := rec.Sought(req.Row, req.At)
	if err != nil {
		return record.Comeback{}, err
	}
	switch {
	case p.Vain:
		return record.Comeback{}, record.Because(record.NoMark, "nothing gave way, so nothing came back")
	case p.Comeback == nil:
		return record.Comeback{}, record.Because(record.NoData, "nobody looked whether it recovers; give the search recovers")
	}
	return *p.Comeback, nil
}

// recoveryClass is the way in which the charger came back: hiccup, self, input-cycle, none or latched.
func recoveryClass(rec *record.Record, req figure.Request) (figure.Result, error) {
	c, err := cameBack(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	return figure.Result{Text: string(c.Class), Value: c.Delay, N: 1}, nil
}

// recoveryDelay is the time from relief to the start of the time in which the volts are back; after the input was
// cycled from when it was on again. It lies between two readings.
func recoveryDelay(rec *record.Record, req figure.Request) (figure.Result, error) {
	c, err := cameBack(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	if c.Class == record.NoComeback || c.Class == record.Latched {
		return figure.Result{}, record.Because(record.NotReached, "it did not come back").Least(c.Within, "s")
	}
	r := figure.Result{Value: c.Delay - c.Step/2, N: 1}
	r.WithUncertainty(func(x []float64) float64 { return x[0] }, []uncertainty.Reading{{Value: r.Value,
		Group: "between two readings", Offset: c.Step / 2}}, true)
	return r, nil
}

// droop is the straight line of volts over amps in one contract.
type droop struct {
	line     trace.Line
	residual float64
	rec      *record.Record
	points   []record.Point
	volts    string
	amps     string
	// noise is that of one point's volts, step what they scatter by where only the step of the reading makes them.
	noise, step float64
}

// droopOf fits the volts at the plug over the current that the load takes. Source: figures, family 5.
func droopOf(rec *record.Record, req figure.Request) (d droop, err error) {
	d = droop{rec: rec, volts: seat + ".volts", amps: req.Output + ".amps"}
	if !rec.Has(d.volts) {
		d.volts = req.Output + ".volts"
	}
	all := rec.PointsAt(req.At, d.amps)
	if len(all) == 0 {
		return d, record.Because(record.NoPoint, "no point of a grid was taken in this contract")
	}
	at, o, err := object(all[0].Averages)
	if err != nil {
		return d, err
	}
	advertised, ok := o.HighestAmps()
	if !ok {
		return d, record.Because(record.NoRating, "contract %d advertises no current", at)
	}
	var x, y []float64
	for _, p := range all {
		amps, err := p.Mean(d.amps)
		if err != nil {
			return d, err
		}
		volts, err := p.Mean(d.volts)
		if err != nil {
			return d, err
		}
		if amps < req.Args["from"]*advertised-advertised/100 || amps > req.Args["to"]*advertised+advertised/100 {
			continue
		}
		x, y, d.points = append(x, amps), append(y, volts), append(d.points, p)
		reading, _ := rec.Reading(p, d.volts)
		d.noise = math.Max(d.noise, reading.Noise)
		if a := p.Averages[d.volts]; a.SD < reading.Resolution/2 { // its mean is no finer than its step
			d.step = math.Max(d.step, reading.Resolution/math.Sqrt(12))
		}
	}
	if len(x) < 3 {
		return d, record.Because(record.TooFew, "a line needs three points, and there are %d", len(x))
	}
	if x[len(x)-1]-x[0] < leastSpan*advertised {
		return d, record.Because(record.WrongConditions, "the points span %.3g A of the %.3g A that are advertised",
			x[len(x)-1]-x[0], advertised)
	}
	if d.line, err = trace.Fit(x, y); err != nil {
		return d, record.CodeOf(err, d.volts)
	}
	for k := range x {
		d.residual = math.Max(d.residual, math.Abs(y[k]-d.line.Intercept-d.line.Slope*x[k]))
	}
	return d, nil
}

// result is a figure of the line, with what may be said of all of them.
func (d droop) result(value float64) figure.Result {
	r := figure.Result{Value: value, N: len(d.points)}
	if noise := math.Max(d.noise, d.step); noise > 0 && d.residual > 3*noise {
		r.Remarks = append(r.Remarks, "bent")
	}
	return r
}

// known adds U: of the line by how its points lie, of instruments by their gains and offsets.
func (d droop) known(r *figure.Result, standard float64, bounds func(volts, amps uncertainty.Reading) []float64) {
	middle := d.points[len(d.points)/2]
	v, stated := d.rec.Reading(middle, d.volts)
	i, also := d.rec.Reading(middle, d.amps)
	if !stated || !also {
		r.Remarks = append(r.Remarks, figure.NotStated)
		return
	}
	scatter := uncertainty.Normal{Standard: standard, Freedom: len(d.points) - 2}
	if d.step > d.line.SD { // which is known, and not estimated from a few points
		scatter.Freedom = 0
	}
	e := uncertainty.Expand(bounds(v, i), []uncertainty.Normal{scatter})
	r.U, r.K = e.U, e.K
}

func droopResistance(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := droopOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := d.result(-d.line.Slope)
	ohms := math.Abs(d.line.Slope)
	d.known(&r, d.line.Noisy(d.step).SlopeSD, func(v, i uncertainty.Reading) []float64 {
		return []float64{v.Gain * ohms, i.Gain * ohms}
	})
	return r, nil
}

func droopIntercept(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := droopOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := d.result(d.line.Intercept)
	ohms := math.Abs(d.line.Slope)
	d.known(&r, d.line.Noisy(d.step).DeviationAt(0), func(v, i uncertainty.Reading) []float64 {
		return []float64{v.Gain * r.Value, v.Offset, i.Offset * ohms}
	})
	return r, nil
}

func droopResidual(rec *record.Record, req figure.Request) (figure.Result, error) {
	d, err := droopOf(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	r := d.result(d.residual)
	d.known(&r, d.line.Noisy(d.step).SD, func(_, _ uncertainty.Reading) []float64 { return nil })
	return r, nil
}

// sourceCapabilities is a table of what the source offers, by position. Source: figures, family 5; IEC 62680-1-2.
func sourceCapabilities(rec *record.Record, _ figure.Request) (figure.Result, error) {
	offer, err := rec.Offer()
	if err != nil {
		return figure.Result{}, err
	}
	r := figure.Result{Table: &figure.Table{Columns: []figure.TableColumn{{Name: "position"}, {Name: "object"},
		{Name: "kind"}, {Name: "lowest", Unit: "V"}, {Name: "highest", Unit: "V"}, {Name: "amps", Unit: "A"},
		{Name: "power", Unit: "W"}, {Name: "remarks"}}}}
	objects := offer.Objects()
	for len(objects) > 0 && objects[len(objects)-1].Kind == contract.Empty {
		objects = objects[:len(objects)-1]
	}
	odd := map[int][]string{}
	for _, f := range contract.Check(objects) {
		odd[f.Position] = append(odd[f.Position], f.Words)
		r.Remarks = record.AddRemark(r.Remarks, fmt.Sprintf("place %d: %s", f.Position, f.Words))
	}
	for i, o := range objects {
		row := []any{float64(i + 1), fmt.Sprintf("0x%08X", offer[i]), string(o.Kind), nil, nil, nil, nil,
			strings.Join(append(o.Flags(), odd[i+1]...), "; ")}
		if o.Kind != contract.Empty {
			r.Value++
		}
		if o.Highest > 0 {
			row[3], row[4] = o.Lowest, o.Highest
		}
		if amps, ok := o.HighestAmps(); ok {
			row[5] = amps
		}
		if o.Watts > 0 {
			row[6] = o.Watts
		}
		r.Table.Rows = append(r.Table.Rows, row)
	}
	r.N = len(objects)
	return r, nil
}

// currentCheck tells whether the cable bears the highest current of an object: of the contract that is asked for, else
// of the object that asks the most.
func currentCheck(rec *record.Record, req figure.Request) (figure.Result, error) {
	offer, err := rec.Offer()
	if err != nil {
		return figure.Result{}, err
	}
	cable := 0.0
	if q, stated := rec.Rating(req.Output, "cable_current"); stated {
		cable = q.Value
	}
	asked, one := req.At[position]
	worst := figure.Result{Value: -1}
	for i, o := range offer.Objects() {
		amps, ok := o.HighestAmps()
		if !ok || one && i+1 != int(asked) || amps <= worst.Value {
			continue
		}
		need, _ := o.Needs(cable)
		worst = figure.Result{Value: amps, Text: string(need), N: 1}
	}
	switch {
	case worst.N == 0:
		return worst, record.Because(record.NoData, "nothing is offered there")
	case cable == 0 && one && worst.Value > 3:
		return worst, record.Because(record.NoRating, "the contract needs more than 3 A, and nobody stated what the cable "+
			"bears (cable_current)")
	}
	return worst, nil
}
