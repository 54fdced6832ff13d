package service_test

import (
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/client"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// dark tells by the bench's own record whether every output of a bay is off.
func dark(t *testing.T, h *servicetest.House, bay string) bool {
	t.Helper()
	s, err := h.Bench.State(bay)
	require.NoError(t, err)
	return !s.SourceOn && !s.LoadOn
}

// wentOn counts how often outputs of a bay were switched on.
func wentOn(t *testing.T, h *servicetest.House, bay string) (n int) {
	t.Helper()
	s, err := h.Bench.State(bay)
	require.NoError(t, err)
	for _, x := range s.History {
		if x.On {
			n++
		}
	}
	return n
}

// breakOne gives the instrument of a seat a fault, or takes it away.
func breakOne(t *testing.T, h *servicetest.House, kind string, fault simbench.InstrumentFault) {
	t.Helper()
	for _, i := range h.Bench.Instruments() {
		if i.Kind == kind {
			require.NoError(t, h.Bench.SetFault(i.Name, fault))
			return
		}
	}
	t.Fatalf("there is no %s", kind)
}

func TestAfterStopAllNothingBeginsBeforeSomebodySaysGoOn(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		ctx := t.Context()
		_, err := h.Local.Enqueue(ctx, api.Enqueue{Bays: []string{"bay1"}, Serials: []string{"TN-1", "TN-2", "TN-3"},
			Procedures: []string{"long"}})
		require.NoError(t, err)
		live := func(serial string) func() bool {
			return func() bool {
				runs, err := h.Local.Runs(ctx, client.RunFilter{Serial: serial, State: "live", Limit: 5})
				return err == nil && len(runs) == 1 && !dark(t, h, "bay1")
			}
		}
		require.Eventually(t, live("TN-1"), 20*time.Second, 20*time.Millisecond)
		bays, err := h.Local.StopAll(ctx, "smoke")
		require.NoError(t, err)
		require.True(t, bays[0].Held.House)
		assert.Contains(t, bays[0].Held.Why, "smoke")
		assert.True(t, dark(t, h, "bay1"))
		on := wentOn(t, h, "bay1")

		h.Push(strings.Replace(long, "procedure: long", "procedure: other", 1)) // the service works
		_, err = h.Local.StartRun(ctx, api.StartRun{Bay: "bay1", Procedure: "other", Serial: "TN-9"})
		assert.Equal(t, http.StatusConflict, problemOf(t, err).Status)
		assert.Contains(t, problemOf(t, err).Detail, "say go on for the whole house")
		_, err = h.Local.Set(ctx, "bay1", api.ManualSet{Seat: "source", Quantity: "output", Value: "on"})
		assert.Contains(t, problemOf(t, err).Detail, "everything is held")
		_, err = h.Local.Set(ctx, "bay1", api.ManualSet{Seat: "source", Quantity: "output", Value: "off"})
		require.NoError(t, err, "what switches off is never refused")
		queue, err := h.Local.Queue(ctx, "bay1")
		require.NoError(t, err)
		require.Len(t, queue, 2)
		assert.Contains(t, queue[0].Held, "everything was stopped")

		h.Close() // what is held is held after a restart too
		h.Open()
		bay, err := h.Local.Bay(ctx, "bay1")
		require.NoError(t, err)
		require.NotNil(t, bay.Held)
		assert.True(t, bay.Held.House)
		_, err = h.Local.GoOnBay(ctx, "bay1")
		assert.ErrorContains(t, err, "whole house", "one bay does not go on for itself")
		assert.Equal(t, on, wentOn(t, h, "bay1"), "nothing went on since")

		seen := bay.Held.At
		_, err = h.Local.StopAll(ctx, "sparks, meanwhile")
		require.NoError(t, err)
		_, err = h.Local.GoOn(ctx, seen)
		assert.Contains(t, problemOf(t, err).Detail, "sparks, meanwhile", "the stop that was seen is not the one that holds")
		bay, err = h.Local.Bay(ctx, "bay1")
		require.NoError(t, err)
		require.NotNil(t, bay.Held)
		_, err = h.Local.GoOn(ctx, bay.Held.At)
		require.NoError(t, err)
		require.Eventually(t, live("TN-2"), 20*time.Second, 20*time.Millisecond)
		assert.Contains(t, journalOfBay(t, h, ""), "go on: held since")
	})
}

