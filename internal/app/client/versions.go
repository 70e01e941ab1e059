package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"arithmon/internal/app/api"
)

// ChangeSet is changes that were made together, by the number of one of them.
func (c *Client) ChangeSet(ctx context.Context, id int64) (set api.ChangeSet, err error) {
	err = c.do(ctx, http.MethodGet, fmt.Sprint("/api/v1/changes/", id), nil, nil, &set)
	return set, err
}

// Diff says in what two states of the site differ: versions, change sets, times, or now; with a file, in what that differs from the first.
func (c *Client) Diff(ctx context.Context, from, to string, file []byte, only []string) (out api.Comparison, err error) {
	query := url.Values{"from": {from}, "only": only, "limit": {"10000"}}
	method, body := http.MethodGet, any(nil)
	if file != nil {
		method, body = http.MethodPost, file
	} else {
		query.Set("to", to)
	}
	for {
		var page api.Comparison
		if err := c.do(ctx, method, "/api/v1/diff", query, body, &page); err != nil {
			return out, err
		}
		page.Items = append(out.Items, page.Items...)
		if out = page; page.Next == "" {
			return out, nil
		}
		query.Set("cursor", page.Next)
	}
}

// Versions lists the named states of the site, the newest first.
func (c *Client) Versions(ctx context.Context) ([]api.Version, error) {
	return all[api.Version](ctx, c, "/api/v1/versions", nil)
}

// AddVersion names a state of the site.
func (c *Client) AddVersion(ctx context.Context, v api.NewVersion) (made api.Version, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/versions", nil, v, &made)
	return made, err
}

// Restore makes the site, or some points, what they were.
func (c *Client) Restore(ctx context.Context, r api.Restoring) (sum api.ChangeSummary, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/restore", nil, r, &sum)
	return sum, err
}

// Proposals lists what is proposed, the newest first; of a state when it is named.
func (c *Client) Proposals(ctx context.Context, state string) ([]api.Proposal, error) {
	query := url.Values{}
	if state != "" {
		query.Set("state", state)
	}
	return all[api.Proposal](ctx, c, "/api/v1/proposals", query)
}

// Proposal is one proposal, whole.
func (c *Client) Proposal(ctx context.Context, id int64) (p api.Proposal, err error) {
	err = c.do(ctx, http.MethodGet, fmt.Sprint("/api/v1/proposals/", id), nil, nil, &p)
	return p, err
}

// Comment says something of a proposal.
func (c *Client) Comment(ctx context.Context, id int64, text string) (p api.Proposal, err error) {
	err = c.do(ctx, http.MethodPost, fmt.Sprint("/api/v1/proposals/", id, "/comments"), nil, api.NewComment{Text: text}, &p)
	return p, err
}

// TakeProposal puts a proposal into force.
func (c *Client) TakeProposal(ctx context.Context, id int64, how api.Taking) (sum api.ChangeSummary, err error) {
	err = c.do(ctx, http.MethodPost, fmt.Sprint("/api/v1/proposals/", id, "/take"), nil, how, &sum)
	return sum, err
}

// DropProposal drops a proposal.
func (c *Client) DropProposal(ctx context.Context, id int64) error {
	return c.do(ctx, http.MethodPost, fmt.Sprint("/api/v1/proposals/", id, "/drop"), nil, nil, nil)
}

// Notes lists notes, the newest first; query is that of the route.
func (c *Client) Notes(ctx context.Context, query url.Values) ([]api.Note, error) {
	return all[api.Note](ctx, c, "/api/v1/notes", query)
}

// AddNote writes a note.
func (c *Client) AddNote(ctx context.Context, n api.NewNote) (made api.Note, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/notes", nil, n, &made)
	return made, err
}

// CloseNote says whether what a note is about is done.
func (c *Client) CloseNote(ctx context.Context, id int64, done bool) error {
	return c.do(ctx, http.MethodPatch, fmt.Sprint("/api/v1/notes/", id), nil, api.NoteState{Done: done}, nil)
}

// RemoveNote removes a note.
func (c *Client) RemoveNote(ctx context.Context, id int64) error {
	return c.do(ctx, http.MethodDelete, fmt.Sprint("/api/v1/notes/", id), nil, nil, nil)
}

// Together follows who is here and what is changed, until ctx ends or f fails; at says where this one is.
func (c *Client) Together(ctx context.Context, at api.Whereabouts, f func(api.TogetherMessage) error) error {
	conn, err := c.dial(ctx, "/api/v1/together")
	if err != nil {
		return err
	}
	defer conn.CloseNow()
	if err := say(ctx, conn, at); err != nil {
		return err
	}
	return hearing(ctx, conn, f)
}
