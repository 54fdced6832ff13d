package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/chromedp"

	"usherbench/console/chromium"
)

// simulated is a house with a simulated bench of its own.
type simulated struct {
	data, url string
	stop      func()
}

// startSimulated starts a simulated bench with some layouts and a service at it, and gives it what it needs of the
// demo.
func startSimulated(parts, name, layouts, factor string, needs ...string) (*simulated, error) {
	s := &simulated{data: filepath.Join(parts, name)}
	config := filepath.Join(parts, name+".yaml")
	bench := exec.Command(binary, "simbench", "--port", "0", "--layouts", layouts, "--time-factor", factor,
		"--write-config", config, "--until-input-ends")
	end, err := bench.StdinPipe() // the bench ends with it
	if err != nil {
		return nil, err
	}
	out, err := bench.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := bench.Start(); err != nil {
		return nil, err
	}
	endBench := func() {
		_ = end.Close()
		_ = bench.Wait() // it ends as it is told
	}
	if _, err := out.Read(make([]byte, 1)); err != nil { // the configuration is written before it says anything
		endBench()
		return nil, err
	}
	go io.Copy(io.Discard, out) //nolint:errcheck // nobody reads the rest
	url, stop, err := startHouse(s.data, "--config", config)
	if err != nil {
		endBench()
		return nil, err
	}
	s.url, s.stop = url, func() { stop(); endBench() }
	for _, file := range needs {
		kind, name, _ := strings.Cut(file, " ")
		if _, err := s.usher(kind, "push", "demo/"+kind+"s/"+name+".yaml"); err != nil {
			s.stop()
			return nil, err
		}
	}
	return s, nil
}

// usher runs the command line against the house.
func (s *simulated) usher(args ...string) (string, error) {
	text, err := exec.Command(binary, append([]string{"--data", s.data}, args...)...).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("usher %s: %w: %s", strings.Join(args, " "), err, text)
	}
	return string(text), nil
}

// run runs a procedure to its end and gives the number of its run; whatever is asked is answered with yes, and of
// readings that a person takes there are as many as volts, led by hand.
func (s *simulated) run(x shown) (id string, err error) {
	procedure, bay, serial, volts := x.procedure, x.bay, x.serial, x.volts
	if _, err := s.usher("run", procedure, "--bay", bay, "--serial", serial, "--lot", x.lot); err != nil {
		return "", err
	}
	say := func(words ...string) error {
		return inTime(func() error {
			_, err := s.usher(append([]string{"answer", bay}, words...)...)
			return err
		})
	}
	if len(volts) > 0 || strings.HasPrefix(procedure, "puffin") {
		if err := say("yes"); err != nil {
			return "", err
		}
	}
	for _, v := range volts {
		err := inTime(func() error { _, err := s.usher("adjust", bay, "volts="+v); return err })
		if err != nil {
			return "", err
		}
		time.Sleep(2500 * time.Millisecond) // until it turns as it does at these
		if err := say("take"); err != nil {
			return "", err
		}
		time.Sleep(1500 * time.Millisecond) // while it is taken
	}
	if len(volts) > 0 {
		if err := say("done"); err != nil {
			return "", err
		}
	}
	for {
		out, err := s.usher("runs", "--procedure", procedure, "--serial", serial, "--json")
		if err != nil {
			return "", err
		}
		if strings.Contains(out, `"state": "done"`) {
			return regexp.MustCompile(`"id": "([^"]+)"`).FindStringSubmatch(out)[1], nil
		}
		time.Sleep(time.Second)
	}
}

// lot is the one in which a batch is tested.
const lot = "A-1"

// shown is a run that is made for its picture.
type shown struct {
	name, procedure, bay, serial string
	lot                          string
	volts                        []string
}

// runAll has bays run side by side, and gives the numbers of their runs by name.
func (s *simulated) runAll(all []shown) (map[string]string, error) {
	ids, errs := make([]string, len(all)), make([]error, len(all))
	var wg sync.WaitGroup
	for i, x := range all {
		wg.Go(func() { ids[i], errs[i] = s.run(x) })
	}
	wg.Wait()
	byName := map[string]string{}
	for i, x := range all {
		byName[x.name] = ids[i]
	}
	return byName, errors.Join(errs...)
}

