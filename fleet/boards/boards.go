// Package boards keeps the boards that people make, and makes those that exist by
// themselves.
package boards

import (
	"context"
	"maps"
	"slices"
	"time"

	"ullage/core/board"
	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/models"
	"ullage/fleet/noun"
)

// Records reads what is stored. What changes is put into commits as board.Board and Version.
type Records interface {
	Boards(context.Context) ([]board.Board, error)
	// BoardVersions returns those of a board, the newest first.
	BoardVersions(ctx context.Context, name string) ([]Version, error)
}

// Version is a board as somebody saved it.
type Version struct {
	ID    string // in the order of time
	Name  string
	At    time.Time
	By    string
	Verb  string // added, changed or removed
	Board board.Board
}

// Options are what Boards are made of.
type Options struct {
	Records Records
	Commits *commit.Writer
	Devices *devices.Registry
	Models  *models.Catalogue
	// Place says of a site whether it is known, and has a plan.
	Place func(site string) (known, plan bool)
	Now   func() time.Time
}

// Boards holds every board that somebody made.
type Boards struct {
	*noun.Register[board.Board]
	o Options
}

// Most is how many boards there may be, and mostVersions how many versions of each are kept.
const (
	Most         = 1000
	mostVersions = 100
)

// Open reads every board.
func Open(ctx context.Context, o Options) (*Boards, error) {
	stored, err := o.Records.Boards(ctx)
	if err != nil {
		return nil, err
	}
	b := &Boards{o: o}
	b.Register = noun.New(noun.Options[board.Board]{Word: "board", Name: func(x board.Board) string { return x.Name },
		Check: func(x board.Board) error { return x.Check() }, Told: b.told, Most: Most, Stored: stored, Commits: o.Commits, Now: o.Now})
	return b, nil
}

// told keeps a version of each change, in its commit.
func (b *Boards) told(tx *commit.Tx, old, next *board.Board, by string) {
	verb, of := "changed", next
	switch {
	case old == nil:
		verb = "added"
	case next == nil:
		verb, of = "removed", old
	}
	// What cannot be read now is taken out with a later one.
	if all, err := b.o.Records.BoardVersions(context.Background(), of.Name); err == nil && len(all) >= mostVersions {
		for _, v := range all[mostVersions-1:] {
			tx.Put(commit.Delete{Record: Version{ID: v.ID}})
		}
	}
	now := b.o.Now()
	tx.Put(Version{ID: fact.NewID(now), Name: of.Name, At: now, By: by, Verb: verb, Board: *of})
}

// Versions returns the versions of a board, the newest first; also of one that was removed.
func (b *Boards) Versions(ctx context.Context, name string) ([]Version, error) {
	out, err := b.o.Records.BoardVersions(ctx, name)
	if err == nil && len(out) == 0 {
		return nil, b.Unknown(name)
	}
	return out, err
}

// Put makes a board, or changes the one of its name. A metric, setting or command that no
// model has is refused, unless the board had it before: then a model has lost it, and the
// board says so.
func (b *Boards) Put(ctx context.Context, x board.Board, cond noun.If, by string) (noun.Saved[board.Board], error) {
	x.Made = false
	if x.Instruments == nil {
		x.Instruments = []board.Instrument{}
	}
	var had []board.Lack
	if old, ok := b.Find(x.Name); ok {
		had = b.Unfit(&old)
	}
	for _, l := range b.Unfit(&x) {
		if !slices.ContainsFunc(had, func(h board.Lack) bool { return h.Sentence == l.Sentence }) {
			return noun.Saved[board.Board]{}, fault.New(fault.Invalid, "instrument %d of %s: %s", l.Instrument+1, x.Name, l.Sentence).On("board")
		}
	}
	return b.Register.Put(ctx, x, cond, by)
}

// Unfit says what of a board no model has.
func (b *Boards) Unfit(x *board.Board) []board.Lack { return board.Unfit(x, b.inUse(nil)) }

// inUse are the newest versions of the models and all that devices have, of the devices
// that pass; nil for all.
func (b *Boards) inUse(pass func(devices.Device) bool) []*model.Model {
	seen := map[*model.Model]bool{}
	if pass == nil {
		for _, m := range b.o.Models.List() {
			seen[m] = true
		}
	}
	for _, d := range b.o.Devices.List() {
		if d.Status == devices.Retired || pass != nil && !pass(d) {
			continue
		}
		if m, err := b.o.Models.Of(d.Model, d.Version); err == nil {
			seen[m] = true
		}
	}
	return slices.Collect(maps.Keys(seen))
}

// newest keeps one version of each model.
func newest(all []*model.Model) []*model.Model {
	by := map[string]*model.Model{}
	for _, m := range all {
		if o := by[m.Name]; o == nil || m.Version > o.Version {
			by[m.Name] = m
		}
	}
	return slices.Collect(maps.Values(by))
}

// Device makes the board of a device.
func (b *Boards) Device(id string) (*board.Board, error) {
	d, err := b.o.Devices.Get(id)
	if err != nil {
		return nil, err
	}
	m, err := b.o.Models.Of(d.Model, d.Version)
	if err != nil {
		return nil, err
	}
	return board.ForDevice(id, m), nil
}

// Model makes the board of a model, of its newest version.
func (b *Boards) Model(name string) (*board.Board, error) {
	for _, m := range b.o.Models.List() {
		if m.Name == name {
			return board.ForModel(m), nil
		}
	}
	_, err := b.o.Models.Of(name, "")
	return nil, err
}

// Site makes the board of a site, of the devices there that pass.
func (b *Boards) Site(name string, sees func(string) bool) (*board.Board, error) {
	known, plan := b.o.Place(name)
	here := b.inUse(func(d devices.Device) bool { return d.Labels["site"] == name && (sees == nil || sees(d.ID)) })
	if len(here) == 0 && (!known || sees != nil) {
		return nil, fault.New(fault.NotFound, "there is no site %q", value.Clip(name, 63)).On("site")
	}
	return board.ForSite(name, newest(here), plan), nil
}

// Fleet makes the board of all devices that pass.
func (b *Boards) Fleet(sees func(string) bool) *board.Board {
	return board.ForFleet(newest(b.inUse(func(d devices.Device) bool { return sees == nil || sees(d.ID) })))
}
