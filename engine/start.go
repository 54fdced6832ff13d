package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"usherbench/api"
	"usherbench/archive"
	"usherbench/core/catalogue"
	"usherbench/core/nameplate"
	"usherbench/core/procedure"
	"usherbench/core/seats"
	"usherbench/core/stage"
	"usherbench/core/uncertainty"
	"usherbench/instrument/transport/memory"
	"usherbench/store"
)

// StartRun begins a run for a person, and returns when it is on record and under way. It fails with ErrBusy,
// ErrNotReady, ErrHeld, api.ErrBadRequest, store.ErrNotFound, or the findings of the procedure.
func (b *Bay) StartRun(ctx context.Context, by string, request api.StartRun) (api.RunSummary, error) {
	return b.begin(ctx, by, 0, claim{state: api.BayStarting, word: goesOn, by: by, asked: time.Now()}, request)
}

// StartInTurn begins a run that has a place in the line.
func (b *Bay) StartInTurn(ctx context.Context, by string, place uint, request api.StartRun) (api.RunSummary, error) {
	return b.begin(ctx, by, place, claim{state: api.BayStarting}, request)
}

func (b *Bay) begin(ctx context.Context, by string, place uint, c claim,
	request api.StartRun) (api.RunSummary, error) {
	if err := errors.Join(archive.CheckSerial(request.Serial), checkVouched(request.Vouched)); err != nil {
		return api.RunSummary{}, err
	}
	o, err := b.own(c)
	if err != nil {
		return api.RunSummary{}, err
	}
	ctx, cancel := o.permit.Join(ctx)
	defer cancel()
	run, err := b.prepare(ctx, by, request)
	var begun api.RunSummary
	if err == nil {
		run.owner = o
		begun, err = b.launch(ctx, run, place)
	}
	if stopped := o.permit.Err(); err != nil && stopped != nil {
		err = fmt.Errorf("%w: the start was %w", ErrHeld, stopped)
	}
	if err != nil {
		if run == nil || run.finish == nil { // otherwise it frees the bay when it is concluded
			b.release(o)
		}
		return api.RunSummary{}, err
	}
	return begun, nil
}

// prepare does everything that can fail before anything is energised. A mistake of the program itself fails this start
// and nothing else.
func (b *Bay) prepare(ctx context.Context, by string, request api.StartRun) (run *liveRun, err error) {
	defer func() {
		if p := recover(); p != nil {
			b.engine.log.Error("prepare a run", "panic", p, "stack", string(debug.Stack()))
			run, err = nil, fmt.Errorf("internal error while the run was prepared: %v", p)
		}
	}()
	s := b.engine.store
	revision, err := s.Revision(request.Procedure, request.Revision)
	if err != nil {
		return nil, err
	}
	program, plate, err := b.engine.Resolve(revision, request.Parameters)
	if err != nil {
		return nil, err
	}
	flight, err := b.preflight(ctx, program, plate, request)
	if err != nil {
		return nil, err
	}
	if blocked := flight.blocked(); blocked != "" {
		b.engine.Journal(store.JournalEntry{By: by, Bay: b.name, What: "start refused", Detail: request.Procedure + " on " +
			request.Serial + ": " + blocked})
		return nil, &Blocked{flight.findings, blocked}
	}
	// An instrument that is silent is named before the guards that miss its readings.
	program.LostAfter = 1.25 * time.Duration(b.config.LostAfter).Seconds() * b.engine.timeFactor
	machine, err := stage.New(program)
	if err != nil {
		return nil, err
	}
	for _, x := range b.outputs.Seats() {
		if x.Config.Leads != nil {
			x.Senses(flight.sensed(ctx, x))
		}
	}
	specs, err := json.Marshal(b.specs())
	if err != nil {
		return nil, err
	}
	record := &store.Run{
		ID: ulid.Make().String(), Bay: b.name, Serial: request.Serial, Lot: request.Lot, Procedure: revision.Name,
		Revision: revision.Number,
		Title:    revision.Title, Nameplate: program.For, Operator: by, State: store.Live,
		TimeFactor:    b.engine.timeFactor,
		ProcedureText: revision.Text, UsedTexts: program.Used, Parameters: request.Parameters, Columns: b.columnsOf(program),
		Instruments: flight.uses, Specs: string(specs), Preflight: flight.findings,
		ReseatsLeft: max(flight.reseatsLeft, 0), Parts: flight.parts,
	}
	if plate != nil {
		record.NameplateText = plate.Text
	}
	return newLiveRun(b, program, machine, record), nil
}

