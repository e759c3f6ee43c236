// Package devices keeps the devices of the fleet: who they are, what they may
// show to get in, and where they are in their life.
package devices

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/journal"
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
	// Version is the version of the model that it was given.
	Version    string
	Labels     map[string]string
	Status     Status
	JoinedAt   time.Time
	Attributes map[string]value.Value
}

// Credential is a device's token as it is stored: its id in clear and the
// SHA-256 of the whole. A token has 256 random bits, so a slow hash would add
// nothing but an outage when a whole fleet reconnects.
type Credential struct {
	ID        string
	Device    string
	Hash      [sha256.Size]byte
	CreatedAt time.Time
	RevokedAt time.Time
}

// Records stores devices. Each call is one transaction.
type Records interface {
	Devices() ([]Device, error)
	Credentials() ([]Credential, error)
	SaveDevice(Device, *Credential, journal.Entry) error
	SaveCredential(add Credential, revoke []string, e journal.Entry) error
	SaveAttributes(device string, a map[string]value.Value, e *journal.Entry) error
}

// Registry holds every device. It answers from memory.
type Registry struct {
	records Records
	models  *models.Catalogue
	bus     *event.Bus
	now     func() time.Time

	mu          sync.RWMutex
	devices     map[string]*Device
	credentials map[string]*Credential
}

var (
	deviceID   = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)
	labelName  = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)
	maxLabel   = 200
	errNoToken = "the token does not match"
)

// Open reads every device.
func Open(r Records, m *models.Catalogue, bus *event.Bus, now func() time.Time) (*Registry, error) {
	g := &Registry{records: r, models: m, bus: bus, now: now, devices: map[string]*Device{}, credentials: map[string]*Credential{}}
	ds, err := r.Devices()
	if err != nil {
		return nil, err
	}
	for _, d := range ds {
		g.devices[d.ID] = &d
	}
	cs, err := r.Credentials()
	if err != nil {
		return nil, err
	}
	for _, c := range cs {
		g.credentials[c.ID] = &c
	}
	return g, nil
}