// machines pictures panels, devices, machines, harnesses, drives, amplifiers and what lives on a battery on one
// picture: two panels laid over each other, a device that breaks down, readings that a person took, a hot resistance,
// two wires of a lead that are swapped, the response of a thruster, the spectra of an amplifier, the states of a node,
// and the log of a batch of amplifiers.
func machines(ctx context.Context, parts string) error {
	quick, err := startSimulated(parts, "quick", "panel,high-voltage,machine,thrust-stand,amplified", "1",
		"nameplate fulmar",
		"nameplate skua", "nameplate cormorant", "nameplate puffin", "procedure fulmar-sweep", "procedure skua-blocking",
		"procedure cormorant-routine", "procedure puffin-thrust",
		"nameplate guillemot", "procedure guillemot-acceptance")
	if err != nil {
		return err
	}
	defer quick.stop()
	ids, err := quick.runAll([]shown{{name: "breakdown", procedure: "skua-blocking", bay: "bay2", serial: "SK-1001"},
		{name: "rows", procedure: "cormorant-routine", bay: "bay3", serial: "CM-1101",
			volts: []string{"231 V", "180 V", "130 V", "90 V"}},
		{name: "thrust", procedure: "puffin-thrust", bay: "bay4", serial: "PF-1201"},
		{name: "good", procedure: "fulmar-sweep", bay: "bay1", serial: "FU-901"}})
	if err != nil {
		return err
	}
	for _, serial := range []string{"GM-1601", "GM-1602", "GM-1603"} {
		if ids["tone"], err = quick.run(shown{procedure: "guillemot-acceptance", bay: "bay5", serial: serial,
			lot: lot}); err != nil {
			return err
		}
	}
	batch := filepath.Join(parts, "batch")
	if _, err := quick.usher("lot", "log", lot, "-o", batch+".pdf"); err != nil {
		return err
	}
	if err := firstPage(batch+".pdf", batch); err != nil {
		return err
	}
	if ids["cracked"], err = quick.run(shown{procedure: "fulmar-sweep", bay: "bay1", serial: "FU-903"}); err != nil {
		return err
	}
	part := func(name string) chromium.Action { return chromium.Shot(parts, name+".png") }
	// under shows a part of a page from its top.
	under := func(selector string) chromium.Action {
		return chromium.Script(`document.querySelector('` + selector + `').scrollIntoView({block: 'start'})`)
	}
	at := func(s *simulated, id string) chromium.Action { return chromium.Visit(s.url + "/runs/" + id) }
	if err := each(ctx, []chromium.Action{
		chromedp.EmulateViewport(chromium.Width, chromium.Height), chromium.SignIn(quick.url, name, password),
		theme("light"),
		chromium.Visit(quick.url + "/overlay?runs=" + ids["good"] + "," + ids["cracked"] + "&half=points" +
			"&over=load.volts&quantity=load.amps"),
		chromium.Visible(`[data-test=overlay-chart] canvas`), hold(time.Second), part("panels"),
		at(quick, ids["breakdown"]), chromium.Visible(`[data-test=points-chart]`), hold(time.Second),
		under("[data-test=points-chart]"), hold(time.Second), part("breakdown"),
		at(quick, ids["rows"]), chromium.Visible(`[data-test=rows]`), hold(time.Second), under("[data-test=rows]"),
		hold(time.Second), part("rows"),
		at(quick, ids["thrust"]), chromium.Visible(`[data-test=points-chart]`), hold(time.Second),
		under("[data-test=points-chart]"), hold(time.Second), part("thrust"),
		at(quick, ids["tone"]), chromium.Visible(`.pictures canvas`), hold(time.Second), under(".pictures"),
		hold(time.Second), part("tone"),
	}); err != nil {
		return err
	}
	quick.stop()
	slow, err := startSimulated(parts, "slow", "machine,harness,drain", "120", "nameplate cormorant",
		"procedure cormorant-type", "nameplate lantern-lead", "procedure lantern-lead-wiring",
		"nameplate teal", "procedure teal-hour")
	if err != nil {
		return err
	}
	defer slow.stop()
	warm, err := slow.runAll([]shown{{name: "hot", procedure: "cormorant-type", bay: "bay1", serial: "CM-1101"},
		{name: "wiring", procedure: "lantern-lead-wiring", bay: "bay2", serial: "LL-1403"},
		{name: "node", procedure: "teal-hour", bay: "bay3", serial: "TL-1501"}})
	if err != nil {
		return err
	}
	if err := each(ctx, []chromium.Action{chromium.SignIn(slow.url, name, password), theme("light"),
		at(slow, warm["wiring"]), chromium.Visible(`[data-test=wiring]`), hold(time.Second), under("[data-test=wiring]"),
		hold(time.Second), part("wiring"),
		at(slow, warm["hot"]), chromium.Visible(`.pictures canvas`), hold(time.Second), under(".pictures"),
		hold(time.Second), part("hot"),
		at(slow, warm["node"]), chromium.Visible(`.chart canvas`), hold(time.Second), under(".chart"), hold(time.Second),
		part("node")}); err != nil {
		return err
	}
	return beside(ctx, parts, "machines.png", []string{"panels", "breakdown", "rows", "hot", "wiring", "thrust",
		"tone", "node", "batch"}, "height:520px", 2516, 1580)
}
