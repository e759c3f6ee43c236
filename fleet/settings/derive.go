package settings

import (
	"runtime"
	"slices"
	"sync"
	"time"

	"ullage/core/layering"
	"ullage/core/model"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fault"
)

// What is intended for a device follows from its model, from what is laid over that, and
// from its own override. Where something else than the device changes, such as a layer, it
// is worked out again in slices behind that commit; a start works all of it out again, so
// that a crash in between leaves nothing as it was.

// Over tells what is laid between the defaults of a device's model and its own override,
// the weakest first. It runs in the writer; the device is as the use case leaves it.
type Over func(tx *commit.Tx, d devices.Device, m *model.Model) []layering.Part

type laid struct {
	source layering.Source
	over   Over
}

// Lay adds what a source lays over the defaults. It must be called before Start.
func (b *Settings) Lay(source layering.Source, over Over) {
	b.over = append(b.over, laid{source, over})
	slices.SortStableFunc(b.over, func(x, y laid) int { return x.source.Rank() - y.source.Rank() })
}

// stale are devices whose intended settings may have become others.
type stale struct {
	mu     sync.Mutex
	ids    map[string]bool
	queued bool          // a slice is on its way
	idle   chan struct{} // closed once nothing is left; nil while nobody waits
	// waiting are devices that have had as many revisions in this hour as they may, with
	// when they may have the next.
	waiting map[string]time.Time
	ends    map[string]time.Time // when something of a device's override ends
}

// mayRevise reports whether a device may have another revision, and notes it; else it is
// worked out again when it may.
func (b *Settings) mayRevise(tx *commit.Tx, id string, at time.Time) bool {
	if b.revisions == 0 {
		return true
	}
	before := b.recent[id]
	made := slices.DeleteFunc(slices.Clone(before), func(t time.Time) bool { return at.Sub(t) >= time.Hour || t.After(at) })
	if len(made) >= b.revisions {
		next := made[0].Add(time.Hour)
		tx.After(func() {
			b.stale.mu.Lock()
			defer b.stale.mu.Unlock()
			if b.stale.waiting == nil {
				b.stale.waiting = map[string]time.Time{}
			}
			b.stale.waiting[id] = next
		})
		return false
	}
	b.recent[id] = append(made, at)
	tx.Undo(func() { b.recent[id] = before })
	return true
}

// Waits returns when a device gets what is intended for it, where it has had as many
// revisions in this hour as it may; the zero time if it does not wait.
func (b *Settings) Waits(id string) time.Time {
	b.stale.mu.Lock()
	defer b.stale.mu.Unlock()
	return b.stale.waiting[id]
}

// due has the devices worked out again that may have another revision by now.
func (b *Settings) due(now time.Time) {
	var ids []string
	b.stale.mu.Lock()
	for id, at := range b.stale.waiting {
		if !now.Before(at) {
			ids = append(ids, id)
			delete(b.stale.waiting, id)
		}
	}
	b.stale.mu.Unlock()
	if len(ids) > 0 {
		b.Touch(ids...)
	}
}

// UpToDate reports whether what a device was sent is what is intended for it now.
func (b *Settings) UpToDate(id string) bool {
	s, m, err := b.Of(id)
	if err != nil {
		return false
	}
	d, err := b.devices.Get(id)
	if err != nil {
		return false
	}
	intended, _ := b.merged(nil, d, m, &s).split(m)
	return intended.Equal(s.Intended)
}

// Wanted returns what is intended for a device, also where it has not been sent yet.
func (b *Settings) Wanted(id string) (layering.Settings, error) {
	s, m, err := b.Of(id)
	if err != nil {
		return nil, err
	}
	d, err := b.devices.Get(id)
	if err != nil {
		return nil, err
	}
	return b.merged(nil, d, m, &s).Settings, nil
}

// merged is what is intended for a device.
type merged struct{ layering.Merged }

// split parts it into what is sent to the device and what the service keeps.
func (x merged) split(m *model.Model) (intended, kept layering.Settings) {
	intended, kept = layering.Settings{}, layering.Settings{}
	for name, v := range x.Settings {
		p, ok := m.Property(name)
		switch {
		case !ok || p.Role != model.Setting:
		case p.KeptByService:
			kept[name] = v
		default:
			intended[name] = v
		}
	}
	return intended, kept
}

