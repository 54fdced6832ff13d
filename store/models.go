package store

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"usherbench/api"
	"usherbench/core/procedure"
	"usherbench/core/record"
)

// Account is a person or a program that may use the service.
type Account struct {
	ID        uint   `gorm:"primaryKey"`
	Name      string `gorm:"uniqueIndex;not null"`
	Role      string `gorm:"not null"`
	Hash      string // argon2id; empty: cannot sign in with a password
	Disabled  bool   // may no longer sign in, and has no tokens
	CreatedAt time.Time
}

// Token proves that its bearer has signed in. Only its hash is kept.
type Token struct {
	Hash      string `gorm:"primaryKey"`
	AccountID uint   `gorm:"index;not null"`
	Account   Account
	Kind      string // "session" for a browser, "client" for the CLI and programs
	Label     string // from where it was asked for
	IssuedAt  time.Time
	ExpiresAt time.Time
}

// Nameplate is the text of a nameplate, as last pushed.
type Nameplate struct {
	Name string `gorm:"primaryKey"`
	Text string
	By   string
	At   time.Time
}

// Revision is one state of a procedure's text.
type Revision struct {
	ID     uint   `gorm:"primaryKey"`
	Name   string `gorm:"uniqueIndex:idx_revision;not null"`
	Number int    `gorm:"uniqueIndex:idx_revision;not null"`
	Title  string
	For    string
	Text   string
	Hash   string // SHA-256 of the text
	By     string
	At     time.Time
	Why    string
	// ReleasedBy made it one that operators may run; empty: it is a draft.
	ReleasedBy  string
	ReleasedAt  *time.Time
	ReleasedWhy string
}

// Run is one execution of a procedure on one unit in one bay. It keeps everything that its figures depend on.
type Run struct {
	ID        string `gorm:"primaryKey"`
	Bay       string `gorm:"index"`
	Serial    string `gorm:"index"`
	Lot       string `gorm:"index"`
	Procedure string `gorm:"index"`
	Revision  int
	Title     string
	Nameplate string
	Operator  string
	StartedAt time.Time `gorm:"index"`
	EndedAt   *time.Time
	// State is "live" or how the run ended: "done", "failed", "aborted", "open-contact".
	State   string `gorm:"index"`
	Reason  string
	Outcome string `gorm:"index"`
	// Duration in bench time, s.
	Duration   float64
	TimeFactor float64
	// The exact texts that ran.
	ProcedureText, NameplateText string
	// UsedTexts are the procedures that this one used, by name.
	UsedTexts   map[string]string   `gorm:"serializer:json"`
	Parameters  map[string]string   `gorm:"serializer:json"`
	Columns     []string            `gorm:"serializer:json"`
	Instruments []api.InstrumentUse `gorm:"serializer:json"`
	// Specs holds the accuracies as JSON, by column.
	Specs  string
	Frames int64
	// Breaks are the times in which nobody recorded, since the service was not there.
	Breaks []record.Break `gorm:"serializer:json"`
	// Source says what an imported run was read from; empty for one of a bay.
	Source string
	// Preflight holds what was checked before the start.
	Preflight []api.PreflightFinding `gorm:"serializer:json"`
	// ReseatsLeft is how often the unit may still be put in anew after this run, if it finds an open contact; with none
	// left that counts as a failure.
	ReseatsLeft int
	// Results are the figures in short, as writeResults makes them; empty in runs of schema 11 and before.
	Results string
	// Parts were in the unit.
	Parts map[string]string `gorm:"serializer:json"`
}

// Summary is the run as lists show it.
func (r Run) Summary() api.RunSummary {
	return api.RunSummary{
		ID: r.ID, Bay: r.Bay, Serial: r.Serial, Lot: r.Lot, Procedure: r.Procedure, Revision: r.Revision, Title: r.Title,
		Nameplate: r.Nameplate,
		Operator:  r.Operator, StartedAt: r.StartedAt, EndedAt: r.EndedAt, State: r.State, Reason: r.Reason,
		Outcome: r.Outcome, Duration: r.Duration,
	}
}

// snapshotRow is the state of a live run from which it can go on, as JSON.
type snapshotRow struct {
	RunID string `gorm:"primaryKey"`
	Data  []byte
}

