// Package devices keeps the devices of the fleet: who they are, what they may
// show to get in, and where they are in their life.
package devices

import (
	"context"
	"maps"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode"
	"unicode/utf8"
	"unique"

	"ullage/core/geo"
	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/models"
)

// Status is where a device is in its life.
type Status string

// The statuses that exist so far.
const (
	Expected  Status = "expected" // onboarded, never heard of
	Active    Status = "active"
	Suspended Status = "suspended"
	Retired   Status = "retired"
)

// Device is one device as people made it.
type Device struct {
	ID    string
	Model string
	// Name is what people call it, in any script; empty where the id is enough.
	Name string
	// Hub is the id of the device that carries it; empty for none.
	Hub string
	// Position is where people say that it stands; nil where they do not.
	Position *geo.Position
	// Version is the version of the model that it was given.
	Version    string
	Labels     map[string]string
	Status     Status
	JoinedAt   time.Time
	Attributes map[string]value.Value
}

// Records reads what is stored of devices. What changes is put into commits as
// Device, Credential and Use.
type Records interface {
	Devices(context.Context) ([]Device, error)
	Credentials(context.Context) ([]Credential, error)
	CredentialUses(context.Context) ([]Use, error)
}

// Options are what a Registry is made of.
type Options struct {
	Records Records
	Commits *commit.Writer
	Models  *models.Catalogue
	Bus     *event.Bus
	// Issuer makes certificates; devices have tokens alone if it is nil.
	Issuer Issuer
	// Master is the secret that tokens are made of which devices renew by themselves; none
	// does where it is empty.
	Master []byte
	Now    func() time.Time
}

// Registry holds every device. It answers from memory.
type Registry struct {
	commits *commit.Writer
	models  *models.Catalogue
	bus     *event.Bus
	issuer  Issuer
	master  []byte
	now     func() time.Time

	devices     *commit.Table[string, Device]
	credentials *commit.Table[string, Credential]
	tokens      *commit.Table[string, []string] // ids of credentials by device

	retired  atomic.Int64
	changing []func(tx *commit.Tx, old, d Device) error
	damping  damping
	carries  map[string]int // devices behind a hub; the writer's alone
	places   places
	uses     uses
	making   sync.Mutex // of credentials for one list at a time
}

var (
	deviceID  = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)
	labelName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)
	maxLabel  = 200
	maxName   = 100
)

// Open reads every device.
func Open(ctx context.Context, o Options) (*Registry, error) {
	g := &Registry{commits: o.Commits, models: o.Models, bus: o.Bus, issuer: o.Issuer, master: o.Master, now: o.Now, carries: map[string]int{},
		places: places{at: map[string]map[string]bool{}}, uses: uses{of: map[string]*use{}, dirty: map[string]bool{}}}
	ds, err := o.Records.Devices(ctx)
	if err != nil {
		return nil, err
	}
	byID := make(map[string]Device, len(ds))
	for _, d := range ds {
		d = d.lean()
		byID[d.ID] = d
		g.places.moved(nil, Device{}, d)
		if d.Hub != "" {
			g.carries[d.Hub]++
		}
		if d.Status == Retired {
			g.retired.Add(1)
		}
	}
	cs, err := o.Records.Credentials(ctx)
	if err != nil {
		return nil, err
	}
	credentials, tokens := make(map[string]Credential, len(cs)), make(map[string][]string, len(ds))
	for _, c := range cs {
		credentials[c.ID] = c
		tokens[c.Device] = append(tokens[c.Device], c.ID)
	}
	us, err := o.Records.CredentialUses(ctx)
	if err != nil {
		return nil, err
	}
	for _, u := range us {
		g.uses.of[u.Credential] = &use{Use: u, storedAt: u.At}
	}
	g.devices, g.credentials, g.tokens = commit.NewTable(byID), commit.NewTable(credentials), commit.NewTable(tokens)
	return g, nil
}

// lean is d with one copy of what thousands of devices say alike: the store gives
// each row strings of its own.
func (d Device) lean() Device {
	d.Model, d.Version, d.Hub, d.Status = one(d.Model), one(d.Version), one(d.Hub), Status(one(string(d.Status)))
	labels := make(map[string]string, len(d.Labels))
	for k, v := range d.Labels {
		labels[one(k)] = one(v)
	}
	attributes := make(map[string]value.Value, len(d.Attributes))
	for k, v := range d.Attributes {
		v.Text = one(v.Text)
		attributes[one(k)] = v
	}
	d.Labels, d.Attributes = labels, attributes
	return d
}

