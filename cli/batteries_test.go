package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/client"
	"usherbench/demo"
	"usherbench/service/servicetest"
)

// at runs the command line on the data of a house.
func at(t *testing.T, h *servicetest.House, args ...string) (code int, out, errOut string) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	code = Run(t.Context(), append([]string{"--data", h.Data}, args...), strings.NewReader(""), &stdout, &stderr)
	return code, stdout.String(), stderr.String()
}

// good runs a command that must go well; what it prints as JSON goes into v, if v is not nil.
func good(t *testing.T, h *servicetest.House, v any, args ...string) string {
	t.Helper()
	if v != nil {
		args = append([]string{"--json"}, args...)
	}
	code, out, errOut := at(t, h, args...)
	require.Equal(t, 0, code, "%v: %s", args, errOut)
	if v != nil {
		require.NoError(t, json.Unmarshal([]byte(out), v), out)
	}
	return out
}

func begins(t *testing.T, file, with string) {
	t.Helper()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(text, []byte(with)), "%s begins with %q", file, text[:min(len(text), 40)])
}

// Two chargers stand beside each other, contract by contract, in the terminal and on paper.
func TestTwoChargersStandBesideEachOther(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	require.NoError(t, chargerHistory(h.Running.Store, time.Now()))
	var runs []api.RunSummary
	good(t, h, &runs, "runs", "--procedure", "petrel-contracts")
	require.Len(t, runs, 2)
	beside := []string{"overlay", runs[1].ID, runs[0].ID, "--half", "points", "--over", "load.amps"}
	text := good(t, h, nil, beside...)
	for _, words := range []string{"PT-703 contract 4", "DIFFERENCE", "Trip level contract 2, trip", "5 objects",
		"● +1.6"} {
		assert.Contains(t, text, words)
	}
	assert.NotContains(t, text, "SPREAD", "of two runs every value is shown")
	file := filepath.Join(t.TempDir(), "chargers.pdf")
	good(t, h, nil, append(beside, "--report", file)...)
	begins(t, file, "%PDF")
}

