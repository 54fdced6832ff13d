package store

import (
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Excerpt is a part of a run that somebody has named, s since its start. The frames stay the run's.
type Excerpt struct {
	RunID string `gorm:"primaryKey"`
	Name  string `gorm:"primaryKey"`
	Note  string
	From  float64
	To    float64
	By    string
	At    time.Time
}

// Excerpts lists those of a run by their begin.
func (s *Store) Excerpts(runID string) (all []Excerpt, err error) {
	return all, s.db.Where("run_id = ?", runID).Order("`from`, name").Find(&all).Error
}

// Excerpt finds one by its name. It fails with ErrNotFound.
func (s *Store) Excerpt(runID, name string) (e Excerpt, err error) {
	err = s.db.Where("run_id = ? AND name = ?", runID, name).Limit(1).Find(&e).Error
	if err == nil && e.Name == "" {
		return e, fmt.Errorf("excerpt %q of the run: %w", name, ErrNotFound)
	}
	return e, err
}

// PutExcerpt keeps an excerpt, in place of one of the same name.
func (s *Store) PutExcerpt(e Excerpt) (Excerpt, error) {
	e.At = s.Now()
	return e, s.write(func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&e).Error
	})
}

// DropExcerpt forgets an excerpt; the frames stay. It fails with ErrNotFound.
func (s *Store) DropExcerpt(runID, name string) error {
	return s.write(func(tx *gorm.DB) error {
		done := tx.Delete(&Excerpt{}, "run_id = ? AND name = ?", runID, name)
		if done.Error == nil && done.RowsAffected == 0 {
			return fmt.Errorf("excerpt %q of the run: %w", name, ErrNotFound)
		}
		return done.Error
	})
}
