package waveform

// Setup is what a capture asks of an instrument. Everything is in SI, at the unit: factors of probes are for whoever
// speaks to the instrument.
type Setup struct {
	Channels []Input `json:"channels"`
	// Span is how long the capture is, s, in so many Samples; Before is the share of it that lies before the trigger.
	Span    float64 `json:"span"`
	Samples int     `json:"samples"`
	Before  float64 `json:"before"`
	// Trigger is nil where it is taken at once.
	Trigger *Trigger `json:"trigger,omitempty"`
	// Within is how long the trigger is waited for, s.
	Within float64 `json:"within"`
}

// Input is how one channel is captured.
type Input struct {
	Name string `json:"name"`
	// Range is from the lowest to the highest value, Offset the middle of it. A range of 0 is the largest there is.
	Range  float64 `json:"range"`
	Offset float64 `json:"offset"`
	AC     bool    `json:"ac,omitempty"`
	// Bandwidth is the filter, Hz; 0: all that the instrument passes.
	Bandwidth float64 `json:"bandwidth,omitempty"`
}

// Trigger is what starts a capture.
type Trigger struct {
	Channel string  `json:"channel"`
	Level   float64 `json:"level"`
	Falling bool    `json:"falling,omitempty"`
}