func TestALotIsOverlaidMatchedAndPrinted(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	require.NoError(t, batteryHistory(h.Running.Store, time.Now()))
	folder := t.TempDir()

	var m api.Matching
	good(t, h, &m, "match", "--lot", cellLot, "--size", "7")
	require.Len(t, m.Groups, 3)
	assert.Len(t, m.Rejects, 3)
	assert.Less(t, m.Score, m.Sorted)
	text := good(t, h, nil, "match", "--lot", cellLot, "--size", "7")
	for _, words := range []string{"GROUP", m.Groups[0].Cells[0].Serial, "× " + m.Rejects[0].Serial,
		fmt.Sprintf("Score %.2f; groups cut from the list sorted by capacity have %.2f", m.Score, m.Sorted)} {
		assert.Contains(t, text, words)
	}
	var again, byCapacity api.Matching
	good(t, h, &again, "match", "--lot", cellLot, "--size", "7")
	assert.Equal(t, m, again, "the same seed finds the same groups")
	good(t, h, &byCapacity, "match", "--lot", cellLot, "--size", "7", "--resistance", "0", "--curve", "0")
	for _, g := range byCapacity.Groups {
		assert.Less(t, g.CapacitySpread, 2.0, "when only capacity counts, it is close")
	}
	labels := filepath.Join(folder, "labels.pdf")
	good(t, h, nil, "match", "--lot", cellLot, "--size", "7", "--labels", labels)
	begins(t, labels, "%PDF")

	text = good(t, h, nil, "overlay", "--lot", cellLot, "--over", "charge", "--most", "6")
	for _, words := range []string{"over charge", "24 curves; the band is widest at", "Capacity", "FROM GC-001"} {
		assert.Contains(t, text, words)
	}
	var o api.Overlay
	good(t, h, &o, "overlay", "--lot", cellLot, "--over", "charge", "--most", "6")
	drawn := 0
	for _, c := range o.Curves {
		if c.Drawn {
			drawn++
		}
	}
	assert.Len(t, o.Curves, 24)
	assert.Equal(t, 6, drawn)
	file := filepath.Join(folder, "curves.csv")
	good(t, h, nil, "overlay", "--lot", cellLot, "--over", "state", "--csv", file)
	text0, err := os.Open(file)
	require.NoError(t, err)
	defer text0.Close()
	rows, err := csv.NewReader(text0).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, "label", rows[0][0])
	assert.Greater(t, len(rows), 24*50)
	good(t, h, nil, "overlay", "--lot", cellLot, "--over", "charge", "--report", filepath.Join(folder, "overlay.pdf"))
	begins(t, filepath.Join(folder, "overlay.pdf"), "%PDF")

	// The pack that had lain for years, before and after.
	runs, err := h.Local.Runs(t.Context(), client.RunFilter{Serial: demo.SleepyPack, Procedure: "gannet-capacity"})
	require.NoError(t, err)
	require.Len(t, runs, 2)
	text = good(t, h, nil, "overlay", "--before", runs[1].ID, "--after", runs[0].ID, "--over", "charge")
	assert.Regexp(t, `● .*Capacity.*`, text, "what it gained is more than chance")

	for want, args := range map[string][]string{
		"too few cells": {"match", "--lot", cellLot, "--size", "30"},
		"not found":     {"match", "--lot", "nobody", "--size", "7"},
		"The request is wrong: over is \"hope\"; choose time, charge, state, cycle": {"overlay", "--lot", cellLot, "--over",
			"hope"},
	} {
		code, _, errOut := at(t, h, args...)
		assert.Equal(t, 1, code, args)
		assert.Contains(t, errOut, want, args)
	}
	code, _, errOut := at(t, h, "match", "--lot", cellLot)
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "--size")
}

func TestALogIsImportedAndItsColumnsAreRemembered(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	text, err := demo.ChargerLog()
	require.NoError(t, err)
	folder := t.TempDir()
	file := filepath.Join(folder, "deck.csv")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))

	out := good(t, h, nil, "import", file, "--look")
	for _, words := range []string{"As guessed", "U_bat [V]", "mA", "clock"} {
		assert.Contains(t, out, words)
	}
	out = good(t, h, nil, "import", file, "--serial", "GP-306", "--nameplate", "gannet", "--source", "deck charger",
		"--discharge-is", "positive", "--began", "2026-11-02 06:00")
	for _, words := range []string{"GP-306", "Stages of the charger", "bulk", "absorption", "charge-factor", "1.00"} {
		assert.Contains(t, out, words)
	}
	assert.Contains(t, good(t, h, nil, "import", file, "--look", "--source", "deck charger"),
		"As remembered of deck charger; a discharge has positive amps")
	var doc api.Run
	good(t, h, &doc, "import", file, "--serial", "GP-307", "--nameplate", "gannet", "--source", "deck charger")
	assert.Equal(t, "GP-307", doc.Serial)

	for _, name := range []string{"log.csv", "log.parquet", "log.xlsx"} {
		good(t, h, nil, "export", doc.ID, "--layout", "battery", "-o", filepath.Join(folder, name))
	}
	begins(t, filepath.Join(folder, "log.csv"), "time")
	begins(t, filepath.Join(folder, "log.parquet"), "PAR1")
	begins(t, filepath.Join(folder, "log.xlsx"), "PK")

	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{2, "say of which unit", []string{"import", file}},
		{2, "write it like", []string{"import", file, "--serial", "GP-308", "--began", "yesterday"}},
		{1, "U_batt", []string{"import", file, "--serial", "GP-308", "--volts", "U_batt:V"}},
		{1, "no such file", []string{"import", filepath.Join(folder, "none.csv"), "--serial", "GP-308"}},
		{1, "not found", []string{"import", file, "--serial", "GP-308", "--nameplate", "curlew"}},
	} {
		code, _, errOut := at(t, h, c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errOut)
		assert.Contains(t, errOut, c.want, c.args)
	}
}

