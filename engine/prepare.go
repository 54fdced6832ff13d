package engine

import (
	"context"
	"maps"
	"slices"
	"strings"

	"usherbench/core/procedure"
	"usherbench/engine/outputs"
)

// prepareChannels sets protections and choices as the procedure asks, and clears protections that tripped.
// Outputs are off.
func (r *liveRun) prepareChannels(ctx context.Context) error {
	for _, x := range r.bay.outputs.Seats() {
		for _, m := range x.Members {
			r.bay.alive(m.Dialect.Within + outputs.JoinWait)
			if err := m.ClearTrip(ctx); err != nil {
				return err
			}
			if err := m.StopProgram(ctx); err != nil {
				return err
			}
			if err := m.Count(ctx); err != nil {
				return err
			}
			for _, name := range slices.Sorted(maps.Keys(r.program.Protect[x.Name])) {
				if _, ok := m.Dialect.Protect[name]; !ok {
					continue // preflight has warned
				}
				q := name[:strings.Index(name, " ")]
				if err := m.Protect(ctx, name, x.Share(q, r.program.Protect[x.Name][name])); err != nil {
					return err
				}
			}
		}
		for _, need := range r.program.Seats {
			if need.Name != x.Name {
				continue
			}
			for _, name := range slices.Sorted(maps.Keys(need.Choices)) {
				setting := procedure.Setting{Seat: x.Name, Quantity: name, Word: need.Choices[name]}
				if _, can := x.First().Dialect.Words[name][setting.Word]; !can {
					continue // it is built so, as preflight has seen
				}
				if err := r.bay.outputs.Apply(ctx, x, setting); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
