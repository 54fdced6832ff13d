package stage

// Scan has the crosspoint at a seat read ohms between pairs of its terminals, counted from 0: [Scanned] tells them.
type Scan struct {
	Seat  string
	Pairs [][2]int
	// Shot tells the answer to this from that to an earlier one.
	Shot int
}

// Scanned is what was read, pair by pair, Ω; +Inf: more than Range.
type Scanned struct {
	T     float64
	Shot  int
	Ohms  []float64
	Range float64
}

func (Scan) effect()   {}
func (Scanned) event() {}

// Scanning stages take what was read of a harness.
type Scanning interface {
	Scanned(m *Machine, e Scanned) ([]Effect, Verdict)
}

// onScan gives a stage that scans what was read.
func (m *Machine) onScan(e Scanned) []Effect {
	r, ok := m.runner().(Scanning)
	if !ok || m.state.Paused {
		return nil
	}
	m.state.Now = max(m.state.Now, e.T)
	return m.follow(r.Scanned(m, e))
}
