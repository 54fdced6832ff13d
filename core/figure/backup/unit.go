package backup

import (
	"cmp"
	"slices"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// unitLoss is the mains-loss less that of the gear alone at the same power of the load, between the two points of the
// stage that gear names which lie nearest, W. One meter measures both, so that its gain acts on their difference only.
func unitLoss(rec *record.Record, req figure.Request) (figure.Result, error) {
	whole, err := mainsLoss(rec, req)
	if err != nil {
		return whole, err
	}
	span, in, round, err := both(rec, req)
	if err != nil {
		return figure.Result{}, err
	}
	below, above, err := gearAround(rec, req, round.Mean.Value)
	if err != nil {
		return figure.Result{}, err
	}
	gained := req.Args[stored.Name] / (span.T1 - span.T0)
	loss := func(x []float64) float64 {
		gear := x[2]
		if x[5] != x[3] {
			gear += (x[4] - x[2]) * (x[1] - x[3]) / (x[5] - x[3])
		}
		return x[0] - gained - gear
	}
	inputs, stated := []uncertainty.Reading{in.Mean, round.Mean}, in.Stated && round.Stated
	values := []float64{in.Mean.Value, round.Mean.Value}
	for _, p := range []record.Point{below, above} {
		for _, column := range []string{inputOf(req) + ".watts", outputOf(req) + ".watts"} {
			reading, known := rec.Reading(p, column)
			reading.Value = p.Averages[column].Mean
			inputs, stated, values = append(inputs, reading), stated && known, append(values, reading.Value)
		}
	}
	f := figure.Of(in, loss(values))
	f.WithUncertainty(loss, inputs, stated)
	return f, nil
}

// gearAround are the points of the gear alone that lie below and above a power of the load; twice the same where one
// lies there.
func gearAround(rec *record.Record, req figure.Request, power float64) (below, above record.Point, err error) {
	output := outputOf(req) + ".watts"
	var points []record.Point
	for _, p := range rec.Points {
		if p.Stage == req.Gear && p.Row == "" && p.Averages[output].N > 0 && p.Averages[inputOf(req)+".watts"].N > 0 {
			points = append(points, p)
		}
	}
	if len(points) == 0 {
		return below, above, record.Because(record.NoData, "the stage %q left no points of the gear alone", req.Gear)
	}
	at := func(p record.Point) float64 { return p.Averages[output].Mean }
	slices.SortStableFunc(points, func(a, b record.Point) int { return cmp.Compare(at(a), at(b)) })
	k := slices.IndexFunc(points, func(p record.Point) bool { return at(p) >= power })
	first, last := at(points[0]), at(points[len(points)-1])
	slack := nearby * (last - first)
	switch {
	case power < first-slack || power > last+slack:
		return below, above, record.Because(record.NoPoint,
			"the gear alone was loaded from %.4g W to %.4g W, the unit with %.4g W", first, last, power)
	case len(points) == 1:
		return points[0], points[0], nil
	case k < 0:
		k = len(points) - 1
	}
	k = max(k, 1)
	return points[k-1], points[k], nil
}

// nearby is how far beyond the points of the gear alone the same line is taken, as a share of what they span: a load
// keeps its power as well as it can.
const nearby = 0.01
