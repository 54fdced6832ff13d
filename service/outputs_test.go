package service_test

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/converter"
)

// dunlin is the truth of a unit with three outputs at a line and with a load at each.
func dunlin(t *testing.T, serial string, fault plant.Fault) func(line float64, amps ...float64) []float64 {
	s, err := converter.Dunlin(serial, fault)
	require.NoError(t, err)
	load := func(x float64) plant.Load { return plant.Load{On: true, Mode: plant.ConstantCurrent, Level: x} }
	return func(line float64, amps ...float64) []float64 {
		o := s.Solve(plant.Joined{Line: plant.Source{On: true, Volts: line, Amps: 5}, Output: load(amps[0]),
			Further: []plant.Joint{{Load: load(amps[1])}, {Load: load(amps[2])}}}, true)
		return []float64{o.Output.Volts, o.Further[0].Volts, o.Further[1].Volts, o.Efficiency()}
	}
}

// A supply with three outputs is tested with a load at each: every output has figures and limits of its own, what each
// does to the others is a table over all pairs, and a fault fails what it should and nothing else.
func TestSeveralOutputs(t *testing.T) {
	faults := []struct {
		fault plant.Fault
		fails []string
	}{
		{plant.Healthy, nil},
		{converter.WeakCoupling, []string{"cross-regulation load2", "cross-regulation load3"}},
		{converter.WeakRegulation, []string{"load-regulation load"}},
		{converter.LowEfficiency, []string{"efficiency "}},
	}
	faulty := map[string]string{}
	for i, f := range faults {
		faulty[fmt.Sprintf("DN-%d", 610+i)] = string(f.fault)
	}
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Outputs}, TimeFactor: 10,
			Faulty: faulty})
		for i, f := range faults {
			serial := fmt.Sprintf("DN-%d", 610+i)
			doc := h.Ended(h.Start("bay1", "dunlin-outputs", serial))
			require.Equal(t, "done", doc.State, "%s: %s", f.fault, doc.Reason)
			truth := dunlin(t, serial, f.fault)
			full := truth(24, 2, 3, 2)
			want := map[string]float64{
				"efficiency ":            full[3],
				"output-accuracy load":   100 * (full[0]/12 - 1),
				"output-accuracy load2":  100 * (full[1]/5 - 1),
				"output-accuracy load3":  100 * (full[2]/3.3 - 1),
				"line-regulation load2":  100 * math.Abs(truth(32, 2, 3, 2)[1]-truth(18, 2, 3, 2)[1]) / full[1],
				"load-regulation load":   100 * math.Abs(full[0]-truth(24, 0.1, 3, 2)[0]) / full[0],
				"cross-regulation load2": 100 * math.Abs(full[1]-truth(24, 0.1, 3, 2)[1]) / full[1],
				"cross-regulation load3": 100 * math.Max(math.Abs(full[2]-truth(24, 0.1, 3, 2)[2]),
					math.Abs(full[2]-truth(24, 2, 0.1, 2)[2])) / full[2],
			}
			var fails []string
			for _, r := range doc.Figures {
				require.Nil(t, r.Undetermined, "%s %s: %+v", f.fault, r.ID, r.Undetermined)
				name := r.ID + " " + r.Output
				if x, known := want[name]; known {
					assert.LessOrEqual(t, math.Abs(r.Value-x), 2.2*r.U, "%s %s: %.6g ± %.2g, not %.6g", f.fault, name, r.Value,
						r.U, x)
					assert.Positive(t, r.U, name)
				}
				if r.Outcome == "fail" {
					fails = append(fails, name)
				}
				if r.ID == "cross-regulation" && r.Output == "" {
					require.NotNil(t, r.Table)
					assert.Len(t, r.Table.Rows, 6, "every output with every other")
				}
			}
			assert.ElementsMatch(t, f.fails, fails, f.fault)
		}
	})
}
