// Package client is the Go client of the service's API; the command line is its first user.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"usherbench/api"
)

// Client calls one service. It is safe for use by several goroutines.
type Client struct {
	// Server is the base address, such as http://127.0.0.1:8750.
	Server string
	// Token is sent with every request; empty for the routes that need none.
	Token string
	// HTTP sends the requests; nil means http.DefaultClient.
	HTTP *http.Client
}

// ErrUnreachable is returned when nothing answers at the server's address.
var ErrUnreachable = errors.New("the service does not answer")

func (c *Client) http() *http.Client {
	if c.HTTP != nil {
		return c.HTTP
	}
	return http.DefaultClient
}

// send makes a request; an answer that is an error becomes an *api.Problem.
func (c *Client) send(ctx context.Context, method, path string, query url.Values, body any,
	header http.Header) (*http.Response, error) {
	address := strings.TrimSuffix(c.Server, "/") + path
	if len(query) > 0 {
		address += "?" + query.Encode()
	}
	reader, raw := body.(io.Reader) // a file goes as it is
	if body != nil && !raw {
		data, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		reader = bytes.NewReader(data)
	}
	request, err := http.NewRequestWithContext(ctx, method, address, reader)
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		request.Header[k] = v
	}
	switch {
	case raw:
		request.Header.Set("Content-Type", "application/octet-stream")
	case body != nil:
		request.Header.Set("Content-Type", "application/json")
	}
	if c.Token != "" {
		request.Header.Set("Authorization", "Bearer "+c.Token)
	}
	response, err := c.http().Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, fmt.Errorf("%w at %s: %w; is it running? start it with: usher serve", ErrUnreachable, c.Server, err)
	}
	if response.StatusCode >= 400 {
		defer response.Body.Close()
		return nil, problem(response)
	}
	return response, nil
}

func problem(response *http.Response) error {
	data, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	p := &api.Problem{Title: response.Status, Status: response.StatusCode}
	if err := json.Unmarshal(data, p); err != nil || p.Title == "" {
		p.Title = response.Status
	}
	return p
}

func get[T any](ctx context.Context, c *Client, path string, query url.Values) (T, error) {
	return call[T](ctx, c, http.MethodGet, path, query, nil)
}

func call[T any](ctx context.Context, c *Client, method, path string, query url.Values, body any) (T, error) {
	var out T
	response, err := c.send(ctx, method, path, query, body, nil)
	if err != nil {
		return out, err
	}
	defer response.Body.Close()
	if response.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.NewDecoder(response.Body).Decode(&out); err != nil {
		return out, fmt.Errorf("%s %s: the answer cannot be read: %w", method, path, err)
	}
	return out, nil
}

const base = "/api/v1"

func one(parts ...string) string {
	path := base
	for _, p := range parts {
		path += "/" + url.PathEscape(p)
	}
	return path
}

// Health tells whether the service works.
func (c *Client) Health(ctx context.Context) (api.Health, error) {
	return get[api.Health](ctx, c, "/health", nil)
}

// SetUp makes the first account.
func (c *Client) SetUp(ctx context.Context, s api.Setup) (api.Account, error) {
	return call[api.Account](ctx, c, http.MethodPost, one("setup"), nil, s)
}

// SignIn gets a token for name and password.
func (c *Client) SignIn(ctx context.Context, name, password string) (api.Account, error) {
	return call[api.Account](ctx, c, http.MethodPost, one("sign-in"), nil, api.SignIn{Name: name, Password: password,
		Client: true})
}

// SignOut forgets the token.
func (c *Client) SignOut(ctx context.Context) error {
	_, err := call[struct{}](ctx, c, http.MethodPost, one("sign-out"), nil, nil)
	return err
}

// Me is who the token belongs to.
func (c *Client) Me(ctx context.Context) (api.Account, error) {
	return get[api.Account](ctx, c, one("me"), nil)
}

// AddAccount adds an account.
func (c *Client) AddAccount(ctx context.Context, a api.NewAccount) (api.Account, error) {
	return call[api.Account](ctx, c, http.MethodPost, one("accounts"), nil, a)
}

// ChangeAccount changes an account, and withdraws its tokens.
func (c *Client) ChangeAccount(ctx context.Context, name string, change api.AccountChange) (api.Account, error) {
	return call[api.Account](ctx, c, http.MethodPut, one("accounts", name), nil, change)
}

// ChangePassword changes one's own password, and withdraws one's other tokens.
func (c *Client) ChangePassword(ctx context.Context, change api.PasswordChange) error {
	_, err := call[struct{}](ctx, c, http.MethodPut, one("me", "password"), nil, change)
	return err
}

// Tokens lists the tokens that were given out: one's own, and an admin's list has those of everybody.
func (c *Client) Tokens(ctx context.Context) ([]api.Token, error) {
	return get[[]api.Token](ctx, c, one("tokens"), nil)
}

