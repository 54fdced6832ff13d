package store

import (
	"time"

	"gorm.io/gorm"

	"usherbench/api"
)

// LotRun is a run of a lot that has ended, as far as its statistics need it.
type LotRun struct {
	ID, Bay, Serial, Procedure, Title, State, Outcome, Reason, Operator string
	StartedAt                                                           time.Time
	EndedAt                                                             *time.Time
}

// LotValue is a figure of a run of a lot; without a value it is undetermined.
type LotValue struct {
	RunID, Figure, Outcome string
	Value                  *float64
}

// Lots lists the lots, the one with the newest run first.
func (s *Store) Lots() ([]api.LotSummary, error) {
	var found []struct {
		Lot         string
		Units, Runs int
		Newest      string
	}
	err := s.db.Model(&Run{}).Select("lot, COUNT(DISTINCT serial) AS units, COUNT(*) AS runs, MAX(started_at) AS newest").
		Where("lot <> ''").Group("lot").Order("MAX(rowid) DESC").Find(&found).Error
	if err != nil {
		return nil, err
	}
	all := make([]api.LotSummary, len(found))
	for i, f := range found {
		all[i] = api.LotSummary{Name: f.Lot, Units: f.Units, Runs: f.Runs}
		newest, err := readTime(f.Newest)
		if err != nil {
			return nil, err
		}
		all[i].Newest = &newest
	}
	return all, nil
}

// readTime reads a time as the database keeps it.
func readTime(text string) (t time.Time, err error) {
	for _, form := range []string{"2006-01-02 15:04:05.999999999-07:00", time.RFC3339Nano} {
		if t, err = time.Parse(form, text); err == nil {
			return t.UTC(), nil
		}
	}
	return t, err
}

// Lot reads the runs of a lot that have ended, in the order in which they began, and their figures in the order of each
// procedure; of one procedure, or of all.
func (s *Store) Lot(lot, procedure string) (runs []LotRun, values []LotValue, err error) {
	q := s.db.Model(&Run{}).Where("lot = ? AND state <> ?", lot, Live)
	if procedure != "" {
		q = q.Where("procedure = ?", procedure)
	}
	if err := q.Session(&gorm.Session{}).Order("started_at, rowid").Find(&runs).Error; err != nil {
		return nil, nil, err
	}
	err = s.db.Model(&Figure{}).Where("run_id IN (?)", q.Session(&gorm.Session{}).Select("id")).
		Order("run_id, position").Find(&values).Error
	return runs, values, err
}
