package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"usherbench/core/procedure"
	"usherbench/engine/outputs"
	"usherbench/instrument"
	"usherbench/store"
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
			if err := r.count(ctx, x, m); err != nil {
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

// count has an instrument begin to count by itself. One that refuses is read as one that cannot, and that is put on
// record: its totals would stand still.
func (r *liveRun) count(ctx context.Context, x *outputs.Seat, m *outputs.Member) error {
	err := m.Count(ctx)
	if !instrument.Refused(err) {
		return err
	}
	r.counters.ByReadings(x.Name)
	r.bay.engine.Journal(store.JournalEntry{By: "service", Bay: r.bay.name, RunID: r.record.ID,
		What: "an instrument does not count", Detail: fmt.Sprintf("what flows at %s is counted by its readings: %s", x.Name,
			err)})
	return nil
}