func (snapshotRow) TableName() string { return "snapshots" }

// chunk is a block of consecutive frames: time, then the run's columns. Small ones are merged while the run goes on.
type chunk struct {
	RunID string `gorm:"primaryKey;index:idx_chunk_time,priority:1"`
	First int64  `gorm:"primaryKey;autoIncrement:false"` // index of the first frame
	Count int
	T0    float64 `gorm:"index:idx_chunk_time,priority:2"`
	T1    float64
	Data  []byte
}

func (chunk) TableName() string { return "chunks" }

// pyramidRow is a block of consecutive buckets of one level: time of the first frame, then min and max of each
// column. A bucket of level L covers 16^L frames.
type pyramidRow struct {
	RunID string `gorm:"primaryKey"`
	Level int    `gorm:"primaryKey;autoIncrement:false"`
	First int64  `gorm:"primaryKey;autoIncrement:false"` // index of the first frame
	End   int64  // index after the last frame
	Data  []byte
}

func (pyramidRow) TableName() string { return "pyramids" }

type markRow struct {
	RunID string `gorm:"primaryKey"`
	Seq   int    `gorm:"primaryKey;autoIncrement:false"`
	T     float64
	Kind  string
	Label string
	// About is what the mark says for programs, as JSON; empty in marks of schema 5 and earlier, and where there
	// is no more to say.
	About string
}

func (markRow) TableName() string { return "marks" }

type pointRow struct {
	RunID string `gorm:"primaryKey"`
	Seq   int    `gorm:"primaryKey;autoIncrement:false"`
	Data  string // JSON of a record.Point
}

func (pointRow) TableName() string { return "points" }

// Figure is a computed result of a run with its limit and outcome.
type Figure struct {
	RunID    string `gorm:"primaryKey"`
	Position int    `gorm:"primaryKey;autoIncrement:false"`
	Figure   string `gorm:"index"`
	Value    *float64
	Outcome  string
	// Version names the code that computed it.
	Version int
	// Data is the JSON of the whole result.
	Data string
}

// JournalEntry says what was done, by whom, to what. Entries are only ever added.
type JournalEntry struct {
	ID     uint      `gorm:"primaryKey" json:"id"`
	At     time.Time `gorm:"index" json:"at"`
	By     string    `json:"by"`
	Bay    string    `gorm:"index" json:"bay,omitempty"`
	RunID  string    `gorm:"index" json:"run,omitempty"`
	What   string    `json:"what"`
	Detail string    `json:"detail,omitempty"`
	// Hash seals the entry and all before it; empty in entries of earlier versions.
	Hash string `json:"-"`
}

// JournalFilter chooses entries; empty fields choose all.
type JournalFilter = api.JournalFilter

// JournalEntries lists entries, newest first.
func (s *Store) JournalEntries(f JournalFilter) ([]JournalEntry, error) {
	q := s.db.Order("id DESC").Limit(orDefault(f.Limit, 200))
	if f.Bay != "" {
		q = q.Where("bay = ?", f.Bay)
	}
	if f.Run != "" {
		q = q.Where("run_id = ?", f.Run)
	}
	if f.What != "" {
		q = q.Where("what = ?", f.What)
	}
	if f.By != "" {
		q = q.Where("\"by\" = ?", f.By)
	}
	if !f.Since.IsZero() {
		q = q.Where("at >= ?", f.Since)
	}
	if !f.Until.IsZero() {
		q = q.Where("at < ?", f.Until)
	}
	var entries []JournalEntry
	return entries, q.Find(&entries).Error
}

func orDefault(n, fallback int) int {
	if n <= 0 {
		return fallback
	}
	return n
}

// PutNameplate stores a nameplate in place of an older one of the same name.
func (s *Store) PutNameplate(n Nameplate) error {
	return s.write(func(tx *gorm.DB) error { return tx.Save(&n).Error })
}

// Nameplate reads a nameplate.
func (s *Store) Nameplate(name string) (Nameplate, error) {
	var n Nameplate
	return n, notFound(s.db.First(&n, "name = ?", name).Error, "nameplate", name)
}

// Nameplates lists all nameplates by name.
func (s *Store) Nameplates() ([]Nameplate, error) {
	var ns []Nameplate
	return ns, s.db.Order("name").Find(&ns).Error
}