func journalOfBay(t *testing.T, h *servicetest.House, bay string) string {
	t.Helper()
	entries, err := h.Local.Journal(t.Context(), api.JournalFilter{Bay: bay, Limit: 200})
	require.NoError(t, err)
	var words []string
	for _, e := range entries {
		words = append(words, e.What+": "+e.Detail)
	}
	return strings.Join(words, "\n")
}

// A run that is being prepared when everything is stopped does not go on when what it waited for comes.
func TestAStopCancelsWhatIsBeingPrepared(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		asked, go_ := make(chan struct{}, 10), make(chan struct{})
		handler := servicetest.Serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked <- struct{}{}
			select {
			case <-go_:
			case <-r.Context().Done():
			}
		}))
		defer close(go_)
		h := servicetest.Start(t, servicetest.Options{Change: func(c *bench.Config) {
			b := c.Bays["bay1"]
			b.Handler = handler
			c.Bays["bay1"] = b
		}})
		h.Push(long)
		for _, stop := range []func() error{
			func() error { _, err := h.Local.Stop(t.Context(), "bay1", ""); return err },
			func() error { _, err := h.Local.MakeSafe(t.Context(), "bay1", ""); return err },
			func() error { _, err := h.Local.StopAll(t.Context(), ""); return err },
		} {
			started := make(chan error, 1)
			go func() {
				_, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "long", Serial: "TN-1"})
				started <- err
			}()
			<-asked
			require.NoError(t, stop())
			p := problemOf(t, <-started)
			assert.Equal(t, http.StatusConflict, p.Status)
			assert.Contains(t, p.Detail, "the start was stopped by")
			assert.Zero(t, wentOn(t, h, "bay1"))
		}
	})
}

// What waits for a unit whose run was aborted is set aside; the next unit goes on.
func TestTheRestOfAUnitThatFailedIsSetAside(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(strings.Replace(strings.Replace(long, "procedure: long", "procedure: breach", 1), "  - name: wait\n",
			"  - name: breach\n    set: {load: {amps: 6 A}}\n  - name: wait\n", 1))
		h.Push(long)
		ctx := t.Context()
		_, err := h.Local.Enqueue(ctx, api.Enqueue{Bays: []string{"bay1"}, Serials: []string{"TN-1", "TN-2"},
			Procedures: []string{"breach", "long"}})
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			runs, err := h.Local.Runs(ctx, client.RunFilter{Serial: "TN-2", Limit: 5})
			return err == nil && len(runs) == 1 && runs[0].State == "aborted"
		}, 60*time.Second, 50*time.Millisecond, "the next unit had its turn")
		var queue []api.Waiting
		require.Eventually(t, func() bool {
			queue, err = h.Local.Queue(ctx, "bay1")
			return err == nil && len(queue) == 2 && queue[1].Held != ""
		}, 20*time.Second, 20*time.Millisecond)
		for _, w := range queue {
			assert.Contains(t, w.Held, "breach of "+w.Serial+" is aborted: guard tripped")
			assert.Contains(t, w.Held, "look at the unit")
		}
		_, err = h.Local.Release(ctx, queue[0].ID)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			runs, err := h.Local.Runs(ctx, client.RunFilter{Serial: "TN-1", State: "live", Limit: 5})
			return err == nil && len(runs) == 1 && runs[0].Procedure == "long"
		}, 20*time.Second, 50*time.Millisecond, "who looked at it may let it go on")
	})
}

