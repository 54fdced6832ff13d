package archive

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/core/foreignlog"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/uncertainty"
	"usherbench/store"
)

// Names of the channels of a capture that was brought in with no procedure of its own.
const (
	importedVolts = "output"
	importedAmps  = "current"
)

// usualOfCapture is a procedure with the figures that a capture may have: those of a ripple, and those of a step.
func usualOfCapture(name string, log *foreignlog.Log) string {
	span := log.T[len(log.T)-1] - log.T[0]
	return fmt.Sprintf(`# Made for a capture that was brought in: nothing is set, and every figure is asked for that it
# may have.
procedure: imported-capture
title: Imported capture
for: %s
needs:
  scope: {}
stages:
  - name: capture
    capture: {channels: [%s, %s], span: %g s}
figures:
  - {figure: ripple-pp, channel: %[2]s, discard: 0.5 %%}
  - {figure: ripple-rms, channel: %[2]s}
  - {figure: dominant-frequency, channel: %[2]s}
  - {figure: transient-undershoot, channel: %[2]s}
  - {figure: transient-overshoot, channel: %[2]s}
  - {figure: rise-time, channel: %[2]s}
  - {figure: slew, channel: %[2]s}
`, cmp.Or(name, "any"), importedVolts, importedAmps, span)
}

// shotFor is the stage of a procedure that a capture stands for, and what its channels are called there: the first is
// that of the volts, the second that of the amps.
func shotFor(program *procedure.Program, asked string) (name string, channels []string, err error) {
	var names []string
	for _, s := range program.Stages {
		c, ok := s.Action.(procedure.Capturing)
		if !ok {
			continue
		}
		if names = append(names, s.Name); asked == "" || asked == s.Name {
			return s.Name, append(slices.Clone(c.CapturedChannels()), importedVolts, importedAmps), nil
		}
	}
	if len(names) == 0 {
		return "", nil, fmt.Errorf("%w: procedure %s takes no capture", api.ErrBadRequest, program.Name)
	}
	return "", nil, fmt.Errorf("%w: procedure %s has no capture %q; it has %s", api.ErrBadRequest, program.Name, asked,
		strings.Join(names, ", "))
}

// takeCapture puts a capture on record as the only one of a run without frames.
func takeCapture(s *store.Store, run *store.Run, request api.ImportLog, log *foreignlog.Log) error {
	program, _, err := run.Program()
	if err != nil {
		return fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	name, channels, err := shotFor(program, request.Stage)
	if err != nil {
		return err
	}
	waves, err := log.Waveforms(channels[0], channels[1])
	if err != nil {
		return fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	specs, err := accuracies(request.Accuracy)
	if err != nil {
		return fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	stated := map[string]uncertainty.Spec{}
	if specs != "" {
		if err := json.Unmarshal([]byte(specs), &stated); err != nil {
			return err
		}
	}
	c := record.Capture{Stage: name, Of: 1}
	var packed []store.PackedWave
	for _, w := range waves {
		column := map[string]string{"V": importedColumns["volts"], "A": importedColumns["amps"]}[w.Unit]
		if spec := stated[column]; len(spec) > 0 {
			w.Gain, w.Offset, w.Stated = spec[0].Reading, spec[0].Offset, true
		}
		c.Channels, packed = append(c.Channels, record.ChannelOf(w)), append(packed, store.PackWave(w))
	}
	run.Columns = []string{}
	if err := s.CreateRun(run); err != nil {
		return err
	}
	r := s.NewRecorder(run.ID, run.Columns)
	if err := r.Capture(c, packed); err != nil {
		return err
	}
	r.Mark(record.Mark{T: 0, Kind: record.MarkCapture, Label: "captured elsewhere"})
	for _, words := range remarksOf(log) {
		r.Mark(record.Mark{T: 0, Kind: record.MarkBench, Label: words})
	}
	run.Duration = log.T[len(log.T)-1] - log.T[0]
	ended := run.StartedAt.Add(time.Duration(run.Duration * float64(time.Second)))
	run.EndedAt = &ended
	return r.Finish(map[string]any{"ended_at": &ended, "duration": run.Duration, "frames": 0,
		"state": string(stage.Done)})
}
