// Package bars measures how fast the product is, as ratios to a baseline taken in the same run on the same
// machine where that makes sense, and prints each figure beside its target. It is run by: make bars.
package bars

import (
	"fmt"
	"os"
	"slices"
	"testing"
	"time"

	"usherbench/service"
)

// bar is one line of the result.
type bar struct {
	name, measured, target string
	reached                bool
}

var results []bar

// atLeast and atMost note a result.
func atLeast(name string, x, target float64, form string) {
	results = append(results, bar{name, fmt.Sprintf(form, x), "≥ " + fmt.Sprintf(form, target), x >= target})
}

func atMost(name string, x, target float64, form string) {
	results = append(results, bar{name, fmt.Sprintf(form, x), "≤ " + fmt.Sprintf(form, target), x <= target})
}

func TestMain(m *testing.M) {
	if len(os.Args) > 4 && os.Args[1] == rude {
		if err := rudely(os.Args[2], os.Args[3], os.Args[4]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	service.KeepRhythm()
	code := m.Run()
	if len(results) > 0 {
		fmt.Printf("\n%-44s %14s   %-14s\n", "bar", "measured", "target")
		for _, r := range results {
			sign := "reached"
			if !r.reached {
				sign = "MISSED"
			}
			fmt.Printf("%-44s %14s   %-14s %s\n", r.name, r.measured, r.target, sign)
		}
	}
	os.Exit(code)
}

// median of some repetitions, so that one hiccup of a shared machine does not decide.
func median(repetitions int, measure func() float64) float64 {
	xs := make([]float64, repetitions)
	for i := range xs {
		xs[i] = measure()
	}
	slices.Sort(xs)
	return xs[len(xs)/2]
}

func quantile(xs []time.Duration, q float64) time.Duration {
	slices.Sort(xs)
	return xs[min(int(q*float64(len(xs))), len(xs)-1)]
}
