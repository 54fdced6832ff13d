package quantity

import (
	"fmt"
	"strconv"
	"strings"
)

// Part says which part of a quantity a reading is. The zero value is the whole: what the instrument is set to measure,
// and of several phases their sum or mean.
type Part struct {
	Phase int  // 1 to 3
	Side  Side // the alternating or the direct part
	Order int  // of a harmonic, rms: 1 is the fundamental
	Peak  bool // the largest amount within the cycles of which the whole is the effective value
	// Agreed is what a contract is about, not what is measured. Place is that of a source object, from 1.
	Agreed bool
	Place  int
}

// Side is one of the two parts of which the square of an rms value is the sum of squares.
type Side string

// The sides.
const (
	AC Side = "ac"
	DC Side = "dc"
)

// peak is how the peak of a quantity is written, agreed what a contract says of it.
const peak, agreed = "peak", "agreed"

// Phases there are at most, the highest harmonic, and the places in which a source offers something.
const (
	MostPhases = 3
	MostOrder  = 50
	MostPlaces = 13
)

// Parts says which parts a quantity has.
type Parts struct {
	// Phases says what the whole is of the phases; NoPhases: there are none.
	Phases Phases
	// Sides is true for what has an alternating and a direct part, Harmonics for what has a spectrum, Peaks for what has
	// a largest amount beside its effective value, Agreed for what contracts are about, Places for what is in places.
	Sides, Harmonics, Peaks, Agreed, Places bool
}

// Words lists the parts by name: "phases", "sides", "harmonics", "peaks", "agreed", "places".
func (p Parts) Words() []string {
	words := []string{}
	if p.Phases != NoPhases {
		words = append(words, "phases")
	}
	if p.Sides {
		words = append(words, "sides")
	}
	if p.Harmonics {
		words = append(words, "harmonics")
	}
	if p.Peaks {
		words = append(words, "peaks")
	}
	if p.Agreed {
		words = append(words, "agreed")
	}
	if p.Places {
		words = append(words, "places")
	}
	return words
}

// Phases says what the whole of a quantity is of its phases.
type Phases int

// The ways to make a whole of phases. Apart: the whole is read by itself, or not known.
const (
	NoPhases Phases = iota
	Summed
	Averaged
	Apart
)

// Whole makes the whole of what is read in each phase; ok is false if it is not theirs to tell.
func (p Phases) Whole(phases []float64) (whole float64, ok bool) {
	for _, x := range phases {
		whole += x
	}
	switch {
	case len(phases) == 0:
		return 0, false
	case p == Averaged:
		return whole / float64(len(phases)), true
	}
	return whole, p == Summed
}

// String is how a part follows the name of its quantity: ".2", ".ac", ".1.h5", ".peak", ".agreed", ".o3"; empty for
// the whole.
func (p Part) String() string {
	var s strings.Builder
	if p.Phase > 0 {
		fmt.Fprintf(&s, ".%d", p.Phase)
	}
	if p.Side != "" {
		fmt.Fprintf(&s, ".%s", p.Side)
	}
	if p.Order > 0 {
		fmt.Fprintf(&s, ".h%d", p.Order)
	}
	if p.Peak {
		s.WriteString("." + peak)
	}
	if p.Agreed {
		s.WriteString("." + agreed)
	}
	if p.Place > 0 {
		fmt.Fprintf(&s, ".o%d", p.Place)
	}
	return s.String()
}

// title is how people read a part.
func (p Part) title() string {
	var s strings.Builder
	if p.Phase > 0 {
		fmt.Fprintf(&s, ", phase %d", p.Phase)
	}
	if p.Side != "" {
		fmt.Fprintf(&s, ", %s", strings.ToUpper(string(p.Side)))
	}
	if p.Order > 0 {
		fmt.Fprintf(&s, ", harmonic %d", p.Order)
	}
	if p.Peak {
		s.WriteString(", peak")
	}
	if p.Agreed {
		s.WriteString(", agreed")
	}
	if p.Place > 0 {
		fmt.Fprintf(&s, " in place %d", p.Place)
	}
	return s.String()
}

