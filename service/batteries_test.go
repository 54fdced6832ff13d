package service_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"math"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"usherbench/api"
	"usherbench/bench"
	"usherbench/client"
	"usherbench/core/procedure"
	"usherbench/demo"
	"usherbench/service/servicetest"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/battery"
)

// figureOf finds a figure of a run.
func figureOf(t *testing.T, doc api.Run, id string) procedure.Judged {
	t.Helper()
	for _, f := range doc.Figures {
		if f.ID == id {
			return f
		}
	}
	t.Fatalf("the run has no figure %s: %+v", id, doc.Figures)
	return procedure.Judged{}
}

// downTo empties a pack from the state in which it is clipped in.
const downTo = `procedure: down
for: gannet
needs: {cycler: {volts: 29.4 V, amps: 9.6 A}, thermo: {}}
parameters: {cut: {value: 21.037 V}}
record: {every: 1 s}
stages:
  - name: empty
    discharge: {amps: 1 C, cutoff: cut, time: 4 h}
figures:
  - {figure: capacity, cutoff: cut}
`

// Frames come at ×100, so that one lies every second or so of bench time; a cutoff falls between two of them.
// Two packs at once: a whole one, and one with a cell that collapses.
func TestCapacityIsThatOfThePlant(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 2, Layouts: []simbench.Layout{simbench.BatteryPack,
			simbench.BatteryPack}, TimeFactor: 100, Ideal: true})
		_, err := h.Local.PushProcedure(t.Context(), downTo, "")
		require.NoError(t, err)
		runs := map[plant.Fault]api.RunSummary{}
		serials := map[plant.Fault]string{plant.Healthy: "GP-401", battery.Collapsing: demo.CollapsingPack}
		for i, fault := range []plant.Fault{plant.Healthy, battery.Collapsing} {
			run, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: fmt.Sprintf("bay%d", i+1), Procedure: "down",
				Serial: serials[fault]})
			require.NoError(t, err)
			runs[fault] = run
		}
		for fault, run := range runs {
			doc := h.Ended(run)
			require.Equal(t, "done", doc.State, doc.Reason)
			pack, err := battery.Gannet(run.Serial, fault)
			require.NoError(t, err)
			_, truth := pack.ToCutoff(battery.NewUnit(pack, plant.HalfFull).State, 9.6, 21.037)
			capacity := figureOf(t, doc, "capacity")
			require.Nil(t, capacity.Undetermined)
			off := 100 * (capacity.Value/(truth/3600) - 1)
			assert.Less(t, math.Abs(off), 0.1, "one frame a second or so: %.5f Ah, truth %.5f Ah", capacity.Value, truth/3600)
		}
	})
}

func TestAChargerIsLoggedAndItsStagesNamed(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.Charged}, TimeFactor: 900})
		answering(t, h)
		// The charger is plugged in when the operator is asked to.
		go func() {
			_ = h.Local.Live(t.Context(), "", 0, func(e client.Event) error {
				var b api.Bay
				if e.Kind == api.EventBay && e.Into(&b) == nil && b.Prompt != nil && b.Prompt.Stage == "connect" {
					return h.Bench.Plug("bay1", true)
				}
				return nil
			}, nil)
		}()
		doc := h.Ended(h.Start("bay1", "gannet-charger", "GP-305"))
		require.Equal(t, "done", doc.State, doc.Reason)
		stages := figureOf(t, doc, "charger-stages")
		require.Nil(t, stages.Undetermined)
		var names []string
		for _, row := range stages.Table.Rows {
			names = append(names, row[0].(string))
		}
		assert.Contains(t, fmt.Sprint(names), "bulk absorption")
		factor := figureOf(t, doc, "charge-factor")
		require.Nil(t, factor.Undetermined)
		t.Logf("%v, charge factor %.3f", names, factor.Value)
	})
}

