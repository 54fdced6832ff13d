package archive

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"usherbench/api"
	"usherbench/core/figure"
	"usherbench/core/figure/battery"
	"usherbench/core/overlay"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/trace"
	"usherbench/store"
)

// Bounds of an overlay: runs on one picture, places of a curve that is drawn, and of the band.
const (
	mostRuns   = 400
	drawPlaces = 600
	bandPlaces = 201
)

// What is drawn of a run beside its charges and discharges.
const (
	wholeRun    = "run"
	itsPoints   = "points"
	itsExcerpts = "excerpts"
)

// leastPart is the share of the largest half-cycle of its kind that another of the run must have moved to be drawn.
const leastPart = 0.2

// laid is an overlay in the making.
type laid struct {
	store   *store.Store
	request api.OverlayRequest
	out     api.Overlay
	runs    []store.Run
	figures map[string][]procedure.Judged // by run
	curves  []overlay.Curve
	infos   []api.OverlayCurve
}

// Overlay lays the curves of runs over each other. It fails with api.ErrBadRequest, or store.ErrNotFound for a run
// that does not exist.
func Overlay(ctx context.Context, s *store.Store, request api.OverlayRequest) (api.Overlay, error) {
	l := &laid{store: s, request: request, figures: map[string][]procedure.Judged{},
		out: api.Overlay{Curves: []api.OverlayCurve{}, Differences: []api.OverlayDifference{},
			Figures: []api.OverlayFigure{}}}
	if err := l.complete(); err != nil {
		return l.out, err
	}
	if err := l.choose(); err != nil {
		return l.out, err
	}
	for _, run := range l.runs {
		if err := ctx.Err(); err != nil {
			return l.out, err
		}
		if err := l.add(ctx, run); err != nil {
			l.out.Left = append(l.out.Left, api.OverlayLeft{Run: run.ID, Label: label(run), Why: err.Error()})
		}
	}
	l.relabel()
	l.spots()
	l.deviate()
	l.band()
	l.thin()
	if err := l.tables(); err != nil {
		return l.out, err
	}
	return l.out, nil
}

func (l *laid) complete() error {
	r := &l.request
	word := func(to *string, name string, words ...string) error {
		if *to == "" {
			*to = words[0]
		}
		if !slices.Contains(words, *to) {
			return fmt.Errorf("%w: %s is %q; choose %s", api.ErrBadRequest, name, *to, strings.Join(words, ", "))
		}
		return nil
	}
	column := strings.Contains(r.Over, ".")
	switch {
	case r.Half != "":
	case r.Excerpt != "":
		r.Half = itsExcerpts
	case column:
		r.Half = wholeRun
	}
	err := word(&r.Half, "half", "discharge", "charge", "both", wholeRun, itsPoints, itsExcerpts)
	if !column {
		err = errors.Join(err, word(&r.Over, "over", api.OverTime, api.OverCharge, api.OverState, api.OverCycle))
	}
	if r.Less != "" {
		err = errors.Join(err, word(&r.Less, "less", api.LessMean, api.LessReference))
	}
	switch {
	case err != nil:
		return err
	case r.Half == itsPoints && !column:
		return fmt.Errorf("%w: points are drawn over a column; choose over: load.volts, or another of the run",
			api.ErrBadRequest)
	case len(r.Runs) == 0 && r.Lot == "" && r.Serial == "":
		return fmt.Errorf("%w: name runs, a lot or a serial number", api.ErrBadRequest)
	case r.Excerpt != "" && r.Half != itsExcerpts:
		return fmt.Errorf("%w: an excerpt is named, but half is %q; leave that out", api.ErrBadRequest, r.Half)
	case (r.Half == wholeRun || r.Half == itsExcerpts) && !column && r.Over != api.OverTime:
		return fmt.Errorf("%w: a whole run or an excerpt is drawn over time or a column; choose half: discharge or charge "+
			"for %s", api.ErrBadRequest, r.Over)
	}
	return nil
}

// choose finds the runs, oldest first. Of a lot those count that ended; each unit with its last run of the
// procedure, if only the lot is named.
func (l *laid) choose() error {
	r := l.request
	for _, ref := range r.Runs {
		run, err := l.store.Run(ref)
		if err != nil {
			return err
		}
		l.runs = append(l.runs, run)
	}
	if len(r.Runs) == 0 {
		found, err := l.store.Runs(store.RunFilter{Lot: r.Lot, Serial: r.Serial, Procedure: r.Procedure, Limit: 1000})
		if err != nil {
			return err
		}
		seen := map[string]bool{}
		for _, run := range found {
			if run.State == store.Live || r.Serial == "" && seen[run.Serial] {
				continue
			}
			seen[run.Serial] = true
			full, err := l.store.Run(run.ID)
			if err != nil {
				return err
			}
			l.runs = append(l.runs, full)
		}
		slices.Reverse(l.runs)
	}
	switch {
	case len(l.runs) == 0:
		return fmt.Errorf("%w: no run that has ended was found", api.ErrBadRequest)
	case len(l.runs) > mostRuns:
		return fmt.Errorf("%w: %d runs are more than the %d that go on one picture; choose fewer", api.ErrBadRequest,
			len(l.runs),
			mostRuns)
	}
	return nil
}

