package cli

import (
	"log/slog"
	"os"
	"strconv"
	"syscall"
)

// before is how much sooner than others the service and its warden get the computer, as a nice value.
const before = -10

// comeFirst has the service come before the other work of the computer, where the account that runs it may ask for
// that: conductors keep their rhythm while something else is compiled. Threads that begin later inherit it, and so does
// the warden.
func comeFirst(log *slog.Logger) {
	threads, err := os.ReadDir("/proc/self/task")
	for _, t := range threads {
		id, convErr := strconv.Atoi(t.Name())
		if convErr != nil {
			continue
		}
		if setErr := syscall.Setpriority(syscall.PRIO_PROCESS, id, before); setErr != nil && err == nil {
			err = setErr
		}
	}
	if err != nil {
		log.Info("the service has no more right to the computer than others; give its account the right to a nice value "+
			"below 0 if the computer does other work too", "err", err)
	}
}
