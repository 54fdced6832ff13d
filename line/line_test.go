package line

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/api"
	"usherbench/engine"
	"usherbench/store"
)

// floor is a fake of the engine: bays that begin what they are given, unless told otherwise.
type floor struct {
	store   *store.Store
	bays    map[string]*place
	journal []string
	unsound error // what is wrong with every procedure
}

func (f *floor) Bay(name string) (bay, error) {
	if b, ok := f.bays[name]; ok {
		return b, nil
	}
	return nil, fmt.Errorf("%w: %s", engine.ErrUnknownBay, name)
}
func (f *floor) Resolve(store.Revision, map[string]string) error { return f.unsound }
func (f *floor) Journal(e store.JournalEntry)                    { f.journal = append(f.journal, e.What) }

// place is a fake bay; it is written between the ticks of the line only.
type place struct {
	floor   *floor
	busy    bool
	handled bool
	unit    string
	refuse  error // what the next start is answered with
	began   []store.Waiting
	vouched [][]string
	last    *api.RunSummary
	held    *api.Held
}

func (p *place) Last() *api.RunSummary        { return p.last }
func (p *place) Held() *api.Held              { return p.held }
func (p *place) GoOn(string, time.Time) error { p.held = nil; return nil }

func (p *place) Free() bool    { return !p.busy }
func (p *place) Handled() bool { return p.handled }
func (p *place) Unit() string  { return p.unit }
func (p *place) StartInTurn(_ context.Context, _ string, id uint, r api.StartRun) (api.RunSummary, error) {
	if p.refuse != nil {
		return api.RunSummary{}, p.refuse
	}
	w, err := p.floor.store.Waiting(id)
	if err != nil {
		return api.RunSummary{}, err
	}
	p.began, p.vouched = append(p.began, w), append(p.vouched, r.Vouched)
	p.busy, p.unit = true, r.Serial
	return api.RunSummary{}, p.floor.store.Begin(&store.Run{ID: fmt.Sprintf("run%d", id), Bay: w.Bay, Serial: w.Serial},
		id)
}

// serials are what has begun in a bay, in order.
func (p *place) serials() (all []string) {
	for _, w := range p.began {
		all = append(all, w.Serial+" "+w.Procedure)
	}
	return all
}

// newFloor is a floor of three bays with handlers, with two procedures to run.
func newFloor(t *testing.T, folder string) *floor {
	s, err := store.Open(filepath.Join(folder, "usher.db"))
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	f := &floor{store: s, bays: map[string]*place{}}
	for _, name := range []string{"bay1", "bay2", "bay3"} {
		f.bays[name] = &place{floor: f, handled: true}
	}
	for _, name := range []string{"first", "second"} {
		_, _, err := s.PushRevision(store.Revision{Name: name, Text: "procedure: " + name})
		require.NoError(t, err)
	}
	return f
}

// tick lets the line have looked once more.
func tick() {
	time.Sleep(interval)
	synctest.Wait()
}

// served has a line over a floor, in a bubble of simulated time.
func served(t *testing.T, test func(t *testing.T, f *floor, l *Line)) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		f := newFloor(t, t.TempDir())
		l := open(f, f.store, slog.New(slog.DiscardHandler))
		defer l.Close()
		time.Sleep(interval / 2) // the test acts between the looks of the line
		test(t, f, l)
	})
}

func enqueue(t require.TestingT, l *Line, bays, serials, procedures []string) []store.Waiting {
	all, err := l.Enqueue("ada", api.Enqueue{Bays: bays, Serials: serials, Procedures: procedures}, nil)
	require.NoError(t, err)
	return all
}

