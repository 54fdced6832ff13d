package dialect

import (
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/instrument/modbus"
	"usherbench/instrument/scpi"
)

// settable are the quantities that a number can be set for.
var settable = quantity.Names(func(k quantity.Kind) bool { return k.Set })

func (r *reader) readSet(n document.Node) {
	for _, e := range n.Entries() {
		switch {
		case !e.Value.Present():
			e.At.Fail("%q has no value", e.Key)
		case e.Key == seats.Output:
			r.d.Words[seats.Output] = r.words(e.Value, seats.Output, []string{seats.On, seats.Off})
		case e.Key == seats.Mode:
			r.d.Words[seats.Mode] = r.words(e.Value, "mode", seats.Modes())
		case slices.Contains(settable, e.Key):
			kind, _ := quantity.KindOf(e.Key)
			r.d.Set[e.Key] = r.setter(e.Value, e.Key, kind.Unit)
		default:
			e.At.Fail("%q cannot be set; %s", e.Key, document.Suggest(e.Key, append(slices.Clone(settable), seats.Output,
				seats.Mode)))
		}
	}
}

// words reads what sets a word: {"on": MESSAGE, "off": MESSAGE}, or {register: 3, "on": 1, "off": 0}. With
// "ask" it is read back.
func (r *reader) words(n document.Node, of string, possible []string) map[string]Setter {
	setters, values := map[string]Setter{}, map[string]document.Node{}
	register, fields := r.registerFields()
	var settle time.Duration
	ask := Query{Place: r.place(n), Words: map[string]string{}}
	for _, word := range possible {
		fields[word] = func(n document.Node) { values[word] = n }
	}
	fields["settle"] = func(n document.Node) { settle = span(n, time.Millisecond, time.Minute) }
	fields["ask"] = func(n document.Node) {
		ask.Place = r.place(n)
		if !n.IsMap() {
			ask.Message = r.message(n, false)
			return
		}
		answers := map[string]func(document.Node){"message": func(n document.Node) { ask.Message = r.message(n, false) }}
		for _, word := range possible {
			answers[word] = func(n document.Node) { ask.Words[n.Text()] = word }
		}
		n.Fields(answers, "message")
	}
	n.Fields(fields)
	for word, value := range values {
		s := Setter{Place: r.place(value), Settle: settle, Factor: 1}
		if r.d.Protocol == Registers {
			s.Register, s.Word = register, float64(value.Whole(0, 65535))
			ask.Words[value.Text()] = word
		} else {
			s.Messages = r.texts(value, false)
		}
		setters[word] = s
	}
	switch {
	case r.d.Protocol == Registers && register.Address < 0:
		n.Fail("name the register that takes the word: {register: 3, …}")
	case r.d.Protocol == Registers:
		register.fits(n, 0)
		ask.Register = register
		r.d.Ask[of] = ask
	case ask.Message != "":
		if len(ask.Words) == 0 { // the instrument answers as it is told: the last word of each message
			for word, s := range setters {
				parts := strings.FieldsFunc(s.Messages[len(s.Messages)-1], func(c rune) bool { return c == ' ' || c == ',' })
				ask.Words[parts[min(1, len(parts)-1)]] = word
			}
		}
		r.d.Ask[of] = ask
	}
	if of == seats.Output && (!setters["on"].Exists() || !setters["off"].Exists()) {
		n.Fail("output needs what switches it on and what switches it off")
	}
	return setters
}

