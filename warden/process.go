package warden

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"usherbench/instrument"
	"usherbench/instrument/dialect"
	"usherbench/instrument/messages"
	"usherbench/instrument/transport"
	"usherbench/instrument/transport/memory"
)

// watch is the state of the warden's process. One goroutine owns it.
type watch struct {
	Surroundings
	ctx       context.Context
	out       io.Writer
	plan      Plan
	energised map[string]bool
	alive     map[string]time.Time // when each bay was last looked after
	acted     map[string]bool      // made safe since it was last looked after
	alarmed   map[string]bool      // with an alarm in the service when it was last heard of
	words     chan word
}

// Surroundings are what a warden is told when it begins.
type Surroundings struct {
	// Log is the path of its log; empty: it keeps none.
	Log string
	// EndService ends the service that does not make safe itself, and keeps the warden from doing it.
	EndService func()
	// Clock tells the time of day for reports; nil: the computer's.
	Clock func() time.Time
	// Network is how instruments in memory are reached; nil: as everybody in this process does.
	Network *memory.Network
}

// EndParent ends the process that has started this one.
func EndParent() func() {
	parent := os.Getppid()
	return func() { _ = syscall.Kill(parent, syscall.SIGKILL) } // it may be gone already
}

// Process is the warden: it reads what the service says from in until that ends, and makes safe what is left.
// Reports go to out while the service lives, and to its log. It returns when everything is off or could not be
// confirmed for a long time, or when the context ends.
func Process(ctx context.Context, in io.Reader, out io.Writer, s Surroundings) error {
	w := &watch{ctx: ctx, Surroundings: s, out: out, energised: map[string]bool{}, alive: map[string]time.Time{},
		acted: map[string]bool{}, alarmed: map[string]bool{}}
	words := make(chan word, 256)
	w.words = words
	go func() {
		defer close(words)
		lines := bufio.NewReaderSize(in, 1<<16)
		for {
			line, err := lines.ReadBytes('\n')
			if err != nil { // a line that was cut off says nothing
				return
			}
			var x word
			if json.Unmarshal(line, &x) == nil {
				words <- x
			}
		}
	}()
	ticker := time.NewTicker(BeatInterval)
	defer ticker.Stop()
	last := time.Now()
	for {
		select {
		case x, ok := <-words:
			if !ok {
				return w.takeOver("the service died")
			}
			if x.Bye {
				return nil
			}
			w.hear(x)
		case now := <-ticker.C:
			// A warden that did not run itself cannot say that the service did not.
			if gap := now.Sub(last) - BeatInterval; gap > BeatInterval {
				for bay := range w.alive {
					w.alive[bay] = w.alive[bay].Add(gap)
				}
			}
			last = now
			if len(words) > 0 {
				continue // hear first what was said
			}
			if done := w.look(now); done {
				return nil
			}
			last = time.Now()
		}
	}
}

// hearWaiting takes what was said meanwhile.
func (w *watch) hearWaiting() {
	for {
		select {
		case x, ok := <-w.words:
			if !ok {
				return
			}
			w.hear(x)
		default:
			return
		}
	}
}

func (w *watch) hear(x word) {
	now := time.Now()
	switch {
	case x.Plan != nil:
		w.plan = *x.Plan
		w.plan.learn()
	case x.Bay != "":
		if x.Energised {
			w.alive[x.Bay] = now
		}
		w.energised[x.Bay] = x.Energised
	default:
		for _, bay := range x.Alive {
			w.alive[bay] = now
			w.acted[bay] = false
		}
		clear(w.alarmed)
		for _, bay := range x.Alarmed { // whether or not somebody looks after it
			w.alarmed[bay] = true
		}
	}
}

// look makes safe the energised bays that nobody looks after. It returns true when it had to end the service,
// and everything is done.
func (w *watch) look(now time.Time) bool {
	var stalled []string
	patience := StallAfter
	if w.plan.StallAfter > 0 {
		patience = w.plan.StallAfter
	}
	for bay, on := range w.energised {
		if on && !w.acted[bay] && now.Sub(w.alive[bay]) > patience {
			stalled = append(stalled, bay)
		}
	}
	if len(stalled) == 0 {
		return false
	}
	slices.Sort(stalled)
	why := fmt.Sprintf("nobody looked after it for %d ms: its conductor or the whole service stalled",
		now.Sub(w.alive[stalled[0]]).Milliseconds())
	ctx, cancel := context.WithTimeout(w.ctx, killAfter)
	defer cancel()
	reports := w.makeSafe(ctx, stalled, why)
	if w.ctx.Err() != nil {
		return true
	}
	w.hearWaiting()
	for _, r := range reports {
		if r.Failed != "" && (w.alive[r.Bay].After(now) || w.alarmed[r.Bay]) {
			continue // it came back meanwhile, and is told to end the run; or people know, and no other bay suffers for it
		}
		if r.Failed != "" {
			// Its connection may be the only one that an instrument takes, or its lock on a serial line.
			w.EndService()
			_ = w.takeOver(why + "; an output could not be reached beside it, so it was ended")
			return true
		}
	}
	for _, r := range reports {
		w.acted[r.Bay] = true
		w.tell(r)
	}
	return false
}

