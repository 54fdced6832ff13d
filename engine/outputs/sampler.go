package outputs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"usherbench/api"
	"usherbench/core/quantity"
	"usherbench/core/trace"
)

// reading is the last that a channel gave. The reader writes it, the sampler takes it.
type reading struct {
	mu       sync.Mutex
	values   []float64 // in the order of the dialect's Gives
	began    time.Time // when it was asked for
	at       time.Time // when it came
	taken    bool      // a frame has it
	err      error     // why the last attempt failed
	lastGood time.Time
	beyond   []beyond      // of each reading
	usual    time.Duration // how long an answer takes, a moving average

	pending bool         // asked, and not answered yet; owned by the sampler's caller
	eager   atomic.Int64 // until when a slow channel reads on without being asked, Unix ns
}

// Sampler reads the seats of a bay concurrently and joins their answers to frames. A slow or dead instrument
// never stalls the others: its values are missing in the frames meanwhile. One goroutine at a time may call its
// methods.
type Sampler struct {
	seats   []*Seat
	members []*Member
	Columns trace.Columns
	places  [][]place // by seat: where each reading goes
	done    chan *Member
	timer   *time.Timer
	shares  []float64     // of the members of one seat, reused
	noted   atomic.Uint64 // how often a reading went beyond its range, or came back
	began   time.Time     // when the present frame began
	since   time.Time     // when it was made
	pace    float64       // of the bench's clock
}

// place says which reading goes into a column of the frame, and what a sensor makes of it.
type place struct {
	quantity, from string
	column         int
}

// JoinWait bounds how long a frame waits for its slowest reading, wall time. glimpseAfter is when guards look
// at what is there.
const (
	JoinWait     = 100 * time.Millisecond
	glimpseAfter = 5 * time.Millisecond
	// slowAt is the least time that makes an instrument a slow one, for which no frame waits.
	slowAt = 10 * time.Millisecond
)

// NewSampler has the seats read beside the caller whenever they are asked, until the context ends.
func NewSampler(ctx context.Context, beside func(reads func()), seats []*Seat) *Sampler {
	s := &Sampler{seats: seats, timer: time.NewTimer(time.Hour), since: time.Now(), pace: 1}
	for _, x := range seats {
		s.Columns = append(s.Columns, x.Kind.Columns(x.Name, x.Gives)...)
	}
	for _, x := range seats {
		var ps []place
		for _, q := range x.Gives {
			if c := s.Columns.Index(x.Name + "." + q); c >= 0 {
				from := q
				if sensor := x.Config.Sensors[q]; sensor.From != "" {
					from = sensor.From
				}
				ps = append(ps, place{q, from, c})
			}
		}
		s.places = append(s.places, ps)
		if x.Kind.Sampled() { // another may be busy for long, and whoever captures sees whether it answers
			s.members = append(s.members, x.Members...)
		}
	}
	s.done = make(chan *Member, len(s.members))
	for _, m := range s.members {
		m.ask = make(chan struct{}, 1)
		m.reading.values = make([]float64, len(m.gives))
		m.reading.beyond = make([]beyond, len(m.gives))
		beside(func() { m.readWhenAsked(ctx, s) })
	}
	return s
}

// Counters are those of the bay; a seat that measures watts keeps them.
func (s *Sampler) Counters() *trace.Counters {
	var names []string
	for _, x := range s.seats {
		names = append(names, x.Name)
	}
	c := trace.NewCounters(s.Columns, names)
	for _, x := range s.seats {
		if slices.Contains(x.Gives, "watts") {
			c.Measured(x.Name)
		}
		for _, q := range x.Gives {
			kind, _ := quantity.KindOf(q)
			if kind.Counted && !(q == "energy" && x.Leads().Ohms > 0) { // that is counted before the leads
				c.Totalled(x.Name + "." + q)
			}
		}
	}
	return c
}

func (m *Member) readWhenAsked(ctx context.Context, s *Sampler) {
	values := make([]float64, len(m.gives))
	for {
		select {
		case <-ctx.Done():
			return
		case <-m.ask:
		}
		slow := m.readOnce(ctx, values, &s.noted)
		for slow && time.Now().UnixNano() < m.reading.eager.Load() {
			m.lookForTrip(ctx)
			slow = m.readOnce(ctx, values, &s.noted)
		}
		select {
		case s.done <- m:
		case <-ctx.Done():
			return
		}
		m.lookForTrip(ctx)
	}
}

