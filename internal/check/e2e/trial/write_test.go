package trial

import (
	"context"

	"arithmon/internal/core/access"
	"arithmon/internal/core/codec"
	"arithmon/internal/live/control"
	"arithmon/internal/live/engine"
	"arithmon/internal/record/store"
)

// unrecorded keeps no records: a trial has the device's truth.
type unrecorded struct{}

func (unrecorded) BeginWrite(context.Context, store.WriteRecord) (int64, error) { return 1, nil }

func (unrecorded) EndWrite(context.Context, int64, store.WriteRecord) error { return nil }

func (unrecorded) Later(int64, store.WriteRecord) {}

// write writes a value to a point.
func write(ctx context.Context, e *engine.Engine, tag string, v codec.Value) (control.Write, error) {
	return control.New(e, unrecorded{}, nil).Write(ctx, access.Principal{Account: "trial", Role: access.Engineer}, tag, v)
}
