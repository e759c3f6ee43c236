package scoped

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"ullage/core/geo"
	"ullage/core/health"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/person"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/commands"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/present"
	"ullage/fleet/settings"
)

type modelOf = model.Model

// hidden leaves out of a device what names another that the caller does not see.
func hidden(c access.Caller, d *present.Device) *present.Device {
	if d.Hub == "" || c.Sees(d.Hub) {
		return d
	}
	x := *d
	x.Hub = ""
	return &x
}

// Devices returns every device now, by id.
func (f *Fleet) Devices(c access.Caller) []*present.Device {
	ids, all := c.Devices(person.Viewer)
	if all {
		out, _ := f.o.Present.Since(0)
		return out
	}
	return f.Some(c, ids)
}

// Chosen returns the devices that Among has chosen.
func (f *Fleet) Chosen(c access.Caller, among []string) []*present.Device {
	if among == nil {
		return f.Devices(c)
	}
	return f.Some(c, among)
}

// Some returns those of some devices that the caller sees, in the order of the ids.
func (f *Fleet) Some(c access.Caller, ids []string) []*present.Device {
	out := f.o.Present.Some(slices.DeleteFunc(slices.Clone(ids), func(id string) bool { return !c.Sees(id) }))
	for i, d := range out {
		out[i] = hidden(c, d)
	}
	return out
}

// Since returns the devices that have changed after a seq, by id, and the seq to ask
// with next time; see present.Fleet.
func (f *Fleet) Since(c access.Caller, seq uint64) ([]*present.Device, uint64) {
	changed, next := f.o.Present.Since(seq)
	if c.MayAll(person.Viewer) {
		return changed, next
	}
	out := changed[:0:0]
	for _, d := range changed {
		if c.Sees(d.ID) {
			out = append(out, hidden(c, d))
		}
	}
	return out, next
}

// Seq returns the seq to ask Since with from now on.
func (f *Fleet) Seq() uint64 { return f.o.Present.Seq() }

// Remembers reports whether Since knows all that has changed after a seq.
func (f *Fleet) Remembers(seq uint64) bool { return f.o.Present.Remembers(seq) }

// News returns a channel that is closed when any device changes.
func (f *Fleet) News() <-chan struct{} { return f.o.Present.Changed() }

// Device returns one device now.
func (f *Fleet) Device(c access.Caller, id string) (*present.Device, error) {
	if err := f.reach(c, person.Viewer, id); err != nil {
		return nil, err
	}
	d, ok := f.o.Present.Get(id)
	if !ok {
		return nil, devices.Unknown(id)
	}
	return hidden(c, d), nil
}

// Registered returns a device as people made it, and its model.
func (f *Fleet) Registered(c access.Caller, id string) (devices.Device, *model.Model, error) {
	if err := f.reach(c, person.Viewer, id); err != nil {
		return devices.Device{}, nil, err
	}
	d, err := f.o.Devices.Get(id)
	if err != nil {
		return d, nil, err
	}
	if d.Hub != "" && !c.Sees(d.Hub) {
		d.Hub = ""
	}
	m, err := f.o.Models.Of(d.Model, d.Version)
	return d, m, err
}

// Counts tells how many devices there are that are not retired, and how many of them
// are on line.
func (f *Fleet) Counts(c access.Caller) (all, online int) {
	for _, d := range f.Devices(c) {
		if d.Status == devices.Retired {
			continue
		}
		all++
		if d.Link == health.Online {
			online++
		}
	}
	return all, online
}

// All is how many devices the caller sees, retired ones too.
func (f *Fleet) All(c access.Caller) int {
	ids, all := c.Devices(person.Viewer)
	if all {
		return f.o.Devices.Count()
	}
	return len(ids)
}

// Count is how many devices there are that are not retired.
func (f *Fleet) Count(c access.Caller) int {
	ids, all := c.Devices(person.Viewer)
	if all {
		return f.o.Devices.Count() - f.o.Devices.Retired()
	}
	n := 0
	for _, id := range ids {
		if d, err := f.o.Devices.Get(id); err == nil && d.Status != devices.Retired {
			n++
		}
	}
	return n
}

// Create onboards a device. Whoever does it may make any id there is.
func (f *Fleet) Create(ctx context.Context, c access.Caller, n devices.New, w devices.Wanted) (devices.Device, devices.Given, error) {
	if err := f.mayMake(c, n)[0]; err != nil {
		return devices.Device{}, devices.Given{}, err
	}
	return f.o.Devices.Onboard(ctx, n, w, c.Name)
}

