package wiring

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// ReadNets reads a list of nets as CSV: a row joins the pins in its cells, and rows that share a pin are one net. A
// first row of "from" and "to", and rows that begin with #, say nothing. Nets and their pins keep the order in which
// they come; a pin by itself is no net.
func ReadNets(from io.Reader) ([]Net, error) {
	r := csv.NewReader(from)
	r.FieldsPerRecord, r.TrimLeadingSpace, r.Comment = -1, true, '#'
	var nets []Net
	for first := true; ; first = false {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("list of nets: %w; write a row of pins for each wire: A1,B1", err)
		}
		if first && strings.EqualFold(strings.Join(row, ","), "from,to") {
			continue
		}
		var pins Net
		for _, cell := range row {
			if pin := strings.TrimSpace(cell); pin != "" && !slices.Contains(pins, pin) {
				pins = append(pins, pin)
			}
		}
		nets = joinedTo(nets, pins)
	}
	nets = slices.DeleteFunc(nets, func(n Net) bool { return len(n) < 2 })
	if len(nets) == 0 {
		return nil, errors.New("the list joins no two pins; write a row of pins for each wire: A1,B1")
	}
	return nets, nil
}

// joinedTo adds pins that are joined to nets: to the first net that has one of them go the pins of all that have.
func joinedTo(nets []Net, pins Net) []Net {
	at := -1
	for i := 0; i < len(nets); i++ {
		shares := slices.ContainsFunc(nets[i], func(pin string) bool { return slices.Contains(pins, pin) })
		switch {
		case !shares:
			continue
		case at < 0:
			at = i
			continue
		}
		nets[at] = append(nets[at], nets[i]...)
		nets = slices.Delete(nets, i, i+1)
		i--
	}
	if at < 0 {
		return append(nets, pins)
	}
	for _, pin := range pins {
		if !slices.Contains(nets[at], pin) {
			nets[at] = append(nets[at], pin)
		}
	}
	return nets
}

// Learned are the nets that a scan has found, as those of a harness that is known to be good: groups of two pins or
// more, in the order of the pins. It fails as [Scan.Judge] does where the groups are not known.
func (s Scan) Learned() ([]Net, error) {
	j := s.join()
	if err := s.check(j); err != nil {
		return nil, err
	}
	groups := map[int]int{}
	var nets []Net
	for i, pin := range s.Pins {
		at, known := groups[j.root(i)]
		if !known {
			at = len(nets)
			groups[j.root(i)], nets = at, append(nets, nil)
		}
		nets[at] = append(nets[at], pin)
	}
	nets = slices.DeleteFunc(nets, func(n Net) bool { return len(n) < 2 })
	if len(nets) == 0 {
		return nil, errors.New("the scan joins no two pins")
	}
	return nets, nil
}

// NetsText is a list of nets as a nameplate has it.
func NetsText(nets []Net) string {
	var b strings.Builder
	b.WriteString("nets:\n")
	for _, n := range nets {
		b.WriteString("  - [" + strings.Join(n, ", ") + "]\n")
	}
	return b.String()
}
