package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/core/outcome"
	"usherbench/core/procedure"
	"usherbench/core/record"
)

// Run makes the report of a run in a format, one to three pages on paper. joined is what was joined to it, more are
// drawings beside those of its points.
func Run(doc api.Run, look Look, format string, joined []Attached, more ...Picture) ([]byte, error) {
	number := look.numbered(doc.RunSummary)
	p, err := look.begin(format, about{title: fmt.Sprintf("%s, %s", doc.Serial, doc.Title), foot: number,
		at: doc.StartedAt})
	if err != nil {
		return nil, err
	}
	word := orWord(doc.Outcome, "no limits")
	p.begun(head{kind: "Test report", title: doc.Serial, about: doc.Title, warning: doc.Reason, outcome: word})
	p.aboutRun(doc, number)
	pictures := append(slices.Clone(more), Pictures(doc)...)
	parts := map[string]func() error{
		"figures":  func() error { p.figures(doc); return nil },
		"standard": func() error { p.standard(doc); return nil },
		"curves":   func() error { return p.pictures(pictures) },
		"pictures": func() error {
			p.prompted(doc)
			p.attached(joined)
			return nil
		},
		"tables": func() error {
			p.wired(doc)
			p.tables(doc)
			return nil
		},
		"points": func() error { p.points(doc); return nil },
		"instruments": func() error {
			p.instruments(doc)
			p.accuracies(doc)
			return nil
		},
		"preflight": func() error { p.preflight(doc); return nil },
		"marks":     func() error { p.marks(doc); return nil },
	}
	sections := doc.Sections
	if len(sections) == 0 {
		sections = procedure.ReportSections
	}
	for _, name := range sections {
		if part, known := parts[name]; known {
			if err := part(); err != nil {
				return nil, err
			}
		}
	}
	p.signatures()
	return p.bytes("report of run " + doc.ID)
}

// numbered is the document number of a run.
func (l Look) numbered(r api.RunSummary) string {
	return Fill(orWord(l.Document, "Run {run}"), Names(r))
}

// Names are what patterns of names may hold, of a run.
func Names(r api.RunSummary) map[string]string {
	return map[string]string{"serial": r.Serial, "procedure": r.Procedure, "lot": r.Lot, "bay": r.Bay,
		"outcome": r.Outcome, "run": r.ID, "date": r.StartedAt.UTC().Format(time.DateOnly), "nameplate": r.Nameplate,
		"operator": r.Operator}
}

// aboutRun says what was tested, how, where and when.
func (p page) aboutRun(doc api.Run, number string) {
	left := []fact{{"Unit", doc.Serial}, {"Nameplate", doc.Nameplate}, {"Lot", orDash(doc.Lot)},
		{"Procedure", fmt.Sprintf("%s, revision %d", doc.Procedure, doc.Revision)}, {"Parameters", parameters(doc)}}
	right := []fact{{"Bay", doc.Bay}, {"Operator", doc.Operator}, {"Started", moment(&doc.StartedAt)},
		{"Ended", moment(doc.EndedAt)}, {"Duration", p.look.number(Seconds(doc.Duration) + timeFactor(doc))}}
	if len(doc.Parts) > 0 {
		left = append(left, fact{"Parts", named(doc.Parts)})
	}
	if p.look.Document != "" {
		right = append(right, fact{"Document", number})
	}
	p.known(left, right)
}

// named words names with what they are.
func named(all map[string]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		parts = append(parts, name+" "+all[name])
	}
	return strings.Join(parts, ", ")
}

func parameters(doc api.Run) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(doc.Parameters)) {
		parts = append(parts, name+" = "+doc.Parameters[name])
	}
	return orDash(strings.Join(parts, ", "))
}

func timeFactor(doc api.Run) string {
	if doc.TimeFactor <= 1 {
		return ""
	}
	return fmt.Sprintf(" of bench time, ×%g", doc.TimeFactor)
}

func orDash(s string) string {
	if s == "" {
		return "—"
	}
	return s
}

// figures is the table of figures with limits and uncertainty.
func (p page) figures(doc api.Run) {
	if len(doc.Figures) == 0 {
		return
	}
	p.section("Figures")
	p.row([]cell{p.heading("Figure", 34, "L"), p.heading("at", 51, "L"), p.heading("value ± U (95 %)", 36, "R"),
		p.heading("limit", 32, "R"), p.heading("outcome", 21, "R")}, 6)
	for _, f := range doc.Figures {
		color := inkColor
		if c, ok := outcomes[string(f.Outcome)]; ok {
			color = c[0]
		}
		p.row([]cell{
			{p.look.say(f.Title), 34, "L", inkColor, true}, {orDash(f.Where), 51, "L", mutedColor, false},
			{Value(f), 36, "R", inkColor, false},
			{p.limit(f), 32, "R", inkColor, false}, {orDash(p.look.say(string(f.Outcome))), 21, "R", color, true},
		}, 6)
		if notes := remarks(f.Remarks); f.Undetermined != nil || notes != "" {
			if f.Undetermined != nil {
				notes = strings.TrimSuffix(f.Undetermined.Code+": "+f.Undetermined.Sentence+"; "+notes, "; ")
			}
			p.note(notes, noteStyle{size: 7.5, color: mutedColor})
		}
	}
	p.rules(doc.Figures)
	p.gap(3)
}

