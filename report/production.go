package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/core/quantity"
)

// Lot makes the report of a lot: yield, by what units fail, how every figure lies over the units, and the pace.
func Lot(lot api.Lot, look Look, format string, at time.Time) ([]byte, error) {
	p, err := look.begin(format, about{title: "Lot " + lot.Name, foot: "Lot " + lot.Name, at: at})
	if err != nil {
		return nil, err
	}
	p.begun(head{kind: "Lot report", title: lot.Name, about: lot.Order.Note})
	for _, proc := range lot.Procedures {
		if err := p.lotBy(lot, proc); err != nil {
			return nil, err
		}
	}
	p.signatures()
	return p.bytes("report of lot " + lot.Name)
}

// lotBy is a lot by one procedure.
func (p page) lotBy(lot api.Lot, l api.LotProcedure) error {
	p.titled(orWord(l.Title, l.Procedure))
	p.known([]fact{{"Procedure", l.Procedure}, {"Units", quantityOfLot(lot.Order, l.Units, p.look)},
		{"Attempts", fmt.Sprintf("%d", l.Attempts)}},
		[]fact{{"Yield", p.share(l.Yield)}, {"at first", p.share(l.FirstPass)}, {"retested", p.share(l.Retest)}})
	if len(l.Pareto) > 0 {
		p.section("By what units fail")
		p.row([]cell{p.heading("Figure", 84, "L"), p.heading("units", 30, "R"), p.heading("share", 30, "R"),
			p.heading("together", 30, "R")}, 6)
		for _, c := range l.Pareto {
			p.row([]cell{{p.look.say(orWord(c.Title, c.Figure)), 84, "L", inkColor, true},
				{fmt.Sprint(c.Units), 30, "R", inkColor, false}, {percentWords(c.Share), 30, "R", inkColor, false},
				{percentWords(c.Cumulative), 30, "R", mutedColor, false}}, 6)
		}
		p.gap(3)
	}
	if len(l.Failing) > 0 {
		p.section("Failed units")
		p.remark(strings.Join(l.Failing, ", "))
		p.gap(3)
	}
	p.lotFigures(l.Figures)
	if err := p.drawn(lotPictures(p.look, l.Figures), 85, 52); err != nil {
		return err
	}
	p.lotPace(l.Bays)
	return nil
}

func quantityOfLot(o api.LotOrder, units int, look Look) string {
	words := fmt.Sprint(units)
	if o.Quantity > 0 {
		words = fmt.Sprintf("%d %s %d", units, look.say("of"), o.Quantity)
	}
	if o.Closed {
		words += ", " + look.say("closed")
	}
	return words
}

func percentWords(x float64) string { return quantity.Fixed(x, 1) + " %" }

// share words a share with its interval of 95 %.
func (p page) share(s *api.LotShare) string {
	if s == nil {
		return "—"
	}
	return p.look.number(fmt.Sprintf("%s (95 %%: %s … %s)", percentWords(s.Value), quantity.Fixed(s.Low, 1),
		percentWords(s.High)))
}

func (p page) lotFigures(all []api.LotFigure) {
	if len(all) == 0 {
		return
	}
	p.section("Figures")
	p.row([]cell{p.heading("Figure", 27, "L"), p.heading("at", 21, "L"), p.heading("units", 12, "R"),
		p.heading("mean", 20, "R"), p.heading("s", 18, "R"), p.heading("limit", 20, "R"),
		p.heading("cpk (95 %)", 28, "R"), p.heading("ppk (95 %)", 28, "R")}, 6)
	for _, f := range all {
		p.rowIn([]cell{{p.look.say(f.Title), 27, "L", inkColor, true}, {orDash(f.Where), 21, "L", mutedColor, false},
			{fmt.Sprint(f.N), 12, "R", inkColor, false}, {lotValue(f.Mean, f.Unit), 20, "R", inkColor, false},
			{lotValue(f.SD, f.Unit), 18, "R", inkColor, false}, {lotLimit(f), 20, "R", inkColor, false},
			{indexWords(f.Cpk), 28, "R", inkColor, false}, {indexWords(f.Ppk), 28, "R", inkColor, false}}, 6, 8)
		var notes []string
		if f.Drift != nil && f.DriftU != nil && (*f.Drift > *f.DriftU || *f.Drift < -*f.DriftU) {
			notes = append(notes, p.look.say("drift a unit")+" "+lotValue(f.Drift, f.Unit)+" ± "+lotValue(f.DriftU, f.Unit))
		}
		if len(f.Outliers) > 0 {
			var far []string
			for _, o := range f.Outliers {
				far = append(far, o.Serial)
			}
			notes = append(notes, p.look.say("far from the others")+": "+strings.Join(far, ", "))
		}
		notes = append(notes, f.Remarks...)
		if f.Why != "" {
			notes = append(notes, f.Why)
		}
		if len(notes) > 0 {
			p.note(p.look.number(strings.Join(notes, "; ")), noteStyle{size: 7.5, color: mutedColor})
		}
	}
	p.gap(3)
}

