package main

import (
	"context"
	"fmt"
	"io"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"usherbench/console/chromium"
)

// families pictures units at the mains, on one picture: chargers contract by contract and the thermal pictures of a
// back-up supply, which lie in a folder, that supply at full power, and the report of a standby power.
func families(ctx context.Context, parts string) error {
	data := filepath.Join(parts, "mains")
	config := filepath.Join(parts, "mains.yaml")
	bench := exec.Command(binary, "simbench", "--port", "0", "--layouts", "recirculated,mains", "--time-factor", "60",
		"--write-config", config, "--until-input-ends")
	end, err := bench.StdinPipe() // the bench ends with it
	if err != nil {
		return err
	}
	out, err := bench.StdoutPipe()
	if err != nil {
		return err
	}
	if err := bench.Start(); err != nil {
		return err
	}
	defer bench.Wait() //nolint:errcheck // it ends as it is told
	defer end.Close()
	if _, err := out.Read(make([]byte, 1)); err != nil { // the configuration is written before it says anything
		return err
	}
	go io.Copy(io.Discard, out) //nolint:errcheck // nobody reads the rest
	url, stop, err := startHouse(data, "--config", config)
	if err != nil {
		return err
	}
	defer stop()
	usher := func(args ...string) error {
		text, err := exec.Command(binary, append([]string{"--data", data}, args...)...).CombinedOutput()
		if err != nil {
			return fmt.Errorf("usher %s: %w: %s", strings.Join(args, " "), err, text)
		}
		return nil
	}
	for _, file := range []string{"nameplate kittiwake", "nameplate eider", "procedure kittiwake-recirculated",
		"procedure eider-standby"} {
		kind, name, _ := strings.Cut(file, " ")
		if err := usher(kind, "push", "demo/"+kind+"s/"+name+".yaml"); err != nil {
			return err
		}
	}
	if err := usher("run", "kittiwake-recirculated", "--bay", "bay1", "--serial", "KW-805"); err != nil {
		return err
	}
	for range 2 { // the bypass, and the transfer
		if err := inTime(func() error { return usher("answer", "bay1", "yes") }); err != nil {
			return err
		}
	}
	err = each(ctx, []chromium.Action{
		chromium.Size(chromium.Width, 1100), chromium.SignIn(url, name, password), theme("light"),
		chromium.Visit(url + "/bays/bay1"), chromium.Visible(`[data-test=readouts]`), chromium.Visible(`canvas`),
		hold(9 * time.Second), chromium.Shot(parts, "live.png"),
		aside(func() error { return usher("run", "eider-standby", "--bay", "bay2", "--serial", "ED-502", "--follow") }),
		aside(func() error { return usher("report", "last", "-o", filepath.Join(parts, "standby.pdf")) }),
		aside(func() error { return firstPage(filepath.Join(parts, "standby.pdf"), filepath.Join(parts, "standby")) }),
	})
	if err != nil {
		return err
	}
	return beside(ctx, parts, "families.png", []string{"chargers", "strip", "live", "standby"}, "height:640px", 1510, 1296)
}

// inTime tries something until it can be done.
func inTime(do func() error) (err error) {
	for range 200 {
		if err = do(); err == nil {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return err
}