func label(r store.Run) string { return r.Serial }

// spots finds where figures lie on the picture: of values over a column that nothing moves.
func (l *laid) spots() {
	r := l.request
	if r.Less != "" || r.Level != nil || !strings.Contains(r.Over, ".") {
		return
	}
	for _, run := range l.runs {
		for _, f := range l.figures[run.ID] {
			if f.Undetermined != nil {
				continue
			}
			for _, s := range f.Spots {
				spot := api.OverlaySpot{Run: run.ID, Serial: run.Serial, Label: s.Label, X: s.X, Y: s.Y}
				if s.By == r.Over && s.Of == l.quantity(run) && s.Label != "" && !slices.Contains(l.out.Spots, spot) {
					l.out.Spots = append(l.out.Spots, spot)
				}
			}
		}
	}
}

// relabel tells curves apart that would have the same name: by as little as does.
func (l *laid) relabel() {
	started := map[string]time.Time{}
	for _, run := range l.runs {
		started[run.ID] = run.StartedAt
	}
	for _, half := range []string{"discharge", "charge", wholeRun, itsPoints, itsExcerpts} {
		var of []int // the curves of one half: those of two halves are told apart by how they are drawn
		for i, c := range l.infos {
			if c.Half == half {
				of = append(of, i)
			}
		}
		labels := overlay.Distinct(len(of), func(i int) string { return l.infos[of[i]].Label }, []func(int) string{
			func(i int) string { return l.infos[of[i]].Group },
			func(i int) string { return l.infos[of[i]].Excerpt },
			func(i int) string { return inContract(l.infos[of[i]].Contract) },
			func(i int) string { return started[l.infos[of[i]].Run].Format("01-02 15:04") },
			func(i int) string { return l.infos[of[i]].Run },
			func(i int) string { return fmt.Sprintf("#%d", l.infos[of[i]].Pass) },
		})
		for i, label := range labels {
			l.infos[of[i]].Label, l.curves[of[i]].Label = label, label
		}
	}
}

// add reads the curves of one run.
func (l *laid) add(ctx context.Context, run store.Run) error {
	if f, err := l.store.Figures(run.ID); err == nil {
		l.figures[run.ID] = f
	}
	_, rec, err := Record(l.store, run)
	if err != nil {
		return err
	}
	switch {
	case l.request.Half == itsExcerpts:
		return l.excerpts(run, rec)
	case l.request.Half == itsPoints:
		return l.points(run, rec)
	case l.request.Half == wholeRun && l.request.Over == api.OverTime:
		return l.whole(ctx, run)
	case l.request.Half == wholeRun:
		c, err := framesOf(rec, l.request.Over, l.quantity(run), 0, math.MaxFloat64)
		if err != nil {
			return err
		}
		return l.overColumn(run, wholeRun, c)
	}
	if l.request.Over == api.OverCycle {
		f, err := battery.Cycles(rec, figure.Request{})
		if err != nil || len(f.Number) == 0 {
			return fmt.Errorf("it has no complete cycle")
		}
		y := make([]float64, len(f.Capacity))
		for k := range y {
			y[k] = f.Capacity[k] / 3600
		}
		l.out.XLabel, l.out.YLabel, l.out.YUnit = "cycle", "capacity", "Ah"
		l.take(run, "discharge", 1, overlay.Curve{X: f.Number, Y: y})
		return nil
	}
	halves, err := rec.HalfCurves()
	if err != nil {
		return err
	}
	found := false
	most := map[string]float64{}
	for _, h := range halves {
		most[h.Kind] = math.Max(most[h.Kind], h.Charge[len(h.Charge)-1])
	}
	for _, h := range halves {
		// A pulse beside a discharge is none to be compared.
		if l.request.Half != "both" && h.Kind != l.request.Half || h.Charge[len(h.Charge)-1] < leastPart*most[h.Kind] {
			continue
		}
		found = true
		if strings.Contains(l.request.Over, ".") {
			c, err := framesOf(rec, l.request.Over, l.quantity(run), h.T0, h.T0+h.T[len(h.T)-1])
			if err == nil {
				err = l.overColumn(run, h.Kind, c)
			}
			if err != nil {
				return err
			}
			continue
		}
		c, err := l.curveOf(run, rec, h)
		if err != nil {
			return err
		}
		l.take(run, h.Kind, h.Pass, c)
	}
	if !found {
		return fmt.Errorf("it has no %s", l.request.Half)
	}
	return nil
}

