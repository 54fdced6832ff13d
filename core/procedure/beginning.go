package procedure

import "usherbench/core/seats"

// Beginning lists what a seat of a run begins with, in the order of its kind, whatever somebody left: levels at what
// moves nothing, limits at what the procedure needs, or at the most, within the windows of the nameplate. can tells
// what the instrument in the seat can be set, of words its mode; most is the most that it can do of a quantity, if it
// is known.
func (p *Program) Beginning(seat string, can func(q, word string) bool,
	most func(q string) (float64, bool)) (settings []Setting) {
	kind, _ := seats.KindOf(seat)
	for _, q := range kind.Sets {
		s, known := Setting{Seat: seat, Quantity: q}, true
		switch {
		case q == seats.Output: // it is off
			continue
		case seats.BeginsAsItIs(q):
			continue
		case q == seats.Mode:
			s.Word = kind.BeginsIn()
		case seats.BeginsAtOne(q):
			s.Value = 1
		case kind.BeginsAtMost(q):
			if s.Value, known = p.needed(seat, q); !known {
				s.Value, known = most(q)
			}
			if w, stated := p.Windows[s.Column()]; known && stated {
				s.Value = min(s.Value, w.Max)
			}
		}
		if known && can(q, s.Word) {
			settings = append(settings, s)
		}
	}
	return settings
}

// needed is what the procedure says that a seat must be able to do.
func (p *Program) needed(seat, q string) (most float64, known bool) {
	for _, s := range p.Seats {
		if s.Name == seat {
			most, known = s.Ratings[q]
			return most, known
		}
	}
	return 0, false
}
