package engine

import (
	"context"
	"maps"
	"slices"
	"strings"

	"usherbench/engine/outputs"
)

// prepareChannels sets protections and sense as the procedure asks, and clears protections that tripped.
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
			if need.Name == x.Name && need.Sense != "" {
				if err := r.setSense(ctx, x, need.Sense); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func (r *liveRun) setSense(ctx context.Context, x *outputs.Seat, sense string) error {
	for _, m := range x.Members {
		if _, ok := m.Dialect.Words["sense"][sense]; !ok {
			continue
		}
		if err := m.SetWord(ctx, "sense", sense); err != nil {
			return err
		}
	}
	return nil
}
