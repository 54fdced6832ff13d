package nameplate

import (
	"fmt"

	"usherbench/core/contract"
	"usherbench/core/document"
	"usherbench/core/quantity"
)

// readContracts reads what a charger offers, by position: objects as their 32 bits, such as 0x0801912C, or in words:
//
//	contracts:
//	  - {volts: 5 V, amps: 3 A}
//	  - {volts: 20 V, amps: 3.25 A}
//	  - {lowest: 3.3 V, highest: 11 V, amps: 5 A}
func (p *Nameplate) readContracts(n document.Node) {
	for _, item := range n.Items() {
		raw, err := readContract(item)
		if err != nil {
			item.Fail("%s", err)
			return
		}
		p.Contracts = append(p.Contracts, raw)
	}
	if len(p.Contracts) > contract.MostPlaces {
		n.Fail("a charger offers something in %d places at most, not in %d", contract.MostPlaces, len(p.Contracts))
		return
	}
	for _, odd := range contract.Check(p.Contracts.Objects()) {
		n.Items()[odd.Position-1].Fail("%s", odd.Words)
	}
}

func readContract(n document.Node) (uint32, error) {
	if !n.IsMap() {
		offer, err := contract.ReadOffer(n.Text())
		if err == nil && len(offer) != 1 {
			err = fmt.Errorf("%q are several source objects; write a place for each", n.Text())
		}
		if err != nil {
			return 0, err
		}
		return offer[0], nil
	}
	o := contract.Object{Kind: contract.Fixed}
	level := func(to *float64, dim quantity.Dimension) func(document.Node) {
		return func(n document.Node) { *to = n.Quantity(dim).Value }
	}
	n.Fields(map[string]func(document.Node){
		"volts": level(&o.Highest, quantity.Voltage),
		"lowest": func(n document.Node) {
			o.Kind, o.Lowest = contract.Programmable, n.Quantity(quantity.Voltage).Value
		},
		"highest": level(&o.Highest, quantity.Voltage),
		"amps":    level(&o.Amps, quantity.Current),
	}, "amps")
	return contract.Encode(o)
}