func TestCellsGoThroughTheLineAndAreMatched(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Bays: 4, Layouts: []simbench.Layout{simbench.BatteryPack,
			simbench.BatteryPack, simbench.BatteryPack, simbench.BatteryPack}, TimeFactor: 3000})
		ctx := t.Context()
		var serials []string
		for i := range 24 {
			serials = append(serials, fmt.Sprintf("GC-%03d", i+1))
		}
		quick := strings.Replace(mustText(t, "gannet-cell-capacity"), "procedure: gannet-cell-capacity",
			"procedure: quick-cells", 1)
		quick = strings.NewReplacer("delay: 10 s, before: 30 s, ", "delay: 90 s, before: 60 s, ", "amps: pulse, time: 30 s",
			"amps: pulse, time: 2 min").Replace(quick)
		_, err := h.Local.PushProcedure(ctx, quick, "frames lie far apart at this speed")
		require.NoError(t, err)
		for _, text := range demo.Nameplates() {
			_, err := h.Local.PushNameplate(ctx, strings.Replace(text, "least_capacity: 4.45 Ah", "least_capacity: 4.1 Ah", 1))
			require.NoError(t, err)
		}
		waiting, err := h.Local.Enqueue(ctx, api.Enqueue{Bays: []string{"bay1", "bay2", "bay3", "bay4"}, Serials: serials,
			Lot: "C-7", Procedures: []string{"quick-cells"}})
		require.NoError(t, err)
		assert.Len(t, waiting, 24)
		defer func() {
			if runs, err := h.Local.Runs(ctx, client.RunFilter{Lot: "C-7", Limit: 2}); t.Failed() && err == nil {
				doc, _ := h.Local.Run(ctx, runs[0].ID)
				t.Logf("%s %s %+v", doc.State, doc.Reason, doc.Figures)
			}
		}()
		require.Eventually(t, func() bool {
			runs, err := h.Local.Runs(ctx, client.RunFilter{Lot: "C-7", Limit: 100})
			ended := 0
			for _, r := range runs {
				if r.State != "live" {
					ended++
				}
			}
			return err == nil && ended == 24
		}, 3*time.Minute, 200*time.Millisecond)

		o, err := h.Local.Overlay(ctx, api.OverlayRequest{Lot: "C-7", Over: api.OverCharge, Most: 8})
		require.NoError(t, err)
		assert.GreaterOrEqual(t, len(o.Curves), 24)
		require.NotNil(t, o.Band)
		assert.Positive(t, o.Band.Widest)
		drawn := map[string]bool{}
		for _, c := range o.Curves {
			if c.Drawn {
				drawn[c.Label] = true
			}
		}
		assert.Len(t, drawn, 8, "a picture that is too full leaves labels out")
		var pdf bytes.Buffer
		require.NoError(t, h.Local.OverlayReport(ctx, api.OverlayRequest{Lot: "C-7", Over: api.OverCharge}, &pdf))
		assert.True(t, bytes.HasPrefix(pdf.Bytes(), []byte("%PDF")))

		m, err := h.Local.Match(ctx, api.MatchRequest{Lot: "C-7", Size: 7})
		require.NoError(t, err)
		assert.Len(t, m.Groups, 3)
		assert.Len(t, m.Rejects, 3)
		assert.Less(t, m.Score, m.Sorted, "better than sorting by capacity alone")
		t.Logf("score %.2f, sorted by capacity %.2f; left over %+v", m.Score, m.Sorted, m.Rejects)
		pdf.Reset()
		require.NoError(t, h.Local.MatchLabels(ctx, api.MatchRequest{Lot: "C-7", Size: 7}, &pdf))
		assert.True(t, bytes.HasPrefix(pdf.Bytes(), []byte("%PDF")))
		_, err = h.Local.Match(ctx, api.MatchRequest{Lot: "C-7", Size: 30})
		assert.ErrorContains(t, err, "too few cells")
		_, err = h.Local.Match(ctx, api.MatchRequest{Lot: "nobody", Size: 7})
		assert.ErrorContains(t, err, "not found")
	})
}

func mustText(t *testing.T, name string) string {
	text, err := demo.Library(name)
	require.NoError(t, err)
	return text
}

