package cli

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"usherbench/api"
	"usherbench/attachment"
	"usherbench/core/catalogue"
	"usherbench/core/nameplate"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
	"usherbench/demo"
	"usherbench/rehearsal"
	"usherbench/simbench"
	"usherbench/simbench/plant"
	"usherbench/simbench/plant/backup"
	"usherbench/simbench/plant/battery"
	"usherbench/store"
)

// The battery history of the demo: a lot of cells to be sorted into packs, and a pack that had lain for years,
// before, during and after its conditioning. A real run of each takes hours, so they are rehearsals that are
// put on record as runs.
const (
	cellLot    = "C-2026-11"
	cellsOfLot = 24
)

// batteryHistory puts the runs on record, dated over the weeks before now.
func batteryHistory(s *store.Store, now time.Time) error {
	at := now.AddDate(0, 0, -16).Truncate(time.Minute)
	rng := rand.New(rand.NewPCG(2026, 12))
	next := func(hours float64) time.Time {
		at = at.Add(time.Duration((hours + rng.Float64()) * float64(time.Hour)))
		return at
	}
	for i := range cellsOfLot {
		if err := rehearsedRun(s, "gannet-cell-capacity", fmt.Sprintf("GC-%03d", i+1), cellLot, "",
			fmt.Sprintf("bay%d", 1+i%4), next(1)); err != nil {
			return err
		}
	}
	for _, step := range []struct {
		procedure string
		fault     plant.Fault
	}{{"gannet-capacity", battery.SleepyPack}, {"gannet-conditioning", battery.SleepyPack},
		{"gannet-capacity", conditioned}} {
		if err := rehearsedRun(s, step.procedure, demo.SleepyPack, "", step.fault, "bay3", next(24)); err != nil {
			return err
		}
	}
	return nil
}

// chargerHistory puts two chargers on record, contract by contract: a good one, and one that gives up too late.
func chargerHistory(s *store.Store, now time.Time) error {
	at := now.AddDate(0, 0, -3).Truncate(time.Minute)
	for i, serial := range []string{demo.GoodCharger, demo.LateCharger} {
		if err := rehearsedRun(s, "petrel-contracts", serial, "", plant.Fault(demo.FaultyUnits()[serial]),
			fmt.Sprintf("bay%d", i+1), at.Add(time.Duration(i)*time.Minute)); err != nil {
			return err
		}
	}
	return nil
}

// supplyHistory puts two back-up supplies on record, each with a thermal picture whenever its procedure asks for one: a
// good one, and one of which a bus bar gets too hot.
func supplyHistory(s *store.Store, now time.Time) error {
	at := now.AddDate(0, 0, -2).Truncate(time.Minute)
	for i, serial := range []string{demo.GoodSupply, demo.HotSupply} {
		fault := plant.Fault(demo.FaultyUnits()[serial])
		run, r, err := rehearsed(s, "kittiwake-recirculated", serial, "", fault, "bay1", at.Add(time.Duration(i)*time.Hour))
		if err != nil {
			return err
		}
		if err := putOnRecord(s, r, run); err != nil {
			return err
		}
		supply, err := backup.Kittiwake(serial, fault)
		if err != nil {
			return err
		}
		if err := pictured(s, run.ID, r, backup.New(supply)); err != nil {
			return err
		}
	}
	return nil
}

// pictured joins a thermal picture to a run wherever one was asked for. The unit goes once more through what it went
// through.
func pictured(s *store.Store, runID string, r *rehearsal.Result, unit *backup.Unit) error {
	watts := r.Values[r.Columns.Index("acload.watts")]
	asked := r.Marks
	for k, t := range r.T {
		unit.At(t, plant.Joined{Line: plant.Source{On: true, Volts: 230, Hertz: 50, Amps: 110},
			Output: plant.Load{On: watts[k] > 0, Mode: plant.ConstantPower, Level: watts[k]}})
		for len(asked) > 0 && asked[0].T <= t {
			m := asked[0]
			asked = asked[1:]
			if m.Kind != record.MarkAnswer || !strings.Contains(m.Label, "picture") {
				continue
			}
			p, err := simbench.ThermalOf(unit.Bars())
			if err != nil {
				return err
			}
			name := fmt.Sprintf("bars-%02.0f-min.png", t/60)
			about, err := attachment.Look(name, p.PNG)
			if err != nil {
				return err
			}
			small, err := attachment.Small(&about, p.PNG)
			if err != nil {
				return err
			}
			if _, err := s.Attach(runID, api.Attachment{T: m.T, Name: name, FileContents: about, By: "edith",
				Note: "Bus bars at full power", Scale: &api.ThermalScale{Coldest: p.Coldest, Hottest: p.Hottest}}, p.PNG,
				small); err != nil {
				return err
			}
		}
	}
	return nil
}

