// Package layers keeps the layers of settings: named sets of values with a target, in one
// ordered list. It says which of them a device has, previews changes, explains values, and
// counts how far devices are with what they were given.
package layers

import (
	"cmp"
	"context"
	"log/slog"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/core/secret"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/models"
	"ullage/fleet/noun"
	"ullage/fleet/settings"
)

// Most is how many layers there may be.
const Most = 1000

// Order is the order in which layers stand, the lowest first.
type Order struct{ Names []string }

// Version is a layer as it was from a time on.
type Version struct {
	ID    string // in the order of time
	Name  string
	At    time.Time
	By    string
	Verb  string // added, changed or removed
	Layer layering.Layer
}

// Records reads what is stored. What changes is put into commits as layering.Layer, Order
// and Version.
type Records interface {
	Layers(context.Context) ([]layering.Layer, error)
	LayerOrder(context.Context) (Order, error)
	// LayerVersions returns those of a layer, the newest first.
	LayerVersions(ctx context.Context, name string) ([]Version, error)
	// Since returns what everything of a kind was at a time, and every change of it after
	// that.
	Since(ctx context.Context, kind commit.ValidityKind, from time.Time) ([]commit.Validity, error)
}

// Options are what Layers are made of.
type Options struct {
	Records  Records
	Commits  *commit.Writer
	Devices  *devices.Registry
	Models   *models.Catalogue
	Settings *settings.Settings
	// Rules are those in force, and Raised tells whether one is raised on a device.
	Rules  func() []rule.Rule
	Raised func(d devices.Device, rule string) bool
	// Secrets seals what nobody may read; without it no secret is taken.
	Secrets *secret.Box
	// Zone is that of a device.
	Zone func(device string) *time.Location
	// WavesAbove is from how many devices on a change goes out in waves, unless whoever makes
	// it says otherwise; never if it is 0.
	WavesAbove int
	// ApprovalAbove is from how many devices on a second person approves a change; never if
	// it is 0.
	ApprovalAbove int
	Log           *slog.Logger
	Now           func() time.Time
}

// Layers holds every layer.
type Layers struct {
	*noun.Register[layering.Layer]
	o     Options
	order *commit.Table[string, []string]

	editing sync.Mutex // held by whoever changes layers, until that is on disk

	cacheMu sync.RWMutex
	cache   map[cacheKey]*compiled

	hours hours

	rolling func(tx *commit.Tx, layer, device string) (*layering.Layer, bool)
	busy    func(layer string) error
}

// Rolling has rollouts say which version of a layer a device has, where that is not the
// layer as it is, and refuse changes of a layer that is being rolled out. It must be called
// before Start.
func (l *Layers) Rolling(content func(tx *commit.Tx, layer, device string) (version *layering.Layer, rolling bool), busy func(layer string) error) {
	l.rolling, l.busy = content, busy
}

// onto is the version of a layer that a device has, which is another one while the layer is
// being rolled out; false where it has none yet.
func (l *Layers) onto(tx *commit.Tx, x layering.Layer, device string) (layering.Layer, bool) {
	if l.rolling == nil {
		return x, true
	}
	is, rolling := l.rolling(tx, x.Name, device)
	if !rolling {
		return x, true
	}
	if is == nil {
		return x, false
	}
	return is.For(x), true // its author may reach other devices by now
}

// free returns an error where a layer is being rolled out.
func (l *Layers) free(name string) error {
	if l.busy == nil {
		return nil
	}
	return l.busy(name)
}

const theOrder = "order"

// Open reads every layer.
func Open(ctx context.Context, o Options) (*Layers, error) {
	stored, err := o.Records.Layers(ctx)
	if err != nil {
		return nil, err
	}
	order, err := o.Records.LayerOrder(ctx)
	if err != nil {
		return nil, err
	}
	l := &Layers{o: o, cache: map[cacheKey]*compiled{}}
	l.order = commit.NewTable(map[string][]string{theOrder: whole(order.Names, stored)})
	l.Register = noun.New(noun.Options[layering.Layer]{Word: "layer", Name: func(x layering.Layer) string { return x.Name },
		Check: func(x layering.Layer) error {
			if err := x.Check(); err != nil {
				return fault.New(fault.Invalid, "%s", err)
			}
			return nil
		},
		Most: Most, Stored: stored, Commits: o.Commits, Now: o.Now, Told: l.told,
		After: func(old, next *layering.Layer) { l.touch(old, next) }})
	o.Settings.Lay(layering.FromLayer, func(tx *commit.Tx, d devices.Device, m *model.Model) []layering.Part {
		return l.parts(l.view(tx), d, m)
	})
	return l, nil
}

