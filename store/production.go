package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Unit is what is kept of a unit beside its runs.
type Unit struct {
	Serial    string `gorm:"primaryKey"`
	Nameplate string
	// Parts are the serial numbers or makers of what is in it, by name.
	Parts map[string]string `gorm:"serializer:json"`
	// Quarantine says why it is not to be tested; empty: it may be.
	Quarantine string
	// Extra are attempts beyond those that its nameplate allows.
	Extra int
	By    string
	At    time.Time
}

// LotOrder is what is kept of a lot beside its runs.
type LotOrder struct {
	Name      string `gorm:"primaryKey"`
	Nameplate string
	// Quantity is how many units it has; 0: nobody said.
	Quantity int
	Closed   bool
	Note     string
	By       string
	At       time.Time
}

// TableName implements schema.Tabler.
func (LotOrder) TableName() string { return "lots" }

// placeRow is what a bay is set up for, as JSON.
type placeRow struct {
	Bay  string `gorm:"primaryKey"`
	Data string
}

func (placeRow) TableName() string { return "places" }

// seriesRow is the last number that was given out in a series of serial numbers.
type seriesRow struct {
	Name string `gorm:"primaryKey"`
	Last int
}

func (seriesRow) TableName() string { return "series" }

// Unit is what is kept of a unit; of one that nobody has said anything of only its serial number.
func (s *Store) Unit(serial string) (Unit, error) {
	u := Unit{Serial: serial}
	err := s.db.First(&u, "serial = ?", serial).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = nil
	}
	return u, err
}

// ChangeUnit changes what is kept of a unit.
func (s *Store) ChangeUnit(serial string, change func(*Unit)) (u Unit, err error) {
	err = s.write(func(tx *gorm.DB) error {
		u = Unit{Serial: serial}
		if err := tx.First(&u, "serial = ?", serial).Error; err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		change(&u)
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&u).Error
	})
	return u, err
}

// LotOrder is what is kept of a lot; of one that nobody has said anything of only its name.
func (s *Store) LotOrder(name string) (LotOrder, error) {
	l := LotOrder{Name: name}
	err := s.db.First(&l, "name = ?", name).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = nil
	}
	return l, err
}

// LotOrders lists what is kept of lots, by name.
func (s *Store) LotOrders() (all []LotOrder, err error) {
	return all, s.db.Order("name").Find(&all).Error
}

// PutLotOrder keeps what is said of a lot, in place of what was said before.
func (s *Store) PutLotOrder(l LotOrder) error {
	return s.write(func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&l).Error
	})
}

// PutPlace keeps what a bay is set up for and how far it is.
func (s *Store) PutPlace(bay string, place any) error {
	data, err := json.Marshal(place)
	if err != nil {
		return err
	}
	return s.write(func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&placeRow{bay, string(data)}).Error
	})
}

// EachPlace gives what every bay is set up for, as JSON.
func (s *Store) EachPlace(take func(bay string, data []byte) error) error {
	var rows []placeRow
	if err := s.db.Order("bay").Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		if err := take(r.Bay, []byte(r.Data)); err != nil {
			return fmt.Errorf("what %s is set up for: %w", r.Bay, err)
		}
	}
	return nil
}

// NextOf gives out the next number of a series, and never one twice. A number whose serial is taken, since a unit was
// typed in, is passed over.
func (s *Store) NextOf(series string, serial func(n int) (string, error)) (made string, err error) {
	err = s.write(func(tx *gorm.DB) error {
		row := seriesRow{Name: series}
		if err := tx.First(&row, "name = ?", series).Error; err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		for taken := int64(1); taken > 0; {
			row.Last++
			if made, err = serial(row.Last); err != nil {
				return err
			}
			if err := tx.Model(&Run{}).Where("serial = ?", made).Limit(1).Count(&taken).Error; err != nil {
				return err
			}
		}
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
	})
	return made, err
}

// Attempt is a run of a unit as its later ones see it.
type Attempt struct {
	ID, Bay, Lot, Procedure, State, Outcome, Reason, Operator string
	Revision                                                  int
	StartedAt                                                 time.Time
	EndedAt                                                   *time.Time
}

// Attempts lists the runs of a unit that have ended, oldest first; of one procedure, or of all.
func (s *Store) Attempts(serial, procedure string) (all []Attempt, err error) {
	q := s.db.Model(&Run{}).Where("serial = ? AND state <> ?", serial, Live)
	if procedure != "" {
		q = q.Where("procedure = ?", procedure)
	}
	return all, q.Order("started_at, rowid").Find(&all).Error
}

// Result is the outcome of an attempt of a unit by a procedure.
type Result struct{ ID, Serial, Procedure, Outcome string }

// ResultsOf chooses results: those of a lot, or without one of a bay since an instant; of one unit where it is named.
type ResultsOf struct {
	Lot, Bay string
	Since    time.Time
	Serial   string
}

// Results are the attempts that have ended, in the order of time.
func (s *Store) Results(of ResultsOf) (all []Result, err error) {
	q := s.db.Model(&Run{}).Select("id, serial, procedure, outcome").
		Where("state <> ?", Live).Order("started_at, rowid")
	if of.Lot != "" {
		q = q.Where("lot = ?", of.Lot)
	} else {
		q = q.Where("bay = ? AND started_at >= ?", of.Bay, of.Since)
	}
	if of.Serial != "" {
		q = q.Where("serial = ?", of.Serial)
	}
	return all, q.Find(&all).Error
}
