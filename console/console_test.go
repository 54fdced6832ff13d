package console_test

import (
	"context"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/console"
	. "usherbench/console/chromium"
	"usherbench/service/servicetest"
	"usherbench/store"

	"usherbench/core/trace"
)

const password = "a lantern in the fog"

// browser is started once, by the first test that needs it: each has a page of its own in it.
var browser = sync.OnceValues(func() (context.Context, error) {
	ctx, cancel := Open(context.Background())
	endBrowser = cancel
	return ctx, Do(ctx)
})

var endBrowser = func() {}

func TestMain(m *testing.M) {
	code := m.Run()
	endBrowser()
	os.Exit(code)
}

// open starts a house and a page of the browser that is signed in with a role.
func open(t *testing.T, o servicetest.Options, role api.Role) (*servicetest.House, context.Context) {
	t.Parallel() // a house and a page of its own each
	if _, err := fs.Stat(console.Dist, "dist/index.html"); err != nil {
		t.Fatal("the console was not built; run: make build")
	}
	if _, err := exec.LookPath("chromium"); err != nil {
		t.Fatal("Chromium is missing; run: make tools")
	}
	o.Sockets = true
	h := servicetest.Start(t, o)
	token := h.As(role).Token
	started, err := browser()
	require.NoError(t, err)
	ctx, cancel := Private(started)
	t.Cleanup(cancel)
	require.NoError(t, Do(ctx, Size(Width, Height))) // the page must not end with a step's time
	do(t, ctx, SignedIn(h.Running.URL, token))
	return h, ctx
}

// patience bounds a step of a test; it is only reached when something is broken, also on a computer that stands still
// for a while.
const patience = 2 * time.Minute

func do(t *testing.T, ctx context.Context, steps ...Action) {
	t.Helper()
	for i, step := range steps {
		limited, cancel := context.WithTimeout(ctx, patience)
		err := Do(limited, step)
		cancel()
		if err != nil {
			shown, _ := Evaluate[string](ctx, `location.pathname + '\n' + document.body.innerText`)
			require.NoError(t, err, "step %d; the page shows %s", i, shown)
		}
	}
}

func text(t *testing.T, ctx context.Context, css string) string {
	t.Helper()
	s, err := Evaluate[string](ctx, fmt.Sprintf("document.querySelector(%q)?.innerText ?? ''", css))
	require.NoError(t, err)
	return s
}

// readoutsSeen has the page remember that the readouts showed the output of the unit: the run takes some seconds only,
// and a busy computer may look after it.
const readoutsSeen = `new MutationObserver(() => {
	const shown = document.querySelector('[data-test=readouts]')?.innerText ?? ''
	window.readoutsSeen = window.readoutsSeen || /14\.9|15\.0/.test(shown)
}).observe(document.body, { subtree: true, childList: true, characterData: true })`

// placesOfLink has the page remember every place at which the way to the run that ended was drawn.
const placesOfLink = `window.placesOfLink = []; (function look() {
	const box = document.querySelector('[data-test=ended] a')?.getBoundingClientRect()
	if (box && !placesOfLink.includes(box.y)) placesOfLink.push(box.y)
	requestAnimationFrame(look)
})()`

func TestAnOperatorStartsWatchesAndReadsARun(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Bays: 2, TimeFactor: 5}, api.Operator)
	do(t, ctx, Visit(h.Running.URL), Visible(`[data-bay=bay1]`), Visible(`[data-bay=bay2]`), Click(`[data-bay=bay1]`),
		Visible(`input[name=serial]`), Visit(h.Running.URL+"/bays/bay1?procedure=tern-line-load"),
		Until(`document.querySelector('[data-test=start]') !== null && `+
			`document.querySelector('.start').innerText.includes('tern-line-load')`),
		Type(`input[name=serial]`, "TN-2208"), Script(readoutsSeen), Script(placesOfLink), Click(`[data-test=start]`),
		Visible(`[data-test=confirm]`), Click(`[data-test=confirm]`), Until(`window.readoutsSeen`))
	run, err := h.Local.Run(t.Context(), "last")
	require.NoError(t, err)
	assert.Equal(t, "test operator", run.Operator)
	do(t, ctx, Visible(`[data-test=ended]`),
		Until(`document.querySelector('[data-test=ended]').innerText.includes('pass')`),
		Until(`document.querySelector('.start').innerText.includes('Revision 1')`))
	places, err := Evaluate[[]float64](ctx, `placesOfLink`)
	require.NoError(t, err)
	assert.Len(t, places, 1, "the way to what ended moved under the hand")
	do(t, ctx, Click(`[data-test=ended] a`), Visible(`[data-test=figures]`), Visible(`canvas`),
		Visible(`[data-test=points]`))
	assert.Contains(t, text(t, ctx, "[data-test=figures]"), "Load regulation")
	assert.Contains(t, text(t, ctx, "h1"), "TN-2208")
	do(t, ctx, Visit(h.Running.URL+"/runs"), Visible(`[data-test=runs] tbody tr`))
	assert.Contains(t, text(t, ctx, "[data-test=runs]"), "tern-line-load")
}