func TestALineIsFilledSeenAndChanged(t *testing.T) {
	h := servicetest.Start(t, servicetest.Options{Sockets: true})
	assert.Contains(t, good(t, h, nil, "queue"), "Nothing waits.")
	var waiting []api.Waiting
	good(t, h, &waiting, "queue", "add", "tern-soak", "--bays", "bay1", "--serials", "TN-098..TN-101,TN-200", "--lot",
		"T-1", "--at", "2030-01-01 22:00", "--param", "soak=1min")
	var serials []string
	for _, w := range waiting {
		serials = append(serials, w.Serial)
	}
	assert.Equal(t, []string{"TN-098", "TN-099", "TN-100", "TN-101", "TN-200"}, serials)
	out := good(t, h, nil, "queue", "--bay", "bay1")
	assert.Contains(t, out, "from 2030-01-01 22:00")
	assert.Contains(t, good(t, h, nil, "queue", "remove", fmt.Sprint(waiting[4].ID)), "is out of the line")
	assert.Contains(t, good(t, h, nil, "run", "tern-soak", "--bay", "bay1", "--serial", "TN-300", "--at",
		"2030-01-02 06:00"), "begins in bay1 at 2030-01-02 06:00")
	good(t, h, &waiting, "queue")
	assert.Len(t, waiting, 5)

	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{2, "counts up from one number to another", []string{"queue", "add", "tern-soak", "--bays", "bay1", "--serials",
			"TN-9..TN-2"}},
		{2, "write it like 22:00", []string{"queue", "add", "tern-soak", "--bays", "bay1", "--serials", "TN-9", "--at",
			"soon"}},
		{2, "is no number of a run in line", []string{"queue", "release", "first"}},
		{2, "--vouch does not go with --at", []string{"run", "tern-soak", "--bay", "bay1", "--serial", "TN-300", "--at",
			"22:00", "--vouch", "cells"}},
		{1, "not found", []string{"queue", "remove", "999"}},
		{1, "not found", []string{"queue", "add", "no-such", "--bays", "bay1", "--serials", "TN-9"}},
		{1, "needs bays, serial numbers and procedures", []string{"queue", "add", "tern-soak", "--serials", "TN-9"}},
	} {
		code, _, errOut := at(t, h, c.args...)
		assert.Equal(t, c.code, code, "%v: %s", c.args, errOut)
		assert.Contains(t, errOut, c.want, c.args)
	}
}

func TestAHeldRunNamesItsRemedy(t *testing.T) {
	var out bytes.Buffer
	a := &app{out: &out}
	when := time.Date(2026, 3, 31, 22, 0, 0, 0, time.Local)
	require.NoError(t, a.printQueue([]api.Waiting{
		{ID: 3, Bay: "bay1", Serial: "GP-1", Procedure: "p", By: "ada", Held: "look at the label", Asks: []string{"cells"}},
		{ID: 4, Bay: "bay1", Serial: "GP-2", Procedure: "p", By: "ada"},
		{ID: 5, Bay: "bay1", Serial: "GP-3", Procedure: "p", By: "ada", NotBefore: &when},
	}))
	for _, words := range []string{"held, see below",
		"3 is held: look at the label\n   → who has looked vouches for it with: usher queue release 3", "in its turn",
		"from 2026-03-31 22:00"} {
		assert.Contains(t, out.String(), words)
	}
	assert.Equal(t, "count cells (usher run … --vouch cells)",
		remedy(api.PreflightFinding{Check: "cells", Verdict: api.Blocks, Remedy: "count cells", Vouch: true}))
	assert.Equal(t, "turn it", remedy(api.PreflightFinding{Check: "polarity", Remedy: "turn it"}))
}