// whole is an order of all layers: what it does not name stands on top.
func whole(order []string, all []layering.Layer) []string {
	var out []string
	there := map[string]bool{}
	for _, x := range all {
		there[x.Name] = true
	}
	for _, name := range order {
		if there[name] {
			out = append(out, name)
			delete(there, name)
		}
	}
	for _, x := range all {
		if there[x.Name] {
			out = append(out, x.Name)
		}
	}
	return out
}

// told keeps the order and the versions in step with the layers, in their commit.
func (l *Layers) told(tx *commit.Tx, old, next *layering.Layer, by string) {
	order, _ := l.order.In(tx, theOrder)
	verb, of := "changed", next
	switch {
	case old == nil:
		verb = "added"
		if !slices.Contains(order, next.Name) {
			order = append(slices.Clone(order), next.Name)
		}
	case next == nil:
		verb, of = "removed", old
		order = slices.DeleteFunc(slices.Clone(order), func(n string) bool { return n == old.Name })
	}
	if verb != "changed" {
		l.setOrder(tx, order)
	}
	l.trim(tx, of.Name)
	tx.Put(Version{ID: fact.NewID(l.o.Now()), Name: of.Name, At: l.o.Now(), By: by, Verb: verb, Layer: *of})
}

// maxVersions is how many versions of a layer are kept.
const maxVersions = 200

// trim takes out the oldest versions of a layer, before another one comes. What cannot be
// read is trimmed with a later one.
func (l *Layers) trim(tx *commit.Tx, name string) {
	all, err := l.o.Records.LayerVersions(context.Background(), name)
	if err != nil || len(all) < maxVersions {
		return
	}
	for _, v := range all[maxVersions-1:] {
		tx.Put(commit.Delete{Record: Version{ID: v.ID}})
	}
}

func (l *Layers) setOrder(tx *commit.Tx, order []string) {
	tx.Put(Order{order})
	l.order.Set(tx, theOrder, order)
}

// Names returns the names of the layers in their order, the lowest first.
func (l *Layers) Names() []string {
	order, _ := l.order.Get(theOrder)
	return order
}

// Ordered returns the layers in their order, the lowest first.
func (l *Layers) Ordered() []layering.Layer {
	var out []layering.Layer
	for _, name := range l.Names() {
		if x, ok := l.Find(name); ok {
			out = append(out, x)
		}
	}
	return out
}

// Versions returns the versions of a layer, the newest first; also of one that was removed.
func (l *Layers) Versions(ctx context.Context, name string) ([]Version, error) {
	out, err := l.o.Records.LayerVersions(ctx, name)
	if err == nil && len(out) == 0 {
		return nil, l.Unknown(name)
	}
	return out, err
}

// view is the layers as a use case, or a preview, sees them.
type view struct {
	order    []string
	find     func(name string) (layering.Layer, bool)
	proposed string // the layer that a preview puts
	tx       *commit.Tx
}

func (l *Layers) view(tx *commit.Tx) view {
	if tx == nil {
		return view{order: l.Names(), find: l.Find}
	}
	order, _ := l.order.In(tx, theOrder)
	return view{order: order, find: func(name string) (layering.Layer, bool) { return l.FindIn(tx, name) }, tx: tx}
}

// cacheKey says of which layer, in which version, and for which model something was made.
type cacheKey struct {
	name, target, access string
	set                  uintptr
	model                *model.Model
}