// With the database gone a stop still switches off, and says so.
func TestAStopNeedsNoDatabase(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2})
		h.Push(long)
		h.Start("bay1", "long", "TN-1")
		h.Start("bay2", "long", "TN-2")
		lit := func() bool { return !dark(t, h, "bay1") && !dark(t, h, "bay2") }
		require.Eventually(t, lit, 20*time.Second, 20*time.Millisecond)
		file := filepath.Join(h.Data, "usher.db")
		require.NoError(t, os.Truncate(file, 0))
		require.NoError(t, os.Truncate(file+"-wal", 0))
		_, err := h.Local.Stop(t.Context(), "bay1", "")
		require.NoError(t, err)
		assert.True(t, dark(t, h, "bay1"))
		_, err = h.Local.StopAll(t.Context(), "")
		require.NoError(t, err)
		assert.True(t, dark(t, h, "bay2"))
		running := h.Running
		h.Running = nil
		_ = running.Close() // it cannot write what it would
	})
}

// full has every write to a table fail as on a disk that is full, until room is called.
func full(t *testing.T, h *servicetest.House, table, when string) (room func()) {
	t.Helper()
	db, err := gorm.Open(sqlite.Open("file:" + filepath.Join(h.Data, "usher.db") + "?_busy_timeout=10000"))
	require.NoError(t, err)
	require.NoError(t, db.Exec("CREATE TRIGGER full BEFORE "+when+" ON "+table+
		" BEGIN SELECT RAISE(FAIL, 'database or disk is full'); END").Error)
	return func() {
		require.NoError(t, db.Exec("DROP TRIGGER full").Error)
		plain, err := db.DB()
		require.NoError(t, err)
		require.NoError(t, plain.Close())
	}
}

// A run whose end could not be stored does not start itself again, whatever its procedure says.
func TestARunThatHasEndedNeverGoesOn(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(strings.Replace(long, "for: tern\n", "for: tern\nresume: always\n", 1))
		run := h.Start("bay1", "long", "TN-1")
		require.Eventually(t, func() bool { return !dark(t, h, "bay1") }, 20*time.Second, 20*time.Millisecond)
		room := full(t, h, "runs", "UPDATE")
		_, err := h.Local.Stop(t.Context(), "bay1", "")
		require.NoError(t, err)
		assert.True(t, dark(t, h, "bay1"))
		require.Eventually(t, func() bool {
			health, err := h.Local.Health(t.Context())
			return err == nil && strings.Contains(strings.Join(health.Problems, " "), "how run "+run.ID+" ended is kept in mem")
		}, 20*time.Second, 50*time.Millisecond)
		on := wentOn(t, h, "bay1")
		h.Close()
		room()
		h.Open()
		doc, err := h.Local.Run(t.Context(), run.ID)
		require.NoError(t, err)
		assert.Equal(t, "aborted", doc.State)
		assert.Contains(t, doc.Reason, "stopped by")
		assert.Equal(t, on, wentOn(t, h, "bay1"))
		left, err := filepath.Glob(filepath.Join(h.Data, "endings", "*"))
		require.NoError(t, err)
		assert.Empty(t, left, "its end is on record now")
	})
}

// As soon as there is room again the end of a run is stored, without a restart.
func TestAnEndIsStoredAsSoonAsThereIsRoom(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		run := h.Start("bay1", "long", "TN-1")
		require.Eventually(t, func() bool { return !dark(t, h, "bay1") }, 20*time.Second, 20*time.Millisecond)
		room := full(t, h, "chunks", "INSERT")
		_, err := h.Local.Stop(t.Context(), "bay1", "")
		require.NoError(t, err)
		room()
		require.Eventually(t, func() bool {
			doc, err := h.Local.Run(t.Context(), run.ID)
			return err == nil && doc.State == "aborted" && doc.Frames > 0
		}, 20*time.Second, 50*time.Millisecond, "with its tail")
	})
}

