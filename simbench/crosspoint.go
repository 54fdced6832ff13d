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

// What a crosspoint can do: the terminals that each of its halves has, the most that it can tell, Ω, and how many
// pairs it takes at a time.
const (
	terminals   = 128
	mostScanned = 100e6
	mostPairs   = 64
)

// crosspoint joins an ohmmeter to any two of its terminals. It has two halves, each at a harness.
type crosspoint struct {
	interpreter
	name   string
	clock  clock
	halves [2]*fixture // nil: nothing is plugged in
	chosen [][2]int
	ranges []drawn // as its dialect has them, each to so many ohms
	watch  watch
}

// watch is what it watches: pairs, for openings of at least some time, since an instant; told are those that were asked
// for already, by when they ended.
type watch struct {
	on                 bool
	pairs              [][2]int
	least, since, told float64
	until              float64 // of one that has ended
}

// scannedTo are the ends of its ranges, Ω.
var scannedTo = []float64{100, 1e6, mostScanned}

func newCrosspoint(serial string, ideal bool, clock clock) *crosspoint {
	c := &crosspoint{clock: clock}
	c.health = newHealth()
	c.identity = "Usher Bench,SIM-X1," + serial + ",1.0"
	errors := newErrorSource(serial, ideal)
	for _, m := range []channelModel{scannedContact, scannedOhms, scannedIsolation} {
		c.ranges = append(c.ranges, errors.draw(m))
	}
	c.reset = func() { c.chosen, c.watch = nil, watch{} }
	c.on("WATCh:BEGin", func(args []string, _ int) error {
		if len(args) < 2 {
			return errMissing
		}
		least, err := strconv.ParseFloat(args[0], 64)
		if err != nil || least < shortestOpening {
			return errRange
		}
		pairs, err := pairsIn(strings.Join(args[1:], ","))
		if err == nil {
			now := c.clock.now()
			c.watch = watch{on: true, pairs: pairs, least: least, since: now, told: now}
		}
		return err
	}, nil)
	c.on("WATCh:STOP", func([]string, int) error {
		if c.watch.on {
			c.watch.on, c.watch.until = false, c.clock.now()
		}
		return nil
	}, nil)
	c.on("WATCh:EVENts", nil, func(int) (string, error) { return c.openings(), nil })
	c.on("ROUTe:SCAN", func(args []string, _ int) error { return c.choose(args[0]) },
		func(int) (string, error) { return strconv.Itoa(len(c.chosen)), nil })
	c.on("READ:FRESistance", nil, func(int) (string, error) {
		var read []string
		for _, p := range c.chosen {
			read = append(read, c.read(c.between(p[0], p[1])))
		}
		return strings.Join(read, ","), nil
	})
	return c
}

// choose takes a list of pairs as SCPI writes channels: (@1!2,3!4).
func (c *crosspoint) choose(list string) (err error) {
	c.chosen, err = pairsIn(list)
	return err
}

// pairsIn reads a list of pairs.
func pairsIn(list string) ([][2]int, error) {
	list, ok := strings.CutPrefix(strings.TrimSpace(list), "(@")
	list, closed := strings.CutSuffix(list, ")")
	if !ok || !closed {
		return nil, errParameter
	}
	var chosen [][2]int
	for _, pair := range strings.Split(list, ",") {
		var a, b int
		if n, err := fmt.Sscanf(strings.TrimSpace(pair), "%d!%d", &a, &b); n != 2 || err != nil {
			return nil, errParameter
		}
		if min(a, b) < 1 || max(a, b) > 2*terminals || a == b || len(chosen) == mostPairs {
			return nil, errRange
		}
		chosen = append(chosen, [2]int{a - 1, b - 1})
	}
	return chosen, nil
}

// shortestOpening is the shortest that it can see, s.
const shortestOpening = 100e-6

// openings are those that ended since it was asked last; at the end of the watch also what is still open.
func (c *crosspoint) openings() string {
	w := &c.watch
	now := c.clock.now()
	if !w.on {
		now = w.until
	}
	var told []string
	for i, p := range w.pairs {
		for _, o := range c.opens(p[0], p[1], w.since, now) {
			ended := o[1] < now || !w.on
			if ended && o[1] >= w.told && o[1]-o[0] >= w.least {
				told = append(told, fmt.Sprintf("%d,%.6f,%.6f", i+1, o[0]-w.since, o[1]-o[0]))
			}
		}
	}
	w.told = now
	if !w.on {
		w.pairs = nil // all is told
	}
	return strings.Join(append([]string{strconv.Itoa(len(told))}, told...), ",")
}

// opens are the times between two others in which a pair of terminals is open.
func (f *fixture) opens(a, b int, from, to float64) [][2]float64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch w, is := f.unit.(plant.Wired); {
	case !is || math.IsInf(w.Between(a, b), 1) || w.Between(a, b) > opensFrom:
		return [][2]float64{{from, to}}
	default:
		if loose, may := f.unit.(plant.Loose); may {
			return loose.Opens(a, b, from, to)
		}
	}
	return nil
}

// opensFrom is what a pair has that a watch takes for open, Ω.
const opensFrom = 1e3

func (c *crosspoint) read(ohms float64) string {
	for i, to := range scannedTo {
		if ohms <= to {
			return c.shown(c.ranges[i], ohms)
		}
	}
	return isOver
}

// at is the fixture at two terminals, and which of its own they are; nil where they are at none, or at two.
func (c *crosspoint) at(a, b int) (f *fixture, ownA, ownB int) {
	if a/terminals != b/terminals {
		return nil, 0, 0
	}
	return c.halves[a/terminals], a % terminals, b % terminals
}

// between is the resistance between two terminals, exactly.
func (c *crosspoint) between(a, b int) float64 {
	if f, a, b := c.at(a, b); f != nil {
		return f.between(a, b)
	}
	return math.Inf(1)
}

// opens are the times between two others in which a pair of terminals is open.
func (c *crosspoint) opens(a, b int, from, to float64) [][2]float64 {
	if f, a, b := c.at(a, b); f != nil {
		return f.opens(a, b, from, to)
	}
	return [][2]float64{{from, to}}
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
	if c := b.halfFree; c != nil {
		b.halfFree, c.halves[1] = nil, j.fixture
		j.wiring.Seats["crosspoint"] = []Channel{{c.name, 2}}
		return nil
	}
	c := newCrosspoint(fmt.Sprintf("X1-%04d", 2500+j.number), b.options.Ideal, j.fixture.clock)
	c.name, c.halves[0] = fmt.Sprintf("crosspoint%d", j.number), j.fixture
	if b.options.SharedCrosspoint {
		b.halfFree = c
	}
	j.wiring.Seats["crosspoint"] = []Channel{{c.name, 1}}
	return b.listen(c.name, crosspointKind, c.health, &c.interpreter)
}
