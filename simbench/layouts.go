package simbench

import (
	"fmt"

	"usherbench/simbench/plant/charger"
)

// Layout says what stands around a unit.
type Layout string

// The layouts of bays, as [layouts] describes them.
const (
	Converter    Layout = "converter"
	Metered      Layout = "metered"
	BatteryPack  Layout = "battery"
	SerialLoad   Layout = "serial-load"
	RegistersTCP Layout = "registers-tcp"
	CyclerPair   Layout = "cycler-pair"
	Gang         Layout = "gang"
	Stacked      Layout = "stacked"
	BatteryEnds  Layout = "battery-ends"
	Charged      Layout = "charged"
	SideBySide   Layout = "side-by-side"
	Scoped       Layout = "scoped"
	Digitised    Layout = "digitised"
	Outputs      Layout = "outputs"
	Mains        Layout = "mains"
	MainsAtUnit  Layout = "mains-at-unit"
	Contracts    Layout = "contracts"
	Recirculated Layout = "recirculated"
	Panel        Layout = "panel"
	HighVoltage  Layout = "high-voltage"
	Machine      Layout = "machine"
	ThrustStand  Layout = "thrust-stand"
	Insulation   Layout = "insulation"
	Harness      Layout = "harness"
	Drain        Layout = "drain"
	Amplified    Layout = "amplified"
)

// plan is a layout as data.
type plan struct {
	name  Layout
	about string
	// unit is the one in place when the bench starts, with a serial number that counts from first.
	unit, serial string
	first        int
	// standIns are joined to the unit in this order, which is also that of their ports.
	standIns []func(*Bench, joint) error
	// series says that what feeds the unit stands in series, not in parallel.
	series bool
	// charger is one of somebody else's at the unit; nil: there is none.
	charger func() charger.Charger
}

// module is a layout around a converter.
func module(p plan) plan {
	p.unit, p.serial, p.first = "tern", "TN", 2201
	return p
}

// pack is a layout around a battery.
func pack(p plan) plan {
	p.unit, p.serial, p.first = "gannet", "GP", 301
	return p
}

// adapter is a layout around what the mains feeds.
func adapter(p plan) plan {
	p.unit, p.serial, p.first = "eider", "ED", 501
	return p
}

