package dialect

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"usherbench/core/document"
	"usherbench/core/nameplate"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// reader reads one file into a dialect, which may already hold what a base says.
type reader struct {
	d    *Dialect
	file string
	// variant is true inside "as", which may not change what belongs to the whole instrument.
	variant bool
}

// Parse reads a dialect. lookup finds the base of one that has one. The error is a document.Findings.
func Parse(source Source, lookup func(name string) (*Dialect, error)) (*Dialect, error) {
	doc, err := document.Parse([]byte(source.Text))
	if err != nil {
		return nil, err
	}
	root := doc.Root()
	r := &reader{d: empty(), file: source.File}
	for _, e := range root.Entries() {
		if e.Key != "from" || !e.Value.Present() {
			continue
		}
		base, err := lookup(e.Value.Text())
		if err != nil {
			e.Value.Fail("%s", err)
			continue
		}
		r.d = base.clone()
	}
	r.d.Sources = append(r.d.Sources, source)
	r.d.Name = ""
	var as document.Node
	fields := r.fields()
	maps.Copy(fields, r.wholeFields())
	fields["as"] = func(n document.Node) { as = n }
	fields["from"] = func(n document.Node) { n.Text() }
	r.protocolFirst(root)
	root.Fields(fields, "dialect")
	r.readAs(as)
	if len(doc.Findings()) == 0 {
		r.complete(root)
	}
	if err := doc.Findings().Err(); err != nil {
		return nil, err
	}
	return r.d, nil
}

// protocolFirst reads the protocol before everything whose form depends on it.
func (r *reader) protocolFirst(root document.Node) {
	for _, e := range root.Entries() {
		if e.Key == "protocol" && e.Value.Present() {
			r.d.Protocol = Protocol(e.Value.Text())
		}
	}
}

func (r *reader) place(n document.Node) Place {
	line, column := n.Position()
	return Place{r.file, line, column}
}

// wholeFields belong to the instrument, whatever seat a channel fills.
func (r *reader) wholeFields() map[string]func(document.Node) {
	d := r.d
	return map[string]func(document.Node){
		"dialect": func(n document.Node) {
			if d.Name = n.Text(); !nameplate.NamePattern.MatchString(d.Name) {
				n.Fail("%q is not a name; use small letters, digits and hyphens, beginning with a letter", d.Name)
			}
		},
		"title":    func(n document.Node) { d.Title = n.Text() },
		"protocol": func(n document.Node) { d.Protocol = Protocol(n.Word(string(Messages), string(Registers))) },
		"identity": r.readIdentity,
		"channels": func(n document.Node) { d.Channels = n.Whole(1, 64) },
		"channel names": func(n document.Node) {
			d.ChannelNames = nil
			for _, item := range n.Items() {
				if slices.Contains(d.ChannelNames, item.Text()) {
					item.Fail("two channels are called %q", item.Text())
				}
				d.ChannelNames = append(d.ChannelNames, item.Text())
			}
			d.Channels = max(len(d.ChannelNames), 1)
		},
		"channel stride": func(n document.Node) { d.Stride = n.Whole(1, 10000) },
		"seats": func(n document.Node) {
			d.Seats = nil
			for _, s := range n.Items() {
				d.Seats = append(d.Seats, s.Word(seats.Names()...))
			}
		},
		"answers within": func(n document.Node) { d.Within = span(n, time.Millisecond, time.Minute) },
		"pause":          func(n document.Node) { d.Pause = span(n, time.Microsecond, 10*time.Second) },
		"terminator": func(n document.Node) {
			n.Fields(map[string]func(document.Node){
				"send":    func(n document.Node) { d.Send = terminator(n) },
				"receive": func(n document.Node) { d.Receive = terminator(n) },
			})
		},
		"when connected": func(n document.Node) { d.Greeting = r.texts(n, false) },
		"select": func(n document.Node) {
			if d.Select = r.message(n, false); !strings.Contains(d.Select, "{channel}") {
				n.Fail("it chooses no channel; write {channel} where the number of the channel goes")
			}
		},
		"errors":  r.readErrors,
		"numbers": func(n document.Node) { d.Numbers = r.readNumbers(n) },
	}
}