// PushRevision stores a procedure as its next revision. A text that is the same as the newest revision's gives
// that one back, and fresh is false.
func (s *Store) PushRevision(r Revision) (stored Revision, fresh bool, err error) {
	sum := sha256.Sum256([]byte(r.Text))
	r.Hash = hex.EncodeToString(sum[:])
	err = s.write(func(tx *gorm.DB) error {
		var last Revision
		err := tx.Where("name = ?", r.Name).Order("number DESC").First(&last).Error
		if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return err
		}
		if last.Hash == r.Hash {
			stored = last
			return nil
		}
		r.Number = last.Number + 1
		stored, fresh = r, true
		return tx.Create(&stored).Error
	})
	return stored, fresh, err
}

// Library gives the newest revision of a procedure, for others that use it.
func (s *Store) Library(name string) (string, error) {
	r, err := s.Revision(name, 0)
	if errors.Is(err, ErrNotFound) {
		return "", procedure.ErrNoLibrary
	}
	return r.Text, err
}

// Revision reads a revision of a procedure; number 0 is the newest.
func (s *Store) Revision(name string, number int) (Revision, error) {
	q := s.db.Where("name = ?", name).Order("number DESC")
	if number > 0 {
		q = q.Where("number = ?", number)
	}
	var r Revision
	return r, notFound(q.First(&r).Error, "procedure", name)
}

// Revisions lists all revisions of a procedure, newest first.
func (s *Store) Revisions(name string) ([]Revision, error) {
	var rs []Revision
	if err := s.db.Where("name = ?", name).Order("number DESC").Find(&rs).Error; err != nil {
		return nil, err
	}
	if len(rs) == 0 {
		return nil, fmt.Errorf("procedure %q: %w", name, ErrNotFound)
	}
	return rs, nil
}

// Procedures lists the newest revision of every procedure, by name.
func (s *Store) Procedures() ([]Revision, error) {
	var rs []Revision
	newest := s.db.Model(&Revision{}).Select("MAX(id)").Group("name")
	return rs, s.db.Where("id IN (?)", newest).Order("name").Find(&rs).Error
}

// CreateAccount adds an account; ErrConflict if the name is taken.
func (s *Store) CreateAccount(a Account) (Account, error) {
	err := s.write(func(tx *gorm.DB) error { return tx.Create(&a).Error })
	if errors.Is(err, gorm.ErrDuplicatedKey) {
		return a, fmt.Errorf("account %q: %w", a.Name, ErrConflict)
	}
	return a, err
}

// Account finds an account by name, whatever the case of its letters.
func (s *Store) Account(name string) (Account, error) {
	var a Account
	return a, notFound(s.db.First(&a, "lower(name) = ?", strings.ToLower(name)).Error, "account", name)
}

// UpdateAccount changes the named columns of an account.
func (s *Store) UpdateAccount(id uint, columns map[string]any) error {
	return s.write(func(tx *gorm.DB) error { return tx.Model(&Account{}).Where("id = ?", id).Updates(columns).Error })
}

// Accounts lists all accounts by name.
func (s *Store) Accounts() ([]Account, error) {
	var as []Account
	return as, s.db.Order("name").Find(&as).Error
}

// PutToken stores a token by the hash of its secret, in place of an older one with the same hash.
func (s *Store) PutToken(t Token) error {
	return s.write(func(tx *gorm.DB) error { return tx.Omit("Account").Save(&t).Error })
}

// Tokens lists all tokens with their accounts, expired ones too.
func (s *Store) Tokens() ([]Token, error) {
	var all []Token
	return all, s.db.Preload("Account").Order("hash").Find(&all).Error
}

// DropToken forgets a token.
func (s *Store) DropToken(hash string) error {
	return s.write(func(tx *gorm.DB) error { return tx.Delete(&Token{Hash: hash}).Error })
}

// DropTokens forgets all tokens of a kind that belong to an account.
func (s *Store) DropTokens(account uint, kind string) error {
	return s.write(func(tx *gorm.DB) error {
		return tx.Delete(&Token{}, "account_id = ? AND kind = ?", account, kind).Error
	})
}