func TestUnitsAreDealtOutAndGoThroughEveryProcedureInOrder(t *testing.T) {
	served(t, func(t *testing.T, f *floor, l *Line) {
		enqueue(t, l, []string{"bay1", "bay2"}, []string{"A", "B", "C"}, []string{"first", "second"})
		for range 10 {
			tick()
			for _, b := range f.bays {
				b.busy = false
			}
		}
		assert.Equal(t, []string{"A first", "A second", "C first", "C second"}, f.bays["bay1"].serials())
		assert.Equal(t, []string{"B first", "B second"}, f.bays["bay2"].serials())
		assert.Empty(t, f.bays["bay3"].serials())
		left, err := f.store.Queue("")
		require.NoError(t, err)
		assert.Empty(t, left)
	})
}

func TestABusyBayKeepsItsLineWaiting(t *testing.T) {
	served(t, func(t *testing.T, f *floor, l *Line) {
		f.bays["bay1"].busy = true
		enqueue(t, l, []string{"bay1"}, []string{"A"}, []string{"first"})
		tick()
		assert.Empty(t, f.bays["bay1"].began)
		f.bays["bay1"].busy, f.bays["bay1"].refuse = false, engine.ErrBusy // somebody is faster
		tick()
		all, err := f.store.Queue("bay1")
		require.NoError(t, err)
		require.Len(t, all, 1)
		assert.Empty(t, all[0].Held, "it is nobody's fault")
		f.bays["bay1"].refuse = nil
		tick()
		assert.Equal(t, []string{"A first"}, f.bays["bay1"].serials())
	})
}

func TestWhatMustBeMendedHoldsARunUntilItIsReleased(t *testing.T) {
	served(t, func(t *testing.T, f *floor, l *Line) {
		b := f.bays["bay1"]
		b.refuse = &engine.Blocked{Words: "the cover is open", Findings: []api.PreflightFinding{
			{Check: "cover", Verdict: api.Blocks, Vouch: true, What: "nobody knows whether the cover is closed"}}}
		waiting := enqueue(t, l, []string{"bay1"}, []string{"A", "B"}, []string{"first"})
		tick()
		held, err := f.store.Waiting(waiting[0].ID)
		require.NoError(t, err)
		assert.Equal(t, "the cover is open", held.Held)
		assert.Equal(t, []string{"cover"}, held.Asks)
		b.refuse = nil
		tick()
		assert.Empty(t, b.began, "what stands behind a held run waits too")
		released, err := l.Release("ada", held.ID)
		require.NoError(t, err)
		assert.Empty(t, released.Held)
		tick()
		assert.Equal(t, []string{"A first"}, b.serials())
		assert.Equal(t, []string{"cover"}, b.vouched[0], "who lets it go on vouches for what was asked")
		assert.Equal(t, []string{"put in line", "held in line", "released in line"}, f.journal)
		_, err = l.Release("ada", held.ID)
		assert.ErrorIs(t, err, store.ErrNotFound, "it has begun")
	})
}

func TestWithoutAHandlerSomebodyPutsTheUnitInPlace(t *testing.T) {
	served(t, func(t *testing.T, f *floor, l *Line) {
		b := f.bays["bay1"]
		b.handled, b.unit = false, "A"
		waiting := enqueue(t, l, []string{"bay1"}, []string{"A", "B"}, []string{"first"})
		tick()
		assert.Equal(t, []string{"A first"}, b.serials(), "it is in place already")
		b.busy = false
		tick()
		held, err := f.store.Waiting(waiting[1].ID)
		require.NoError(t, err)
		assert.Equal(t, "put B in place, then let it begin", held.Held)
		_, err = l.Release("ada", held.ID)
		require.NoError(t, err)
		tick()
		assert.Equal(t, []string{"A first", "B first"}, b.serials())
	})
}

func TestARunWaitsForItsTime(t *testing.T) {
	served(t, func(t *testing.T, f *floor, l *Line) {
		tonight := time.Now().Add(time.Hour)
		_, err := l.Enqueue("ada", api.Enqueue{Bays: []string{"bay1"}, Serials: []string{"A"}, Procedures: []string{"first"},
			NotBefore: &tonight}, nil)
		require.NoError(t, err)
		time.Sleep(59 * time.Minute)
		synctest.Wait()
		assert.Empty(t, f.bays["bay1"].began)
		time.Sleep(2 * time.Minute)
		synctest.Wait()
		assert.Len(t, f.bays["bay1"].began, 1)
	})
}

