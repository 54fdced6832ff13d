package record

import (
	"errors"
	"fmt"
	"slices"

	"usherbench/core/waveform"
)

// Capture is a fast waveform of one or several channels, as a stage took it.
type Capture struct {
	// Index counts the captures of a run from 0.
	Index int    `json:"index"`
	Stage string `json:"stage"`
	// Of counts the captures of one pass of its stage, from 1.
	Of int `json:"of"`
	// T is when it was triggered, s since the start of the run.
	T float64 `json:"t"`
	// Beyond is how far it goes beyond the level that triggered it, or by how much it changes where none did, SI; 0 of
	// what a stage captures.
	Beyond   float64   `json:"beyond,omitempty"`
	Channels []Channel `json:"channels"`
}

// Channel says what is known of one channel of a capture beside its samples.
type Channel struct {
	Name string `json:"name"`
	Unit string `json:"unit"`
	// T0 is the time of the first sample, s from the trigger, and Step that between two.
	T0      float64 `json:"t0"`
	Step    float64 `json:"step"`
	Samples int     `json:"samples"`
	Clipped bool    `json:"clipped,omitempty"`
	// Low and High are its extremes, Range what the instrument could have shown, Finest the least range that it has, SI.
	Low    float64 `json:"low"`
	High   float64 `json:"high"`
	Range  float64 `json:"range,omitempty"`
	Finest float64 `json:"finest,omitempty"`
	// Bandwidth in Hz; 0: not known.
	Bandwidth float64 `json:"bandwidth,omitempty"`
}

// ChannelOf describes a waveform.
func ChannelOf(w *waveform.Waveform) Channel {
	low, high, _, _ := w.Extremes(0)
	return Channel{Name: w.Channel, Unit: w.Unit, T0: w.T0, Step: w.Step, Samples: w.Len(), Clipped: w.Clipped(),
		Low: low, High: high, Range: w.Quantum() * (float64(w.Highest) - float64(w.Lowest)), Finest: w.Finest,
		Bandwidth: w.Bandwidth}
}

// CapturesOf are the captures of a stage, those of its last pass first taken first; pass chooses another pass from 1.
func (rec *Record) CapturesOf(stage string, pass int) ([]Capture, error) {
	var passes [][]Capture
	for _, c := range rec.Captures {
		if c.Stage != stage && stage != "" {
			continue
		}
		if c.Of == 1 || len(passes) == 0 {
			passes = append(passes, nil)
		}
		last := len(passes) - 1
		passes[last] = append(passes[last], c)
	}
	switch {
	case len(passes) == 0 && stage == "":
		return nil, Because(NoMark, "no capture was taken")
	case len(passes) == 0:
		return nil, Because(NoMark, "the capture %q was not taken", stage)
	case pass > len(passes):
		return nil, Because(NoMark, "the capture %q was taken %d times", stage, len(passes))
	case pass > 0:
		return passes[pass-1], nil
	}
	return passes[len(passes)-1], nil
}

// Waveform reads a channel of a capture; empty: its only one.
func (rec *Record) Waveform(c Capture, channel string) (*waveform.Waveform, error) {
	if channel == "" && len(c.Channels) == 1 {
		channel = c.Channels[0].Name
	}
	var names []string
	for _, k := range c.Channels {
		names = append(names, k.Name)
	}
	switch {
	case channel == "":
		return nil, Because(Ambiguous, "the capture has the channels %q; say which with channel", names)
	case !slices.Contains(names, channel):
		return nil, Because(NoData, "the capture has no channel %q; it has %q", channel, names)
	case rec.Samples == nil:
		return nil, Because(NoData, "the samples of captures are not at hand")
	}
	w, err := rec.Samples(c, channel)
	if err != nil {
		return nil, fmt.Errorf("samples of %s: %w", channel, err)
	}
	if w.Len() == 0 {
		return nil, Because(NoData, "the capture has no samples")
	}
	return w, nil
}

// CodeOfCapture gives an error of a waveform its code.
func CodeOfCapture(err error, channel string) error {
	for known, code := range map[error]string{
		waveform.ErrNoData: NoData, waveform.ErrClipped: Clipped, waveform.ErrNotSettled: NotSettled,
		waveform.ErrNotReached: NotReached, waveform.ErrTooFew: TooFew, waveform.ErrNotFound: NotFound,
		waveform.ErrAmbiguous: Ambiguous,
	} {
		if errors.Is(err, known) {
			return Because(code, "%s: %s", channel, err)
		}
	}
	return err
}