// setter reads how a number is set: a message, a list of messages, or a map with more.
func (r *reader) setter(n document.Node, of string, unit quantity.Unit) Setter {
	s := Setter{Place: r.place(n), Factor: 1}
	if r.d.Protocol == Messages && !n.IsMap() {
		s.Messages = r.texts(n, true)
		r.needsValue(n, s.Messages)
		return s
	}
	numbers := r.d.Numbers
	register, fields := r.registerFields()
	scale := 1.0
	mark := func(name string, do func(document.Node)) {
		fields[name] = do
	}
	for name, read := range numberFields(&numbers) {
		mark(name, func(n document.Node) { read(n); s.Numbers = &numbers })
	}
	mark("message", func(n document.Node) {
		s.Messages = r.texts(n, true)
		r.needsValue(n, s.Messages)
		s.Place = r.place(n)
	})
	mark("unit", func(n document.Node) { s.Factor = r.unit(n, unit) })
	mark("scale", func(n document.Node) { scale = number(n) })
	mark("settle", func(n document.Node) { s.Settle = span(n, time.Millisecond, time.Minute) })
	mark("within", func(n document.Node) { s.Within = span(n, time.Millisecond, time.Minute) })
	if of == "volts" {
		mark("bounds", func(n document.Node) { r.d.OneVoltage = n.Word("charges", "both") == "both" })
	}
	var ask document.Node
	mark("ask", func(n document.Node) { ask = n })
	n.Fields(fields)
	s.Factor *= scale
	switch {
	case r.d.Protocol == Registers && register.Address < 0:
		n.Fail("name the register that takes the number: {register: 1, unit: mV}")
	case r.d.Protocol == Registers && register.Input:
		n.Fail("an input register cannot be written; write register and the number of a holding register")
	case r.d.Protocol == Registers:
		register.fits(n, 0)
		s.Register = register
		r.d.Ask[of] = Query{Place: s.Place, Gives: []Reading{{Quantity: of, Factor: s.Factor, Bit: -1, Register: register}}}
	case len(s.Messages) == 0:
		n.Fail(`the key "message" is missing`)
	case ask.Present():
		r.d.Ask[of] = Query{Message: r.message(ask, false), Place: r.place(ask),
			Gives: []Reading{{Quantity: of, Factor: s.Factor, Bit: -1}}}
	}
	return s
}

func (r *reader) needsValue(n document.Node, messages []string) {
	if !strings.Contains(strings.Join(messages, "\n"), "{value}") {
		n.Fail("the message does not say where the number goes: write {value}")
	}
}

// plainSetter reads what is sent as it is: a message, a list of them, or a register with what is written to it.
func (r *reader) plainSetter(n document.Node) Setter {
	s := Setter{Place: r.place(n), Factor: 1}
	if r.d.Protocol == Messages {
		s.Messages = r.texts(n, false)
		return s
	}
	register, fields := r.registerFields()
	fields["value"] = func(n document.Node) {
		if s.Numbered = n.Text() == "channel"; !s.Numbered {
			s.Word = float64(n.Whole(0, 65535))
		}
	}
	n.Fields(fields, "value")
	if register.Address < 0 {
		n.Fail("name the register: {register: 3, value: 0}")
	}
	s.Register = register
	return s
}

// registerFields reads where a number stands in registers; the address is negative if nothing was said.
func (r *reader) registerFields() (*Register, map[string]func(document.Node)) {
	register := &Register{Address: -1, Form: modbus.Form{As: "uint16"}}
	if r.d.Protocol != Registers {
		return register, map[string]func(document.Node){}
	}
	return register, map[string]func(document.Node){
		"register": func(n document.Node) { register.Address = n.Whole(0, 65535) },
		"input":    func(n document.Node) { register.Address, register.Input = n.Whole(0, 65535), true },
		"as":       func(n document.Node) { register.Form.As = n.Word(modbus.Forms()...) },
		"stride":   func(n document.Node) { register.Common = n.Word("none") == "none" },
		"words":    func(n document.Node) { register.Form.LowFirst = n.Word("high first", "low first") == "low first" },
		"function": func(n document.Node) {
			register.Several = n.Word("6", "16") == "16"
			register.One = !register.Several
		},
	}
}

