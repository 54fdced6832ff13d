package simulation

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing/synctest"
	"time"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/client"
	"usherbench/demo"
	"usherbench/instrument/transport/memory"
	"usherbench/service"
	"usherbench/simbench"
	"usherbench/store"
	"usherbench/warden"
)

// house is everything in which a scenario is played. One goroutine plays it; what the goroutines of people and
// processes tell goes through the mutex.
type house struct {
	scenario Scenario
	folder   string
	prefix   string // of the names in memory
	bench    *simbench.Bench
	config   bench.Config
	began    time.Time

	generation int
	service    *process // the present one, which may be dead; nil before the first
	died       chan *process
	restartAt  time.Time // when the service is started again; zero: it is not to be
	disk       disk
	street     *memory.Network // the people's part of the network
	wire       *http.Transport
	looked     time.Time      // when people looked last
	wrong      atomic.Int64   // by how much the clock of the computer was set wrong, ns
	setOnce    bool           // the clock was set
	copied     string         // a copy of the database; empty: it is not damaged
	older      bool           // an older copy of the records was put in place
	ended      time.Time      // when everything was mended and waited for
	starts     []time.Time    // when a service was started
	busy       sync.WaitGroup // who has to come to an end before the scenario does

	mu       sync.Mutex // guards what follows
	timeline []Entry
	acts     []act
	looks    []look
	downs    []down
	left     []string // what was amiss at the end
	faults   []fault
	runs     []run // as they are on record at the end
	journal  []store.JournalEntry
	// diskTrouble is when writes were slow or failed.
	diskTrouble []down
}

// process is a service with its warden.
type process struct {
	network *memory.Network
	data    string
	dead    atomic.Bool
	started chan struct{} // closed when running or err is known
	running *service.Running
	err     error
	mu      sync.Mutex // guards warden
	warden  *guard     // the present one; nil before the first
}

// down is a time in which there was no service, or in which it stood still.
type down struct {
	from, to time.Time // to: when it was well again
	what     string
}

// disk is what the disk does to writes.
type disk struct {
	mu   sync.Mutex // guards what follows
	slow time.Duration
	full bool
}

var errFull = errors.New("database or disk is full")

var errDead = errors.New("the process is dead")

// of is the disk as a process finds it.
func (d *disk) of(p *process) func() error {
	return func() error {
		d.mu.Lock()
		slow, full := d.slow, d.full
		d.mu.Unlock()
		if slow > 0 {
			time.Sleep(slow)
		}
		switch {
		case p.dead.Load():
			return errDead
		case full:
			return errFull
		}
		return nil
	}
}

// worlds counts what is played in this process, since names in memory must differ.
var worlds atomic.Int64

func open(s Scenario, records, folder string) (*house, error) {
	h := &house{scenario: s, folder: folder, prefix: fmt.Sprintf("w%d-", worlds.Add(1)), began: time.Now(),
		died: make(chan *process, 8), street: memory.NewNetwork()}
	h.wire = &http.Transport{DialContext: h.street.DialHost, DisableCompression: true}
	var err error
	if h.bench, err = simbench.Start(benchOptions(s, h.prefix)); err != nil {
		return nil, err
	}
	h.config = demo.Config(h.bench, 1)
	for _, plan := range s.Bays {
		b := h.config.Bays[plan.Name]
		b.Interval, b.LostAfter = api.Span(plan.Interval), api.Span(lostAfter)
		h.config.Bays[plan.Name] = b
	}
	if err := os.CopyFS(h.data(), os.DirFS(records)); err != nil {
		return nil, err
	}
	h.start()
	<-h.service.started
	return h, h.service.err
}

// clock is the clock of the computer, which may be set wrong.
func (h *house) clock() time.Time { return time.Now().Add(time.Duration(h.wrong.Load())) }

// data is the folder of the present generation.
func (h *house) data() string { return filepath.Join(h.folder, strconv.Itoa(h.generation)) }

// tell writes down what happened.
func (h *house) tell(who, format string, args ...any) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.timeline = append(h.timeline, Entry{time.Since(h.began), who, fmt.Sprintf(format, args...)})
}

// start starts the service on the present records, beside whatever happens meanwhile.
func (h *house) start() {
	p := &process{network: memory.NewNetwork(), data: h.data(), started: make(chan struct{})}
	h.service = p
	config := service.Config{Data: p.data, Listen: h.prefix + "service" + strconv.Itoa(h.generation), Memory: p.network,
		On: store.Surroundings{Disk: h.disk.of(p), Clock: h.clock}, Bench: h.config, Warden: h.launcher(p)}
	h.tell("service", "is started")
	h.starts = append(h.starts, time.Now())
	h.busy.Go(func() {
		defer close(p.started)
		p.running, p.err = service.Start(config, slog.New(slog.DiscardHandler))
		if p.err == nil {
			h.tell("service", "serves")
			h.serves()
			return
		}
		p.running = nil
		h.tell("service", "does not start: %v", p.err)
		if !p.dead.Load() {
			p.end()
			h.died <- p
		}
	})
}

