package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"usherbench/api"
)

// Revisions lists the revisions of a procedure, newest first.
func (c *Client) Revisions(ctx context.Context, name string) ([]api.Procedure, error) {
	return get[[]api.Procedure](ctx, c, one("procedures", name, "revisions"), nil)
}

// Difference compares two revisions of a procedure; 0 stands for the newest, and for the one before it.
func (c *Client) Difference(ctx context.Context, name string, from, to int) ([]api.Difference, error) {
	q := url.Values{}
	if from > 0 {
		q.Set("from", strconv.Itoa(from))
	}
	if to > 0 {
		q.Set("to", strconv.Itoa(to))
	}
	return get[[]api.Difference](ctx, c, one("procedures", name, "difference"), q)
}

// Ready lists the procedures to start from.
func (c *Client) Ready(ctx context.Context) ([]api.Procedure, error) {
	return get[[]api.Procedure](ctx, c, one("ready"), nil)
}

// Catalogue tells which quantities and which kinds of seats, stages and figures there are.
func (c *Client) Catalogue(ctx context.Context) (api.Catalogue, error) {
	return get[api.Catalogue](ctx, c, one("catalogue"), nil)
}

// FirstSteps lists what leads to a first run, and what of it is done.
func (c *Client) FirstSteps(ctx context.Context) ([]api.FirstStep, error) {
	return get[[]api.FirstStep](ctx, c, one("first-steps"), nil)
}

// Outline takes a draft apart.
func (c *Client) Outline(ctx context.Context, d api.Draft) (api.Outline, error) {
	return call[api.Outline](ctx, c, http.MethodPost, one("procedures", "outline"), nil, d)
}

// Rehearse runs a draft on the model of its unit.
func (c *Client) Rehearse(ctx context.Context, d api.Draft) (api.Rehearsal, error) {
	return call[api.Rehearsal](ctx, c, http.MethodPost, one("rehearsals"), nil, d)
}

// RunRehearsal lays the rehearsal of a run over it.
func (c *Client) RunRehearsal(ctx context.Context, ref string) (api.RunRehearsal, error) {
	return get[api.RunRehearsal](ctx, c, one("runs", ref, "rehearsal"), nil)
}

// Judge computes figures and outcomes anew.
func (c *Client) Judge(ctx context.Context, j api.JudgeAgain) ([]api.Judgement, error) {
	return call[[]api.Judgement](ctx, c, http.MethodPost, one("judgements"), nil, j)
}

// Judgements lists how a run was judged.
func (c *Client) Judgements(ctx context.Context, ref string) ([]api.Judgement, error) {
	return get[[]api.Judgement](ctx, c, one("runs", ref, "judgements"), nil)
}

// Intervene does something to the live run of a bay.
func (c *Client) Intervene(ctx context.Context, bay string, i api.Intervention) (api.Bay, error) {
	return call[api.Bay](ctx, c, http.MethodPost, one("bays", bay, "intervene"), nil, i)
}

// ReadTable sends a table file and gets it as a procedure carries it.
func (c *Client) ReadTable(ctx context.Context, name string, file io.Reader) (api.Table, error) {
	return call[api.Table](ctx, c, http.MethodPost, one("tables"), url.Values{"name": {name}}, file)
}
