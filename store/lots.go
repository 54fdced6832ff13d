package store

import (
	"database/sql"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"usherbench/api"
	"usherbench/core/procedure"
)

// LotRun is a run of a lot that has ended, as far as its statistics need it.
type LotRun struct {
	ID, Bay, Serial, Procedure, Title, State, Outcome, Reason, Operator string
	StartedAt                                                           time.Time
	EndedAt                                                             *time.Time
	// Values are its figures, in the order of its procedure.
	Values []LotValue
}

// LotValue is a figure of a run of a lot; without a value (NaN) it is undetermined.
type LotValue struct {
	Figure, Outcome string
	Value           float64
}

// writeResults writes figures as a line each: id, outcome, value, with tabs between.
func writeResults(figures []procedure.Judged) string {
	var b strings.Builder
	for _, f := range figures {
		b.WriteString(f.ID + "\t" + string(f.Outcome) + "\t")
		if f.Undetermined == nil && !math.IsNaN(f.Value) && !math.IsInf(f.Value, 0) {
			b.WriteString(strconv.FormatFloat(f.Value, 'g', -1, 64))
		}
		b.WriteString("\n")
	}
	return b.String()
}

// readResults reads what writeResults wrote.
func readResults(text string) (values []LotValue) {
	values = make([]LotValue, 0, strings.Count(text, "\n"))
	for line := range strings.Lines(text) {
		id, rest, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		result, number, _ := strings.Cut(rest, "\t")
		x, err := strconv.ParseFloat(number, 64)
		if err != nil {
			x = math.NaN()
		}
		values = append(values, LotValue{id, result, x})
	}
	return values
}

// Lots lists the lots, the one with the newest run first.
func (s *Store) Lots() ([]api.LotSummary, error) {
	var found []struct {
		Lot         string
		Units, Runs int
		Newest      string
	}
	err := s.db.Model(&Run{}).Select("lot, COUNT(DISTINCT serial) AS units, COUNT(*) AS runs, MAX(started_at) AS newest").
		Where("lot <> ''").Group("lot").Order("MAX(rowid) DESC").Find(&found).Error
	if err != nil {
		return nil, err
	}
	all := make([]api.LotSummary, len(found))
	for i, f := range found {
		all[i] = api.LotSummary{Name: f.Lot, Units: f.Units, Runs: f.Runs}
		newest, err := readTime(f.Newest)
		if err != nil {
			return nil, err
		}
		all[i].Newest = &newest
	}
	return all, nil
}

// readTime reads a time as the database keeps it.
func readTime(text string) (t time.Time, err error) {
	for _, form := range []string{"2006-01-02 15:04:05.999999999-07:00", time.RFC3339Nano} {
		if t, err = time.Parse(form, text); err == nil {
			return t.UTC(), nil
		}
	}
	return t, err
}

// Lot reads the runs of a lot that have ended with their figures, in the order in which they began; of one procedure,
// or of all.
func (s *Store) Lot(lot, procedure string) (runs []*LotRun, err error) {
	return s.lot(lot, procedure, manyRuns)
}

// manyRuns is from how many rows on a lot is read in two halves, side by side.
const manyRuns = 20_000

func (s *Store) lot(lot, procedure string, many int64) (runs []*LotRun, err error) {
	var span struct{ First, Last int64 }
	if err := s.db.Model(&Run{}).Select("COALESCE(MIN(rowid), 0) AS first, COALESCE(MAX(rowid), 0) AS last").
		Where("lot = ?", lot).Find(&span).Error; err != nil {
		return nil, err
	}
	parts := []lotPart{{from: span.First, to: span.Last}}
	if span.Last-span.First > many {
		middle := span.First + (span.Last-span.First)/2
		parts = []lotPart{{from: span.First, to: middle}, {from: middle + 1, to: span.Last}}
	}
	var reading errgroup.Group
	for i := range parts {
		reading.Go(func() error { return s.readLot(lot, procedure, &parts[i]) })
	}
	if err := reading.Wait(); err != nil {
		return nil, err
	}
	var before []string // runs of before there were results in short
	for _, p := range parts {
		runs, before = append(runs, p.runs...), append(before, p.before...)
	}
	// They come as they came on record, which is nearly always the order in which they began.
	slices.SortStableFunc(runs, func(a, b *LotRun) int { return a.StartedAt.Compare(b.StartedAt) })
	if len(before) == 0 {
		return runs, nil
	}
	return runs, s.addValues(runs, before)
}

// lotPart is a range of the rows of a lot, what was read of it, and which of that has no results in short.
type lotPart struct {
	from, to int64
	runs     []*LotRun
	before   []string
}

func (s *Store) readLot(lot, procedure string, part *lotPart) error {
	q := s.db.Model(&Run{}).Where("lot = ? AND state <> ? AND rowid BETWEEN ? AND ?", lot, Live, part.from, part.to)
	if procedure != "" {
		q = q.Where("procedure = ?", procedure)
	}
	rows, err := q.Select("id, bay, serial, procedure, title, state, outcome, reason, operator, started_at, ended_at, " +
		"COALESCE(results, '')").Order("rowid").Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	once := words{}
	for rows.Next() {
		var r LotRun
		var results string
		var bay, name, title, state, outcome, reason, operator sql.RawBytes
		if err := rows.Scan(&r.ID, &bay, &r.Serial, &name, &title, &state, &outcome, &reason, &operator, &r.StartedAt,
			&r.EndedAt, &results); err != nil {
			return err
		}
		r.Bay, r.Procedure, r.Title = once.of(bay), once.of(name), once.of(title)
		r.State, r.Outcome, r.Reason, r.Operator = once.of(state), once.of(outcome), once.of(reason), once.of(operator)
		if results == "" {
			part.before = append(part.before, r.ID)
		} else {
			r.Values = readResults(results)
		}
		part.runs = append(part.runs, &r)
	}
	return rows.Err()
}

// words keeps texts that come again and again once.
type words map[string]string

func (w words) of(text []byte) string {
	if known, ok := w[string(text)]; ok {
		return known
	}
	fresh := string(text)
	w[fresh] = fresh
	return fresh
}

// addValues adds the figures of runs that have none in short.
func (s *Store) addValues(runs []*LotRun, of []string) error {
	found := map[string][]LotValue{}
	for part := range slices.Chunk(of, mostAsked) {
		var rows []Figure
		if err := s.db.Select("run_id, figure, outcome, value").Where("run_id IN ?", part).Order("run_id, position").
			Find(&rows).Error; err != nil {
			return err
		}
		for _, f := range rows {
			v := LotValue{f.Figure, f.Outcome, math.NaN()}
			if f.Value != nil {
				v.Value = *f.Value
			}
			found[f.RunID] = append(found[f.RunID], v)
		}
	}
	for i := range runs {
		if runs[i].Values == nil {
			runs[i].Values = found[runs[i].ID]
		}
	}
	return nil
}