func TestALineHoldsWhereAPersonChangesTheUnit(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 200, Change: func(c *bench.Config) {
			for name, b := range c.Bays { // a person changes the units
				b.Handler = ""
				c.Bays[name] = b
			}
		}})
		ctx := t.Context()
		later := time.Now().Add(time.Hour)
		all, err := h.Local.Enqueue(ctx, api.Enqueue{Bays: []string{"bay1"}, Serials: []string{"TN-2208"},
			Procedures: []string{"tern-load-steps"}})
		require.NoError(t, err)
		_, err = h.Local.Enqueue(ctx, api.Enqueue{Bays: []string{"bay1"}, Serials: []string{"TN-2209"},
			Procedures: []string{"tern-load-steps"}, NotBefore: &later})
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			q, err := h.Local.Queue(ctx, "bay1")
			return err == nil && len(q) == 2 && strings.Contains(q[0].Held, "put TN-2208 in place")
		}, 20*time.Second, 50*time.Millisecond)
		_, err = h.Local.Release(ctx, all[0].ID)
		require.NoError(t, err)
		require.Eventually(t, func() bool {
			runs, err := h.Local.Runs(ctx, client.RunFilter{Serial: "TN-2208", Limit: 5})
			return err == nil && len(runs) == 1 && runs[0].State != "live"
		}, 60*time.Second, 100*time.Millisecond)
		q, err := h.Local.Queue(ctx, "")
		require.NoError(t, err)
		require.Len(t, q, 1, "what is set for later waits")
		require.NoError(t, h.Local.Dequeue(ctx, q[0].ID))
		_, err = h.Local.Release(ctx, q[0].ID)
		assert.ErrorContains(t, err, "not found")
		_, err = h.Local.Enqueue(ctx, api.Enqueue{Bays: []string{"bay9"}, Serials: []string{"A"},
			Procedures: []string{"tern-load-steps"}})
		assert.ErrorContains(t, err, "no such bay")
		_, err = h.Local.Enqueue(ctx, api.Enqueue{Bays: []string{"bay1"}, Procedures: []string{"tern-load-steps"}})
		assert.ErrorContains(t, err, "needs bays, serial numbers and procedures")
	})
}

func TestPreflightKnowsAWrongPack(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.BatteryPack}, TimeFactor: 20})
		for serial, words := range map[string]string{
			demo.ShortPack: "what about 5 cells of NMC in series have, and the nameplate says 7",
			demo.OtherPack: "what about 4 cells of NMC"} {
			_, err := h.Local.StartRun(t.Context(), api.StartRun{Bay: "bay1", Procedure: "gannet-capacity", Serial: serial})
			var p *api.Problem
			require.ErrorAs(t, err, &p, serial)
			assert.Equal(t, http.StatusConflict, p.Status)
			assert.Contains(t, p.Detail, words)
			assert.Contains(t, p.Detail, "cycler.volts reads ", "with the voltage that it saw")
			t.Log(p.Detail)
		}
	})
}

// chargerCSV is what a logger beside the deck charger wrote.
func chargerCSV(t *testing.T) string {
	text, err := demo.ChargerLog()
	require.NoError(t, err)
	return text
}

