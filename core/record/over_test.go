package record_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/record"
	"usherbench/core/record/recordtest"
)

// stairs is a battery whose currents change at commands between frames, and nowhere else.
type stairs struct {
	commands, amps []float64 // of one stair from its command to the next
	end            float64
}

func drawStairs(r *rapid.T) stairs {
	var s stairs
	for range rapid.IntRange(2, 6).Draw(r, "stairs") {
		s.commands = append(s.commands, s.end)
		s.amps = append(s.amps, float64(rapid.IntRange(1, 40).Draw(r, "deciamps"))/10*
			rapid.SampledFrom([]float64{-1, 1}).Draw(r, "sign"))
		s.end += rapid.Float64Range(3, 20).Draw(r, "long")
	}
	return s
}

// record is what is recorded of it, a frame each so many seconds, of which scale multiplies the currents.
func (s stairs) record(every, scale, begin float64) *record.Record {
	var samples []recordtest.Sample
	var marks []record.Mark
	for k, amps := range s.amps {
		from, to := s.commands[k], s.end
		if k+1 < len(s.commands) {
			to = s.commands[k+1]
		}
		marks = append(marks, recordtest.Command(begin+from, "set"))
		for n := math.Floor(from/every) + 1; n*every <= to; n++ {
			samples = append(samples, recordtest.Sample{T: begin + n*every, Volts: 25, Amps: scale * amps})
		}
	}
	return recordtest.Battery(nil, nil, marks, samples...)
}

// moved is the charge in closed form, and the flow without sign.
func (s stairs) moved(from, to float64) (charge, flow float64) {
	for k, amps := range s.amps {
		a, b := s.commands[k], s.end
		if k+1 < len(s.commands) {
			b = s.commands[k+1]
		}
		h := math.Max(0, math.Min(to, b)-math.Max(from, a))
		charge, flow = charge+amps*h, flow+math.Abs(amps)*h
	}
	return charge, flow
}

// Currents that change at commands are counted in closed form, wherever a window begins and ends: a reading before a
// command says nothing of what is after it.
func TestAWindowKnowsItsCommands(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		s := drawStairs(r)
		rec := s.record(rapid.SampledFrom([]float64{0.5, 1}).Draw(r, "every"), 1, 0)
		b, err := rec.Terminals(0, s.end)
		require.NoError(r, err)
		at := rapid.OneOf(rapid.Float64Range(0, s.end), rapid.SampledFrom(s.commands))
		from, to := at.Draw(r, "from"), at.Draw(r, "to")
		if to-from < 2 {
			r.Skip("a window of hardly a frame")
		}
		m, err := rec.Over(b, from, to)
		require.NoError(r, err)
		want, flow := s.moved(from, to)
		require.InDelta(r, want, m.Charge, 1e-9)
		require.InDelta(r, 25*want, m.Energy, 1e-7)
		require.InDelta(r, want/(to-from), m.Amps, 1e-9)
		require.InDelta(r, 25, m.Volts, 1e-9)
		require.InDelta(r, flow/(to-from), m.Flow, 4.1*1/(to-from), "each end keeps its nearest frame")
	})
}

// Two windows side by side are one, a window of which everything flows the other way has the other sign, and it does
// not matter when the run began.
func TestWindowsAddUpTurnAroundAndMove(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		s := drawStairs(r)
		later := float64(rapid.IntRange(0, 100_000).Draw(r, "later"))
		over := func(scale, begin, from, to float64) record.Moved {
			rec := s.record(0.5, scale, begin)
			b, err := rec.Terminals(begin, begin+s.end)
			require.NoError(r, err)
			m, err := rec.Over(b, begin+from, begin+to)
			require.NoError(r, err)
			return m
		}
		middle := rapid.Float64Range(1, s.end-1).Draw(r, "middle")
		whole := over(1, 0, 0, s.end)
		require.InDelta(r, whole.Charge, over(1, 0, 0, middle).Charge+over(1, 0, middle, s.end).Charge, 1e-9)
		turned := over(-1, 0, 0, s.end)
		require.InDelta(r, whole.Charge, -turned.Charge, 1e-9)
		require.InDelta(r, whole.Flow, turned.Flow, 1e-9)
		require.InDelta(r, whole.Charge, over(1, later, 0, s.end).Charge, 1e-5)
		require.LessOrEqual(r, math.Abs(whole.Amps), whole.Flow+1e-9, "a flow has no sign")
	})
}
