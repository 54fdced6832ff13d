package simulation

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Outcome is what came of a scenario.
type Outcome struct {
	Scenario Scenario
	// Broken are the promises that were not kept; none is as it should be.
	Broken []string
	// Timeline is what happened, in order.
	Timeline []Entry
}

// Entry is one thing that happened.
type Entry struct {
	At   time.Duration
	Who  string
	What string
}

func (e Entry) String() string {
	return fmt.Sprintf("%8.3f s  %-12s %s", e.At.Seconds(), e.Who, e.What)
}

// String is the scenario with what happened and what was broken.
func (o Outcome) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n", o.Scenario)
	for _, e := range o.Timeline {
		fmt.Fprintln(&b, e)
	}
	for _, broken := range o.Broken {
		fmt.Fprintf(&b, "BROKEN: %s\n", broken)
	}
	return b.String()
}

// Play plays a scenario in a folder, which must be empty but for the records to begin with ([Records]).
func Play(s Scenario, records, folder string) (Outcome, error) {
	h, err := open(s, records, folder)
	if err != nil {
		return Outcome{Scenario: s}, err
	}
	h.play()
	h.settle()
	h.close()
	h.tellRecord()
	slices.SortStableFunc(h.timeline, func(a, b Entry) int {
		return cmp.Or(cmp.Compare(a.At.Round(time.Millisecond), b.At.Round(time.Millisecond)), strings.Compare(a.Who, b.Who),
			cmp.Compare(a.At, b.At))
	})
	return Outcome{Scenario: s, Broken: h.judge(), Timeline: h.timeline}, nil
}
