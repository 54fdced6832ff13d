package engine

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/quantity"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/store"
)

// nameplateCheck asks whether a unit that was tested as another type is of this one.
const nameplateCheck = "nameplate"

// vouchable are the checks for which somebody may vouch who has looked at the unit.
var vouchable = []string{cellsCheck, nameplateCheck}

// known asks whether a serial number that was tested as another type is the unit of this nameplate: 48 V are none for a
// unit of 12 V.
func (p *preflight) known() {
	if p.plate == nil {
		return
	}
	runs, err := p.bay.engine.store.Runs(store.RunFilter{Serial: p.serial, Limit: 20})
	if err != nil {
		return // a start that cannot be put on record is refused anyway
	}
	for _, r := range runs {
		if r.Nameplate == "" || r.Nameplate == "any" {
			continue
		}
		if r.Nameplate != p.plate.Name {
			p.asks(nameplateCheck, "look at its label; if it is a "+p.plate.Name+", vouch for it",
				"%s was tested as %s before, last with %s on %s, and is to be tested as %s", p.serial, r.Nameplate, r.Procedure,
				r.StartedAt.Format(time.DateOnly), p.plate.Name)
		}
		return
	}
}

// cellsCheck asks whether a battery that may be nearly empty is of the cells that its nameplate says.
const cellsCheck = "cells"

// leastBackwards is what a reading may be below zero by noise and offset beyond the instrument's accuracy.
const leastBackwards = 0.1

// unit checks polarity and plausibility of the unit's voltage, with every output off.
func (p *preflight) unit(ctx context.Context) error {
	values := make([]float64, len(p.bay.sampler.Columns))
	var err error
	if doErr := p.bay.do(ctx, func() {
		if p.bay.outputs.ByHand() { // what was switched on by hand would hide what the unit gives
			err = p.bay.outputs.MakeSafe("before a preflight", "")
		}
		p.bay.sampler.Sample(ctx, values, idleInterval, nil)
	}); doErr != nil {
		return doErr
	}
	if err != nil {
		p.blocks("outputs", "switch them off at the instruments", "%s", err)
		return nil
	}
	good := true
	for _, x := range p.bay.outputs.Seats() {
		column := x.Name + ".volts"
		i := p.bay.sampler.Columns.Index(column)
		if i < 0 || math.IsNaN(values[i]) {
			continue
		}
		volts := values[i]
		r, _ := x.ReadSpec("volts").Find(volts)
		if volts < -(leastBackwards + r.Bound(volts)) {
			good = false
			p.blocks("polarity", "turn the leads round", "%s reads %s: the unit is connected the wrong way round", column,
				show(volts, quantity.Voltage))
			continue
		}
		if p.plate == nil {
			continue
		}
		if w, ok := p.plate.AtRest[column]; ok && !w.Holds(volts) {
			good = false
			p.blocks("unit", "check that it is the right unit, whole and connected",
				"%s reads %s at rest, but nameplate %s says %s to %s%s", column,
				show(volts, quantity.Voltage), p.plate.Name, show(w.Min, quantity.Voltage), show(w.Max, quantity.Voltage),
				p.cells(volts))
			continue
		}
		if empty, err := p.plate.Rating("empty_volts", quantity.Voltage); err == nil && x.Kind.Is(seats.Drains) &&
			volts < empty {
			what := fmt.Sprintf("%s reads %s at rest, below the %s that it would have with a tenth of its charge%s", column,
				show(volts, quantity.Voltage), show(empty, quantity.Voltage), p.cells(volts))
			switch before := p.before(); {
			case !p.charges():
				p.warns(cellsCheck,
					"look at the label: it is either nearly empty, or of fewer cells or another chemistry than the nameplate says",
					"%s", what)
			case before != "":
				p.warns(cellsCheck, "look at the label if it might be another unit with the same serial number",
					"%s; it is taken for nearly empty, since run %s on it went well", what, before)
			default:
				p.asks(cellsCheck,
					fmt.Sprintf("look at the label: it is either nearly empty, or of fewer cells or another chemistry, which a "+
						"charge to %s would destroy; if the label is right, vouch for it", p.full()), "%s", what)
			}
		}
	}
	if good {
		p.fine("unit", "polarity and voltage of the unit are plausible")
	}
	return nil
}

// charges tells whether the program charges the unit.
func (p *preflight) charges() bool {
	return slices.ContainsFunc(p.program.Stages, func(s procedure.Stage) bool {
		a, ok := s.Action.(procedure.Battered)
		return ok && !a.OfBattery().Discharge
	})
}

// full is the voltage to which the unit would be charged.
func (p *preflight) full() string {
	volts, err := p.plate.Rating("charge_volts", quantity.Voltage)
	if err != nil {
		return "the volts of the nameplate"
	}
	return show(volts, quantity.Voltage)
}

// before is an earlier run on the same unit as the same nameplate that came to its end, and at whose start its
// voltage was not in doubt, or somebody vouched for it; empty if there is none.
func (p *preflight) before() string {
	runs, err := p.bay.engine.store.Runs(store.RunFilter{Serial: p.serial, State: string(stage.Done)})
	if err != nil {
		return ""
	}
	for _, r := range runs {
		doubted := slices.ContainsFunc(r.Preflight, func(f api.PreflightFinding) bool {
			return f.Check == cellsCheck &&
				!f.Vouch
		})
		if r.Nameplate == p.plate.Name && r.Source == "" && !doubted {
			return r.ID
		}
	}
	return ""
}

// cells words how many cells in series a voltage would mean; empty if the nameplate is of no battery.
func (p *preflight) cells(volts float64) string {
	if !p.plate.Battery() {
		return ""
	}
	c := p.plate.Chemistry
	count := int(math.Round(volts / c.Nominal))
	if count == p.plate.Series {
		return fmt.Sprintf("; %d cells of %s in series would be empty or damaged", count, c.Name)
	}
	return fmt.Sprintf("; that is what about %d cells of %s in series have, and the nameplate says %d", count, c.Name,
		p.plate.Series)
}

const (
	bytesPerValue = 2.5      // as the record is measured to need
	spareBytes    = 64 << 20 // of the disk, for everything else
)
