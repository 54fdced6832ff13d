package simbench

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"usherbench/simbench/plant"
)

var crosspointKind = standIn{"crosspoint", slices.Concat(anyFault, textFault)}

// What a crosspoint can do: the terminals that it has, the most that it can tell, Ω, and how many pairs it takes at a
// time.
const (
	terminals   = 128
	mostScanned = 100e6
	mostPairs   = 64
)

// crosspoint joins an ohmmeter to any two of its terminals.
type crosspoint struct {
	interpreter
	fixture *fixture
	chosen  [][2]int
	ranges  []drawn // as its dialect has them, each to so many ohms
}

// scannedTo are the ends of its ranges, Ω.
var scannedTo = []float64{100, 1e6, mostScanned}

func newCrosspoint(serial string, ideal bool, f *fixture) *crosspoint {
	c := &crosspoint{fixture: f}
	c.health = newHealth()
	c.identity = "Usher Bench,SIM-X1," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	for _, m := range []channelModel{scannedContact, scannedOhms, scannedIsolation} {
		c.ranges = append(c.ranges, errors.draw(m))
	}
	c.reset = func() { c.chosen = nil }
	c.on("ROUTe:SCAN", func(args []string, _ int) error { return c.choose(args[0]) },
		func(int) (string, error) { return strconv.Itoa(len(c.chosen)), nil })
	c.on("READ:FRESistance", nil, func(int) (string, error) {
		var read []string
		for _, p := range c.chosen {
			read = append(read, c.read(c.fixture.between(p[0], p[1])))
		}
		return strings.Join(read, ","), nil
	})
	return c
}

// choose takes a list of pairs as SCPI writes channels: (@1!2,3!4).
func (c *crosspoint) choose(list string) error {
	list, ok := strings.CutPrefix(strings.TrimSpace(list), "(@")
	list, closed := strings.CutSuffix(list, ")")
	if !ok || !closed {
		return errParameter
	}
	var chosen [][2]int
	for _, pair := range strings.Split(list, ",") {
		var a, b int
		if n, err := fmt.Sscanf(strings.TrimSpace(pair), "%d!%d", &a, &b); n != 2 || err != nil {
			return errParameter
		}
		if min(a, b) < 1 || max(a, b) > terminals || a == b || len(chosen) == mostPairs {
			return errRange
		}
		chosen = append(chosen, [2]int{a - 1, b - 1})
	}
	c.chosen = chosen
	return nil
}

func (c *crosspoint) read(ohms float64) string {
	for i, to := range scannedTo {
		if ohms <= to {
			return c.shown(c.ranges[i], ohms)
		}
	}
	return isOver
}

// between is the resistance between two terminals at the unit, exactly.
func (f *fixture) between(a, b int) float64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	if w, ok := f.unit.(plant.Wired); ok {
		return w.Between(a, b)
	}
	return math.Inf(1)
}

func (b *Bench) addCrosspoint(j joint) error {
	c := newCrosspoint(fmt.Sprintf("X1-%04d", 2500+j.number), b.options.Ideal, j.fixture)
	name := fmt.Sprintf("crosspoint%d", j.number)
	j.wiring.Seats["crosspoint"] = []Channel{{name, 1}}
	return b.listen(name, crosspointKind, c.health, &c.interpreter)
}