// RevokeToken withdraws a token.
func (c *Client) RevokeToken(ctx context.Context, id string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, one("tokens", id), nil, nil)
	return err
}

// VerifyJournal holds every entry of the journal against its seal.
func (c *Client) VerifyJournal(ctx context.Context) (api.JournalCheck, error) {
	return get[api.JournalCheck](ctx, c, one("journal", "verify"), nil)
}

// CheckRecords reads the whole database of the service and tells what is wrong with it.
func (c *Client) CheckRecords(ctx context.Context) (api.RecordsCheck, error) {
	return get[api.RecordsCheck](ctx, c, one("records", "check"), nil)
}

// CopyRecords writes a copy of all records, as they are now.
func (c *Client) CopyRecords(ctx context.Context, w io.Writer) error {
	return c.download(ctx, one("records", "copy"), nil, w)
}

// Copies lists the copies that the service makes by itself.
func (c *Client) Copies(ctx context.Context) (api.RecordsCopies, error) {
	return get[api.RecordsCopies](ctx, c, one("records", "copies"), nil)
}

// Accounts lists the accounts.
func (c *Client) Accounts(ctx context.Context) ([]api.Account, error) {
	return get[[]api.Account](ctx, c, one("accounts"), nil)
}

// Instruments describes the bench.
func (c *Client) Instruments(ctx context.Context) ([]api.Instrument, error) {
	return get[[]api.Instrument](ctx, c, one("instruments"), nil)
}

// Bays lists the bays.
func (c *Client) Bays(ctx context.Context) ([]api.Bay, error) {
	return get[[]api.Bay](ctx, c, one("bays"), nil)
}

// Bay describes one bay.
func (c *Client) Bay(ctx context.Context, name string) (api.Bay, error) {
	return get[api.Bay](ctx, c, one("bays", name), nil)
}

// Set sets something on a seat by hand.
func (c *Client) Set(ctx context.Context, bay string, s api.ManualSet) (api.Bay, error) {
	return call[api.Bay](ctx, c, http.MethodPut, one("bays", bay, "setting"), nil, s)
}

// Stop ends the run of a bay.
func (c *Client) Stop(ctx context.Context, bay, why string) (api.Bay, error) {
	return call[api.Bay](ctx, c, http.MethodPost, one("bays", bay, "stop"), nil, api.StopRequest{Why: why})
}

// MakeSafe ends the run of a bay, if there is one, and switches its outputs off.
func (c *Client) MakeSafe(ctx context.Context, bay, why string) (api.Bay, error) {
	return call[api.Bay](ctx, c, http.MethodPost, one("bays", bay, "safe"), nil, api.StopRequest{Why: why})
}

// StopAll ends every run and makes every bay safe.
func (c *Client) StopAll(ctx context.Context, why string) ([]api.Bay, error) {
	return call[[]api.Bay](ctx, c, http.MethodPost, one("stop-all"), nil, api.StopRequest{Why: why})
}

// GoOn frees the house after everything was stopped, by the stop that was seen if one is given: when it came.
func (c *Client) GoOn(ctx context.Context, seen ...time.Time) ([]api.Bay, error) {
	return call[[]api.Bay](ctx, c, http.MethodPost, one("go-on"), seenAt(seen), nil)
}

func seenAt(seen []time.Time) url.Values {
	query := url.Values{}
	for _, t := range seen {
		query.Set("seen", t.Format(time.RFC3339Nano))
	}
	return query
}

// Looked states that somebody has looked and the outputs of a bay with an alarm are off.
func (c *Client) Looked(ctx context.Context, bay string) (api.Bay, error) {
	return call[api.Bay](ctx, c, http.MethodPost, one("bays", bay, "looked"), nil, nil)
}

// ForgetOutputs states that outputs which no bay has any longer are off, or gone for good: they are tried no longer.
func (c *Client) ForgetOutputs(ctx context.Context, left string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, one("left", left), nil, nil)
	return err
}

// StillThere says that somebody is there whose outputs are on by hand.
func (c *Client) StillThere(ctx context.Context, bay string) (api.Bay, error) {
	return call[api.Bay](ctx, c, http.MethodPost, one("bays", bay, "still-there"), nil, nil)
}

// GoOnBay frees a bay after a stop, after the one that was seen if one is given: when it came.
func (c *Client) GoOnBay(ctx context.Context, bay string, seen ...time.Time) (api.Bay, error) {
	return call[api.Bay](ctx, c, http.MethodPost, one("bays", bay, "go-on"), seenAt(seen), nil)
}

// Procedures lists the newest revision of every procedure.
func (c *Client) Procedures(ctx context.Context) ([]api.Procedure, error) {
	return get[[]api.Procedure](ctx, c, one("procedures"), nil)
}

