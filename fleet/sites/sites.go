// Package sites keeps the places where devices are.
package sites

import (
	"bytes"
	"context"
	"sync"
	"time"

	"ullage/core/site"
	"ullage/fleet/commit"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// Plan is the plan picture of a site.
type Plan struct {
	Site    string
	Type    string // media type
	Picture []byte
}

// Records reads what is stored. What changes is put into commits as site.Site
// and Plan.
type Records interface {
	Sites(context.Context) ([]site.Site, error)
	// Plan reads a picture; false if the site has none.
	Plan(ctx context.Context, site string) (Plan, bool, error)
}

// Options are what Sites are made of.
type Options struct {
	Records Records
	Commits *commit.Writer
	Zone    *time.Location // of sites that say none
	// Changed is called after the commit of a change of a site; nil for nobody.
	Changed func(name string)
	Now     func() time.Time
}

// Sites holds every site.
type Sites struct {
	*noun.Register[site.Site]
	records Records
	commits *commit.Writer
	zone    *time.Location
	now     func() time.Time

	mu    sync.RWMutex
	zones map[string]*time.Location // by site, of those that say one
}

// Open reads every site.
func Open(ctx context.Context, o Options) (*Sites, error) {
	stored, err := o.Records.Sites(ctx)
	if err != nil {
		return nil, err
	}
	s := &Sites{records: o.Records, commits: o.Commits, zone: o.Zone, now: o.Now, zones: map[string]*time.Location{}}
	for i := range stored {
		s.note(nil, &stored[i])
	}
	s.Register = noun.New(noun.Options[site.Site]{Word: "site", Name: func(x site.Site) string { return x.Name },
		Check: func(x site.Site) error { return x.Check() }, Stored: stored, Commits: o.Commits, Now: o.Now,
		Within: func(tx *commit.Tx, old, next *site.Site) error {
			if next == nil && old.Plan != "" {
				tx.Put(commit.Delete{Record: Plan{Site: old.Name}})
			}
			return nil
		},
		After: func(old, next *site.Site) {
			s.note(old, next)
			if o.Changed != nil {
				o.Changed(nameOf(old, next))
			}
		}})
	return s, nil
}

func nameOf(old, next *site.Site) string {
	if next != nil {
		return next.Name
	}
	return old.Name
}

func (s *Sites) note(old, next *site.Site) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.zones, nameOf(old, next))
	if next == nil {
		return
	}
	if zone, err := next.Location(); err == nil && zone != nil {
		s.zones[next.Name] = zone
	}
}

// Names returns the names of the sites, sorted.
func (s *Sites) Names() []string {
	var out []string
	for _, x := range s.List() {
		out = append(out, x.Name)
	}
	return out
}

// Zone returns the time zone of a site, that of the service for one that says
// none or does not exist.
func (s *Sites) Zone(name string) *time.Location {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if z := s.zones[name]; z != nil {
		return z
	}
	return s.zone
}

// Put makes a site, or changes the one of its name. Its plan picture stays; see
// SetPlan.
func (s *Sites) Put(ctx context.Context, x site.Site, cond noun.If, by string) (noun.Saved[site.Site], error) {
	old, _ := s.Find(x.Name)
	return s.Register.Put(ctx, s.own(x, old), cond, by)
}

// own leaves out of x what is the service's to say.
func (s *Sites) own(x, old site.Site) site.Site {
	x.Devices, x.Plan = 0, old.Plan
	return x
}

// Loaded is a site from a file, with its picture.
type Loaded struct {
	Site    site.Site
	Picture []byte // nil leaves the picture that is there
}

// Ready returns a site from a file as it would be kept, and its picture; nil if
// that stays. It fails for a picture that cannot be shown.
func (s *Sites) Ready(l Loaded) (site.Site, *Plan, error) {
	old, _ := s.Find(l.Site.Name)
	x := s.own(l.Site, old)
	if l.Picture == nil {
		return x, nil, nil
	}
	kind, err := site.CheckPlan(l.Picture)
	if err != nil {
		return x, nil, fault.New(fault.Invalid, "the plan of %s cannot be taken: %s", x.Name, err).On("site")
	}
	x.Plan = kind
	return x, &Plan{Site: x.Name, Type: kind, Picture: l.Picture}, nil
}

// Stage makes and changes sites from files in the commit of tx.
func (s *Sites) Stage(tx *commit.Tx, ls []Loaded, by string) error {
	for _, l := range ls {
		x, plan, err := s.Ready(l)
		if err != nil {
			return err
		}
		if err := s.Register.Stage(tx, []site.Site{x}, by); err != nil {
			return err
		}
		if plan != nil {
			tx.Put(*plan)
		}
	}
	return nil
}

// SetPlan gives a site its plan picture; nil takes it away.
func (s *Sites) SetPlan(ctx context.Context, name string, picture []byte, by string) error {
	x, err := s.Get(name)
	if err != nil {
		return err
	}
	x.Plan = ""
	if picture != nil {
		if x.Plan, err = site.CheckPlan(picture); err != nil {
			return fault.New(fault.Invalid, "the plan of %s cannot be taken: %s", name, err).On("site")
		}
	}
	return s.commits.Do(ctx, func(tx *commit.Tx) error {
		if picture == nil {
			tx.Put(commit.Delete{Record: Plan{Site: name}})
		} else {
			tx.Put(Plan{Site: name, Type: x.Plan, Picture: picture})
		}
		before, _ := s.Find(name)
		if err := s.Register.Stage(tx, []site.Site{x}, by); err != nil {
			return err
		}
		if before.Plan == x.Plan && picture != nil { // another picture of the same type
			tx.Tell(fact.New(s.now(), fact.Changed{Noun: "site", Name: name, Done: fact.Saved, Fields: []string{"plan: another picture"}}).By(by))
		}
		return nil
	})
}

// HasPlan reports whether a site has this very picture. A store that cannot be
// read counts as no.
func (s *Sites) HasPlan(p Plan) bool {
	old, ok, err := s.records.Plan(context.Background(), p.Site)
	return err == nil && ok && old.Type == p.Type && bytes.Equal(old.Picture, p.Picture)
}

// PlanOf reads the plan picture of a site.
func (s *Sites) PlanOf(ctx context.Context, name string) (Plan, error) {
	if _, err := s.Get(name); err != nil {
		return Plan{}, err
	}
	p, ok, err := s.records.Plan(ctx, name)
	if err == nil && !ok {
		err = fault.New(fault.NotFound, "%s has no plan", name).Then("give it a picture").On("site")
	}
	return p, err
}