func TestAServiceThatEndsPutsBackWhatHadNotBegun(t *testing.T) {
	served(t, func(t *testing.T, f *floor, l *Line) {
		f.bays["bay1"].refuse = engine.ErrStopping
		waiting := enqueue(t, l, []string{"bay1"}, []string{"A"}, []string{"first"})
		tick()
		w, err := f.store.Waiting(waiting[0].ID)
		require.NoError(t, err)
		assert.Empty(t, w.Held)
		l.Close()
		f.bays["bay1"].refuse = nil
		tick()
		assert.Empty(t, f.bays["bay1"].began, "a line that was closed begins nothing")
		again := open(f, f.store, slog.New(slog.DiscardHandler))
		defer again.Close()
		tick()
		assert.Len(t, f.bays["bay1"].began, 1, "the next service does")
	})
}

func TestABayThatWasTakenAwayHoldsItsLine(t *testing.T) {
	served(t, func(t *testing.T, f *floor, l *Line) {
		waiting := enqueue(t, l, []string{"bay2"}, []string{"A"}, []string{"first"})
		delete(f.bays, "bay2")
		tick()
		w, err := f.store.Waiting(waiting[0].ID)
		require.NoError(t, err)
		assert.Contains(t, w.Held, "no such bay: bay2")
	})
}

func TestNothingUnsoundComesIntoTheLine(t *testing.T) {
	served(t, func(t *testing.T, f *floor, l *Line) {
		good := api.Enqueue{Bays: []string{"bay1"}, Serials: []string{"A"}, Procedures: []string{"first"}}
		for name, c := range map[string]struct {
			change func(*api.Enqueue)
			want   error
		}{
			"no bays":        {func(r *api.Enqueue) { r.Bays = nil }, api.ErrBadRequest},
			"no units":       {func(r *api.Enqueue) { r.Serials = nil }, api.ErrBadRequest},
			"no procedures":  {func(r *api.Enqueue) { r.Procedures = nil }, api.ErrBadRequest},
			"too many":       {func(r *api.Enqueue) { r.Serials = make([]string, mostWaiting+1) }, api.ErrBadRequest},
			"a bad serial":   {func(r *api.Enqueue) { r.Serials = []string{"A", "<b>"} }, api.ErrBadRequest},
			"a strange bay":  {func(r *api.Enqueue) { r.Bays = []string{"bay1", "bay9"} }, engine.ErrUnknownBay},
			"no such text":   {func(r *api.Enqueue) { r.Procedures = []string{"third"} }, store.ErrNotFound},
			"an unsound one": {func(*api.Enqueue) { f.unsound = errors.New("no guard") }, nil},
		} {
			r := good
			c.change(&r)
			_, err := l.Enqueue("ada", r, nil)
			require.Error(t, err, name)
			if c.want != nil {
				assert.ErrorIs(t, err, c.want, name)
			}
			f.unsound = nil
		}
		left, err := f.store.Queue("")
		require.NoError(t, err)
		assert.Empty(t, left, "all of a request or nothing")
	})
}

