package shape

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Phrase is a segment as an engineer writes it, "ramp to 36 V in 5 ms", taken apart but not computed: the values may be
// parameters and expressions.
type Phrase struct {
	// Word is the first: hold, step, ramp, sine, square, triangle or exponential.
	Word string
	// Args are the texts after the keywords; the one that follows Word directly has the empty key.
	Args map[string]Arg
}

// Arg is a text within a phrase; Column counts characters from 1.
type Arg struct {
	Text   string
	Column int
}

// PhraseError is what is wrong with a phrase.
type PhraseError struct {
	Column int
	Reason string
}

func (e *PhraseError) Error() string { return e.Reason }

type form struct {
	required, optional []string
	example            string
}

// The forms of phrases. The empty key stands for the value directly after the word.
var forms = map[string]form{
	"hold": {[]string{""}, []string{"at"}, "hold 2 s at 48 V"},
	"step": {[]string{"to", "for"}, nil, "step to 36 V for 10 ms"},
	"ramp": {[]string{"to", "in"}, []string{"from"}, "ramp to 36 V in 5 ms"},
	"sine": {[]string{"", "at", "for"}, []string{"around"}, "sine 2 V at 4 Hz around 36 V for 10 s"},
	"square": {[]string{"", "at", "for"}, []string{"around", "duty"},
		"square 2 V at 4 Hz around 36 V for 10 s duty 30 %"},
	"triangle":    {[]string{"", "at", "for"}, []string{"around"}, "triangle 2 V at 4 Hz around 36 V for 10 s"},
	"exponential": {[]string{"to", "in", "tau"}, []string{"from"}, "exponential to 36 V in 100 ms tau 20 ms"},
}

// Forms gives an example of each phrase, in the order of their words.
func Forms() []string {
	var examples []string
	for _, f := range forms {
		examples = append(examples, f.example)
	}
	slices.Sort(examples)
	return examples
}

// longestPhrase bounds a phrase, so that hostile input costs little.
const longestPhrase = 500

var keyword = regexp.MustCompile(`\b(to|at|in|for|from|around|tau|duty)\b`)

// ReadPhrase takes a phrase apart. The error is a *PhraseError.
func ReadPhrase(text string) (Phrase, error) {
	if len(text) > longestPhrase {
		return Phrase{}, &PhraseError{1, fmt.Sprintf("the segment is longer than %d characters", longestPhrase)}
	}
	trimmed := strings.TrimLeft(text, " ")
	word, rest, _ := strings.Cut(trimmed, " ")
	f, ok := forms[word]
	if !ok {
		return Phrase{}, &PhraseError{1, fmt.Sprintf("%q is no segment; it reads like one of: %s", word,
			strings.Join(Forms(), "; "))}
	}
	p := Phrase{Word: word, Args: map[string]Arg{}}
	base := len(text) - len(rest)
	places := keyword.FindAllStringIndex(rest, -1)
	take := func(key string, from, to int) error {
		value := strings.TrimSpace(rest[from:to])
		column := len([]rune(text[:base+from+len(rest[from:to])-len(strings.TrimLeft(rest[from:to], " "))])) + 1
		if key != "" || value != "" {
			if _, twice := p.Args[key]; twice {
				return &PhraseError{column, fmt.Sprintf("%q stands twice", key)}
			}
			if key != "" && !slices.Contains(f.required, key) && !slices.Contains(f.optional, key) {
				return &PhraseError{column, fmt.Sprintf("%q does not go with %s; it reads like: %s", key, word, f.example)}
			}
			if value == "" {
				return &PhraseError{column, fmt.Sprintf("after %q a value is missing; it reads like: %s", key, f.example)}
			}
			p.Args[key] = Arg{value, column}
		}
		return nil
	}
	end := len(rest)
	if len(places) > 0 {
		end = places[0][0]
	}
	if err := take("", 0, end); err != nil {
		return p, err
	}
	for i, at := range places {
		end := len(rest)
		if i+1 < len(places) {
			end = places[i+1][0]
		}
		if err := take(rest[at[0]:at[1]], at[1], end); err != nil {
			return p, err
		}
	}
	if _, direct := p.Args[""]; direct && !slices.Contains(f.required, "") {
		return p, &PhraseError{p.Args[""].Column, fmt.Sprintf("%q is out of place; it reads like: %s", p.Args[""].Text,
			f.example)}
	}
	for _, key := range f.required {
		if _, ok := p.Args[key]; !ok {
			what := key
			if key == "" {
				what = "a value"
			}
			return p, &PhraseError{1, fmt.Sprintf("%s is missing; it reads like: %s", what, f.example)}
		}
	}
	return p, nil
}
