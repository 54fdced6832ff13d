package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Setting is something that the office has set, as JSON.
type Setting struct {
	Name string `gorm:"primaryKey"`
	Data string
	By   string
	At   time.Time
}

// Setting reads what the office has set into a value, which stays as it is where nothing is.
func (s *Store) Setting(name string, into any) error {
	var found Setting
	err := s.db.First(&found, "name = ?", name).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := json.Unmarshal([]byte(found.Data), into); err != nil {
		return fmt.Errorf("setting %s: %w", name, err)
	}
	return nil
}

// PutSetting keeps what the office has set.
func (s *Store) PutSetting(by, name string, value any) error {
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	row := Setting{Name: name, Data: string(data), By: by, At: s.Now()}
	return s.write(func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
	})
}

// SetReleased makes a revision one that operators may run; with an empty by it is a draft again.
func (s *Store) SetReleased(name string, number int, by, why string) (Revision, error) {
	r, err := s.Revision(name, number)
	if err != nil {
		return r, err
	}
	r.ReleasedBy, r.ReleasedWhy, r.ReleasedAt = by, why, nil
	if by != "" {
		now := s.Now()
		r.ReleasedAt = &now
	}
	return r, s.write(func(tx *gorm.DB) error {
		return tx.Model(&Revision{}).Where("id = ?", r.ID).Updates(map[string]any{"released_by": r.ReleasedBy,
			"released_at": r.ReleasedAt, "released_why": r.ReleasedWhy}).Error
	})
}

// Released is the number of the newest revision of a procedure that operators may run; 0: there is none.
func (s *Store) Released(name string) (number int, err error) {
	return number, s.db.Model(&Revision{}).Select("COALESCE(MAX(number), 0)").
		Where("name = ? AND released_by <> ''", name).Scan(&number).Error
}

// Message is that somebody is to be told of a run that has ended. It is kept after it was sent, so that it is not sent
// twice.
type Message struct {
	ID    uint   `gorm:"primaryKey"`
	To    string `gorm:"uniqueIndex:idx_outbox_message"`
	RunID string `gorm:"uniqueIndex:idx_outbox_message"`
	At    time.Time
	Tries int
	Next  time.Time
	Error string
	Sent  *time.Time
}

// TableName implements schema.Tabler.
func (Message) TableName() string { return "outbox" }

// mostAsked is after how many things at once a question asks.
const mostAsked = 500

// Address puts messages about runs that have ended since an instant into the outbox, for everybody who is to be told;
// those that are there already stay.
func (s *Store) Address(to []string, since time.Time) error {
	var runs []string
	err := s.db.Model(&Run{}).Where("state <> ? AND ended_at >= ?", Live, since).Order("rowid").Pluck("id", &runs).Error
	if err != nil || len(runs) == 0 || len(to) == 0 {
		return err
	}
	var fresh []Message
	for _, address := range to {
		there := map[string]bool{}
		for part := range slices.Chunk(runs, mostAsked) {
			var known []string
			if err := s.db.Model(&Message{}).Where("\"to\" = ? AND run_id IN ?", address, part).Pluck("run_id",
				&known).Error; err != nil {
				return err
			}
			for _, id := range known {
				there[id] = true
			}
		}
		for _, id := range runs {
			if !there[id] {
				fresh = append(fresh, Message{To: address, RunID: id, At: s.Now(), Next: s.Now()})
			}
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	return s.write(func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&fresh, 200).Error
	})
}

// ToSend are the messages to an address that were not sent, oldest first.
func (s *Store) ToSend(to string, most int) (all []Message, err error) {
	return all, s.db.Where("\"to\" = ? AND sent IS NULL", to).Order("id").Limit(most).Find(&all).Error
}

// Outbox lists messages, newest first; waiting ones only, or all.
func (s *Store) Outbox(waiting bool, most int) (all []Message, err error) {
	q := s.db.Order("id DESC").Limit(most)
	if waiting {
		q = q.Where("sent IS NULL")
	}
	return all, q.Find(&all).Error
}

// PutMessage keeps what became of a message.
func (s *Store) PutMessage(m Message) error {
	return s.write(func(tx *gorm.DB) error { return tx.Save(&m).Error })
}

// DropMessages forgets the messages that were not sent to anybody else than those.
func (s *Store) DropMessages(but []string) error {
	return s.write(func(tx *gorm.DB) error {
		return tx.Delete(&Message{}, "\"to\" NOT IN ? AND sent IS NULL", append(but, "")).Error
	})
}
