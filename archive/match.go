package archive

import (
	"errors"
	"fmt"
	"math"

	"usherbench/api"
	"usherbench/core/catalogue"
	"usherbench/core/figure"
	"usherbench/core/nameplate"
	"usherbench/core/population"
	"usherbench/core/quantity"
	"usherbench/store"
)

// Match groups the cells of a lot. Of each cell the last run counts that has a capacity. It fails with
// api.ErrBadRequest when fewer cells are eligible than a group needs.
func Match(s *store.Store, request api.MatchRequest) (api.Matching, error) {
	out := api.Matching{Lot: request.Lot, Size: request.Size, Groups: []api.MatchGroup{}, Rejects: []api.MatchReject{}}
	if request.Lot == "" || request.Size < 2 {
		return out, fmt.Errorf("%w: name a lot, and a size of 2 cells at least", api.ErrBadRequest)
	}
	cells, runs, err := cellsOf(s, request)
	if err != nil {
		return out, err
	}
	m := population.NewMatch(request.Size)
	m.Groups, m.Seed = request.Groups, max(request.Seed, 1)
	weigh := func(asked *float64, weight *float64) error {
		switch {
		case asked == nil:
			return nil
		case *asked < 0 || math.IsNaN(*asked):
			return fmt.Errorf("%w: a weight is not negative", api.ErrBadRequest)
		}
		*weight = *asked
		return nil
	}
	err = errors.Join(weigh(request.Capacity, &m.Capacity), weigh(request.Resistance, &m.Resistance),
		weigh(request.Curve, &m.Curve))
	if err != nil {
		return out, err
	}
	g, err := m.Of(cells)
	for _, r := range g.Rejects {
		out.Rejects = append(out.Rejects, api.MatchReject{Serial: r.Serial, Why: r.Why})
	}
	if errors.Is(err, population.ErrTooFew) {
		detail := ""
		if len(g.Rejects) > 0 {
			detail = fmt.Sprintf("; for one, %s: %s", g.Rejects[0].Serial, g.Rejects[0].Why)
		}
		return out, fmt.Errorf("%w: %w%s", api.ErrBadRequest, err, detail)
	}
	if err != nil {
		return out, fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	out.Score, out.Sorted = g.Score, g.Sorted
	for i, group := range g.Groups {
		named := api.MatchGroup{Name: fmt.Sprintf("%s-%d", request.Lot, i+1), Score: group.Score,
			CapacitySpread: group.CapacitySpread, ResistanceSpread: group.ResistanceSpread,
			CurveDistance: 1000 * group.CurveDistance}
		for _, c := range group.Cells {
			named.Cells = append(named.Cells, api.MatchCell{Serial: c.Serial, Run: runs[c.Serial], Capacity: c.Capacity,
				Resistance: 1000 * c.Resistance})
		}
		out.Groups = append(out.Groups, named)
	}
	return out, nil
}

// cellsOf reads what matching needs of each unit of a lot.
func cellsOf(s *store.Store, request api.MatchRequest) ([]population.Cell, map[string]string, error) {
	found, err := s.Runs(store.RunFilter{Lot: request.Lot, Procedure: request.Procedure, Limit: 1000})
	if err != nil {
		return nil, nil, err
	}
	if len(found) == 0 {
		return nil, nil, fmt.Errorf("lot %q: %w", request.Lot, store.ErrNotFound)
	}
	best, order := map[string]population.Cell{}, []string{}
	runs := map[string]string{}
	for _, summary := range found { // newest first
		if _, seen := best[summary.Serial]; !seen {
			order = append(order, summary.Serial)
			best[summary.Serial] = population.Cell{Serial: summary.Serial, Capacity: math.NaN(), Resistance: math.NaN(),
				Why: "no run of it has a capacity"}
		}
		if runs[summary.Serial] != "" || summary.State == store.Live {
			continue
		}
		run, err := s.Run(summary.ID)
		if err != nil {
			return nil, nil, err
		}
		if c, ok := cellOf(s, run); ok {
			best[summary.Serial], runs[summary.Serial] = c, run.ID
		}
	}
	var cells []population.Cell
	for i := len(order) - 1; i >= 0; i-- {
		cells = append(cells, best[order[i]])
	}
	return cells, runs, nil
}

// cellOf reads a cell from a run; ok is false if the run has no capacity.
func cellOf(s *store.Store, run store.Run) (population.Cell, bool) {
	c := population.Cell{Serial: run.Serial, Capacity: math.NaN(), Resistance: math.NaN()}
	_, rec, err := Record(s, run)
	if err != nil {
		return c, false
	}
	capacity := catalogue.Figures().Compute(rec, figure.Request{ID: "capacity"})
	figures, err := s.Figures(run.ID)
	if err != nil {
		return c, false
	}
	for _, f := range figures {
		if f.Undetermined == nil && f.ID == "capacity" {
			capacity = f.Result
		}
		if f.Undetermined == nil && f.ID == "pulse-resistance" {
			c.Resistance = f.Value / 1000
		}
	}
	if capacity.Undetermined != nil {
		return c, false
	}
	c.Capacity = capacity.Value
	halves, err := rec.HalfCurves()
	if err == nil {
		for _, h := range halves {
			if h.Kind == "discharge" && (capacity.Stage == "" || h.Name == capacity.Stage) {
				c.Curve = h.AtPlaces(population.Places)
			}
		}
	}
	c.Why = outside(run, c)
	return c, true
}

// outside says which limit of the nameplate a cell does not meet; empty if it meets all.
func outside(run store.Run, c population.Cell) string {
	if run.NameplateText == "" {
		return ""
	}
	plate, err := nameplate.Parse([]byte(run.NameplateText))
	if err != nil {
		return ""
	}
	if least, err := plate.Rating("least_capacity", quantity.Charge); err == nil && c.Capacity < least/3600 {
		return quantity.Sprintf("its capacity, %.4g Ah, is below the %.4g Ah of nameplate %s", c.Capacity, least/3600,
			plate.Name)
	}
	if most, err := plate.Rating("most_resistance", quantity.Resistance); err == nil && c.Resistance > most {
		return quantity.Sprintf("its resistance, %.4g mΩ, is above the %.4g mΩ of nameplate %s", 1000*c.Resistance,
			1000*most, plate.Name)
	}
	return ""
}
