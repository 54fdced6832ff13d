package service

import (
	"os"
	"runtime"
	"sync"
	"sync/atomic"
)

// breath is how much garbage a service lets gather beyond what Go would by itself.
const breath = 64 << 20

// KeepRhythm has this process answer sooner rather than do more, so that a conductor which wakes because a reading has
// come does not stand in line behind whatever else the service does:
//
//   - Goroutines may run on twice as many threads as there are processors. Go lets whoever runs go on for up to 10 ms;
//     the kernel lets in at once who has slept most, and that is the conductors.
//   - Memory is looked through for garbage more seldom. That takes each time a quarter of the computer for some 15 ms.
//     A constant addition, as opposed to a factor, costs as little with 256 bays as with one.
//
// Whoever states GOMAXPROCS or GOGC in the environment has the say in that. Measured by the bar BenchmarkGuard.
var KeepRhythm = sync.OnceFunc(func() {
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(2 * runtime.GOMAXPROCS(0))
	}
	if os.Getenv("GOGC") == "" {
		ballast.Store(make([]byte, breath))
	}
})

// ballast counts as in use, so that Go collects garbage when as much again has gathered. It is never touched, so that
// no memory stands behind it.
var ballast atomic.Value
