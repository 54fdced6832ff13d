package archive

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/core/outcome"
	"usherbench/core/population"
	"usherbench/core/procedure"
	"usherbench/store"
)

// acrossBays compares what several bays found of one unit: of each procedure the newest attempt that counts in each
// bay, by the same revision with the same parameters. runs are those of the unit, newest first.
func acrossBays(s *store.Store, runs []store.Run) ([]api.BaysFigure, error) {
	all := []api.BaysFigure{}
	var order []string
	alike := map[string][]store.Run{} // by procedure, revision and parameters; the newest of every bay
	for _, r := range runs {
		if !population.Counts(outcome.Outcome(r.Outcome)) {
			continue
		}
		key := alikeKey(r)
		in := func(other store.Run) bool { return other.Bay == r.Bay }
		if alike[key] == nil {
			order = append(order, key)
		}
		if !slices.ContainsFunc(alike[key], in) {
			alike[key] = append(alike[key], r)
		}
	}
	told := map[string]bool{}
	for _, key := range order {
		own := alike[key]
		if len(own) < 2 || told[own[0].Procedure] { // of a procedure the newest revision that two bays know
			continue
		}
		told[own[0].Procedure] = true
		slices.SortFunc(own, func(a, b store.Run) int { return strings.Compare(a.Bay, b.Bay) })
		figures, err := figuresOfBays(s, own)
		if err != nil {
			return nil, err
		}
		all = append(all, figures...)
	}
	return all, nil
}

// alikeKey is the same for runs whose figures can be compared.
func alikeKey(r store.Run) string {
	key := fmt.Sprintf("%s@%d", r.Procedure, r.Revision)
	for _, name := range slices.Sorted(maps.Keys(r.Parameters)) {
		key += fmt.Sprintf(" %s=%s", name, r.Parameters[name])
	}
	return key
}

// figuresOfBays compares the figures of runs in several bays, one of each.
func figuresOfBays(s *store.Store, runs []store.Run) (all []api.BaysFigure, err error) {
	var judged [][]procedure.Judged
	for _, r := range runs {
		own, err := s.Figures(r.ID)
		if err != nil {
			return nil, err
		}
		judged = append(judged, own)
	}
	for i, f := range judged[0] {
		out := api.BaysFigure{Procedure: runs[0].Procedure, Figure: f.ID, Title: f.Title, Where: f.Where, Unit: f.Unit}
		var known []population.Known
		for k, own := range judged {
			if i >= len(own) || own[i].ID != f.ID || own[i].Where != f.Where || own[i].Undetermined != nil ||
				own[i].Text != "" {
				continue
			}
			value := own[i].Value
			known = append(known, population.Known{Value: value, U: own[i].U})
			out.Bays = append(out.Bays, api.BayValue{Bay: runs[k].Bay, Run: runs[k].ID, Value: value, U: own[i].U})
		}
		if len(known) < 2 {
			continue
		}
		a, b := population.Farthest(known)
		d := population.Agree(known[a], known[b])
		out.From, out.To, out.Difference = out.Bays[a].Bay, out.Bays[b].Bay, d.Difference
		if known[a].U > 0 && known[b].U > 0 {
			out.U, out.Differs = d.U, d.Differ
		}
		all = append(all, out)
	}
	return all, nil
}