// serves notes that there is a service again.
func (h *house) serves() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for i := range h.downs {
		if h.downs[i].to.IsZero() {
			h.downs[i].to = time.Now()
		}
	}
}

// end cuts a process off from everything. Its warden sees the end of its words.
func (p *process) end() {
	p.dead.Store(true)
	p.network.Cut()
}

// kill kills the present service; it is started again after a while.
func (h *house) kill(after time.Duration) {
	p := h.service
	synctest.Wait() // nobody is in the middle of a write
	if p.dead.Load() {
		return
	}
	h.tell("service", "is killed")
	h.inherit(p) // before anybody in it hears of its death: the dead write nothing down
	p.dead.Store(true)
	p.network.Cut()
	h.bury(p, after)
}

// inherit takes the records of a process as they are for its successor.
func (h *house) inherit(p *process) {
	h.generation++
	if err := os.CopyFS(h.data(), os.DirFS(p.data)); err != nil {
		h.tell("service", "its records cannot be copied: %v", err)
	}
	_ = os.Remove(filepath.Join(h.data(), service.LocalAccessFile))
}

// bury lets what is left of a dead process come to its end, and has its successor started.
func (h *house) bury(p *process, after time.Duration) {
	h.mu.Lock()
	h.downs = append(h.downs, down{from: time.Now(), what: "dead"})
	h.mu.Unlock()
	synctest.Wait()
	h.restartAt = time.Now().Add(after)
	h.busy.Go(func() {
		<-p.started
		if p.running != nil {
			_ = p.running.Close() // of the dead
		}
	})
}

// access reads how a client of this computer finds the service.
func access(p *process) (a service.LocalAccess, err error) {
	text, err := os.ReadFile(filepath.Join(p.data, service.LocalAccessFile))
	if err != nil {
		return a, err
	}
	return a, json.Unmarshal(text, &a)
}

// client speaks to the present service; nil if there is none.
func (h *house) client() *client.Client {
	p := h.service
	select {
	case <-p.started:
	default:
		return nil
	}
	if p.dead.Load() || p.running == nil {
		return nil
	}
	a, err := access(p)
	if err != nil {
		return nil
	}
	return &client.Client{Server: a.Server, Token: a.Token, HTTP: &http.Client{Transport: h.wire}}
}

// play has everything happen at its time.
func (h *house) play() {
	kinds := map[string]kind{}
	for _, k := range slices.Concat(troubles(), people(), meetings()) {
		kinds[k.name] = k
	}
	for _, e := range h.scenario.Events {
		h.until(h.began.Add(e.At))
		kinds[e.Kind].do(h, e)
	}
	h.until(h.began.Add(h.scenario.Troubled))
}

// until lets time pass, in which the service is buried and started again where that is due, and people look.
func (h *house) until(t time.Time) {
	for {
		next := t
		if !h.restartAt.IsZero() && h.restartAt.Before(next) {
			next = h.restartAt
		}
		if l := h.nextLook(); l.Before(next) {
			next = l
		}
		select {
		case p := <-h.died:
			if p == h.service {
				synctest.Wait() // nobody is in the middle of a write
				h.inherit(p)
				h.bury(p, time.Second)
			}
		case <-time.After(time.Until(next)):
			switch {
			case !h.restartAt.IsZero() && !time.Now().Before(h.restartAt):
				h.restartAt = time.Time{}
				h.start()
			case !time.Now().Before(t):
				return
			default:
				h.look()
			}
		}
	}
}

// settle mends everything and sees to it that the house is well again.
func (h *house) settle() {
	h.disk.mu.Lock()
	h.disk.slow, h.disk.full = 0, false
	h.disk.mu.Unlock()
	for _, i := range h.bench.Instruments() {
		_ = h.bench.SetFault(i.Name, simbench.NoFault) // every instrument can be well
	}
	h.mu.Lock()
	for i, f := range h.faults {
		h.faults[i].to = earlier(f.to, time.Now())
	}
	h.mu.Unlock()
	h.tell("bench", "everything is mended")
	well := time.Now()
	if h.restartAt.After(well) {
		well = h.restartAt
	}
	h.until(well.Add(rest))
	h.finish()
}

// close ends everything.
func (h *house) close() {
	h.until(time.Now())
	<-h.service.started
	if p := h.service; !p.dead.Load() && p.running != nil {
		if err := p.running.Close(); err != nil {
			h.tell("service", "ends with an error: %v", err)
		}
		p.end()
	}
	_ = h.bench.Close() // in memory it never fails
	h.wire.CloseIdleConnections()
	h.street.Cut()
	h.busy.Wait()
}

// launcher starts wardens for a service.
func (h *house) launcher(p *process) warden.Launcher {
	return func(log string) (warden.Life, error) {
		if p.dead.Load() {
			return nil, errDead
		}
		g := h.newGuard(p, log)
		p.mu.Lock()
		p.warden = g
		p.mu.Unlock()
		return g, nil
	}
}
