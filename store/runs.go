package store

import (
	"encoding/json"
	"fmt"
	"maps"
	"sync/atomic"

	"gorm.io/gorm"

	"usherbench/api"
	"usherbench/core/catalogue"
	"usherbench/core/figure"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/record"
)

// Live is the state of a run that has not ended.
const Live = "live"

// Program resolves the texts that the run was made with. The nameplate is nil if it had none.
func (r Run) Program() (*procedure.Program, *nameplate.Nameplate, error) {
	var plate *nameplate.Nameplate
	if r.NameplateText != "" {
		var err error
		if plate, err = nameplate.Parse([]byte(r.NameplateText)); err != nil {
			return nil, nil, fmt.Errorf("nameplate of run %s: %w", r.ID, err)
		}
	}
	program, err := catalogue.Parse([]byte(r.ProcedureText), plate, r.Parameters, r.library)
	if err != nil {
		return nil, nil, fmt.Errorf("procedure of run %s: %w", r.ID, err)
	}
	return program, plate, nil
}

// library gives the procedures that the run's procedure used, as they were then.
func (r Run) library(name string) (string, error) {
	if text, ok := r.UsedTexts[name]; ok {
		return text, nil
	}
	return "", procedure.ErrNoLibrary
}

// CreateRun stores a run that begins.
func (s *Store) CreateRun(r *Run) error {
	return s.write(func(tx *gorm.DB) error { return tx.Create(r).Error })
}

// Run reads a run by its id, a unique prefix of it, or "last" for the newest.
func (s *Store) Run(ref string) (Run, error) {
	var runs []Run
	q := s.db.Order("rowid DESC").Limit(2)
	if ref != "last" {
		q = q.Where("id >= ? AND id < ?", ref, ref+"\uffff")
	}
	if err := q.Find(&runs).Error; err != nil {
		return Run{}, err
	}
	switch {
	case len(runs) == 0 && ref == "last":
		return Run{}, fmt.Errorf("there is no run yet: %w", ErrNotFound)
	case len(runs) == 0:
		return Run{}, fmt.Errorf("run %q: %w", ref, ErrNotFound)
	case len(runs) > 1 && ref != "last" && runs[0].ID != ref && runs[1].ID != ref:
		return Run{}, fmt.Errorf("run %q: several runs begin so; write more of the id: %w", ref, ErrNotFound)
	}
	return runs[0], nil
}

// RunFilter chooses runs; empty fields choose all.
type RunFilter = api.RunFilter

// Runs lists runs, newest first, without their texts. The newest is the one that came on record last, whatever the
// clock said then and when its log says that it began.
func (s *Store) Runs(f RunFilter) ([]Run, error) {
	q := s.db.Omit("procedure_text", "nameplate_text", "used_texts", "specs", "results").Order("rowid DESC").
		Limit(orDefault(f.Limit, 100))
	for _, chosen := range f.Texts() {
		if *chosen.Value != "" {
			q = q.Where(chosen.Name+" = ?", *chosen.Value)
		}
	}
	if !f.Since.IsZero() {
		q = q.Where("started_at >= ?", f.Since)
	}
	if f.Before != "" {
		q = q.Where("rowid < (SELECT rowid FROM runs WHERE id = ?)", f.Before)
	}
	var runs []Run
	return runs, q.Find(&runs).Error
}

// LatestRun is the newest run of a bay; ErrNotFound if it never had one.
func (s *Store) LatestRun(bay string) (Run, error) {
	runs, err := s.Runs(RunFilter{Bay: bay, Limit: 1})
	if err != nil || len(runs) == 0 {
		return Run{}, notFound(orNotFound(err), "run in bay", bay)
	}
	return runs[0], nil
}

func orNotFound(err error) error {
	if err == nil {
		return gorm.ErrRecordNotFound
	}
	return err
}

// UpdateRun changes the named columns of a run.
func (s *Store) UpdateRun(id string, columns map[string]any) error {
	return s.outcomes.told(id, columns, s.write(func(tx *gorm.DB) error {
		return tx.Model(&Run{}).Where("id = ?", id).Updates(columns).Error
	}))
}

// outcomes tells somebody of those that came on record.
type outcomes struct {
	hear atomic.Pointer[func(run string)]
}

// HearOutcomes has hear be told of every run whose outcome came on record, or changed there: when that is done, by who
// did it. It must not wait. Only the last of those who hear does.
func (s *Store) HearOutcomes(hear func(run string)) { s.outcomes.hear.Store(&hear) }

