// Package shelf keeps rehearsals: those of drafts, and what was foretold for runs. Each is computed once.
package shelf

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/catalogue"
	"usherbench/core/figure"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/core/uncertainty"
	"usherbench/rehearsal"
	"usherbench/store"
)

// longest bounds how long a rehearsal is computed.
const longest = time.Minute

var errTooSlow = fmt.Errorf("it takes longer than %s to compute; rehearse a part of the procedure", longest)

// mostShown bounds the times of a rehearsal that a client gets: more than a screen shows.
const mostShown = 4000

// Shelf keeps rehearsals. It is safe for use by several goroutines.
type Shelf struct {
	store    *store.Store
	library  procedure.Library
	foretold foretellings
	working  chan struct{} // holds a token for each rehearsal that is being computed
}

// New makes a shelf above the records; library gives the procedures that others use.
func New(s *store.Store, library procedure.Library) *Shelf {
	return &Shelf{store: s, library: library, working: make(chan struct{}, max(1, runtime.NumCPU()-1))}
}

// Rehearse runs a draft on the model of its unit. The same draft is computed once and kept. Rehearsals leave
// one core to the bays.
func (s *Shelf) Rehearse(ctx context.Context, d api.Draft) (api.Rehearsal, error) {
	plate, err := s.plateOf(d)
	if err != nil {
		return api.Rehearsal{}, err
	}
	program, err := catalogue.Parse([]byte(d.Text), plate, d.Parameters, s.library)
	if err != nil {
		return api.Rehearsal{}, err
	}
	key := rehearsalKey(d, plate, program.Used)
	select {
	case s.working <- struct{}{}:
	case <-ctx.Done():
		return api.Rehearsal{}, ctx.Err()
	}
	defer func() { <-s.working }()
	if data, err := s.store.Rehearsal(key); err == nil {
		var kept api.Rehearsal
		if json.Unmarshal(data, &kept) == nil {
			return kept, nil
		}
	}
	began := time.Now()
	ctx, cancel := context.WithTimeoutCause(ctx, longest, errTooSlow)
	defer cancel()
	result, err := rehearsal.Run(ctx, program, plate, rehearsal.Options{Serial: d.Serial, Fault: d.Fault})
	if err != nil {
		return api.Rehearsal{}, fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	r := Shown(result, program)
	r.Key, r.Nameplate, r.Fault, r.At, r.Took = key, plate.Name, d.Fault, time.Now(), time.Since(began).Seconds()
	data, err := json.Marshal(r)
	if err != nil {
		return r, err
	}
	return r, s.store.PutRehearsal(key, program.Name, data)
}

func (s *Shelf) plateOf(d api.Draft) (*nameplate.Nameplate, error) {
	if d.Nameplate != "" && strings.Contains(d.Nameplate, ":") {
		return nameplate.Parse([]byte(d.Nameplate))
	}
	header, err := procedure.ReadHeader([]byte(d.Text))
	if err != nil {
		return nil, err
	}
	name := header.For
	if d.Nameplate != "" {
		name = d.Nameplate
	}
	if name == "any" || name == "" {
		return nil, nil
	}
	stored, err := s.store.Nameplate(name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil // a finding of the check
	}
	if err != nil {
		return nil, err
	}
	return nameplate.Parse([]byte(stored.Text))
}

// rehearsalKey names everything that a rehearsal depends on.
func rehearsalKey(d api.Draft, plate *nameplate.Nameplate, used map[string]string) string {
	h := sha256.New()
	add := func(parts ...string) {
		for _, p := range parts {
			fmt.Fprintf(h, "%d:%s", len(p), p)
		}
	}
	add("3", d.Text, d.Fault, d.Serial)
	if plate != nil {
		add(plate.Text)
	}
	for _, name := range slices.Sorted(maps.Keys(d.Parameters)) {
		add(name, d.Parameters[name])
	}
	for _, name := range slices.Sorted(maps.Keys(used)) {
		add(name, used[name])
	}
	return hex.EncodeToString(h.Sum(nil))[:32]
}

// Shown is a result as clients get it: thinned to what a screen shows, the frames on both sides of marks kept.
func Shown(result *rehearsal.Result, program *procedure.Program) api.Rehearsal {
	r := api.Rehearsal{
		Procedure: program.Name, Ending: string(result.Ending), Reason: result.Reason, Outcome: string(result.Outcome()),
		Duration: result.Duration,
		Energy:   result.Energy / 3600, Heat: result.Heat / 3600, Marks: result.Marks, Figures: result.Figures,
		T: []float64{}, Columns: []api.Column{}, Values: [][]*float64{},
	}
	if !math.IsInf(result.Hottest, 0) {
		r.Hottest = &result.Hottest
	}
	for i := range r.Figures { // the model has no instruments whose accuracy could be stated
		r.Figures[i].Remarks = slices.DeleteFunc(slices.Clone(r.Figures[i].Remarks),
			func(s string) bool { return s == figure.NotStated })
	}
	keep := thinned(result.T, mostShown)
	for _, k := range keep {
		r.T = append(r.T, result.T[k])
	}
	for i, column := range result.Columns {
		values, unit := make([]*float64, len(keep)), trace.UnitOf(column)
		for n, k := range keep {
			values[n] = trace.InUnit(unit, result.Values[i][k])
		}
		r.Columns = append(r.Columns, api.Column{Name: column, Unit: unit.Symbol})
		r.Values = append(r.Values, values)
	}
	return r
}

// thinned chooses frames evenly.
func thinned(t []float64, most int) (keep []int) {
	stride := max((len(t)+most-1)/most, 1)
	for k := 0; k < len(t); k += stride {
		keep = append(keep, k)
	}
	if n := len(t); n > 0 && keep[len(keep)-1] != n-1 {
		keep = append(keep, n-1)
	}
	return keep
}

// foretellings keeps the newest rehearsals of runs, which the console asks for again and again while a run goes on.
type foretellings struct {
	mu   sync.Mutex
	keys []string // oldest first
	all  map[string]*rehearsal.Foretold
}

// mostForetold bounds what is kept in memory; one takes a few megabytes.
const mostForetold = 8

// of gives what was foretold for a run, computed once.
func (f *foretellings) of(key string, compute func() (*rehearsal.Foretold, error)) (*rehearsal.Foretold, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if known, ok := f.all[key]; ok {
		return known, nil
	}
	foretold, err := compute()
	if err != nil {
		return nil, err
	}
	if f.all == nil {
		f.all = map[string]*rehearsal.Foretold{}
	}
	if len(f.keys) == mostForetold {
		delete(f.all, f.keys[0])
		f.keys = f.keys[1:]
	}
	f.keys, f.all[key] = append(f.keys, key), foretold
	return foretold, nil
}

// comparedAt is in how many buckets a run is compared with its rehearsal.
const comparedAt = 600

// OfRun is what the rehearsal of a run foretold, on the time axis of the run, and where the run left it.
func (s *Shelf) OfRun(ctx context.Context, run store.Run) (api.RunRehearsal, error) {
	program, plate, err := run.Program()
	if err != nil {
		return api.RunRehearsal{}, err
	}
	var specs map[string]uncertainty.Spec
	if run.Specs != "" {
		if err := json.Unmarshal([]byte(run.Specs), &specs); err != nil {
			return api.RunRehearsal{}, err
		}
	}
	foretold, err := s.foretold.of(run.ID, func() (*rehearsal.Foretold, error) {
		ctx, cancel := context.WithTimeoutCause(ctx, longest, errTooSlow)
		defer cancel()
		return rehearsal.Foretell(ctx, program, plate, rehearsal.Options{Specs: specs})
	})
	if err != nil {
		return api.RunRehearsal{}, fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	out := api.RunRehearsal{Rehearsal: Shown(foretold.Result, program), Deviations: []api.Deviation{}}
	out.Nameplate, out.At = plate.Name, run.StartedAt
	for i := range foretold.Figures {
		var band *api.Band
		if b, ok := foretold.Spread(i); ok {
			band = &api.Band{Low: b.Low, High: b.High}
		}
		out.Spread = append(out.Spread, band)
	}
	actual, err := s.actual(ctx, run, program, specs)
	if err != nil {
		return out, err
	}
	ours, theirs := rehearsal.Anchors(actual.Marks, actual.Duration), rehearsal.Anchors(foretold.Marks, foretold.Duration)
	out.T = slices.Clone(out.T)
	for i, t := range out.T {
		out.T[i] = rehearsal.Onto(ours, theirs, t, actual.Duration)
	}
	out.Marks = slices.Clone(out.Marks)
	for i := range out.Marks {
		out.Marks[i].T = rehearsal.Onto(ours, theirs, out.Marks[i].T, actual.Duration)
	}
	for _, d := range foretold.Deviations(actual) {
		out.Deviations = append(out.Deviations, api.Deviation{What: d.What, Column: d.Column, T0: d.T0, T1: d.T1,
			Words: d.Words})
	}
	return out, nil
}

// actual gathers what happened in a run.
func (s *Shelf) actual(ctx context.Context, run store.Run, program *procedure.Program,
	specs map[string]uncertainty.Spec) (rehearsal.Actual, error) {
	marks, err := s.store.Marks(run.ID)
	if err != nil {
		return rehearsal.Actual{}, err
	}
	figures, err := s.store.Figures(run.ID)
	if err != nil {
		return rehearsal.Actual{}, err
	}
	duration := run.Duration
	a := rehearsal.Actual{Figures: figures, TimeFactor: run.TimeFactor}
	if run.State != store.Live {
		a.Ending = stage.Ending(run.State)
	} else if duration, _, err = s.store.Recorded(run.ID); err != nil {
		return a, err
	}
	a.Duration, a.Marks, a.Spans = duration, marks, archive.Spans(program, marks, duration)
	window, err := s.store.Window(ctx, run, run.Columns, 0, duration, comparedAt)
	if err != nil {
		return a, err
	}
	for i, column := range run.Columns {
		t := rehearsal.Trace{Column: column}
		for _, b := range window.Buckets[i] {
			t.T, t.Low, t.High = append(t.T, b.T), append(t.Low, b.Min), append(t.High, b.Max)
		}
		a.Traces = append(a.Traces, t)
	}
	a.Accuracy = accuracies(specs, a.Traces)
	return a, nil
}

// accuracies says how far a reading of a column may be off. Watts that are computed are off by what their volts
// and amps are.
func accuracies(specs map[string]uncertainty.Spec, traces []rehearsal.Trace) func(column string, x float64) float64 {
	most := map[string]float64{}
	for _, t := range traces {
		for k := range t.T {
			if !math.IsNaN(t.Low[k]) {
				most[t.Column] = math.Max(most[t.Column], math.Max(math.Abs(t.Low[k]), math.Abs(t.High[k])))
			}
		}
	}
	bound := func(column string, x float64) float64 {
		if r, ok := specs[column].Find(x); ok {
			return r.Bound(x)
		}
		return 0
	}
	return func(column string, x float64) float64 {
		seat, isWatts := strings.CutSuffix(column, ".watts")
		if _, stated := specs[column]; stated || !isWatts {
			return bound(column, x)
		}
		v, i := seat+".volts", seat+".amps"
		return bound(v, most[v])*most[i] + bound(i, most[i])*most[v]
	}
}