func defaults(m *model.Model) layering.Settings {
	out := layering.Settings{}
	for _, p := range m.With(model.Setting) {
		if p.Default.Known() {
			out[p.Name] = p.Default
		}
	}
	return out
}

// merged lays over the defaults of a device whatever there is, its override on top. What
// the model does not allow is left out.
func (b *Settings) merged(tx *commit.Tx, d devices.Device, m *model.Model, s *State) merged {
	return merged{layering.Merge(defaults(m), b.parts(tx, d, m, s)...)}
}

func (b *Settings) parts(tx *commit.Tx, d devices.Device, m *model.Model, s *State) []layering.Part {
	var parts []layering.Part
	for _, l := range b.over {
		parts = append(parts, l.over(tx, d, m)...)
	}
	return fitting(parts, m, s)
}

// Would returns what would be intended for a device if it were d, of model m, and its layers
// gave those parts.
func (b *Settings) Would(d devices.Device, m *model.Model, layers []layering.Part) layering.Merged {
	s, ok := b.states.Get(d.ID)
	if !ok {
		s = &State{}
	}
	var parts []layering.Part
	for _, l := range b.over {
		if l.source == layering.FromLayer {
			parts = append(parts, layers...)
		} else {
			parts = append(parts, l.over(nil, d, m)...)
		}
	}
	return layering.Merge(defaults(m), fitting(parts, m, s)...)
}

// fitting leaves out of parts what a model does not allow, and puts the override on top.
func fitting(parts []layering.Part, m *model.Model, s *State) []layering.Part {
	for i := range parts {
		lost := unfit(parts[i].Gives, m)
		if len(lost) == 0 {
			continue
		}
		fits := layering.Settings{}
		for name, v := range parts[i].Gives {
			if _, gone := lost[name]; !gone {
				fits[name] = v
			}
		}
		parts[i].Gives = fits
	}
	over := layering.Part{Origin: layering.Origin{Source: layering.FromOverride}, Gives: s.Override}
	if lost := unfit(s.Override, m); len(lost) > 0 {
		over.Gives = layering.Settings{}
		for name, v := range s.Override {
			if _, gone := lost[name]; !gone {
				over.Gives[name] = v
			}
		}
	}
	return append(parts, over)
}

// Parts returns all that is laid over the defaults of a device, the weakest first, its
// override last.
func (b *Settings) Parts(id string) ([]layering.Part, error) {
	s, m, err := b.Of(id)
	if err != nil {
		return nil, err
	}
	d, err := b.devices.Get(id)
	if err != nil {
		return nil, err
	}
	return b.parts(nil, d, m, &s), nil
}

// Origins says where each intended value of a device comes from.
func (b *Settings) Origins(id string) (map[string]layering.Origin, error) {
	parts, err := b.Parts(id)
	if err != nil {
		return nil, err
	}
	_, m, err := b.Of(id)
	if err != nil {
		return nil, err
	}
	return layering.Merge(defaults(m), parts...).Origin, nil
}

// keptBefore is what the service keeps of a device that has no layers.
func (b *Settings) keptBefore(s *State) layering.Settings {
	out := layering.Settings{}
	d, err := b.devices.Get(s.Device)
	if err != nil {
		return out
	}
	m, err := b.models.Of(d.Model, d.Version)
	if err != nil {
		return out
	}
	_, out = merged{layering.Merge(defaults(m), layering.Part{Gives: s.Override})}.split(m)
	return out
}

// Start goes on with the changes of many devices that were interrupted, and works out what is
// intended for every device, where a stop of the service left something undone. From then on
// Touch works it out again. Before it, not all sources are laid, so nothing is worked out.
func (b *Settings) Start() {
	var jobs []string
	for id := range b.jobs.All() {
		jobs = append(jobs, id)
	}
	for _, id := range jobs {
		b.slice(id)
	}
	all := make([]string, 0, b.states.Len())
	for _, d := range b.devices.List() {
		all = append(all, d.ID)
	}
	b.Touch(all...)
}

