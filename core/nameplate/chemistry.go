package nameplate

import (
	"fmt"
	"maps"
	"slices"

	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// Chemistry is what the cells of a type of battery bear. Volts are per cell, rates in C, temperatures in °C. A
// nameplate that does not state a rating takes it from here: the values are on the safe side of what the
// standards and the common data sheets say, and the data sheet of the maker goes before all of them.
type Chemistry struct {
	Name string
	// Nominal, Charge and Cutoff are rated volts, the volts of a full charge, and those at which a discharge ends.
	// Standby is the volts at which a battery is kept full; 0: it is not.
	Nominal, Charge, Cutoff, Standby float64
	// Least and Most bound what a cell may ever have: beyond them the bay is made safe. Empty is below what a
	// usable cell has at rest.
	Least, Most, Empty float64
	// ChargeRate and DischargeRate are gentle currents, Taper ends a charge at constant voltage, Precharge is for
	// a cell below Cutoff.
	ChargeRate, DischargeRate, Taper, Precharge float64
	// Drop is −ΔV and Warming dT/dt, K/min, that end a charge at constant current; 0: they say nothing for this
	// chemistry.
	Drop, Warming float64
	// ChargeColdest … DischargeHottest are the temperature windows.
	ChargeColdest, ChargeHottest, DischargeColdest, DischargeHottest float64
	// Collapse is a fall of the voltage above the cutoff, V/s, that no whole cell shows while its current is constant.
	Collapse float64
	// Source says where the values are from.
	Source string
}

var chemistries = map[string]Chemistry{
	"NMC": {Name: "NMC", Nominal: 3.7, Charge: 4.15, Cutoff: 3.0, Least: 2.5, Most: 4.25, Empty: 3.35, ChargeRate: 0.5,
		DischargeRate: 0.2, Taper: 0.05, Precharge: 0.1,
		ChargeColdest: 5, ChargeHottest: 45, DischargeColdest: -20, DischargeHottest: 60, Collapse: 0.25,
		Source: "discharge rate: IEC 61960-3; upper charge voltage 4.25 V and charge temperatures: IEC 62133-2; charge " +
			"voltage 50 mV lower, for life"},
	"LFP": {Name: "LFP", Nominal: 3.2, Charge: 3.55, Cutoff: 2.5, Least: 2.0, Most: 3.75, Empty: 3.05, ChargeRate: 0.5,
		DischargeRate: 0.2, Taper: 0.05, Precharge: 0.1,
		ChargeColdest: 5, ChargeHottest: 45, DischargeColdest: -20, DischargeHottest: 60, Collapse: 0.25,
		Source: "discharge rate: IEC 61960-3; charge temperatures: IEC 62133-2; " +
			"charge voltage 100 mV below the usual 3.65 V"},
	"lead-acid": {Name: "lead-acid", Nominal: 2.0, Charge: 2.40, Standby: 2.27, Cutoff: 1.75, Least: 1.4, Most: 2.65,
		Empty: 1.92, ChargeRate: 0.2, DischargeRate: 0.05, Taper: 0.01,
		Precharge: 0.05, ChargeColdest: 0, ChargeHottest: 40, DischargeColdest: -15, DischargeHottest: 50, Collapse: 0.1,
		Source: "20-hour rate and cutoff: IEC 61056-1; charge and standby voltage: common for valve-regulated batteries " +
			"at 25 °C"},
	"NiMH": {Name: "NiMH", Nominal: 1.2, Charge: 1.6, Cutoff: 1.0, Least: 0.8, Most: 1.8, Empty: 1.1, ChargeRate: 0.5,
		DischargeRate: 0.2, Taper: 0.05, Precharge: 0.1,
		Drop: 5e-3, Warming: 1, ChargeColdest: 5, ChargeHottest: 45, DischargeColdest: -10, DischargeHottest: 55,
		Collapse: 0.1,
		Source:   "discharge rate and cutoff: IEC 61951-2; −ΔV and dT/dt: common for charges at 0.5 C"},
}

// Chemistries lists the names of the known chemistries.
func Chemistries() []string { return slices.Sorted(maps.Keys(chemistries)) }

// ChemistryOf looks a chemistry up.
func ChemistryOf(name string) (Chemistry, bool) {
	c, ok := chemistries[name]
	return c, ok
}

// readChemistry reads the name of a known chemistry, or one that the nameplate describes itself.
func (p *Nameplate) readChemistry(n document.Node) {
	if !n.IsMap() {
		c, ok := chemistries[n.Text()]
		if !ok {
			n.Fail("unknown chemistry %q; %s, or describe your own: {name: …, nominal: 3.1 V, charge: 4 V, cutoff: 2 V, "+
				"least: 1.5 V, most: 4.1 V}", n.Text(), document.Suggest(n.Text(), Chemistries()))
			return
		}
		p.Chemistry = c
		return
	}
	c := Chemistry{ChargeRate: 0.2, DischargeRate: 0.2, Taper: 0.05, Precharge: 0.05, ChargeColdest: 5, ChargeHottest: 40,
		DischargeColdest: 0, DischargeHottest: 45, Collapse: 0.25,
		Source: "the nameplate's own chemistry"}
	fields := map[string]func(document.Node){"name": func(n document.Node) { c.Name = n.Text() }}
	number := func(key string, dim quantity.Dimension, factor float64, to *float64) {
		fields[key] = func(n document.Node) { *to = n.Quantity(dim).Value / factor }
	}
	for key, to := range map[string]*float64{"nominal": &c.Nominal, "charge": &c.Charge, "cutoff": &c.Cutoff,
		"standby": &c.Standby, "least": &c.Least, "most": &c.Most, "empty": &c.Empty, "volts drop": &c.Drop} {
		number(key, quantity.Voltage, 1, to)
	}
	for key, to := range map[string]*float64{"charge rate": &c.ChargeRate, "discharge rate": &c.DischargeRate,
		"taper": &c.Taper, "precharge": &c.Precharge} {
		number(key, quantity.ChargeRate, 1, to)
	}
	for key, to := range map[string]*float64{"charge coldest": &c.ChargeColdest, "charge hottest": &c.ChargeHottest,
		"discharge coldest": &c.DischargeColdest, "discharge hottest": &c.DischargeHottest} {
		number(key, quantity.Temperature, 1, to)
	}
	number("celsius rate", quantity.Temperature.Per(quantity.Time), 1.0/60, &c.Warming)
	number("collapse", quantity.Voltage.Per(quantity.Time), 1, &c.Collapse)
	n.Fields(fields, "name", "nominal", "charge", "cutoff", "least", "most")
	if c.Empty == 0 {
		c.Empty = c.Cutoff
	}
	if !(c.Least <= c.Cutoff && c.Cutoff < c.Nominal && c.Nominal < c.Charge && c.Charge <= c.Most) {
		n.Fail("the voltages of a chemistry rise: least, cutoff, nominal, charge, most")
	}
	p.Chemistry = c
}

// Battery tells whether the nameplate is of a battery whose chemistry is stated.
func (p *Nameplate) Battery() bool { return p != nil && p.Chemistry.Name != "" }

func (p *Nameplate) readCells(n document.Node) {
	count := func(to *int) func(document.Node) { return func(n document.Node) { *to = n.Whole(1, 1000) } }
	n.Fields(map[string]func(document.Node){"series": count(&p.Series), "parallel": count(&p.Parallel)}, "series")
}

// complete fills in what the chemistry says and the nameplate does not, and what follows from that.
func (p *Nameplate) complete(root document.Node) {
	if mass, ok := p.Ratings["active_mass"]; ok && !p.states("rated_capacity") {
		if specific, ok := p.Ratings["specific_capacity"]; ok && specific.Dim == quantity.Charge.Per(quantity.Mass) &&
			mass.Dim == quantity.Mass {
			p.assume("rated_capacity", mass.Value*specific.Value, quantity.Charge, "active mass × specific capacity")
		}
	}
	if p.Chemistry.Name == "" {
		return
	}
	c, series := p.Chemistry, float64(max(p.Series, 1))
	if p.Series == 0 {
		p.Series, p.Parallel = 1, max(p.Parallel, 1)
	}
	p.Parallel = max(p.Parallel, 1)
	from := "chemistry " + c.Name
	volts := func(name string, perCell float64) {
		if perCell > 0 {
			p.assume(name, perCell*series, quantity.Voltage, from)
		}
	}
	volts("rated_volts", c.Nominal)
	volts("charge_volts", c.Charge)
	volts("cutoff", c.Cutoff)
	volts("standby_volts", c.Standby)
	volts("safe_least_volts", c.Least)
	volts("safe_most_volts", c.Most)
	volts("empty_volts", c.Empty)
	volts("volts_drop", c.Drop)
	rate := func(name string, inC float64) {
		if q, ok := p.Ratings["rated_capacity"]; ok && q.Dim == quantity.Charge {
			p.assume(name, inC*q.Value/3600, quantity.Current, from)
		}
	}
	rate("charge_current", c.ChargeRate)
	rate("discharge_current", c.DischargeRate)
	rate("taper_current", c.Taper)
	rate("precharge_current", c.Precharge)
	celsius := func(name string, x float64) { p.assume(name, x, quantity.Temperature, from) }
	celsius("charge_coldest", c.ChargeColdest)
	celsius("charge_hottest", c.ChargeHottest)
	celsius("discharge_coldest", c.DischargeColdest)
	celsius("discharge_hottest", c.DischargeHottest)
	if c.Warming > 0 {
		p.assume("celsius_rate", c.Warming/60, quantity.Temperature.Per(quantity.Time), from)
	}
	p.assume("collapse", c.Collapse*series, quantity.Voltage.Per(quantity.Time), from)
	p.checkVolts(root)
	p.window()
}

func (p *Nameplate) states(name string) bool { _, ok := p.Ratings[name]; return ok }

// assume states a rating that the text leaves out.
func (p *Nameplate) assume(name string, x float64, dim quantity.Dimension, from string) {
	if p.states(name) {
		return
	}
	p.Ratings[name] = quantity.Quantity{Value: x, Dim: dim}
	if p.Assumed == nil {
		p.Assumed = map[string]string{}
	}
	p.Assumed[name] = from
}

// checkVolts reports ratings that contradict each other.
func (p *Nameplate) checkVolts(root document.Node) {
	order := []string{"safe_least_volts", "cutoff", "rated_volts", "charge_volts", "safe_most_volts"}
	for i := 1; i < len(order); i++ {
		low, high := p.Ratings[order[i-1]], p.Ratings[order[i]]
		if low.Dim == quantity.Voltage && high.Dim == quantity.Voltage && low.Value > high.Value {
			root.Fail("%s, %s%s, is above %s, %s%s; with %d cells of %s in series one of them is wrong", order[i-1], low,
				p.assumedWords(order[i-1]), order[i], high, p.assumedWords(order[i]), p.Series, p.Chemistry.Name)
		}
	}
}

func (p *Nameplate) assumedWords(name string) string {
	if from := p.Assumed[name]; from != "" {
		return fmt.Sprintf(" (from %s)", from)
	}
	return ""
}

// window makes safe windows and plausible readings of what the battery bears, for every seat that can be at its
// terminals.
func (p *Nameplate) window() {
	least, most := p.Ratings["safe_least_volts"].Value, p.Ratings["safe_most_volts"].Value
	for _, kind := range seats.All() {
		column := kind.Name + ".volts"
		if _, ok := p.Windows[column]; !ok && kind.Is(seats.Feeds) {
			p.Windows[column] = Window{Min: 0, Max: most}
		}
		if _, ok := p.AtRest[column]; !ok && kind.Is(seats.Drains) {
			p.AtRest[column] = Window{Min: least, Max: most}
		}
	}
}
