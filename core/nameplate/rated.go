package nameplate

import (
	"strings"

	"usherbench/core/quantity"
	"usherbench/core/seats"
)

// RatingOf is what ratings state for an output, by its seat; where they state that for no output, what they state for
// the unit.
func RatingOf(ratings map[string]quantity.Quantity, output, name string) (quantity.Quantity, bool) {
	if q, ok := ratings[output+"."+name]; ok {
		return q, true
	}
	for other := range ratings {
		if strings.HasSuffix(other, "."+name) {
			return quantity.Quantity{}, false
		}
	}
	q, ok := ratings[name]
	return q, ok
}

// Rated is what a column reads when the unit works as it is rated: the nominal line at what only feeds it, rated volts
// and rated current at what only drains it.
func Rated(ratings map[string]quantity.Quantity, column string) (quantity.Quantity, bool) {
	seat, of, _ := strings.Cut(column, ".")
	kind, known := seats.KindOf(seat)
	if !known {
		return quantity.Quantity{}, false
	}
	feeds, drains := kind.Is(seats.Feeds), kind.Is(seats.Drains)
	name := ""
	switch {
	case feeds == drains:
	case feeds && of == "volts":
		name = "nominal_line"
	case drains && of == "volts":
		name = "rated_volts"
	case drains && of == "amps":
		name = "rated_current"
	}
	q, ok := RatingOf(ratings, seat, name)
	wanted, _ := quantity.KindOf(of)
	return q, ok && name != "" && q.Dim == wanted.Unit.Dim
}

// RatedOf gives what columns read when the unit works as it is rated, each in its own unit, as far as it is stated.
func (p *Nameplate) RatedOf(columns []string) map[string]float64 {
	all := map[string]float64{}
	for _, column := range columns {
		if q, ok := Rated(p.Ratings, column); ok {
			kind, _ := quantity.KindOfColumn(column)
			all[column] = q.Value / kind.Unit.Factor
		}
	}
	return all
}
