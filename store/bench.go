package store

import (
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// BenchEntry is a part of the bench that was configured through the API: an instrument or a bay, as JSON, or
// that one of the configuration file was removed.
type BenchEntry struct {
	Kind    string `gorm:"primaryKey"` // "instrument" or "bay"
	Name    string `gorm:"primaryKey"`
	Text    string
	Removed bool
	By      string
	At      time.Time
}

// The kinds of bench entries.
const (
	InstrumentEntry = "instrument"
	BayEntry        = "bay"
)

// BenchEntries lists what was configured through the API.
func (s *Store) BenchEntries() (entries []BenchEntry, err error) {
	return entries, s.db.Order("kind, name").Find(&entries).Error
}

// SaveBenchEntry keeps an entry, in place of an earlier one.
func (s *Store) SaveBenchEntry(e BenchEntry) error {
	e.At = s.Now()
	return s.write(func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&e).Error
	})
}

// DropBenchEntry forgets an entry, so that the configuration file counts again.
func (s *Store) DropBenchEntry(kind, name string) error {
	return s.write(func(tx *gorm.DB) error {
		return tx.Where("kind = ? AND name = ?", kind, name).Delete(&BenchEntry{}).Error
	})
}