// A write that fails once ends no run; the record is kept in memory meanwhile, and says so.
func TestAFailedWriteEndsNoRun(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		run := h.Start("bay1", "long", "TN-1")
		room := full(t, h, "chunks", "INSERT")
		require.Eventually(t, func() bool {
			doc, err := h.Local.Run(t.Context(), run.ID)
			return err == nil && h.Running.Store.Flush() != nil && doc.State == "live"
		}, 20*time.Second, 100*time.Millisecond)
		room()
		require.NoError(t, h.Running.Store.Flush())
		_, err := h.Local.Stop(t.Context(), "bay1", "")
		require.NoError(t, err)
		doc := h.Ended(run)
		assert.Contains(t, doc.Reason, "stopped by")
		window, err := h.Local.Window(t.Context(), run.ID, nil, client.Range{}, 100)
		require.NoError(t, err)
		assert.NotEmpty(t, window.T)
	})
}

// Without a journal nobody can say who switched an output on, so nothing goes on by hand; off always goes.
func TestWithoutAJournalNothingGoesOnByHand(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		room := full(t, h, "journal_entries", "INSERT")
		_, err := h.Local.Set(t.Context(), "bay1", api.ManualSet{Seat: "source", Quantity: "output", Value: "on"})
		p := problemOf(t, err)
		assert.Equal(t, http.StatusConflict, p.Status)
		assert.Contains(t, p.Detail, "nothing was set: the journal cannot be written")
		assert.Zero(t, wentOn(t, h, "bay1"))
		_, err = h.Local.Set(t.Context(), "bay1", api.ManualSet{Seat: "source", Quantity: "output", Value: "off"})
		require.NoError(t, err)
		_, err = h.Local.MakeSafe(t.Context(), "bay1", "")
		require.NoError(t, err)
		room()
		require.Eventually(t, func() bool {
			return strings.Contains(journalOfBay(t, h, "bay1"), "made safe")
		}, 20*time.Second, 50*time.Millisecond, "what was done is written when it can be")
	})
}

// An output that is on by hand has a net: an instrument that is lost, and a command that fails, make the bay safe.
func TestByHandThereIsANet(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		set := func(seat, quantity, value string) error {
			_, err := h.Local.Set(t.Context(), "bay1", api.ManualSet{Seat: seat, Quantity: quantity, Value: value})
			return err
		}
		for _, s := range [][3]string{{"source", "volts", "48 V"}, {"source", "amps", "1 A"}, {"source", "output", "on"},
			{"load", "mode", "current"}, {"load", "amps", "0.5 A"}, {"load", "output", "on"}} {
			require.NoError(t, set(s[0], s[1], s[2]), "%v", s)
		}
		breakOne(t, h, "load", simbench.Hang)
		require.Eventually(t, func() bool {
			s, err := h.Bench.State("bay1")
			require.NoError(t, err)
			b, err := h.Local.Bay(t.Context(), "bay1")
			return err == nil && !s.SourceOn && strings.Contains(b.Alarm, "load (") && b.Held != nil
		}, 20*time.Second, 50*time.Millisecond)
		breakOne(t, h, "load", simbench.NoFault)
		require.Eventually(t, func() bool {
			b, err := h.Local.Bay(t.Context(), "bay1")
			return err == nil && b.Alarm == "" && dark(t, h, "bay1")
		}, 20*time.Second, 50*time.Millisecond)
		assert.Contains(t, journalOfBay(t, h, "bay1"), "what was on by hand was switched off")

		require.NoError(t, set("source", "output", "on"))
		breakOne(t, h, "load", simbench.ErrorQueue)
		err := set("load", "output", "on")
		p := problemOf(t, err)
		assert.Equal(t, http.StatusBadGateway, p.Status)
		assert.Contains(t, p.Detail, "the outputs of the bay were made safe")
		assert.True(t, dark(t, h, "bay1"))
	})
}

