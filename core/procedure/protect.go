package procedure

import (
	"usherbench/core/document"
	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// readProtect reads what the hardware protections are set to: {source: {volts above: 64 V}}.
func (r *Reader) readProtect(n document.Node) {
	for _, e := range n.Entries() {
		seat, ok := r.Seat(e.Key)
		if !ok || !seat.Kind.HasOutput() {
			e.At.Fail("there is no seat %q to protect; %s", e.Key, document.Suggest(e.Key, r.SeatNames()))
			continue
		}
		levels := map[string]float64{}
		for _, p := range e.Value.Entries() {
			kind, ok := quantity.KindOf(seats.ProtectedQuantity(p.Key))
			if !ok {
				p.At.Fail("%q is no protection; %s", p.Key, document.Suggest(p.Key, seats.Protections()))
				continue
			}
			levels[p.Key] = r.Value(p.Value, kind.Unit.Dim)
		}
		r.p.Protect[e.Key] = levels
	}
}

// readMayTrip reads of which seats a protection may trip without ending the run: [load].
func (r *Reader) readMayTrip(n document.Node) {
	for _, item := range n.Items() {
		name := item.Text()
		seat, ok := r.Seat(name)
		switch {
		case ok && seat.Kind.HasOutput():
			r.p.MayTrip = append(r.p.MayTrip, name)
		default:
			item.Fail("there is no seat %q with an output that could trip; %s", name, document.Suggest(name, r.SeatNames()))
		}
	}
}
