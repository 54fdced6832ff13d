// Package docs holds the documents for users, and the test that keeps them true.
package docs

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/core/catalogue"
	"usherbench/core/condition"
	"usherbench/core/nameplate"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/shape"
	"usherbench/demo"
)

func reference(t *testing.T) string {
	text, err := os.ReadFile("procedures.md")
	require.NoError(t, err)
	return string(text)
}

// profiles is the part of the reference that says which profiles there are.
func profiles() string {
	var b strings.Builder
	for _, p := range shape.Profiles() {
		fmt.Fprintf(&b, "**`%s`**: %s (%s)\n\n| parameter | default | is |\n|---|---|---|\n", p.Name, p.Title, p.Standard)
		for _, a := range p.Parameters {
			dim := a.Dim
			if a.Level {
				dim = quantity.Voltage
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", a.Name, quantity.Quantity{Value: a.Default, Dim: dim}, a.About)
		}
		b.WriteString("\n")
	}
	return b.String()
}

// written are the parts of the reference that a test writes, each between two comments that name it.
var written = map[string]func() string{"profiles": profiles, "seats": seatTable, "quantities": quantityTable}

func TestWhatIsWrittenByTheTestIsAsItIs(t *testing.T) {
	for name, content := range written {
		text := reference(t)
		begin, end := "<!-- "+name+": written by the test -->\n", "<!-- end of "+name+" -->\n"
		from, to := strings.Index(text, begin), strings.Index(text, end)
		require.Positive(t, from, name)
		if os.Getenv("USHER_WRITE_DOCS") != "" {
			text = text[:from+len(begin)] + content() + text[to:]
			require.NoError(t, os.WriteFile("procedures.md", []byte(text), 0o644))
			continue
		}
		assert.Equal(t, content(), text[from+len(begin):to], "write it anew with: USHER_WRITE_DOCS=1 go test ./docs")
	}
}

func seatTable() string {
	var b strings.Builder
	b.WriteString("| seat | does to the unit | reads | is set |\n|---|---|---|---|\n")
	for _, k := range seats.All() {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", k.Name, strings.Join(k.Roles.Words(), ", "), words(k.Reads),
			words(k.Sets))
	}
	return b.String()
}

func quantityTable() string {
	var b strings.Builder
	b.WriteString("| quantity | unit | is | in parts |\n|---|---|---|---|\n")
	for _, q := range quantity.Kinds() {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", q.Name, cmp.Or(q.Unit.Symbol, "–"), q.Title,
			cmp.Or(strings.Join(q.Parts.Words(), ", "), "–"))
	}
	return b.String()
}

func words(all []string) string {
	if len(all) == 0 {
		return "–"
	}
	return "`" + strings.Join(all, "`, `") + "`"
}

func TestTheReferenceNamesEverythingThatTheParserKnows(t *testing.T) {
	text := reference(t)
	for _, word := range catalogue.Language().KindWords() {
		assert.Regexp(t, `(?m)^(### .*\b`+word+`\b|\*\*`+word+`\*\*)`, text)
	}
	for _, word := range condition.FunctionNames() {
		assert.Contains(t, text, "`"+word+"(x", word)
	}
	for _, form := range shape.Forms() {
		assert.Contains(t, text, "`"+form+"`")
	}
	for _, id := range catalogue.Figures().IDs() {
		assert.Contains(t, text, "`"+id+"`")
	}
}

const frame = `procedure: example
for: both
needs:
  source: {volts: 60 V, amps: 5 A}
  load: {volts: 60 V, amps: 9 A}
  cycler: {volts: 29.4 V, amps: 9.6 A}
  meter: {}
  sourcemeter: {volts: 2 kV, amps: 1 mA}
  crosspoint: {}
  thermo: {}
  thermo2: {}
  vibration: {}
  climate: {}
  scope: {}
  contract: {}
`

const both = `nameplate: both
ratings: {nominal_line: 48 V, rated_volts: 15 V, rated_current: 8 A, rated_capacity: 9.6 Ah,
  charge_volts: 29.2 V, cutoff: 21 V, target_capacity: 9 Ah, precharge_current: 1 A}
`

