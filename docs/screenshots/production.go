package main

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"usherbench/console/chromium"
)

// production pictures an operator's place that says pass and fail, several places together, the lot that is tested
// there, and a unit with its card and what two bays found of it, on one picture; and on another the pages of reports.
func production(ctx context.Context, url, data string) error {
	usher := func(in string, args ...string) error {
		cmd := exec.Command(binary, append([]string{"--data", data}, args...)...)
		cmd.Stdin = strings.NewReader(in)
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("usher %s: %w: %s", strings.Join(args, " "), err, out)
		}
		return nil
	}
	var units strings.Builder
	for k := range 18 {
		fmt.Fprintf(&units, "TN-%d\n", 2301+k)
	}
	operate := []string{"operate", "--bay", "bay1"}
	if err := usher("", "lot", "order", "L-2026-12", "--nameplate", "tern", "--quantity", "24"); err != nil {
		return err
	}
	if err := usher(units.String(), append(operate, "--procedure", "tern-outgoing", "--lot", "L-2026-12")...); err != nil {
		return err
	}
	parts := filepath.Join(data, "parts")
	if err := os.MkdirAll(parts, 0o700); err != nil {
		return err
	}
	part := func(name string) chromium.Action { return chromium.Shot(parts, name+".png") }
	err := each(ctx, []chromium.Action{
		chromedp.EmulateViewport(chromium.Width, chromium.Height), chromedp.Navigate(url), theme("light"),
		chromedp.Navigate(url + "/operate/bay1"), chromium.Visible(`[data-kind=pass]`), hold(time.Second), part("pass"),
		aside(func() error { return usher("TN-2219\nTN-2219\nTN-2219\nTN-2217\nTN-2213\n", operate...) }),
		chromium.Visible(`[data-kind=fail]`), hold(time.Second), part("fail"),
		aside(func() error {
			return errors.Join(usher("", "stop", "bay4"), usher("", "go-on", "bay4"),
				usher("TN-2219\nTN-2240\n", "operate", "--bay", "bay4", "--procedure", "tern-outgoing", "--lot", "L-2026-12"))
		}),
		chromedp.Navigate(url + "/together/bay1,bay4"), chromium.Visible(`[data-test=tile-bay4]`), hold(time.Second),
		part("together"), chromedp.Navigate(url + "/operate"), chromium.Visible(`[data-test=places]`), hold(time.Second),
		part("places"), chromedp.Navigate(url + "/lots/L-2026-12"), chromium.Visible(`[data-test=pareto] .cause`),
		hold(time.Second), part("lot"), chromedp.Navigate(url + "/units/TN-2219"), chromium.Visible(`[data-test=card]`),
		hold(time.Second), part("unit"),
	})
	if err != nil {
		return err
	}
	places := []string{"places", "pass", "fail", "together", "lot", "unit"}
	if err := beside(ctx, parts, "production.png", places, "width:33%", 1920, 810); err != nil {
		return err
	}
	for name, args := range map[string][]string{"run": {"report", "last"}, "of-lot": {"lot", "report", "L-2026-12"},
		"card": {"unit", "report", "TN-2213", "--card"}} {
		pdf := filepath.Join(parts, name+".pdf")
		if err := usher("", append(args, "-o", pdf)...); err != nil {
			return err
		}
		if err := firstPage(pdf, filepath.Join(parts, name)); err != nil {
			return err
		}
	}
	if err := os.Rename(filepath.Join(data, "battery.png"), filepath.Join(parts, "battery.png")); err != nil {
		return err
	}
	return beside(ctx, parts, "reports.png", []string{"run", "of-lot", "card", "battery"}, "width:24.5%", 2400, 870)
}

// beside lays pictures beside one another on one, each as large as a style says.
func beside(ctx context.Context, from, file string, names []string, style string, width, height int64) error {
	html := "<body style='margin:4px;background:#c9c2b4;display:flex;flex-wrap:wrap;gap:4px'>"
	for _, name := range names {
		data, err := os.ReadFile(filepath.Join(from, name+".png"))
		if err != nil {
			return err
		}
		html += fmt.Sprintf("<img style='%s' src='data:image/png;base64,%s'>", style,
			base64.StdEncoding.EncodeToString(data))
	}
	page := filepath.Join(from, "beside.html")
	if err := os.WriteFile(page, []byte(html), 0o600); err != nil {
		return err
	}
	return each(ctx, []chromium.Action{chromedp.EmulateViewport(width, height), chromium.Visit("file://" + page),
		hold(time.Second), shot(file), chromedp.EmulateViewport(chromium.Width, chromium.Height)})
}
