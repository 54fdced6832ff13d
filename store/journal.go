package store

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"
	"unicode/utf8"

	"gorm.io/gorm"
)

// Journal adds an entry, which seals those before it.
func (s *Store) Journal(e JournalEntry) error {
	if e.At.IsZero() {
		e.At = s.Now()
	}
	for _, text := range []*string{&e.By, &e.Bay, &e.What, &e.Detail} {
		*text = bounded(*text)
	}
	return s.write(func(tx *gorm.DB) error {
		before, err := lastHash(tx)
		if err != nil {
			return err
		}
		if err := tx.Create(&e).Error; err != nil {
			return err
		}
		return tx.Model(&JournalEntry{}).Where("id = ?", e.ID).Update("hash", e.seal(before)).Error
	})
}

// mostOfAText bounds a text of an entry: the journal is not where somebody keeps files.
const mostOfAText = 4000

// bounded cuts a text off, at the end of a character, and says how much there was.
func bounded(text string) string {
	if len(text) <= mostOfAText {
		return text
	}
	end := mostOfAText
	for !utf8.RuneStart(text[end]) {
		end--
	}
	return fmt.Sprintf("%s … (%d bytes in all)", text[:end], len(text))
}

// lastHash is the seal of the newest entry; empty if there is none.
func lastHash(tx *gorm.DB) (string, error) {
	var last []JournalEntry
	err := tx.Select("hash").Order("id DESC").Limit(1).Find(&last).Error
	if err != nil || len(last) == 0 {
		return "", err
	}
	return last[0].Hash, nil
}

// seal is SHA-256 over the seal of the entry before and what this one says, in hexadecimal digits.
func (e JournalEntry) seal(before string) string {
	text, err := json.Marshal([]any{before, e.ID, e.At.UnixNano(), e.By, e.Bay, e.RunID, e.What, e.Detail})
	if err != nil { // plain data can always be written
		return ""
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Verified is what came of a look at the whole journal.
type Verified struct {
	Entries  int    // that are sealed
	Unsealed int    // from before entries were sealed
	Last     string // the newest seal: whoever keeps it elsewhere can tell whether the journal's end was cut off
	// Broken is the first entry that is not as it was written, or does not follow the one before; 0: none.
	Broken uint
	Why    string
}

// VerifyJournal holds every entry against its seal.
func (s *Store) VerifyJournal() (v Verified, err error) {
	rows, err := s.db.Model(&JournalEntry{}).Order("id").Rows()
	if err != nil {
		return v, err
	}
	defer rows.Close()
	for rows.Next() {
		var e JournalEntry
		if err := s.db.ScanRows(rows, &e); err != nil {
			return v, err
		}
		switch {
		case e.Hash == "" && v.Entries == 0:
			v.Unsealed++
			continue
		case e.Hash != e.seal(v.Last):
			v.Broken = e.ID
			v.Why = fmt.Sprintf("entry %d, of %s, is not as it was written, or one before it is missing", e.ID,
				e.At.Format(time.DateTime))
			return v, nil
		}
		v.Entries, v.Last = v.Entries+1, e.Hash
	}
	return v, rows.Err()
}