func TestAViewerSeesButCannotAct(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Viewer)
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1"), Visible(`[data-test=readouts]`))
	disabled,
		err := Evaluate[bool](ctx,
		`[...document.querySelectorAll('button.danger, [data-test=start]')].every((b) => b.disabled)`)
	require.NoError(t, err)
	assert.True(t, disabled)
	do(t, ctx, Visit(h.Running.URL+"/bays/nowhere"),
		Until(`document.body.innerText.includes('There is no bay named nowhere')`))
	do(t, ctx, Visit(h.Running.URL+"/no/such/view"), Until(`document.body.innerText.includes('There is nothing here')`))
}

func TestAStopAsksOnceAndMakesSafe(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Operator)
	run := h.Start("bay1", "tern-soak", "TN-2209")
	do(t, ctx, Visit(h.Running.URL+"/bays/bay1"), Visible(`button.danger`),
		Until(`document.querySelector('button.danger').innerText === 'Stop'`), Click(`button.danger`),
		Visible(`[data-test=confirm]`))
	assert.Contains(t, text(t, ctx, ".v-dialog"), "what was recorded is kept")
	do(t, ctx, Click(`[data-test=confirm]`), Visible(`[data-test=ended]`))
	assert.Equal(t, "stopped by test operator", h.Ended(run).Reason)
}

// cable is a connection to the service that can be cut.
type cable struct {
	http.Handler
	cut atomic.Bool
}

func (c *cable) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if c.cut.Load() {
		panic(http.ErrAbortHandler)
	}
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	go func() {
		for ctx.Err() == nil {
			if c.cut.Load() {
				cancel()
			}
			time.Sleep(20 * time.Millisecond)
		}
	}()
	c.Handler.ServeHTTP(w, r.WithContext(ctx))
}

func TestALostConnectionHidesReadoutsAndComesBack(t *testing.T) {
	h, ctx := open(t, servicetest.Options{TimeFactor: 1}, api.Operator)
	target, err := url.Parse(h.Running.URL)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(target)
	proxy.FlushInterval = -1
	proxy.ErrorHandler = func(http.ResponseWriter, *http.Request, error) { panic(http.ErrAbortHandler) }
	c := &cable{Handler: proxy}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &http.Server{Handler: c}
	go server.Serve(listener) //nolint:errcheck // it ends with the test
	t.Cleanup(func() { server.Close() })
	address := "http://" + listener.Addr().String()

	run := h.Start("bay1", "tern-soak", "TN-2209")
	// A cookie is for the host, whatever the port, so the browser is signed in here too.
	do(t, ctx, Visit(address+"/bays/bay1"), Visible(`canvas`),
		Until(`document.querySelector('[data-test=readouts]').innerText.match(/14\.9|15\.0/) !== null`))
	c.cut.Store(true)
	do(t, ctx, Visible(`.stale`), Until(`!/\d/.test(document.querySelector('[data-test=readouts]').innerText)`))
	assert.Contains(t, text(t, ctx, ".stale"), "No contact with the service since")
	c.cut.Store(false)
	do(t, ctx, Gone(`.stale`),
		Until(`document.querySelector('[data-test=readouts]').innerText.match(/14\.9|15\.0/) !== null`))
	_, err = h.Local.Stop(t.Context(), "bay1", "")
	require.NoError(t, err)
	h.Ended(run)
}