// conditioned stands for the pack after its conditioning: it has lost for good what does not wake.
const conditioned plant.Fault = "conditioned"

// rehearsedRun rehearses a procedure on a unit and puts it on record as a run.
func rehearsedRun(s *store.Store, name, serial, lot string, fault plant.Fault, bay string, at time.Time) error {
	run, r, err := rehearsed(s, name, serial, lot, fault, bay, at)
	if err != nil {
		return err
	}
	return putOnRecord(s, r, run)
}

// rehearsed rehearses a procedure on a unit, as a run that is still to be put on record.
func rehearsed(s *store.Store, name, serial, lot string, fault plant.Fault, bay string, at time.Time) (run store.Run,
	r *rehearsal.Result, err error) {
	revision, err := s.Revision(name, 0)
	if err != nil {
		return run, nil, err
	}
	stored, err := s.Nameplate(revision.For)
	if err != nil {
		return run, nil, err
	}
	plate, err := nameplate.Parse([]byte(stored.Text))
	if err != nil {
		return run, nil, err
	}
	program, err := catalogue.Parse([]byte(revision.Text), plate, nil, demo.Library)
	if err != nil {
		return run, nil, err
	}
	threePhase := uncertainty.Spec{{To: 100e3, Reading: 0.001, Offset: 5, Resolution: 0.1}}
	// The accuracies of the instruments that would have measured it.
	specs := map[string]uncertainty.Spec{"cycler.volts": {{To: 80, Reading: 0.0002, Offset: 3e-3, Resolution: 1e-4}},
		"cycler.amps":    {{To: 12, Reading: 0.0005, Offset: 1.5e-3, Resolution: 1e-4}},
		"load.amps":      {{To: 30, Reading: 0.0005, Offset: 2e-3, Resolution: 1e-4}},
		"contract.volts": {{To: 60, Reading: 0.0005, Offset: 3e-3, Resolution: 1e-4}},
		"meter.watts":    threePhase, "meter2.watts": threePhase,
		"acload.watts":   {{To: 66e3, Reading: 0.001, Offset: 10, Resolution: 0.1}},
		"thermo.celsius": {{To: 400, Offset: 0.3, Resolution: 0.01}}}
	o := rehearsal.Options{Serial: serial, Fault: string(fault), Specs: specs}
	if fault == conditioned {
		pack, err := battery.Gannet(serial, battery.SleepyPack)
		if err != nil {
			return run, nil, err
		}
		pack.Dormant *= 0.004
		o.Fault, o.Unit = "", battery.NewUnit(pack, plant.HalfFull)
	}
	if r, err = rehearsal.Run(context.Background(), program, plate, o); err != nil {
		return run, nil, err
	}
	return store.Run{
		ID: ulid.MustNew(ulid.Timestamp(at), ulid.DefaultEntropy()).String(), Bay: bay, Serial: serial, Lot: lot,
		Procedure: revision.Name, Revision: revision.Number, Title: revision.Title,
		Nameplate: plate.Name, NameplateText: plate.Text, ProcedureText: revision.Text, UsedTexts: program.Used,
		Operator: "edith", StartedAt: at, State: store.Live, TimeFactor: 1, Columns: r.Columns,
	}, r, nil
}

// recordedEvery is the interval of the frames of a rehearsal that are kept, s.
const recordedEvery = 5.0

func putOnRecord(s *store.Store, r *rehearsal.Result, run store.Run) error {
	if err := s.CreateRun(&run); err != nil {
		return err
	}
	recorder := s.NewRecorder(run.ID, run.Columns)
	marks := r.Marks
	due, near := 0.0, 0
	for k, t := range r.T {
		for near < len(marks) && marks[near].T < t-recordedEvery {
			near++
		}
		// Around marks every frame is kept, as a run does.
		if t < due && !(near < len(marks) && marks[near].T <= t+recordedEvery) {
			continue
		}
		due = t + recordedEvery
		values := make([]float64, len(run.Columns))
		for i := range values {
			values[i] = r.Values[i][k]
		}
		recorder.Frame(trace.Frame{T: t, Values: values})
	}
	for _, m := range r.Marks {
		recorder.Mark(m)
	}
	for _, p := range r.Points {
		if err := recorder.Point(p); err != nil {
			return err
		}
	}
	ended := run.StartedAt.Add(time.Duration(r.Duration * float64(time.Second)))
	if err := recorder.Finish(map[string]any{"ended_at": &ended, "duration": r.Duration,
		"frames": recorder.Frames()}); err != nil {
		return err
	}
	return s.SaveFigures(run.ID, r.Figures, map[string]any{"state": string(r.Ending), "reason": r.Reason,
		"outcome": string(r.Outcome())})
}