// Procedure reads a revision; 0 is the newest.
func (c *Client) Procedure(ctx context.Context, name string, revision int) (api.Procedure, error) {
	query := url.Values{}
	if revision > 0 {
		query.Set("revision", strconv.Itoa(revision))
	}
	return get[api.Procedure](ctx, c, one("procedures", name), query)
}

// PushProcedure stores a procedure as its next revision.
func (c *Client) PushProcedure(ctx context.Context, text, why string) (api.Procedure, error) {
	return call[api.Procedure](ctx, c, http.MethodPost, one("procedures"), nil, api.PushText{Text: text, Why: why})
}

// CheckProcedure checks a procedure without storing it.
func (c *Client) CheckProcedure(ctx context.Context, text string) (api.Procedure, error) {
	return call[api.Procedure](ctx, c, http.MethodPost, one("procedures", "check"), nil, api.PushText{Text: text})
}

// Nameplates lists the nameplates.
func (c *Client) Nameplates(ctx context.Context) ([]api.Nameplate, error) {
	return get[[]api.Nameplate](ctx, c, one("nameplates"), nil)
}

// Nameplate reads a nameplate.
func (c *Client) Nameplate(ctx context.Context, name string) (api.Nameplate, error) {
	return get[api.Nameplate](ctx, c, one("nameplates", name), nil)
}

// PushNameplate stores a nameplate.
func (c *Client) PushNameplate(ctx context.Context, text string) (api.Nameplate, error) {
	return call[api.Nameplate](ctx, c, http.MethodPost, one("nameplates"), nil, api.PushText{Text: text})
}

// StartRun begins a run.
func (c *Client) StartRun(ctx context.Context, s api.StartRun) (api.RunSummary, error) {
	return call[api.RunSummary](ctx, c, http.MethodPost, one("runs"), nil, s)
}

// RunFilter chooses runs; empty fields choose all.
type RunFilter = api.RunFilter

// Runs lists runs, newest first.
func (c *Client) Runs(ctx context.Context, f RunFilter) ([]api.RunSummary, error) {
	query := filterQuery(f)
	if f.Before != "" {
		query.Set("before", f.Before)
	}
	if f.Limit > 0 {
		query.Set("limit", strconv.Itoa(f.Limit))
	}
	return get[[]api.RunSummary](ctx, c, one("runs"), query)
}

// filterQuery are the parameters by which runs are chosen.
func filterQuery(f RunFilter) url.Values {
	query := url.Values{}
	for _, chosen := range f.Texts() {
		if *chosen.Value != "" {
			query.Set(chosen.Name, *chosen.Value)
		}
	}
	if !f.Since.IsZero() {
		query.Set("since", f.Since.Format(time.RFC3339))
	}
	return query
}

// Run reads everything on record about a run: by its id, a unique prefix of it, or "last".
func (c *Client) Run(ctx context.Context, ref string) (api.Run, error) {
	return get[api.Run](ctx, c, one("runs", ref), nil)
}

// Range is a part of a run in seconds since its start; the zero value is all of it.
type Range struct {
	From, To float64
	With     []string // what else an export has for each frame
}

func (r Range) query() url.Values {
	query := url.Values{}
	if r.From > 0 {
		query.Set("from", strconv.FormatFloat(r.From, 'f', -1, 64))
	}
	if r.To > 0 {
		query.Set("to", strconv.FormatFloat(r.To, 'f', -1, 64))
	}
	if len(r.With) > 0 {
		query.Set("with", strings.Join(r.With, ","))
	}
	return query
}

// Window reads columns of a run (nil: all), reduced to about the given number of buckets.
func (c *Client) Window(ctx context.Context, ref string, columns []string, r Range, buckets int) (api.Window, error) {
	query := r.query()
	query.Set("buckets", strconv.Itoa(buckets))
	if len(columns) > 0 {
		query.Set("columns", strings.Join(columns, ","))
	}
	return get[api.Window](ctx, c, one("runs", ref, "window"), query)
}

// Export writes the data of a run as "csv" or "json".
func (c *Client) Export(ctx context.Context, ref, format string, r Range, w io.Writer) error {
	query := r.query()
	query.Set("format", format)
	return c.download(ctx, one("runs", ref, "export"), query, w)
}

// Report writes the report of a run as PDF.
func (c *Client) Report(ctx context.Context, ref string, p Printed, w io.Writer) error {
	return c.download(ctx, one("runs", ref, "report"), p.query(), w)
}

// Picture writes a picture that travels with the procedure of a run.
func (c *Client) Picture(ctx context.Context, run, name string, w io.Writer) error {
	return c.download(ctx, one("runs", run, "pictures", name), nil, w)
}

func (c *Client) download(ctx context.Context, path string, query url.Values, w io.Writer) error {
	response, err := c.send(ctx, http.MethodGet, path, query, nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(w, response.Body)
	return err
}
