// Package warden is the second process that makes safe when the service dies or stalls. The service tells it
// over a pipe what fills its bays, which of them are energised, and which are still being looked after; when
// the pipe ends or a bay is looked after no longer, the warden switches the outputs off by connections of its
// own.
//
// What is written to the pipe survives the writer, so that a service may say "energised" and be killed in the
// next moment.
package warden

import (
	"time"

	"usherbench/instrument/dialect"
)

// Plan is how the bench is made safe.
type Plan struct {
	// StallAfter is how long a bay may be without a sign of life before the warden acts; 0: the usual time.
	StallAfter time.Duration        `json:"stallAfter,omitempty"`
	Bays       map[string][]Channel `json:"bays"`
}

// Channel is an output to switch off. Those of a bay stand in the order in which that is done: what drains first.
type Channel struct {
	Seat       string           `json:"seat"`
	Kind       string           `json:"kind"`
	Instrument string           `json:"instrument"`
	Address    string           `json:"address"`
	Number     int              `json:"number"`
	Dialect    []dialect.Source `json:"dialect"` // bases first
}

// learn reads the dialects that the plan needs, before there is hurry. What is wrong with one is told when it is
// needed.
func (p Plan) learn() {
	for _, channels := range p.Bays {
		for _, ch := range channels {
			_, _ = dialect.Whole(ch.Dialect)
		}
	}
}

// word is one line of the service to the warden.
type word struct {
	Plan *Plan `json:"plan,omitempty"`
	// Bay is energised, or not any longer.
	Bay       string `json:"bay,omitempty"`
	Energised bool   `json:"energised,omitempty"`
	// Alive lists the bays that are looked after; not nil in a heartbeat.
	Alive []string `json:"alive"`
	// Alarmed lists, in a heartbeat, the bays that have an alarm: an output of theirs could not be confirmed off, which
	// people know.
	Alarmed []string `json:"alarmed,omitempty"`
	// Bye ends the watch: everything is off.
	Bye bool `json:"bye,omitempty"`
}

// Report is what the warden did, to the service and to the log that the next service reads.
type Report struct {
	At  time.Time `json:"at"`
	Bay string    `json:"bay"`
	Why string    `json:"why"`
	// Done lists the outputs that were read back as off; Failed says what could not be confirmed.
	Done   []string `json:"done,omitempty"`
	Failed string   `json:"failed,omitempty"`
	// Took is how long after the trouble was seen the last output was confirmed off, s.
	Took float64 `json:"took"`
}

const (
	// StallAfter is how long a bay may be without a sign of life before the warden acts.
	StallAfter = 550 * time.Millisecond
	// BeatInterval is how often the service says which bays are looked after.
	BeatInterval = 50 * time.Millisecond
	// killAfter is how long the warden tries beside a stalled service before it ends it: an instrument that takes
	// one connection only cannot be reached otherwise.
	killAfter = 150 * time.Millisecond
	// tryFor is how long it goes on trying to confirm outputs of a dead service.
	tryFor = 2 * time.Minute
)

// LogFile is the name of the warden's log in the data folder: one Report a line.
const LogFile = "warden.jsonl"
