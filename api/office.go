package api

import "time"

// Look is how reports look and what language their fixed words have; empty is English on A4.
type Look struct {
	// Paper is a4 or letter; empty: a4.
	Paper string `json:"paper,omitempty"`
	// Language is en, de or fr; empty: en.
	Language string `json:"language,omitempty"`
	// Company stands in the head, beside its logo, which is a PNG or JPEG.
	Company string `json:"company,omitempty"`
	Logo    []byte `json:"logo,omitempty"`
	// Document numbers a report by a pattern, such as SLW-{procedure}-{serial}; empty: the id of the run.
	Document string `json:"document,omitempty"`
	// Signatures are who signs: "Tested by".
	Signatures []string `json:"signatures,omitempty"`
}

// Office is what the office has set for the whole house.
type Office struct {
	Look Look `json:"look"`
	// OnlyReleased has operators run procedures only that have a released revision. Where a procedure has one, operators
	// run that in any case.
	OnlyReleased bool `json:"onlyReleased,omitempty"`
	// Reports is a folder in the data folder into which the report of every run that ends is written, named by the pattern
	// File; empty: they are made when somebody asks.
	Reports string `json:"reports,omitempty"`
	// ReportsSince is when that was set.
	ReportsSince time.Time `json:"reportsSince,omitzero"`
	File         string    `json:"file,omitempty"`
	// Tell are those who are told of every run that ends.
	Tell []Told `json:"tell,omitempty"`
}

// Told is somebody who is told of every run that ends: http:// or https:// is posted to, mqtt://host:1883/topic gets a
// message of MQTT 5.
type Told struct {
	To string `json:"to"`
	// Secret signs what is sent; an answer never tells it.
	Secret string `json:"secret,omitempty"`
	// Since is when it was set; runs that ended before are not told of.
	Since time.Time `json:"since,omitzero"`
}

// OutboxMessage is that somebody is to be told of a run, or was.
type OutboxMessage struct {
	ID    uint       `json:"id"`
	To    string     `json:"to"`
	Run   string     `json:"run"`
	At    time.Time  `json:"at"`
	Tries int        `json:"tries"`
	Next  time.Time  `json:"next"`
	Error string     `json:"error,omitempty"`
	Sent  *time.Time `json:"sent,omitempty"`
}

// RunEnded is what is sent: how a run ended, with its figures.
type RunEnded struct {
	Event string `json:"event"` // "run-ended"
	// Message is the same for every try of the same message.
	Message uint       `json:"message"`
	Run     RunSummary `json:"run"`
	Figures any        `json:"figures"`
}

// ReleaseRequest makes a revision of a procedure one that operators may run, or a draft again.
type ReleaseRequest struct {
	// Revision is 0 for the newest.
	Revision int    `json:"revision,omitempty"`
	Released bool   `json:"released"`
	Why      string `json:"why,omitempty"`
}

// Released is by whom, when and why a revision was released.
type Released struct {
	By  string    `json:"by"`
	At  time.Time `json:"at"`
	Why string    `json:"why"`
}

// JournalFilter chooses entries of the journal; empty fields choose all.
type JournalFilter struct {
	Bay, Run, By, What string
	Since, Until       time.Time
	Limit              int
}
