package stage

import (
	"math"

	"usherbench/core/trace"
)

// KeptFrames are frames as a snapshot holds them; missing readings are null.
type KeptFrames []keptFrame

type keptFrame struct {
	T      float64    `json:"t"`
	Values []*float64 `json:"values"`
}

// Keep makes frames ready for a snapshot.
func Keep(frames []trace.Frame) KeptFrames {
	kept := make(KeptFrames, len(frames))
	for k, f := range frames {
		kept[k] = keptFrame{f.T, make([]*float64, len(f.Values))}
		for i, x := range f.Values {
			if !math.IsNaN(x) {
				kept[k].Values[i] = &x
			}
		}
	}
	return kept
}

// Frames gives them back.
func (kept KeptFrames) Frames() []trace.Frame {
	var frames []trace.Frame
	for _, k := range kept {
		f := trace.Frame{T: k.T, Values: make([]float64, len(k.Values))}
		for i, x := range k.Values {
			f.Values[i] = trace.Missing
			if x != nil {
				f.Values[i] = *x
			}
		}
		frames = append(frames, f)
	}
	return frames
}