func TestAForeignLogBecomesARun(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{TimeFactor: 20})
		ctx := t.Context()
		text := chargerCSV(t)
		look, err := h.Local.LookAtLog(ctx, api.ImportLog{Text: text[:4000]})
		require.NoError(t, err)
		assert.False(t, look.Remembered)
		assert.Equal(t, "U_bat [V]", look.Mapping.Volts.Column)
		look.Mapping.Source, look.Mapping.DischargeIs = "deck charger", "positive"
		run, err := h.Local.Import(ctx, api.ImportLog{Name: "deck.csv", Text: text, Mapping: look.Mapping, Serial: "GP-306",
			Nameplate: "gannet"})
		require.NoError(t, err)
		doc, err := h.Local.Run(ctx, run.ID)
		require.NoError(t, err)
		stages := figureOf(t, doc, "charger-stages")
		require.Nil(t, stages.Undetermined)
		var names []string
		for _, row := range stages.Table.Rows {
			names = append(names, row[0].(string))
		}
		assert.Equal(t, []string{"bulk", "absorption", "off"}, names, "lithium cells take nothing from the float")
		factor, returned := figureOf(t, doc, "charge-factor"), figureOf(t, doc, "charge-returned")
		require.Nil(t, factor.Undetermined)
		assert.InDelta(t, 1.0, factor.Value, 0.06)
		assert.Positive(t, returned.Value)
		t.Logf("%v, charge factor %.3f, returned %.3f Ah", names, factor.Value, returned.Value)
		look, err = h.Local.LookAtLog(ctx, api.ImportLog{Text: text[:4000], Mapping: api.Mapping{Source: "deck charger"}})
		require.NoError(t, err)
		assert.True(t, look.Remembered)
		assert.Equal(t, "positive", look.Mapping.DischargeIs)
		sources, err := h.Local.Sources(ctx)
		require.NoError(t, err)
		assert.Equal(t, []string{"deck charger"}, sources)

		// It goes out again in every format.
		for format, check := range map[string]func([]byte){
			"csv": func(data []byte) {
				rows, err := csv.NewReader(bytes.NewReader(data)).ReadAll()
				require.NoError(t, err)
				assert.Equal(t, []string{"time (s)", "volts (V)", "amps (A)", "charge (Ah)", "energy (Wh)", "temperature (°C)",
					"cycle", "stage"}, rows[0])
				assert.EqualValues(t, doc.Frames, len(rows)-1)
				assert.Equal(t, "discharge 1", rows[1][7])
			},
			"parquet": func(data []byte) {
				f, err := parquet.OpenFile(bytes.NewReader(data), int64(len(data)))
				require.NoError(t, err)
				assert.Equal(t, doc.Frames, f.NumRows())
				serial, _ := f.Lookup("serial")
				assert.Equal(t, "GP-306", serial)
				var names []string
				for _, c := range f.Schema().Fields() {
					names = append(names, c.Name())
				}
				assert.Contains(t, names, "volts_V")
				assert.Contains(t, names, "stage")
			},
			"xlsx": func(data []byte) {
				book, err := excelize.OpenReader(bytes.NewReader(data))
				require.NoError(t, err)
				defer book.Close()
				rows, err := book.GetRows("frames")
				require.NoError(t, err)
				assert.EqualValues(t, doc.Frames, len(rows)-1)
				figures, err := book.GetRows("figures")
				require.NoError(t, err)
				assert.Equal(t, "figure", figures[0][0])
			},
		} {
			var out bytes.Buffer
			require.NoError(t, h.Local.ExportLayout(ctx, run.ID, format, "battery", client.Range{}, &out), format)
			check(out.Bytes())
		}
		var out bytes.Buffer
		require.NoError(t, h.Local.ExportLayout(ctx, run.ID, "parquet", "", client.Range{From: 100, To: 200}, &out))
		require.NoError(t, h.Local.Report(ctx, run.ID, client.Printed{}, &out))
		assert.ErrorContains(t, h.Local.ExportLayout(ctx, run.ID, "csv", "odd", client.Range{}, &out), "layout")

		// Mistakes are named with their line.
		broken := strings.Replace(text, "\n", "\nx;y;z;w\n", 1)
		_, err = h.Local.Import(ctx, api.ImportLog{Text: broken, Mapping: look.Mapping, Serial: "GP-306"})
		assert.ErrorContains(t, err, "line ")
		look.Mapping.Volts.Column = "nothing"
		_, err = h.Local.Import(ctx, api.ImportLog{Text: text, Mapping: look.Mapping, Serial: "GP-306"})
		assert.ErrorContains(t, err, `no column is called "nothing"`)
	})
}

func TestConditioningEndsWhenNothingIsGained(t *testing.T) {
	servicetest.Simulated(t, func(t *testing.T) {
		h := servicetest.Start(t, servicetest.Options{Layouts: []simbench.Layout{simbench.BatteryPack}, TimeFactor: 1500})
		ctx := t.Context()
		run, err := h.Local.StartRun(ctx, api.StartRun{Bay: "bay1", Procedure: "gannet-conditioning", Serial: demo.SleepyPack,
			Parameters: map[string]string{"gain": "4 %"}})
		require.NoError(t, err)
		doc := h.Ended(run)
		require.Equal(t, "done", doc.State, doc.Reason)
		var enough string
		for _, m := range doc.Marks {
			if strings.HasPrefix(m.Label, "enough: ") {
				enough = m.Label
			}
		}
		assert.Contains(t, enough, "capacity-gain", "it ends by no further gain")
		o, err := h.Local.Overlay(ctx, api.OverlayRequest{Runs: []string{doc.ID}, Over: api.OverCharge})
		require.NoError(t, err)
		assert.Greater(t, len(o.Curves), 2, "a curve for each pass")
		require.NotEmpty(t, o.Differences)
		last := o.Differences[len(o.Differences)-1]
		assert.Greater(t, *last.End, 0.4, "the last pass gave more than the first")
		t.Logf("%s; from the first to the last pass %+.2f Ah", enough, *last.End)
	})
}
