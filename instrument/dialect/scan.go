package dialect

import (
	"strconv"
	"strings"
	"time"

	"usherbench/core/document"
)

// Scan is how an instrument reads ohms between pairs of terminals.
type Scan struct {
	// Choose says which pairs, as a list of so many at most; Pair is how one of them is written.
	Choose Setter
	Pair   string
	Most   int
	// Ask has them read, and answers with ohms, one for each pair.
	Ask Query
	// Terminals is how many there are.
	Terminals int
}

// The places in the messages of a scan: the list of pairs, and the terminals of a pair.
const (
	pairsPlace = "{pairs}"
	fromPlace  = "{from}"
	toPlace    = "{to}"
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
	}, "choose", "pair", "ask", "terminals")
	r.d.Scan = s
}

// Fill is what chooses pairs of terminals, which count from 0 and are written from 1.
func (s *Scan) Fill(pairs [][2]int) Setter {
	list := make([]string, len(pairs))
	for i, p := range pairs {
		list[i] = strings.NewReplacer(fromPlace, strconv.Itoa(p[0]+1), toPlace, strconv.Itoa(p[1]+1)).Replace(s.Pair)
	}
	choose := s.Choose
	choose.Messages = nil
	for _, m := range s.Choose.Messages {
		choose.Messages = append(choose.Messages, strings.ReplaceAll(m, pairsPlace, strings.Join(list, ",")))
	}
	return choose
}
