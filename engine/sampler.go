package engine

import (
	"context"
	"math"
	"sync"
	"time"

	"usherbench/core/procedure"
	"usherbench/core/trace"
	"usherbench/instrument"
)

// seat is a function of a bay with the channel that fills it.
type seat struct {
	name       string
	kind       procedure.SeatKind
	instrument *instrument.Instrument
	channel    int

	ask     chan struct{} // asks the reader for one reading
	pending bool          // asked, and not answered yet; owned by the sampler's caller

	mu       sync.Mutex // guards what follows
	values   []float64  // last reading, in the order of the dialect's Gives
	at       time.Time  // when it came
	err      error      // why the last attempt failed
	lastGood time.Time
}

// sampler reads the seats of a bay concurrently and joins their answers to frames. A slow or dead instrument never stalls the others:
// its values are missing in the frames meanwhile. One goroutine at a time may call its methods.
type sampler struct {
	seats   []*seat
	columns trace.Columns
	places  [][]place // by seat: where each reading goes
	done    chan *seat
	timer   *time.Timer
}

// place copies a reading of the dialect into a column of the frame.
type place struct{ reading, column int }

// joinWait bounds how long a frame waits for its slowest reading, wall time.
const joinWait = 100 * time.Millisecond

func newSampler(ctx context.Context, wg *sync.WaitGroup, seats []*seat) *sampler {
	s := &sampler{seats: seats, done: make(chan *seat, len(seats)), timer: time.NewTimer(time.Hour)}
	var names []string
	for _, x := range seats {
		names = append(names, x.name)
	}
	s.columns = procedure.ColumnsFor(names)
	for _, x := range seats {
		var ps []place
		for i, q := range x.instrument.Dialect.Gives {
			if c := s.columns.Index(x.name + "." + q); c >= 0 {
				ps = append(ps, place{i, c})
			}
		}
		s.places = append(s.places, ps)
		x.ask = make(chan struct{}, 1)
		x.values = make([]float64, len(x.instrument.Dialect.Gives))
		wg.Add(1)
		go func() {
			defer wg.Done()
			x.readWhenAsked(ctx, s.done)
		}()
	}
	return s
}

func (x *seat) readWhenAsked(ctx context.Context, done chan<- *seat) {
	values := make([]float64, len(x.values))
	for {
		select {
		case <-ctx.Done():
			return
		case <-x.ask:
		}
		err := x.instrument.Read(ctx, x.channel, values)
		now := time.Now()
		x.mu.Lock()
		x.err = err
		if err == nil {
			copy(x.values, values)
			x.at, x.lastGood = now, now
		}
		x.mu.Unlock()
		select {
		case done <- x:
		case <-ctx.Done():
			return
		}
	}
}

// sample asks every seat that is not still busy and joins what comes in time to a frame's values. Derived columns are left at zero.
// skew is how far apart the readings came.
func (s *sampler) sample(values []float64) (skew time.Duration) {
	waiting := 0
	began := time.Now()
	for _, x := range s.seats {
		if !x.pending {
			x.pending = true
			x.ask <- struct{}{}
		}
		waiting++
	}
	s.timer.Reset(joinWait)
	for waiting > 0 {
		select {
		case x := <-s.done:
			x.pending = false
			waiting--
		case <-s.timer.C:
			waiting = 0
		}
	}
	s.timer.Stop()
	for i := range values {
		values[i] = 0
	}
	var first, last time.Time
	for i, x := range s.seats {
		x.mu.Lock()
		fresh := x.err == nil && !x.pending && !x.at.Before(began)
		if fresh && (first.IsZero() || x.at.Before(first)) {
			first = x.at
		}
		if fresh && x.at.After(last) {
			last = x.at
		}
		for _, p := range s.places[i] {
			values[p.column] = math.NaN()
			if fresh {
				values[p.column] = x.values[p.reading]
			}
		}
		x.mu.Unlock()
	}
	return last.Sub(first)
}

// silent finds a seat that has not answered for longer than its bay allows, with the last reason.
func (s *sampler) silent(since time.Time, lostAfter time.Duration) (*seat, error) {
	for _, x := range s.seats {
		x.mu.Lock()
		last, err := x.lastGood, x.err
		x.mu.Unlock()
		if last.Before(since) {
			last = since
		}
		if time.Since(last) > lostAfter {
			return x, err
		}
	}
	return nil, nil
}
