package scoped

import (
	"context"
	"slices"
	"strings"

	"ullage/core/join"
	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// JoinKeys returns the join keys: all of them for whoever is engineer for all devices,
// and else those that the caller has made.
func (f *Fleet) JoinKeys(c access.Caller) []join.Key {
	return slices.DeleteFunc(f.o.Joining.Keys(), func(k join.Key) bool { return !ownKey(c, k) })
}

func ownKey(c access.Caller, k join.Key) bool {
	return c.MayAll(person.Engineer) || k.MadeBy == c.Name
}

// JoinKey returns one of them.
func (f *Fleet) JoinKey(c access.Caller, name string) (join.Key, error) {
	k, err := f.o.Joining.Key(name)
	if err == nil && !ownKey(c, k) {
		return join.Key{}, fault.New(fault.NotFound, "there is no join key %q", name).On("join key")
	}
	return k, err
}

// MakeJoinKey makes a join key and returns its secret. Whoever is engineer for some
// devices makes keys for those: what they reach is and-ed to it, and follows when that
// changes.
func (f *Fleet) MakeJoinKey(ctx context.Context, c access.Caller, k join.Key) (join.Key, string, error) {
	if err := f.joins(c, &k); err != nil {
		return k, "", err
	}
	return f.o.Joining.Make(ctx, k, c.Name)
}

// joins checks that the caller may make a key, and writes what they reach into it. Names
// of theirs begin with their own, so that none of another's is in the way.
func (f *Fleet) joins(c access.Caller, k *join.Key) error {
	if k.Where = ""; c.MayAll(person.Engineer) {
		return nil
	}
	if !c.Role().Does(person.Engineer) {
		return f.everywhere(c, person.Engineer)
	}
	prefix := strings.ReplaceAll(ownPrefix(c.Name, "_"), "_", "-")
	if !strings.HasPrefix(k.Name, prefix) {
		return fault.New(fault.NotAllowed, "%s is engineer for some devices, and makes join keys whose names begin with %s", c.Name, prefix).
			Then("call it %s%s", prefix, strings.TrimPrefix(k.Name, prefix)).On("join key")
	}
	if _, err := f.Model(c, k.Model); err != nil {
		return err
	}
	k.Where, _ = c.Access(person.Engineer)
	return nil
}

// PutJoinKey changes a join key. Its secret stays.
func (f *Fleet) PutJoinKey(ctx context.Context, c access.Caller, k join.Key, cond noun.If) (noun.Saved[join.Key], error) {
	was, err := f.JoinKey(c, k.Name)
	if err != nil {
		return noun.Saved[join.Key]{}, err
	}
	if err := f.joins(c, &k); err != nil {
		return noun.Saved[join.Key]{}, err
	}
	if c.Name != was.MadeBy { // somebody who reaches everything changes another's: it stays theirs
		k.Where = was.Where
	}
	return f.o.Joining.Put(ctx, k, cond, c.Name)
}

// RevokeJoinKey ends a join key for good.
func (f *Fleet) RevokeJoinKey(ctx context.Context, c access.Caller, name string) (join.Key, error) {
	if _, err := f.JoinKey(c, name); err != nil {
		return join.Key{}, err
	}
	return f.o.Joining.Revoke(ctx, name, c.Name)
}

// RemoveJoinKey takes a join key away.
func (f *Fleet) RemoveJoinKey(ctx context.Context, c access.Caller, name string, cond noun.If) error {
	if _, err := f.JoinKey(c, name); err != nil {
		return err
	}
	return f.o.Joining.Remove(ctx, name, cond, c.Name)
}

// JoinLabels returns the secret of each of some serials.
func (f *Fleet) JoinLabels(c access.Caller, name string, serials []string) (join.Key, []join.Label, error) {
	if _, err := f.JoinKey(c, name); err != nil {
		return join.Key{}, nil, err
	}
	return f.o.Joining.Labels(name, serials)
}

// mayLetIn reports whether the caller may decide about a request: they reach the device
// that is there, or the one that would be made.
func mayLetIn(c access.Caller, r join.Request) bool {
	if r.Again || r.State == join.Joined {
		return c.May(person.Engineer, r.Device)
	}
	return c.Keeps(person.Engineer, devices.Device{ID: r.Device, Model: r.Model, Labels: r.Labels})
}

// JoinRequests returns who asked to join and the caller may let in, the latest first.
func (f *Fleet) JoinRequests(c access.Caller) []join.Request {
	return slices.DeleteFunc(f.o.Joining.Requests(), func(r join.Request) bool { return !mayLetIn(c, r) })
}

// JoinRequest returns one of them.
func (f *Fleet) JoinRequest(c access.Caller, id string) (join.Request, error) {
	r, err := f.o.Joining.Request(id)
	if err == nil && !mayLetIn(c, r) {
		return join.Request{}, fault.New(fault.NotFound, "there is no request to join %q", id).On("join request")
	}
	return r, err
}

// DecideJoins lets some of them in, or refuses them, all or none.
func (f *Fleet) DecideJoins(ctx context.Context, c access.Caller, ids []string, admit bool, reason string) (int, error) {
	mine := map[string]bool{}
	for _, r := range f.JoinRequests(c) {
		mine[r.ID] = true
	}
	for _, id := range ids {
		if !mine[id] {
			return 0, fault.New(fault.NotFound, "there is no request to join %q; did the device ask anew since?", id).Then("look at the list again").On("join request")
		}
	}
	return f.o.Joining.Decide(ctx, ids, admit, reason, c.Name)
}