// one returns the copy of a text that all share.
func one(text string) string { return unique.Make(text).Value() }

// Changing has f called within each use case that makes a device, or gives one
// another model, version, label or status; old is zero for a new one. What f
// puts is part of the same commit, and its error fails the use case. It must be
// called before devices change.
func (g *Registry) Changing(f func(tx *commit.Tx, old, d Device) error) {
	g.changing = append(g.changing, f)
}

// New is a device that is onboarded.
type New struct {
	ID     string
	Name   string // for people; may be empty
	Model  string
	Hub    string // may be empty
	Labels map[string]string
}

// Create onboards a device with a token, which is not kept and cannot be shown
// again.
func (g *Registry) Create(ctx context.Context, n New, by string) (Device, string, error) {
	d, given, err := g.Onboard(ctx, n, Wanted{}, by)
	return d, given.Token, err
}

// Onboard makes a device and gives it its first credential.
func (g *Registry) Onboard(ctx context.Context, n New, w Wanted, by string) (Device, Given, error) {
	ds, given, err := g.OnboardMany(ctx, []New{n}, []Wanted{w}, by)
	if err != nil {
		return Device{}, Given{}, err
	}
	return ds[0], given[0], nil
}

// MaxMany is how many devices are onboarded in one commit.
const MaxMany = 1000

