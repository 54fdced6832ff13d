package rehearsal

import (
	"math"

	"usherbench/core/stage"
	"usherbench/simbench/plant"
)

// scanned is what a scan reads of the unit; of one without wires everything is over range.
func (b *bench) scanned(t float64, e stage.Scan) stage.Scanned {
	read := stage.Scanned{T: t, Shot: e.Shot, Range: mostScanned}
	for _, p := range e.Pairs {
		ohms := math.Inf(1)
		if w, ok := b.unit.(plant.Wired); ok {
			ohms = w.Between(p[0], p[1])
		}
		if ohms > mostScanned {
			ohms = math.Inf(1)
		}
		read.Ohms = append(read.Ohms, ohms)
	}
	return read
}

// mostScanned is the most that a usual crosspoint can tell, Ω.
const mostScanned = 100e6
