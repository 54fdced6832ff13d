package archive

import (
	"fmt"
	"math"
	"slices"

	"usherbench/api"
	"usherbench/core/overlay"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/store"
)

// quantity is the column on the y axis: the one that was asked for, else the volts of the run, or what flows over them.
func (l *laid) quantity(run store.Run) string {
	if l.request.Quantity != "" {
		return l.request.Quantity
	}
	for _, column := range []string{"contract.volts", "cycler.volts", "load.volts", "source.volts", "meter.volts"} {
		if column == l.request.Over {
			column = column[:len(column)-len("volts")] + "amps"
		}
		if slices.Contains(run.Columns, column) {
			return column
		}
	}
	return ""
}

// framesOf is one column over another, as it was recorded between two times, in their units. A column that is read less
// often lies on straight lines between its readings.
func framesOf(rec *record.Record, over, of string, from, to float64) (overlay.Curve, error) {
	x, err := rec.Trace(over, from, to)
	if err != nil {
		return overlay.Curve{}, err
	}
	y, err := rec.Trace(of, from, to)
	if err != nil {
		return overlay.Curve{}, err
	}
	overTime := overlay.Curve{X: y.T, Y: y.X}.Rising()
	c := overlay.Curve{X: scaled(x.X, 1/trace.UnitOf(over).Factor), Y: make([]float64, len(x.T))}
	for k, t := range x.T {
		c.Y[k] = overTime.At(t) / trace.UnitOf(of).Factor
	}
	return c, nil
}

// points draws the settled operating points of a run, those of each contract of a charger by themselves.
func (l *laid) points(run store.Run, rec *record.Record) error {
	var contracts []int
	for _, p := range rec.Points {
		if k := contractOf(p); !slices.Contains(contracts, k) {
			contracts = append(contracts, k)
		}
	}
	why := fmt.Errorf("it has no points over %s", l.request.Over)
	before := len(l.infos)
	for _, k := range contracts {
		from := len(l.infos)
		if err := l.overColumn(run, itsPoints, pointsOf(rec, l.request.Over, l.quantity(run), k)); err != nil {
			why = err
		}
		for i := from; i < len(l.infos); i++ {
			l.infos[i].Contract = k
		}
	}
	if len(l.infos) == before {
		return why
	}
	return nil
}

// contractOf is the position of the contract in which a point was taken; 0: in none.
func contractOf(p record.Point) int { return int(p.Place[record.ContractColumn]) }

func inContract(position int) string {
	if position == 0 {
		return ""
	}
	return fmt.Sprintf("contract %d", position)
}

// severalContracts tells whether curves of different contracts are drawn, which have no band together.
func (l *laid) severalContracts() bool {
	return slices.ContainsFunc(l.infos, func(c api.OverlayCurve) bool { return c.Contract != l.infos[0].Contract })
}

// pointsOf is one column over another at the settled operating points of a run, in the order in which they were taken:
// those of its grids, or where it has no grid those of its rows; of one contract, where the run has several.
func pointsOf(rec *record.Record, over, of string, contract int) (c overlay.Curve) {
	onGrid := func(p record.Point) bool { return p.Row == "" }
	grid := slices.ContainsFunc(rec.Points, onGrid)
	for _, p := range rec.Points {
		if grid && !onGrid(p) || contractOf(p) != contract {
			continue
		}
		x, errX := p.Mean(over)
		y, errY := p.Mean(of)
		if errX == nil && errY == nil {
			c.X, c.Y = append(c.X, x/trace.UnitOf(over).Factor), append(c.Y, y/trace.UnitOf(of).Factor)
		}
	}
	return c
}

// overColumn takes the legs of a curve over a column.
func (l *laid) overColumn(run store.Run, half string, c overlay.Curve) error {
	x, y := trace.UnitOf(l.request.Over), trace.UnitOf(l.quantity(run))
	legs := overlay.Legs(c)
	if len(legs) == 0 {
		return fmt.Errorf("its %s do not move together with %s", l.quantity(run), l.request.Over)
	}
	l.out.XLabel, l.out.XUnit, l.out.YLabel, l.out.YUnit = l.request.Over, x.Symbol, l.quantity(run), y.Symbol
	before := 0
	for _, info := range l.infos {
		if info.Run == run.ID && info.Half == half {
			before++
		}
	}
	for i, leg := range legs {
		if level := l.request.Level; level != nil {
			at, ok := leg.Crosses(*level)
			if !ok {
				return fmt.Errorf("it does not cross %g %s", *level, y.Symbol)
			}
			leg = leg.Shifted(at)
		}
		l.take(run, half, before+i+1, leg)
	}
	return nil
}

// mostLegs is how many ways of one played stage are drawn, the first ones.
const mostLegs = 8

// Played draws the curves that a program asks for from the frames of what it played.
func Played(program *procedure.Program, rec *record.Record) (all []api.PlayedCurve) {
	names := program.ChartedStages()
	for _, asked := range program.Curves {
		for _, span := range rec.Stages {
			if !slices.Contains(names, span.Name) {
				continue
			}
			c, err := playedOf(rec, asked, span)
			if err != nil {
				continue // a column that was not read has no curve
			}
			legs := overlay.Legs(c)
			for i, leg := range legs[:min(len(legs), mostLegs)] {
				label := span.Name
				if len(legs) > 1 {
					label = fmt.Sprintf("%s #%d", span.Name, i+1)
				}
				leg = leg.Thinned(drawPlaces)
				all = append(all, api.PlayedCurve{Curve: asked, Label: label, X: leg.X, Y: leg.Y})
			}
		}
	}
	return all
}

// playedOf is one curve over a played stage; efficiency and loss are those of the powers of its frames.
func playedOf(rec *record.Record, asked procedure.Curve, span record.Span) (overlay.Curve, error) {
	if asked.Of != "efficiency" && asked.Of != "loss" {
		c, err := framesOf(rec, asked.By, asked.Of, span.T0, span.T1)
		if asked.LessColumn() == "" || err != nil {
			return c, err
		}
		less, err := framesOf(rec, asked.By, asked.LessColumn(), span.T0, span.T1)
		for k := range less.Y { // of the same frames
			c.Y[k] -= less.Y[k]
		}
		return c, err
	}
	in, err := framesOf(rec, asked.By, "source.watts", span.T0, span.T1)
	if err != nil {
		return in, err
	}
	out, err := framesOf(rec, asked.By, "load.watts", span.T0, span.T1)
	if err != nil {
		return out, err
	}
	for k := range out.Y {
		switch {
		case asked.Of == "loss":
			out.Y[k] = in.Y[k] - out.Y[k]
		case in.Y[k] > 0 && out.Y[k] > 0:
			out.Y[k] = 100 * out.Y[k] / in.Y[k]
		default:
			out.Y[k] = math.NaN()
		}
	}
	return out, nil
}