// compiled is a layer made ready for the devices of a version of a model.
type compiled struct {
	part    layering.Part
	nothing bool           // it has nothing for the model
	never   bool           // its target says nothing of the model
	access  *person.Access // of its author; nil for every device
	program *expr.Program  // nil for every device
	set     map[string]any // keeps the key's pointer alive

	mu    sync.Mutex
	state *expr.State
}

// maxCache is how much is kept compiled.
const maxCache = 20_000

func (l *Layers) compiled(x layering.Layer, m *model.Model) *compiled {
	k := cacheKey{x.Name, x.Target, x.Access, reflect.ValueOf(x.Set).Pointer(), m}
	l.cacheMu.RLock()
	c := l.cache[k]
	l.cacheMu.RUnlock()
	if c != nil {
		return c
	}
	c = l.compile(x, m)
	l.cacheMu.Lock()
	defer l.cacheMu.Unlock()
	if len(l.cache) >= maxCache {
		clear(l.cache)
	}
	l.cache[k] = c
	return c
}

func (l *Layers) compile(x layering.Layer, m *model.Model) *compiled {
	c := &compiled{set: x.Set, part: layering.Part{Origin: layering.Origin{Source: layering.FromLayer, Name: x.Name}, Gives: layering.Settings{}}}
	for name, v := range x.Set {
		p, ok := m.Property(name)
		if !ok || p.Role != model.Setting {
			continue
		}
		if v == nil {
			c.part.Removes = append(c.part.Removes, name)
			continue
		}
		if given, wrong := m.Fields(map[string]any{name: v}, model.Setting); len(wrong) == 0 {
			c.part.Gives[name] = given[name]
		}
	}
	slices.Sort(c.part.Removes)
	if x.Access != "" {
		var err error
		if c.access, err = person.NewAccess(x.Access); err != nil {
			c.never = true
		}
	}
	if c.nothing = len(c.part.Gives)+len(c.part.Removes) == 0; strings.TrimSpace(x.Target) == "" {
		return c
	}
	p, _ := expr.Compile(x.Target, check.SchemaAmong(m, l.o.Models.List(), l.around()), expr.ForLayer)
	if c.program = p; p == nil {
		c.never = true
		return c
	}
	c.state = p.Plan().NewState(time.Time{})
	return c
}

func (l *Layers) around() check.Around {
	var names []string
	for _, r := range l.o.Rules() {
		names = append(names, r.Name)
	}
	return check.Around{Rules: names}
}

// parts are what the layers give a device, the lowest first.
func (l *Layers) parts(v view, d devices.Device, m *model.Model) []layering.Part {
	var out []layering.Part
	for _, name := range v.order {
		x, ok := v.find(name)
		if !ok {
			continue
		}
		if name != v.proposed {
			if x, ok = l.onto(v.tx, x, d.ID); !ok {
				continue
			}
		}
		if c := l.compiled(x, m); !c.nothing && l.matches(c, d) == expr.True {
			out = append(out, c.part)
		}
	}
	return out
}

// matches tells whether a device is among the target of a layer.
func (l *Layers) matches(c *compiled, d devices.Device) expr.Truth { return l.truth(c, d, false) }