// What is beyond what an instrument can measure is no reading, and the run tells of it.
func TestAnOverloadIsToldFromAMissingReading(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		run := h.Start("bay1", "long", "TN-1")
		require.Eventually(t, func() bool { return !dark(t, h, "bay1") }, 20*time.Second, 20*time.Millisecond)
		breakOne(t, h, "load", simbench.NotANumber)
		time.Sleep(time.Second)
		breakOne(t, h, "load", simbench.Overload)
		time.Sleep(time.Second)
		breakOne(t, h, "load", simbench.NoFault)
		_, err := h.Local.Stop(t.Context(), "bay1", "")
		require.NoError(t, err)
		doc, err := h.Local.Run(t.Context(), run.ID)
		require.NoError(t, err)
		var told []string
		for _, m := range doc.Marks {
			if strings.Contains(m.Label, "beyond") {
				told = append(told, m.Label)
			}
		}
		slices.Sort(told)
		assert.Equal(t, []string{"load.amps is beyond what load1 can measure, and has no reading",
			"load.volts is beyond what load1 can measure, and has no reading"}, told)
	})
}

// A bay with an alarm is configured anew only after a person said that they looked; what it had stays in sight.
func TestReconfiguringHidesNoAlarm(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2})
		h.Push(long)
		h.Start("bay1", "long", "TN-1")
		require.Eventually(t, func() bool { return !dark(t, h, "bay1") }, 20*time.Second, 20*time.Millisecond)
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		source := config.Bays["bay1"].Seats["source"].Instrument
		require.NoError(t, h.Bench.SetFault(source, simbench.StuckOutput))
		_, err = h.Local.Stop(t.Context(), "bay1", "")
		assert.Equal(t, http.StatusBadGateway, problemOf(t, err).Status)
		bay, err := h.Local.Bay(t.Context(), "bay1")
		require.NoError(t, err)
		require.Contains(t, bay.Alarm, "source (")

		without := config.Bays["bay1"]
		without.Seats = map[string]api.SeatConfig{"load": config.Bays["bay1"].Seats["load"]}
		for _, change := range []func() error{
			func() error { _, err := h.Local.PutBay(t.Context(), "bay1", without); return err },
			func() error { _, err := h.Local.RemoveBay(t.Context(), "bay1"); return err },
		} {
			p := problemOf(t, change())
			assert.Equal(t, http.StatusConflict, p.Status)
			assert.Contains(t, p.Detail, "usher bench looked bay1")
		}
		_, err = h.As(api.Operator).Looked(t.Context(), "bay1")
		assert.Equal(t, http.StatusForbidden, problemOf(t, err).Status)
		_, err = h.Local.Looked(t.Context(), "bay2")
		assert.ErrorContains(t, err, "has no alarm")
		_, err = h.Local.Looked(t.Context(), "bay1")
		require.NoError(t, err)
		_, err = h.Local.PutBay(t.Context(), "bay1", without)
		require.NoError(t, err)
		health, err := h.Local.Health(t.Context())
		require.NoError(t, err)
		assert.Contains(t, strings.Join(health.Problems, "\n"), "bay1 (before): An output may still be on: source (")

		h.Close()
		h.Open() // the service that comes after knows of it too
		health, err = h.Local.Health(t.Context())
		require.NoError(t, err)
		assert.Contains(t, strings.Join(health.Problems, "\n"), "bay1 (before): An output may still be on: source (")
		require.NoError(t, h.Bench.SetFault(source, simbench.NoFault))
		require.Eventually(t, func() bool {
			health, err := h.Local.Health(t.Context())
			return err == nil && dark(t, h, "bay1") && !strings.Contains(strings.Join(health.Problems, "\n"), "(before)")
		}, 20*time.Second, 50*time.Millisecond, "it is tried until it reads back as off")
		h.Close()
		h.Open()
		health, err = h.Local.Health(t.Context())
		require.NoError(t, err)
		assert.NotContains(t, strings.Join(health.Problems, "\n"), "(before)", "and then forgotten")
		assert.Contains(t, journalOfBay(t, h, "bay1"), "looked at the outputs: states that they are off")
	})
}

