package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
	"arithmon/internal/core/tie"
)

// Templates lists the templates by name.
func (c *Client) Templates(ctx context.Context) ([]site.Template, error) {
	return all[site.Template](ctx, c, plural(site.KindTemplate), nil)
}

// ChangeTemplate changes some fields of a template, and what follows in its stations, or says what that would be.
func (c *Client) ChangeTemplate(ctx context.Context, name string, fields any, dryRun bool) (sum api.ChangeSummary, err error) {
	err = c.do(ctx, http.MethodPost, entityPath(site.KindTemplate, name)+"/change", url.Values{"dry_run": {fmt.Sprint(dryRun)}}, fields, &sum)
	return sum, err
}

// MakeTemplate makes a template from a station.
func (c *Client) MakeTemplate(ctx context.Context, m tie.Making) (t site.Template, err error) {
	err = c.do(ctx, http.MethodPost, entityPath(site.KindStation, m.Station)+"/template", nil, m, &t)
	return t, err
}

// Tied lists the stations that are made from a template.
func (c *Client) Tied(ctx context.Context, template string) ([]api.Tied, error) {
	return all[api.Tied](ctx, c, entityPath(site.KindTemplate, template)+"/stations", nil)
}

// Own lists what a station has otherwise than its template.
func (c *Client) Own(ctx context.Context, station string) ([]tie.Difference, error) {
	return all[tie.Difference](ctx, c, entityPath(site.KindStation, station)+"/own", nil)
}

// Conform gives up what a station has otherwise than its template, or says what that would change.
func (c *Client) Conform(ctx context.Context, station string, what api.Conform) (sum api.ChangeSummary, err error) {
	err = c.do(ctx, http.MethodPost, entityPath(site.KindStation, station)+"/conform", nil, what, &sum)
	return sum, err
}

// ExportTemplates returns a site file of templates alone.
func (c *Client) ExportTemplates(ctx context.Context, patterns ...string) (file []byte, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/export", url.Values{"template": patterns}, nil, &file)
	return file, err
}

// ImportTemplates takes over the templates of a site file, or says what that would change; name is for messages.
func (c *Client) ImportTemplates(ctx context.Context, name string, file []byte, dryRun bool) (sum api.ChangeSummary, err error) {
	err = c.do(ctx, http.MethodPost, "/api/v1/apply", url.Values{"templates": {"true"}, "dry_run": {fmt.Sprint(dryRun)}, "file": {name}}, file, &sum)
	return sum, err
}
