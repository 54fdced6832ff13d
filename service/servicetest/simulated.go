package servicetest

import (
	"net/http"
	"strconv"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"usherbench/instrument/transport/memory"
	"usherbench/store"
)

// today is when simulated time begins: after the calibrations of the scenario, and before they are due.
var today = time.Date(2026, time.November, 2, 8, 0, 0, 0, time.UTC)

// Simulated runs a test in simulated time, which passes as soon as everybody waits. Nobody in it may wait for a socket,
// a process, or a lock that is held by somebody who waits. It runs beside other
// simulated tests.
func Simulated(t *testing.T, test func(t *testing.T)) {
	t.Helper()
	t.Parallel()
	warmUp(t)
	synctest.Test(t, func(t *testing.T) {
		time.Sleep(time.Until(today))
		test(t)
	})
}

// warmUp makes what is made once in a process and belongs to no bubble.
func warmUp(t *testing.T) {
	if _, err := Document(); err != nil {
		t.Fatalf("OpenAPI document: %v", err)
	}
	store.Prepare()
	if _, err := scenario(); err != nil {
		t.Fatalf("records of the scenario: %v", err)
	}
}

// Serve serves a handler in memory and tells where it is found.
func Serve(t *testing.T, h http.Handler) (url string) {
	t.Helper()
	listener, err := memory.Listen("")
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: h, ReadHeaderTimeout: time.Second}
	go server.Serve(listener) //nolint:errcheck // it returns when the server is closed
	t.Cleanup(func() { server.Close() })
	return "http://" + listener.Addr().String()
}

// benches counts the benches in memory, whose names must differ.
var benches atomic.Int64

func memoryOf(o Options) string {
	if o.Sockets {
		return ""
	}
	return "bench" + strconv.FormatInt(benches.Add(1), 10) + "-"
}
