package archive

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"usherbench/api"
	"usherbench/core/population"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
)

// tables puts the figures of the runs side by side, with their spread, and compares two groups.
func (l *laid) tables() error {
	order, titles := []string{}, map[string]procedure.Judged{}
	byName := map[string]map[string]procedure.Judged{} // figure, run
	for _, run := range l.runs {
		for _, f := range l.figures[run.ID] {
			name := strings.TrimSpace(f.ID + " " + f.Where)
			if byName[name] == nil {
				byName[name] = map[string]procedure.Judged{}
				order = append(order, name)
				titles[name] = f
			}
			byName[name][run.ID] = f
		}
	}
	of := func(name string, run int) *procedure.Judged {
		if j, ok := byName[name][l.runs[run].ID]; ok {
			return &j
		}
		return nil
	}
	for _, name := range order {
		f := titles[name]
		if len(l.runs) == 2 {
			l.out.Pairs = append(l.out.Pairs, pairOf(strings.TrimSpace(f.Title+" "+f.Where), of(name, 0), of(name, 1)))
		}
		row := api.OverlayFigure{Figure: f.ID, Title: strings.TrimSpace(f.Title + " " + f.Where), Unit: f.Unit,
			Values: []api.OverlayFigureValue{}}
		var values []float64
		for _, run := range l.runs {
			j, ok := byName[name][run.ID]
			if !ok || j.Undetermined != nil || j.Text != "" {
				row.Without = append(row.Without, label(run))
				continue
			}
			row.Values = append(row.Values, api.OverlayFigureValue{Run: run.ID, Label: label(run), Value: j.Value, U: j.U})
			values = append(values, j.Value)
			row.Mean += j.Value
		}
		if len(values) == 0 {
			continue
		}
		row.Mean /= float64(len(values))
		if s, err := population.SpreadOf(values); err == nil {
			row.Spread, row.SD = &s.Range, orNil(s.SD)
		}
		l.out.Figures = append(l.out.Figures, row)
		l.compare(row)
	}
	return nil
}

// compare compares the two groups of the request by one figure: units by their scatter, single runs by their
// uncertainties.
func (l *laid) compare(row api.OverlayFigure) {
	var names []string
	for _, run := range l.runs { // the group of the oldest run is the first
		if g := l.request.Groups[run.ID]; g != "" && !slices.Contains(names, g) {
			names = append(names, g)
		}
	}
	if len(names) != 2 {
		return
	}
	values, us := map[string][]float64{}, map[string][]float64{}
	for _, v := range row.Values {
		g := l.request.Groups[v.Run]
		values[g], us[g] = append(values[g], v.Value), append(us[g], v.U)
	}
	before, after := values[names[0]], values[names[1]]
	var d population.Difference
	switch {
	case len(before) > 1 && len(after) > 1:
		var err error
		if d, err = population.Welch(before, after); err != nil {
			return
		}
	case len(before) == 1 && len(after) == 1 && us[names[0]][0] > 0 && us[names[1]][0] > 0:
		d = population.Single(before[0], us[names[0]][0], after[0], us[names[1]][0])
	default:
		return
	}
	c := api.OverlayComparison{Figure: row.Figure, Title: row.Title, Unit: row.Unit, First: names[0], Second: names[1],
		Before: d.Before, After: d.After, Value: d.Value, U: d.U, Differs: d.Differs, By: d.By}
	if d.Before != 0 {
		c.Percent = 100 * d.Value / math.Abs(d.Before)
	}
	decimals := quantity.Decimals(d.U, 6)
	c.Words = fmt.Sprintf("%s: %s → %s %s, %s ± %s %s (%s %%): ", row.Title, quantity.Fixed(d.Before, decimals),
		quantity.Fixed(d.After, decimals), row.Unit, signed(d.Value, decimals),
		quantity.Fixed(d.U, decimals), row.Unit,
		signed(c.Percent, quantity.Decimals(100*d.U/math.Max(math.Abs(d.Before), 1e-12), 3)))
	if d.Differs {
		c.Words += "a true difference, since 0 lies outside the 95 % interval"
	} else {
		c.Words += "no difference that could be told from chance or error"
	}
	l.out.Comparisons = append(l.out.Comparisons, c)
}

// signed writes a number with its sign, 0 without one.
func signed(x float64, decimals int) string {
	text := quantity.Fixed(x, decimals)
	if x > 0 && strings.ContainsAny(text, "123456789") {
		return "+" + text
	}
	return text
}