// Create onboards a device and returns its token, which is not kept and cannot
// be shown again.
func (g *Registry) Create(id, modelName string, labels map[string]string, by string) (Device, string, error) {
	if !deviceID.MatchString(id) {
		return Device{}, "", fault.New(fault.Invalid, "%q is no device id", id).
			Then("use small letters, digits and hyphens, at most 63, like tank-fennimore-07")
	}
	m, err := g.models.Get(modelName)
	if err != nil {
		return Device{}, "", err
	}
	if err := checkLabels(labels); err != nil {
		return Device{}, "", err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if old := g.devices[id]; old != nil {
		return Device{}, "", fault.New(fault.Conflict, "there is a device %s already, %s", id, old.Status).
			Then("choose another id, or give it a new token with: ullage device token %s", id)
	}
	at := g.now()
	token, c := newCredential(id, at)
	d := Device{ID: id, Model: m.Name, Version: m.Version, Labels: maps.Clone(labels), Status: Expected, JoinedAt: at, Attributes: map[string]value.Value{}}
	if d.Labels == nil {
		d.Labels = map[string]string{}
	}
	text := fmt.Sprintf("%s onboarded %s as %s", by, id, m)
	if err := g.records.SaveDevice(d, &c, journal.New(at, journal.DeviceChanged, id, by, text)); err != nil {
		return Device{}, "", err
	}
	g.devices[id], g.credentials[c.ID] = &d, &c
	g.bus.Publish(event.Device{Device: id})
	return d, token, nil
}

// Rotate gives a device a new token. Older ones keep working if keep is true,
// and stop at once if it is false.
func (g *Registry) Rotate(id string, keep bool, by string) (string, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, err := g.get(id); err != nil {
		return "", err
	}
	at := g.now()
	token, c := newCredential(id, at)
	var revoke []string
	for _, old := range g.credentials {
		if old.Device == id && old.RevokedAt.IsZero() && !keep {
			revoke = append(revoke, old.ID)
		}
	}
	text := fmt.Sprintf("%s gave %s a new token", by, id)
	if len(revoke) > 0 {
		text += " and revoked the old one"
	}
	if err := g.records.SaveCredential(c, revoke, journal.New(at, journal.Access, id, by, text)); err != nil {
		return "", err
	}
	for _, r := range revoke {
		g.credentials[r].RevokedAt = at
	}
	g.credentials[c.ID] = &c
	g.bus.Publish(event.Device{Device: id})
	return token, nil
}

// Label sets and removes labels: a label set to "" is removed.
func (g *Registry) Label(id string, labels map[string]string, by string) (Device, error) {
	if err := checkLabels(labels); err != nil {
		return Device{}, err
	}
	return g.change(id, by, func(d *Device) string {
		next := maps.Clone(d.Labels)
		var words []string
		for _, k := range slices.Sorted(maps.Keys(labels)) {
			if v := labels[k]; v == "" {
				delete(next, k)
				words = append(words, "removed label "+k)
			} else if next[k] != v {
				next[k] = v
				words = append(words, fmt.Sprintf("set label %s=%s", k, v))
			}
		}
		d.Labels = next
		return strings.Join(words, ", ")
	})
}

// Move gives a device another version of its model.
func (g *Registry) Move(id, version, by string) (Device, error) {
	g.mu.RLock()
	d, err := g.get(id)
	g.mu.RUnlock()
	if err != nil {
		return Device{}, err
	}
	m, err := g.models.Of(d.Model, version)
	if err != nil {
		return Device{}, err
	}
	return g.change(id, by, func(d *Device) string {
		if d.Version == m.Version {
			return ""
		}
		text := fmt.Sprintf("moved it from %s %s to %s", d.Model, d.Version, m.Version)
		d.Version = m.Version
		return text
	})
}

// Reported is the version of its model that a device says it was built for, or
// "" while it has not said.
func (d *Device) Reported() string { return d.Attributes[model.ReportedVersion].Text }

// SetStatus suspends, reactivates or retires a device. A retired device
// stays retired.
func (g *Registry) SetStatus(id string, s Status, by string) (Device, error) {
	g.mu.RLock()
	d, err := g.get(id)
	g.mu.RUnlock()
	if err != nil {
		return Device{}, err
	}
	if d.Status == Retired && s != Retired {
		return Device{}, fault.New(fault.Conflict, "%s is retired, and that is for good", id).
			Then("onboard it again under another id")
	}
	return g.change(id, by, func(d *Device) string {
		if d.Status == s || s == Active && d.Status == Expected {
			return ""
		}
		verb := map[Status]string{Suspended: "suspended it", Active: "let it in again", Retired: "retired it"}[s]
		d.Status = s
		return verb
	})
}

// Seen makes an expected device active. It is called with the first message
// that was kept.
func (g *Registry) Seen(id string) error {
	g.mu.RLock()
	d := g.devices[id]
	expected := d != nil && d.Status == Expected
	g.mu.RUnlock()
	if !expected {
		return nil
	}
	_, err := g.change(id, "", func(d *Device) string {
		if d.Status != Expected {
			return ""
		}
		d.Status = Active
		return "sent its first reading"
	})
	return err
}

// SetAttributes merges what a device reports about itself.
func (g *Registry) SetAttributes(id string, a map[string]value.Value) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	d, err := g.get(id)
	if err != nil {
		return err
	}
	next := maps.Clone(d.Attributes)
	var words []string
	for _, k := range slices.Sorted(maps.Keys(a)) {
		if old, ok := next[k]; !ok || old != a[k] {
			if ok {
				words = append(words, fmt.Sprintf("%s from %s to %s", k, old, a[k]))
			} else {
				words = append(words, fmt.Sprintf("%s %s", k, a[k]))
			}
			next[k] = a[k]
		}
	}
	if len(words) == 0 {
		return nil
	}
	e := journal.New(g.now(), journal.DeviceChanged, id, "", "it reported "+strings.Join(words, ", "))
	if err := g.records.SaveAttributes(id, next, &e); err != nil {
		return err
	}
	changed := *d
	changed.Attributes = next
	g.devices[id] = &changed
	g.bus.Publish(event.Attributes{Device: id})
	return nil
}

// change replaces a device by a changed copy, so that readers may keep theirs.
// The function returns what it did, or "" for nothing.
func (g *Registry) change(id, by string, f func(*Device) string) (Device, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	old, err := g.get(id)
	if err != nil {
		return Device{}, err
	}
	d := *old
	text := f(&d)
	if text == "" {
		return d, nil
	}
	if by != "" {
		text = by + " " + text
	}
	if err := g.records.SaveDevice(d, nil, journal.New(g.now(), journal.DeviceChanged, id, by, text)); err != nil {
		return Device{}, err
	}
	g.devices[id] = &d
	g.bus.Publish(event.Device{Device: id})
	return d, nil
}

func (g *Registry) get(id string) (*Device, error) {
	if d := g.devices[id]; d != nil {
		return d, nil
	}
	return nil, fault.New(fault.NotFound, "there is no device %q", id).Then("see: ullage device list")
}

