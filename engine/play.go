package engine

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"usherbench/core/kinds"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/shape"
	"usherbench/engine/outputs"
)

const (
	// leastPace is how often the service can set a level at most, wall time.
	leastPace = 10 * time.Millisecond
	// edgeLevels is how many levels an edge needs to be one.
	edgeLevels = 4
	// finestShare is the share of a shape's height to which an instrument's program resolves what moves, if it has
	// room for the steps.
	finestShare = 1.0 / 400
)

// players decides for each shape who plays it, the service or the instruments, and says why if neither can.
func (p *preflight) players() {
	factor := p.bay.engine.timeFactor
	for _, s := range p.program.Stages {
		play, ok := s.Action.(*kinds.Play)
		if !ok {
			continue
		}
		play.Pace = math.Max(play.Pace, leastPace.Seconds()*factor)
		notService := serviceCannot(play)
		notInstrument := p.bay.instrumentCannot(play)
		switch {
		case play.By != kinds.ByInstrument && notService == "":
			play.By = kinds.ByService
			p.fine("shape", "%q is paced by the service, a level every %s at least", s.Name, show(play.Pace, quantity.Time))
		case play.By != kinds.ByService && notInstrument == "":
			play.By = kinds.ByInstrument
			p.fine("shape", "%q is played by the instrument: %s", s.Name, p.bay.staircaseWords(play))
		default:
			var why []string
			if play.By != kinds.ByInstrument {
				why = append(why, "the service cannot pace it: "+notService)
			}
			if play.By != kinds.ByService {
				why = append(why, "the instrument cannot play it: "+notInstrument)
			}
			p.blocks("shape", "use a supply with a program for this, or slower edges", "%q cannot be played. %s", s.Name,
				capital(strings.Join(why, "; ")))
		}
	}
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// serviceCannot says why the service cannot pace a play; empty if it can.
func serviceCannot(play *kinds.Play) string {
	for _, t := range play.Tracks {
		if edge := t.Shape.ShortestEdge(); edge < edgeLevels*play.Pace*(1-1e-9) {
			return fmt.Sprintf("%s has an edge of %s, and a level every %s makes no edge of that", t.Column(),
				show(edge, quantity.Time), show(play.Pace, quantity.Time))
		}
		if part := t.Shape.Shortest(); part < play.Pace*(1-1e-9) {
			return fmt.Sprintf("%s has a level of %s, and the service sets one every %s", t.Column(), show(part, quantity.Time),
				show(play.Pace, quantity.Time))
		}
	}
	return ""
}

// instrumentCannot says why the instruments cannot play by their own programs; empty if they can.
func (b *Bay) instrumentCannot(play *kinds.Play) string {
	for _, t := range play.Tracks {
		x := b.seat(t.Seat)
		if x == nil {
			return "there is no seat " + t.Seat
		}
		program := x.First().Dialect.Program
		switch {
		case !program.Levels.Exists():
			return fmt.Sprintf("%s (%s) has no program of levels", t.Seat, x.First().Name)
		case program.Of != t.Quantity:
			return fmt.Sprintf("%s (%s) has a program of %s, not of %s", t.Seat, x.First().Name, program.Of, t.Quantity)
		}
		if edge := t.Shape.ShortestEdge(); edge < edgeLevels*program.Shortest.Seconds()*(1-1e-9) {
			return fmt.Sprintf("%s has an edge of %s, but %s holds each level for %s at least", t.Column(),
				show(edge, quantity.Time), x.First().Name,
				show(program.Shortest.Seconds(), quantity.Time))
		}
		if _, _, err := staircase(x, play, t); err != nil {
			return fmt.Sprintf("%s: %s", t.Column(), err)
		}
	}
	return ""
}

// staircase makes the steps of a track as fine as the instrument has room for. off is how far they are from the
// shape at most.
func staircase(x *outputs.Seat, play *kinds.Play, t kinds.Track) (steps []shape.Step, off float64, err error) {
	program := x.First().Dialect.Program
	low, high := t.Shape.Extremes()
	resolution := math.Max(high-low, 1e-9) * finestShare
	for range 12 {
		if steps, off, err = t.Shape.Staircase(program.Shortest.Seconds(), resolution, program.Most); err == nil {
			break
		}
		resolution *= 2
	}
	if err == nil {
		// A shape that is shorter than the others waits for them.
		steps[len(steps)-1].For += play.Once() - t.Shape.Duration()
	}
	return steps, off, err
}

func (b *Bay) staircaseWords(play *kinds.Play) string {
	var words []string
	for _, t := range play.Tracks {
		steps, off, err := staircase(b.seat(t.Seat), play, t)
		if err == nil {
			kind, _ := quantity.KindOf(t.Quantity)
			words = append(words, fmt.Sprintf("%s in %d levels, off the shape by %s at most", t.Column(), len(steps),
				show(off, kind.Unit.Dim)))
		}
	}
	return strings.Join(words, "; ")
}

// perform loads the programs of all tracks, then starts them one directly after the other.
func (r *liveRun) perform(ctx context.Context, action procedure.Action) error {
	play, ok := action.(*kinds.Play)
	if !ok {
		return fmt.Errorf("no instrument can do %q by a program of its own", action.Kind())
	}
	r.keeper.command(r.recorder)
	r.tickedAt = 0
	for _, t := range play.Tracks {
		x := r.bay.seat(t.Seat)
		steps, _, err := staircase(x, play, t)
		if err != nil {
			return fmt.Errorf("%s: %w", t.Column(), err)
		}
		levels := make([]float64, len(steps))
		for i, s := range steps {
			levels[i] = x.Share(t.Quantity, s.Level)
		}
		dwells := wholeDwells(steps, x.First().Dialect.Numbers.Format)
		for _, m := range x.Members {
			r.bay.alive(m.Dialect.Within*3 + outputs.JoinWait)
			if err := m.LoadProgram(ctx, levels, dwells, play.Times); err != nil {
				return err
			}
		}
	}
	r.performing = play
	for _, t := range play.Tracks {
		for _, m := range r.bay.seat(t.Seat).Members {
			if err := m.Send(ctx, "start the program", m.Dialect.Program.Start, 0); err != nil {
				return err
			}
		}
	}
	r.keeper.command(r.recorder)
	return nil
}

// wholeDwells are the dwells as the instrument takes them, in its digits, such that each step still begins when
// it should: what rounding takes from one dwell the next gets.
func wholeDwells(steps []shape.Step, format func(float64) string) []float64 {
	dwells := make([]float64, len(steps))
	var due, sent float64
	for i, s := range steps {
		due += s.For
		rounded, err := strconv.ParseFloat(format(due-sent), 64)
		if err != nil {
			rounded = due - sent // a dialect that writes numbers in another way rounds by itself
		}
		dwells[i] = rounded
		sent += rounded
	}
	return dwells
}

// halt stops programs that may still be playing.
func (r *liveRun) halt(ctx context.Context) error {
	if r.performing == nil {
		return nil
	}
	var errs []error
	for _, t := range r.performing.Tracks {
		for _, m := range r.bay.seat(t.Seat).Members {
			if stop := m.Dialect.Program.Stop; stop.Exists() {
				errs = append(errs, m.Send(ctx, "stop the program", stop, 0))
			}
		}
	}
	r.performing = nil
	return errors.Join(errs...)
}
