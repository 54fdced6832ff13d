package record

import "usherbench/core/wiring"

// Scanned is what was read of how a unit is wired. Its mark stands where the scan was done.
type Scanned struct {
	// Seat is that of the crosspoint.
	Seat string `json:"seat"`
	wiring.Scan
}

func (Scanned) is() string { return "scanned" }

// Mark is where it was done.
func (s Scanned) Mark(t float64) Mark {
	return Mark{T: t, Kind: MarkPointDone, Label: s.Words(), About: s}
}

// ScanOf is the scan of a stage, of its last pass; pass chooses another from 1. Without a name it is the only one of
// the run, or the last.
func (rec *Record) ScanOf(stage string, pass int) (Scanned, error) {
	var all []Scanned
	for _, m := range rec.Marks {
		s, is := m.About.(Scanned)
		if is && (stage == "" || rec.isIn(stage, m.T)) {
			all = append(all, s)
		}
	}
	switch {
	case len(all) == 0:
		return Scanned{}, Because(NoData, "nothing was scanned in %s", orRun(stage))
	case pass > len(all):
		return Scanned{}, Because(NoData, "%s was scanned %d times, and pass %d is asked for", orRun(stage), len(all),
			pass)
	case pass > 0:
		return all[pass-1], nil
	}
	return all[len(all)-1], nil
}

// Column is the one whose accuracy the readings have.
func (s Scanned) Column() string { return s.Seat + ".ohms" }

func (rec *Record) isIn(stage string, t float64) bool {
	for _, s := range rec.Stages {
		if s.Name == stage && t >= s.T0 && t <= s.T1 {
			return true
		}
	}
	return false
}

func orRun(stage string) string {
	if stage == "" {
		return "this run"
	}
	return "the stage " + stage
}
