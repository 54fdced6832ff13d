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

// Makeup is what a channel of a capture is made of over a window: its frequencies, and its values.
type Makeup struct {
	Name string `json:"name"`
	Unit string `json:"unit"`
	// Hertz and Amplitudes are the lines of the spectrum of what alternates, as sines have them, through a Hann window;
	// of lines that are close to each other the strongest.
	Hertz      []float64 `json:"hertz"`
	Amplitudes []float64 `json:"amplitudes"`
	// Values are the middles of the bars of its histogram, Shares the share of the samples in each.
	Values []float64 `json:"values"`
	Shares []float64 `json:"shares"`
}