// fits checks what is only known when all is said of a register: whether a number has room in what is written or read.
func (register *Register) fits(n document.Node, bit int) {
	fills := register.Form.Registers()
	if register.One && fills > 1 {
		n.Fail("%s fills %d registers, and function 6 writes one; take function away, or write 16", register.Form.As, fills)
	}
	if bit >= 16*fills {
		n.Fail("%s has no bit %d; its bits are 0 to %d", register.Form.As, bit, 16*fills-1)
	}
}

// unit reads the unit of numbers, which must measure the right thing; the result is its value in SI.
func (r *reader) unit(n document.Node, of quantity.Unit) float64 {
	unit, err := quantity.ParseUnit(n.Text())
	if err != nil {
		n.Fail("%s", err)
		return 1
	}
	if unit.Dim != of.Dim {
		n.Fail("%q is %s, but here belongs a unit of %s such as %s", n.Text(), unit.Dim, of.Dim, of.Symbol)
		return 1
	}
	return unit.Factor
}

func number(n document.Node) float64 {
	x, err := strconv.ParseFloat(n.Text(), 64)
	if err != nil || x == 0 {
		n.Fail("%q: here belongs a number that is not 0", n.Text())
		return 1
	}
	return x
}

func (r *reader) readRead(n document.Node) {
	r.d.Read = nil
	if r.d.Protocol == Registers {
		q := Query{Place: r.place(n)}
		for _, e := range n.Entries() {
			if reading, ok := r.registerReading(e); ok {
				q.Gives = append(q.Gives, reading)
			}
		}
		r.d.Read = []Query{q}
		return
	}
	items := []document.Node{n}
	if n.IsList() {
		items = n.Items()
	}
	for _, item := range items {
		r.d.Read = append(r.d.Read, r.query(item))
	}
	given := r.d.Gives()
	for i, name := range given {
		if slices.Index(given, name) < i {
			n.Fail("%s is read twice, so that nobody knows which counts; write skip where the other stands", name)
		}
	}
}

func (r *reader) registerReading(e document.Entry) (Reading, bool) {
	if !canRead(e.Key) {
		e.At.Fail("%q is not a quantity; %s", e.Key, document.Suggest(e.Key, readable))
		return Reading{}, false
	}
	kind, _ := quantity.KindOf(e.Key)
	reading := Reading{Quantity: e.Key, Factor: 1, Bit: -1}
	register, fields := r.registerFields()
	scale := 1.0
	fields["unit"] = func(n document.Node) { reading.Factor = r.unit(n, kind.Unit) }
	fields["scale"] = func(n document.Node) { scale = number(n) }
	fields["bit"] = func(n document.Node) { reading.Bit = n.Whole(0, 31) }
	fields["missing"] = reading.Codes.read(&reading.Codes.Missing)
	fields["overload"] = reading.Codes.read(&reading.Codes.Overload)
	e.Value.Fields(fields)
	if register.Address < 0 {
		e.Value.Fail("name the register: {input: 10, unit: mV}, or register for a holding register")
	}
	register.fits(e.Value, reading.Bit)
	reading.Factor *= scale
	reading.Register = register
	return reading, true
}

// canRead tells whether a word names what an instrument may give: a quantity, a part of one, or a state.
func canRead(name string) bool {
	kind, ok := quantity.KindOf(name)
	return ok && (kind.Read || kind.Counted || kind.State) || name == "skip"
}

// readGives reads what one number of an answer is, or a row of them: volts, skip, amps.2, amps.h1 to h40.
func readGives(n document.Node) (all []Reading) {
	names, err := quantity.Expand(n.Text())
	if err != nil {
		n.Fail("%s", err)
		return nil
	}
	for _, name := range names {
		if !canRead(name) {
			n.Fail("%q is not a quantity; %s", name, document.Suggest(name, readable))
		}
		all = append(all, Reading{Quantity: strings.TrimPrefix(name, "skip"), Factor: 1, Bit: -1})
	}
	return all
}

var readable = append(quantity.Names(func(k quantity.Kind) bool { return k.Read || k.Counted || k.State }), "skip")

