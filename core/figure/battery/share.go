package battery

import (
	"errors"
	"fmt"
	"math"

	"usherbench/core/figure"
	"usherbench/core/record"
	"usherbench/core/uncertainty"
)

// Figures of cells in parallel, each with its own ammeter.
var shareFigures = []figure.Definition{
	{ID: "share", Title: "Share of the charge", Unit: "%", Least: math.Inf(-1), Most: math.Inf(1), Many: true,
		Formula: share},
	{ID: "share-imbalance", Title: "Imbalance of the shares", Unit: "%", Least: 0, Most: math.Inf(1), Many: true,
		Formula: shareImbalance},
}

// branch is what flowed through one of the cells side by side over a stage.
type branch struct {
	column  string
	charge  float64 // A·s
	reading uncertainty.Reading
	seconds float64
}

// branches reads the charges of the branches of a request. The sum of fewer than all is not known.
func branches(rec *record.Record, req figure.Request) (all []branch, r figure.Result, stated bool, err error) {
	t0, t1 := rec.Ends()
	if req.Stage != "" {
		h, err := rec.Half("", req.Stage, req.Pass)
		if err != nil {
			return nil, r, false, err
		}
		t0, t1 = h.T0, h.T1
	}
	stated = true
	for _, column := range req.Of {
		w, bridged, err := rec.Whole(column, t0, t1)
		var why *record.Undetermined
		if errors.As(err, &why) {
			why.Sentence += "; without one branch the sum is not known"
			if why.Code != record.Gap {
				why.Code = record.IsMissing
			}
		}
		if err != nil {
			return nil, r, false, err
		}
		if bridged {
			r.Remarks = record.AddRemark(r.Remarks, "bridged")
		}
		b := branch{column: column, charge: w.Integral(), seconds: w.T[w.Len()-1] - w.T[0]}
		mean := b.charge / b.seconds
		spec, ok := rec.Specs[column].Find(mean)
		stated = stated && ok
		b.reading = uncertainty.Reading{Value: mean, Group: column, Gain: spec.Reading, Offset: spec.Offset,
			Noise: uncertainty.Resolution(spec.Resolution) / math.Sqrt(float64(w.Len()))}
		all, r.N = append(all, b), r.N+w.Len()
	}
	if len(all) < 2 {
		return nil, r, false, record.Because(record.TooFew, "a share needs two branches; name their columns with of")
	}
	return all, r, stated, nil
}

// shared is a figure of the shares of branches, in % of their sum, with the table of them.
func shared(rec *record.Record, req figure.Request, of func(shares []float64) (x float64, which int)) (figure.Result,
	int, error) {
	all, r, stated, err := branches(rec, req)
	if err != nil {
		return r, 0, err
	}
	r.Table = &figure.Table{Columns: []figure.TableColumn{{Name: "branch"}, {Name: "charge", Unit: "Ah"},
		{Name: "share", Unit: "%"}}}
	readings := make([]uncertainty.Reading, len(all))
	means := make([]float64, len(all))
	up, down := false, false
	for k, b := range all {
		readings[k], means[k] = b.reading, b.reading.Value
		up, down = up || b.charge > 0, down || b.charge < 0
	}
	sumOf := func(means []float64) (sum float64) {
		for k, mean := range means {
			sum += mean * all[k].seconds
		}
		return sum
	}
	sum := sumOf(means)
	floor := uncertainty.Propagate(sumOf, readings).U
	if math.Abs(sum) <= math.Max(floor, leastCharge) {
		return r, 0, record.Because(record.ZeroDivisor, "the branches together moved %.3g Ah, which is not told from 0",
			sum/record.AmpHour)
	}
	if up && down {
		r.Remarks = append(r.Remarks, "circulating")
	}
	sharesOf := func(means []float64) []float64 {
		shares, sum := make([]float64, len(means)), sumOf(means)
		for k, mean := range means {
			shares[k] = 100 * mean * all[k].seconds / sum
		}
		return shares
	}
	shares := sharesOf(means)
	for k, b := range all {
		r.Table.Rows = append(r.Table.Rows, []any{b.column, b.charge / record.AmpHour, shares[k]})
	}
	x, which := of(shares)
	r.Value = x
	r.WithUncertainty(func(means []float64) float64 { x, _ := of(sharesOf(means)); return x }, readings, stated)
	return r, which, nil
}

// leastCharge is a charge, A·s, that is not told from 0 where nobody says how good the ammeters are.
const leastCharge = 1e-6

// share is the largest share, with all of them in the table: share_k = 100·Q_k/ΣQ.
func share(rec *record.Record, req figure.Request) (figure.Result, error) {
	r, which, err := shared(rec, req, func(shares []float64) (x float64, which int) {
		for k, s := range shares {
			if k == 0 || s > x {
				x, which = s, k
			}
		}
		return x, which
	})
	if err == nil {
		r.Text = req.Of[which]
	}
	return r, err
}

// shareImbalance is max |n·share_k − 100|. Its table is that of the shares.
func shareImbalance(rec *record.Record, req figure.Request) (figure.Result, error) {
	r, which, err := shared(rec, req, func(shares []float64) (x float64, which int) {
		for k, s := range shares {
			if away := math.Abs(float64(len(shares))*s - 100); away > x {
				x, which = away, k
			}
		}
		return x, which
	})
	r.Table = nil
	if err == nil {
		r.Remarks = append(r.Remarks, fmt.Sprintf("farthest from its part: %s", req.Of[which]))
	}
	return r, err
}
