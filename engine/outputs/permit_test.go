package outputs

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"usherbench/core/procedure"
	"usherbench/core/seats"
)

var errStopped = errors.New("stopped by ada")

func TestWithoutAPermitNothingIsSetButOff(t *testing.T) {
	b := newBench(t, []string{"source"})
	x := b.board.Seat("source")
	on := procedure.Setting{Seat: "source", Quantity: seats.Output, Word: seats.On}
	volts := procedure.Setting{Seat: "source", Quantity: "volts", Value: 12}
	off := procedure.Setting{Seat: "source", Quantity: seats.Output, Word: seats.Off}
	for _, s := range []procedure.Setting{on, volts} {
		assert.ErrorIs(t, b.board.Apply(t.Context(), x, s), ErrNoPermit)
	}
	assert.Empty(t, b.took(), "nothing was said to anybody")
	require.NoError(t, b.board.Apply(t.Context(), x, off))

	p := NewPermit(t.Context())
	b.board.Grant(p)
	require.NoError(t, b.board.Apply(t.Context(), x, on))
	p.Void(errStopped)
	b.took()
	assert.ErrorIs(t, b.board.Apply(t.Context(), x, volts), errStopped)
	assert.Empty(t, b.took())
	require.NoError(t, b.board.Apply(t.Context(), x, off), "what switches off needs no leave")
	assert.Contains(t, b.took(), "source output off")
}

// A permit that a stop has taken away stays so, also when somebody says go on and gets one of their own meanwhile.
func TestAVoidPermitNeverBecomesGood(t *testing.T) {
	before := NewPermit(t.Context())
	before.Void(errStopped)
	before.Void(errors.New("another reason"))
	after := NewPermit(t.Context())
	assert.ErrorIs(t, before.Err(), errStopped, "the first reason stays")
	assert.NoError(t, after.Err())
}

// What is on its way when the stop comes is not sent: whoever sends it asks the context when it is its turn.
func TestAStopCutsOffWhatIsOnItsWay(t *testing.T) {
	p := NewPermit(context.Background())
	ctx, cancel := p.Join(t.Context())
	defer cancel()
	require.NoError(t, ctx.Err())
	p.Void(errStopped)
	select {
	case <-ctx.Done():
	case <-time.After(5 * time.Second):
		t.Fatal("the context goes on")
	}
	assert.ErrorIs(t, context.Cause(ctx), errStopped)
}

// Whatever is done before and after a stop, and by whom: nothing that was begun before it goes on after it.
func TestNothingGoesOnAfterAStop(t *testing.T) {
	names := []string{"source", "load", "cycler"}
	rapid.Check(t, func(rt *rapid.T) {
		b := newBench(t, names)
		permits := []*Permit{NewPermit(context.Background())}
		b.board.Grant(permits[0])
		for range rapid.IntRange(1, 30).Draw(rt, "steps") {
			owner := permits[len(permits)-1]
			switch rapid.SampledFrom([]string{"on", "stop", "go on", "late"}).Draw(rt, "step") {
			case "on":
				name := rapid.SampledFrom(names).Draw(rt, "seat")
				_ = b.board.Apply(context.Background(), b.board.Seat(name),
					procedure.Setting{Seat: name, Quantity: seats.Output, Word: seats.On})
			case "stop":
				owner.Void(errStopped)
				require.NoError(rt, b.board.MakeSafe("stop", ""))
			case "go on": // the next owner comes when the one before has given the bay back
				owner.Void(context.Canceled)
				permits = append(permits, NewPermit(context.Background()))
				b.board.Grant(permits[len(permits)-1])
			case "late": // somebody tries with what they had before
				b.board.Grant(rapid.SampledFrom(permits).Draw(rt, "whose"))
			}
			if errors.Is(owner.Err(), errStopped) {
				for _, name := range names {
					require.False(rt, b.fakes[name].on && b.board.permit.Load().Err() != nil, "%s went on after the stop", name)
				}
			}
		}
		permits[len(permits)-1].Void(errStopped)
		require.NoError(rt, b.board.MakeSafe("stop", ""))
		for _, late := range permits {
			b.board.Grant(late)
			for _, name := range names {
				require.Error(rt, b.board.Apply(context.Background(), b.board.Seat(name),
					procedure.Setting{Seat: name, Quantity: seats.Output, Word: seats.On}))
				require.False(rt, b.fakes[name].on)
			}
		}
	})
}