// query reads one question and what its answer gives.
func (r *reader) query(n document.Node) Query {
	q := Query{Place: r.place(n)}
	var block scpi.Format
	factors, words, bits := map[string]float64{}, map[string]map[string]float64{}, map[string]int{}
	var units, scales, missing, overload document.Node
	n.Fields(map[string]func(document.Node){
		"message":   func(n document.Node) { q.Message = r.message(n, false); q.Place = r.place(n) },
		"separator": func(n document.Node) { q.Separator = n.Text() },
		"within":    func(n document.Node) { q.Within = span(n, time.Millisecond, time.Minute) },
		"pattern": func(n document.Node) {
			re, err := regexp.Compile(n.Text())
			if err != nil {
				n.Fail("%q is not a regular expression: %s", n.Text(), err)
				return
			}
			q.Pattern = re
		},
		"block": func(n document.Node) {
			q.Block = &block
			n.Fields(map[string]func(document.Node){
				"of":         func(n document.Node) { block.Of = n.Word("float32", "float64", "int16") },
				"byte order": func(n document.Node) { block.Low = n.Word("big", "little") == "little" },
			}, "of")
		},
		"gives": func(n document.Node) {
			for _, g := range n.Items() {
				q.Gives = append(q.Gives, readGives(g)...)
			}
		},
		"units":    func(n document.Node) { units = n },
		"scale":    func(n document.Node) { scales = n },
		"missing":  func(n document.Node) { missing = n },
		"overload": func(n document.Node) { overload = n },
		"answers": func(n document.Node) {
			for _, e := range n.Entries() {
				words[e.Key] = map[string]float64{}
				for _, w := range e.Value.Entries() {
					words[e.Key][w.Key] = float64(w.Value.Whole(0, 1))
				}
			}
		},
		"bits": func(n document.Node) {
			for _, e := range n.Entries() {
				bits[e.Key] = e.Value.Whole(0, 31)
			}
		},
	}, "message", "gives")
	for _, e := range units.Entries() {
		if kind, ok := quantity.KindOf(e.Key); ok {
			factors[e.Key] = r.unit(e.Value, kind.Unit)
		}
	}
	for _, e := range scales.Entries() {
		if factors[e.Key] == 0 {
			factors[e.Key] = 1
		}
		factors[e.Key] *= number(e.Value)
	}
	given := map[string]bool{}
	for i := range q.Gives {
		g := &q.Gives[i]
		whole := quantity.WholeOf(g.Quantity)
		given[g.Quantity], given[whole] = true, true
		if f, ok := factors[whole]; ok { // what is said of a quantity holds for its parts
			g.Factor = f
		}
		if f, ok := factors[g.Quantity]; ok {
			g.Factor = f
		}
		if b, ok := bits[g.Quantity]; ok {
			g.Bit = b
		}
		g.Words = words[g.Quantity]
	}
	for i := range q.Gives {
		c := &q.Gives[i].Codes
		c.readOf(missing, q.Gives[i].Quantity, &c.Missing)
		c.readOf(overload, q.Gives[i].Quantity, &c.Overload)
	}
	for _, codes := range []document.Node{missing, overload} {
		for _, e := range codes.Entries() {
			if !given[e.Key] {
				e.At.Fail("%q is not among what the answer gives", e.Key)
			}
		}
	}
	for _, said := range [][]string{slices.Sorted(maps.Keys(factors)), slices.Sorted(maps.Keys(bits)),
		slices.Sorted(maps.Keys(words))} {
		for _, name := range said {
			if !given[name] {
				n.Fail("%q is not among what the answer gives", name)
			}
		}
	}
	if q.Pattern != nil && q.Pattern.NumSubexp() != len(q.Gives) {
		n.Fail("the pattern has %d groups in parentheses, but gives names %d quantities", q.Pattern.NumSubexp(), len(q.Gives))
	}
	return q
}
