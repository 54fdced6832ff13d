package archive

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/oklog/ulid/v2"

	"usherbench/api"
	"usherbench/core/foreignlog"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/record"
	"usherbench/core/stage"
	"usherbench/core/trace"
	"usherbench/store"
)

// ImportedBay is what stands for the bay of a run that none of ours made.
const ImportedBay = "import"

// clocksApart is how far ahead the clock of other equipment may be, zones included.
const clocksApart = 26 * time.Hour

var serialPattern = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N} ._/#-]*$`)

const longestSerial = 64 // characters; within the pattern it would be compiled as many times

// CheckSerial tells what is wrong with a serial number.
func CheckSerial(serial string) error {
	if !serialPattern.MatchString(serial) || utf8.RuneCountInString(serial) > longestSerial {
		return fmt.Errorf("%w: %q is not a serial number; use up to 64 letters, digits, spaces and . _ / # -",
			api.ErrBadRequest,
			serial)
	}
	return nil
}

// mappingOf turns a mapping of the API into that of the core.
func mappingOf(m api.Mapping) (foreignlog.Mapping, error) {
	column := func(c api.MappedColumn) foreignlog.Column { return foreignlog.Column{Name: c.Column, Unit: c.Unit} }
	out := foreignlog.Mapping{Time: column(m.Time), Volts: column(m.Volts), Amps: column(m.Amps),
		Celsius: column(m.Celsius), Skip: m.Skip, Date: m.Date, UnitRow: m.UnitRow, Join: m.Join}
	switch m.DischargeIs {
	case "positive":
		out.DischargePositive = true
	case "negative", "":
	default:
		return out, fmt.Errorf("%w: dischargeIs is %q; say negative or positive", api.ErrBadRequest, m.DischargeIs)
	}
	sign := func(text string) rune {
		for _, r := range strings.NewReplacer(`\t`, "\t", "tab", "\t").Replace(text) {
			return r
		}
		return 0
	}
	out.Separator, out.Decimal = sign(m.Separator), sign(m.Decimal)
	if out.Skip < 0 || out.Separator == '"' || out.Separator == '\n' || out.Separator == '\r' {
		return out, fmt.Errorf("%w: skip counts lines, and a separator is one sign that is no quote", api.ErrBadRequest)
	}
	return out, nil
}

