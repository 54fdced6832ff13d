package archive

import (
	"usherbench/api"
	"usherbench/core/population"
	"usherbench/store"
)

// CompareLots compares two lots, figure by figure, by the values of the attempts that decide: Welch's interval of the
// difference of their means. It fails with store.ErrNotFound where one has no run that has ended.
func CompareLots(s *store.Store, before, after string, r api.LotRequest) (api.LotDifference, error) {
	out := api.LotDifference{Before: before, After: after, Figures: []api.LotFigureDifference{}}
	a, err := gathered(s, before, r)
	if err != nil {
		return out, err
	}
	b, err := gathered(s, after, r)
	if err != nil {
		return out, err
	}
	for _, x := range a {
		for _, y := range b {
			if x.procedure == y.procedure && x.figure.Figure == y.figure.Figure && x.figure.Where == y.figure.Where {
				out.Figures = append(out.Figures, differenceOf(x, y))
			}
		}
	}
	return out, nil
}

// lotValues are the values of a figure over the units of a lot.
type lotValues struct {
	procedure string
	figure    api.LotFigure
	values    []float64
}

// gathered are the values of every figure of a lot.
func gathered(s *store.Store, name string, request api.LotRequest) (all []lotValues, err error) {
	l, err := readLot(s, name, request.Procedure)
	if err != nil {
		return nil, err
	}
	for _, procedure := range l.order {
		own := l.runs[procedure]
		newest, err := s.Figures(own[len(own)-1].ID)
		if err != nil {
			return nil, err
		}
		first, err := firstDecides(s, own[len(own)-1].ID)
		if err != nil {
			return nil, err
		}
		units, _ := unitsOf(own, first)
		nth := map[string]int{}
		for _, f := range newest {
			values, _ := valuesOf(f, nth[f.ID], units)
			all = append(all, lotValues{procedure, lotFigure(f), values})
			nth[f.ID]++
		}
	}
	return all, nil
}

func differenceOf(x, y lotValues) api.LotFigureDifference {
	f := y.figure
	out := api.LotFigureDifference{Procedure: y.procedure, Figure: f.Figure, Title: f.Title, Where: f.Where, Unit: f.Unit,
		BeforeUnits: len(x.values), AfterUnits: len(y.values)}
	d, err := population.Welch(x.values, y.values)
	if err != nil {
		out.Why = err.Error()
		return out
	}
	out.Before, out.After, out.Differs = d.Before, d.After, d.Differs
	out.Difference, out.U = orNil(d.Value), orNil(d.U)
	if f.Min != nil && f.Max != nil && *f.Max > *f.Min {
		share := 100 * d.Value / (*f.Max - *f.Min)
		out.Share = &share
	}
	return out
}
