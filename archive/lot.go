package archive

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"sync"
	"time"

	"gonum.org/v1/gonum/stat"

	"usherbench/api"
	"usherbench/core/nameplate"
	"usherbench/core/outcome"
	"usherbench/core/population"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/store"
)

// pauseAfter is after which time between two attempts the people of a bay were away, s.
const pauseAfter = 600.0

// lotRuns are what the runs of a lot left behind, by procedure in the order of their first runs.
type lotRuns struct {
	order []string
	runs  map[string][]*store.LotRun
}

// readLot reads the runs of a lot that have ended, of one procedure or of all. It fails with store.ErrNotFound where
// there is none.
func readLot(s *store.Store, name, procedure string) (lotRuns, error) {
	l := lotRuns{runs: map[string][]*store.LotRun{}}
	runs, err := s.Lot(name, procedure)
	if err != nil {
		return l, err
	}
	if len(runs) == 0 {
		return l, fmt.Errorf("lot %q has no run that has ended: %w", name, store.ErrNotFound)
	}
	for _, r := range runs {
		if l.runs[r.Procedure] == nil {
			l.order = append(l.order, r.Procedure)
		}
		l.runs[r.Procedure] = append(l.runs[r.Procedure], r)
	}
	return l, nil
}

// Lot judges the units of a lot, procedure by procedure. It fails with store.ErrNotFound where the lot has no run that
// ended.
func Lot(s *store.Store, name string, request api.LotRequest) (api.Lot, error) {
	lot := api.Lot{Name: name, Procedures: []api.LotProcedure{}}
	l, err := readLot(s, name, request.Procedure)
	if err != nil {
		return lot, err
	}
	kept, err := s.LotOrder(name)
	if err != nil {
		return lot, err
	}
	lot.Order = orderOf(kept)
	for _, procedure := range l.order {
		own := l.runs[procedure]
		newest, err := s.Figures(own[len(own)-1].ID)
		if err != nil {
			return lot, err
		}
		first, err := firstDecides(s, own[len(own)-1].ID)
		if err != nil {
			return lot, err
		}
		lot.Procedures = append(lot.Procedures, judgeLot(own, newest, first, request))
	}
	return lot, nil
}

// firstDecides tells whether the nameplate of a run, of several the newest, has the first attempt decide.
func firstDecides(s *store.Store, newest string) (bool, error) {
	run, err := s.Run(newest)
	return err == nil && firstBy(run), err
}

// firstBy tells whether the nameplate of a run has the first attempt decide. Where nothing is said, or the text is of
// an earlier version of the program, the last one does.
func firstBy(run store.Run) bool {
	plate, err := nameplate.Parse([]byte(run.NameplateText))
	return err == nil && plate.Retest.First
}

// lotUnits are the units of a lot, in the order of their first attempts, with the run of the attempt that decides.
type lotUnits struct {
	tested []population.Tested
	last   []*store.LotRun
	again  map[[2]string][]*store.LotRun // the attempts of those that were measured more than once in one bay
}

// judgeLot is a lot by one procedure; newest are the figures of its newest run, which say titles, units and limits.
func judgeLot(runs []*store.LotRun, newest []procedure.Judged, first bool, request api.LotRequest) api.LotProcedure {
	p := api.LotProcedure{Procedure: runs[0].Procedure, Title: runs[len(runs)-1].Title, Failing: []string{},
		Pareto: []api.LotCause{}, Figures: []api.LotFigure{}, Bays: []api.LotPace{}}
	titles := map[string]string{openContact: "Open contact", unfinished: "Did not come to its end"}
	for _, f := range newest {
		titles[f.ID] = f.Title
	}
	units, byBay := unitsOf(runs, first)
	for _, attempts := range byBay {
		p.Attempts += len(attempts.all)
	}
	p.Beside, p.Units = len(runs)-p.Attempts, len(units.tested)
	p.Yield = shareOf(population.Yield(units.tested, request.Strict))
	p.FirstPass = shareOf(population.FirstPass(units.tested, request.Strict))
	p.Retest = shareOf(population.Retest(units.tested))
	for _, u := range units.tested {
		if !u.Decisive().Passed(request.Strict) {
			p.Failing = append(p.Failing, u.Serial)
		}
	}
	causes, _ := population.Pareto(units.tested, request.Each) // nothing failed: there is none
	for _, c := range causes {
		p.Pareto = append(p.Pareto, api.LotCause{Figure: c.Figure, Title: titles[c.Figure], Units: c.Units, Share: c.Share,
			Cumulative: c.Cumulative})
	}
	nth := map[string]int{}
	p.Figures = make([]api.LotFigure, len(newest))
	var each sync.WaitGroup // figures share nothing, and lots are large
	for i, f := range newest {
		n := nth[f.ID]
		nth[f.ID]++
		each.Go(func() { p.Figures[i] = figureOfLot(f, n, units) })
	}
	each.Wait()
	var bays [][]population.Attempt
	for _, bay := range byBay {
		p.Bays, bays = append(p.Bays, paceOf(bay)), append(bays, bay.all)
	}
	p.Saved = population.Saved(bays, pauseAfter)
	return p
}

