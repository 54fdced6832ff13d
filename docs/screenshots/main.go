// Command screenshots makes the pictures in this folder from the demo scenario: views of the console in
// Chromium, a page of a report, and terminal views. It is run by: make screenshots.
package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"usherbench/console/chromium"
)

const (
	folder   = "docs/screenshots"
	binary   = "bin/usher"
	name     = "demo"
	password = "harbour lantern"
)

func main() {
	do := run
	if len(os.Args) > 1 {
		do = func() error { return every(os.Args[1]) }
	}
	if err := do(); err != nil {
		log.Fatal(err)
	}
}

func run() error {
	data, err := os.MkdirTemp("", "usher-pictures-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	ctx, cancel := chromium.Open(context.Background())
	defer cancel()
	if err := batteries(ctx, filepath.Join(data, "battery")); err != nil {
		return fmt.Errorf("batteries: %w", err)
	}
	if err := families(ctx, data); err != nil {
		return fmt.Errorf("families: %w", err)
	}
	if err := machines(ctx, data); err != nil {
		return fmt.Errorf("machines: %w", err)
	}
	url, stop, err := startDemo(data, 1)
	if err != nil {
		return err
	}
	defer stop()
	steps := []func() error{
		func() error { return console(ctx, url, data) },
		func() error { return terminalViews(ctx, data) },
		func() error { return againstRehearsal(ctx, url) },
		func() error { return captured(ctx, url) },
		func() error { return production(ctx, url, data) },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// startDemo starts the demo and waits until its runs are under way.
func startDemo(data string, factor int) (url string, stop func(), err error) {
	cmd := exec.Command(binary, "demo", "--listen", "127.0.0.1:0", "--data", data, "--time-factor", strconv.Itoa(factor))
	cmd.Stderr = os.Stderr
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
		if rest, ok := strings.CutPrefix(lines.Text(), "Usher Bench serves "); ok {
			go io.Copy(io.Discard, out) //nolint:errcheck // nobody reads the rest
			return rest, stop, nil
		}
	}
	stop()
	return "", nil, fmt.Errorf("the demo did not start: %w", lines.Err())
}

// fast is the speed of the bench on which a charge is pictured.
const fast = 60

// batteries pictures a charge under way, the lot of cells, and the pack that was conditioned, with the first page of
// its report; and, beside that report, two chargers and the thermal pictures of a back-up supply.
func batteries(ctx context.Context, report string) error {
	data, err := os.MkdirTemp("", "usher-pictures-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	url, stop, err := startDemo(data, fast)
	if err != nil {
		return err
	}
	defer stop()
	usher := func(args ...string) ([]byte, error) {
		return exec.Command(binary, append([]string{"--data", data}, args...)...).CombinedOutput()
	}
	out, err := usher("runs", "--procedure", "gannet-conditioning", "--json")
	found := regexp.MustCompile(`"id": "([^"]+)"`).FindSubmatch(out)
	if err != nil || found == nil {
		return fmt.Errorf("the demo has no conditioned pack: %w: %s", err, out)
	}
	out, err = usher("runs", "--procedure", "petrel-contracts", "--json")
	pair := regexp.MustCompile(`"id": "([^"]+)"`).FindAllSubmatch(out, 2)
	if err != nil || len(pair) < 2 {
		return fmt.Errorf("the demo has no two chargers: %w: %s", err, out)
	}
	out, err = usher("runs", "--procedure", "kittiwake-recirculated", "--serial", "KW-801", "--json")
	supply := regexp.MustCompile(`"id": "([^"]+)"`).FindSubmatch(out)
	if err != nil || supply == nil {
		return fmt.Errorf("the demo has no back-up supply: %w: %s", err, out)
	}
	parts := filepath.Dir(report)
	chargers := string(pair[1][1]) + "," + string(pair[0][1]) // the good one first
	pdf := filepath.Join(data, "battery.pdf")
	if out, err := usher("report", string(found[1]), "-o", pdf); err != nil {
		return fmt.Errorf("report: %w: %s", err, out)
	}
	if err := firstPage(pdf, report); err != nil {
		return err
	}
	return each(ctx, []chromium.Action{
		chromedp.EmulateViewport(chromium.Width, chromium.Height), chromium.SignIn(url, name, password), theme("light"),
		aside(func() error {
			for { // the pulses end first
				out, err := usher("run", "gannet-capacity", "--bay", "bay3", "--serial", "GP-304")
				if err == nil || !strings.Contains(string(out), "busy") {
					return err
				}
				time.Sleep(time.Second)
			}
		}),
		chromium.Visit(url + "/bays/bay3"), chromium.Visible(`[data-test=readouts]`), chromium.Visible(`canvas`),
		hold(55 * time.Second), shot("bay-charge.png"),
		chromium.Visit(url + "/overlay?lot=C-2026-11&over=charge&most=12"),
		chromium.Visible(`[data-test=overlay-chart] canvas`), chromedp.EmulateViewport(chromium.Width, 1100),
		hold(time.Second), shot("overlay.png"),
		chromium.Visit(url + "/overlay?runs=" + chargers + "&half=points&over=load.amps&quantity=contract.volts"),
		chromium.Visible(`[data-test=pairs]`), hold(time.Second),
		chromium.Script(`document.querySelector('[data-test=overlay-chart]').scrollIntoView()`),
		chromium.Shot(parts, "chargers.png"),
		chromium.Visit(url + "/runs/" + string(supply[1])), chromium.Visible(`[data-test=attachment]`), hold(time.Second),
		chromium.Script(`document.querySelector('[data-test=strip]').scrollIntoView({block: 'end'})`), hold(time.Second),
		chromium.Shot(parts, "strip.png"),
		chromium.Visit(url + "/cells?lot=C-2026-11&size=7"), chromium.Visible(`[data-test=group]`), hold(time.Second),
		shot("cells.png"),
		chromedp.EmulateViewport(chromium.Width, chromium.Height), chromium.Visit(url + "/runs/" + string(found[1])),
		chromium.Visible(`[data-test=table-cycle-table]`), hold(time.Second), shot("cycles.png"),
	})
}

func shot(file string) chromium.Action { return chromium.Shot(folder, file) }

// hold gives live views time to show a few more frames.
func hold(d time.Duration) chromium.Action { return chromedp.Sleep(d) }

func theme(value string) chromium.Action {
	return chromedp.Evaluate[chromedp.Void](`localStorage.setItem("theme", "` + value + `")`)
}

func console(ctx context.Context, url, data string) error {
	actions := []chromium.Action{
		chromedp.EmulateViewport(chromium.Width, chromium.Height),
		chromedp.Navigate(url), chromium.Visible(`input[name=name]`), theme("light"), chromedp.Reload(),
		chromium.Visible(`input[name=name]`),
		chromium.Type(`input[name=name]`, name), chromium.Type(`input[name=password]`, password),
		chromium.Click(`button[type=submit]`), chromium.Visible(`[data-bay=bay1]`), hold(20 * time.Second), shot("floor.png"),
		theme("dark"), chromedp.Navigate(url + "/bays/bay1"), chromium.Visible(`[data-test=readouts]`),
		chromium.Visible(`canvas`), hold(4 * time.Second), shot("bay-live.png"),
		theme("light"), chromedp.Navigate(url + "/runs"), chromium.Visible(`[data-test=runs] tbody tr`), shot("runs.png"),
		// A procedure is made from another one: a stage that plays, and its shape.
		chromedp.Navigate(url + "/procedures/tern-dip?from=tern-load-steps"), chromium.Visible(`[data-test=sound]`),
		chromium.Click(`[data-test=add-stage]`), chromium.Visible(`.kinds`),
		chromium.Script(`[...document.querySelectorAll('.kinds button')].find(` +
			`(b) => b.textContent.startsWith('play')).click()`),
		chromium.Until(`document.querySelectorAll('ol li').length === 3`),
		chromium.Click(`[data-test=tab-shapes]`), chromium.Visible(`[data-test=handle]`), hold(time.Second),
		shot("editor.png"),
		chromedp.Navigate(url + "/bench"), chromium.Visible(`[data-test=instruments] tbody tr`), hold(time.Second),
		shot("bench.png"),
		// The run in bay 1 takes about 40 s; its figures are there when the bay is idle again.
		chromedp.Navigate(url + "/bays/bay1"), chromium.Visible(`[data-test=ended]`), hold(time.Second),
		aside(func() error { return protect(data, "50", "2026-09-30") }),
		chromium.Type(`input[name=serial]`, "TN-2214"), chromium.Click(`[data-test=preflight]`),
		chromium.Visible(`[data-test=findings]`), hold(time.Second), shot("preflight.png"),
		aside(func() error { return protect(data, "88", "2027-03-16") }),
		chromedp.Navigate(url + "/bays/bay1/manual"), chromium.Visible(`input[name="source.volts"]`),
		chromium.Fill(`input[name="source.volts"]`, "48"),
		chromium.Fill(`input[name="source.amps"]`, "2"), hold(500 * time.Millisecond),
		chromium.Click(`[data-test=output-on]`), chromium.Visible(`[data-test=confirm-on]`),
		chromium.Click(`[data-test=confirm-on]`), hold(time.Second), chromium.Click(`[data-test=take-over]`),
		chromium.Visible(`[data-test=taken]`), hold(time.Second), shot("manual.png"),
		chromium.Click(`[data-test=output-off]`), hold(500 * time.Millisecond), chromedp.Navigate(url + "/bays/bay1"),
		chromium.Visible(`[data-test=ended]`),
		chromium.Click(`[data-test=ended] a`), chromium.Visible(`[data-test=figures]`), chromium.Visible(`canvas`),
		hold(time.Second), shot("run.png"),
	}
	return each(ctx, actions)
}

// each carries out steps one by one, so that one which cannot be done is named instead of waited for.
func each(ctx context.Context, actions []chromium.Action) error {
	if err := chromium.Do(ctx); err != nil { // starts the browser, which must not end with the time of a step
		return err
	}
	for i, action := range actions {
		limited, cancel := context.WithTimeout(ctx, 75*time.Second)
		err := chromedp.Do(limited, action)
		cancel()
		if err != nil {
			_ = chromedp.Do(ctx, chromium.Shot(os.TempDir(), "usher-step.png"))
			return fmt.Errorf("step %d: %w", i, err)
		}
	}
	return nil
}

// againstRehearsal shows the newest run beside what its rehearsal foretold.
func againstRehearsal(ctx context.Context, url string) error {
	return chromedp.Do(ctx, chromedp.EmulateViewport(chromium.Width, 1500), chromedp.Navigate(url), theme("light"),
		chromedp.Navigate(url+"/runs"), chromium.Visible(`[data-test=runs] tbody tr`),
		chromium.Script(`[...document.querySelectorAll('[data-test=runs] tbody tr')].find((r) => `+
			`r.textContent.includes('TN-2213') && r.textContent.includes('tern-line-load')).click()`),
		chromium.Visible(`[data-test=deviations]`), chromium.Click(`[data-test=foretold]`), hold(2*time.Second),
		shot("deviations.png"), chromedp.EmulateViewport(chromium.Width, chromium.Height))
}

// captured shows the load steps of a unit that rings, one over the other, and below them its efficiency map.
func captured(ctx context.Context, url string) error {
	const button = `[...document.querySelectorAll('[data-test=captures] .list button')].find((b) => ` +
		`b.innerText.includes('%s')).dispatchEvent(new MouseEvent('click', {shiftKey: %t, bubbles: true}))`
	return chromedp.Do(ctx, chromedp.EmulateViewport(chromium.Width, 2*chromium.Height), chromedp.Navigate(url),
		theme("light"), chromedp.Navigate(url+"/runs"), chromium.Visible(`[data-test=runs] tbody tr`),
		chromium.Script(`[...document.querySelectorAll('[data-test=runs] tbody tr')].find((r) => `+
			`r.textContent.includes('TN-2220') && r.textContent.includes('tern-validation')).click()`),
		chromium.Visible(`[data-test=captures] canvas`), chromium.Script(fmt.Sprintf(button, "load step up, 1", false)),
		chromium.Script(fmt.Sprintf(button, "load step down, 1", true)), hold(2*time.Second),
		chromium.Script(`document.querySelector('[data-test=captures]').scrollIntoView()`), hold(time.Second),
		shot("captures.png"))
}

func terminalViews(ctx context.Context, data string) error {
	self, err := filepath.Abs(binary)
	if err != nil {
		return err
	}
	link := filepath.Join(data, "bin")
	if err := os.MkdirAll(link, 0o700); err != nil {
		return err
	}
	if err := os.Symlink(self, filepath.Join(link, "usher")); err != nil {
		return err
	}
	prepare := fmt.Sprintf("cd %s; PATH=%s:$PATH; export USHER_DATA=%s; clear; ", data, link, data)
	start := exec.Command(binary, "--data", data, "run", "tern-line-load", "--bay", "bay1", "--serial", "TN-2212")
	if out, err := start.CombinedOutput(); err != nil {
		return fmt.Errorf("start a run: %w: %s", err, out)
	}
	parts := filepath.Join(data, "terminal")
	if err := os.MkdirAll(parts, 0o700); err != nil {
		return err
	}
	if err := terminal(ctx, parts, "watch.png", prepare+"usher watch bay1", 140, 42, 24*time.Second); err != nil {
		return err
	}
	failed := exec.Command(binary, "--data", data, "run", "tern-line-load", "--bay", "bay1", "--serial", "TN-2213",
		"--follow")
	for failed.ProcessState == nil {
		out, err := failed.CombinedOutput()
		if err == nil || failed.ProcessState.ExitCode() == 3 {
			break
		}
		if code := failed.ProcessState.ExitCode(); code != 5 && !strings.Contains(string(out), "busy") {
			return fmt.Errorf("run a faulty unit: %w: %s", err, out)
		}
		time.Sleep(2 * time.Second)
		failed = exec.Command(failed.Path, failed.Args[1:]...)
	}
	show := prepare + "usher show last; usher runs --limit 8"
	if err := terminal(ctx, parts, "show.png", show, 140, 32, 2*time.Second); err != nil {
		return err
	}
	return beside(ctx, parts, "terminal.png", []string{"show", "watch"}, "49.7%", 2560, 810)
}

// protect sets the over-voltage protection of bay 1's supply, past the service, and the date until which it is
// calibrated, so that a preflight has something to find.
func protect(data, level, due string) error {
	out, err := exec.Command(binary, "--data", data, "bench", "--json").Output()
	if err != nil {
		return err
	}
	address := regexp.MustCompile(`"name": "supply1",\s*"address": "tcp://([^"]+)"`).FindSubmatch(out)
	if address == nil {
		return fmt.Errorf("the demo has no supply1")
	}
	conn, err := net.Dial("tcp", string(address[1]))
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.Write([]byte("VOLT:PROT " + level + "\n*OPC?\n")); err != nil {
		return err
	}
	if _, err := conn.Read(make([]byte, 8)); err != nil {
		return err
	}
	return exec.Command(binary, "--data", data, "bench", "add", "supply1", "tcp://"+string(address[1]), "--due", due).Run()
}

// aside does something outside of the browser between two steps.
func aside(do func() error) chromium.Action {
	return func(context.Context, *chromedp.Target) (chromedp.Void, error) { return chromedp.Void{}, do() }
}

// firstPage makes a picture of the first page of a document.
func firstPage(pdf, page string) error {
	if out, err := exec.Command("pdftoppm", "-r", "100", "-png", "-singlefile", pdf, page).CombinedOutput(); err != nil {
		return fmt.Errorf("pdftoppm: %w: %s", err, out)
	}
	return nil
}
