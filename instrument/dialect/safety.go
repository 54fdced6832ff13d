package dialect

import (
	"math"
	"slices"
	"time"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/uncertainty"
)

// yesNo reads a question with two answers: {message: "OUTP?", "on": "1", "off": "0"}, or {register: 3, "on": 1,
// "off": 0}. Each may be a list of beginnings.
func (r *reader) yesNo(n document.Node, yes, no string) Query {
	q := Query{Place: r.place(n)}
	register, fields := r.registerFields()
	bit := -1
	list := func(to *[]string) func(document.Node) {
		return func(n document.Node) {
			items := []document.Node{n}
			if n.IsList() {
				items = n.Items()
			}
			for _, item := range items {
				*to = append(*to, item.Text())
			}
		}
	}
	fields[yes], fields[no] = list(&q.Yes), list(&q.No)
	fields["within"] = func(n document.Node) { q.Within = span(n, time.Millisecond, time.Minute) }
	required := []string{yes, no}
	if r.d.Protocol == Messages {
		fields["message"] = func(n document.Node) { q.Message = r.message(n, false); q.Place = r.place(n) }
		required = append(required, "message")
	} else {
		fields["bit"] = func(n document.Node) { bit = n.Whole(0, 31) }
	}
	n.Fields(fields, required...)
	if r.d.Protocol == Registers {
		if register.Address < 0 {
			n.Fail("name the register that is read: {register: 3, …}, or input for an input register")
		}
		register.fits(n, bit)
		q.Register = register
		q.Gives = []Reading{{Factor: 1, Bit: bit, Register: register}}
	}
	return q
}

func (r *reader) readProtect(n document.Node) {
	for _, e := range n.Entries() {
		kind, ok := quantity.KindOf(seats.ProtectedQuantity(e.Key))
		switch {
		case ok && e.Value.Present():
			r.d.Protect[e.Key] = r.setter(e.Value, e.Key, kind.Unit)
		case e.Key == "clear":
			r.d.ClearTrip = r.plainSetter(e.Value)
		case e.Key == "tripped":
			r.d.Tripped = r.yesNo(e.Value, "yes", "no")
		default:
			e.At.Fail("%q is no protection; %s", e.Key, document.Suggest(e.Key, append(seats.Protections(), "clear", "tripped")))
		}
	}
}

func (r *reader) readWatchdog(n document.Node) {
	w := Watchdog{After: 2 * time.Second}
	seconds, _ := quantity.ParseUnit("s")
	n.Fields(map[string]func(document.Node){
		"after":  func(n document.Node) { w.After = span(n, 200*time.Millisecond, 10*time.Minute) },
		"arm":    func(n document.Node) { w.Arm = r.setter(n, "watchdog", seconds) },
		"feed":   func(n document.Node) { w.Feed = r.plainSetter(n) },
		"disarm": func(n document.Node) { w.Disarm = r.plainSetter(n) },
	}, "arm", "disarm")
	r.d.Watchdog = w
}

func (r *reader) readProgram(n document.Node) {
	if r.d.Protocol == Registers {
		n.Fail("a program is written as messages; registers have none")
		return
	}
	p := Program{Of: "volts", Most: 100, Shortest: time.Millisecond}
	list := func(to *Setter) func(document.Node) {
		return func(n document.Node) {
			*to = Setter{Messages: r.texts(n, false, "{values}"), Place: r.place(n), Factor: 1}
		}
	}
	n.Fields(map[string]func(document.Node){
		"of": func(n document.Node) { p.Of = n.Word(settable...) }, "levels": list(&p.Levels), "dwells": list(&p.Dwells),
		"times":    func(n document.Node) { p.Times = Setter{Messages: r.texts(n, true), Place: r.place(n), Factor: 1} },
		"start":    func(n document.Node) { p.Start = r.plainSetter(n) },
		"stop":     func(n document.Node) { p.Stop = r.plainSetter(n) },
		"running":  func(n document.Node) { p.Running = r.yesNo(n, "yes", "no") },
		"most":     func(n document.Node) { p.Most = n.Whole(2, 100000) },
		"shortest": func(n document.Node) { p.Shortest = span(n, time.Microsecond, time.Minute) },
	}, "levels", "dwells", "start")
	r.d.Program = p
}

func readRanges(n document.Node) map[string]uncertainty.Spec {
	specs := map[string]uncertainty.Spec{}
	for _, e := range n.Entries() {
		kind, ok := quantity.KindOf(e.Key)
		if !ok {
			e.At.Fail("%q is not a quantity; %s", e.Key,
				document.Suggest(e.Key, readable))
			continue
		}
		var spec uncertainty.Spec
		for _, item := range e.Value.Items() {
			spec = append(spec, readRange(item, kind.Unit.Dim))
		}
		if !slices.IsSortedFunc(spec, func(a, b uncertainty.Range) int { return int(math.Copysign(1, a.To-b.To)) }) {
			e.Value.Fail("write the ranges from the smallest to the largest")
		}
		specs[e.Key] = spec
	}
	return specs
}

// readRange adds up the parts of an accuracy: reading is relative; range, offset and counts together bound the
// offset error.
func readRange(n document.Node, dim quantity.Dimension) uncertainty.Range {
	var r uncertainty.Range
	var ofRange float64
	var counts int
	n.Fields(map[string]func(document.Node){
		"to":         func(n document.Node) { r.To = n.Quantity(dim).Value },
		"reading":    func(n document.Node) { r.Reading = n.Quantity(quantity.Number).Value },
		"range":      func(n document.Node) { ofRange = n.Quantity(quantity.Number).Value },
		"offset":     func(n document.Node) { r.Offset = n.Quantity(dim).Value },
		"counts":     func(n document.Node) { counts = n.Whole(0, 1000) },
		"resolution": func(n document.Node) { r.Resolution = n.Quantity(dim).Value },
		"burden":     func(n document.Node) { r.Burden = n.Quantity(quantity.Resistance).Value },
	}, "to")
	if r.To <= 0 {
		n.Fail("a range ends above 0")
	}
	if r.Burden < 0 {
		n.Fail("a burden is a resistance, not less than 0")
	}
	r.Offset += ofRange*r.To + float64(counts)*r.Resolution
	return r
}
