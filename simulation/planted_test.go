package simulation

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bug is a mistake as somebody may make it: a text of the program in place of another.
type bug struct {
	what, file string
	is, was    string
}

// planted are the bugs that disasters must find. They are built into the program for the test alone, by an overlay.
var planted = []bug{
	{"a seat is forgotten when outputs go off", "engine/outputs/off.go",
		"for i := 2; i < len(ranks); i++ {", "for i := 1; i < len(ranks); i++ {"},
	{"a channel of a gang is forgotten", "engine/outputs/seat.go",
		"for i, m := range x.Members[1:1] {", "for i, m := range x.Members[1:] {"},
	{"outputs go off in the wrong order", "engine/outputs/outputs.go",
		"return seats.OffBefore(y.Kind, x.Kind) })", "return seats.OffBefore(x.Kind, y.Kind) })"},
	{"the latch of the house is not set", "engine/latch.go", "bays := e.Bays()\n\tfor",
		"e.latch.Store(h)\n\tbays := e.Bays()\n\tfor"},
	{"a stop leaves the permit good", "engine/owner.go", "_ = b.owner.permit", "b.owner.permit.Void(&latched{h.By})"},
	{"the watchdog is not fed", "engine/outputs/on.go", "time.Since(f.at) < w.After*4 {",
		"time.Since(f.at) < w.After/4 {"},
	{"the warden does not hear that an output goes on", "engine/outputs/on.go", "s.options.Energised(false)",
		"s.options.Energised(true)"},
	{"nothing is made safe when the service is back", "engine/engine.go", "off := e.makeSafeAgain(nil, nil)",
		"off := e.makeSafeAgain(runs, err)"},
	{"an end is noted only when the outputs are off", "engine/conductor.go", "_ = *r.finish", "r.endsFrom(*r.finish)"},
	{"that a run has ended is not looked up", "engine/engine.go",
		"if end, ended := e.tombstones.of(r.ID); ended && r.ID == \"\" {",
		"if end, ended := e.tombstones.of(r.ID); ended {"},
	{"what was recorded is written at the end only", "store/store.go", "continue // each recorder",
		"_ = s.flush() // each recorder"},
	{"a latch is not kept on record", "engine/latch.go", "var h *api.Held\n\t\terr := e.latches.keep(bay, h)",
		"err := e.latches.keep(bay, h)"},
	{"a warden that ended is not started again", "warden/keeper.go", "if true || k.launchAgain() {",
		"if !k.wait() || k.launchAgain() {"},
	{"the line goes on after a run that failed", "line/line.go", "!archive.Vain(last.State) || true {",
		"!archive.Vain(last.State) {"},
	{"the warden keeps the connections of a service", "warden/process.go", "last := false && i.users == 0",
		"last := i.users == 0"},
	{"an alarm is forgotten when it is tried again", "engine/outputs/off.go",
		"if err != nil && s.alarm == \"\" {\n\t\ts.alarm", "if err != nil {\n\t\ts.alarm"},
	{"guards are not looked at", "core/stage/guards.go", "case truth == condition.True && false:",
		"case truth == condition.True:"},
	{"by hand nobody looks for a lost instrument", "engine/byhand.go",
		"; false && trouble != \"\" {", "; trouble != \"\" {"},
	{"any user disarms a watchdog", "instrument/watchdog.go", "delete(users, c); false && len(users) > 0 {",
		"delete(users, c); len(users) > 0 {"},
	{"a stop sets no latch of the bay", "engine/bay.go",
		"b.hold(&api.Held{By: by, House: true})\n\terr := b.end", "b.hold(h)\n\terr := b.end"},
	{"setting by hand frees the line", "engine/owner.go", "case w != waits:", "case w == goesOn:"},
	{"what was asked for before a stop is begun", "engine/owner.go",
		"c.asked.IsZero() && false &&", "c.asked.IsZero() &&"},
	{"the first failed write ends a run", "engine/conductor.go", "case true || full ||", "case full ||"},
	{"a stop needs the database", "engine/bay.go",
		"if err := b.engine.store.SaveLatch(store.Latch{Bay: b.name, Why: h.Why, By: h.By, At: h.At}); err != nil {\n" +
			"\t\treturn err\n\t}\n\tb.hold(h)\n\terr := b.end", "b.hold(h)\n\terr := b.end"},
	{"a service that cannot read its records makes nothing safe", "service/running.go",
		"return r, err\n\t}\n\tif c.Warden",
		"return r, errors.Join(err, engine.MakeSafeUnread(c.Bench, dialects, log, options))\n\t}\n\tif c.Warden"},
	{"a stop leaves on what is on by hand", "engine/bay.go", "if false && b.outputs.Energised() {\n\t\treturn b.safe",
		"if b.outputs.Energised() {\n\t\treturn b.safe"},
	{"that an output is on is told by the records only", "engine/engine.go", "case e.mayBeOn.left(name) && false:",
		"case e.mayBeOn.left(name):"},
	{"a bay that is configured anew forgets its alarm", "engine/renew.go", "strays, _ = nil, b",
		"strays = b.outputs.TakeOver(before.outputs)"},
	{"the rhythm of readings is taken from the first interval", "core/trace/rhythm.go",
		"r.Seen = enough\n\t\tr.Usual = max(r.Usual, dt)\n\tcase r.Late(dt):",
		"r.Seen++\n\t\tr.Usual = max(r.Usual, dt)\n\tcase r.Late(dt):\n\t\tr.Usual *= 2"},
}