// curveOf draws one half-cycle on the asked axes.
func (l *laid) curveOf(run store.Run, record *record.Record, h record.HalfCurve) (overlay.Curve, error) {
	c := overlay.Curve{Y: h.Volts}
	l.out.YLabel, l.out.YUnit = "volts", "V"
	if q := l.request.Quantity; q != "" && !strings.HasSuffix(q, ".volts") {
		s, err := record.Trace(q, h.T0, h.T0+h.T[len(h.T)-1])
		if err != nil {
			return c, err
		}
		unit := trace.UnitOf(q)
		y := overlay.Curve{X: s.T, Y: s.X}.Rising()
		c.Y = make([]float64, len(h.T))
		for k, t := range h.T {
			c.Y[k] = y.At(h.T0+t) / unit.Factor
		}
		l.out.YLabel, l.out.YUnit = q, unit.Symbol
	}
	switch l.request.Over {
	case api.OverTime:
		l.out.XLabel, l.out.XUnit = "time", "s"
		c.X = h.T
	case api.OverCharge:
		l.out.XLabel, l.out.XUnit = "charge", "Ah"
		c.X = scaled(h.Charge, 1.0/3600)
	case api.OverState:
		l.out.XLabel, l.out.XUnit = "share of the charge", "%"
		if all := h.Charge[len(h.Charge)-1]; all > 0 {
			c.X = scaled(h.Charge, 100/all)
		}
	}
	if len(c.X) != len(c.Y) {
		return c, fmt.Errorf("no charge was moved")
	}
	c = c.Rising()
	if len(c.X) < 2 {
		return c, fmt.Errorf("its record has no two places along the axis")
	}
	return l.aligned(run, c, h.T0)
}

func scaled(xs []float64, by float64) []float64 {
	out := make([]float64, len(xs))
	for k, x := range xs {
		out[k] = x * by
	}
	return out
}

// aligned counts x from the mark or level that was asked for.
func (l *laid) aligned(run store.Run, c overlay.Curve, began float64) (overlay.Curve, error) {
	if level := l.request.Level; level != nil {
		x, ok := c.Crosses(*level)
		if !ok {
			return c, fmt.Errorf("it does not cross %g %s", *level, l.out.YUnit)
		}
		return c.Shifted(x), nil
	}
	if l.request.Mark == "" || l.request.Over != api.OverTime {
		return c, nil
	}
	marks, err := l.store.Marks(run.ID)
	if err != nil {
		return c, err
	}
	i := slices.IndexFunc(marks, func(m record.Mark) bool { return m.Label == l.request.Mark })
	if i < 0 {
		return c, fmt.Errorf("it has no mark %q", l.request.Mark)
	}
	return c.Shifted(marks[i].T - began), nil
}

func (l *laid) take(run store.Run, half string, pass int, c overlay.Curve) {
	c.Label, c.Group = label(run), l.request.Groups[run.ID]
	l.curves = append(l.curves, c)
	l.infos = append(l.infos, api.OverlayCurve{Run: run.ID, Label: c.Label, Group: c.Group, Half: half, Pass: pass,
		Drawn: true, Serial: run.Serial})
}

// first is the curves of the half that comes first in the picture: discharges and charges have no band together.
func (l *laid) first() (half string, all []overlay.Curve) {
	for i, c := range l.curves {
		if half == "" || l.infos[i].Half == "discharge" && half != "discharge" && l.request.Half == "both" {
			half, all = l.infos[i].Half, nil
		}
		if l.infos[i].Half == half {
			all = append(all, c)
		}
	}
	return half, all
}

func (l *laid) band() {
	half, all := l.first()
	if len(all) < 2 || l.severalContracts() {
		return
	}
	if b, err := overlay.BandOf(all, bandPlaces); err == nil {
		l.out.Band = &api.OverlayBand{X: b.X, Min: b.Min, Max: b.Max, Mean: b.Mean, Widest: b.Widest, At: b.At}
	}
	reference := l.reference(kind{half, l.infos[0].Contract})
	l.out.Reference = reference.Label
	for _, d := range overlay.Differences(reference, all) {
		if d.Label == reference.Label {
			continue
		}
		l.out.Differences = append(l.out.Differences, api.OverlayDifference{Label: d.Label, Mean: orNil(d.Mean),
			RMS: orNil(d.RMS), Largest: orNil(d.Largest), At: orNil(d.At), End: orNil(d.End)})
	}
}

func orNil(x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}

// thin leaves labels and places out that a picture has no room for.
func (l *laid) thin() {
	var labels []string
	for _, c := range l.infos {
		labels = append(labels, c.Label)
	}
	drawn := overlay.Sample(labels, l.request.Most)
	for i, c := range l.curves {
		t := c.Thinned(drawPlaces)
		l.infos[i].X, l.infos[i].Y, l.infos[i].Drawn = t.X, t.Y, slices.Contains(drawn, c.Label)
	}
	l.out.Curves = append(l.out.Curves, l.infos...)
}
