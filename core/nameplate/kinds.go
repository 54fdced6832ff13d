package nameplate

// UnitKind is a kind of unit with what its data sheet states. Other kinds and other ratings may be written all the
// same: this is what a form asks for.
type UnitKind struct {
	Name, Title string
	// Fields stand in the order of a data sheet.
	Fields []Field
	// Bounds are the windows of safe setpoints that follow from the ratings.
	Bounds []Bound
	// Procedure names the ready one that a first run begins from; empty: there is none.
	Procedure string
}

// Field is a rating that a data sheet states.
type Field struct {
	Rating, Title string
	Example       string // how it is written
	Needed        bool   // without it the kind's ready procedure does not work
}

// Bound is the upper end of a window: so many times a rating, since a setpoint at the rating itself must be allowed,
// with the accuracy of what sets it.
type Bound struct {
	Column, Rating string
	Times          float64
}

// UnitKinds lists the kinds of units, in the order in which they are offered.
func UnitKinds() []UnitKind {
	return []UnitKind{
		{Name: "converter", Title: "Converter", Procedure: "first-converter", Fields: []Field{
			{"nominal_line", "Nominal line", "48 V", true}, {"lowest_line", "Lowest line", "36 V", true},
			{"highest_line", "Highest line", "60 V", true}, {"rated_volts", "Output volts", "15 V", true},
			{"rated_current", "Output amps", "8 A", true}, {"no_load_power", "Power without load, at most", "1 W", false},
		}, Bounds: []Bound{{"source.volts", "highest_line", 1.01}, {"load.amps", "rated_current", 1.15}}},
		{Name: "supply", Title: "Power supply", Fields: []Field{
			{"rated_volts", "Output volts", "24 V", true}, {"rated_current", "Output amps", "5 A", true},
		}, Bounds: []Bound{{"load.amps", "rated_current", 1.15}}},
		{Name: "charger", Title: "Charger", Fields: []Field{
			{"nominal_line", "Nominal line", "48 V", true}, {"charge_volts", "Charge volts", "29.2 V", true},
			{"rated_current", "Charge amps", "4.8 A", true}, {"rated_capacity", "Capacity of its battery", "9.6 Ah", true},
		}, Bounds: []Bound{{"source.volts", "nominal_line", 1.1}}},
		{Name: "adapter", Title: "Mains adapter", Procedure: "eider-standby", Fields: []Field{
			{"nominal_line", "Nominal line", "230 V", true}, {"line_frequency", "Line frequency", "50 Hz", true},
			{"rated_volts", "Output volts", "24 V", true}, {"rated_current", "Output amps", "5 A", true},
			{"standby_power", "Power in standby, at most", "150 mW", false},
		}, Bounds: []Bound{{"mains.volts", "nominal_line", 1.15}, {"load.amps", "rated_current", 1.15}}},
		{Name: "panel", Title: "Photovoltaic panel", Procedure: "fulmar-sweep", Fields: []Field{
			{"open_volts", "Open-circuit volts", "22 V", true}, {"short_current", "Short-circuit amps", "1.9 A", true},
			{"rated_power", "Largest power", "31 W", false},
		}, Bounds: []Bound{{"load.volts", "open_volts", 1.1}, {"load.amps", "short_current", 1.2}}},
		{Name: "device", Title: "Semiconductor that blocks", Procedure: "skua-blocking", Fields: []Field{
			{"blocking_volts", "Blocking volts", "1700 V", true}, {"leakage", "Leakage at these, at most", "100 nA", false},
		}, Bounds: []Bound{{"sourcemeter.volts", "blocking_volts", 1.3}}},
		{Name: "battery", Title: "Battery", Procedure: "gannet-capacity", Fields: []Field{
			{"rated_capacity", "Rated capacity", "9.6 Ah", true}, {"rated_volts", "Rated volts", "25.9 V", false},
			{"charge_volts", "Charge volts", "29.2 V", false}, {"cutoff", "Cutoff", "21 V", false},
		}},
	}
}
