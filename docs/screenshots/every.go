package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"usherbench/console/chromium"
)

// sizes are those at which every page is pictured: a desk, and a phone.
var sizes = []struct {
	name          string
	width, height int64
}{{"desk", chromium.Width, chromium.Height}, {"phone", 390, 844}}

// states are those in which pages are pictured: full, while the service does not answer yet, when it fails, and of a
// house in which there is nothing yet.
var states = []string{"full", "loading", "failing", "empty"}

// every pictures every page of the console in every state and both themes, at both sizes, into a folder that is thrown
// away, for whoever has changed one; with a sheet of each state. It is run by: make pictures TO=FOLDER.
func every(to string) error {
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	data, err := os.MkdirTemp("", "usher-pictures-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	demo, stop, err := startDemo(filepath.Join(data, "demo"), 1)
	if err != nil {
		return err
	}
	defer stop()
	empty, stopEmpty, err := startHouse(filepath.Join(data, "empty"))
	if err != nil {
		return err
	}
	defer stopEmpty()
	out, err := exec.Command(binary, "--data", filepath.Join(data, "demo"), "runs", "--procedure", "tern-load-steps",
		"--json").CombinedOutput()
	found := regexp.MustCompile(`"id": "([^"]+)"`).FindSubmatch(out)
	if err != nil || found == nil {
		return fmt.Errorf("the demo has no run: %w: %s", err, out)
	}
	between := &between{}
	between.server = httptest.NewServer(between)
	defer between.server.Close()
	ctx, cancel := chromium.Open(context.Background())
	defer cancel()
	for _, state := range states {
		url := demo
		if state == "empty" {
			url = empty
		}
		if err := between.is("full", url); err != nil {
			return err
		}
		if state == "full" || state == "empty" { // it stays signed in
			if err := each(ctx, []chromium.Action{chromedp.EmulateViewport(chromium.Width, chromium.Height),
				chromium.SignIn(between.server.URL, name, password)}); err != nil {
				return err
			}
		}
		if err := between.is(state, url); err != nil {
			return err
		}
		if err := pictured(ctx, between.server.URL, to, state, string(found[1])); err != nil {
			return err
		}
	}
	return nil
}

// pictured pictures every page in one state.
func pictured(ctx context.Context, url, to, state, run string) error {
	var files []string
	var actions []chromium.Action
	for _, page := range []string{"", "bays/bay1", "bays/bay1/manual", "line", "runs", "runs/" + run,
		"overlay?lot=C-2026-11&over=charge", "cells?lot=C-2026-11&size=7", "procedures", "procedures/tern-line-load",
		"nameplates", "bench", "bench/instruments/load1", "nowhere", "sign-in"} {
		for _, size := range sizes {
			for _, shade := range []string{"light", "dark"} {
				word := strings.NewReplacer("/", "-", "?", "-", "=", "-", "&", "-").Replace(page)
				if page == "" {
					word = "floor"
				}
				file := fmt.Sprintf("%s-%s-%s-%s.png", state, size.name, shade, word)
				files = append(files, file)
				actions = append(actions, theme(shade), chromedp.EmulateViewport(size.width, size.height),
					chromium.Visit(url+"/"+page), hold(1200*time.Millisecond), chromium.Shot(to, file))
			}
		}
	}
	return errors.Join(each(ctx, actions), sheets(ctx, to, state, files))
}

// sheets lay the pictures of one size and theme side by side.
func sheets(ctx context.Context, to, state string, files []string) error {
	var actions []chromium.Action
	for _, size := range sizes {
		for _, shade := range []string{"light", "dark"} {
			sheet := fmt.Sprintf("sheet-%s-%s-%s", state, size.name, shade)
			across := map[string]string{"desk": "24%", "phone": "11.5%"}[size.name]
			html := "<body style='margin:8px;background:#888'>"
			for _, f := range files {
				if strings.HasPrefix(f, fmt.Sprintf("%s-%s-%s-", state, size.name, shade)) {
					html += fmt.Sprintf("<img src=%q style='width:%s;margin:4px'>", f, across)
				}
			}
			page := filepath.Join(to, sheet+".html")
			if err := os.WriteFile(page, []byte(html), 0o644); err != nil {
				return err
			}
			actions = append(actions, chromedp.EmulateViewport(1600, 900), chromium.Visit("file://"+page),
				hold(500*time.Millisecond), chromium.Shot(to, sheet+".png"))
		}
	}
	return each(ctx, actions)
}

// between stands between the browser and a service, and has the service not answer, or fail.
type between struct {
	server *httptest.Server
	mu     sync.Mutex // guards what follows
	state  string
	proxy  *httputil.ReverseProxy
}

func (b *between) is(state, service string) error {
	target, err := url.Parse(service)
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.state = state
	b.proxy = &httputil.ReverseProxy{Rewrite: func(p *httputil.ProxyRequest) {
		p.SetURL(target)
		p.Out.Host = p.In.Host // the service sees that the page is its own
	}, FlushInterval: -1, ErrorLog: log.New(io.Discard, "", 0)}
	return nil
}

// ServeHTTP implements http.Handler.
func (b *between) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	state, proxy := b.state, b.proxy
	b.mu.Unlock()
	whole := !strings.HasPrefix(r.URL.Path, "/api/") || strings.HasSuffix(r.URL.Path, "/me") ||
		strings.HasSuffix(r.URL.Path, "/catalogue")
	switch {
	case whole || state == "full" || state == "empty":
		proxy.ServeHTTP(w, r)
	case state == "loading": // a browser keeps so many connections: those of the last page must not hold up the next
		select {
		case <-r.Context().Done():
		case <-time.After(3 * time.Second):
		}
	default:
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusInternalServerError)
		_, _ = io.WriteString(w, `{"title": "The records cannot be read", "status": 500, "detail": "the disk does not `+
			`answer", "remedy": "see the log of the service"}`) // the browser may have gone on
	}
}

// startHouse starts a service in whose house there is nothing but the account, with more arguments.
func startHouse(data string, more ...string) (address string, stop func(), err error) {
	cmd := exec.Command(binary, append([]string{"serve", "--listen", "127.0.0.1:0", "--data", data}, more...)...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop = func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		_ = cmd.Wait()
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		base, code, ok := strings.Cut(lines.Text(), "/setup?code=")
		if !ok {
			continue
		}
		go io.Copy(io.Discard, out) //nolint:errcheck // nobody reads the rest
		address = base[strings.LastIndex(base, " ")+1:]
		body := fmt.Sprintf(`{"code": %q, "name": %q, "password": %q}`, code, name, password)
		resp, err := http.Post(address+"/api/v1/setup", "application/json", strings.NewReader(body))
		if err == nil && resp.StatusCode != http.StatusOK && resp.StatusCode != http.StatusCreated {
			err = fmt.Errorf("set up the empty house: %s", resp.Status)
		}
		if err != nil {
			stop()
			return "", nil, err
		}
		return address, stop, resp.Body.Close()
	}
	stop()
	return "", nil, fmt.Errorf("the empty house did not start: %w", lines.Err())
}