func lotValue(x *float64, unit string) string {
	if x == nil {
		return "—"
	}
	return strings.TrimSpace(quantity.Fixed(*x, decimalsFor(*x)) + " " + unit)
}

func lotLimit(f api.LotFigure) string {
	number := func(x float64) string { return quantity.Quantity{Value: x}.Format(6) }
	switch {
	case f.Min != nil && f.Max != nil:
		return number(*f.Min) + " … " + number(*f.Max) + " " + f.Unit
	case f.Min != nil:
		return "≥ " + number(*f.Min) + " " + f.Unit
	case f.Max != nil:
		return "≤ " + number(*f.Max) + " " + f.Unit
	}
	return "—"
}

func indexWords(c *api.LotIndex) string {
	if c == nil {
		return "—"
	}
	return fmt.Sprintf("%s (%s … %s)", quantity.Fixed(c.Value, 2), quantity.Fixed(c.Low, 2), quantity.Fixed(c.High, 2))
}

// lotPictures draw of every figure with a limit how its values lie, and how they follow each other.
func lotPictures(look Look, all []api.LotFigure) (pictures []Picture) {
	for _, f := range all {
		if len(f.Sequence) < 5 || f.Min == nil && f.Max == nil {
			continue
		}
		title := strings.TrimSpace(look.say(f.Title)+" "+f.Where) + ", " + look.say("limit") + " " + look.number(lotLimit(f))
		sequence, histogram := Line{}, Line{}
		for i, s := range f.Sequence {
			sequence.X, sequence.Y = append(sequence.X, float64(i+1)), append(sequence.Y, s.Mean)
		}
		most := 0.0
		for _, b := range f.Bins {
			most = max(most, float64(b.Units))
			histogram.X = append(histogram.X, b.Low, b.Low, b.High, b.High)
			histogram.Y = append(histogram.Y, 0, float64(b.Units), float64(b.Units), 0)
		}
		last := float64(len(f.Sequence))
		over := Picture{Title: title, XLabel: look.say("Sequence"), YLabel: f.Unit, Lines: []Line{sequence}, Plain: true}
		lie := Picture{Title: title, XLabel: f.Unit, YLabel: look.say("units"), Lines: []Line{histogram}, Plain: true}
		for _, bound := range []*float64{f.Min, f.Max} {
			if bound != nil {
				over.Lines = append(over.Lines, Line{X: []float64{1, last}, Y: []float64{*bound, *bound}})
				lie.Lines = append(lie.Lines, Line{X: []float64{*bound, *bound}, Y: []float64{0, most}})
			}
		}
		pictures = append(pictures, lie, over)
	}
	return pictures
}

func (p page) lotPace(bays []api.LotPace) {
	if len(bays) == 0 {
		return
	}
	p.section("Pace")
	p.row([]cell{p.heading("Bay", 34, "L"), p.heading("a test takes", 30, "R"), p.heading("between two", 30, "R"),
		p.heading("a unit takes", 30, "R"), p.heading("pauses", 30, "R"), p.heading("in use", 20, "R")}, 6)
	time := func(x *float64) cell {
		text := "—"
		if x != nil {
			text = Seconds(*x)
		}
		return cell{text, 30, "R", inkColor, false}
	}
	for _, b := range bays {
		p.row([]cell{{b.Bay, 34, "L", inkColor, true}, time(b.Test), time(b.Idle), time(b.PerUnit), time(&b.Paused),
			{percentWords(b.Use), 20, "R", inkColor, false}}, 6)
	}
	p.gap(3)
}

// Unit makes the history of a unit: what is in it, its card, all its runs, and the figures of those that count.
func Unit(u api.Unit, counted []api.Run, look Look, format string, at time.Time) ([]byte, error) {
	return unitReport("Unit history", u, counted, true, look, format, at)
}