// truth is matches, or, at any time, whether it might be: then hours of the week and alarms
// are unknown.
func (l *Layers) truth(c *compiled, d devices.Device, ever bool) expr.Truth {
	switch {
	case c.never:
		return expr.Unknown
	case c.access != nil && !c.access.Reaches(d.ID, d.Model, d.Labels):
		return expr.False
	case c.program == nil:
		return expr.True
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.state
	s.Joined(d.JoinedAt)
	if s.In(l.o.Zone(d.ID)); ever {
		s.In(nil)
	}
	s.Advance(l.o.Now())
	s.From(func(_ int, n *expr.Info) expr.Sample {
		if ever && n.Name.Scope == "raised" {
			if slices.ContainsFunc(l.o.Rules(), func(r rule.Rule) bool { return r.Name == n.Name.Key && r.Names(d.Model) }) {
				return expr.Sample{}
			}
		}
		return l.sample(d, n)
	})
	return c.program.Truth(s)
}

func (l *Layers) sample(d devices.Device, n *expr.Info) expr.Sample {
	if n.Absent {
		return expr.Sample{}
	}
	text := func(s string) expr.Sample { return expr.Sample{Value: value.OfText(s)} }
	switch n.Name.Scope {
	case "label":
		return text(d.Labels[n.Name.Key])
	case "attr":
		return expr.Sample{Value: d.Attributes[n.Name.Key]}
	case "raised":
		return expr.Sample{Value: value.OfBool(l.o.Raised(d, n.Name.Key))}
	case "device":
		switch n.Name.Key {
		case "id":
			return text(d.ID)
		case "name":
			return text(d.Name)
		case "hub":
			return text(d.Hub)
		case "model":
			return text(d.Model)
		case "model_version":
			return text(d.Version)
		case "joined":
			return expr.Sample{Value: value.OfNumber(float64(d.JoinedAt.UnixMilli()) / 1000)}
		}
	}
	return expr.Sample{}
}

// touch has the settings of all devices worked out again that a layer may be for.
func (l *Layers) touch(all ...*layering.Layer) {
	has := map[*model.Model]bool{}
	var ids []string
	for _, d := range l.o.Devices.List() {
		m, err := l.o.Models.Of(d.Model, d.Version)
		if err != nil || d.Status == devices.Retired {
			continue
		}
		concerns, known := has[m]
		if !known {
			for _, x := range all {
				concerns = concerns || x != nil && concernsModel(x, m)
			}
			has[m] = concerns
		}
		if concerns {
			ids = append(ids, d.ID)
		}
	}
	l.o.Settings.Touch(ids...)
}

func concernsModel(x *layering.Layer, m *model.Model) bool {
	for name := range x.Set {
		if p, ok := m.Property(name); ok && p.Role == model.Setting {
			return true
		}
	}
	return false
}

// Asked returns what layers have to do with rules.
func (l *Layers) Asked() []check.Layer {
	var out []check.Layer
	for _, x := range l.Ordered() {
		if asked := check.LayerOf(&x); len(asked.Asks) > 0 {
			out = append(out, asked)
		}
	}
	return out
}

// inUse are the newest version of each model, and every version that a device has.
func (l *Layers) inUse() []*model.Model {
	seen := map[*model.Model]bool{}
	var out []*model.Model
	add := func(m *model.Model) {
		if !seen[m] {
			seen[m] = true
			out = append(out, m)
		}
	}
	for _, m := range l.o.Models.List() {
		add(m)
	}
	for v := range l.o.Devices.Versions() {
		if m, err := l.o.Models.Of(v[0], v[1]); err == nil {
			add(m)
		}
	}
	slices.SortFunc(out, func(a, b *model.Model) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), model.CompareVersions(a.Version, b.Version))
	})
	return out
}

// scope tells of which versions of models devices are, or may come to be by the hour or by
// an alarm, among the target of a layer. Where there is no such device it is nil: every
// model counts.
func (l *Layers) scope(x *layering.Layer) func(*model.Model) bool {
	if x.Check() != nil {
		return nil
	}
	in := map[*model.Model]bool{}
	for _, d := range l.o.Devices.List() {
		m, err := l.o.Models.Of(d.Model, d.Version)
		if err != nil || in[m] || d.Status == devices.Retired {
			continue
		}
		c := l.compiled(*x, m)
		in[m] = !c.nothing && l.truth(c, d, true) != expr.False && !c.never
	}
	for _, is := range in {
		if is {
			return func(m *model.Model) bool { return in[m] }
		}
	}
	return nil
}

// within are the models in use that a layer may be about: of one whose author has some
// devices, those of these devices.
func (l *Layers) within(x *layering.Layer) []*model.Model {
	all := l.inUse()
	if x.Access == "" {
		return all
	}
	reaches, err := person.NewAccess(x.Access)
	has := map[[2]string]bool{}
	for _, d := range l.o.Devices.List() {
		if err == nil && reaches.Reaches(d.ID, d.Model, d.Labels) {
			has[[2]string{d.Model, d.Version}] = true
		}
	}
	return slices.DeleteFunc(all, func(m *model.Model) bool { return !has[[2]string{m.Name, m.Version}] })
}