// bayAttempts are the attempts of one bay.
type bayAttempts struct {
	bay string
	all []population.Attempt
}

// unitsOf are the units of runs; first has the first attempt decide, and not the last.
func unitsOf(runs []*store.LotRun, first bool) (units lotUnits, byBay []bayAttempts) {
	began := runs[0].StartedAt
	since := func(t time.Time) float64 { return t.Sub(began).Seconds() }
	places, bays := map[string]int{}, map[string]int{}
	for _, r := range runs {
		o := outcome.Outcome(r.Outcome)
		if !population.Counts(o) || r.EndedAt == nil {
			continue
		}
		a := population.Attempt{Began: since(r.StartedAt), Ended: since(*r.EndedAt), Outcome: o}
		for _, v := range r.Values {
			if v.Outcome == string(outcome.Fail) {
				a.Failing = append(a.Failing, v.Figure)
			}
		}
		if cause := endedBy(r.State); cause != "" {
			a.Failing = append([]string{cause}, a.Failing...)
		}
		at, known := places[r.Serial]
		if !known {
			at = len(units.tested)
			places[r.Serial] = at
			units.tested, units.last = append(units.tested, population.Tested{Serial: r.Serial, First: first}),
				append(units.last, r)
		}
		units.tested[at].Attempts = append(units.tested[at].Attempts, a)
		units.repeated(at, r)
		if !first {
			units.last[at] = r
		}
		in, known := bays[r.Bay]
		if !known {
			in = len(byBay)
			bays[r.Bay] = in
			byBay = append(byBay, bayAttempts{bay: r.Bay})
		}
		byBay[in].all = append(byBay[in].all, a)
	}
	return units, byBay
}

// What stands in a Pareto for a unit that failed before any figure did.
const unfinished = "unfinished"

// endedBy is what a run failed by that did not come to the end of its program; empty where it did.
func endedBy(state string) string {
	switch stage.Ending(state) {
	case stage.OpenContact:
		return openContact
	case stage.Failure:
		return unfinished
	}
	return ""
}

// repeated notes that a unit was measured once more, where it was in the same bay before.
func (u *lotUnits) repeated(at int, r *store.LotRun) {
	if len(u.tested[at].Attempts) < 2 {
		return
	}
	key := [2]string{r.Serial, r.Bay}
	before := u.last[at]
	switch attempts, known := u.again[key]; {
	case known:
		u.again[key] = append(attempts, r)
	case before.Bay == r.Bay && before.ID != r.ID:
		if u.again == nil {
			u.again = map[[2]string][]*store.LotRun{}
		}
		u.again[key] = []*store.LotRun{before, r}
	}
}

// shareOf is a share, where there is one.
func shareOf(s population.Share, err error) *api.LotShare {
	if err != nil {
		return nil
	}
	return &api.LotShare{Value: s.Value, Low: s.Low, High: s.High}
}

// lotFigure is a figure of a lot without its values.
func lotFigure(f procedure.Judged) api.LotFigure {
	return api.LotFigure{Figure: f.ID, Title: f.Title, Where: f.Where, Unit: f.Unit, Min: f.Min, Max: f.Max,
		Outliers: []api.LotOutlier{}, Bins: []api.LotBin{}, Sequence: []api.LotStep{}}
}

// nthOf is the nth value of a figure of a run, where it has one.
func nthOf(values []store.LotValue, id string, nth int) (x float64, ok bool) {
	k := 0
	for _, v := range values {
		if v.Figure != id {
			continue
		}
		if k == nth {
			return v.Value, !math.IsNaN(v.Value)
		}
		k++
	}
	return 0, false
}

// valuesOf are the values of a figure over the units, in their order: of the attempt that decides.
func valuesOf(f procedure.Judged, nth int, units lotUnits) (values []float64, serials []string) {
	for _, r := range units.last {
		if x, ok := nthOf(r.Values, f.ID, nth); ok {
			values, serials = append(values, x), append(serials, r.Serial)
		}
	}
	return values, serials
}