// OnboardMany makes some devices, all or none, and gives each its first credential.
func (g *Registry) OnboardMany(ctx context.Context, ns []New, ws []Wanted, by string) ([]Device, []Given, error) {
	if len(ns) > MaxMany {
		return nil, nil, fault.New(fault.TooLarge, "%d devices are too many at once; %d are the most", len(ns), MaxMany).Then("send them in parts")
	}
	at := g.now()
	ds, given, cs := make([]Device, len(ns)), make([]Given, len(ns)), make([]Credential, len(ns))
	for i, n := range ns {
		var err error
		if ds[i], err = g.planned(n, at); err != nil {
			return nil, nil, naming(err, n.ID, len(ns))
		}
	}
	// Keys and certificates take time, and are made before anything is held up.
	for i, err := range g.makeMany(ds, ws, at, given, cs) {
		if err != nil {
			return nil, nil, naming(err, ns[i].ID, len(ns))
		}
	}
	err := g.commits.Do(ctx, func(tx *commit.Tx) error {
		for i, d := range ds {
			if err := g.stage(tx, d, cs[i], at, by); err != nil {
				return naming(err, d.ID, len(ns))
			}
			if within := ws[i].Within; within != nil {
				if err := within(tx); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	return ds, given, nil
}

// makeMany makes the credentials of some devices, on all processors. One list has its turn
// after the other: lists that are sent at once would else all be made, and then all be stored,
// which is a single processor's work.
func (g *Registry) makeMany(ds []Device, ws []Wanted, at time.Time, given []Given, cs []Credential) []error {
	if len(ds) > 1 {
		g.making.Lock()
		defer g.making.Unlock()
	}
	errs := make([]error, len(ds))
	var wg sync.WaitGroup
	var next atomic.Int64
	for range min(len(ds), runtime.GOMAXPROCS(0)) {
		wg.Go(func() {
			for i := int(next.Add(1)) - 1; i < len(ds); i = int(next.Add(1)) - 1 {
				given[i], cs[i], errs[i] = g.make(ds[i].ID, ws[i], at)
			}
		})
	}
	wg.Wait()
	return errs
}

// naming says of which of many an error is.
func naming(err error, id string, many int) error {
	f := fault.From(err)
	if many == 1 || strings.Contains(f.Sentence, id) {
		return err
	}
	out := *f
	out.Sentence = value.Clip(id, 63) + ": " + f.Sentence
	return &out
}

// planned checks what can be wrong with a device that is to be onboarded before
// anything else is known.
func (g *Registry) planned(n New, at time.Time) (Device, error) {
	if !deviceID.MatchString(n.ID) {
		return Device{}, fault.New(fault.Invalid, "%q is no device id", value.Clip(n.ID, 80)).
			Then("use small letters, digits and hyphens, at most 63, like tank-fennimore-07")
	}
	m, err := g.models.Get(n.Model)
	if err != nil {
		return Device{}, err
	}
	if err := checkName(n.Name); err != nil {
		return Device{}, err
	}
	if err := CheckLabels(n.Labels); err != nil {
		return Device{}, err
	}
	d := Device{ID: n.ID, Name: n.Name, Hub: n.Hub, Model: m.Name, Version: m.Version, Labels: maps.Clone(n.Labels),
		Status: Expected, JoinedAt: at, Attributes: map[string]value.Value{}}
	if d.Labels == nil {
		d.Labels = map[string]string{}
	}
	return d, nil
}

// Plan says what is wrong with each of some devices that are to be onboarded, nil for
// nothing. Hubs may be among them, before those that they carry.
func (g *Registry) Plan(ns []New) []error {
	out := make([]error, len(ns))
	coming := map[string]bool{}
	for i, n := range ns {
		d, err := g.planned(n, g.now())
		if old, ok := g.devices.Get(n.ID); ok && err == nil {
			err = exists(old)
		}
		if err == nil && n.Hub != "" && !coming[n.Hub] {
			if hub, ok := g.devices.Get(n.Hub); !ok {
				err = NoHub(n.Hub, d.ID)
			} else if hub.Status == Retired || hub.Hub != "" {
				err = fault.New(fault.Conflict, "%s cannot carry it: it is retired, or behind a hub itself", n.Hub).Then("name another hub")
			}
		}
		if out[i] = err; err == nil {
			coming[n.ID] = true
		}
	}
	return out
}

func exists(old Device) error {
	return fault.New(fault.Conflict, "there is a device %s already, %s", old.ID, old.Status).
		Then("choose another id, or give it a new token").On("device")
}

// stage makes a new device, with its credential, part of a commit.
func (g *Registry) stage(tx *commit.Tx, d Device, c Credential, at time.Time, by string) error {
	if old, ok := g.devices.In(tx, d.ID); ok {
		return exists(old)
	}
	if err := g.checkHub(tx, d); err != nil {
		return err
	}
	if err := g.add(tx, c); err != nil {
		return err
	}
	g.tokens.Set(tx, d.ID, []string{c.ID})
	tx.Tell(fact.New(at, fact.Onboarded{Device: d.ID, Model: d.Model, Version: d.Version}).Of(d.ID).By(by))
	return g.put(tx, Device{}, d, at)
}

// put makes a device part of a commit, with what is so from now on.
func (g *Registry) put(tx *commit.Tx, old, d Device, at time.Time) error {
	tx.Put(d)
	g.devices.Set(tx, d.ID, d)
	g.places.moved(tx, old, d)
	hold := func(kind commit.ValidityKind, key, v string) {
		tx.Hold(commit.Validity{Kind: kind, Subject: d.ID, Key: key, From: at, Value: v})
	}
	if old.Hub != d.Hub {
		g.carry(tx, old.Hub, -1)
		g.carry(tx, d.Hub, 1)
	}
	if old.Status != d.Status {
		hold(commit.Status, "", string(d.Status))
	}
	if old.Version != d.Version || old.Model != d.Model {
		hold(commit.Version, "", d.Model+" "+d.Version)
	}
	for k, v := range d.Labels {
		if old.Labels[k] != v {
			hold(commit.Label, k, v)
		}
	}
	for k := range old.Labels {
		if _, still := d.Labels[k]; !still {
			hold(commit.Label, k, "")
		}
	}
	for _, f := range g.changing {
		if err := f(tx, old, d); err != nil {
			return err
		}
	}
	if old.Status != d.Status && d.Status == Retired {
		tx.After(func() { g.retired.Add(1) })
	}
	tx.After(func() { g.bus.Publish(event.Device{Device: d.ID}) })
	return nil
}

// carry counts the devices behind a hub. It is the writer's alone.
func (g *Registry) carry(tx *commit.Tx, hub string, n int) {
	if hub == "" {
		return
	}
	g.carries[hub] += n
	tx.Undo(func() { g.carries[hub] -= n })
}

// Label sets and removes labels: a label set to "" is removed.
func (g *Registry) Label(ctx context.Context, id string, labels map[string]string, by string) (Device, error) {
	if err := CheckLabels(labels); err != nil {
		return Device{}, err
	}
	return g.change(ctx, id, by, labelling(labels))
}

// labelling sets and removes labels of a device.
func labelling(labels map[string]string) func(*Device) fact.Content {
	return func(d *Device) fact.Content {
		next := maps.Clone(d.Labels)
		c := fact.Labelled{Set: map[string]string{}}
		for _, k := range slices.Sorted(maps.Keys(labels)) {
			v := labels[k]
			if _, has := next[k]; v == "" && has {
				delete(next, k)
				c.Removed = append(c.Removed, k)
			} else if v != "" && next[k] != v {
				next[k], c.Set[k] = v, v
			}
		}
		if d.Labels = next; len(c.Set)+len(c.Removed) == 0 {
			return nil
		}
		return c
	}
}

// ChangeIn changes labels and the status of a device in a commit of many devices: an
// empty label is taken away, and an empty status stays.
func (g *Registry) ChangeIn(tx *commit.Tx, id string, labels map[string]string, s Status, by string) error {
	if err := g.changed(id, by, labelling(labels), nil)(tx); err != nil || s == "" {
		return err
	}
	return g.changed(id, by, func(d *Device) fact.Content {
		if d.Status == s || d.Status == Retired {
			return nil
		}
		c := fact.Status{From: string(d.Status), To: string(s)}
		d.Status = s
		return c
	}, nil)(tx)
}

// Rename gives a device another name for people; an empty one leaves its id.
func (g *Registry) Rename(ctx context.Context, id, name, by string) (Device, error) {
	if err := checkName(name); err != nil {
		return Device{}, err
	}
	return g.change(ctx, id, by, func(d *Device) fact.Content {
		was := d.Name
		if d.Name = name; was == name {
			return nil
		}
		return fact.Changed{Noun: "device", Name: id, Done: fact.Saved,
			Fields: []string{"name: " + orNone(was) + " → " + orNone(name)}}
	})
}

// Place says where a device stands; nil takes that back.
func (g *Registry) Place(ctx context.Context, id string, at *geo.Position, by string) (Device, error) {
	if at != nil {
		if err := at.Check(); err != nil {
			return Device{}, fault.New(fault.Invalid, "%s", err)
		}
	}
	said := func(p *geo.Position) string {
		if p == nil {
			return "none"
		}
		return p.String()
	}
	return g.change(ctx, id, by, func(d *Device) fact.Content {
		was := said(d.Position)
		if d.Position = at; was == said(at) {
			return nil
		}
		return fact.Changed{Noun: "device", Name: id, Done: fact.Saved, Fields: []string{"position: " + was + " → " + said(at)}}
	})
}

// Behind says which device carries a device; an empty hub that none does.
func (g *Registry) Behind(ctx context.Context, id, hub, by string) (Device, error) {
	var out Device
	err := g.commits.Do(ctx, func(tx *commit.Tx) error {
		next, ok := g.devices.In(tx, id)
		if !ok {
			return noDevice(id)
		}
		next.Hub = hub
		if err := g.checkHub(tx, next); err != nil {
			return err
		}
		return g.changed(id, by, func(d *Device) fact.Content {
			was := d.Hub
			if d.Hub = hub; was == hub {
				return nil
			}
			return fact.Changed{Noun: "device", Name: id, Done: fact.Saved,
				Fields: []string{"hub: " + orNone(was) + " → " + orNone(hub)}}
		}, &out)(tx)
	})
	return out, err
}

// checkHub checks that what d names as its hub can be one.
func (g *Registry) checkHub(tx *commit.Tx, d Device) error {
	if d.Hub == "" {
		return nil
	}
	hub, ok := g.devices.In(tx, d.Hub)
	switch {
	case d.Hub == d.ID:
		return fault.New(fault.Invalid, "%s cannot be its own hub", d.ID)
	case !ok:
		return NoHub(d.Hub, d.ID)
	case hub.Status == Retired:
		return fault.New(fault.Conflict, "%s is retired and carries nobody", hub.ID).Then("name another hub")
	case hub.Hub != "":
		return fault.New(fault.Conflict, "%s is behind %s itself, so it cannot be a hub", hub.ID, hub.Hub).
			Then("name %s", hub.Hub)
	case g.carries[d.ID] > 0:
		return fault.New(fault.Conflict, "%s carries other devices, so it cannot be behind %s", d.ID, d.Hub).
			Then("give those another hub first")
	}
	return nil
}

// Move gives a device another version of its model.
func (g *Registry) Move(ctx context.Context, id, version, by string) (Device, error) {
	d, err := g.Get(id)
	if err != nil {
		return Device{}, err
	}
	m, err := g.models.Of(d.Model, version)
	if err != nil {
		return Device{}, err
	}
	return g.change(ctx, id, by, moving(m.Version))
}

// MoveIn is Move in a commit of many devices.
func (g *Registry) MoveIn(tx *commit.Tx, id, version, by string) error {
	return g.changed(id, by, moving(version), nil)(tx)
}

func moving(version string) func(*Device) fact.Content {
	return func(d *Device) fact.Content {
		if d.Version == version {
			return nil
		}
		c := fact.Moved{Model: d.Model, From: d.Version, To: version}
		d.Version = version
		return c
	}
}

// Reported is the version of its model that a device says it was built for, or
// "" while it has not said.
func (d *Device) Reported() string { return d.Attributes[model.ReportedVersion].Text }

// SetStatus suspends, reactivates or retires a device. A retired device
// stays retired.
func (g *Registry) SetStatus(ctx context.Context, id string, s Status, by string) (Device, error) {
	var retired error
	d, err := g.change(ctx, id, by, func(d *Device) fact.Content {
		if retired = nil; d.Status == Retired && s != Retired {
			retired = fault.New(fault.Conflict, "%s is retired, and that is for good", id).
				Then("onboard it again under another id")
			return nil
		}
		if d.Status == s || s == Active && d.Status == Expected {
			return nil
		}
		c := fact.Status{From: string(d.Status), To: string(s)}
		d.Status = s
		return c
	})
	if err == nil {
		err = retired
	}
	return d, err
}

// Seen makes an expected device active, some time soon. It is called with each
// message that was kept.
func (g *Registry) Seen(id string) {
	if d, ok := g.devices.Get(id); !ok || d.Status != Expected {
		return
	}
	g.commits.Go(g.changed(id, "", func(d *Device) fact.Content {
		if d.Status != Expected {
			return nil
		}
		d.Status = Active
		return fact.Status{From: string(Expected), To: string(Active)}
	}, nil), nil)
}

// SetAttributes merges what a device reports about itself; done is called when
// that is on disk, or will not be.
func (g *Registry) SetAttributes(id string, a map[string]value.Value, done func(error)) {
	g.commits.Go(func(tx *commit.Tx) error {
		d, ok := g.devices.In(tx, id)
		if !ok {
			return noDevice(id)
		}
		next := maps.Clone(d.Attributes)
		changed := map[string]fact.Change{}
		for k, v := range a {
			if old, ok := next[k]; !ok || old != v {
				c := fact.Change{Is: v.String()}
				if ok {
					c.Was = old.String()
				}
				next[k], changed[k] = v, c
			}
		}
		if len(changed) == 0 {
			return nil
		}
		d.Attributes = next
		tx.Put(d)
		g.devices.Set(tx, id, d)
		at := g.now()
		if before, tell := g.damping.allow(id, at); tell {
			tx.Tell(fact.New(at, fact.Attributes{Changed: changed, Before: before}).Of(id))
			if v, ok := changed["firmware"]; ok {
				tx.Hold(commit.Validity{Kind: commit.Firmware, Subject: id, From: at, Value: v.Is})
			}
		}
		tx.After(func() { g.bus.Publish(event.Attributes{Device: id}) })
		return nil
	}, done)
}

// damping keeps a device whose attributes go back and forth from filling the
// journal. It is the writer's alone.
type damping map[string]*damped

type damped struct {
	since  time.Time // of the hour that is counted
	told   int
	silent int // changes that were not told
}

// maxTold is how many changes of its attributes a device tells in an hour.
const maxTold = 12

func (d *damping) allow(id string, now time.Time) (before int, tell bool) {
	if *d == nil {
		*d = damping{}
	}
	x := (*d)[id]
	if x == nil || now.Sub(x.since) >= time.Hour || now.Before(x.since) {
		if x == nil {
			x = &damped{}
			(*d)[id] = x
		}
		x.since, x.told = now, 0
	}
	if x.told >= maxTold {
		x.silent++
		return 0, false
	}
	x.told++
	before, x.silent = x.silent, 0
	return before, true
}

// change is a use case that changes one device. The function says what it did,
// or nil for nothing.
func (g *Registry) change(ctx context.Context, id, by string, f func(*Device) fact.Content) (Device, error) {
	var d Device
	err := g.commits.Do(ctx, g.changed(id, by, f, &d))
	return d, err
}

func (g *Registry) changed(id, by string, f func(*Device) fact.Content, out *Device) func(*commit.Tx) error {
	return func(tx *commit.Tx) error {
		old, ok := g.devices.In(tx, id)
		if !ok {
			return noDevice(id)
		}
		d := old
		c := f(&d)
		if out != nil {
			*out = d
		}
		if c == nil {
			return nil
		}
		at := g.now()
		tx.Tell(fact.New(at, c).Of(id).By(by))
		return g.put(tx, old, d, at)
	}
}

func noDevice(id string) error {
	return fault.New(fault.NotFound, "there is no device %q", id).On("device")
}

// NoHub is the error about a hub that does not exist.
func NoHub(hub, of string) error {
	return fault.New(fault.Invalid, "there is no device %q that could be the hub of %s", value.Clip(hub, 63), of).
		Then("onboard the hub first").On("device")
}

// Unknown is the error about a device that does not exist.
func Unknown(id string) error { return noDevice(id) }

// Get returns a device. Its maps must not be changed.
func (g *Registry) Get(id string) (Device, error) {
	if d, ok := g.devices.Get(id); ok {
		return d, nil
	}
	return Device{}, noDevice(id)
}

// In returns a device as the use cases before have left it.
func (g *Registry) In(tx *commit.Tx, id string) (Device, bool) { return g.devices.In(tx, id) }

// Count returns how many devices there are.
func (g *Registry) Count() int { return g.devices.Len() }

// Retired returns how many of them are retired.
func (g *Registry) Retired() int { return int(g.retired.Load()) }

// VersionCount counts the devices of one version of a model that are not retired, and of
// those how many say that they were built for another.
type VersionCount struct{ Devices, Otherwise int }

// Versions counts devices by model and version.
func (g *Registry) Versions() map[[2]string]VersionCount {
	out := map[[2]string]VersionCount{}
	for _, d := range g.devices.All() {
		d.count(out)
	}
	return out
}

// Otherwise counts the devices that report another version of their model than they were
// given, and names the first of them.
func (g *Registry) Otherwise() (n int, first string) {
	for _, d := range g.devices.All() {
		if said := d.Reported(); d.Status != Retired && said != "" && said != d.Version {
			if n++; first == "" || d.ID < first {
				first = d.ID
			}
		}
	}
	return n, first
}

// VersionsAmong is Versions of some devices.
func (g *Registry) VersionsAmong(ids []string) map[[2]string]VersionCount {
	out := map[[2]string]VersionCount{}
	for _, id := range ids {
		if d, ok := g.devices.Get(id); ok {
			d.count(out)
		}
	}
	return out
}

func (d *Device) count(out map[[2]string]VersionCount) {
	if d.Status == Retired {
		return
	}
	k := [2]string{d.Model, d.Version}
	n := out[k]
	n.Devices++
	if said := d.Reported(); said != "" && said != d.Version {
		n.Otherwise++
	}
	out[k] = n
}

// List returns every device by id. Their maps must not be changed.
func (g *Registry) List() []Device {
	out := make([]Device, 0, g.devices.Len())
	for _, d := range g.devices.All() {
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b Device) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// Knows reports whether a device of that id exists, retired ones too.
func (g *Registry) Knows(id string) bool {
	_, ok := g.devices.Get(id)
	return ok
}

// checkName checks a name for people: one line, in any script.
func checkName(name string) error {
	if n := utf8.RuneCountInString(name); n > maxName || !utf8.ValidString(name) {
		return fault.New(fault.Invalid, "the name has %d characters; %d are the most", n, maxName)
	}
	if name != strings.TrimSpace(name) || strings.ContainsFunc(name, unnameable) {
		return fault.New(fault.Invalid, "%q is not one line of text without space at its ends", value.Clip(name, 63))
	}
	return nil
}

// unnameable are characters that cannot be seen. Two that join or part letters
// belong to the spelling of some scripts.
func unnameable(r rune) bool { return !unicode.IsPrint(r) && r != '\u200c' && r != '\u200d' }

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// CheckLabels refuses what are no labels.
func CheckLabels(labels map[string]string) error {
	for k, v := range labels {
		if !labelName.MatchString(k) {
			return fault.New(fault.Invalid, "%q is no label name", value.Clip(k, 63)).
				Then("use small letters, digits and underscores, like site or row")
		}
		if len(v) > maxLabel || strings.ContainsAny(v, "\n\r\x00") {
			return fault.New(fault.Invalid, "the label %s is not one line of at most %d bytes", k, maxLabel)
		}
	}
	return nil
}