// readOnce takes one reading; slow tells whether the instrument is one that no frame waits for.
func (m *Member) readOnce(ctx context.Context, values []float64, noted *atomic.Uint64) (slow bool) {
	began := time.Now()
	var err error
	if len(m.gives) > 0 {
		err = m.drive.Read(ctx, values)
	} else { // a sign of life of what reads nothing
		_, err = m.drive.OutputOn(ctx)
	}
	now := time.Now()
	r := &m.reading
	r.mu.Lock()
	defer r.mu.Unlock()
	r.err = err
	if err != nil {
		return false
	}
	for i, x := range values {
		now := beyondOf(m.Dialect.ReadRanges[quantity.WholeOf(m.gives[i])], x)
		if now == overload {
			x = math.NaN()
		}
		if r.values[i] = x; now != r.beyond[i] {
			r.beyond[i] = now
			noted.Add(1)
		}
	}
	r.began, r.at, r.lastGood, r.taken = began, now, now, false
	r.usual += (now.Sub(began) - r.usual) / 4
	return r.usual > slowAt
}

// Sample asks every seat that is not still busy and joins what comes in time to a frame's values. Derived
// columns are left at zero. interval is the time between frames: an instrument that usually takes longer than
// half of it reads at its own rate, and the frames between its readings have none of it. If something is late,
// glimpse is called once with what is there by then. Once ctx has ended nothing is waited for, and all is missing.
func (s *Sampler) Sample(ctx context.Context, values []float64, interval time.Duration, glimpse func()) Taken {
	s.drain()
	s.began = time.Now()
	waiting := 0
	for _, m := range s.members {
		r := &m.reading
		r.mu.Lock()
		slow := r.usual > max(slowAt, interval/2)
		r.mu.Unlock()
		if slow {
			r.eager.Store(s.began.Add(2*interval + JoinWait).UnixNano())
		}
		if !r.pending {
			r.pending = true
			m.ask <- struct{}{}
		}
		if !slow {
			waiting++
		}
	}
	s.await(ctx, values, waiting, glimpse)
	if ctx.Err() != nil {
		for i := range values {
			values[i] = math.NaN()
		}
		return Taken{}
	}
	return s.fill(values, true)
}

// Members lists the channels that are read.
func (s *Sampler) Members() []*Member { return s.members }

// drain notes who has answered since the last frame.
func (s *Sampler) drain() {
	for {
		select {
		case m := <-s.done:
			m.reading.pending = false
		default:
			return
		}
	}
}

// await waits for answers, with a look at what is there when some are late.
func (s *Sampler) await(ctx context.Context, values []float64, waiting int, glimpse func()) {
	s.timer.Reset(glimpseAfter)
	for late := false; waiting > 0; {
		select {
		case <-ctx.Done():
			waiting = 0
		case m := <-s.done:
			if s.asksAgain(m) {
				continue
			}
			m.reading.pending = false
			waiting--
		case <-s.timer.C:
			if late {
				return
			}
			late = true
			s.timer.Reset(JoinWait - glimpseAfter)
			if glimpse != nil {
				s.fill(values, false)
				glimpse()
			}
		}
	}
	s.timer.Stop()
}

// asksAgain asks a fast channel once more whose answer was to the question of an earlier frame.
func (s *Sampler) asksAgain(m *Member) bool {
	m.reading.mu.Lock()
	old := m.reading.err == nil && m.reading.usual <= slowAt && m.reading.began.Before(s.began)
	m.reading.mu.Unlock()
	if old {
		m.ask <- struct{}{}
	}
	return old
}

// Taken is when the readings of a frame were taken: some time after the first of them was asked for, and before the
// last of them came. Readings of slow instruments have their own time; both are zero where a frame has no others.
type Taken struct{ From, To time.Time }

// with takes one more reading in.
func (t Taken) with(r *reading) Taken {
	if t.From.IsZero() || r.began.Before(t.From) {
		t.From = r.began
	}
	if r.at.After(t.To) {
		t.To = r.at
	}
	return t
}

// fill puts readings that no frame had into the columns; take marks them as had.
func (s *Sampler) fill(values []float64, take bool) (taken Taken) {
	clear(values)
	for i, x := range s.seats {
		fresh := true
		for _, m := range x.Members {
			r := &m.reading
			r.mu.Lock()
			// What was asked for before the frame began may be from before a command; only slow instruments are read
			// across frames.
			fresh = fresh && r.err == nil && !r.taken && !r.at.IsZero() && (r.usual > slowAt || !r.began.Before(s.began))
			if fresh && r.usual <= slowAt {
				taken = taken.with(r)
			}
			r.mu.Unlock()
		}
		for _, p := range s.places[i] {
			values[p.column] = math.NaN()
			if fresh {
				values[p.column] = s.value(x, p)
			}
		}
		if take {
			s.bear(x)
		}
		if fresh && take {
			for _, m := range x.Members {
				m.reading.mu.Lock()
				m.reading.taken = true
				m.reading.mu.Unlock()
			}
			s.watchShares(x)
		}
	}
	return taken
}

