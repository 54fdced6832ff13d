package api

import "usherbench/core/record"

// Capture is a fast waveform of one or several channels.
type Capture = record.Capture

// CaptureWindow is a part of a capture, reduced to what a screen shows.
type CaptureWindow struct {
	record.Capture
	Traces []CaptureTrace `json:"traces"`
}

// CaptureTrace is a channel of a capture: times from the trigger, s, with the lowest and highest values about each,
// SI. High is left out where every entry is a single sample.
type CaptureTrace struct {
	Name string    `json:"name"`
	Unit string    `json:"unit"`
	T    []float64 `json:"t"`
	Low  []float64 `json:"low"`
	High []float64 `json:"high,omitempty"`
}
