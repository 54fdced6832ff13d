package warden

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"usherbench/instrument/lane"
)

// Keeper is the service's end of the pipe: it starts the warden's process, tells it what there is to know, and
// starts it again if it dies. It is safe for use by several goroutines.
type Keeper struct {
	launcher Launcher
	path     string // of the warden's log
	log      *slog.Logger
	reports  chan Report

	down     atomic.Value // a why: why there is no warden now; asked by many, who must not wait for the pipe
	restarts atomic.Int64

	turn      lane.Lane // guards what follows, and orders the lines
	life      Life
	plan      Plan
	energised map[string]bool
	closed    bool
	launched  time.Time     // when the present one was started
	pause     time.Duration // before the next is started
	ended     chan struct{} // closed when there is to be none any longer
	wg        sync.WaitGroup
}

// endWithin bounds how long a warden may take to end that was told to.
const endWithin = 2 * time.Second

// sayWithin bounds how long a word to the warden may take.
const sayWithin = 50 * time.Millisecond

// Start starts the warden, which writes its log to the given path.
func Start(launcher Launcher, path string, log *slog.Logger) (*Keeper, error) {
	k := &Keeper{launcher: launcher, path: path, log: log, reports: make(chan Report, 64), energised: map[string]bool{},
		ended: make(chan struct{})}
	defer k.turn.Enter()()
	return k, k.launch()
}

func (k *Keeper) launch() error {
	life, err := k.launcher(k.path)
	if err != nil {
		return fmt.Errorf("start the warden: %w", err)
	}
	k.life, k.launched = life, time.Now()
	k.down.Store(why{})
	k.say(word{Plan: &k.plan})
	for bay, on := range k.energised {
		if on {
			k.say(word{Bay: bay, Energised: true})
		}
	}
	k.wg.Add(1)
	go func() {
		defer k.wg.Done()
		lines := bufio.NewScanner(life.Reports())
		for lines.Scan() {
			var r Report
			if json.Unmarshal(lines.Bytes(), &r) == nil {
				select {
				case k.reports <- r:
				default: // nobody listens; it is in the log too
				}
			}
		}
		k.again(life.Wait())
	}()
	return nil
}

// A warden that does not start is tried again after a pause, which doubles up to the longest.
const leastPause, longestPause = 100 * time.Millisecond, 5 * time.Second

// lasting is how long a warden must have lived to be no sign of trouble when it ends.
const lasting = 10 * time.Second

// again starts a warden that died, for as long as that takes. Meanwhile there is none, and Down says so.
func (k *Keeper) again(ended error) {
	leave := k.turn.Enter()
	k.down.Store(why{fmt.Errorf("the warden ended: %w", orEnded(ended))})
	k.pause = min(max(2*k.pause, leastPause), longestPause)
	if time.Since(k.launched) > lasting {
		k.pause = 0
	}
	leave()
	for {
		if !k.wait() || k.launchAgain() {
			return
		}
	}
}

// launchAgain tells whether there is a warden again, or is to be none any longer.
func (k *Keeper) launchAgain() bool {
	defer k.turn.Enter()()
	if k.closed {
		return true
	}
	k.restarts.Add(1)
	k.log.Error("the warden is started again", "why", k.Down())
	err := k.launch()
	if err == nil {
		return true
	}
	k.down.Store(why{err})
	k.pause = min(max(2*k.pause, leastPause), longestPause)
	k.log.Error("the warden does not start", "err", err)
	return false
}

func orEnded(err error) error {
	if err == nil {
		return errors.New("without an error")
	}
	return err
}

// wait lets the pause pass; false: there is to be no warden any longer.
func (k *Keeper) wait() bool {
	leave := k.turn.Enter()
	pause := k.pause
	leave()
	select {
	case <-k.ended:
		return false
	case <-time.After(pause):
		return true
	}
}

// Down is why there is no warden now; nil: there is one.
func (k *Keeper) Down() error {
	w, _ := k.down.Load().(why)
	return w.error
}

// why is why there is no warden.
type why struct{ error }

func (k *Keeper) say(x word) {
	line, err := json.Marshal(x)
	if err != nil {
		return
	}
	// A warden that does not read any more must not hold a conductor up: it is ended, and started again with
	// everything that it must know.
	line = append(line, '\n')
	written, err := k.write(line)
	if errors.Is(err, os.ErrDeadlineExceeded) {
		// The time may have passed because this process stood still itself, and the warden is at work just now.
		_, err = k.write(line[written:])
	}
	if err != nil {
		k.life.Kill()
	}
}

func (k *Keeper) write(p []byte) (written int, err error) {
	_ = k.life.SetWriteDeadline(time.Now().Add(sayWithin))
	return k.life.Write(p)
}

// Plan tells how the bench is made safe.
func (k *Keeper) Plan(p Plan) {
	defer k.turn.Enter()()
	k.plan = p
	k.say(word{Plan: &p})
}

// Energised tells that outputs of a bay are about to go on, or are confirmed off.
func (k *Keeper) Energised(bay string, on bool) {
	defer k.turn.Enter()()
	if k.energised[bay] == on {
		return
	}
	k.energised[bay] = on
	k.say(word{Bay: bay, Energised: on})
}

// Alive tells which bays are looked after, and which of them have an alarm, so that everybody knows already that an
// output may still be on.
func (k *Keeper) Alive(bays, alarmed []string) {
	defer k.turn.Enter()()
	k.say(word{Alive: slices.Clone(bays), Alarmed: slices.Clone(alarmed)})
}

// Reports gives what the warden did while the service lived.
func (k *Keeper) Reports() <-chan Report { return k.reports }

// Restarts is how often the warden had to be started again.
func (k *Keeper) Restarts() int {
	return int(k.restarts.Load())
}

// Pid is the process of the warden.
func (k *Keeper) Pid() int {
	defer k.turn.Enter()()
	return k.life.Pid()
}

// Close ends the warden; the outputs must be off. With energised outputs left it is not told goodbye and acts
// when the pipe ends.
func (k *Keeper) Close() error {
	leave := k.turn.Enter()
	if !k.closed {
		close(k.ended)
	}
	k.closed = true
	left := false
	for _, on := range k.energised {
		left = left || on
	}
	if !left {
		k.say(word{Bye: true})
	}
	err := k.life.Close()
	leave()
	if left {
		return err // it goes on by itself
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		k.wg.Wait()
	}()
	select {
	case <-ended:
	case <-time.After(endWithin):
		k.life.Kill() // there is nothing left for it to do
		<-ended
	}
	return err
}

// ReadLog reads the reports that a warden left in its log, and empties it.
func ReadLog(path string) ([]Report, error) {
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var reports []Report
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		var r Report
		if json.Unmarshal(lines.Bytes(), &r) == nil {
			reports = append(reports, r)
		}
	}
	if err := lines.Err(); err != nil {
		return reports, err
	}
	return reports, os.Remove(path)
}
