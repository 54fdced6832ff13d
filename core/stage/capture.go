package stage

import (
	"usherbench/core/record"
	"usherbench/core/waveform"
)

// Arm has what fills a seat take a capture: [Armed] tells that it waits for its trigger, [Captured] what came of it.
type Arm struct {
	Seat  string
	Setup waveform.Setup
	// Shot tells the answers to this from those to an earlier one.
	Shot int
}

// Afford asks whether what fills a seat may bear a power, W, for a time, s, from now on, and for what it takes to begin
// and to end that; [Afforded] tells when.
type Afford struct {
	Seat           string
	Watts, Seconds float64
}

// Disarm gives up what was armed.
type Disarm struct{}

// Taken puts on record what was captured last.
type Taken struct{ record.Capture }

// Dropped takes a capture from the record, since others are kept in its place.
type Dropped struct{ Index int }

// Armed says that a capture waits for its trigger.
type Armed struct {
	T    float64
	Shot int
}

// Afforded says that what was asked with [Afford] may be borne now.
type Afforded struct{ T float64 }

// Captured says what came of a capture: its channels, or why there are none.
type Captured struct {
	T float64
	// Triggered is about when it was triggered.
	Triggered float64
	Shot      int
	Channels  []record.Channel
	Missed    string
}

func (Arm) effect()     {}
func (Afford) effect()  {}
func (Disarm) effect()  {}
func (Taken) effect()   {}
func (Dropped) effect() {}
func (Armed) event()    {}
func (Afforded) event() {}
func (Captured) event() {}

// Affording stages wait until what they are about to do can be borne.
type Affording interface {
	Afforded(m *Machine, e Afforded) ([]Effect, Verdict)
}

// Capturing stages take what comes of a capture that they asked for.
type Capturing interface {
	Armed(m *Machine, e Armed) ([]Effect, Verdict)
	Captured(m *Machine, e Captured) ([]Effect, Verdict)
}

// onCapture gives a stage that captures what came of it.
func (m *Machine) onCapture(e Event, t float64) []Effect {
	if captured, is := e.(Captured); is && captured.Shot < 0 {
		return m.rareCaptured(captured)
	}
	r, ok := m.runner().(Capturing)
	if !ok || m.state.Paused {
		return nil
	}
	m.state.Now = max(m.state.Now, t)
	if armed, is := e.(Armed); is {
		m.disarmRare()
		return m.follow(r.Armed(m, armed))
	}
	captured, _ := e.(Captured)
	return m.follow(r.Captured(m, captured))
}

// NewCapture is the next capture of the run.
func (m *Machine) NewCapture(stage string, of int, t float64, channels []record.Channel) record.Capture {
	c := record.Capture{Index: m.state.Captures, Stage: stage, Of: of, T: t, Channels: channels}
	m.state.Captures++
	return c
}
