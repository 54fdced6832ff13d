package console_test

import (
	"context"
	_ "embed"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	. "usherbench/console/chromium"
	"usherbench/demo"
	"usherbench/service/servicetest"
)

// audit is what a page is looked over with: contrast, names, and whether what can be clicked can be reached.
//
//go:embed testdata/audit.js
var audit string

const toggle = `[aria-label="Switch between light and dark"]`

// Every page in both themes: text stands out from its ground as WCAG 2.2 asks for at level AA, whatever can be used has
// a name for those who do not see it, what can be clicked can be reached with the keyboard, and on a phone nothing is
// cut off.
func TestEveryPageIsForEverybody(t *testing.T) {
	h, ctx := open(t, servicetest.Options{Bays: 2, TimeFactor: 5}, api.Engineer)
	for _, name := range []string{"tern-line-load", "tern-soak", "tern-triangle"} {
		text, err := demo.Library(name)
		require.NoError(t, err)
		h.Push(text)
	}
	done := h.Start("bay1", "tern-triangle", "TN-2208")
	h.Start("bay2", "tern-soak", "TN-2212")
	require.Equal(t, "done", h.Ended(done).State)
	for _, page := range []struct{ path, shows string }{
		{"/", "[data-bay=bay2]"}, {"/bays/bay1", "input[name=serial]"}, {"/bays/bay2", "canvas"},
		{"/bays/bay1/manual", "main button"}, {"/line", "main h1"}, {"/procedures", "main tbody tr"},
		{"/procedures/tern-line-load", "[data-test=sound]"}, {"/nameplates", "main tbody tr"}, {"/bench", "main tbody tr"},
		{"/bench/instruments/supply1", "main h1"}, {"/runs", "[data-test=runs] tbody tr"},
		{"/runs/" + done.ID, "[data-test=figures]"}, {"/overlay?runs=" + done.ID + "&half=run", "canvas"},
		{"/cells", "main h1"}, {"/no/such/place", "main h1"},
	} {
		do(t, ctx, Visit(h.Running.URL+page.path), Visible(page.shows))
		looked(t, ctx, page.path)
		do(t, ctx, Click(toggle))
		looked(t, ctx, page.path+" in the other theme")
		do(t, ctx, Size(390, 844), Until(`innerWidth === 390`))
		looked(t, ctx, page.path+" on a phone")
		do(t, ctx, Size(Width, Height), Until(`innerWidth === 1280`), Click(toggle))
	}
}

func looked(t *testing.T, ctx context.Context, page string) {
	t.Helper()
	found, err := Evaluate[[]string](ctx, audit)
	require.NoError(t, err)
	assert.Empty(t, found, "%s:\n%s", page, strings.Join(found, "\n"))
}
