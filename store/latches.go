package store

import (
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Latch says why nothing may be energised in a bay until a person says go on; without a bay in the whole house.
type Latch struct {
	Bay string `gorm:"primaryKey"`
	Why string
	By  string
	At  time.Time
}

// SaveLatch keeps a latch, in place of an earlier one of the bay, or of the house.
func (s *Store) SaveLatch(l Latch) error {
	return s.write(func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&l).Error
	})
}

// DropLatch forgets the latch of a bay, if there is one.
func (s *Store) DropLatch(bay string) error {
	return s.write(func(tx *gorm.DB) error { return tx.Delete(&Latch{}, "bay = ?", bay).Error })
}

// Latches lists what is held.
func (s *Store) Latches() ([]Latch, error) {
	var all []Latch
	return all, s.db.Order("bay").Find(&all).Error
}