// Card makes the card of a unit as what is handed over with it: every procedure with its figures.
func Card(u api.Unit, counted []api.Run, look Look, format string, at time.Time) ([]byte, error) {
	return unitReport("Test card", u, counted, false, look, format, at)
}

func unitReport(kind string, u api.Unit, counted []api.Run, history bool, look Look, format string,
	at time.Time) ([]byte, error) {
	p, err := look.begin(format, about{title: u.Serial, foot: u.Serial, at: at})
	if err != nil {
		return nil, err
	}
	h := head{kind: kind, title: u.Serial, about: u.Nameplate, warning: u.Quarantine}
	if u.Card != nil {
		h.outcome = string(u.Card.State)
	}
	p.begun(h)
	left := []fact{{"Unit", u.Serial}, {"Nameplate", orDash(u.Nameplate)}}
	right := []fact{{"Lot", orDash(strings.Join(u.Lots, ", "))}, {"Runs", fmt.Sprint(len(u.Runs))}}
	for _, name := range slices.Sorted(maps.Keys(u.Parts)) {
		left = append(left, fact{name, u.Parts[name]})
	}
	p.known(left, right)
	if u.Card != nil {
		p.card(*u.Card)
	}
	if history {
		p.across(u.Across)
		p.unitRuns(u.Runs)
	}
	for _, run := range counted {
		p.titled(fmt.Sprintf("%s, %s", run.Title, moment(&run.StartedAt)))
		p.figures(run)
		if !history {
			p.instruments(run)
		}
	}
	p.signatures()
	return p.bytes("report of " + u.Serial)
}

func (p page) card(c api.Card) {
	p.section("Card")
	p.row([]cell{p.heading("Procedure", 86, "L"), p.heading("Kind", 26, "L"), p.heading("State", 36, "L"),
		p.heading("attempts", 26, "R")}, 6)
	for _, i := range c.Items {
		color := inkColor
		if of, known := outcomes[string(i.State)]; known {
			color = of[0]
		}
		p.row([]cell{{i.Title, 86, "L", inkColor, true}, {p.look.say(i.Kind), 26, "L", mutedColor, false},
			{p.look.say(string(i.State)), 36, "L", color, true}, {fmt.Sprint(i.Attempts), 26, "R", inkColor, false}}, 6)
	}
	p.gap(3)
}

// across compares what several bays found of the unit.
func (p page) across(all []api.BaysFigure) {
	if len(all) == 0 {
		return
	}
	p.section("In several bays")
	p.row([]cell{p.heading("Figure", 38, "L"), p.heading("at", 38, "L"), p.heading("Bay", 16, "L"),
		p.heading("value ± U (95 %)", 36, "R"), p.heading("difference", 28, "R"), p.heading("", 18, "R")}, 6)
	for _, f := range all {
		word, color := "agree", inkColor
		switch {
		case f.U == 0:
			word = ""
		case f.Differs:
			word, color = "differ", outcomes["fail"][0]
		}
		title, where := p.look.say(f.Title), orDash(f.Where)
		for k, b := range f.Bays {
			difference, said := "", ""
			if k == len(f.Bays)-1 {
				difference, said = Uncertain(f.Difference, f.U, f.Unit), p.look.say(word)
			}
			p.rowIn([]cell{{title, 38, "L", inkColor, true}, {where, 38, "L", mutedColor, false},
				{b.Bay, 16, "L", mutedColor, false}, {Uncertain(b.Value, b.U, f.Unit), 36, "R", inkColor, false},
				{difference, 28, "R", inkColor, false}, {said, 18, "R", color, true}}, 6, 8)
			title, where = "", ""
		}
	}
	p.gap(3)
}

func (p page) unitRuns(runs []api.RunSummary) {
	p.section("Runs")
	p.row([]cell{p.heading("Began", 36, "L"), p.heading("Procedure", 42, "L"), p.heading("Bay", 16, "L"),
		p.heading("Outcome", 26, "L"), p.heading("Why", 54, "L")}, 6)
	for _, r := range runs {
		p.row([]cell{{r.StartedAt.Format("2006-01-02 15:04"), 36, "L", inkColor, false},
			{r.Procedure, 42, "L", inkColor, false}, {r.Bay, 16, "L", mutedColor, false},
			{orDash(p.look.say(r.Outcome)), 26, "L", outcomeColors(r.Outcome)[0], true},
			{r.Reason, 54, "L", mutedColor, false}}, 6)
	}
	p.gap(3)
}
