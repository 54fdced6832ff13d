package main

import (
	"context"
	"path/filepath"
	"time"

	"usherbench/console/chromium"
)

// families pictures units at the mains, on one picture: chargers contract by contract and the thermal pictures of a
// back-up supply, which lie in a folder, that supply at full power, and the report of a standby power.
func families(ctx context.Context, parts string) error {
	house, err := startSimulated(parts, "mains", "recirculated,mains", "60", "nameplate kittiwake", "nameplate eider",
		"procedure kittiwake-recirculated", "procedure eider-standby")
	if err != nil {
		return err
	}
	defer house.stop()
	usher := func(args ...string) error {
		_, err := house.usher(args...)
		return err
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
		chromium.Size(chromium.Width, 1100), chromium.SignIn(house.url, name, password), theme("light"),
		chromium.Visit(house.url + "/bays/bay1"), chromium.Visible(`[data-test=readouts]`), chromium.Visible(`canvas`),
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