// fields can be different for each kind of seat.
func (r *reader) fields() map[string]func(document.Node) {
	d := r.d
	fields := map[string]func(document.Node){
		"set":       r.readSet,
		"read":      r.readRead,
		"confirm":   func(n document.Node) { d.Confirm = r.yesNo(n, "on", "off") },
		"protect":   r.readProtect,
		"interlock": func(n document.Node) { d.Interlock = r.yesNo(n, "open", "closed") },
		"watchdog":  r.readWatchdog,
		"program":   r.readProgram,
		"count":     func(n document.Node) { d.Count = r.plainSetter(n) },
		"make safe": func(n document.Node) { d.MakeSafe = []Setter{r.plainSetter(n)} },
		"ranges": func(n document.Node) {
			n.Fields(map[string]func(document.Node){
				"set":  func(n document.Node) { maps.Copy(d.SetRanges, readRanges(n)) },
				"read": func(n document.Node) { maps.Copy(d.ReadRanges, readRanges(n)) },
			})
		},
		"bears": func(n document.Node) {
			n.Fields(map[string]func(document.Node){
				"watts": func(n document.Node) { d.Bears.Watts = n.Quantity(quantity.Power).Value },
				"over":  func(n document.Node) { d.Bears.Over = n.Quantity(quantity.Time).Value },
			}, "watts", "over")
			if !d.Bears.Bounds() {
				n.Fail("write a power and a time, such as {watts: 60 W, over: 60 s}")
			}
		},
		"scope":  r.readScope,
		"scan":   r.readScan,
		"absent": r.readAbsent,
	}
	for _, choice := range seats.AllChoices() {
		fields[choice.Name] = func(n document.Node) { r.readChoice(n, choice) }
	}
	return fields
}

// readChoice reads what sets a word of a choice, or the one word that the model is built for: {measures: dc}.
func (r *reader) readChoice(n document.Node, choice seats.Choice) {
	delete(r.d.Words, choice.Name)
	delete(r.d.Built, choice.Name)
	delete(r.d.Ask, choice.Name)
	if n.IsMap() {
		r.d.Words[choice.Name] = r.words(n, choice.Name, choice.Words)
		return
	}
	r.d.Built[choice.Name] = n.Word(choice.Words...)
}

func (r *reader) readAs(n document.Node) {
	for _, e := range n.Entries() {
		if !slices.Contains(seats.Names(), e.Key) {
			e.At.Fail("%q is no kind of seat; %s", e.Key, document.Suggest(e.Key, seats.Names()))
			continue
		}
		v := &reader{d: r.d.For(e.Key).clone(), file: r.file, variant: true}
		v.d.As = nil
		if e.Value.Present() {
			e.Value.Fields(v.fields())
		}
		r.d.As[e.Key] = v.d
	}
}

// readAbsent takes away what a base has and this model has not.
func (r *reader) readAbsent(n document.Node) {
	for _, item := range n.Items() {
		d, name := r.d, item.Text()
		_, set := d.Set[name]
		_, words := d.Words[name]
		_, protect := d.Protect[name]
		_, built := d.Built[name]
		switch {
		case set || words || protect || built:
			delete(d.Set, name)
			delete(d.Built, name)
			delete(d.Words, name)
			delete(d.Protect, name)
			delete(d.Ask, name)
		case name == "watchdog":
			d.Watchdog = Watchdog{}
		case name == "interlock":
			d.Interlock = Query{}
		case name == "count":
			d.Count = Setter{}
		case name == "program":
			d.Program = Program{}
		case name == "errors":
			d.Errors = Errors{}
		case name == "identity":
			d.Identity = Identity{}
		default:
			item.Fail("the base has no %q to take away", name)
		}
	}
}

func span(n document.Node, least, most time.Duration) time.Duration {
	q := n.Quantity(quantity.Time)
	d := time.Duration(q.Value * float64(time.Second))
	if d < least || d > most {
		n.Fail("here belongs a time from %s to %s", least, most)
	}
	return d
}

// Terminators are the ends that messages may have, by the names that a dialect gives them.
var Terminators = map[string]string{"LF": "\n", "CR": "\r", "CRLF": "\r\n", "semicolon": ";"}

func terminator(n document.Node) string {
	return Terminators[n.Word(slices.Sorted(maps.Keys(Terminators))...)]
}

func (r *reader) readIdentity(n document.Node) {
	id := Identity{Place: r.place(n), Ask: Query{Message: "*IDN?", Place: r.place(n)}}
	pattern := n
	if n.IsMap() {
		pattern = document.Node{}
		id.Ask = Query{Place: r.place(n)}
		register, fields := r.registerFields()
		fields["message"] = func(n document.Node) { id.Ask.Message = r.message(n, false) }
		fields["is"] = func(n document.Node) { pattern = n; id.Place = r.place(n) }
		fields["length"] = func(n document.Node) { register.Text = n.Whole(1, 60) }
		n.Fields(fields, "is")
		if register.Address >= 0 {
			id.Ask.Register = register
		} else if id.Ask.Message == "" {
			n.Fail("say how to ask: message, or register")
		}
	} else if r.d.Protocol == Registers {
		n.Fail(`registers that hold the identity must be named: ` +
			`identity: {register: 100, is: "4711"}, with length for a text`)
	}
	re, err := regexp.Compile(pattern.Text())
	if err != nil {
		pattern.Fail("%q is not a regular expression: %s", pattern.Text(), err)
		return
	}
	id.Match = re
	r.d.Identity = id
}