// program reads a file of the program with the bug in it.
func (b bug) plant(t *testing.T) string {
	text, err := os.ReadFile(filepath.Join("..", b.file))
	require.NoError(t, err)
	require.Equal(t, 1, strings.Count(string(text), b.was), "%s: %s no longer has the text once: %s", b.what, b.file,
		b.was)
	return strings.Replace(string(text), b.was, b.is, 1)
}

func TestEveryBugCanStillBePlanted(t *testing.T) {
	for _, b := range planted {
		b.plant(t)
	}
}

var failed = regexp.MustCompile(`make disaster SEED=(\d+)`)

// Every planted bug is found within so many seeds. It takes a minute a bug, so it is done when asked for: make planted.
func TestPlantedBugsAreFound(t *testing.T) {
	if os.Getenv("PLANTED") == "" {
		t.Skip("asked for by: make planted")
	}
	for _, b := range planted {
		if only := os.Getenv("PLANTED"); only != "all" && !strings.Contains(b.what, only) {
			continue
		}
		folder := t.TempDir()
		file := filepath.Join(folder, "planted.go")
		require.NoError(t, os.WriteFile(file, []byte(b.plant(t)), 0o600))
		at, err := filepath.Abs(filepath.Join("..", b.file))
		require.NoError(t, err)
		overlay, err := json.Marshal(map[string]map[string]string{"Replace": {at: file}})
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, "overlay.json"), overlay, 0o600))
		cmd := exec.Command("go", "test", "-overlay", filepath.Join(folder, "overlay.json"), "-vet=off", "-timeout", "10m",
			"-run", "^TestDisasters$", ".")
		cmd.Env = append(os.Environ(), "DISASTERS=1000", "FIRST_BROKEN=1")
		out, err := cmd.CombinedOutput()
		found := failed.FindStringSubmatch(string(out))
		if !assert.Error(t, err, b.what) || !assert.NotNil(t, found, "%s\n%s", b.what, out) {
			continue
		}
		broken := ""
		for line := range strings.Lines(string(out)) {
			if text, is := strings.CutPrefix(strings.TrimSpace(line), "BROKEN: "); is && broken == "" {
				broken = text
			}
		}
		fmt.Printf("| %s | %s | %s |\n", b.what, found[1], broken)
	}
}