// Resolve turns a revision into a program.
func (e *Engine) Resolve(revision store.Revision, parameters map[string]string) (*procedure.Program,
	*nameplate.Nameplate, error) {
	var plate *nameplate.Nameplate
	if revision.For != "" && revision.For != "any" {
		stored, err := e.store.Nameplate(revision.For)
		if err != nil {
			return nil, nil, err
		}
		if plate, err = nameplate.Parse([]byte(stored.Text)); err != nil {
			return nil, nil, fmt.Errorf("nameplate %s: %w", stored.Name, err)
		}
	}
	program, err := catalogue.Parse([]byte(revision.Text), plate, parameters, e.store.Library)
	return program, plate, err
}

// columnsOf are the columns that a run records: what the bay reads and counts, then what nothing reads.
func (b *Bay) columnsOf(program *procedure.Program) []string {
	columns := slices.Clone([]string(b.sampler.Columns))
	return append(columns, program.Computed()...)
}

// Blocked says that the preflight found what must be mended before a run.
type Blocked struct {
	Findings []api.PreflightFinding
	Words    string
}

func (b *Blocked) Error() string { return b.Words }

// Asks names the checks that block but for which a person may vouch.
func (b *Blocked) Asks() []string {
	var names []string
	for _, f := range b.Findings {
		if f.Verdict == api.Blocks && f.Vouch {
			names = append(names, f.Check)
		}
	}
	return names
}

// Is makes a blocked start one for which the bench is not ready.
func (b *Blocked) Is(target error) bool { return target == ErrNotReady }

// handlerWithin is how long a unit handler may take to put a unit in place.
const handlerWithin = 60 * time.Second

// handle tells the bay's unit handler which unit is to be tested, and waits until it is in place.
func (b *Bay) handle(ctx context.Context, serial string, plate *nameplate.Nameplate) error {
	if b.config.Handler == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, handlerWithin)
	defer cancel()
	unit := map[string]string{"serial": serial}
	if plate != nil {
		unit["nameplate"], unit["plant"] = plate.Name, plate.Plant
	}
	body, err := json.Marshal(unit)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPut, b.config.Handler, bytes.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	answer, err := b.engine.handlers.Do(request)
	if err != nil {
		return fmt.Errorf("%w: the unit handler of %s does not answer: %w", ErrNotReady, b.name, err)
	}
	defer answer.Body.Close()
	if answer.StatusCode >= 300 {
		words, _ := io.ReadAll(io.LimitReader(answer.Body, longestRefusal))
		return fmt.Errorf("%w: the unit handler of %s refused %q (%s): %s", ErrNotReady, b.name, serial, answer.Status,
			strings.Join(strings.Fields(string(words)), " "))
	}
	return nil
}

// longestRefusal bounds what is shown of a unit handler's answer.
const longestRefusal = 200

// toHandlers makes what speaks to unit handlers: to the address that is configured, and to none to which that would
// send it on.
func toHandlers(network *memory.Network) *http.Client {
	way := &http.Transport{Proxy: nil, MaxIdleConnsPerHost: 1, IdleConnTimeout: time.Minute}
	if network != nil {
		way.DialContext = network.DialHost
	}
	return &http.Client{Transport: way,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// specs are the accuracies of what the bay reads, by column.
func (b *Bay) specs() map[string]uncertainty.Spec {
	specs := map[string]uncertainty.Spec{}
	for _, x := range b.outputs.Seats() {
		for _, q := range x.Gives {
			if spec := x.ReadSpec(q); len(spec) > 0 {
				specs[x.Name+"."+q] = spec
			}
		}
		if spec := x.ReadSpec("ohms"); x.Kind.Is(seats.Scans) && len(spec) > 0 {
			specs[x.Name+".ohms"] = spec
		}
	}
	return specs
}
