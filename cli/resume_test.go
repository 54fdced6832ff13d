package cli_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/core/figure"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/battery"
)

// emptying takes a pack down from the state in which it is clipped in.
const emptying = `procedure: emptying
for: gannet
needs: {cycler: {volts: 29.4 V, amps: 9.6 A}, thermo: {}}
parameters: {out: {value: 0.9 C}}
record: {every: 1 s}
resume: {rest: 30 s}
stages:
  - name: empty
    discharge: {amps: out, time: 12 h}
  - name: recover
    rest: {for: 1 min}
figures:
  - {figure: capacity}
`

// number reads a setting of a longer test from the environment.
func number(t *testing.T, name string, fallback float64) float64 {
	text := os.Getenv(name)
	if text == "" {
		return fallback
	}
	x, err := strconv.ParseFloat(text, 64)
	require.NoError(t, err, name)
	return x
}

func capacityOf(t *testing.T, figures []procedure.Judged) figure.Result {
	for _, f := range figures {
		if f.ID == "capacity" {
			return f.Result
		}
	}
	require.Fail(t, "no capacity")
	return figure.Result{}
}

// A run goes on after every kill, and its capacity is that of a run that nobody disturbed. USHER_KILLS,
// USHER_KILL_RATE (in C) and USHER_KILL_FACTOR make it longer.
func TestARunGoesOnAfterItsServiceWasKilled(t *testing.T) {
	kills, rate, factor := int(number(t, "USHER_KILLS", 2)), number(t, "USHER_KILL_RATE", 0.9),
		number(t, "USHER_KILL_FACTOR", 120)
	h := newHouse(t, 1, "--layouts", "battery", "--time-factor", fmt.Sprint(factor), "--ideal")
	p, cl := h.serve()
	h.scenario(cl)
	_, err := cl.PushProcedure(t.Context(), emptying, "")
	require.NoError(t, err)
	run, err := cl.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "emptying", Serial: "GP-77",
		Parameters: map[string]string{"out": fmt.Sprintf("%g C", rate)}})
	require.NoError(t, err)

	pack, err := battery.Gannet("GP-77", plant.Healthy)
	require.NoError(t, err)
	seconds, charge := pack.ToCutoff(battery.NewUnit(pack, plant.HalfFull).State, rate*9.6, 21)
	rng := rand.New(rand.NewPCG(7, 7))
	var killed []time.Time
	usual := seconds / factor / float64(kills+1) // wall time between kills
	for k := range kills {
		// At any moment: that is the point
		time.Sleep(time.Duration(usual * (0.3 + 0.7*rng.Float64()) * float64(time.Second)))
		require.NoError(t, p.cmd.Process.Signal(syscall.SIGKILL))
		killed = append(killed, time.Now())
		_ = p.cmd.Wait()
		p, cl = h.serve()
		doc, err := cl.Run(t.Context(), run.ID)
		require.NoError(t, err)
		require.Equal(t, "live", doc.State, "after kill %d: %s", k+1, doc.Reason)
	}
	doc := awaitRun(t, cl, run.ID, time.Duration((seconds/factor+120)*float64(time.Second)))
	require.Equal(t, "done", doc.State, doc.Reason)
	r := capacityOf(t, doc.Figures)
	truth := charge / 3600
	var gaps float64
	for _, b := range doc.Breaks {
		gaps += b.Within
	}
	t.Logf("%d kills in %.0f s of bench time: capacity %.5f Ah ± %.5f Ah, truth %.5f Ah; %d breaks leave ± %.5f Ah open",
		kills, doc.Duration, r.Value, r.U, truth, len(doc.Breaks), gaps/3600)
	assert.Len(t, doc.Breaks, kills)
	switch why := r.Undetermined; {
	case why != nil && why.AtLeast != nil: // the computer stood still just when the pack was empty
		require.Equal(t, record.Gap, why.Code, why.Sentence)
		assert.LessOrEqual(t, *why.AtLeast, truth*1.001, why.Known)
		assert.GreaterOrEqual(t, *why.AtMost, truth*0.999, why.Known)
	case why != nil: // or at another time, for longer than may be bridged
		require.Equal(t, record.Gap, why.Code, why.Sentence)
		var outside float64
		_, err := fmt.Sscanf(why.Known, "%g Ah outside the gap", &outside)
		require.NoError(t, err, why.Known)
		assert.LessOrEqual(t, outside, truth*1.001)
		assert.Positive(t, outside)
	default:
		assert.InDelta(t, truth, r.Value, r.U+0.001*truth, "within the stated error of the gaps")
		assert.Contains(t, r.Remarks, record.WasResumed)
	}
	for _, at := range killed {
		for _, s := range h.state()[0].History {
			if !s.On && s.At.After(at) {
				assert.Less(t, s.At.Sub(at), 700*time.Millisecond, "nothing was on for longer while nobody looked")
				break
			}
		}
	}
	assert.False(t, h.state()[0].LoadOn)
}

func TestRunsAreSuspendedWhenTheServiceEndsInGoodOrder(t *testing.T) {
	const bays = 6
	h := newHouse(t, bays, "--layouts", strings.TrimSuffix(strings.Repeat("battery,", bays), ","), "--time-factor", "60")
	p, cl := h.serve()
	h.scenario(cl)
	_, err := cl.PushProcedure(t.Context(), emptying, "")
	require.NoError(t, err)
	var runs []api.RunSummary
	for k := range bays {
		run, err := cl.StartRun(t.Context(), api.StartRun{Bay: fmt.Sprintf("bay%d", k+1), Procedure: "emptying",
			Serial: fmt.Sprintf("GP-7%d", k)})
		require.NoError(t, err)
		runs = append(runs, run)
	}
	drained := func() (on int) {
		for _, bay := range h.state() {
			if bay.LoadOn {
				on++
			}
		}
		return on
	}
	require.Eventually(t, func() bool { return drained() == bays }, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
	ended := make(chan error, 1)
	go func() { ended <- p.cmd.Wait() }()
	select {
	case err := <-ended:
		require.NoError(t, err)
	case <-time.After(30 * time.Second):
		_ = p.cmd.Process.Signal(syscall.SIGQUIT)
		t.Fatal("the service does not end")
	}
	assert.Zero(t, drained(), "off before it ends")
	_, cl = h.serve()
	require.Eventually(t, func() bool { return drained() == bays }, 30*time.Second, 20*time.Millisecond, "they go on")
	for k, run := range runs {
		entries, err := cl.Journal(t.Context(), api.JournalFilter{Run: run.ID, Limit: 50})
		require.NoError(t, err)
		assert.Contains(t, fmt.Sprint(entries), "run suspended")
		assert.Contains(t, fmt.Sprint(entries), "run resumed")
		_, err = cl.Stop(t.Context(), fmt.Sprintf("bay%d", k+1), "")
		require.NoError(t, err)
		doc, err := cl.Run(t.Context(), run.ID)
		require.NoError(t, err)
		assert.Len(t, doc.Breaks, 1)
		assert.Zero(t, doc.Breaks[0].Within, "when the outputs went off is known")
	}
}

// awaitRun waits until a run has ended.
func awaitRun(t *testing.T, cl *client.Client, id string, most time.Duration) api.Run {
	t.Helper()
	var doc api.Run
	require.Eventually(t, func() bool {
		var err error
		doc, err = cl.Run(t.Context(), id)
		return err == nil && doc.State != "live"
	}, most, 100*time.Millisecond)
	return doc
}