// Outputs that no bay has any longer, of an instrument that is gone for good, are forgotten when a person says so.
func TestWhatIsGoneForGoodIsForgotten(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		h.Start("bay1", "long", "TN-1")
		require.Eventually(t, func() bool { return !dark(t, h, "bay1") }, 20*time.Second, 20*time.Millisecond)
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		require.NoError(t, h.Bench.SetFault(config.Bays["bay1"].Seats["source"].Instrument, simbench.StuckOutput))
		_, err = h.Local.Stop(t.Context(), "bay1", "")
		require.Error(t, err)
		_, err = h.Local.Looked(t.Context(), "bay1")
		require.NoError(t, err)
		_, err = h.Local.RemoveBay(t.Context(), "bay1")
		require.NoError(t, err)
		problems := func() string {
			health, err := h.Local.Health(t.Context())
			require.NoError(t, err)
			return strings.Join(health.Problems, "\n")
		}
		require.Contains(t, problems(), `usher bench forget "bay1 (before)"`)

		assert.Equal(t, http.StatusNotFound, problemOf(t, h.Local.ForgetOutputs(t.Context(), "bay1")).Status)
		operator := h.As(api.Operator)
		assert.Equal(t, http.StatusForbidden, problemOf(t, operator.ForgetOutputs(t.Context(), "bay1 (before)")).Status)
		require.NoError(t, h.Local.ForgetOutputs(t.Context(), "bay1 (before)"))
		assert.NotContains(t, problems(), "(before)")
		assert.Contains(t, journalOfBay(t, h, "bay1 (before)"), "forgot the outputs: states that they are off, or gone")
		h.Close()
		h.Open()
		assert.NotContains(t, problems(), "(before)")

		h.Close()
		require.NoError(t, os.WriteFile(filepath.Join(h.Data, "left", "bay7 (before).json"), []byte("{"), 0o600))
		h.Open()
		assert.Contains(t, problems(), "what is left of bay7 (before) cannot be read", "nobody tries it, so people must know")
	})
}

// Looking at the bench, however often, asks an instrument nothing.
func TestLookingCostsAnInstrumentNothing(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		all, err := h.Local.Instruments(t.Context())
		require.NoError(t, err)
		questions := func() (n int) {
			for _, i := range all {
				exchanges, err := h.Local.Exchanges(t.Context(), i.Name, 1000)
				require.NoError(t, err)
				for _, x := range exchanges {
					if strings.Contains(x.Message, "*IDN?") {
						n++
					}
				}
			}
			return n
		}
		before := questions()
		for range 60 {
			list, err := h.Local.Instruments(t.Context())
			require.NoError(t, err)
			for _, i := range list {
				require.True(t, i.Healthy, i.Problem)
				require.NotEmpty(t, i.Identity)
			}
		}
		assert.Equal(t, before, questions())
	})
}

// An output that somebody switched on at the instrument is no business of a run, and nothing is done to it unasked.
func TestAnOutputThatIsOnAlreadyBlocksAStart(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{})
		h.Push(long)
		config, err := h.Local.BenchConfig(t.Context())
		require.NoError(t, err)
		conn := h.Dial(config.Bays["bay1"].Seats["source"].Instrument)
		_, err = conn.Write([]byte("OUTPUT 1\nOUTPUT?\n"))
		require.NoError(t, err)
		answer := make([]byte, 16)
		_, err = conn.Read(answer)
		require.NoError(t, err)
		require.False(t, dark(t, h, "bay1"), string(answer))
		_, err = h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "long", Serial: "TN-1"})
		assert.Contains(t, problemOf(t, err).Detail, "is on, though nobody here switched it on")
		assert.False(t, dark(t, h, "bay1"))
		_, err = h.Local.MakeSafe(t.Context(), "bay1", "")
		require.NoError(t, err)
		assert.True(t, dark(t, h, "bay1"))
		h.Start("bay1", "long", "TN-1")
	})
}
