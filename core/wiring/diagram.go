package wiring

// Diagram is a harness as it is drawn: the anchors of its nets in one row, all other pins in another, and what joins
// them.
type Diagram struct {
	// Heads are the anchors, and pins in no net; Tails are the other pins, both in the order of the nets.
	Heads, Tails []string
	Wires        []Wire
}

// Wire joins two pins of a diagram, or fails to.
type Wire struct {
	From, To string
	// Fault is what is wrong with it; empty: it is as it shall be.
	Fault FaultKind
}

// Diagram draws a scan that can be judged; the error is that of [Scan.Judge].
func (s Scan) Diagram() (d Diagram, err error) {
	found, err := s.Judge()
	if err != nil {
		return d, err
	}
	in := map[string]bool{}
	for _, net := range s.Nets {
		d.Heads, d.Tails = append(d.Heads, net.Anchor()), append(d.Tails, net[1:]...)
		for _, p := range net {
			in[p] = true
		}
	}
	for _, p := range s.Pins {
		if !in[p] {
			d.Heads = append(d.Heads, p)
		}
	}
	j := s.join()
	for _, net := range s.Nets {
		for _, p := range net[1:] {
			if j.root(s.place(p)) == j.root(s.place(net.Anchor())) {
				d.Wires = append(d.Wires, Wire{From: net.Anchor(), To: p})
			}
		}
	}
	for _, f := range found.Faults {
		for _, p := range f.Pins[1:] {
			d.Wires = append(d.Wires, Wire{From: f.Pins[0], To: p, Fault: f.Kind})
		}
	}
	return d, nil
}