// Get returns a device. Its maps must not be changed.
func (g *Registry) Get(id string) (Device, error) {
	g.mu.RLock()
	defer g.mu.RUnlock()
	d, err := g.get(id)
	if err != nil {
		return Device{}, err
	}
	return *d, nil
}

// List returns every device by id. Their maps must not be changed.
func (g *Registry) List() []Device {
	g.mu.RLock()
	defer g.mu.RUnlock()
	out := make([]Device, 0, len(g.devices))
	for _, d := range g.devices {
		out = append(out, *d)
	}
	slices.SortFunc(out, func(a, b Device) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// Authenticate returns the device that a token belongs to. If claimed is not
// empty the token must be that device's. The error's sentence tells everything
// and is for the engineer; its Ref is what the stranger may hear.
func (g *Registry) Authenticate(claimed, token string) (Device, error) {
	id, _, dotted := strings.Cut(token, ".")
	g.mu.RLock()
	defer g.mu.RUnlock()
	refuse := func(format string, args ...any) (Device, error) {
		return Device{}, fault.New(fault.Unauthenticated, format, args...)
	}
	if claimed != "" && g.devices[claimed] == nil {
		return refuse("there is no device %q; onboard it with: ullage device create %s --model …", clip(claimed), clip(claimed))
	}
	if token == "" {
		return refuse("no token was given; the user name is the device id and the password its token")
	}
	if !dotted {
		return refuse("%s: what was given is no Ullage token, which has a dot after its first eight letters", errNoToken)
	}
	c := g.credentials[id]
	sum := sha256.Sum256([]byte(token))
	if c == nil || subtle.ConstantTimeCompare(sum[:], c.Hash[:]) != 1 {
		why := errNoToken
		if c != nil {
			why += fmt.Sprintf(": its id %s is of %s, the rest is wrong", id, c.Device)
		} else {
			why += ": no token with this id was ever given out"
		}
		return refuse("%s; make a new one with: ullage device token %s", why, orDevice(claimed))
	}
	if claimed != "" && c.Device != claimed {
		return refuse("the token is %s's, and the device says it is %s; was the wrong bundle flashed?", c.Device, claimed)
	}
	d := g.devices[c.Device]
	switch {
	case !c.RevokedAt.IsZero():
		return refuse("the token was revoked on %s; flash the newer one", c.RevokedAt.UTC().Format(time.RFC3339))
	case d.Status == Suspended:
		return refuse("%s is suspended; let it in with: ullage device resume %s", d.ID, d.ID)
	case d.Status == Retired:
		return refuse("%s is retired; onboard it under another id if it is to come back", d.ID)
	}
	return *d, nil
}

// Knows reports whether a device of that id exists, retired ones too.
func (g *Registry) Knows(id string) bool {
	g.mu.RLock()
	defer g.mu.RUnlock()
	return g.devices[id] != nil
}

// MayStay reports whether a session that came in with a credential may go on.
func (g *Registry) MayStay(id, credential string) (string, bool) {
	g.mu.RLock()
	defer g.mu.RUnlock()
	d, c := g.devices[id], g.credentials[credential]
	switch {
	case d == nil || d.Status == Retired:
		return "the device was retired", false
	case d.Status == Suspended:
		return "the device was suspended", false
	case c == nil || !c.RevokedAt.IsZero():
		return "its token was revoked", false
	}
	return "", true
}

func newCredential(device string, at time.Time) (string, Credential) {
	var b [37]byte
	rand.Read(b[:])
	id := hex.EncodeToString(b[:4])
	token := id + "." + base64.RawURLEncoding.EncodeToString(b[5:])
	return token, Credential{ID: id, Device: device, Hash: sha256.Sum256([]byte(token)), CreatedAt: at}
}

func checkLabels(labels map[string]string) error {
	for k, v := range labels {
		if !labelName.MatchString(k) {
			return fault.New(fault.Invalid, "%q is no label name", clip(k)).Then("use small letters, digits and underscores, like site or row")
		}
		if len(v) > maxLabel || strings.ContainsAny(v, "\n\r\x00") {
			return fault.New(fault.Invalid, "the label %s is not one line of at most %d bytes", k, maxLabel)
		}
	}
	return nil
}

func orDevice(claimed string) string {
	if claimed == "" {
		return "DEVICE"
	}
	return claimed
}

func clip(s string) string {
	if r := []rune(s); len(r) > 63 {
		return string(r[:63]) + "…"
	}
	return s
}