// limit words the limit of a figure in the language of the report.
func (p page) limit(f procedure.Judged) string {
	text := Limit(f)
	for _, word := range []string{"marginal above", "marginal below"} {
		text = strings.Replace(text, word, p.look.say(word), 1)
	}
	return text
}

// rules say how the uncertainty enters the outcomes that stand above.
func (p page) rules(figures []procedure.Judged) {
	told := map[string]bool{}
	say := func(sentence string) {
		if !told[sentence] {
			told[sentence] = true
			p.note(p.look.say(sentence), noteStyle{size: 7.5, color: mutedColor})
		}
	}
	for _, f := range figures {
		switch {
		case f.Min == nil && f.Max == nil:
		case f.Rule == outcome.RuleGuarded:
			say("guarded: passes where U proves it inside")
		case f.Rule == outcome.RuleZones:
			say("zones: marginal where U proves neither")
		case f.Rule == outcome.RuleMarginalBand || f.Rule == "" && f.Marginal > 0:
			say("marginal-band: marginal close to a limit")
		default:
			say("A value inside its limits passes, whatever its uncertainty, unless a rule is named.")
		}
	}
}

// prompted shows the pictures that the operator saw, each once, with what was asked and answered.
func (p page) prompted(doc api.Run) {
	shown := map[string]bool{}
	for _, a := range doc.Asked {
		data := doc.Pictures[a.Picture]
		if shown[a.Picture] || imageKind(data) == "" {
			continue
		}
		if len(shown) == 0 {
			p.section("Pictures")
		}
		shown[a.Picture] = true
		p.image(data, a.Prompt, fmt.Sprintf("%s, %s", Seconds(a.T), a.Answer))
	}
}

func remarks(r []string) string { return strings.Join(r, "; ") }

func (p page) instruments(doc api.Run) {
	if len(doc.Instruments) == 0 {
		return
	}
	p.section("Instruments")
	p.row([]cell{p.heading("Seat", 22, "L"), p.heading("Instrument", 30, "L"), p.heading("Identity", 66, "L"),
		p.heading("Calibrated", 24, "R"), p.heading("due", 32, "R")}, 6)
	for _, u := range doc.Instruments {
		due := cell{orDash(u.Due), 32, "R", inkColor, false}
		if date, err := time.Parse(time.DateOnly, u.Due); err == nil && date.Before(doc.StartedAt) {
			due.color, due.text = outcomes["fail"][0], u.Due+" "+p.look.say("overdue")
		}
		p.row([]cell{
			{u.Seat, 22, "L", inkColor, false}, {fmt.Sprintf("%s, channel %d", u.Instrument, u.Channel), 30, "L", inkColor,
				false},
			{u.Identity, 66, "L", inkColor, false}, {orDash(u.Calibrated), 24, "R", inkColor, false}, due,
		}, 6)
	}
	p.gap(3)
}

// preflight lists what was found before the start and was not fine.
func (p page) preflight(doc api.Run) {
	if len(doc.Preflight) == 0 {
		return
	}
	p.section("Preflight")
	fine := 0
	for _, f := range doc.Preflight {
		if f.Verdict == api.Fine {
			fine++
			continue
		}
		p.row([]cell{{p.look.say(string(f.Verdict)), 22, "L", outcomes["marginal"][0], true},
			{f.Check + ": " + f.What, 152, "L", inkColor, false}}, 6)
	}
	p.row([]cell{{fmt.Sprintf("%d %s.", fine, p.look.say("checks were fine")), 174, "L", inkColor, false}}, 6)
	p.gap(3)
}

// mostMarks bounds the list in the report; the data files hold all.
const mostMarks = 40

// marks lists guards and what else happened, without commands and points.
func (p page) marks(doc api.Run) {
	var list []record.Mark
	for _, m := range doc.Marks {
		if m.Kind != record.MarkCommand && m.Kind != record.MarkPointDone && m.Kind != record.MarkStageEnd {
			list = append(list, m)
		}
	}
	if len(list) == 0 {
		return
	}
	p.section("Guards and marks")
	for i, m := range list {
		if i == mostMarks {
			p.remark(fmt.Sprintf("%d more are in the data files", len(list)-i))
			return
		}
		color := inkColor
		if m.Kind == record.MarkGuard || m.Kind == record.MarkBench || m.Kind == record.MarkTimeout {
			color = outcomes["fail"][0]
		}
		p.row([]cell{{Seconds(m.T), 24, "R", mutedColor, false}, {"", 3, "L", inkColor, false},
			{string(m.Kind), 22, "L", mutedColor, false}, {m.Label, inner - 49, "L", color, false}}, 5.2)
	}
}
