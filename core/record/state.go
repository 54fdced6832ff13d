package record

import (
	"cmp"
	"errors"
	"math"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// State is what the unit does from an instant on, to the next state: it sleeps, it transmits. A person says so, or a
// program, which may say later when it was.
type State struct {
	State string `json:"state"`
	// At is since when, s; the mark stands where it became known.
	At float64 `json:"at"`
}

func (State) is() string { return "state" }

// CheckState refuses a name by which a state of a unit cannot be called. It goes by no pattern: one of these letters
// with a count would cost every command a good part of its start.
func CheckState(name string) error {
	bad := errors.New("a state is called by 1 to 50 letters, digits, spaces, hyphens and underscores")
	for i, c := range name {
		if !unicode.IsLetter(c) && !unicode.IsNumber(c) && (i == 0 || !strings.ContainsRune(" _-", c)) {
			return bad
		}
	}
	if name == "" || utf8.RuneCountInString(name) > 50 {
		return bad
	}
	return nil
}

// States are those in which somebody said that the unit was, each once, as they came.
func (rec *Record) States() (names []string) {
	for _, m := range rec.Marks {
		if s, is := m.About.(State); is && !slices.Contains(names, s.State) {
			names = append(names, s.State)
		}
	}
	return names
}

// Visit is a time in which the unit was in a state.
type Visit struct{ T0, T1 float64 }

// Seconds is how long it was.
func (v Visit) Seconds() float64 { return v.T1 - v.T0 }

// Spell is a time in which the unit was in one state.
type Spell struct {
	State  string
	T0, T1 float64
}

// Spells are the states one after the other, the last to an end of time. A state that was said late stands where it
// was.
func Spells(marks []Mark, end float64) (spells []Spell) {
	for _, m := range marks {
		if s, is := m.About.(State); is {
			spells = append(spells, Spell{s.State, s.At, end})
		}
	}
	slices.SortStableFunc(spells, func(a, b Spell) int { return cmp.Compare(a.T0, b.T0) })
	for i := range spells[:max(len(spells)-1, 0)] {
		spells[i].T1 = spells[i+1].T0
	}
	return spells
}

// Visits are the times in which the unit was in a state, within some stages of a name, or in all of the run. It fails
// with no mark.
func (rec *Record) Visits(state, stage string) (visits []Visit, err error) {
	spans := rec.spansNamed([]string{stage})
	if stage == "" {
		from, to := rec.Ends()
		spans = []Span{{T0: from, T1: to}}
	}
	for _, s := range Spells(rec.Marks, math.Inf(1)) {
		for _, span := range spans {
			if v := (Visit{max(s.T0, span.T0), min(s.T1, span.T1)}); s.State == state && v.T1 > v.T0 {
				visits = append(visits, v)
			}
		}
	}
	if len(visits) == 0 {
		return nil, Because(NoMark, "nobody has said that the unit was in the state %q", state)
	}
	return visits, nil
}
