package simbench

import (
	"math"

	"usherbench/simbench/plant"
)

// The faults of how a unit sits in the fixture, which are gone when it is put in anew.
const (
	// OpenContact: no contact is made at all the first time.
	OpenContact plant.Fault = "open-contact"
	// LooseContact: contact comes and goes the first time.
	LooseContact plant.Fault = "loose-contact"
	// BentContact: no contact is made however often it is put in.
	BentContact plant.Fault = "bent-contact"
)

// ContactFaults lists them.
func ContactFaults() []string {
	return []string{string(BentContact), string(LooseContact), string(OpenContact)}
}

func isContact(fault plant.Fault) bool {
	return fault == OpenContact || fault == LooseContact || fault == BentContact
}

// contact is how the unit of a fixture sits in it.
type contact struct {
	fault plant.Fault
	clips map[string]int // how often each unit was put in
}

func (c *contact) clip(serial string, fault plant.Fault) {
	if c.clips == nil {
		c.clips = map[string]int{}
	}
	c.clips[serial]++
	c.fault = plant.Healthy
	if fault == BentContact || isContact(fault) && c.clips[serial] == 1 {
		c.fault = fault
	}
}

// comes and goes so often, s.
const looseFor = 0.12

// open tells whether no contact is made at a time, s.
func (c *contact) open(t float64) bool {
	switch c.fault {
	case OpenContact, BentContact:
		return true
	case LooseContact:
		return math.Mod(t, 2*looseFor) > looseFor
	}
	return false
}