// Before orders the parts of one quantity: phase by phase, in each the whole, its sides, its harmonics, its peak, what
// was agreed; places as they are counted.
func (p Part) Before(q Part) int {
	switch {
	case p.Phase != q.Phase:
		return p.Phase - q.Phase
	case p.Place != q.Place:
		return p.Place - q.Place
	case p.Agreed && !q.Agreed:
		return 1
	case q.Agreed && !p.Agreed:
		return -1
	case p.Peak && !q.Peak:
		return 1
	case q.Peak && !p.Peak:
		return -1
	}
	if p.Order != q.Order {
		return p.Order - q.Order
	}
	return strings.Compare(string(p.Side), string(q.Side))
}

// Split parses the name of a reading into its quantity and the part of it that it is: "volts", "volts.2", "amps.ac",
// "amps.1.h5". ok is false if there is no such quantity, or if it has no such part.
func Split(reading string) (whole Kind, part Part, ok bool) {
	words := strings.Split(reading, ".")
	whole, ok = find(words[0])
	if !ok {
		return Kind{}, Part{}, false
	}
	for _, word := range words[1:] {
		if !part.take(word, whole.Parts) {
			return Kind{}, Part{}, false
		}
	}
	return whole, part, whole.Name+part.String() == reading
}

// take reads one word of a part.
func (p *Part) take(word string, has Parts) bool {
	side := Side(word)
	if side == AC || side == DC {
		p.Side = side
		return has.Sides && !p.Peak
	}
	if word == agreed {
		p.Agreed = true
		return has.Agreed && *p == Part{Agreed: true}
	}
	if place, is := strings.CutPrefix(word, "o"); is && has.Places {
		p.Place, _ = strconv.Atoi(place)
		return p.Place >= 1 && p.Place <= MostPlaces
	}
	if word == peak {
		p.Peak = true
		return has.Peaks && p.Side == "" && p.Order == 0 && !p.Agreed
	}
	if phase, err := strconv.Atoi(word); err == nil {
		p.Phase = phase
		return has.Phases != NoPhases && phase >= 1 && phase <= MostPhases
	}
	digits, harmonic := strings.CutPrefix(word, "h")
	order, err := strconv.Atoi(digits)
	p.Order = order
	return has.Harmonics && harmonic && err == nil && order >= 1 && order <= MostOrder && p.Side == "" && !p.Peak
}

// of is the kind of a part: everything as of the whole, but that it is not set, and that sides and harmonics
// are not drawn unless somebody asks for them.
func (p Part) of(whole Kind) Kind {
	k := whole
	k.Name, k.Title, k.Part = whole.Name+p.String(), whole.Title+p.title(), p
	k.Set, k.Counted, k.Compared = false, false, false
	k.Drawn = whole.Drawn && p == Part{Phase: p.Phase}
	return k
}

// WholeOf is the name of the quantity of which a reading is a part: "volts" of "volts.2".
func WholeOf(reading string) string {
	whole, _, _ := strings.Cut(reading, ".")
	return whole
}

// Expand lists the readings that a word of a dialect stands for: itself, or "amps.h1 to h40", "volts.1 to 3".
func Expand(word string) ([]string, error) {
	from, to, several := strings.Cut(word, " to ")
	if !several {
		return []string{word}, nil
	}
	stem := strings.TrimRight(from, "0123456789")
	last := strings.TrimLeft(to, "ho")
	first, errFirst := strconv.Atoi(from[len(stem):])
	end, errEnd := strconv.Atoi(last)
	if errFirst != nil || errEnd != nil || end < first || end > MostOrder ||
		!strings.HasSuffix(stem, "."+strings.TrimSuffix(to, last)) {
		return nil, syntaxError(word, "%q is no row of readings; write amps.h1 to h40, volts.1 to 3, or offer.o1 to o7",
			word)
	}
	var all []string
	for n := first; n <= end; n++ {
		all = append(all, stem+strconv.Itoa(n))
	}
	return all, nil
}
