package scoped

import (
	"context"
	"maps"

	"ullage/core/person"
	"ullage/core/site"
	"ullage/fleet/access"
	"ullage/fleet/noun"
	"ullage/fleet/sites"
)

// countAt counts the devices of a site that the caller sees.
func (f *Fleet) countAt(c access.Caller, name string) (n int) {
	if c.MayAll(person.Viewer) {
		return f.o.Devices.CountAtSite(name)
	}
	for _, id := range f.o.Devices.AtSite(name) {
		if c.Sees(id) {
			n++
		}
	}
	return n
}

// Sites returns the sites, by name: all of them, or those at which there is a device
// that the caller sees.
func (f *Fleet) Sites(c access.Caller) []site.Site {
	out := []site.Site{}
	for _, x := range f.o.Sites.List() {
		if x.Devices = f.countAt(c, x.Name); x.Devices > 0 || c.MayAll(person.Viewer) {
			out = append(out, placed(c, x))
		}
	}
	return out
}

// Site returns one of the sites that the caller sees.
func (f *Fleet) Site(c access.Caller, name string) (site.Site, error) {
	n := f.countAt(c, name)
	if n == 0 && !c.MayAll(person.Viewer) {
		return site.Site{}, f.o.Sites.Unknown(name)
	}
	x, err := f.o.Sites.Get(name)
	x.Devices = n
	return placed(c, x), err
}

// placed leaves out of a site where devices stand that the caller does not see.
func placed(c access.Caller, x site.Site) site.Site {
	if c.MayAll(person.Viewer) || x.At == nil {
		return x
	}
	x.At = maps.Clone(x.At)
	maps.DeleteFunc(x.At, func(id string, _ []float64) bool { return !c.Sees(id) })
	return x
}

// SitePlan returns the plan picture of a site.
func (f *Fleet) SitePlan(ctx context.Context, c access.Caller, name string) (sites.Plan, error) {
	if _, err := f.Site(c, name); err != nil {
		return sites.Plan{}, err
	}
	return f.o.Sites.PlanOf(ctx, name)
}

// PutSite makes a site, or changes the one of its name.
func (f *Fleet) PutSite(ctx context.Context, c access.Caller, x site.Site, cond noun.If) (noun.Saved[site.Site], error) {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return noun.Saved[site.Site]{}, err
	}
	return f.o.Sites.Put(ctx, x, cond, c.Name)
}

// RemoveSite takes a site away.
func (f *Fleet) RemoveSite(ctx context.Context, c access.Caller, name string, cond noun.If) error {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return err
	}
	return f.o.Sites.Remove(ctx, name, cond, c.Name)
}

// SetSitePlan gives a site its plan picture; nil takes it away.
func (f *Fleet) SetSitePlan(ctx context.Context, c access.Caller, name string, picture []byte) error {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return err
	}
	return f.o.Sites.SetPlan(ctx, name, picture, c.Name)
}
