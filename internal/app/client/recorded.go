package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"arithmon/internal/app/api"
)

// Samples calls f with what was recorded of points between two moments, page by page, by tag and time.
func (c *Client) Samples(ctx context.Context, tags []string, from, to string, f func([]api.Sample) error) error {
	return pages(ctx, c, "/api/v1/history", url.Values{"tag": tags, "from": {from}, "to": {to}}, f)
}

// Aggregates calls f with what was known in stretches of time of one length, which begin with the days and hours of a zone, likewise.
func (c *Client) Aggregates(ctx context.Context, tags []string, from, to, every, zone string, f func([]api.Aggregate) error) error {
	return pages(ctx, c, "/api/v1/history/aggregates", url.Values{"tag": tags, "from": {from}, "to": {to}, "every": {every}, "zone": {zone}}, f)
}

// pages calls f with one page of a list after the other.
func pages[E any](ctx context.Context, c *Client, path string, query url.Values, f func([]E) error) error {
	query.Set("limit", "10000")
	for {
		var page api.Page[E]
		if err := c.do(ctx, http.MethodGet, path, query, nil, &page); err != nil {
			return err
		}
		if err := f(page.Items); err != nil || page.Next == "" {
			return err
		}
		query.Set("cursor", page.Next)
	}
}

// Plot gives what was recorded of points between two moments, in so many columns at most.
func (c *Client) Plot(ctx context.Context, tags []string, from, to, pixels string) (p api.Plot, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/history/plot", url.Values{"tag": tags, "from": {from}, "to": {to}, "pixels": {pixels}}, nil, &p)
	return p, err
}

// ExportSamples writes what was recorded to a file of a form, as the service makes it.
func (c *Client) ExportSamples(ctx context.Context, to io.Writer, tags []string, from, until, form string) error {
	return c.do(ctx, http.MethodGet, "/api/v1/history/export", url.Values{"tag": tags, "from": {from}, "to": {until}, "form": {form}}, nil, to)
}

// ImportSamples adds samples from elsewhere; with dry, it only says what is wrong with them.
func (c *Client) ImportSamples(ctx context.Context, data []byte, tag, zone string, dry bool) (out api.ImportedSamples, err error) {
	query := url.Values{"tag": {tag}, "zone": {zone}}
	if dry {
		query.Set("dry_run", "true")
	}
	err = c.do(ctx, http.MethodPost, "/api/v1/history/import", query, data, &out)
	return out, err
}

// RecordingState says how the recording of readings goes.
func (c *Client) RecordingState(ctx context.Context) (r api.RecordingState, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/history/recording", nil, nil, &r)
	return r, err
}

// RemoveMonth removes what was recorded in a month.
func (c *Client) RemoveMonth(ctx context.Context, month string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/history/months/"+url.PathEscape(month), nil, nil, nil)
}
