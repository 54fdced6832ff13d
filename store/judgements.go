package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"usherbench/core/procedure"
)

// Judgement is the figures of a run as they were judged anew, perhaps by another procedure text. Judgements are
// never changed.
type Judgement struct {
	ID      uint   `gorm:"primaryKey"`
	RunID   string `gorm:"index;not null"`
	By      string
	At      time.Time
	Why     string
	Text    string // the procedure that judged
	Before  string // the outcome that the run had
	Outcome string
	Figures string // JSON
	Changes string // JSON list of sentences
}

// AddJudgement keeps a judgement; with adopt its figures become those of the run, and what they replace is kept
// as a judgement too.
func (s *Store) AddJudgement(j Judgement, adopt bool) (Judgement, error) {
	earlier, err := s.Figures(j.RunID)
	if err != nil {
		return j, err
	}
	run, err := s.Run(j.RunID)
	if err != nil {
		return j, err
	}
	judged, err := j.Judged()
	if err != nil {
		return j, err
	}
	err = s.write(func(tx *gorm.DB) error {
		var first int64
		if err := tx.Model(&Judgement{}).Where("run_id = ?", j.RunID).Count(&first).Error; err != nil {
			return err
		}
		if first == 0 { // the figures of the day of the run stand first
			data, err := json.Marshal(earlier)
			if err != nil {
				return err
			}
			at := run.StartedAt
			if run.EndedAt != nil {
				at = *run.EndedAt
			}
			original := Judgement{RunID: j.RunID, By: "service", At: at, Why: "when the run ended", Text: run.ProcedureText,
				Outcome: run.Outcome, Figures: string(data), Changes: "[]"}
			if err := tx.Create(&original).Error; err != nil {
				return err
			}
		}
		return tx.Create(&j).Error
	})
	if err != nil || !adopt {
		return j, err
	}
	return j, s.SaveFigures(j.RunID, judged, map[string]any{"outcome": j.Outcome})
}

// Judgements lists the judgements of a run, oldest first.
func (s *Store) Judgements(runID string) (all []Judgement, err error) {
	return all, s.db.Where("run_id = ?", runID).Order("id").Find(&all).Error
}

// Judged decodes the figures of a judgement.
func (j Judgement) Judged() (figures []procedure.Judged, err error) {
	return figures, json.Unmarshal([]byte(j.Figures), &figures)
}

// Rehearsal is a rehearsal as it was computed, by the key of everything that it depends on.
type Rehearsal struct {
	Key       string `gorm:"primaryKey"`
	Procedure string `gorm:"index"`
	At        time.Time
	Data      []byte // compressed JSON
}

// PutRehearsal keeps a rehearsal. Of very many the oldest are forgotten: they can be computed again.
func (s *Store) PutRehearsal(key, procedure string, document []byte) error {
	r := Rehearsal{Key: key, Procedure: procedure, At: s.Now(), Data: compress(document)}
	return s.write(func(tx *gorm.DB) error {
		if err := tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&r).Error; err != nil {
			return err
		}
		old := tx.Model(&Rehearsal{}).Select("key").Order("at DESC").Offset(mostRehearsals).Limit(-1)
		return tx.Where("key IN (?)", old).Delete(&Rehearsal{}).Error
	})
}

// mostRehearsals bounds what is kept.
const mostRehearsals = 500

// Rehearsal reads a rehearsal by its key; ErrNotFound if it is not kept.
func (s *Store) Rehearsal(key string) ([]byte, error) {
	var r Rehearsal
	err := s.db.First(&r, "key = ?", key).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, fmt.Errorf("rehearsal %q: %w", key, ErrNotFound)
	}
	if err != nil {
		return nil, err
	}
	return decompress(r.Data)
}

func compress(data []byte) []byte { return encoder().EncodeAll(data, nil) }

func decompress(data []byte) ([]byte, error) { return decoder().DecodeAll(data, nil) }
