package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"usherbench/console/chromium"
)

// sizes are those at which every page is pictured: a desk, and a phone.
var sizes = []struct {
	name          string
	width, height int64
}{{"desk", chromium.Width, chromium.Height}, {"phone", 390, 844}}

// every pictures every page of the console in both themes and at both sizes into a folder that is thrown away, for
// whoever has changed one. It is run by: make pictures TO=FOLDER.
func every(to string) error {
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	data, err := os.MkdirTemp("", "usher-pictures-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	url, stop, err := startDemo(data, 1)
	if err != nil {
		return err
	}
	defer stop()
	out, err := exec.Command(binary, "--data", data, "runs", "--procedure", "tern-load-steps", "--json").CombinedOutput()
	found := regexp.MustCompile(`"id": "([^"]+)"`).FindSubmatch(out)
	if err != nil || found == nil {
		return fmt.Errorf("the demo has no run: %w: %s", err, out)
	}
	ctx, cancel := chromium.Open(context.Background())
	defer cancel()
	actions := []chromium.Action{chromedp.EmulateViewport(chromium.Width, chromium.Height),
		chromium.SignIn(url, name, password)}
	for _, page := range []string{"", "bays/bay1", "bays/bay1/manual", "line", "runs", "runs/" + string(found[1]),
		"overlay?lot=C-2026-11&over=charge", "cells?lot=C-2026-11&size=7", "procedures", "procedures/tern-line-load",
		"nameplates", "bench", "bench/instruments/load1", "nowhere", "sign-in"} {
		for _, size := range sizes {
			for _, shade := range []string{"light", "dark"} {
				word := strings.NewReplacer("/", "-", "?", "-", "=", "-", "&", "-").Replace(page)
				if page == "" {
					word = "floor"
				}
				actions = append(actions, theme(shade), chromedp.EmulateViewport(size.width, size.height),
					chromium.Visit(url+"/"+page), hold(1500*time.Millisecond),
					chromium.Shot(to, fmt.Sprintf("%s-%s-%s.png", word, size.name, shade)))
			}
		}
	}
	return each(ctx, actions)
}