// judge checks a layer against models, rules and the other layers.
func (l *Layers) judge(x *layering.Layer) (check.LayerFit, error) {
	models := l.within(x)
	if len(models) == 0 && x.Access != "" {
		return check.LayerFit{}, fault.New(fault.Invalid, "%s reaches no device, so a layer of theirs would be for none", x.Author).On("layer")
	}
	var rules []*rule.Rule
	for _, r := range l.o.Rules() {
		rules = append(rules, &r)
	}
	fit, wrong := check.FitLayer(x, models, l.scope(x), rules, l.around())
	if len(wrong) > 0 {
		e := fault.New(fault.Invalid, "the layer %s was not saved: %s", value.Clip(x.Name, 63), model.Findings(wrong).Error()).On("layer")
		e.Findings = wrong
		return fit, e
	}
	var asked []check.Layer
	for _, o := range l.Ordered() {
		if o.Name != x.Name {
			asked = append(asked, check.LayerOf(&o))
		}
	}
	asked = append(asked, check.LayerOf(x))
	if loop := check.Loop(rules, asked, l.o.Models.List()); loop != "" {
		if x.Access != "" { // the way there may lead through what its author does not see
			loop = "what it gives changes whether raised(" + strings.Join(x.Asks(), "), raised(") + ") is true"
		}
		return fit, fault.New(fault.Invalid, "the layer %s would come and go by what it gives itself: %s", x.Name, loop).
			Then("give another setting, or ask for another rule").On("layer")
	}
	return fit, nil
}

// Put makes a layer, on top of the others, or changes the one of its name.
func (l *Layers) Put(ctx context.Context, x layering.Layer, cond noun.If, by string) (noun.Saved[layering.Layer], error) {
	l.editing.Lock()
	defer l.editing.Unlock()
	x.Target = strings.TrimSpace(x.Target)
	if err := l.free(x.Name); err != nil {
		return noun.Saved[layering.Layer]{}, err
	}
	if _, err := l.judge(&x); err != nil {
		return noun.Saved[layering.Layer]{}, err
	}
	if err := l.AtOnce(false, Proposal{Layer: &x}); err != nil {
		return noun.Saved[layering.Layer]{}, err
	}
	x, err := l.Sealed(x)
	if err != nil {
		return noun.Saved[layering.Layer]{}, err
	}
	return l.Register.Put(ctx, x, cond, by)
}

// Sealed returns a layer with every secret in it sealed, as it is kept; what is the same
// as before stays as it stands. What is sealed already must be of this service.
func (l *Layers) Sealed(x layering.Layer) (layering.Layer, error) {
	var secrets []string
	for _, m := range l.inUse() {
		for name, v := range x.Set {
			if p, ok := m.Property(name); ok && p.Secret && v != nil {
				secrets = append(secrets, name)
			}
		}
	}
	if len(secrets) == 0 {
		return x, nil
	}
	before, _ := l.Find(x.Name)
	x.Set = maps.Clone(x.Set)
	for _, name := range secrets {
		old, _ := value.FromAny(before.Set[name])
		v, err := value.FromAny(x.Set[name])
		if err == nil {
			v, err = l.o.Secrets.Renew(name, old, v)
		}
		if err != nil {
			return x, fault.New(fault.Invalid, "the layer %s was not saved: %s is a secret, and %s", x.Name, name, err).On("layer")
		}
		x.Set[name] = v.Any()
	}
	return x, nil
}

// Remove takes a layer out.
func (l *Layers) Remove(ctx context.Context, name string, cond noun.If, by string) error {
	l.editing.Lock()
	defer l.editing.Unlock()
	if err := l.free(name); err != nil {
		return err
	}
	if _, there := l.Find(name); there {
		if err := l.AtOnce(false, Proposal{Remove: name}); err != nil {
			return err
		}
	}
	return l.Register.Remove(ctx, name, cond, by)
}