// An hour at ten frames a second opens whole, and zooms to single frames.
func TestALongRunOpensWholeAndZoomsToFrames(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Operator)
	const frames = 36_000
	ended := time.Now()
	run := store.Run{ID: "01LONGRUN00000000000000000", Bay: "bay1", Serial: "TN-1", Procedure: "tern-soak", State: "done",
		Outcome: "pass", StartedAt: ended.Add(-time.Hour), EndedAt: &ended,
		Duration: 3600, Frames: frames, Columns: []string{"load.volts", "load.amps", "load.watts"}}
	require.NoError(t, h.Running.Store.CreateRun(&run))
	r := h.Running.Store.NewRecorder(run.ID, run.Columns)
	for k := range frames {
		volts := 15 + float64(k%7)*1e-4
		if k == 20_000 { // one dip in an hour
			volts = 14.5
		}
		r.Frame(trace.Frame{T: float64(k) / 10, Values: []float64{volts, 6, volts * 6}})
	}
	require.NoError(t, r.Finish(map[string]any{"state": "done"}))
	do(t, ctx, Visit(h.Running.URL+"/runs/"+run.ID), Visible(`canvas`),
		Until(`document.body.innerText.includes('least and largest of each stretch')`))
	took, err := Evaluate[float64](ctx,
		`performance.getEntriesByType('resource').filter((e) => e.name.includes('/window')).at(-1).duration`)
	require.NoError(t, err)
	opened, err := Evaluate[float64](ctx, `performance.now()`)
	require.NoError(t, err)
	t.Logf("the whole hour was fetched in %.0f ms, the page with it drawn was open after %.0f ms", took, opened)
	// Every + halves what is visible.
	for range 9 {
		do(t, ctx, Type(`.chart`, "+"))
	}
	do(t, ctx, Until(`document.body.innerText.includes('every frame')`))
	do(t, ctx, Type(`.chart`, "0"), Until(`document.body.innerText.includes('least and largest of each stretch')`))

	shows := func(what string) Action {
		return Until(`document.querySelector('.chart').getAttribute('aria-label').includes('` + what + `')`)
	}
	draw := func(reference string) Action { // while its menu opens, it moves
		return Script(`document.querySelector('[data-test=reference-` + reference + `]').click()`)
	}
	do(t, ctx, shows("Volts (V)"), Click(`[data-test=reference]`), Visible(`[data-test=reference-mean]`), draw("mean"),
		shows("Deviation of volts from the mean (V)"), Click(`[data-test=reference]`), draw("values"), shows("Volts (V)"))

	// The one dip is found from there in one action, and what lies about it is kept under a name.
	arrow := func(shift string) Action {
		return Script(`document.querySelector('.chart').dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowRight', ` +
			`bubbles: true, shiftKey: ` + shift + `}))`)
	}
	do(t, ctx, Click(`[data-test=find]`), Visible(`[data-test=excursions] button`),
		Until(`document.querySelector('[data-test=excursions]').innerText.includes('14.5 V')`),
		Click(`[data-test=excursions] button`), Until(`document.body.innerText.includes('every frame')`),
		arrow("false"), arrow("true"), arrow("true"), Visible(`input[name=excerpt]`), Type(`input[name=excerpt]`, "the dip"),
		Click(`[data-test=keep]`), Until(`document.querySelector('[data-test=kept]')?.innerText.includes('the dip')`))
	kept, err := h.Local.Excerpts(t.Context(), run.ID)
	require.NoError(t, err)
	require.Len(t, kept, 1)
	assert.InDelta(t, 2000, kept[0].From, 1.5)
	assert.Greater(t, kept[0].To, kept[0].From)
	do(t, ctx, Click(`[data-test=kept] .v-btn`), Until(`document.querySelector('[data-test=kept]') === null`))
}

func TestNothingOfTheConsoleComesFromElsewhere(t *testing.T) {
	h, ctx := open(t, servicetest.Options{}, api.Viewer)
	do(t, ctx, SignedIn(h.Running.URL, ""), SignIn(h.Running.URL, "test viewer", password))
	names, err := Evaluate[[]string](ctx, `performance.getEntriesByType('resource').map((e) => e.name)`)
	require.NoError(t, err)
	origin, err := Evaluate[string](ctx, `location.origin`)
	require.NoError(t, err)
	for _, name := range names {
		assert.True(t, strings.HasPrefix(name, origin), name)
	}
}