// told tells of what was written, unless that failed, and gives err.
func (o *outcomes) told(run string, columns map[string]any, err error) error {
	hear := o.hear.Load()
	if _, one := columns["outcome"]; err == nil && one && hear != nil {
		(*hear)(run)
	}
	return err
}

// SaveFigures replaces the figures of a run and sets columns of the run, such as its outcome, in one transaction.
func (s *Store) SaveFigures(runID string, figures []procedure.Judged, columns map[string]any) error {
	return s.outcomes.told(runID, columns, s.write(func(tx *gorm.DB) error {
		if err := tx.Delete(&Figure{}, "run_id = ?", runID).Error; err != nil {
			return err
		}
		for i, f := range figures {
			data, err := json.Marshal(f)
			if err != nil { // a figure that cannot be written costs no other
				f.Result = figure.Result{Request: figure.Request{ID: f.ID}, Unit: f.Unit,
					Undetermined: record.Because(record.NoData, "the figure could not be written: %s", err)}
				if data, err = json.Marshal(f); err != nil {
					return fmt.Errorf("figure %s: %w", f.ID, err)
				}
			}
			row := Figure{RunID: runID, Position: i, Figure: f.ID, Outcome: string(f.Outcome), Version: f.Version,
				Data: string(data)}
			if f.Undetermined == nil {
				row.Value = &f.Value
			}
			if err := tx.Create(&row).Error; err != nil {
				return err
			}
		}
		columns = maps.Clone(columns)
		columns["results"] = writeResults(figures)
		return tx.Model(&Run{}).Where("id = ?", runID).Updates(columns).Error
	}))
}

// Figures reads the figures of a run in the procedure's order.
func (s *Store) Figures(runID string) ([]procedure.Judged, error) {
	var rows []Figure
	if err := s.db.Where("run_id = ?", runID).Order("position").Find(&rows).Error; err != nil {
		return nil, err
	}
	return decodeRows(rows, func(r Figure) string { return r.Data }, procedure.Judged{})
}

// Points reads the points of a run in order.
func (s *Store) Points(runID string) ([]record.Point, error) {
	var rows []pointRow
	if err := s.db.Where("run_id = ?", runID).Order("seq").Find(&rows).Error; err != nil {
		return nil, err
	}
	return decodeRows(rows, func(r pointRow) string { return r.Data }, record.Point{})
}

// decodeRows unpacks the JSON of rows; the last argument only gives the type.
func decodeRows[R, T any](rows []R, data func(R) string, _ T) ([]T, error) {
	out := make([]T, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal([]byte(data(r)), &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Marks reads the marks of a run in order.
func (s *Store) Marks(runID string) ([]record.Mark, error) {
	var rows []markRow
	err := s.db.Where("run_id = ?", runID).Order("seq").Find(&rows).Error
	if err != nil {
		return nil, err
	}
	marks := make([]record.Mark, len(rows))
	for i, r := range rows {
		if marks[i], err = r.mark(); err != nil {
			return nil, fmt.Errorf("mark %d of run %s: %w", r.Seq, runID, err)
		}
	}
	return marks, nil
}

// mark reads a row; of an earlier schema its label says what there is to say.
func (r markRow) mark() (m record.Mark, err error) {
	m = record.Mark{T: r.T, Kind: record.MarkKind(r.Kind), Label: r.Label}
	if r.About == "" {
		m.About = record.AboutOfLabel(m.Kind, m.Label)
		return m, nil
	}
	m.About, err = record.UnmarshalAbout([]byte(r.About))
	return m, err
}

// AbandonedRuns lists runs that are on record as live. At the start of the service these are what a killed run
// left behind.
func (s *Store) AbandonedRuns() ([]Run, error) { return s.Runs(RunFilter{State: Live, Limit: 1000}) }

// Recorded is the time of the last recorded frame of a run, s, and the number of its frames.
func (s *Store) Recorded(runID string) (end float64, frames int64, err error) {
	s.mu.Lock()
	live := s.recorders[runID]
	s.mu.Unlock()
	if live != nil {
		if end, frames = live.recorded(); frames > 0 {
			return end, frames, nil
		}
	}
	var sum struct {
		End    float64
		Frames int64
	}
	err = s.db.Model(&chunk{}).Select("COALESCE(MAX(t1), 0) AS end, COALESCE(SUM(count), 0) AS frames").Where("run_id = ?",
		runID).Scan(&sum).Error
	return sum.End, sum.Frames, err
}
