package budget_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/budget"
)

var sixty = budget.Budget{Watts: 60, Over: 60}

// Nobody knows what was before: a ledger begins as full as it may be, and a window later all of it is free.
func TestALedgerBeginsWithTheWorst(t *testing.T) {
	l := budget.New(sixty, 100)
	assert.InDelta(t, 60, l.Mean(), 1e-9)
	assert.False(t, l.Holds(23.99, 300, 6))
	assert.True(t, l.Holds(24.01, 300, 6), "30 of 60 s must be out of the window that ends 6 s after")
	l.Take(160, 0)
	assert.Zero(t, l.Mean())
	assert.True(t, l.Ever(300, 12))
	assert.False(t, l.Ever(300, 12.1), "it never may")
	assert.True(t, l.Holds(0, 300, 11.99))
	assert.True(t, l.Holds(0, 60, 1e6), "its bound may be borne for ever")
}

// Whoever waits as long as he is told never has a window in which the mean is above the bound.
func TestWhoWaitsNeverBearsMore(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		b := budget.Budget{Watts: rapid.Float64Range(10, 100).Draw(r, "watts"),
			Over: rapid.Float64Range(1, 100).Draw(r, "over")}
		l := budget.New(b, 0)
		l.Take(rapid.Float64Range(0, 2*b.Over).Draw(r, "rest"), 0)
		for range rapid.IntRange(1, 30).Draw(r, "bursts") {
			watts := rapid.Float64Range(1, 10*b.Watts).Draw(r, "power")
			seconds := rapid.Float64Range(0.01, b.Over/5).Draw(r, "seconds")
			if !b.Ever(watts, seconds) {
				continue
			}
			for began := l.Now(); !l.Holds(0, watts, seconds); {
				l.Take(l.Now()+b.Over/200, 0)
				require.LessOrEqual(r, l.Now(), began+1.01*b.Over, "a window later nothing is left of what was")
			}
			start := l.Now()
			for k := 1; k <= 8; k++ {
				l.Take(start+seconds*float64(k)/8, watts)
				require.LessOrEqual(r, l.Mean(), b.Watts*(1+1e-6))
			}
			l.Take(l.Now()+rapid.Float64Range(0, b.Over/10).Draw(r, "pause"), 0)
		}
	})
}
