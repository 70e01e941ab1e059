package client

import (
	"context"
	"net/http"
	"net/url"

	"arithmon/internal/app/api"
)

// Alarms lists the alarms that stand, with how many there are of each state; of a state when it is named, all with "all".
func (c *Client) Alarms(ctx context.Context, state string, tags ...string) (out api.Alarms, err error) {
	query := url.Values{"tag": tags, "limit": {"10000"}}
	if state != "" {
		query.Set("state", state)
	}
	items := []api.Alarm{}
	for {
		var page api.Alarms
		if err := c.do(ctx, http.MethodGet, "/api/v1/alarms", query, nil, &page); err != nil {
			return out, err
		}
		items, out = append(items, page.Items...), page
		if page.Next == "" {
			out.Items = items
			return out, nil
		}
		query.Set("cursor", page.Next)
	}
}

// AlarmHistory lists what happened to alarms, the newest first, so much at most.
func (c *Client) AlarmHistory(ctx context.Context, query url.Values) ([]api.AlarmEntry, error) {
	var page api.Page[api.AlarmEntry]
	err := c.do(ctx, http.MethodGet, "/api/v1/alarms/history", query, nil, &page)
	return page.Items, err
}

// FollowAlarms calls f with what happens to alarms, until ctx ends.
func (c *Client) FollowAlarms(ctx context.Context, tags []string, f func(api.AlarmEntry) error) error {
	query := url.Values{"tag": tags, "follow": {"true"}}
	return lines(ctx, c, http.MethodGet, "/api/v1/alarms/history?"+query.Encode(), nil, f)
}

// DoAlarms does something to alarms: acknowledge, shelve or unshelve. It returns to how many.
func (c *Client) DoAlarms(ctx context.Context, deed string, what api.AlarmDeed) (n int, err error) {
	var done api.AlarmsDone
	err = c.do(ctx, http.MethodPost, "/api/v1/alarms/"+deed, nil, what, &done)
	return done.Done, err
}
