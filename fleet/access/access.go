// Package access answers whether somebody may do something to a device. What each
// access reaches is worked out once and kept up to date as devices and grants
// change, so that an answer is a look into a map.
package access

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"ullage/core/person"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
)

// Caller is who asks: a person, or a program with a key. It is an argument of every
// use case that people and programs have, and what it may is looked up at each
// question, so that one which is kept by a stream loses and gains devices while it
// is open. The zero Caller may nothing.
type Caller struct {
	// Name is what the journal calls it.
	Name string
	// From is the address that it asks from; empty where that is not known.
	From string

	register *Register
	whole    bool
}

// Whole is a caller who may everything, such as the service itself.
func Whole(name string) Caller { return Caller{Name: name, whole: true} }

// Register holds what everybody may.
type Register struct {
	devices *devices.Registry

	mu      sync.RWMutex
	holders map[string]holder // by the name of a Caller
	reaches map[string]*reach // by the canonical source of an access
	news    chan struct{}     // closed at the next change
}

// holder is somebody with grants.
type holder struct {
	most  person.Role // the greatest of the roles
	whole person.Role // the greatest that is for all devices
	some  []limited   // those for some devices that are more than that
}

type limited struct {
	role  person.Role
	reach *reach
}

// reach is an access with the devices that it reaches now.
type reach struct {
	access  *person.Access
	devices map[string]struct{}
	held    int // by how many grants
}

// New returns a Register in which nobody may anything. It must be made before
// devices change.
func New(ds *devices.Registry) *Register {
	r := &Register{devices: ds, holders: map[string]holder{}, reaches: map[string]*reach{}, news: make(chan struct{})}
	ds.Changing(func(tx *commit.Tx, old, d devices.Device) error {
		tx.After(func() { r.moved(old, d) })
		return nil
	})
	return r
}