// LookAt takes a first look at a log, with the mapping that is remembered of its source, else a guess.
func LookAt(s *store.Store, m api.Mapping, text string) (api.LogLook, error) {
	first, err := foreignlog.Look(text, max(m.Skip, 0))
	if err != nil {
		return api.LogLook{}, fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	look := api.LogLook{Headers: first.Headers, Rows: first.Rows}
	column := func(c foreignlog.Column) api.MappedColumn { return api.MappedColumn{Column: c.Name, Unit: c.Unit} }
	g := first.Mapping
	look.Mapping = api.Mapping{Source: m.Source, Time: column(g.Time), Volts: column(g.Volts), Amps: column(g.Amps),
		Celsius: column(g.Celsius), Separator: string(g.Separator), Decimal: string(g.Decimal), Skip: g.Skip, Date: g.Date,
		UnitRow: g.UnitRow}
	if m.Source != "" {
		if m, err := s.Mapping(m.Source); err == nil && json.Unmarshal([]byte(m.Data), &look.Mapping) == nil {
			look.Remembered = true
		}
	}
	return look, nil
}

// Library is what is known of procedures and units.
type Library interface {
	// Revision reads a procedure; 0 is its newest revision.
	Revision(name string, number int) (store.Revision, error)
	Nameplate(name string) (store.Nameplate, error)
}

// Import makes a run of a foreign log, with its figures, in records s, and remembers there the mapping of its source.
// Procedures and nameplates are those of the library. The figures are those of the procedure, or the usual ones.
// Mistakes are api.ErrBadRequest with the line.
func Import(s *store.Store, library Library, by string, request api.ImportLog) (store.Run, error) {
	if err := CheckSerial(request.Serial); err != nil {
		return store.Run{}, err
	}
	run, err := take(s, library, by, request)
	if err != nil {
		return run, err
	}
	run.State = string(stage.Done)
	if _, err := Judge(s, run, map[string]any{}); err != nil {
		return run, err
	}
	return s.Run(run.ID)
}

// Imported is what the journal says of a log that was brought in.
func Imported(by string, run store.Run) store.JournalEntry {
	return store.JournalEntry{By: by, RunID: run.ID, What: "log imported", Detail: run.Source + " as " + run.Serial}
}

// take puts a foreign log on record; its figures are not computed yet.
func take(s *store.Store, library Library, by string, request api.ImportLog) (store.Run, error) {
	bad := func(err error) (store.Run, error) { return store.Run{}, fmt.Errorf("%w: %w", api.ErrBadRequest, err) }
	mapping, err := mappingOf(request.Mapping)
	if err != nil {
		return store.Run{}, err
	}
	mapping.Capture = request.Capture
	log, err := foreignlog.Read(strings.NewReader(request.Text), mapping)
	if err != nil {
		return bad(err)
	}
	specs, err := accuracies(request.Accuracy)
	if err != nil {
		return bad(err)
	}
	run := store.Run{ID: ulid.Make().String(), Bay: ImportedBay, Serial: request.Serial, Lot: request.Lot, Operator: by,
		State: store.Live, TimeFactor: 1,
		Source: strings.TrimSpace(request.Mapping.Source + " " + request.Name), StartedAt: s.Now()}
	switch {
	case request.BeganAt != nil:
		run.StartedAt = *request.BeganAt
	case !log.Began.IsZero():
		run.StartedAt = log.Began
	}
	if ahead := run.StartedAt.Sub(s.Now()); ahead > clocksApart {
		return bad(fmt.Errorf("the log begins at %s, which is still to come; check its date and the clock of this computer, "+
			"or say when it began", run.StartedAt.Format(time.DateTime)))
	}
	if err := giveTexts(library, &run, request, log); err != nil {
		return run, err
	}
	if request.Capture {
		return run, takeCapture(s, &run, request, log)
	}
	if doubt := log.Doubt(); doubt != "" && request.Mapping.DischargeIs == "" {
		return bad(errors.New(doubt))
	}
	run.Specs = specs
	run.Columns = []string{"cycler.volts", "cycler.amps", "cycler.watts", "cycler.charge", "cycler.energy"}
	if log.Celsius != nil {
		run.Columns = append(run.Columns, "thermo.celsius")
	}
	if err := s.CreateRun(&run); err != nil {
		return run, err
	}
	if err := putOnRecord(s, &run, log); err != nil {
		return run, err
	}
	if request.Mapping.Source != "" {
		data, err := json.Marshal(request.Mapping)
		if err != nil {
			return run, err
		}
		return run, s.PutMapping(store.Mapping{Source: request.Mapping.Source, Data: string(data), By: by, At: s.Now()})
	}
	return run, nil
}

// giveTexts gives the run nameplate and procedure. Of a procedure the figures, limits and ratings count; what
// it sets is not done.
func giveTexts(library Library, run *store.Run, request api.ImportLog, log *foreignlog.Log) error {
	run.Nameplate = request.Nameplate
	run.Procedure, run.Title = "imported-log", "Log of "+request.Name
	if request.Procedure != "" {
		r, err := library.Revision(request.Procedure, 0)
		if err != nil {
			return err
		}
		run.Procedure, run.Revision, run.Title, run.ProcedureText = r.Name, r.Number, r.Title, r.Text
		if run.Nameplate == "" && r.For != "any" {
			run.Nameplate = r.For
		}
	}
	if run.Nameplate != "" {
		plate, err := library.Nameplate(run.Nameplate)
		if err != nil {
			return err
		}
		run.NameplateText = plate.Text
	}
	switch {
	case run.ProcedureText != "":
	case request.Capture:
		run.ProcedureText = usualOfCapture(run.Nameplate, log)
	default:
		run.ProcedureText = usual(run.Nameplate, run.NameplateText, log)
	}
	if _, _, err := run.Program(); err != nil {
		return fmt.Errorf("%w: %w", api.ErrBadRequest, err)
	}
	return nil
}

// usual is a procedure with the figures that a log of a battery has.
func usual(name, plateText string, log *foreignlog.Log) string {
	var b strings.Builder
	if name == "" {
		name = "any"
	}
	fmt.Fprintf(&b,
		"# Made for a log that was brought in: nothing is set, and every figure is asked for that the log may "+
			"have.\nprocedure: imported-log\ntitle: Imported log\nfor: %s\nneeds:\n  cycler: {}\n", name)
	if log.Celsius != nil {
		b.WriteString("  thermo: {}\n")
	}
	fmt.Fprintf(&b, "stages:\n  - name: log\n    watch: {for: %g s}\nfigures:\n", math.Ceil(log.T[len(log.T)-1])+1)
	spans := record.LogSpans(log.T, log.Amps)
	has := func(kind string) (n int) {
		for _, s := range spans {
			if s.Kind == kind && s.T1-s.T0 > 60 {
				n++
			}
		}
		return n
	}
	plate, err := nameplate.Parse([]byte(plateText))
	rated := plateText != "" && err == nil
	cutoff := rated && plate.Ratings["cutoff"].Value > 0
	if has("discharge") > 0 && cutoff {
		b.WriteString("  - {figure: capacity}\n  - {figure: discharge-energy}\n  - {figure: mean-discharge-voltage}\n")
	}
	if has("charge") > 0 {
		b.WriteString("  - {figure: charge-returned}\n  - {figure: energy-returned}\n  - {figure: charger-stages}\n")
		if has("discharge") > 0 {
			b.WriteString("  - {figure: charge-factor}\n")
		}
	}
	if has("discharge") > 1 && cutoff {
		b.WriteString("  - {figure: cycle-table}\n  - {figure: fade}\n")
	}
	b.WriteString("  - {figure: c-rate}\n")
	return b.String()
}

// A time without rows is marked when it is as long as so many usual intervals, and a second; so many at most.
const (
	gapIntervals = 5
	gapSeconds   = 1
	mostGaps     = 200
)

// remarksOf says what was left out of a log, or is missing in it.
func remarksOf(log *foreignlog.Log) (words []string) {
	if log.Dropped > 0 {
		words = append(words, fmt.Sprintf("%d rows repeated the time of the row before and were left out", log.Dropped))
	}
	if log.Heads > 0 {
		words = append(words, fmt.Sprintf("the header was repeated %d times", log.Heads))
	}
	if log.Overloads > 0 {
		words = append(words, fmt.Sprintf("%d readings were beyond what could be measured, and are missing", log.Overloads))
	}
	if log.CutOff {
		words = append(words, "the last line was cut off and was left out")
	}
	return words
}

// atATime is how many frames of a log are kept in memory before they are written.
const atATime = 100_000

// putOnRecord writes the frames and marks of a log.
func putOnRecord(s *store.Store, run *store.Run, log *foreignlog.Log) error {
	r := s.NewRecorder(run.ID, run.Columns)
	counters := trace.NewCounters(run.Columns, []string{"cycler"})
	values := make([]float64, len(run.Columns))
	for k, t := range log.T {
		values[0], values[1] = log.Volts[k], log.Amps[k]
		if log.Celsius != nil {
			values[5] = log.Celsius[k]
		}
		counters.Fill(trace.Frame{T: t, Values: values})
		r.Frame(trace.Frame{T: t, Values: values})
		if k%atATime == atATime-1 {
			if err := s.Flush(); err != nil {
				return err
			}
		}
	}
	for _, span := range record.LogSpans(log.T, log.Amps) {
		r.Mark(record.Mark{T: span.T0, Kind: record.MarkStage, Label: span.Name, About: record.Began{Stage: span.Kind}})
		if span.Kind != "rest" {
			r.Mark(record.Mark{T: span.T1, Kind: record.MarkCondition, Label: span.Kind + " ended by " + record.EndOfCurrent,
				About: record.Ended{Stage: span.Kind, Rules: []string{record.EndOfCurrent}}})
		}
		r.Mark(record.Mark{T: span.T1, Kind: record.MarkStageEnd, Label: span.Name})
	}
	for _, words := range remarksOf(log) {
		r.Mark(record.Mark{T: 0, Kind: record.MarkBench, Label: words})
	}
	for _, t := range log.Joined {
		r.Mark(record.Mark{T: t, Kind: record.MarkBench, Label: "the time of the file went back; the log goes on here"})
	}
	for i, gap := range log.Gaps(gapIntervals, gapSeconds) {
		if i == mostGaps {
			break
		}
		r.Mark(gap.Mark())
	}
	run.Duration = log.T[len(log.T)-1]
	run.Frames = r.Frames()
	ended := run.StartedAt.Add(time.Duration(run.Duration * float64(time.Second)))
	run.EndedAt = &ended
	return r.Finish(map[string]any{"ended_at": &ended, "duration": run.Duration, "frames": run.Frames,
		"state": string(stage.Done)})
}

// importedSpans are the half-cycles of a log, and the time after the last discharge as one that was watched.
func importedSpans(marks []record.Mark, end float64) []record.Span {
	all := Spans(&procedure.Program{}, marks, end)
	watched := record.Span{Name: "log", Kind: "watch", T1: end}
	for i := range all {
		all[i].Kind, _, _ = strings.Cut(all[i].Name, " ")
		if all[i].Kind == "discharge" {
			watched.T0 = all[i].T1
		}
	}
	if watched.T1-watched.T0 > 60 {
		all = append(all, watched)
	}
	return all
}
