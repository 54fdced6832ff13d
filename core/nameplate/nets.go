package nameplate

import (
	"usherbench/core/document"
	"usherbench/core/wiring"
)

// texts are the texts of a list.
func texts(n document.Node) (all []string) {
	for _, item := range n.Items() {
		all = append(all, item.Text())
	}
	return all
}

// readNets reads which pins of a harness shall be joined, the anchor of each net first:
//
//	nets:
//	  - [A1, B1]
//	  - [A2, B2, C2]
func (p *Nameplate) readNets(n document.Node) {
	for _, item := range n.Items() {
		p.Nets = append(p.Nets, texts(item))
	}
}

// completeNets has the pins follow from the nets where the text does not list them, and checks both.
func (p *Nameplate) completeNets(nets document.Node) {
	if len(p.Pins) == 0 {
		p.Pins = wiring.PinsOf(p.Nets)
	}
	if err := wiring.Check(p.Pins, p.Nets); err != nil {
		nets.Fail("%s", err)
	}
}
