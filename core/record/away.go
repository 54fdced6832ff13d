package record

// What a clock of the unit would count: while nobody looked after a run its outputs were off, and that is no time of a
// charge, a discharge or a crossing.

// away is a time in which the outputs were off since nobody looked after the run.
type away struct{ from, to float64 }

// aways lists them: from when the outputs went off, or from the last frame before where that is not known, until the
// run went on after its rest.
func (rec *Record) aways() []away {
	if len(rec.away) == len(rec.Breaks) {
		return rec.away
	}
	var all []away
	for _, b := range rec.Breaks {
		x := away{b.T0, b.T1}
		if b.Off >= 0 {
			x.from = b.Off
		}
		for _, m := range rec.Marks {
			if m.Kind == MarkBreak && m.T > b.T0 {
				x.to = max(x.to, m.T)
				break
			}
		}
		all = append(all, x)
	}
	rec.away = all
	return all
}

// Active is how long a time was without those in which nobody looked after the run, s.
func (rec *Record) Active(from, to float64) float64 {
	seconds := to - from
	for _, x := range rec.aways() {
		seconds -= max(min(x.to, to)-max(x.from, from), 0)
	}
	return seconds
}

// Resumed tells whether a time holds one in which nobody looked after the run.
func (rec *Record) Resumed(from, to float64) bool {
	_, broken := rec.breakIn(from, to)
	return broken
}
