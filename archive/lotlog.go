package archive

import (
	"fmt"
	"time"

	"usherbench/api"
	"usherbench/core/outcome"
	"usherbench/store"
)

// LotLog lists every attempt of a lot that has ended. It fails with store.ErrNotFound where there is none.
func LotLog(s *store.Store, name string) (api.LotLog, error) {
	log := api.LotLog{Name: name, Entries: []api.LotLogEntry{}}
	runs, err := s.Lot(name, "")
	if err != nil {
		return log, err
	}
	if len(runs) == 0 {
		return log, fmt.Errorf("lot %q has no run that has ended: %w", name, store.ErrNotFound)
	}
	order, err := s.LotOrder(name)
	if err != nil {
		return log, err
	}
	log.Order = orderOf(order)
	var last time.Time
	for _, r := range runs {
		e := api.LotLogEntry{Began: r.StartedAt, Serial: r.Serial, Bay: r.Bay, Operator: r.Operator, Procedure: r.Procedure,
			Run: r.ID, Outcome: r.Outcome, Failing: []string{}}
		if r.EndedAt != nil {
			e.Took = r.EndedAt.Sub(r.StartedAt).Seconds()
			if r.EndedAt.After(last) {
				last = *r.EndedAt
			}
		}
		if of := outcome.Outcome(r.Outcome); of == outcome.Fail || of == outcome.Aborted || of == outcome.Undetermined {
			if e.Failing, err = failingWords(s, r); err != nil {
				return log, err
			}
		}
		log.Mean += e.Took / float64(len(runs))
		log.Entries = append(log.Entries, e)
	}
	log.Took = max(last.Sub(runs[0].StartedAt).Seconds(), 0)
	counted, err := Count(s, name, "", time.Time{})
	if err != nil {
		return log, err
	}
	log.Tally, err = counted.Tally()
	return log, err
}

// failingWords say by what a run failed, or why it was not judged.
func failingWords(s *store.Store, r *store.LotRun) ([]string, error) {
	words := []string{}
	if r.Reason != "" {
		words = append(words, r.Reason)
	}
	judged, err := s.Figures(r.ID)
	if err != nil {
		return nil, err
	}
	for _, j := range judged {
		if j.Outcome == outcome.Fail || r.Outcome == string(outcome.Undetermined) && j.Outcome == outcome.Undetermined {
			words = append(words, figureWords(j))
		}
	}
	return words, nil
}