// Regranted lets the layers of somebody follow what they reach now: everything where access is
// empty, and then the layers are nobody's in particular.
func (l *Layers) Regranted(ctx context.Context, author, access string) error {
	l.editing.Lock()
	defer l.editing.Unlock()
	for _, x := range l.List() {
		if x.Author != author || x.Access == access {
			continue
		}
		if x.Access = access; access == "" {
			x.Author = ""
		}
		if _, err := l.Register.Put(ctx, x, noun.If{}, ""); err != nil {
			return err
		}
	}
	return nil
}

// checkOrder says what is wrong with an order.
func (l *Layers) checkOrder(order []string) error {
	is, want := slices.Sorted(slices.Values(order)), slices.Sorted(slices.Values(l.Names()))
	if slices.Equal(is, want) {
		return nil
	}
	for i, name := range is {
		if i > 0 && is[i-1] == name {
			return fault.New(fault.Invalid, "%s stands twice in the order", value.Clip(name, 63)).Then("name each layer once").On("layer")
		}
		if !slices.Contains(want, name) {
			return l.Unknown(name)
		}
	}
	for _, name := range want {
		if !slices.Contains(is, name) {
			return fault.New(fault.Invalid, "the order does not name %s", name).Then("name every layer, the lowest first").On("layer")
		}
	}
	return nil
}

// Arrange puts the layers into another order, the lowest first.
func (l *Layers) Arrange(ctx context.Context, order []string, by string) error {
	l.editing.Lock()
	defer l.editing.Unlock()
	if err := l.checkOrder(order); err != nil {
		return err
	}
	return l.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		was, _ := l.order.In(tx, theOrder)
		if slices.Equal(was, order) {
			return nil
		}
		l.StageOrder(tx, order, by)
		return nil
	})
}

// StageOrder puts the layers into an order in the commit of tx. The order names all that
// there are then.
func (l *Layers) StageOrder(tx *commit.Tx, order []string, by string) {
	l.setOrder(tx, order)
	tx.Tell(fact.New(l.o.Now(), fact.Ordered{Order: order}).By(by))
	tx.After(func() {
		var all []*layering.Layer
		for _, x := range l.Ordered() {
			all = append(all, &x)
		}
		l.touch(all...)
	})
}

// Handle works out again what follows from alarms and from the hours of the week.
func (l *Layers) Handle(shard int, ev event.Event) {
	switch ev := ev.(type) {
	case event.Alarm:
		if !l.asks(ev.Rule) {
			return
		}
		if ev.Device != "" {
			l.o.Settings.Touch(ev.Device)
		} else if label, value, ok := strings.Cut(ev.Group, "="); ok {
			var ids []string
			for _, d := range l.o.Devices.List() {
				if d.Labels[label] == value {
					ids = append(ids, d.ID)
				}
			}
			l.o.Settings.Touch(ids...)
		}
	case event.Models, event.Rules:
		l.cacheMu.Lock()
		clear(l.cache)
		l.cacheMu.Unlock()
	case event.Device: // its zone may be another one
		if len(l.timed()) > 0 {
			l.o.Settings.Touch(ev.Device)
		}
	case event.Tick:
		if shard == 0 {
			l.tick(ev.Now)
		}
	}
}

func (l *Layers) asks(rule string) bool {
	for _, x := range l.Ordered() {
		if strings.Contains(x.Target, "raised") && slices.Contains(x.Asks(), rule) {
			return true
		}
	}
	return false
}

// hours notes which hours of the week hold, by layer and zone; the first shard's alone.
type hours struct {
	minute int64
	held   map[string]bool
}

// timed are the layers whose targets ask for hours of the week.
func (l *Layers) timed() []layering.Layer {
	var out []layering.Layer
	for _, x := range l.Ordered() {
		if strings.Contains(x.Target, "during") {
			out = append(out, x)
		}
	}
	return out
}

