package procedure

import (
	"math"
	"regexp"
	"slices"

	"usherbench/core/document"
	"usherbench/core/quantity"
)

var answerName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// readSeek reads the search for the level at which something happens.
func (r *reader) readSeek(c *common, n document.Node) Action {
	s := &Seek{Row: c.Name}
	var set, from, to, coarse, fine, recovers document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	n.Fields(map[string]func(document.Node){
		"set": keep(&set), "from": keep(&from), "to": keep(&to), "coarse": keep(&coarse), "fine": keep(&fine),
		"recovers": keep(&recovers),
		"dwell": func(n document.Node) {
			if s.Dwell = r.value(n, quantity.Time); s.Dwell <= 0 {
				n.Fail("each step is held for more than no time")
			}
		},
		"until": func(n document.Node) { s.Until = r.condition(n) },
		"into":  func(n document.Node) { s.Row = n.Text() },
	}, "set", "from", "to", "coarse", "dwell", "until")
	seat, q, ok := r.settable(set, set.Text())
	if !ok {
		return s
	}
	kind, numeric := quantity.KindOf(q)
	if !numeric {
		set.Fail("%s is switched, not stepped; choose a quantity with a unit", set.Text())
		return s
	}
	s.Seat, s.Quantity = seat.Name, q
	s.From, s.To = r.value(from, kind.Unit.Dim), r.value(to, kind.Unit.Dim)
	r.bounded(from, seat, q, s.From)
	r.bounded(to, seat, q, s.To)
	s.Coarse = r.value(coarse, kind.Unit.Dim)
	if fine.Present() {
		s.Fine = r.value(fine, kind.Unit.Dim)
	}
	span := math.Abs(s.To - s.From)
	switch {
	case !coarse.Present():
	case s.Coarse <= 0 || s.Coarse > span:
		coarse.Fail("the coarse step is more than 0 and at most the range, %s to %s", from.Text(), to.Text())
		s.Coarse = math.Max(span, 1)
	case fine.Present() && (s.Fine <= 0 || s.Fine >= s.Coarse):
		fine.Fail("the fine step is more than 0 and less than the coarse one")
	case span/s.Coarse > mostPlaces:
		coarse.Fail("the search has more than %d steps", mostPlaces)
	}
	if recovers.Present() {
		recovers.Fields(map[string]func(document.Node){
			"set": func(n document.Node) { s.Relief = r.readSettings(n, false) },
			"when": func(n document.Node) {
				s.Recovered = r.condition(n)
			},
			"within": func(n document.Node) { s.RecoversWithin = r.value(n, quantity.Time) },
		}, "when", "within")
		if s.Relief == nil {
			s.Relief = []Setting{{Seat: s.Seat, Quantity: s.Quantity, Value: s.From}}
		}
	}
	r.rows[s.Row] = c.Line
	return s
}

// readAcquire reads the taking of readings into a row.
func (r *reader) readAcquire(c *common, n document.Node) Action {
	a := &Acquire{Row: c.Name, Times: 1, Average: 0.2}
	n.Fields(map[string]func(document.Node){
		"into": func(n document.Node) { a.Row = n.Text() },
		"quantities": func(n document.Node) {
			for _, item := range n.Items() {
				if column := r.column(item); column != "" {
					a.Columns = append(a.Columns, column)
				}
			}
		},
		"average": func(n document.Node) {
			if a.Average = r.value(n, quantity.Time); a.Average <= 0 {
				n.Fail("a reading is an average over some time; it must be more than 0")
			}
		},
		"times": func(n document.Node) { a.Times = n.Whole(1, mostPlaces) },
		"every": func(n document.Node) { a.Every = r.value(n, quantity.Time) },
	})
	r.rows[a.Row] = c.Line
	return a
}

// column reads the name of a column of the run.
func (r *reader) column(n document.Node) string {
	name := n.Text()
	if r.p.Columns.Index(name) < 0 {
		n.Fail("%s", unknownName(name, r.p.Columns))
		return ""
	}
	return name
}

