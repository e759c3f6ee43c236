package scoped

import (
	"context"
	"time"

	"ullage/core/maintenance"
	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/fault"
	"ullage/fleet/maintenances"
	"ullage/fleet/noun"
)

// seeing tells which devices a caller sees; nil for all.
func seeing(c access.Caller) func(string) bool {
	if c.MayAll(person.Viewer) {
		return nil
	}
	return c.Sees
}

// Maintenances returns those that concern a device which the caller sees, by name.
func (f *Fleet) Maintenances(c access.Caller) []maintenance.Maintenance {
	f.o.Maintenances.Refresh()
	sees := seeing(c)
	out := []maintenance.Maintenance{}
	for _, x := range f.o.Maintenances.List() {
		x = f.o.Maintenances.Shown(x, sees)
		if sees == nil || x.By == c.Name || x.Count > 0 {
			out = append(out, hideSelector(c, x))
		}
	}
	return out
}

// hideSelector leaves out of a maintenance what may name devices that are not seen.
func hideSelector(c access.Caller, x maintenance.Maintenance) maintenance.Maintenance {
	if !c.MayAll(person.Viewer) && x.By != c.Name {
		x.Devices, x.Why, x.By = "", "", ""
	}
	return x
}

// Maintenance returns one of those.
func (f *Fleet) Maintenance(c access.Caller, name string) (maintenance.Maintenance, error) {
	for _, x := range f.Maintenances(c) {
		if x.Name == name {
			return x, nil
		}
	}
	return maintenance.Maintenance{}, f.o.Maintenances.Unknown(name)
}

// PutMaintenance makes a maintenance, or changes the one of its name. Whoever operates
// some devices makes it for those.
func (f *Fleet) PutMaintenance(ctx context.Context, c access.Caller, x maintenance.Maintenance, cond noun.If) (noun.Saved[maintenance.Maintenance], error) {
	if err := f.ownMaintenance(c, x.Name); err != nil {
		return noun.Saved[maintenance.Maintenance]{}, err
	}
	if err := x.Check(); err != nil {
		return noun.Saved[maintenance.Maintenance]{}, fault.New(fault.Invalid, "%s", err)
	}
	if _, err := f.Expressions(c).Where(x.Devices); err != nil {
		return noun.Saved[maintenance.Maintenance]{}, err
	}
	saved, err := f.o.Maintenances.Put(ctx, x, cond, c.Name, c.MayAll(person.Operator))
	if err == nil {
		f.o.Maintenances.Refresh()
		saved.Value = f.o.Maintenances.Shown(saved.Value, seeing(c))
	}
	return saved, err
}

// ownMaintenance returns an error unless the caller may change a maintenance.
func (f *Fleet) ownMaintenance(c access.Caller, name string) error {
	old, exists := f.o.Maintenances.Find(name)
	switch {
	case c.MayAll(person.Operator):
		return nil
	case !c.Role().Does(person.Operator):
		return f.everywhere(c, person.Operator)
	case exists && old.By != c.Name:
		return fault.New(fault.NotAllowed, "the maintenance %s is somebody else's, or there is none that you may change", name).Then("choose another name").On("maintenance")
	}
	return nil
}

// RemoveMaintenance takes a maintenance away; what it kept aside calls again.
func (f *Fleet) RemoveMaintenance(ctx context.Context, c access.Caller, name string, cond noun.If) error {
	if _, err := f.Maintenance(c, name); err != nil {
		return err
	}
	if err := f.ownMaintenance(c, name); err != nil {
		return err
	}
	err := f.o.Maintenances.Remove(ctx, name, cond, c.Name)
	f.o.Maintenances.Refresh()
	return err
}

// Coming returns the maintenance that is on, and that begins within a time.
func (f *Fleet) Coming(c access.Caller, within time.Duration) []maintenances.Coming {
	f.o.Maintenances.Refresh()
	out := f.o.Maintenances.Coming(within, seeing(c))
	for i := range out {
		out[i].Maintenance = hideSelector(c, out[i].Maintenance)
	}
	return out
}
