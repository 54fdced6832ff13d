package document

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/quantity"
)

func TestADocumentIsReadWithPlacesOfItsMistakes(t *testing.T) {
	doc, err := Parse([]byte(`name: tern
levels: [1 V, 2 A, three]
deep:
  count: 12
  word: "on"
  empty:
  colour: red
  note: |
    two
    lines
`))
	require.NoError(t, err)
	var volts []float64
	var count int
	var word, note string
	doc.Root().Fields(map[string]func(Node){
		"name": func(n Node) { assert.Equal(t, "tern", n.Text()) },
		"levels": func(n Node) {
			assert.True(t, n.IsList())
			for _, item := range n.Items() {
				volts = append(volts, item.Quantity(quantity.Voltage).Value)
			}
		},
		"deep": func(n Node) {
			assert.True(t, n.IsMap())
			n.Fields(map[string]func(Node){
				"count": func(n Node) { count = n.Whole(0, 10) }, "word": func(n Node) { word = n.Word("on", "off") },
				"empty": func(Node) {},
				"note":  func(n Node) { note = n.Text() }, "color": func(Node) {},
			}, "size")
		},
	})
	assert.Equal(t, []float64{1, 0, 0}, volts)
	assert.Zero(t, count)
	assert.Equal(t, "on", word)
	assert.Equal(t, "two\nlines", note)
	found := doc.Findings()
	require.Len(t, found, 5)
	for i, want := range []string{
		`2:15: "2 A" is amperes, but here belong volts`, `2:20: "three": does not begin with a number`,
		"4:10: \"12\": here belongs a whole number from 0 to 10",
		`6:3: "empty" has no value`, `7:3: unknown key "colour"; did you mean "color"?`,
	} {
		assert.True(t, strings.HasPrefix(found[i].Error(), want), found[i].Error())
	}
	assert.Equal(t, 5, strings.Count(found.Err().Error(), "\n")+1, "one finding a line")
	assert.NoError(t, Findings(nil).Err())
}

func TestAMissingKeyIsNamedUnlessItIsOnlyMisspelt(t *testing.T) {
	for text, want := range map[string]string{"a: 1\n": `1:1: the key "size" is missing`,
		"a: 1\nsiz: 2\n": `2:1: unknown key "siz"; did you mean "size"?`} {
		doc, err := Parse([]byte(text))
		require.NoError(t, err)
		doc.Root().Fields(map[string]func(Node){"a": func(Node) {}, "size": func(Node) {}}, "size")
		require.Len(t, doc.Findings(), 1, text)
		assert.Contains(t, doc.Findings()[0].Error(), want)
	}
}

func TestTheWrongFormIsNamed(t *testing.T) {
	doc, err := Parse([]byte("a: {x: 1}\nb: [1]\nc: 1\nd: [~]\n"))
	require.NoError(t, err)
	doc.Root().Fields(map[string]func(Node){
		"a": func(n Node) { n.Text() }, "b": func(n Node) { n.Entries() }, "c": func(n Node) { n.Items() },
		"d": func(n Node) { n.Items() },
	})
	text := doc.Findings().Error()
	for _, want := range []string{"here belongs a text, not a map", "here belongs a map of keys and values, not a list",
		"here belongs a list, not a single value", "an empty item"} {
		assert.Contains(t, text, want)
	}
	var absent Node
	assert.False(t, absent.Present())
	assert.Empty(t, absent.Text())
	assert.Empty(t, absent.Items())
	absent.Fail("nothing happens")
	line, column := absent.Position()
	assert.Zero(t, line+column)
}

func TestSuggestionsBeginWithTheMostSimilar(t *testing.T) {
	words := []string{"volts", "amps", "watts"}
	assert.Equal(t, `did you mean "volts"? known here: amps, volts, watts`, Suggest("volt", words))
	assert.Equal(t, "known here: amps, volts, watts", Suggest("brightness", words))
	assert.Equal(t, []string{"volts", "amps", "watts"}, words, "the caller's list keeps its order")
}

// A text with thousands of keys takes no time, and thousands of mistakes are not all told.
func TestADocumentIsBoundedInKeysAndFindings(t *testing.T) {
	keys := func(n int) string {
		var text strings.Builder
		for i := range n {
			fmt.Fprintf(&text, "u%d:\n  a: 1\n", i)
		}
		return text.String()
	}
	_, err := Parse([]byte(keys(5000)))
	assert.ErrorContains(t, err, "2001:1: the map has more than 1000 keys")
	doc, err := Parse([]byte(keys(900)))
	require.NoError(t, err, "each of them has keys of its own")
	doc.Root().Fields(map[string]func(Node){"load": func(Node) {}})
	assert.Len(t, doc.Findings(), 200)
	var list strings.Builder
	for range 2000 {
		list.WriteString("- a: 1\n  b: 2\n")
	}
	_, err = Parse([]byte(list.String()))
	assert.NoError(t, err, "maps in a list are many maps")
}