// tick looks once a minute at what begins and ends by the hours of the week.
func (l *Layers) tick(now time.Time) {
	minute := now.Unix() / 60
	if minute == l.hours.minute {
		return
	}
	l.hours.minute = minute
	timed := l.timed()
	if len(timed) == 0 {
		l.hours.held = nil
		return
	}
	zones := map[string]*time.Location{}
	for _, d := range l.o.Devices.List() {
		z := l.o.Zone(d.ID)
		zones[z.String()] = z
	}
	held := map[string]bool{}
	var turned []*layering.Layer
	for _, x := range timed {
		tree, _ := expr.Parse(x.Target)
		turns := false
		tree.Schedules(func(src string) {
			week, err := expr.ParseWeek(src)
			if err != nil {
				return
			}
			for name, z := range zones {
				k := x.Name + "\x00" + src + "\x00" + name
				held[k] = week.Holds(now.In(z))
				if was, known := l.hours.held[k]; !known || was != held[k] {
					turns = true
				}
			}
		})
		if turns {
			turned = append(turned, &x)
		}
	}
	l.hours.held = held
	if len(turned) > 0 {
		l.touch(turned...)
	}
}

func nameOf(x *layering.Layer) string {
	if x == nil {
		return ""
	}
	return x.Name
}

// Apply makes a proposal of layers so, in one commit. With the tag of a preview it fails
// where the proposal would change something else by now; one of more devices than go at once
// fails unless atOnce says that it shall.
func (l *Layers) Apply(ctx context.Context, p Proposal, tag string, atOnce bool, by string) error {
	l.editing.Lock()
	defer l.editing.Unlock()
	if p.Layer == nil && p.Remove == "" && p.Order == nil {
		return fault.New(fault.Invalid, "no layer and no order is named, so nothing would change").Then("name one of them")
	}
	if _, _, err := l.proposed(p); err != nil {
		return err
	}
	for _, name := range []string{nameOf(p.Layer), p.Remove} {
		if err := l.free(name); err != nil {
			return err
		}
	}
	if err := l.Same(p, tag); err != nil {
		return err
	}
	if err := l.AtOnce(atOnce, p); err != nil {
		return err
	}
	return l.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		if p.Layer != nil {
			if err := l.Stage(tx, []layering.Layer{*p.Layer}, by); err != nil {
				return err
			}
		}
		if p.Remove != "" {
			if err := l.StageRemove(tx, p.Remove, by); err != nil {
				return err
			}
		}
		if was, _ := l.order.In(tx, theOrder); p.Order != nil && !slices.Equal(was, p.Order) {
			l.StageOrder(tx, p.Order, by)
		}
		return nil
	})
}

// AtOnce returns an error where proposals together would change the settings of more devices
// than may change at once: more than go out in waves unless somebody says at once, and more
// than one person alone may change.
func (l *Layers) AtOnce(said bool, ps ...Proposal) error {
	if (l.o.WavesAbove == 0 || said) && l.o.ApprovalAbove == 0 {
		return nil
	}
	others := map[string]bool{}
	for _, p := range ps {
		would, err := l.Preview(p, nil)
		if err != nil {
			return err
		}
		for _, x := range would.Differences {
			others[x.Device] = true
		}
	}
	n := len(others)
	switch {
	case l.o.ApprovalAbove > 0 && n > l.o.ApprovalAbove:
		return fault.New(fault.Conflict, "the settings of %d devices would change; above %d, a second person approves it", n, l.o.ApprovalAbove).
			Then("start a rollout, which waits for that, or change fewer devices").On("layer")
	case l.o.WavesAbove > 0 && !said && n > l.o.WavesAbove:
		return fault.New(fault.Conflict, "the settings of %d devices would change at once; above %d, a change goes out in waves", n, l.o.WavesAbove).
			Then("start a rollout of it, or say that all get it at once").On("layer")
	}
	return nil
}

// Stage makes layers part of a commit. Every way to keep one leads through here: secrets are
// sealed at the latest now.
func (l *Layers) Stage(tx *commit.Tx, xs []layering.Layer, by string) error {
	sealed := make([]layering.Layer, len(xs))
	for i, x := range xs {
		var err error
		if sealed[i], err = l.Sealed(x); err != nil {
			return err
		}
	}
	return l.Register.Stage(tx, sealed, by)
}

// WavesAbove is from how many devices on a change goes out in waves; 0 for never.
func (l *Layers) WavesAbove() int { return l.o.WavesAbove }
