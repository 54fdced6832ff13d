package battery

import (
	"fmt"
	"math"

	"usherbench/core/figure"
	"usherbench/core/record"
)

// Figures of cells in parallel, each with its own ammeter.
var shareFigures = []figure.Definition{
	{ID: "share", Title: "Share of the charge", Unit: "%", Least: math.Inf(-1), Most: math.Inf(1), Many: true,
		Formula: share},
	{ID: "share-imbalance", Title: "Imbalance of the shares", Unit: "%", Least: 0, Most: math.Inf(1), Many: true,
		Formula: shareImbalance},
}

// shares are the charges of the branches over a stage, Ah, their sum, and the remark that they circulate.
func shares(rec *record.Record, req figure.Request) (charges []float64, sum float64, r figure.Result, err error) {
	t0, t1 := 0.0, math.MaxFloat64
	if req.Stage != "" {
		h, err := rec.Half("", req.Stage, req.Pass)
		if err != nil {
			return nil, 0, r, err
		}
		t0, t1 = h.T0, h.T1
	}
	r.Table = &figure.Table{Columns: []figure.TableColumn{{Name: "branch"}, {Name: "charge", Unit: "Ah"},
		{Name: "share", Unit: "%"}}}
	var offsets, up, down float64
	for _, column := range req.Of {
		s, err := rec.Trace(column, t0, t1)
		if err != nil {
			return nil, 0, r, record.Because(record.IsMissing, "%s: %s; without one branch the sum is not known", column, err)
		}
		w := s.Present()
		if w.Len() < 2 || w.Len() < len(s.T)*9/10 {
			return nil, 0, r,
				record.Because(record.IsMissing, "%s is missing for a part of the time; without one branch the sum is not known",
					column)
		}
		q := w.Integral() / record.AmpHour
		spec, _ := rec.Specs[column].Find(q)
		offsets += (spec.Offset*(w.T[w.Len()-1]-w.T[0]) + spec.Reading*math.Abs(q)*record.AmpHour) / record.AmpHour
		charges, sum, r.N = append(charges, q), sum+q, r.N+w.Len()
		up, down = math.Max(up, q), math.Min(down, q)
	}
	switch {
	case len(charges) < 2:
		return nil, 0, r, record.Because(record.TooFew, "a share needs two branches; name their columns with of")
	case math.Abs(sum) <= math.Max(offsets, 1e-12):
		return nil, 0, r, record.Because(record.ZeroDivisor, "the branches together moved %.3g Ah, which is not told from 0",
			sum)
	}
	if up > 0 && down < 0 {
		r.Remarks = append(r.Remarks, "circulating")
	}
	for i, q := range charges {
		r.Table.Rows = append(r.Table.Rows, []any{req.Of[i], q, 100 * q / sum})
	}
	return charges, sum, r, nil
}

// share is the largest share, with all of them in the table: share_k = 100·Q_k/ΣQ.
func share(rec *record.Record, req figure.Request) (figure.Result, error) {
	charges, sum, r, err := shares(rec, req)
	if err != nil {
		return r, err
	}
	for i, q := range charges {
		if s := 100 * q / sum; s > r.Value {
			r.Value = s
			r.Text = req.Of[i]
		}
	}
	return r, nil
}

// shareImbalance is max |n·share_k − 100|.
func shareImbalance(rec *record.Record, req figure.Request) (figure.Result, error) {
	charges, sum, r, err := shares(rec, req)
	if err != nil {
		return r, err
	}
	worst := 0
	for i, q := range charges {
		if x := math.Abs(float64(len(charges))*100*q/sum - 100); x > r.Value {
			r.Value, worst = x, i
		}
	}
	r.Table = nil // it is that of the shares
	r.Remarks = append(r.Remarks, fmt.Sprintf("farthest from its part: %s", req.Of[worst]))
	return r, nil
}
