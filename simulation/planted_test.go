package simulation

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bug is a mistake as somebody may make it: a text of the program in place of another.
type bug struct {
	what, file string
	is, was    string
	and        []edit // where it takes more than one place
}

// edit is a text in place of another.
type edit struct{ file, is, was string }

// edits are all places of a bug.
func (b bug) edits() []edit { return append([]edit{{b.file, b.is, b.was}}, b.and...) }

// planted are the bugs that disasters must find. They are built into the program for the test alone, by an overlay.
var planted = []bug{
	{"a seat is forgotten when outputs go off", "engine/outputs/off.go",
		"for i := 2; i < len(ranks); i++ {", "for i := 1; i < len(ranks); i++ {", nil},
	{"a channel of a gang is forgotten", "engine/outputs/seat.go",
		"for i, m := range x.Members[1:1] {", "for i, m := range x.Members[1:] {", nil},
	{"outputs go off in the wrong order", "engine/outputs/outputs.go",
		"return seats.OffBefore(y.Kind, x.Kind) })", "return seats.OffBefore(x.Kind, y.Kind) })", nil},
	{"the latch of the house is not set", "engine/latch.go", "bays := e.Bays()\n\tfor",
		"e.latch.Store(h)\n\tbays := e.Bays()\n\tfor", nil},
	{"a stop leaves the permit good", "engine/owner.go", "_ = b.owner.permit", "b.owner.permit.Void(&latched{h.By})", nil},
	{"the watchdog is not fed", "engine/outputs/on.go", "time.Since(f.at) < w.After*4 {",
		"time.Since(f.at) < w.After/4 {", nil},
	{"the warden does not hear that an output goes on", "engine/outputs/on.go", "s.options.Energised(false)",
		"s.options.Energised(true)", nil},
	{"nothing is made safe when the service is back", "engine/engine.go", "b, ok := e.bays[name]\n\t\tif true || !ok {",
		"b, ok := e.bays[name]\n\t\tif !ok {", nil},
	{"an end is noted only when the outputs are off", "engine/conductor.go", "_ = *r.finish",
		"r.endsFrom(*r.finish)", nil},
	{"that a run has ended is not looked up", "engine/engine.go",
		"if end, ended := e.tombstones.of(r.ID); ended && r.ID == \"\" {",
		"if end, ended := e.tombstones.of(r.ID); ended {", nil},
	{"what was recorded is written at the end only", "store/store.go", "continue // each recorder",
		"_ = s.flush() // each recorder", nil},
	{"a latch is not kept on record", "engine/latch.go", "var h *api.Held\n\t\terr := e.latches.keep(bay, h)",
		"h := e.latchNow(bay)\n\t\terr := e.latches.keep(bay, h)", nil},
	{"a warden that ended is not started again", "warden/keeper.go", "if true || k.launchAgain() {",
		"if !k.wait() || k.launchAgain() {", nil},
	{"the line goes on after a run that failed", "line/line.go", "!archive.Vain(last.State) || true {",
		"!archive.Vain(last.State) {", nil},
	{"the warden keeps the connections of a service", "warden/process.go", "last := false && i.users == 0",
		"last := i.users == 0", nil},
	{"an alarm is forgotten when it is tried again", "engine/outputs/off.go",
		"if err != nil && s.alarm == \"\" {\n\t\ts.alarm", "if err != nil {\n\t\ts.alarm", nil},
	{"guards are not looked at", "core/stage/guards.go", "case truth == condition.True && false:",
		"case truth == condition.True:", nil},
	{"by hand nobody looks for a lost instrument", "engine/byhand.go",
		"; false && trouble != \"\" {", "; trouble != \"\" {", nil},
	{"any user disarms a watchdog", "instrument/watchdog.go", "delete(users, c); false && len(users) > 0 {",
		"delete(users, c); len(users) > 0 {", nil},
	{"a stop sets no latch of the bay", "engine/bay.go",
		"b.hold(&api.Held{By: h.By, House: true})\n\terr := b.end", "b.hold(h)\n\terr := b.end", nil},
	{"setting by hand frees the line", "engine/owner.go", "case w != waits:", "case w == goesOn:", nil},
	{"what was asked for before a stop is begun", "engine/owner.go",
		"c.asked.IsZero() && false &&", "c.asked.IsZero() &&", nil},
	{"the first failed write ends a run", "engine/conductor.go", "case true || full ||", "case full ||", nil},
	{"a stop needs the database", "engine/bay.go",
		"if err := b.engine.store.SaveLatch(store.Latch{Bay: b.name, Why: h.Why, By: h.By, At: h.At}); err != nil {\n" +
			"\t\treturn err\n\t}\n\tb.hold(h)\n\terr := b.end", "b.hold(h)\n\terr := b.end", nil},
	{"a service that cannot read its records makes nothing safe", "service/running.go",
		"return r, err\n\t}\n\tif c.Warden",
		"return r, errors.Join(err, engine.MakeSafeUnread(c.Bench, dialects, log, options))\n\t}\n\tif c.Warden", nil},
	{"a stop leaves on what is on by hand", "engine/bay.go", "if false && b.outputs.Energised() {\n\t\treturn b.safe",
		"if b.outputs.Energised() {\n\t\treturn b.safe", nil},
	{"that an output is on is told by the records only", "engine/engine.go", "case e.mayBeOn.left(name) && false:",
		"case e.mayBeOn.left(name):", nil},
	{"a bay that is configured anew forgets its alarm", "engine/renew.go", "strays, _ = nil, b",
		"strays = b.outputs.TakeOver(before.outputs)", nil},
	{"the rhythm of readings is taken from the first interval", "core/trace/rhythm.go",
		"r.Seen = enough\n\t\tr.Usual = max(r.Usual, dt)\n\tcase r.Late(dt):",
		"r.Seen++\n\t\tr.Usual = max(r.Usual, dt)\n\tcase r.Late(dt):\n\t\tr.Usual *= 2", nil},
	{"trying again stops at the first seat that fails", "engine/outputs/off.go",
		"left, errs = append(left, x), append(errs, x.notConfirmed(err))\n\t\t\tbreak\n\t\t}\n\t}\n\terr := errors.Join",
		"left, errs = append(left, x), append(errs, x.notConfirmed(err))\n\t\t}\n\t}\n\terr := errors.Join", nil},
	{"a run ends on its bay's goroutine, and an output that cannot be confirmed ends the service", "warden/process.go",
		"w.alive[r.Bay].After(now) {", "(w.alive[r.Bay].After(now) || w.alarmed[r.Bay]) {", []edit{{"engine/conductor.go",
			"r.conclude(safeErr)", "b.beside.Go(func() { r.conclude(safeErr) })"}}},
	{"make safe waits behind history", "engine/engine.go",
		"for _, r := range runs {\n\t\t_ = e.endAborted(r, \"history\")\n\t}\n\toff := e.makeSafeAgain(runs, err)",
		"off := e.makeSafeAgain(runs, err)", nil},
	{"an open interlock is not looked at", "engine/outputs/sampler.go", "cmp.Or(\"\", s.overborne(x))",
		"cmp.Or(x.unlocked(), s.overborne(x))", nil},
	{"nobody looks at what a load may bear", "engine/outputs/sampler.go", "cmp.Or(x.unlocked(), \"\")",
		"cmp.Or(x.unlocked(), s.overborne(x))", []edit{{"engine/outputs/bears.go",
			"_ = x\n\t\t\treturn true, true", "return x.bears.Holds(0, watts, seconds), x.bears.Ever(watts, seconds)"}}},
	{"an output goes on behind an interlock that nobody asks", "engine/outputs/on.go",
		"err := x.closed(ctx); err != nil && false {", "err := x.closed(ctx); err != nil {", nil},
	{"a cover is safe when its output is off", "engine/outputs/interlock.go",
		"case math.Abs(volts) >= mostSafeVolts && false:", "case math.Abs(volts) >= mostSafeVolts:", nil},
	{"guards look at outputs that are off for a rest", "core/stage/guards.go", "(true || m.ofTemperatures(i))",
		"(!m.state.Away || m.ofTemperatures(i))", nil},
}

// plant gives the files of the program that have the bug in them, by name.
func (b bug) plant(t *testing.T) map[string]string {
	files := map[string]string{}
	for _, e := range b.edits() {
		text := files[e.file]
		if text == "" {
			read, err := os.ReadFile(filepath.Join("..", e.file))
			require.NoError(t, err)
			text = string(read)
		}
		require.Equal(t, 1, strings.Count(text, e.was), "%s: %s no longer has the text once: %s", b.what, e.file, e.was)
		files[e.file] = strings.Replace(text, e.was, e.is, 1)
	}
	return files
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
		replace := map[string]string{}
		for name, text := range b.plant(t) {
			file := filepath.Join(folder, strconv.Itoa(len(replace))+".go")
			require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
			at, err := filepath.Abs(filepath.Join("..", name))
			require.NoError(t, err)
			replace[at] = file
		}
		overlay, err := json.Marshal(map[string]map[string]string{"Replace": replace})
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