// Grant says what somebody may from now on; nothing without grants. An access that
// does not compile reaches nothing.
func (r *Register) Grant(name string, grants []person.Grant) {
	var h holder
	for _, g := range grants {
		if g.Access == "" {
			if h.whole == "" || g.Role.Does(h.whole) {
				h.whole = g.Role
			}
		}
	}
	h.most = person.Most(grants)
	compiled := make([]*person.Access, len(grants))
	for i, g := range grants {
		if g.Access != "" && !h.whole.Does(g.Role) {
			compiled[i], _ = person.NewAccess(g.Access) // it was checked when it was granted
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for i, a := range compiled {
		if a != nil {
			h.some = append(h.some, limited{grants[i].Role, r.hold(a)})
		}
	}
	for _, l := range r.holders[name].some {
		if l.reach.held--; l.reach.held == 0 {
			delete(r.reaches, l.reach.access.Source())
		}
	}
	if r.holders[name] = h; len(grants) == 0 {
		delete(r.holders, name)
	}
	r.tell()
}

// hold returns the reach of an access, which others may hold too; r is locked.
func (r *Register) hold(a *person.Access) *reach {
	x := r.reaches[a.Source()]
	if x == nil {
		x = &reach{access: a, devices: map[string]struct{}{}}
		for _, d := range r.devices.List() {
			if a.Reaches(d.ID, d.Model, d.Labels) {
				x.devices[d.ID] = struct{}{}
			}
		}
		r.reaches[a.Source()] = x
	}
	x.held++
	return x
}

// moved takes in that a device is another one.
func (r *Register) moved(old, d devices.Device) {
	r.mu.Lock()
	defer r.mu.Unlock()
	changed := false
	for _, x := range r.reaches {
		if old.ID != "" && old.Model == d.Model && !slices.ContainsFunc(x.access.Labels(), func(k string) bool {
			return old.Labels[k] != d.Labels[k]
		}) {
			continue
		}
		_, was := x.devices[d.ID]
		is := x.access.Reaches(d.ID, d.Model, d.Labels)
		if is {
			x.devices[d.ID] = struct{}{}
		} else {
			delete(x.devices, d.ID)
		}
		changed = changed || was != is
	}
	if changed {
		r.tell()
	}
}

// tell lets go those that wait for a change; r is locked.
func (r *Register) tell() {
	close(r.news)
	r.news = make(chan struct{})
}

// Changed returns a channel that is closed when somebody may something else.
func (r *Register) Changed() <-chan struct{} {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.news
}

// Caller returns the caller of a name.
func (r *Register) Caller(name, from string) Caller {
	return Caller{Name: name, From: from, register: r}
}

// Labels returns the keys of labels that an access looks at.
func (r *Register) Labels() map[string]bool {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out := map[string]bool{}
	for _, x := range r.reaches {
		for _, k := range x.access.Labels() {
			out[k] = true
		}
	}
	return out
}

// Reached returns the devices that an access reaches now, by id.
func (r *Register) Reached(a *person.Access) []string {
	var out []string
	for _, d := range r.devices.List() {
		if a.Reaches(d.ID, d.Model, d.Labels) {
			out = append(out, d.ID)
		}
	}
	slices.Sort(out)
	return out
}

// May reports whether the caller may do to a device what needs a role: it is the one
// answer to that question.
func (c Caller) May(needs person.Role, device string) bool {
	if c.whole || c.register == nil {
		return c.whole
	}
	c.register.mu.RLock()
	defer c.register.mu.RUnlock()
	h := c.register.holders[c.Name]
	if h.whole.Does(needs) {
		return true
	}
	for _, l := range h.some {
		if l.role.Does(needs) {
			if _, reached := l.reach.devices[device]; reached {
				return true
			}
		}
	}
	return false
}

// Sees reports whether the caller may look at a device.
func (c Caller) Sees(device string) bool { return c.May(person.Viewer, device) }

// MayAll reports whether the caller may do what needs a role to all devices there are
// and will be.
func (c Caller) MayAll(needs person.Role) bool {
	if c.whole || c.register == nil {
		return c.whole
	}
	c.register.mu.RLock()
	defer c.register.mu.RUnlock()
	return c.register.holders[c.Name].whole.Does(needs)
}

// Role returns the greatest role that the caller has, for some devices or for all.
func (c Caller) Role() person.Role {
	if c.whole {
		return person.Owner
	}
	if c.register == nil {
		return ""
	}
	c.register.mu.RLock()
	defer c.register.mu.RUnlock()
	return c.register.holders[c.Name].most
}

// Devices returns the ids of the devices to which the caller may do what needs a
// role, in order; with all, every device, and no list of them.
func (c Caller) Devices(needs person.Role) (ids []string, all bool) {
	if c.MayAll(needs) {
		return nil, true
	}
	return slices.Sorted(maps.Keys(c.Set(needs))), false
}

// Set is Devices as a set; nil for every device.
func (c Caller) Set(needs person.Role) map[string]bool {
	if c.MayAll(needs) {
		return nil
	}
	out := map[string]bool{}
	if c.register == nil {
		return out
	}
	c.register.mu.RLock()
	defer c.register.mu.RUnlock()
	for _, l := range c.register.holders[c.Name].some {
		if l.role.Does(needs) {
			for id := range l.reach.devices {
				out[id] = true
			}
		}
	}
	return out
}

// Keeps reports whether the caller may still do to a device what needs a role once it
// has other labels.
func (c Caller) Keeps(needs person.Role, d devices.Device) bool {
	if c.MayAll(needs) {
		return true
	}
	if c.register == nil {
		return false
	}
	c.register.mu.RLock()
	defer c.register.mu.RUnlock()
	return slices.ContainsFunc(c.register.holders[c.Name].some, func(l limited) bool {
		return l.role.Does(needs) && l.reach.access.Reaches(d.ID, d.Model, d.Labels)
	})
}

// Access tells in one condition which devices the caller may do to what needs a role;
// all is true for every device, and the condition is false where there is none.
func (c Caller) Access(needs person.Role) (source string, all bool) {
	if c.MayAll(needs) {
		return "", true
	}
	source = "false"
	if c.register == nil {
		return source, false
	}
	c.register.mu.RLock()
	defer c.register.mu.RUnlock()
	var parts []string
	for _, l := range c.register.holders[c.Name].some {
		if l.role.Does(needs) {
			parts = append(parts, l.reach.access.Source())
		}
	}
	switch len(parts) {
	case 0:
		return source, false
	case 1:
		return parts[0], false
	}
	return "(" + strings.Join(parts, ") or (") + ")", false
}

// Changed returns a channel that is closed when somebody may something else than now.
func (c Caller) Changed() <-chan struct{} {
	if c.register == nil {
		return nil
	}
	return c.register.Changed()
}