// Touch has the intended settings of devices worked out again, soon.
func (b *Settings) Touch(ids ...string) {
	b.stale.mu.Lock()
	if b.stale.ids == nil {
		b.stale.ids = make(map[string]bool, len(ids))
	}
	for _, id := range ids {
		b.stale.ids[id] = true
	}
	b.stale.mu.Unlock()
	b.queue()
}

// queue queues a slice, if there is something to do and none is on its way.
func (b *Settings) queue() {
	b.stale.mu.Lock()
	if len(b.stale.ids) == 0 && !b.stale.queued && b.stale.idle != nil {
		close(b.stale.idle)
		b.stale.idle = nil
	}
	begin := len(b.stale.ids) > 0 && !b.stale.queued
	b.stale.queued = b.stale.queued || begin
	b.stale.mu.Unlock()
	if !begin {
		return
	}
	b.commits.Go(b.derive, func(err error) {
		b.stale.mu.Lock()
		b.stale.queued = false
		b.stale.mu.Unlock()
		switch {
		case err == nil:
			b.queue()
		case !fault.Is(err, fault.Stopping):
			b.log.Error("what is intended for some devices was not worked out yet and will be tried again", "error", err)
			time.AfterFunc(time.Second, b.queue)
		}
	})
}

// take returns some of the devices whose settings may have become others.
func (b *Settings) take(most int) []string {
	b.stale.mu.Lock()
	defer b.stale.mu.Unlock()
	out := make([]string, 0, min(most, len(b.stale.ids)))
	for id := range b.stale.ids {
		if len(out) == most {
			break
		}
		out = append(out, id)
		delete(b.stale.ids, id)
	}
	slices.Sort(out)
	return out
}

// The bounds of one slice of a derivation: devices that are looked at, devices whose
// documents change.
const (
	looksAt = 400
	derives = 40
)

// derive works out what is intended for some devices, within one commit.
func (b *Settings) derive(tx *commit.Tx) error {
	ids := b.take(looksAt)
	tx.Undo(func() { b.Touch(ids...) })
	changed := 0
	for i, id := range ids {
		if changed >= derives {
			b.Touch(ids[i:]...)
			break
		}
		d, ok := b.devices.In(tx, id)
		if !ok || d.Status == devices.Retired {
			continue
		}
		m, err := b.models.Of(d.Model, d.Version)
		if err != nil {
			continue
		}
		was := b.in(tx, id)
		if was.Revision == 0 {
			continue
		}
		s := *was
		before := s.Revision
		if err := b.revise(tx, was, &s, d, m, "", "", nil, nil); err != nil {
			return err
		}
		if s.Revision != before {
			changed++
			runtime.Gosched() // readings that have come meanwhile go first
		}
	}
	return nil
}

// Derived waits until what is intended for every device follows from what is so now.
func (b *Settings) Derived() {
	for {
		b.stale.mu.Lock()
		if len(b.stale.ids) == 0 && !b.stale.queued {
			b.stale.mu.Unlock()
			return
		}
		if b.stale.idle == nil {
			b.stale.idle = make(chan struct{})
		}
		idle := b.stale.idle
		b.stale.mu.Unlock()
		select {
		case <-idle:
		case <-time.After(time.Second):
			return
		}
	}
}

// Pending returns for how many devices it is not worked out yet.
func (b *Settings) Pending() int {
	b.stale.mu.Lock()
	defer b.stale.mu.Unlock()
	if len(b.stale.ids) == 0 && b.stale.queued {
		return 1 // a slice is on its way
	}
	return len(b.stale.ids)
}

// Handle works out again what may follow from what a device says of itself.
func (b *Settings) Handle(shard int, ev event.Event) {
	switch ev := ev.(type) {
	case event.Attributes:
		if len(b.over) > 0 {
			b.Touch(ev.Device)
		}
	case event.Tick:
		if shard == 0 {
			b.due(ev.Now)
			b.endOverrides(ev.Now)
			b.look(ev.Now)
		}
	}
}
