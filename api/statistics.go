package api

// Statistic is what a column of a run, or a channel of a capture, is over a window, in its unit. What cannot be told is
// left out.
type Statistic struct {
	Name string `json:"name"`
	Unit string `json:"unit"`
	// N is how many readings or samples the window has.
	N       int      `json:"n"`
	Mean    *float64 `json:"mean,omitempty"`
	RMS     *float64 `json:"rms,omitempty"`
	Least   *float64 `json:"least,omitempty"`
	Largest *float64 `json:"largest,omitempty"`
	// Slope is per s, Integral over s.
	Slope    *float64 `json:"slope,omitempty"`
	Integral *float64 `json:"integral,omitempty"`
	// Frequency is the dominant one of a capture, Hz.
	Frequency *float64 `json:"frequency,omitempty"`
}
