package store

import (
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// Waiting is a run that waits in line for a bay.
type Waiting struct {
	ID  uint   `gorm:"primaryKey"`
	Bay string `gorm:"index"`
	// Position orders the line of a bay; the least is next.
	Position   int
	Serial     string
	Lot        string
	Procedure  string
	Revision   int
	Parameters map[string]string `gorm:"serializer:json"`
	By         string
	At         time.Time
	// After is the run that had ended last in the bay when this one was put in line; empty: none.
	After string
	// NotBefore is when it may begin at the earliest; nil: as soon as the bay is free.
	NotBefore *time.Time
	// Held says why it does not begin, for somebody to look at; empty: it does.
	Held string
	// Released says that somebody has put the unit in place, or mended what stood in the way.
	Released bool
	// SetAside says that the line passes it by, since a run of its unit failed.
	SetAside bool
	// Asks names the checks for which somebody must vouch before it begins, Vouched those for which somebody has.
	Asks    []string `gorm:"serializer:json"`
	Vouched []string `gorm:"serializer:json"`
}

// Enqueue puts runs at the end of the line of their bays, in order.
func (s *Store) Enqueue(runs []Waiting) ([]Waiting, error) {
	err := s.write(func(tx *gorm.DB) error {
		for i := range runs {
			var last struct{ Position int }
			if err := tx.Model(&Waiting{}).Select("COALESCE(MAX(position), 0) AS position").Where("bay = ?",
				runs[i].Bay).Scan(&last).Error; err != nil {
				return err
			}
			runs[i].Position = last.Position + 1
			if err := tx.Create(&runs[i]).Error; err != nil {
				return err
			}
		}
		return nil
	})
	s.enqueued.Add(1)
	return runs, err
}

// Enqueued counts how often something was put in line: where nothing waited and nothing was put in line since, nothing
// waits.
func (s *Store) Enqueued() uint64 { return s.enqueued.Load() }

// Queue lists what waits, bay by bay in order; an empty bay lists all.
func (s *Store) Queue(bay string) ([]Waiting, error) {
	q := s.db.Order("bay, position")
	if bay != "" {
		q = q.Where("bay = ?", bay)
	}
	var all []Waiting
	return all, q.Find(&all).Error
}

// Waiting reads one entry of the line; ErrNotFound if it has begun or was taken out.
func (s *Store) Waiting(id uint) (Waiting, error) {
	var w Waiting
	return w, notFound(s.db.First(&w, "id = ?", id).Error, "waiting run", fmt.Sprint(id))
}

// Dequeue takes an entry out of the line.
func (s *Store) Dequeue(id uint) error {
	return s.write(func(tx *gorm.DB) error { return tx.Delete(&Waiting{}, "id = ?", id).Error })
}

// Hold keeps an entry from beginning and says why, until it is released; asks are the checks for which somebody
// vouches then.
func (s *Store) Hold(id uint, why string, asks []string) error {
	return s.updateWaiting(id, func(w *Waiting) { w.Held, w.Released, w.Asks = why, false, asks })
}

// SetAside holds an entry that the line passes by, until it is released.
func (s *Store) SetAside(id uint, why string) error {
	return s.updateWaiting(id, func(w *Waiting) { w.Held, w.SetAside, w.Released = why, true, false })
}

// Release lets an entry begin: its unit is in place, and as it should be.
func (s *Store) Release(id uint) error {
	return s.updateWaiting(id, func(w *Waiting) {
		w.Held, w.Released, w.Vouched, w.Asks, w.SetAside = "", true, append(w.Vouched, w.Asks...), nil, false
	})
}

func (s *Store) updateWaiting(id uint, change func(w *Waiting)) error {
	return s.write(func(tx *gorm.DB) error {
		var w Waiting
		if err := tx.First(&w, "id = ?", id).Error; err != nil {
			return notFound(err, "waiting run", fmt.Sprint(id))
		}
		change(&w)
		return tx.Save(&w).Error
	})
}

// Begin stores a run that begins and takes it out of the line, in one: a service that is killed meanwhile
// neither forgets it nor begins it twice.
func (s *Store) Begin(r *Run, id uint) error {
	return s.write(func(tx *gorm.DB) error {
		return errors.Join(tx.Create(r).Error, tx.Delete(&Waiting{}, "id = ?", id).Error)
	})
}

// PutBack puts an entry where it was in the line, for a run that did not come about.
func (s *Store) PutBack(w Waiting) error {
	defer s.enqueued.Add(1)
	return s.write(func(tx *gorm.DB) error { return tx.Save(&w).Error })
}

// Mapping says how the columns of a foreign log are read, remembered by the source that it came from.
type Mapping struct {
	Source string `gorm:"primaryKey"`
	// Data is the JSON of the mapping.
	Data string
	By   string
	At   time.Time
}

// PutMapping remembers how logs of a source are read, in place of what was remembered before.
func (s *Store) PutMapping(m Mapping) error {
	return s.write(func(tx *gorm.DB) error { return tx.Save(&m).Error })
}

// Mapping tells how logs of a source are read.
func (s *Store) Mapping(source string) (Mapping, error) {
	var m Mapping
	return m, notFound(s.db.First(&m, "source = ?", source).Error, "source of logs", source)
}

// Mappings lists the known sources by name.
func (s *Store) Mappings() ([]Mapping, error) {
	var all []Mapping
	return all, s.db.Order("source").Find(&all).Error
}
