package client

import (
	"context"
	"net/http"

	"arithmon/internal/app/api"
	"arithmon/internal/core/site"
)

// Boards lists the boards by name.
func (c *Client) Boards(ctx context.Context) ([]site.Board, error) {
	return all[site.Board](ctx, c, plural(site.KindBoard), nil)
}

// CopyBoard makes a board like another one, with the points of another branch of tags.
func (c *Client) CopyBoard(ctx context.Context, name string, how api.BoardCopy) (b site.Board, err error) {
	err = c.do(ctx, http.MethodPost, entityPath(site.KindBoard, name)+"/copy", nil, how, &b)
	return b, err
}

// MakeBoard makes a board of a station: a display for each of its points.
func (c *Client) MakeBoard(ctx context.Context, station, name string) (b site.Board, err error) {
	err = c.do(ctx, http.MethodPost, entityPath(site.KindStation, station)+"/board", nil, api.NewBoard{Name: name}, &b)
	return b, err
}