// layouts lists all of them.
func layouts() []plan {
	join := func(steps ...func(*Bench, joint) error) []func(*Bench, joint) error { return steps }
	return []plan{
		module(plan{name: Converter, about: "a supply and a load at a DC-DC module",
			standIns: join((*Bench).addSupply, (*Bench).addLoad)}),
		module(plan{name: Metered, about: "as converter, with a power analyser in the line and a thermometer",
			standIns: join((*Bench).addSupply, (*Bench).addLoad, (*Bench).addAnalyser, (*Bench).addThermo)}),
		pack(plan{name: BatteryPack, about: "a cycler, a multimeter and a thermometer at a battery",
			standIns: join((*Bench).addCycler, (*Bench).addMultimeter, (*Bench).addThermo)}),
		module(plan{name: SerialLoad, about: "a supply, and a load with registers on a serial line",
			standIns: join((*Bench).addSupply, (*Bench).addSerialLoad)}),
		module(plan{name: RegistersTCP, about: "a supply, and a load with registers on a socket",
			standIns: join((*Bench).addSupply, (*Bench).addRegistersTCP)}),
		module(plan{name: CyclerPair, about: "the two channels of a cycler at a module",
			standIns: join((*Bench).addCyclerPair)}),
		module(plan{name: Gang, about: "both channels of a supply in parallel and two loads at a module",
			standIns: join((*Bench).addGang)}),
		module(plan{name: Stacked, about: "as gang, with the supply's channels in series", series: true,
			standIns: join((*Bench).addGang)}),
		pack(plan{name: BatteryEnds, about: "a supply and a load at a battery",
			standIns: join((*Bench).addSupply, (*Bench).addLoad)}),
		pack(plan{name: Charged, charger: charger.Gannet,
			about:    "a load at a battery with a charger of its own, a power analyser in the charger's line",
			standIns: join((*Bench).addLoad, (*Bench).addAnalyser)}),
		module(plan{name: Scoped, about: "as metered, with a scope whose probes are at input and output",
			standIns: join((*Bench).addSupply, (*Bench).addLoad, (*Bench).addAnalyser, (*Bench).addThermo, (*Bench).addScope)}),
		module(plan{name: Digitised, about: "as converter, with a digitiser with registers at input and output",
			standIns: join((*Bench).addSupply, (*Bench).addLoad, (*Bench).addRegisterScope)}),
		{name: Outputs, about: "a supply at a unit with three outputs, and a load at each",
			unit: "dunlin", serial: "DN", first: 601,
			standIns: join((*Bench).addSupply, (*Bench).addLoad, (*Bench).addFurtherLoads)},
		{name: SideBySide, about: "a cycler at cells in parallel, with an ammeter at each, and a thermometer",
			unit: "gannet-bank", serial: "GB", first: 41,
			standIns: join((*Bench).addCycler, (*Bench).addAmmeters, (*Bench).addThermo)},
		adapter(plan{name: Mains, about: "an AC source, a power analyser and a load at an adapter, the analyser's volts at " +
			"the source", standIns: join((*Bench).addACSource, (*Bench).addGridMeter, (*Bench).addLoad)}),
		adapter(plan{name: MainsAtUnit, about: "as mains, the analyser's volts at the adapter",
			standIns: join((*Bench).addACSource, (*Bench).addGridMeterAtUnit, (*Bench).addLoad)}),
		{name: Contracts, about: "an AC source, a power analyser, a sink that asks for contracts and a load at a charger",
			unit: "petrel", serial: "PT", first: 701,
			standIns: join((*Bench).addACSource, (*Bench).addGridMeter, (*Bench).addSink, (*Bench).addLoad)},
		{name: Recirculated, about: "a three-phase feeder and a load that gives back at a back-up supply, its bypass, an " +
			"analyser in the mains and at the unit, and a thermometer", unit: "kittiwake", serial: "KW", first: 801,
			standIns: join((*Bench).addFeeder, (*Bench).addThreePhaseMeter, (*Bench).addACLoad, (*Bench).addBypass,
				(*Bench).addThermo)},
		{name: Panel, about: "a load at a photovoltaic panel, and a reference cell beside it", unit: "fulmar", serial: "FU",
			first: 901, standIns: join((*Bench).addLoad, (*Bench).addLight)},
		{name: HighVoltage, about: "a source-meter with an interlock at a power switch, and a thermometer", unit: "skua",
			serial: "SK", first: 1001, standIns: join((*Bench).addSourceMeter, (*Bench).addThermo)},
		{name: Machine, about: "a three-phase feeder and a brake at a motor, an analyser in the mains, an ohmmeter of four " +
			"inputs at it, a thermometer at the frame and one in the room, sensors of vibration and humidity",
			unit: "cormorant", serial: "CM", first: 1101,
			standIns: join((*Bench).addFeeder, (*Bench).addThreePhaseMeter, (*Bench).addBrake, (*Bench).addOhmmeter,
				(*Bench).addThermo, (*Bench).addRoom, (*Bench).addVibration, (*Bench).addClimate)},
		{name: Insulation, about: "a source-meter with an interlock between winding and frame of a motor at rest, an " +
			"ohmmeter of four inputs, a thermometer at the frame and one in the room", unit: "cormorant", serial: "CM",
			first: 1301, standIns: join((*Bench).addSourceMeter, (*Bench).addOhmmeter, (*Bench).addThermo,
				(*Bench).addRoom)},
		{name: Harness, about: "a crosspoint with an ohmmeter at a harness", unit: "lantern-lead", serial: "LL", first: 1401,
			standIns: join((*Bench).addCrosspoint)},
		{name: Drain, about: "a source that counts what it gives, from microamperes on, and a scope at a device that lives " +
			"on a battery", unit: "teal", serial: "TL", first: 1501,
			standIns: join((*Bench).addDrainMeter, (*Bench).addScope)},
		{name: Amplified, about: "a supply behind a soft switch, a generator of tones and a bank of resistors that bears " +
			"little for long at an amplifier, and an analyser of signals", unit: "guillemot", serial: "GM", first: 1601,
			standIns: join((*Bench).addSupply, (*Bench).addSoftSwitch, (*Bench).addGenerator, (*Bench).addBank,
				(*Bench).addSignalAnalyser)},
		{name: ThrustStand, about: "a supply and a drive at a thruster, and a sensor of its force", unit: "puffin",
			serial: "PF", first: 1201, standIns: join((*Bench).addSupply, (*Bench).addDrive, (*Bench).addForce)},
	}
}

// Layouts lists all layouts.
func Layouts() []Layout {
	var names []Layout
	for _, p := range layouts() {
		names = append(names, p.name)
	}
	return names
}

// About says in a few words what stands around the unit.
func (l Layout) About() string {
	p, err := l.plan()
	if err != nil {
		return ""
	}
	return p.about
}

func (l Layout) plan() (plan, error) {
	for _, p := range layouts() {
		if p.name == l {
			return p, nil
		}
	}
	return plan{}, fmt.Errorf("%q is no layout of a bay; known: %v", l, Layouts())
}