// readAsk reads a prompt: one of confirm, number, text, choice, serial with its words.
func (r *reader) readAsk(c *common, n document.Node) Action {
	a := &Ask{}
	var low, high, unitNode, choice, into document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	fields := map[string]func(document.Node){"unit": keep(&unitNode), "min": keep(&low), "max": keep(&high),
		"choices": keep(&choice), "into": keep(&into)}
	for _, form := range []AskForm{AskConfirm, AskNumber, AskText, AskChoice, AskSerial} {
		fields[string(form)] = func(n document.Node) {
			if a.Form != "" {
				n.Fail("the stage asks for %s and %s; write a stage for each", a.Form, form)
			}
			a.Form, a.Prompt = form, n.Text()
		}
	}
	n.Fields(fields)
	switch {
	case !n.IsMap():
		return a
	case a.Form == "":
		n.Fail("say what is asked: confirm, number, text, choice or serial, with the words for the operator")
		return a
	}
	only := func(n document.Node, key string, form AskForm) {
		if n.Present() && a.Form != form {
			n.Fail("%s goes with %s only", key, form)
		}
	}
	only(unitNode, "unit", AskNumber)
	only(low, "min", AskNumber)
	only(high, "max", AskNumber)
	only(choice, "choices", AskChoice)
	for _, item := range choice.Items() {
		a.Choice = append(a.Choice, item.Text())
	}
	if a.Form == AskChoice && len(a.Choice) < 2 {
		n.Fail("a choice needs choices, two at least")
	}
	if into.Present() {
		if a.Into = into.Text(); !answerName.MatchString(a.Into) {
			into.Fail("%q is not a name of an answer; use small letters, digits and underscores", a.Into)
		}
	}
	if a.Form != AskNumber {
		return a
	}
	if !into.Present() {
		n.Fail("a number is asked for to be used: name it with into, and conditions know it as answer.NAME")
		return a
	}
	a.Unit = unitNode.Text()
	unit, err := a.AnswerUnit()
	if err != nil {
		unitNode.Fail("%s", err)
		return a
	}
	bound := func(n document.Node) *float64 {
		if !n.Present() {
			return nil
		}
		x := r.value(n, unit.Dim) / unit.Factor
		return &x
	}
	a.Min, a.Max = bound(low), bound(high)
	if a.Min != nil && a.Max != nil && *a.Min > *a.Max {
		low.Fail("min is above max; swap them")
	}
	r.p.Answers[a.Into] = unit.Dim
	return a
}

func (r *reader) readSignal(_ *common, n document.Node) Action {
	s := &Signal{}
	if !n.IsMap() {
		s.Message = n.Text()
		return s
	}
	n.Fields(map[string]func(document.Node){
		"message": func(n document.Node) { s.Message = n.Text() },
		"sound":   func(n document.Node) { s.Sound = n.Word("on", "off") == "on" },
	}, "message")
	return s
}

// readRecord reads which frames are kept: {every: 100 ms, on change: {load.volts: 10 mV}, at least: 10 s,
// columns: [load.volts]}.
func (r *reader) readRecord(n document.Node) Record {
	record := r.record
	var every, changes, atLeast document.Node
	keep := func(to *document.Node) func(document.Node) { return func(n document.Node) { *to = n } }
	n.Fields(map[string]func(document.Node){
		"every": keep(&every), "on change": keep(&changes), "at least": keep(&atLeast),
		"columns": func(n document.Node) {
			record.Columns = nil
			for _, item := range n.Items() {
				if column := r.column(item); column != "" {
					record.Columns = append(record.Columns, column)
				}
			}
		},
	})
	positive := func(n document.Node) float64 {
		x := r.value(n, quantity.Time)
		if x <= 0 {
			n.Fail("the interval must be more than 0")
		}
		return x
	}
	if every.Present() {
		record.Every = positive(every)
		record.Changes, record.AtLeast = nil, 0
	}
	switch {
	case changes.Present() && every.Present():
		changes.Fail("frames are kept every so often, or on change; give one of the two")
	case changes.Present():
		record.Every, record.Changes, record.AtLeast = 0, map[string]float64{}, 10
		for _, e := range changes.Entries() {
			if column := r.column(e.At); column != "" {
				kind, _ := quantity.KindOfColumn(column)
				record.Changes[column] = r.value(e.Value, kind.Unit.Dim)
			}
		}
	}
	if atLeast.Present() {
		record.AtLeast = positive(atLeast)
		if record.Changes == nil {
			atLeast.Fail("at least goes with on change; every already says how often")
		}
	}
	return record
}

// readDerived reads columns that are computed: {shunt.amps: "meter.volts / 1 mΩ"}.
func (r *reader) readDerived(n document.Node) {
	for _, e := range n.Entries() {
		kind, ok := quantity.KindOfColumn(e.Key)
		switch {
		case !ok:
			e.At.Fail("a derived column is named like a seat's: shunt.amps, unit.watts; the last word says what it is")
			continue
		case slices.Contains(r.p.Columns, e.Key):
			e.At.Fail("%s is read or counted already; choose another name", e.Key)
			continue
		}
		if dim, ok := r.expression(e.Value); ok {
			if dim != kind.Unit.Dim {
				e.Value.Fail("the expression is %s, but %s are %s", dim, e.Key, kind.Unit.Dim)
				continue
			}
			r.p.Derived = append(r.p.Derived, Derived{e.Key, e.Value.Text()})
			r.p.Columns = append(r.p.Columns, e.Key)
		}
	}
}
