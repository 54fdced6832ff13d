// Package usherbench_test holds the rules that keep the house in order.
package usherbench_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packages lists the imports of every package of the module, tests left out.
func packages(t *testing.T) map[string][]string {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./...").Output()
	require.NoError(t, err)
	all := map[string][]string{}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		fields := strings.Fields(line)
		all[strings.TrimPrefix(fields[0], "usherbench/")] = fields[1:]
	}
	return all
}

func standard(path string) bool {
	return !strings.Contains(strings.Split(path, "/")[0], ".") && !strings.HasPrefix(path, "usherbench/")
}

// rules say what of ours, and of others where that is limited, a tree may import.
var rules = []struct {
	tree   string
	ours   *regexp.Regexp
	others *regexp.Regexp // nil: any
}{
	{"core/document", regexp.MustCompile(`^core/quantity$`), regexp.MustCompile(`^github.com/goccy/go-yaml`)},
	{"core/condition", regexp.MustCompile(`^core/(quantity|trace)$`),
		regexp.MustCompile(`^github.com/alecthomas/participle/v2`)},
	{"core", regexp.MustCompile(`^core/`), regexp.MustCompile(`^gonum.org/`)},
	{"simbench/plant", regexp.MustCompile(`^(core/|simbench/plant)`), regexp.MustCompile(`^gonum.org/`)},
	{"simbench", regexp.MustCompile(`^(core|simbench)/|^instrument/transport/(memory|hislip|session|vxi11)$`), nil},
	{"rehearsal/shelf", regexp.MustCompile(`^(core/|api$|archive$|store$|rehearsal$)`), regexp.MustCompile(`^$`)},
	{"rehearsal", regexp.MustCompile(`^(core/|simbench/(plant|units)$)`), regexp.MustCompile(`^gonum.org/`)},
	{"tables", regexp.MustCompile(`^core/`),
		regexp.MustCompile(`^(github.com/xuri/excelize/v2$|golang.org/x/text/encoding)`)},
	{"instrument/transport/memory", regexp.MustCompile(`^$`), regexp.MustCompile(`^$`)},
	{"instrument/trial", regexp.MustCompile(`^(core/|instrument)`), nil},
	{"instrument",
		regexp.MustCompile(`^(core/(budget|document|nameplate|quantity|seats|uncertainty|waveform)|instrument/)`), nil},
	{"warden", regexp.MustCompile(`^instrument`), nil},
	{"api", regexp.MustCompile(`^core/`), regexp.MustCompile(`^$`)},
	{"store", regexp.MustCompile(`^(core/|api$)`), nil},
	{"attachment", regexp.MustCompile(`^api$`),
		regexp.MustCompile(`^(github.com/disintegration/imaging|golang.org/x/image/webp)$`)},
	{"archive", regexp.MustCompile(`^(core/|api$|store$)`), nil},
	{"engine/beside", regexp.MustCompile(`^$`), regexp.MustCompile(`^$`)},
	{"engine/outputs", regexp.MustCompile(`^(core/|api$|instrument)`), nil},
	{"live", regexp.MustCompile(`^$`), regexp.MustCompile(`^$`)},
	{"bench", regexp.MustCompile(`^(core/|api$|store$|instrument)`), nil},
	{"engine",
		regexp.MustCompile(`^(core/|api$|archive$|bench$|engine/(beside|outputs)$|live$|store$|instrument|warden$)`), nil},
	{"line", regexp.MustCompile(`^(api|archive|engine|store)$`), regexp.MustCompile(`^$`)},
	{"operate", regexp.MustCompile(`^(core/|api$|archive$|engine(/beside)?$|store$)`), nil},
	{"outbox", regexp.MustCompile(`^(core/|api$|archive$|store$)`), nil},
	{"report", regexp.MustCompile(`^(core/|api$|archive$|store$)`), nil},
	{"simulation", regexp.MustCompile(`^$`), regexp.MustCompile(`^$`)},
	{"service/servicetest", regexp.MustCompile(`.*`), nil},
	{"service/desk", regexp.MustCompile(`^$`), regexp.MustCompile(`^$`)},
	// The service hands the dialects to the bench, and touches no instrument itself.
	{"service",
		regexp.MustCompile(`^(core/|api$|archive$|attachment$|store$|bench$|engine$|line$|live$|operate$|outbox$|report$|` +
			`rehearsal/shelf$|tables$|console$|instrument/dialect$|instrument/transport/memory$|service/desk$|warden$)`), nil},
	{"client", regexp.MustCompile(`^api$`), regexp.MustCompile(`^$`)},
	{"console", regexp.MustCompile(`^$`), nil},
	{"demo", regexp.MustCompile(`^(api|bench|simbench|simbench/plant(/.*)?)$`), nil},
	{"cli", regexp.MustCompile(`.*`), nil},
	{"cmd/usher", regexp.MustCompile(`^cli$`), regexp.MustCompile(`^$`)},
	{"docs/screenshots", regexp.MustCompile(`^console/chromium$`), nil},
}

func TestPackagesImportOnlyWhatTheyMay(t *testing.T) {
	for name, imports := range packages(t) {
		i := slices.IndexFunc(rules, func(r struct {
			tree   string
			ours   *regexp.Regexp
			others *regexp.Regexp
		}) bool {
			return name == r.tree || strings.HasPrefix(name, r.tree+"/")
		})
		if name == "usherbench" || name == "bars" || name == "docs" {
			continue
		}
		if !assert.GreaterOrEqual(t, i, 0, "%s has no rule", name) {
			continue
		}
		for _, path := range imports {
			if ours, ok := strings.CutPrefix(path, "usherbench/"); ok {
				assert.Regexp(t, rules[i].ours, ours, "%s imports it", name)
			} else if !standard(path) && rules[i].others != nil {
				assert.Regexp(t, rules[i].others, path, "%s imports it", name)
			}
		}
	}
}

// pureUses are packages of the core that use a part of what the others may not: one reads dates out of a text,
// one searches from a given seed.
var pureUses = map[string]string{"core/foreignlog": "time", "core/population": "math/rand/v2"}

func TestTheCoreHasNoClockSocketOrScreen(t *testing.T) {
	for name, imports := range packages(t) {
		if !strings.HasPrefix(name, "core/") {
			continue
		}
		for _, path := range imports {
			if pureUses[name] == path {
				continue
			}
			assert.NotContains(t, []string{"time", "net", "net/http", "os", "database/sql", "log", "log/slog", "context",
				"math/rand", "math/rand/v2"}, path, "%s imports it", name)
		}
	}
}

func TestPackagesHaveNamesThatSayWhatTheyDo(t *testing.T) {
	for name := range packages(t) {
		last := name[strings.LastIndex(name, "/")+1:]
		assert.NotContains(t, []string{"util", "utils", "common", "helper", "helpers", "manager", "base", "types", "misc"},
			last)
	}
}

// relativeImport is what a file of the console takes from a folder beside its own.
var relativeImport = regexp.MustCompile(`(?:from|import)\s*\(?'\.\./([a-z]+)/[^']+'`)

func TestAPlaceOfTheConsoleTakesOnlyFromTheParts(t *testing.T) {
	files, err := filepath.Glob("console/src/*/*")
	require.NoError(t, err)
	require.Greater(t, len(files), 40)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, taken := range relativeImport.FindAllSubmatch(text, -1) {
			assert.Contains(t, []string{"parts", "assets"}, string(taken[1]), "%s takes %s", file, taken[0])
		}
	}
}
