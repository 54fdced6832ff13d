package simulation

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"usherbench/store"
)

// today is when every scenario begins.
var today = time.Date(2026, time.November, 2, 8, 0, 0, 0, time.UTC)

// usual is how many scenarios are played with all tests; make disasters plays more.
const usual = 1000

// seeds are those that are played: SEED=… one of them, DISASTERS=… how many, FIRST=… from which on.
func seeds(t *testing.T) (first, count uint64) {
	number := func(name string, unset uint64) uint64 {
		text := os.Getenv(name)
		if text == "" {
			return unset
		}
		n, err := strconv.ParseUint(text, 10, 64)
		require.NoError(t, err, name)
		return n
	}
	if seed := number("SEED", 0); seed > 0 {
		return seed, 1
	}
	return number("FIRST", 1), number("DISASTERS", usual)
}

// records makes the records with which scenarios begin.
func records(t *testing.T) string {
	folder := t.TempDir()
	store.Prepare()
	synctest.Test(t, func(t *testing.T) {
		time.Sleep(time.Until(today))
		require.NoError(t, Records(folder))
	})
	return folder
}

// play plays the scenario of a seed.
func play(t *testing.T, seed uint64, records, folder string) (o Outcome) {
	synctest.Test(t, func(t *testing.T) {
		time.Sleep(time.Until(today))
		var err error
		o, err = Play(Draw(seed), records, folder)
		require.NoError(t, err)
	})
	return o
}

func TestDisasters(t *testing.T) {
	first, count := seeds(t)
	defer debug.SetGCPercent(debug.SetGCPercent(400))
	if shared, err := os.MkdirTemp("/dev/shm", "usher-disasters-"); err == nil {
		t.Setenv("TMPDIR", shared) // thousands of records that nobody needs afterwards
		defer os.RemoveAll(shared)
	}
	from := records(t)
	var met tally
	var next atomic.Uint64
	next.Store(first - 1)
	t.Run("side by side", func(t *testing.T) {
		for worker := range 2 {
			t.Run(fmt.Sprint(worker), func(t *testing.T) {
				t.Parallel()
				for {
					seed := next.Add(1)
					if seed >= first+count {
						return
					}
					folder := filepath.Join(t.TempDir(), fmt.Sprint(seed))
					o := play(t, seed, from, folder)
					met.add(o.Scenario)
					if len(o.Broken) > 0 {
						t.Errorf("%s\nreplay it with: make disaster SEED=%d", o, seed)
						if os.Getenv("FIRST_BROKEN") != "" {
							next.Store(first + count)
						}
					} else if count == 1 {
						t.Log(o)
					}
					require.NoError(t, os.RemoveAll(folder))
				}
			})
		}
	})
	if count > 1 {
		t.Logf("%d scenarios from seed %d on, in which happened:\n%s", count, first, &met)
	}
}

// tally counts what happens in scenarios, by kind.
type tally struct {
	mu    sync.Mutex
	kinds map[string]int
}

func (y *tally) add(s Scenario) {
	y.mu.Lock()
	defer y.mu.Unlock()
	if y.kinds == nil {
		y.kinds = map[string]int{}
	}
	for _, e := range s.Events {
		y.kinds[strings.TrimSpace(e.Kind+" "+string(e.Fault))]++
	}
}

func (y *tally) String() string {
	var b strings.Builder
	for _, kind := range slices.Sorted(maps.Keys(y.kinds)) {
		fmt.Fprintf(&b, "%8d  %s\n", y.kinds[kind], kind)
	}
	return b.String()
}