// figureOfLot is a figure over the units: the nth of its id in every run.
func figureOfLot(f procedure.Judged, nth int, units lotUnits) api.LotFigure {
	out := lotFigure(f)
	values, serials := valuesOf(f, nth, units)
	out.N = len(values)
	if out.N == 0 {
		out.Why = "no unit has the figure"
		return out
	}
	describe(&out, values)
	out.Sequence = sequenceOf(values, serials)
	far, ties, err := population.Outliers(values)
	if ties && err == nil {
		out.Remarks = append(out.Remarks, "ties")
	}
	for _, x := range far {
		out.Outliers = append(out.Outliers, api.LotOutlier{Serial: serials[x.Index], Value: values[x.Index], Z: x.Z})
	}
	if len(units.again) > 0 {
		if r, err := population.RepeatOf(measuredAgain(f.ID, nth, units)); err == nil {
			out.Repeat = &api.LotRepeat{SD: r.SD, Freedom: r.Freedom, Units: orNil(r.Units)}
		}
	}
	return out
}

// measuredAgain are the values of a figure by unit and bay, of every attempt of those units that were measured more
// than once in one bay, and the last of the others.
func measuredAgain(id string, nth int, units lotUnits) (groups []population.Measured) {
	for _, r := range units.last {
		attempts, again := units.again[[2]string{r.Serial, r.Bay}]
		if !again {
			attempts = []*store.LotRun{r}
		}
		g := population.Measured{Unit: r.Serial, Bay: r.Bay}
		for _, a := range attempts {
			if x, ok := nthOf(a.Values, id, nth); ok {
				g.Values = append(g.Values, x)
			}
		}
		if len(g.Values) > 0 {
			groups = append(groups, g)
		}
	}
	return groups
}

// mostSteps is of how many steps a sequence is at most.
const mostSteps = 400

// sequenceOf are values in their order, several a step where there are many.
func sequenceOf(values []float64, serials []string) []api.LotStep {
	each := (len(values) + mostSteps - 1) / mostSteps
	steps := []api.LotStep{}
	for from := 0; from < len(values); from += each {
		part := values[from:min(from+each, len(values))]
		steps = append(steps, api.LotStep{Serial: serials[from], Mean: stat.Mean(part, nil), Low: slices.Min(part),
			High: slices.Max(part)})
	}
	return steps
}

// describe tells how values lie within their limits, how they go on from unit to unit, and how they are spread.
func describe(out *api.LotFigure, values []float64) {
	low, high := math.Inf(-1), math.Inf(1)
	if out.Min != nil {
		low = *out.Min
	}
	if out.Max != nil {
		high = *out.Max
	}
	mean, sd := stat.MeanStdDev(values, nil)
	out.Mean, out.SD = orNil(mean), orNil(sd)
	c, err := population.CapabilityOf(values, low, high, 0)
	var why *record.Undetermined
	switch {
	case errors.As(err, &why):
		out.Why = why.Sentence
	case err == nil:
		cpk, ppk := api.LotIndex(c.Cpk), api.LotIndex(c.Ppk)
		out.Cpk, out.Ppk = &cpk, &ppk
		if c.Cp != nil {
			cp, pp := api.LotIndex(*c.Cp), api.LotIndex(*c.Pp)
			out.Cp, out.Pp = &cp, &pp
		}
		for word, is := range map[string]bool{"skewed": c.Skewed, "wide": c.Wide} {
			if is {
				out.Remarks = append(out.Remarks, word)
			}
		}
		slices.Sort(out.Remarks)
	}
	if d, err := population.DriftOf(values); err == nil {
		out.Drift, out.DriftU = orNil(d.Value), orNil(d.U)
	}
	bins, _ := population.Bins(values, 0) // of one value there are none
	for _, b := range bins {
		out.Bins = append(out.Bins, api.LotBin{Low: b.Low, High: b.High, Units: b.Units})
	}
}

// paceOf is how long units take in a bay.
func paceOf(b bayAttempts) api.LotPace {
	out := api.LotPace{Bay: b.bay, Use: population.Use(b.all, pauseAfter)}
	p, err := population.PaceOf(b.all, pauseAfter)
	if err != nil {
		out.Why = err.Error()
		var why *record.Undetermined
		if errors.As(err, &why) {
			out.Why = why.Sentence
		}
		return out
	}
	out.Test, out.Idle, out.PerUnit, out.Paused = orNil(p.Test), orNil(p.Idle), orNil(p.PerUnit), p.Paused
	return out
}
