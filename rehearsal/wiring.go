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

// opened is what a watch saw between two times.
func (b *bench) opened(t, since float64, e stage.WatchOpenings) stage.Opened {
	told := stage.Opened{T: t, Shot: e.Shot, Since: since, Done: true}
	for i, p := range e.Pairs {
		var opens [][2]float64
		switch w := b.unit.(type) {
		case plant.Loose:
			if opens = w.Opens(p[0], p[1], since, t); w.Between(p[0], p[1]) > mostScanned {
				opens = [][2]float64{{since, t}}
			}
		default:
			opens = [][2]float64{{since, t}}
		}
		for _, o := range opens {
			told.All = append(told.All, stage.Opening{Pair: i, Began: o[0] - since, Lasted: o[1] - o[0]})
		}
	}
	return told
}

// mostScanned is the most that a usual crosspoint can tell, Ω.
const mostScanned = 100e6
