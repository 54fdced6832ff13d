package store

import (
	"encoding/json"
	"errors"
	"fmt"

	"gorm.io/gorm"

	"usherbench/api"
)

// attachmentRow is what is known of an attachment beside its contents.
type attachmentRow struct {
	RunID  string `gorm:"primaryKey"`
	Number int    `gorm:"primaryKey;autoIncrement:false"`
	Data   string // JSON of an api.Attachment
	// Dropped is why it was taken away; nil: it was not. The row stays, so that no other gets its number.
	Dropped *string
}

func (attachmentRow) TableName() string { return "attachments" }

// attachmentContent is the bytes of an attachment, and the picture made small.
type attachmentContent struct {
	RunID          string `gorm:"primaryKey"`
	Number         int    `gorm:"primaryKey;autoIncrement:false"`
	Content, Small []byte
}

// Bounds of what may be joined to a run; the bytes are those of all.
const (
	MostAttachments    = 200
	LargestAttachments = 256 << 20
)

// ErrTooMany means that a run has all the attachments that it may have.
var ErrTooMany = errors.New("the run has as many attachments as one may have")

// Attach joins a file to a run and numbers it. small is the picture made small; nil: it is none.
func (s *Store) Attach(runID string, a api.Attachment, content, small []byte) (api.Attachment, error) {
	a.At = s.Now()
	return a, s.write(func(tx *gorm.DB) error {
		var have struct {
			Most, Count int
			Sum         int64
		}
		err := tx.Model(&attachmentRow{}).Where("run_id = ?", runID).Select("max(number) AS most, " +
			"sum(dropped IS NULL) AS count, sum(json_extract(data, '$.size')) FILTER (WHERE dropped IS NULL) AS sum").
			Scan(&have).Error
		switch {
		case err != nil:
			return err
		case have.Count >= MostAttachments:
			return fmt.Errorf("%w: %d of them", ErrTooMany, have.Count)
		case have.Sum+int64(a.Size) > LargestAttachments:
			return fmt.Errorf("%w: %d MB of %d MB", ErrTooMany, have.Sum>>20, LargestAttachments>>20)
		}
		a.Number = have.Most + 1
		data, err := json.Marshal(a)
		if err != nil {
			return err
		}
		if err := tx.Create(&attachmentRow{RunID: runID, Number: a.Number, Data: string(data)}).Error; err != nil {
			return err
		}
		return tx.Create(&attachmentContent{RunID: runID, Number: a.Number, Content: content, Small: small}).Error
	})
}

// Attachments lists those of a run in the order of their instants.
func (s *Store) Attachments(runID string) ([]api.Attachment, error) {
	var rows []attachmentRow
	err := s.db.Where("run_id = ? AND dropped IS NULL", runID).Order("json_extract(data, '$.t'), number").Find(&rows).Error
	if err != nil {
		return nil, err
	}
	return decodeRows(rows, func(r attachmentRow) string { return r.Data }, api.Attachment{})
}

// AboutAttachment finds what is known of one. It fails with ErrNotFound.
func (s *Store) AboutAttachment(runID string, number int) (a api.Attachment, err error) {
	var row attachmentRow
	err = s.db.Where("run_id = ? AND number = ? AND dropped IS NULL", runID, number).Limit(1).Find(&row).Error
	if err == nil && row.Data == "" {
		err = fmt.Errorf("attachment %d of the run: %w", number, ErrNotFound)
	}
	if err != nil {
		return a, err
	}
	return a, json.Unmarshal([]byte(row.Data), &a)
}

// Attachment finds one with its bytes; of a picture that is wanted small, those of the small one. It fails with
// ErrNotFound.
func (s *Store) Attachment(runID string, number int, small bool) (a api.Attachment, content []byte, err error) {
	if a, err = s.AboutAttachment(runID, number); err != nil {
		return a, nil, err
	}
	column := "content"
	if small && a.Picture() {
		column = "small"
	}
	err = s.db.Model(&attachmentContent{}).Where("run_id = ? AND number = ?", runID, number).Select(column).
		Row().Scan(&content)
	return a, content, err
}

// DropAttachment takes an attachment from a run: its bytes go, while what is known of it stays beside the reason. It
// fails with ErrNotFound.
func (s *Store) DropAttachment(runID string, number int, why string) error {
	return s.write(func(tx *gorm.DB) error {
		done := tx.Model(&attachmentRow{}).Where("run_id = ? AND number = ? AND dropped IS NULL", runID, number).
			Update("dropped", why)
		if done.Error == nil && done.RowsAffected == 0 {
			return fmt.Errorf("attachment %d of the run: %w", number, ErrNotFound)
		}
		if done.Error != nil {
			return done.Error
		}
		return tx.Delete(&attachmentContent{}, "run_id = ? AND number = ?", runID, number).Error
	})
}