func (r *reader) readErrors(n document.Node) {
	r.d.Errors = Errors{Place: r.place(n)}
	n.Fields(map[string]func(document.Node){
		"query":  func(n document.Node) { r.d.Errors.Query = r.message(n, false) },
		"none":   func(n document.Node) { r.d.Errors.None = n.Text() },
		"joined": func(n document.Node) { r.d.Errors.Joined = n.Word("true", "false") == "true" },
	}, "query", "none")
}

func (r *reader) readNumbers(n document.Node) Numbers {
	var numbers Numbers
	n.Fields(numberFields(&numbers))
	return numbers
}

func numberFields(numbers *Numbers) map[string]func(document.Node) {
	return map[string]func(document.Node){
		"decimals":    func(n document.Node) { numbers.Decimals = n.Whole(0, 9) },
		"digits":      func(n document.Node) { numbers.Digits = n.Whole(1, 15) },
		"exponential": func(n document.Node) { numbers.Exponential = n.Word("true", "false") == "true" },
	}
}

var placePattern = regexp.MustCompile(`\{[^}]*\}`)

// message reads a message and checks its places: {channel} everywhere, and what more belongs into it.
func (r *reader) message(n document.Node, value bool, more ...string) string {
	text := n.Text()
	places := append([]string{"{channel}"}, more...)
	if value {
		places = append(places, "{value}")
	}
	for _, m := range placePattern.FindAllString(text, -1) {
		if !slices.Contains(places, m) {
			n.FailAt(strings.Index(text, m)+1, "%s has no meaning here; %s", m, document.Suggest(m, places))
		}
	}
	return text
}

// texts reads one message or a list of them.
func (r *reader) texts(n document.Node, value bool, more ...string) (all []string) {
	if !n.IsList() {
		return []string{r.message(n, value, more...)}
	}
	for _, item := range n.Items() {
		all = append(all, r.message(item, value, more...))
	}
	return all
}

// complete checks what only the whole dialect can tell.
func (r *reader) complete(root document.Node) {
	d := r.d
	if len(d.Seats) == 0 {
		root.Fail(`it does not say what a channel can fill; write for example seats: [source]`)
	}
	r.besides()
	for _, seat := range d.Seats {
		kind, _ := seats.KindOf(seat)
		v := d.For(seat)
		if len(kind.Reads) > 0 && len(v.Read) == 0 && !kind.MayBeBlind {
			root.Fail("as a %s it reads nothing; add read", seat)
		}
		if kind.Is(seats.Captures) && v.Scope == nil {
			root.Fail("as a %s it captures nothing; add scope", seat)
		}
		if kind.Is(seats.Scans) && v.Scan == nil {
			root.Fail("as a %s it scans nothing; add scan", seat)
		}
		for _, q := range kind.Must {
			if _, ok := v.Set[q]; !ok && v.Words[q] == nil {
				root.Fail("a %s must let %s be set; add it under set", seat, q)
			}
		}
		for _, q := range kind.MustRead {
			if !slices.Contains(v.Gives(), q) {
				root.Fail("a %s must read %s; add it to what read gives", seat, q)
			}
		}
		if v.Words[seats.Output] != nil && !v.Confirm.Exists() {
			root.Fail(`an output can be switched, but nothing reads back whether it is on; add confirm, which make safe ` +
				`trusts: confirm: {message: "OUTP?", "on": "1", "off": "0"}`)
		}
		if v.Count.Exists() && !slices.Contains(v.Gives(), "charge") && !slices.Contains(v.Gives(), "energy") {
			root.Fail("as a %s it is told to count, but nothing reads the charge or energy that it counts; add them to read",
				seat)
		}
		if !kind.HasOutput() && v.Words[seats.Output] != nil {
			root.Fail("a %s has no output; take output away, or name another seat", seat)
		}
	}
	for _, choice := range seats.AllChoices() {
		r.checkChoice(root, choice.Name)
	}
	r.tellsApart(root)
	if d.Protocol == Registers && len(d.Greeting) > 0 {
		root.Fail("an instrument with registers takes no messages; remove \"when connected\"")
	}
}

// checkChoice refuses what no seat that a channel can fill has a use for.
func (r *reader) checkChoice(root document.Node, name string) {
	var without []string
	for _, seat := range r.d.Seats {
		v := r.d.For(seat)
		if v.Words[name] == nil && v.Built[name] == "" {
			continue
		}
		kind, _ := seats.KindOf(seat)
		if _, has := kind.Choice(name); has {
			return
		}
		without = append(without, seat)
	}
	if len(without) == 0 {
		return
	}
	root.Fail("a %s has no %q; take it away", strings.Join(without, " or a "), name)
}

// Describe is one line about the dialect.
func (d *Dialect) Describe() string {
	title := d.Title
	if title == "" {
		title = d.Name
	}
	return fmt.Sprintf("%s (%s, %d channel%s, for %s)", title, d.Protocol, d.Channels,
		map[bool]string{true: "s"}[d.Channels != 1], strings.Join(d.Seats, ", "))
}