var block = regexp.MustCompile("(?s)```yaml\n(.*?)```")

// TestEveryExampleIsRead puts every example of the reference through the parser.
func TestEveryExampleIsRead(t *testing.T) {
	plate, err := nameplate.Parse([]byte(both))
	require.NoError(t, err)
	tern, err := nameplate.Parse([]byte(demo.Nameplates()[2]))
	require.NoError(t, err)
	seen := 0
	for _, m := range block.FindAllStringSubmatch(reference(t), -1) {
		text, p := m[1], plate
		switch {
		case strings.HasPrefix(text, "nameplate:"):
			_, err := nameplate.Parse([]byte(text))
			assert.NoError(t, err, text)
			seen++
			continue
		case strings.HasPrefix(text, "procedure:"):
			p = tern
		case strings.HasPrefix(text, "- {figure:"):
			text = frame +
				"parameters: {top: {value: 8 A}}\nstages:\n  - grid: {over: [{set: source.volts, values: [48 V]}, {set: " +
				"load.amps, values: [1 A, 8 A]}], settle: 1 s, average: 1 s}\nfigures:\n" + indented(text)
		case strings.HasPrefix(text, "- "):
			text = frame + "parameters: {step: {value: 1 A}}\nstages:\n" + indented(text)
		case strings.HasPrefix(text, "tables:"):
			text = frame + "stages: [{play: {source.volts: [{table: dip.csv}]}}]\n" + text
		default:
			continue
		}
		_, err := catalogue.Parse([]byte(text), p, nil, demo.Library)
		assert.NoError(t, err, text)
		seen++
	}
	assert.GreaterOrEqual(t, seen, 14)
	// The segments of the table in the text stand there one by one.
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+)` \\|").FindAllStringSubmatch(segments(t), -1) {
		text := frame +
			"tables: {dip.csv: \"time [s],volts [V]\\n0,48\\n1,40\\n\"}\nstages:\n  - play:\n      source.volts: [hold 1 s " +
			"at 48 V, " + quoted(m[1]) + "]\n"
		_, err := catalogue.Parse([]byte(text), plate, nil, nil)
		assert.NoError(t, err, m[1])
	}
}

func segments(t *testing.T) string {
	text := reference(t)
	from := strings.Index(text, "#### Segments")
	return text[from : from+strings.Index(text[from:], "\n\nLevels")]
}

func quoted(segment string) string {
	if strings.HasPrefix(segment, "{") {
		return segment
	}
	return `"` + segment + `"`
}

func indented(text string) string {
	return "  " + strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n  ") + "\n"
}

// Every promise of the page on safety names the test or the bar that holds it, and each of those exists.
func TestEveryPromiseHasItsTest(t *testing.T) {
	text, err := os.ReadFile("safety.md")
	require.NoError(t, err)
	named := regexp.MustCompile("`((?:Test|Benchmark)[A-Za-z]+)`").FindAllStringSubmatch(string(text), -1)
	require.Greater(t, len(named), 20)
	known := map[string]bool{}
	require.NoError(t, filepath.WalkDir("..", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() && d.Name() == "node_modules" {
			return cmp.Or(err, filepath.SkipDir)
		}
		if !strings.HasSuffix(path, "_test.go") {
			return nil
		}
		source, err := os.ReadFile(path)
		for _, f := range regexp.MustCompile(`func ((?:Test|Benchmark)\w+)\(`).FindAllStringSubmatch(string(source), -1) {
			known[f[1]] = true
		}
		return err
	}))
	for _, n := range named {
		assert.True(t, known[n[1]], "%s holds a promise and is not there", n[1])
	}
	for _, row := range strings.Split(string(text), "\n") {
		if cells := strings.Split(row, "|"); len(cells) == 5 && regexp.MustCompile(`\d`).MatchString(cells[2]) {
			assert.Contains(t, cells[3], "`", "the time of %q has no test", strings.TrimSpace(cells[1]))
		}
	}
}