// value is one quantity of a seat, at the unit: the readings of its channels joined, and what a sensor makes of them.
func (s *Sampler) value(x *Seat, p place) float64 {
	return x.atUnit(p.quantity, s.sensed(x, p.quantity, p.from), func() float64 {
		from := "amps"
		if sensor := x.Config.Sensors["amps"]; sensor.From != "" {
			from = sensor.From
		}
		return s.sensed(x, "amps", from)
	})
}

func (s *Sampler) sensed(x *Seat, quantity, from string) float64 {
	v := s.raw(x, from)
	if sensor, ok := x.Config.Sensors[quantity]; ok {
		return sensor.Value(v)
	}
	return v
}

func (s *Sampler) raw(x *Seat, q string) float64 {
	s.shares = s.shares[:0]
	for _, m := range x.Members {
		m.reading.mu.Lock()
		value, ok := m.newest(q)
		m.reading.mu.Unlock()
		if !ok {
			return math.NaN()
		}
		s.shares = append(s.shares, value)
	}
	return x.Joined(q, s.shares)
}

// defaultImbalance is how far a share may be from the mean; below leastShare of the range nothing is said,
// since offsets rule there.
const (
	defaultImbalance = 0.1
	leastShare       = 0.005
)

// watchShares notes since when the channels of a gang have shared unevenly.
func (s *Sampler) watchShares(x *Seat) {
	q := map[string]string{api.GangSeries: "volts", api.GangParallel: "amps"}[x.Gang]
	if q == "" || math.IsNaN(s.raw(x, q)) {
		return
	}
	mean, worst := 0.0, 0.0
	for _, v := range s.shares {
		mean += v / float64(len(s.shares))
	}
	for _, v := range s.shares {
		worst = math.Max(worst, math.Abs(v-mean))
	}
	bound := x.Config.Imbalance
	if bound == 0 {
		bound = defaultImbalance
	}
	least := 0.0
	if most, ok := x.First().Dialect.Most(q); ok {
		least = leastShare * most
	}
	switch {
	case worst <= bound*math.Abs(mean) || worst <= least:
		x.uneven = time.Time{}
	case x.uneven.IsZero():
		x.uneven = time.Now()
	}
}

var errSilent = errors.New("the question is still open")

// silence is how long a member has given no good reading, counted from since at the earliest.
func (m *Member) silence(since time.Time) time.Duration {
	m.reading.mu.Lock()
	last := m.reading.lastGood
	m.reading.mu.Unlock()
	if last.Before(since) {
		last = since
	}
	return time.Since(last)
}

// why is what kept the newest reading away.
func (r *reading) why() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err == nil {
		return errSilent
	}
	return r.err
}

// silentSeats names the seats of an instrument that have given no reading for some time.
func (s *Sampler) silentSeats(instrument string, since time.Time, atLeast time.Duration) string {
	var names []string
	for _, m := range s.members {
		if m.Name == instrument && m.silence(since) > atLeast && !slices.Contains(names, m.seat.Name) {
			names = append(names, m.seat.Name)
		}
	}
	return strings.Join(names, ", ")
}

// Trouble finds a seat that cannot be trusted any longer: one whose interlock is open, one that has not answered for
// longer than its bay allows, or a gang that shares unevenly for as long. It says what and what to do; empty if all
// is well.
func (s *Sampler) Trouble(since time.Time, lostAfter time.Duration) string {
	for _, x := range s.seats {
		if why := cmp.Or(x.unlocked(), s.overborne(x)); why != "" {
			return why
		}
	}
	for _, m := range s.members {
		if m.silence(since) > lostAfter {
			return fmt.Sprintf("instrument %s (%s) has not answered for %g s: %v; check its power, cable and address, then "+
				"start again", m.Name, s.silentSeats(m.Name, since, lostAfter/2), lostAfter.Seconds(), m.reading.why())
		}
	}
	for _, x := range s.seats {
		if !x.uneven.IsZero() && time.Since(x.uneven) > lostAfter {
			return fmt.Sprintf("the channels of %s (%s) share unevenly for %g s; "+
				"check their wiring and that all are switched on", x.Name, x.Channels(), lostAfter.Seconds())
		}
	}
	return ""
}
