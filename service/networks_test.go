package service_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/service/servicetest"
	"usherbench/simbench"
)

// awayAfter is how long an instrument may be silent here: a computer that is busy with other tests makes none lost.
const awayAfter = 4 * time.Second

// Over the protocols of networks a bench does what it does over sockets: outputs go off, a scope says by itself when
// its samples are there, and an instrument that came back is told to forget what it was asked.
func TestABenchOverEveryNetwork(t *testing.T) {
	for _, way := range []string{"hislip", "vxi11"} {
		t.Run(way, func(t *testing.T) {
			t.Parallel()
			h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Scoped}, TimeFactor: 5,
				Sockets: true, Over: way, Announce: true, Change: func(c *bench.Config) {
					for _, i := range c.Instruments {
						assert.True(t, strings.HasPrefix(i.Address, way+"://"), i.Address)
					}
					b := c.Bays["bay1"]
					b.LostAfter = api.Span(awayAfter)
					c.Bays["bay1"] = b
				}})
			found, err := h.Local.Discover(t.Context(), api.Discovery{Announced: true})
			require.NoError(t, err)
			names := map[string]bool{}
			for _, f := range found {
				names[f.Name] = strings.HasPrefix(f.Identity, "Usher Bench,SIM-")
			}
			for name := range h.Running.Engine.Bench().Config().Instruments {
				assert.True(t, names[name], "%s announces itself", name)
			}
			h.Push(strings.Replace(scopeFaults, "span: 2 ms", "span: 2 s", 1)) // 0.4 s: time to be asked 40 times
			run := h.Start("bay1", "faults", "TN-1")
			require.Eventually(t, func() bool {
				captures, err := h.Local.Captures(t.Context(), run.ID)
				return err == nil && len(captures) >= 3 && on(t, h)
			}, 20*time.Second, 20*time.Millisecond)
			asked, err := h.Local.Exchanges(t.Context(), "scope1", 1000)
			require.NoError(t, err)
			polls, fetches := 0, 0
			for _, x := range asked {
				switch {
				case strings.HasPrefix(x.Message, "ACQ:STAT?"):
					polls++
				case strings.HasPrefix(x.Message, "ACQ:SCAL?"):
					fetches++
				}
			}
			assert.LessOrEqual(t, polls, 2*fetches+2, "it is asked when it is armed and when it has requested service")

			broke := time.Now()
			require.NoError(t, h.Bench.SetFault("load1", simbench.Hang))
			doc := h.Ended(run)
			assert.Equal(t, "aborted", doc.State)
			assert.Contains(t, doc.Reason, "load1")
			s, err := h.Bench.State("bay1")
			require.NoError(t, err)
			assert.False(t, s.SourceOn, "what can be reached is off")
			for _, x := range s.History {
				if x.What == "source" && !x.On && x.At.After(broke) {
					assert.Less(t, x.At.Sub(broke), faultBound+awayAfter-lostAfter, "%s went off late", x.What)
				}
			}

			require.NoError(t, h.Bench.SetFault("load1", simbench.NoFault))
			require.Eventually(t, func() bool {
				b, err := h.Local.Bay(t.Context(), "bay1")
				return err == nil && b.Alarm == "" && b.State == api.BayIdle && !on(t, h)
			}, 20*time.Second, 20*time.Millisecond, "off as soon as it can be reached again")
			again := h.Start("bay1", "faults", "TN-1")
			settled(t, h, again)
			_, err = h.Local.Stop(t.Context(), "bay1", "")
			require.NoError(t, err)
			assert.Contains(t, h.Ended(again).Reason, "stopped")
			assert.False(t, on(t, h))
		})
	}
}
