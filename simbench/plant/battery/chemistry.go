package battery

// Chemistry is what the cells of a battery have in common. Volts are per cell.
type Chemistry struct {
	Name string
	// OpenCircuit is the voltage at rest over the state of charge, 0 … 1, in rising order.
	OpenCircuit [][2]float64
	// Full is the state of charge above which less and less of a charge current is stored and the rest becomes
	// heat; 1: never.
	Full float64
	// PerKelvin is the change of the voltage with temperature, V/K.
	PerKelvin float64
	// Warms is the share of what is not stored that becomes heat; the rest goes away as gas.
	Warms float64
	// Stored is the share of the charge current that is stored below Full.
	Stored float64
}

// The chemistries, with curves that are typical of each.
var chemistries = map[string]Chemistry{
	"NMC": {Name: "NMC", Full: 1, Stored: 1, OpenCircuit: [][2]float64{
		{0, 3.00}, {0.02, 3.18}, {0.05, 3.32}, {0.10, 3.43}, {0.20, 3.53}, {0.30, 3.59}, {0.40, 3.63}, {0.50, 3.68},
		{0.60, 3.77}, {0.70, 3.87},
		{0.80, 3.97}, {0.90, 4.08}, {1, 4.19}}},
	"LFP": {Name: "LFP", Full: 1, Stored: 1, OpenCircuit: [][2]float64{
		{0, 2.50}, {0.02, 2.85}, {0.05, 3.05}, {0.10, 3.19}, {0.20, 3.25}, {0.40, 3.29}, {0.60, 3.31}, {0.80, 3.33},
		{0.95, 3.36}, {1, 3.55}}},
	"lead-acid": {Name: "lead-acid", Full: 0.94, Warms: 0.2, Stored: 0.97, OpenCircuit: [][2]float64{
		{0, 1.90}, {0.05, 1.94}, {0.20, 1.98}, {0.40, 2.03}, {0.60, 2.07}, {0.80, 2.11}, {0.95, 2.14}, {1, 2.45}}},
	"NiMH": {Name: "NiMH", Full: 0.96, Warms: 1, Stored: 0.98, PerKelvin: -2.5e-3, OpenCircuit: [][2]float64{
		{0, 1.00}, {0.03, 1.14}, {0.10, 1.21}, {0.30, 1.25}, {0.60, 1.28}, {0.85, 1.32}, {0.95, 1.37}, {1, 1.42}}},
}

// stored is the share of a charge current that is stored at a state of charge.
func (c Chemistry) stored(state float64) float64 {
	if state <= c.Full || c.Full >= 1 {
		return c.Stored
	}
	return c.Stored * max(1-(state-c.Full)/(1.005-c.Full), 0)
}

// at is the open-circuit voltage of a cell.
func (c Chemistry) at(state float64) float64 {
	state = min(max(state, -0.02), 1.05)
	table := c.OpenCircuit
	k := 1
	for k < len(table)-1 && state > table[k][0] {
		k++
	}
	low, high := table[k-1], table[k]
	return low[1] + (high[1]-low[1])*(state-low[0])/(high[0]-low[0])
}