// takeOver makes safe everything that is energised, and goes on until it is confirmed.
func (w *watch) takeOver(why string) error {
	var left []string
	for bay, on := range w.energised {
		if on {
			left = append(left, bay)
		}
	}
	if len(left) == 0 {
		return nil
	}
	slices.Sort(left)
	ctx, cancel := context.WithTimeout(w.ctx, tryFor)
	defer cancel()
	var errs []error
	for _, r := range w.makeSafe(ctx, left, why) {
		if w.ctx.Err() != nil {
			return w.ctx.Err()
		}
		w.tell(r)
		if r.Failed != "" {
			errs = append(errs, errors.New(r.Bay+": "+r.Failed))
		}
	}
	return errors.Join(errs...)
}

// tell reports to the service, if it lives, and to the log.
func (w *watch) tell(r Report) {
	line, err := json.Marshal(r)
	if err != nil {
		return
	}
	line = append(line, '\n')
	_, _ = w.out.Write(line) // the service may be gone
	if w.Log == "" {
		return
	}
	f, err := os.OpenFile(w.Log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return
	}
	defer f.Close()
	_, _ = f.Write(line) // nobody is left to hear of a failure
	_ = f.Sync()
}

// makeSafe switches off the outputs of bays, all bays at once, each in its order.
func (w *watch) makeSafe(ctx context.Context, bays []string, why string) []Report {
	ctx = messages.Urgent(ctx)
	reports := make([]Report, len(bays))
	bench := newConnections(w.Network)
	clock := w.Clock
	if clock == nil {
		clock = time.Now
	}
	var wg sync.WaitGroup
	for i, bay := range bays {
		wg.Add(1)
		go func() {
			defer wg.Done()
			reports[i] = bench.makeSafe(ctx, bay, w.plan.Bays[bay], why)
			reports[i].At = clock()
		}()
	}
	wg.Wait()
	return reports
}

// connections are the warden's own, by address: two bays may use two channels of one instrument. None is kept longer
// than it is used: an instrument may take one only, and the next service needs it too.
type connections struct {
	network *memory.Network
	mu      sync.Mutex // guards what follows
	open    map[string]*connection
}

func newConnections(n *memory.Network) *connections {
	return &connections{network: n, open: map[string]*connection{}}
}

type connection struct {
	*instrument.Instrument
	users int
}

// channel connects to a channel, until it is let go.
func (c *connections) channel(ch Channel) (channel *instrument.Channel, letGo func(), err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	i := c.open[ch.Address]
	if i == nil {
		opened, err := c.openFor(ch)
		if err != nil {
			return nil, nil, err
		}
		i = &connection{Instrument: opened}
		c.open[ch.Address] = i
	}
	i.users++
	return i.Channel(ch.Number, ch.Kind), func() { c.letGo(ch.Address) }, nil
}

func (c *connections) letGo(address string) {
	c.mu.Lock()
	i := c.open[address]
	i.users--
	last := i.users == 0
	if last {
		delete(c.open, address)
	}
	c.mu.Unlock()
	if last {
		_ = i.Close() // it is opened anew when it is needed again
	}
}

func (c *connections) openFor(ch Channel) (*instrument.Instrument, error) {
	d, err := dialect.Whole(ch.Dialect)
	if err != nil {
		return nil, fmt.Errorf("the dialect of %s: %w", ch.Instrument, err)
	}
	a, err := transport.Parse(ch.Address)
	if err != nil {
		return nil, err
	}
	return instrument.OpenAt(ch.Instrument, a.Through(c.network), d)
}

// retryAfter is the pause between two attempts on outputs that could not be confirmed.
const retryAfter = 20 * time.Millisecond

func (c *connections) makeSafe(ctx context.Context, bay string, channels []Channel, why string) Report {
	began := time.Now()
	r := Report{Bay: bay, Why: why}
	left := slices.Clone(channels)
	problems := map[string]error{}
	for round := 0; len(left) > 0 && (round == 0 || ctx.Err() == nil); round++ {
		if round > 0 {
			time.Sleep(retryAfter)
		}
		left = slices.DeleteFunc(left, func(ch Channel) bool {
			name := fmt.Sprintf("%s (channel %d of %s)", ch.Seat, ch.Number, ch.Instrument)
			err := c.switchOff(ctx, ch)
			if err != nil {
				if problems[name] == nil || !instrument.TimeIsUp(err) { // what the time cut off says nothing new
					problems[name] = err
				}
				return false
			}
			delete(problems, name)
			r.Done = append(r.Done, name)
			return true
		})
	}
	r.Took = time.Since(began).Seconds()
	for name, err := range problems {
		r.Failed += name + " is not confirmed off: " + err.Error() + "; "
	}
	return r
}

func (c *connections) switchOff(ctx context.Context, ch Channel) error {
	channel, letGo, err := c.channel(ch)
	if err != nil {
		return err
	}
	defer letGo()
	attempt, cancel := context.WithTimeout(ctx, channel.Dialect.Within)
	defer cancel()
	setErr := channel.SwitchOff(attempt)
	on, err := channel.OutputOn(attempt)
	switch {
	case err != nil:
		return errors.Join(setErr, err)
	case on:
		return errors.Join(setErr, errors.New("it reads back as on"))
	}
	return nil
}
