package cli

import (
	"log/slog"
	"os"
	"strconv"
	"syscall"
)

// How much sooner than others the service and its warden get the computer, and how much later what heavy work is done
// in, as nice values.
const (
	before = -10
	after  = 10
)

// comeFirst has the service come before the other work of the computer, where the account that runs it may ask for
// that: conductors keep their rhythm while something else is compiled. The warden inherits it.
func comeFirst(log *slog.Logger) {
	if err := setPriority(before); err != nil {
		log.Info("the service has no more right to the computer than others; give its account the right to a nice value "+
			"below 0 if the computer does other work too", "err", err)
	}
}

// setPriority gives every thread of this process a nice value. Threads that begin later inherit it, and so do processes
// that it starts.
func setPriority(nice int) error {
	threads, err := os.ReadDir("/proc/self/task")
	for _, t := range threads {
		id, convErr := strconv.Atoi(t.Name())
		if convErr != nil {
			continue
		}
		if setErr := syscall.Setpriority(syscall.PRIO_PROCESS, id, nice); setErr != nil && err == nil {
			err = setErr
		}
	}
	return err
}
