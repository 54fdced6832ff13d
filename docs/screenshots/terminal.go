package main

import (
	"context"
	"encoding/base64"
	"fmt"
	"html"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"usherbench/console/chromium"
)

// terminal runs a command in tmux for a while and draws what the terminal shows into a file of a folder.
func terminal(ctx context.Context, to, file, command string, columns, rows int, wait time.Duration) error {
	session := "usher-pictures"
	tmux := func(args ...string) ([]byte, error) { return exec.Command("tmux", args...).CombinedOutput() }
	if out, err := tmux("new-session", "-d", "-s", session, "-x", fmt.Sprint(columns), "-y", fmt.Sprint(rows), "-e",
		"COLORTERM=truecolor", "-e", "TERM=tmux-256color", "-e", "PS1=$ ", "sh"); err != nil {
		return fmt.Errorf("tmux: %w: %s", err, out)
	}
	defer tmux("kill-session", "-t", session) //nolint:errcheck // it may have ended
	if out, err := tmux("send-keys", "-t", session, command, "Enter"); err != nil {
		return fmt.Errorf("tmux: %w: %s", err, out)
	}
	time.Sleep(wait)
	text, err := tmux("capture-pane", "-t", session, "-p", "-e")
	if err != nil {
		return fmt.Errorf("tmux: %w", err)
	}
	page := `<meta charset="utf-8"><style>body{margin:0;background:#101c1c;color:#e9f0ec;padding:18px ` +
		`22px;font:14px/1.32 "DejaVu Sans Mono",monospace;white-space:pre}</style>` + toHTML(string(text))
	return chromedp.Do(ctx, chromedp.Navigate("data:text/html;base64,"+base64.StdEncoding.EncodeToString([]byte(page))),
		hold(300*time.Millisecond), chromium.Shot(to, file))
}

var colorSequence = regexp.MustCompile("\x1b\\[([0-9;]*)m")

// basicColors are the first sixteen colours of a terminal.
var basicColors = strings.Fields("#1d2a2b #ff9d92 #58d3ac #f0b75a #5fb8ee #d999c0 #7fd0d0 #e9f0ec #5b6a6b #ff9d92 " +
	"#58d3ac #f3b33d #5fb8ee #d999c0 #7fd0d0 #ffffff")

// toHTML draws text with colour sequences, as far as tmux writes them.
func toHTML(text string) string {
	var b strings.Builder
	open, last := false, 0
	for _, m := range colorSequence.FindAllStringSubmatchIndex(text, -1) {
		b.WriteString(html.EscapeString(text[last:m[0]]))
		last = m[1]
		if open {
			b.WriteString("</span>")
		}
		b.WriteString(`<span style="` + style(text[m[2]:m[3]]) + `">`)
		open = true
	}
	b.WriteString(html.EscapeString(text[last:]))
	if open {
		b.WriteString("</span>")
	}
	return b.String()
}

// current is the style that the sequences so far have set; tmux writes only what changes.
var current struct{ color, weight string }

func style(sequence string) string {
	codes := strings.Split(sequence, ";")
	for i := 0; i < len(codes); i++ {
		n, _ := strconv.Atoi(codes[i])
		switch {
		case n == 0:
			current.color, current.weight = "", ""
		case n == 1:
			current.weight = "bold"
		case n == 22:
			current.weight = ""
		case n == 39:
			current.color = ""
		case n >= 30 && n <= 37:
			current.color = basicColors[n-30]
		case n >= 90 && n <= 97:
			current.color = basicColors[n-82]
		case n == 38 && i+4 < len(codes) && codes[i+1] == "2":
			current.color = fmt.Sprintf("rgb(%s,%s,%s)", codes[i+2], codes[i+3], codes[i+4])
			i += 4
		case n == 38 && i+2 < len(codes) && codes[i+1] == "5":
			current.color = palette256(codes[i+2])
			i += 2
		}
	}
	return "color:" + current.color + ";font-weight:" + current.weight
}

// palette256 is a colour of the extended palette: sixteen basic ones, a cube of 6×6×6, and greys.
func palette256(code string) string {
	n, _ := strconv.Atoi(code)
	switch {
	case n < 16:
		return basicColors[n]
	case n >= 232:
		grey := 8 + 10*(n-232)
		return fmt.Sprintf("rgb(%d,%d,%d)", grey, grey, grey)
	}
	level := func(x int) int {
		if x == 0 {
			return 0
		}
		return 55 + 40*x
	}
	n -= 16
	return fmt.Sprintf("rgb(%d,%d,%d)", level(n/36), level(n/6%6), level(n%6))
}