// mayMake says of each of some devices that a caller is to onboard why they may not, nil where
// they may: whoever is engineer for some devices onboards those that are among them from the
// beginning, and is told nothing of others.
func (f *Fleet) mayMake(c access.Caller, ns ...devices.New) []error {
	out := make([]error, len(ns))
	if c.MayAll(person.Engineer) {
		return out
	}
	coming := map[string]bool{}
	for i, n := range ns {
		out[i] = f.mayMakeOne(c, n, coming)
		coming[n.ID] = coming[n.ID] || out[i] == nil
	}
	return out
}

func (f *Fleet) mayMakeOne(c access.Caller, n devices.New, coming map[string]bool) error {
	if !c.Role().Does(person.Engineer) {
		return f.everywhere(c, person.Engineer)
	}
	if !c.Keeps(person.Engineer, devices.Device{ID: n.ID, Model: n.Model, Labels: n.Labels}) {
		reach, _ := c.Access(person.Engineer)
		return fault.New(fault.NotAllowed, "with this id, model and labels %s would not be within what %s may change: %s", value.Clip(n.ID, 63), c.Name, value.Clip(reach, 200)).
			Then("give it the labels that make it one of them, or ask somebody who is engineer for all devices").On("labels")
	}
	if f.o.Devices.Knows(n.ID) && !c.Sees(n.ID) {
		return fault.New(fault.Conflict, "the id %s is not free", n.ID).Then("choose another id").On("device")
	}
	if n.Hub != "" && !coming[n.Hub] && !c.Sees(n.Hub) {
		return devices.NoHub(n.Hub, n.ID)
	}
	if _, err := f.o.Models.Get(n.Model); err != nil {
		_, err = f.Model(c, n.Model) // which names those alone that they know
		return err
	}
	return nil
}