// Whoever adds, takes out, releases, refuses or is busy, in whatever order: nothing begins twice, nothing
// begins that was taken out, and what begins in a bay begins in the order of its line.
func TestWhateverHappensALineKeepsItsOrder(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		synctest.Test(t, func(t *testing.T) {
			f := newFloor(t, t.TempDir())
			l := open(f, f.store, slog.New(slog.DiscardHandler))
			defer l.Close()
			time.Sleep(interval / 2)
			var all []store.Waiting
			out := map[uint]bool{}
			for range rapid.IntRange(1, 25).Draw(r, "steps") {
				b := f.bays[rapid.SampledFrom([]string{"bay1", "bay2"}).Draw(r, "bay")]
				switch rapid.IntRange(0, 5).Draw(r, "what") {
				case 0:
					all = append(all, enqueue(r, l, []string{"bay1", "bay2"}, []string{"A", "B"}, []string{"first"})...)
				case 1:
					b.busy = !b.busy
				case 2:
					b.refuse = rapid.SampledFrom([]error{nil, engine.ErrBusy, engine.ErrStopping,
						&engine.Blocked{Words: "mend it"}}).Draw(r, "refuse")
				case 3, 4:
					if len(all) == 0 {
						continue
					}
					w := rapid.SampledFrom(all).Draw(r, "entry")
					if rapid.Bool().Draw(r, "out") {
						if l.Dequeue("ada", w.ID) == nil {
							out[w.ID] = true
						}
					} else {
						_, _ = l.Release("ada", w.ID)
					}
				default:
					tick()
				}
			}
			for _, name := range []string{"bay1", "bay2"} {
				var ids []uint
				for _, w := range f.bays[name].began {
					assert.False(r, out[w.ID], "it was taken out")
					assert.Equal(r, name, w.Bay)
					ids = append(ids, w.ID)
				}
				assert.True(r, slices.IsSorted(ids), "%v", ids)
				assert.Len(r, slices.Compact(slices.Clone(ids)), len(ids), "each begins once")
			}
		})
	})
}

// What a stop holds waits, first in line, until somebody says go on; who releases a run says it for the bay.
func TestAHeldBayBeginsNothing(t *testing.T) {
	served(t, func(t *testing.T, f *floor, l *Line) {
		b := f.bays["bay1"]
		b.held = &api.Held{Why: "its run was stopped by ada"}
		waiting := enqueue(t, l, []string{"bay1", "bay2"}, []string{"A", "B", "C"}, []string{"first"})
		for range 5 {
			tick()
		}
		assert.Empty(t, b.began)
		assert.Len(t, f.bays["bay2"].began, 1, "another bay is not held for it")
		_, err := l.Release("ada", waiting[0].ID)
		require.NoError(t, err)
		tick()
		assert.Equal(t, []string{"A first"}, b.serials())

		b.busy, b.refuse = false, fmt.Errorf("%w: stopped meanwhile", engine.ErrHeld)
		tick()
		left, err := f.store.Queue("bay1")
		require.NoError(t, err)
		require.Len(t, left, 1)
		assert.Empty(t, left[0].Held, "a stop while it was prepared is not the unit's fault")
	})
}

// What waits for a unit whose run failed is set aside, and the others go on; what is put in line afterwards begins.
func TestWhatWaitsForAFailedUnitIsSetAside(t *testing.T) {
	served(t, func(t *testing.T, f *floor, l *Line) {
		b := f.bays["bay1"]
		enqueue(t, l, []string{"bay1"}, []string{"A", "B"}, []string{"first", "second"})
		tick()
		ended := time.Now()
		b.last = &api.RunSummary{ID: "run1", Serial: "A", Procedure: "first", State: "failed", Reason: "no voltage",
			EndedAt: &ended}
		b.busy = false
		tick()
		assert.Equal(t, []string{"A first", "B first"}, b.serials())
		queue, err := f.store.Queue("bay1")
		require.NoError(t, err)
		assert.True(t, queue[0].SetAside)
		assert.Equal(t, "first of A is failed: no voltage; look at the unit, then let it begin or take it out", queue[0].Held)

		time.Sleep(time.Second)
		enqueue(t, l, []string{"bay1"}, []string{"A"}, []string{"first"})
		b.last = &api.RunSummary{ID: "run3", Serial: "B", Procedure: "first", State: "done", EndedAt: &ended}
		for range 3 {
			b.busy = false
			tick()
		}
		assert.Equal(t, []string{"A first", "B first", "B second", "A first"}, b.serials())
	})
}
