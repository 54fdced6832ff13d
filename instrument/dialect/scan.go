package dialect

import (
	"strconv"
	"strings"
	"time"

	"usherbench/core/document"
	"usherbench/core/quantity"
)

// Scan is how an instrument reads ohms between pairs of terminals.
type Scan struct {
	// Choose says which pairs, as a list of so many at most; Pair is how one of them is written.
	Choose Setter
	Pair   string
	Most   int
	// Ask has them read, and answers with ohms, one for each pair.
	Ask Query
	// Terminals is how many each channel has; those of the second stand behind those of the first.
	Terminals int
	// Watch is how pairs are watched for openings; nil: they cannot be.
	Watch *Watching
}

// Watching is how an instrument watches pairs of terminals for openings.
type Watching struct {
	// Begin chooses the pairs and begins to watch for openings of at least so many seconds, End stops it.
	Begin, End Setter
	// Ask is answered with how many openings were seen since it was asked last, and for each of them the pair by its
	// place from 1, when it began, s since the watch began, and for how long it lasted, s.
	Ask Query
	// Shortest is the shortest opening that it can see, s.
	Shortest float64
}

// The places in the messages of a scan: the list of pairs, and the terminals of a pair.
const (
	pairsPlace = "{pairs}"
	fromPlace  = "{from}"
	toPlace    = "{to}"
	valuePlace = "{value}"
)

// readScan reads how pairs of terminals are scanned:
//
//	scan: {choose: "ROUT:SCAN (@{pairs})", pair: "{from}!{to}", ask: "READ:RES?", most: 64, terminals: 128}
func (r *reader) readScan(n document.Node) {
	s := &Scan{Most: 1, Ask: Query{Place: r.place(n), Separator: ","}}
	if r.d.Protocol != Messages {
		n.Fail("terminals are scanned with messages; registers have no list of pairs")
		return
	}
	n.Fields(map[string]func(document.Node){
		"choose": func(n document.Node) {
			s.Choose = Setter{Messages: r.texts(n, false, pairsPlace), Place: r.place(n)}
			if !strings.Contains(strings.Join(s.Choose.Messages, " "), pairsPlace) {
				n.Fail("write %s where the list of pairs goes", pairsPlace)
			}
		},
		"pair": func(n document.Node) {
			s.Pair = r.message(n, false, fromPlace, toPlace)
			if !strings.Contains(s.Pair, fromPlace) || !strings.Contains(s.Pair, toPlace) {
				n.Fail("write %s and %s where the two terminals go", fromPlace, toPlace)
			}
		},
		"ask":       func(n document.Node) { s.Ask.Message = r.message(n, false) },
		"most":      func(n document.Node) { s.Most = n.Whole(1, 10_000) },
		"terminals": func(n document.Node) { s.Terminals = n.Whole(2, 10_000) },
		"within":    func(n document.Node) { s.Ask.Within = span(n, time.Millisecond, time.Minute) },
		"watch":     func(n document.Node) { s.Watch = r.readWatching(n) },
	}, "choose", "pair", "ask", "terminals")
	r.d.Scan = s
}

// readWatching reads how pairs are watched:
//
//	watch: {begin: "WATC:BEG {value},(@{pairs})", ask: "WATC:EVEN?", end: "WATC:STOP", shortest: 100 µs}
func (r *reader) readWatching(n document.Node) *Watching {
	w := &Watching{Ask: Query{Place: r.place(n), Separator: ","}}
	n.Fields(map[string]func(document.Node){
		"begin": func(n document.Node) {
			w.Begin = Setter{Messages: r.texts(n, true, pairsPlace), Factor: 1, Place: r.place(n)}
			for _, place := range []string{pairsPlace, valuePlace} {
				if !strings.Contains(strings.Join(w.Begin.Messages, " "), place) {
					n.Fail("write %s where %s goes", place, map[string]string{pairsPlace: "the list of pairs",
						valuePlace: "the shortest opening that counts, s,"}[place])
				}
			}
		},
		"ask":      func(n document.Node) { w.Ask.Message = r.message(n, false) },
		"end":      func(n document.Node) { w.End = Setter{Messages: r.texts(n, false), Place: r.place(n)} },
		"shortest": func(n document.Node) { w.Shortest = n.Quantity(quantity.Time).Value },
	}, "begin", "ask", "end", "shortest")
	return w
}

// Fill is what chooses pairs of terminals of a channel, which count from 0 and are written from 1.
func (s *Scan) Fill(channel int, pairs [][2]int) Setter { return s.fill(s.Choose, channel, pairs) }

// FillWatch is what begins to watch pairs of terminals of a channel.
func (s *Scan) FillWatch(channel int, pairs [][2]int) Setter {
	return s.fill(s.Watch.Begin, channel, pairs)
}

func (s *Scan) fill(choose Setter, channel int, pairs [][2]int) Setter {
	first := 1 + (max(channel, 1)-1)*s.Terminals
	list := make([]string, len(pairs))
	for i, p := range pairs {
		list[i] = strings.NewReplacer(fromPlace, strconv.Itoa(first+p[0]), toPlace, strconv.Itoa(first+p[1])).Replace(s.Pair)
	}
	filled := choose
	filled.Messages = nil
	for _, m := range choose.Messages {
		filled.Messages = append(filled.Messages, strings.ReplaceAll(m, pairsPlace, strings.Join(list, ",")))
	}
	return filled
}