// CreateMany onboards some devices, all or none.
func (f *Fleet) CreateMany(ctx context.Context, c access.Caller, ns []devices.New, ws []devices.Wanted) ([]Made, error) {
	for _, err := range f.mayMake(c, ns...) {
		if err != nil {
			return nil, err
		}
	}
	ds, given, err := f.o.Devices.OnboardMany(ctx, ns, ws, c.Name)
	if err != nil {
		return nil, err
	}
	out := make([]Made, len(ds))
	for i, d := range ds {
		out[i] = Made{d, given[i], nil}
		if out[i].Model, err = f.o.Models.Of(d.Model, d.Version); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Made is a device that the caller has just onboarded, which they may not be known to see yet.
type Made struct {
	devices.Device
	Given devices.Given
	Model *model.Model
}

// PlanMany says what is wrong with each of some devices that are to be onboarded.
func (f *Fleet) PlanMany(c access.Caller, ns []devices.New) ([]error, error) {
	if !c.Role().Does(person.Engineer) {
		return nil, f.everywhere(c, person.Engineer)
	}
	out := f.mayMake(c, ns...)
	for i, err := range f.o.Devices.Plan(ns) {
		if out[i] == nil {
			out[i] = err
		}
	}
	return out, nil
}

// Renew gives a device another credential.
func (f *Fleet) Renew(ctx context.Context, c access.Caller, id string, w devices.Wanted, keep bool) (devices.Given, error) {
	if err := f.reach(c, person.Engineer, id); err != nil {
		return devices.Given{}, err
	}
	return f.o.Devices.Renew(ctx, id, w, keep, c.Name)
}

// RenewMany gives some devices another credential each; those that the caller does not
// reach are refused first, and nothing is done.
func (f *Fleet) RenewMany(ctx context.Context, c access.Caller, ids []string, w devices.Wanted, keep bool) ([]devices.Given, []error, error) {
	if len(ids) > devices.MaxMany {
		return nil, nil, fault.New(fault.TooLarge, "%d devices are too many at once; %d are the most", len(ids), devices.MaxMany).Then("send them in parts")
	}
	for _, id := range ids {
		if err := f.reach(c, person.Engineer, id); err != nil {
			return nil, nil, err
		}
	}
	given, errs := f.o.Devices.RenewMany(ctx, ids, w, keep, c.Name)
	return given, errs, nil
}

// Credentials returns those of a device, the newest first, and how each is used.
func (f *Fleet) Credentials(c access.Caller, id string) ([]devices.Credential, []devices.Use, error) {
	if err := f.reach(c, person.Engineer, id); err != nil {
		return nil, nil, err
	}
	cs := f.o.Devices.Credentials(id)
	us := make([]devices.Use, len(cs))
	for i, x := range cs {
		us[i] = f.o.Devices.UseOf(x.ID)
	}
	return cs, us, nil
}

// Replace gives a device new hardware, and a credential for it.
func (f *Fleet) Replace(ctx context.Context, c access.Caller, id, serial string, w devices.Wanted) (devices.Given, error) {
	if err := f.reach(c, person.Engineer, id); err != nil {
		return devices.Given{}, err
	}
	return f.o.Devices.Replace(ctx, id, serial, w, c.Name)
}

// Revoke ends a credential of a device.
func (f *Fleet) Revoke(ctx context.Context, c access.Caller, id, credential string) error {
	if err := f.reach(c, person.Engineer, id); err != nil {
		return err
	}
	return f.o.Devices.Revoke(ctx, id, credential, c.Name)
}

// Label sets and removes labels. Whoever does it has the device before and after:
// labels say who reaches it, and nobody gives away what they do not hold, nor takes
// what they do not have.
func (f *Fleet) Label(ctx context.Context, c access.Caller, id string, labels map[string]string) error {
	if err := f.reach(c, person.Engineer, id); err != nil {
		return err
	}
	d, err := f.o.Devices.Get(id)
	if err != nil {
		return err
	}
	next := map[string]string{}
	for k, v := range d.Labels {
		next[k] = v
	}
	for k, v := range labels {
		if next[k] = v; v == "" {
			delete(next, k)
		}
	}
	d.Labels = next
	if !c.Keeps(person.Engineer, d) {
		return fault.New(fault.NotAllowed, "with these labels %s would not be within what %s may change any more", id, c.Name).
			Then("ask somebody to do it who has the role engineer for it before and after").On("labels")
	}
	_, err = f.o.Devices.Label(ctx, id, labels, c.Name)
	return err
}

// Rename gives a device another name for people.
func (f *Fleet) Rename(ctx context.Context, c access.Caller, id, name string) error {
	if err := f.reach(c, person.Engineer, id); err != nil {
		return err
	}
	_, err := f.o.Devices.Rename(ctx, id, name, c.Name)
	return err
}

// Place says where a device stands; nil takes that back.
func (f *Fleet) Place(ctx context.Context, c access.Caller, id string, at *geo.Position) error {
	if err := f.reach(c, person.Engineer, id); err != nil {
		return err
	}
	_, err := f.o.Devices.Place(ctx, id, at, c.Name)
	return err
}

// Behind says which device carries a device.
func (f *Fleet) Behind(ctx context.Context, c access.Caller, id, hub string) error {
	if err := f.reach(c, person.Engineer, id); err != nil {
		return err
	}
	if hub != "" && hub != id {
		h, err := f.o.Devices.Get(hub)
		if err != nil || !c.Sees(hub) || h.Hub != "" && !c.Sees(h.Hub) {
			return devices.NoHub(hub, id)
		}
	}
	_, err := f.o.Devices.Behind(ctx, id, hub, c.Name)
	return err
}

// SetStatus suspends a device, lets it in again, or retires it.
func (f *Fleet) SetStatus(ctx context.Context, c access.Caller, id string, s devices.Status) error {
	if err := f.reach(c, person.Engineer, id); err != nil {
		return err
	}
	_, err := f.o.Devices.SetStatus(ctx, id, s, c.Name)
	return err
}

// Settings returns the settings of a device.
func (f *Fleet) Settings(c access.Caller, id string) (settings.State, *model.Model, error) {
	if err := f.reach(c, person.Viewer, id); err != nil {
		return settings.State{}, nil, err
	}
	return f.o.Settings.Of(id)
}

// Waiting returns what is intended for a device that has had as many revisions in this hour
// as it may, and when it gets the next one; the zero time where it does not wait.
func (f *Fleet) Waiting(c access.Caller, id string) (layering.Settings, time.Time) {
	until := f.o.Settings.Waits(id)
	if until.IsZero() || f.reach(c, person.Viewer, id) != nil {
		return nil, time.Time{}
	}
	wanted, err := f.o.Settings.Wanted(id)
	if err != nil {
		return nil, time.Time{}
	}
	return wanted, until
}

// Origins says where each intended value of a device comes from.
func (f *Fleet) Origins(c access.Caller, id string) map[string]layering.Origin {
	if f.reach(c, person.Viewer, id) != nil {
		return nil
	}
	out, err := f.o.Settings.Origins(id)
	if err != nil {
		return nil
	}
	return out
}

// Set sets overrides of settings on a device, and takes them off.
func (f *Fleet) Set(ctx context.Context, c access.Caller, id string, set map[string]any, unset []string, until time.Time) (settings.State, error) {
	if err := f.reach(c, person.Operator, id); err != nil {
		return settings.State{}, err
	}
	return f.o.Settings.SetUntil(ctx, id, set, unset, until, c.Name)
}

// SetAgain sends a device what is intended for it once more.
func (f *Fleet) SetAgain(ctx context.Context, c access.Caller, id string) (settings.State, error) {
	if err := f.reach(c, person.Operator, id); err != nil {
		return settings.State{}, err
	}
	return f.o.Settings.Again(ctx, id, c.Name)
}

// Pick returns the ids of a list, or those for which a condition is true, or of
// both; retired ones are left out of a condition.
func (f *Fleet) Pick(c access.Caller, ids []string, where string) ([]string, error) {
	for _, id := range ids {
		if err := f.reach(c, person.Operator, id); err != nil {
			return nil, err
		}
	}
	if where == "" {
		return ids, nil
	}
	among, _, err := f.Among(c, where)
	if err != nil {
		return nil, err
	}
	if ids == nil {
		for id := range among {
			ids = append(ids, id)
		}
		slices.Sort(ids)
	}
	return slices.DeleteFunc(slices.Clone(ids), func(id string) bool {
		d, err := f.o.Devices.Get(id)
		return !among[id] || !c.May(person.Operator, id) || err != nil || d.Status == devices.Retired
	}), nil
}

// CheckMany tells what is wrong with a change of the settings of chosen devices.
func (f *Fleet) CheckMany(c access.Caller, ids []string, set map[string]any, unset []string) error {
	if _, err := f.Pick(c, ids, ""); err != nil {
		return err
	}
	_, err := f.o.Settings.CheckMany(ids, set, unset)
	return err
}

// SetMany sets settings of chosen devices.
func (f *Fleet) SetMany(ctx context.Context, c access.Caller, ids []string, set map[string]any, unset []string, until time.Time) (settings.Job, error) {
	if _, err := f.Pick(c, ids, ""); err != nil {
		return settings.Job{}, err
	}
	return f.o.Settings.SetManyUntil(ctx, ids, set, unset, until, c.Name)
}

// Job returns a change of the settings of many devices: one's own, or anybody's for
// whoever sees all devices.
func (f *Fleet) Job(c access.Caller, id string) (settings.Job, error) {
	j, err := f.o.Settings.Job(id)
	if err == nil && j.By != c.Name && !c.MayAll(person.Viewer) {
		return settings.Job{}, settings.NoJob(id)
	}
	return j, err
}

// Give gives a command to a device.
func (f *Fleet) Give(ctx context.Context, c access.Caller, id, name string, input json.RawMessage, e commands.Expiry) (commands.Command, error) {
	if err := f.reach(c, person.Operator, id); err != nil {
		return commands.Command{}, err
	}
	return f.o.Commands.Give(ctx, id, name, input, e, c.Name)
}

// Await waits for the reply to a command.
func (f *Fleet) Await(ctx context.Context, x commands.Command) (commands.Command, error) {
	return f.o.Commands.Await(ctx, x)
}

// Commands returns commands, the newest first.
func (f *Fleet) Commands(ctx context.Context, c access.Caller, where string, x commands.Filter) ([]commands.Command, error) {
	var err error
	if _, x.Among, err = f.Among(c, where); err != nil {
		return nil, err
	}
	return f.o.Commands.List(ctx, x)
}

// Command returns one command of a device.
func (f *Fleet) Command(ctx context.Context, c access.Caller, device, id string) (commands.Command, error) {
	if err := f.reach(c, person.Viewer, device); err != nil {
		return commands.Command{}, err
	}
	return f.o.Commands.Get(ctx, device, id)
}

// Withdraw gives a command up before its time.
func (f *Fleet) Withdraw(ctx context.Context, c access.Caller, device, id string) (commands.Command, error) {
	if err := f.reach(c, person.Operator, device); err != nil {
		return commands.Command{}, err
	}
	return f.o.Commands.Withdraw(ctx, device, id, c.Name)
}

// Event reports whether an event of a device is one that its model has.
func (f *Fleet) Event(c access.Caller, device, name string) error {
	_, m, err := f.Registered(c, device)
	if err != nil {
		return err
	}
	if _, ok := m.Event(name); !ok {
		return fault.New(fault.NotFound, "%s has no event %s", m, name).Then("see what it has in GET /api/v1/models/%s", m.Name)
	}
	return nil
}
