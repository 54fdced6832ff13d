// Package chromium drives the console in a headless browser, for tests and screenshots.
package chromium

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"
)

// Action is a step in the browser.
type Action = chromedp.Action[chromedp.Void]

// Width and Height of the window.
const Width, Height = 1280, 800

// Open starts a browser with an empty profile. It prefers reduced motion, so that a click never meets a moving button.
// The context is for Do; cancel ends the browser.
func Open(parent context.Context) (context.Context, context.CancelFunc) {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(Width, Height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("force-prefers-reduced-motion", true),
		chromedp.Flag("disable-component-update", true))
	allocator, cancelAllocator := chromedp.NewExecAllocator(parent, options...)
	ctx, cancel := chromedp.NewContext(allocator)
	return ctx, func() { cancel(); cancelAllocator() }
}

// Private opens a page in a browser that is open, which knows nothing of its other pages: as if it was a browser of its
// own, without the time that one takes to start. cancel closes it.
func Private(browser context.Context) (context.Context, context.CancelFunc) {
	return chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
}

// between is the time between two looks at a page that is waited for: more looks keep the browser from its work.
const between = 30 * time.Millisecond

// Do carries out steps in order.
func Do(ctx context.Context, steps ...Action) error { return chromedp.Do(ctx, steps...) }

// Visit opens an address, Visible waits for an element, Click and Type act on one. Elements are named by CSS selectors.
func Visit(url string) Action { return chromedp.Navigate(url) }

// Visible waits until an element is visible.
func Visible(css string) Action {
	return chromedp.WaitVisible(chromedp.CSS(css), chromedp.RetryInterval(between))
}

// Gone waits until no element matches.
func Gone(css string) Action {
	return chromedp.WaitNotPresent(chromedp.CSS(css), chromedp.RetryInterval(between))
}

// Click clicks an element once it can be: it is enabled, stands still, and nothing lies over it. The pointer goes to
// where it is on the screen, as a person's does; a click that fell on something else, since the page moved under it, is
// an error.
func Click(css string) Action {
	ready := fmt.Sprintf(`(() => {
		const e = document.querySelector(%q)
		if (!e || e.disabled || e.classList.contains('v-btn--loading')) return false
		e.scrollIntoView({ block: 'nearest', inline: 'nearest' })
		const box = e.getBoundingClientRect()
		const at = JSON.stringify(box)
		const stands = e.lastSeenAt === at && box.width > 0 && box.height > 0
		e.lastSeenAt = at
		const hit = document.elementFromPoint(box.x + box.width / 2, box.y + box.height / 2)
		return stands && hit && (e.contains(hit) || hit.contains(e))
	})()`, css)
	middle := fmt.Sprintf(`(() => {
		const e = document.querySelector(%q)
		const box = e.getBoundingClientRect()
		window.fellOn = ''
		addEventListener('pointerdown', ({ target }) => {
			if (!e.contains(target) && !target.contains(e)) window.fellOn = target.outerHTML.slice(0, 200)
		}, { capture: true, once: true })
		return [box.x + box.width / 2, box.y + box.height / 2]
	})()`, css)
	return chromedp.Steps(Until(ready), func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		at, err := chromedp.Evaluate[[2]float64](middle)(ctx, t)
		if err != nil {
			return chromedp.Void{}, err
		}
		if _, err := chromedp.MouseClickXY(at[0], at[1])(ctx, t); err != nil {
			return chromedp.Void{}, err
		}
		// Where the click led to another page, that one knows nothing of it, or is not there yet.
		fellOn, err := chromedp.Evaluate[string](`window.fellOn ?? ''`)(ctx, t)
		if err == nil && fellOn != "" {
			return chromedp.Void{}, fmt.Errorf("the page moved under the click on %s, which fell on %s", css, fellOn)
		}
		return chromedp.Void{}, ctx.Err()
	})
}

// Type types text into an element.
func Type(css, text string) Action {
	return chromedp.SendKeys(chromedp.CSS(css), text, chromedp.RetryInterval(between))
}

// Size makes the window as large as told; a phone's is 390 × 844.
func Size(width, height int64) Action { return chromedp.EmulateViewport(width, height) }

// Press presses keys, wherever the focus is; "\t", "\r" and "\x1b" are the tabulator, enter and escape.
func Press(keys string) Action { return chromedp.KeyEvent(keys) }

// Script carries out JavaScript.
func Script(js string) Action { return chromedp.Evaluate[chromedp.Void](js) }

// Fill replaces what is in a field, as if it was typed and left.
func Fill(css, text string) Action {
	return Script(fmt.Sprintf(`(() => { const f = document.querySelector(%q); f.value = %q; for (const e of ['input', `+
		`'change', 'blur']) f.dispatchEvent(new Event(e)) })()`, css, text))
}

// Until waits until a JavaScript expression is true. One about an element that is not there yet is not true yet.
func Until(expression string) Action {
	patient := "(() => { try { return !!(" + expression + ") } catch (e) { if (e instanceof TypeError) return false; " +
		"throw e } })()"
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Poll[bool](patient, chromedp.WithPollingInterval(between), chromedp.WithPollingTimeout(0))(ctx, t)
		return chromedp.Void{}, err
	}
}

// Evaluate computes a JavaScript expression.
func Evaluate[T any](ctx context.Context, expression string) (T, error) {
	return chromedp.Run(ctx, chromedp.Evaluate[T](expression))
}

// SignIn opens the service at an address and signs in.
func SignIn(url, name, password string) Action {
	return chromedp.Steps(Visit(url), Visible(`input[name=name]`), Type(`input[name=name]`, name),
		Type(`input[name=password]`, password), Click(`button[type=submit]`), Visible(`h1`))
}

// SignedIn has the page's browser signed in already, with the secret of a session or token.
func SignedIn(url, secret string) Action {
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		_, err := cdp.Call(ctx, t, network.SetCookie, network.SetCookieParams{Name: "usher_session", Value: secret, URL: url,
			SameSite: network.CookieSameSiteStrict})
		return err
	})
}

// Shot saves a picture of the window.
func Shot(folder, file string) Action {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		png, err := chromedp.CaptureScreenshot()(ctx, t)
		if err != nil {
			return chromedp.Void{}, err
		}
		return chromedp.Void{}, os.WriteFile(filepath.Join(folder, file), png, 0o644)
	}
}
