package scoped

import (
	"context"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/logs"
)

// FindLog returns lines of the log of a device.
func (f *Fleet) FindLog(ctx context.Context, c access.Caller, x logs.Filter) ([]logs.Line, error) {
	if err := f.reach(c, person.Viewer, x.Device); err != nil {
		return nil, err
	}
	return f.o.Logs.Find(ctx, x)
}

// FollowLog is FindLog for somebody who has seen all up to x.After; it waits for what comes.
func (f *Fleet) FollowLog(ctx context.Context, c access.Caller, x logs.Filter) ([]logs.Line, error) {
	if err := f.reach(c, person.Viewer, x.Device); err != nil {
		return nil, err
	}
	return f.o.Logs.Follow(ctx, x)
}

// LogBound says how much of the log of a device is kept.
func (f *Fleet) LogBound(id string) logs.Bound { return f.o.Logs.Bound(id) }
