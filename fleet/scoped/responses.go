package scoped

import (
	"context"
	"slices"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/responses"
)

// Responses returns what rules keep on devices that the caller sees, the newest first, and
// whether they act at all.
func (f *Fleet) Responses(c access.Caller) ([]responses.Entry, responses.Switch) {
	out := []responses.Entry{}
	all := c.MayAll(person.Viewer)
	for _, e := range f.o.Responses.List() {
		if !all {
			e.Devices = slices.DeleteFunc(slices.Clone(e.Devices), func(id string) bool { return !c.Sees(id) })
			if len(e.Devices) == 0 {
				continue
			}
			if d, g := e.Subject, ""; !c.Sees(d) {
				e.Subject, e.Alarm, e.ID = g, "", ""
			}
		}
		out = append(out, e)
	}
	s := f.o.Responses.Switch()
	if !all {
		s.By, s.Why = "", ""
	}
	return out, s
}

// ReleaseResponse takes what a response keeps off its devices.
func (f *Fleet) ReleaseResponse(ctx context.Context, c access.Caller, id string) (responses.Entry, error) {
	for _, e := range f.o.Responses.List() {
		if e.ID != id {
			continue
		}
		for _, device := range e.Devices {
			if !c.Sees(device) {
				return responses.Entry{}, responses.Unknown(id)
			}
			if err := f.reach(c, person.Operator, device); err != nil {
				return responses.Entry{}, err
			}
		}
		return f.o.Responses.Release(ctx, id, c.Name)
	}
	return responses.Entry{}, responses.Unknown(id)
}

// TurnResponses stops all responses, or lets them act again.
func (f *Fleet) TurnResponses(ctx context.Context, c access.Caller, off, release bool, why string) (responses.Switch, error) {
	if err := f.everywhere(c, person.Operator); err != nil {
		return responses.Switch{}, err
	}
	was := f.o.Responses.Switch()
	s, err := f.o.Responses.Turn(ctx, off, release, why, c.Name)
	if err == nil && was.Off && !off {
		f.o.Alarms.Respond()
	}
	return s, err
}
