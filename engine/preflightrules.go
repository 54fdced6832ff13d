package engine

import (
	"errors"

	"usherbench/core/nameplate"
	"usherbench/core/outcome"
	"usherbench/core/population"
	"usherbench/core/stage"
	"usherbench/store"
)

// rules checks what nobody needs an instrument for: whether the unit may be tested, by its serial number, its parts and
// what was found of it before.
func (p *preflight) rules() {
	s := p.bay.engine.store
	unit, err := s.Unit(p.serial)
	attempts, readErr := s.Attempts(p.serial, p.program.Name)
	if err := errors.Join(err, readErr); err != nil {
		p.blocks("records", "look at the disk of this computer", "what is known of %s cannot be read: %s", p.serial, err)
		return
	}
	if len(p.parts) == 0 {
		p.parts = unit.Parts
	}
	if order, err := s.LotOrder(p.lot); err == nil && p.lot != "" && order.Closed {
		p.blocks("lot", "choose another lot, or have an engineer open it again", "lot %s is closed", p.lot)
	}
	if unit.Quarantine != "" {
		p.blocks("quarantine", "have an engineer look at it and release it (usher unit release)",
			"%s is in quarantine: %s", p.serial, unit.Quarantine)
	}
	p.reseatsLeft = nameplate.ReseatsOf(p.plate) - reseated(attempts)
	if p.plate == nil {
		return
	}
	if refused, err := p.plate.CheckSerial(p.serial); err != nil {
		remedy := "nameplate " + p.plate.Name + " says what they look like"
		if refused {
			p.blocks("serial number", remedy, "%s", err)
		} else {
			p.warns("serial number", remedy, "%s", err)
		}
	}
	if most := p.plate.Retest.Attempts; most > 0 {
		if n := counted(attempts); n >= most+unit.Extra {
			p.blocks("attempts", "have an engineer allow another one (usher unit allow)",
				"%s was tested %d times by %s, and nameplate %s allows %d attempts", p.serial, n, p.program.Name, p.plate.Name,
				most+unit.Extra)
		}
	}
	if err := p.plate.CheckParts(p.parts); err != nil {
		p.blocks("parts", "scan or type the parts of the unit (usher unit parts)", "%s: %s", p.serial, err)
	}
}

// counted is how many attempts ended in an outcome that counts.
func counted(attempts []store.Attempt) (n int) {
	for _, a := range attempts {
		if population.Counts(outcome.Outcome(a.Outcome)) {
			n++
		}
	}
	return n
}

// reseated is how often the unit was put in anew since something was last found of it.
func reseated(attempts []store.Attempt) (n int) {
	for _, a := range attempts {
		switch {
		case population.Counts(outcome.Outcome(a.Outcome)):
			n = 0
		case a.State == string(stage.OpenContact):
			n++
		}
	}
	return n
}
