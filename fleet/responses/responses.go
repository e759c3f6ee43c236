// Package responses carries out what rules do by themselves: while an alarm's condition holds
// it keeps settings on devices, and when the condition begins or ends it gives commands. What
// it keeps is an entry for each response and alarm, below a person's override and above the
// layers; the alarm's return takes that entry away and nothing else.
package responses

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/alarms"
	"ullage/fleet/commands"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/settings"
)

// Entry is what one response of a rule keeps on devices while the condition of an alarm holds.
type Entry struct {
	ID      string // see key
	Rule    string
	Subject string // the device or group that the alarm is on
	Alarm   string
	Set     map[string]any
	Devices []string // in order
	Since   time.Time
	// Left says why it stays although nothing follows the alarm any more: its rule was
	// disabled or removed. Empty while the alarm holds.
	Left string
	// Released is when it stopped giving its values although the condition may hold.
	Released   time.Time
	ReleasedBy string // a person, or empty for the rule itself
}

// Gives reports whether the entry gives its values now.
func (e *Entry) Gives() bool { return e.Released.IsZero() }

// Switch lets every response act, or none.
type Switch struct {
	Off bool
	By  string
	At  time.Time
	Why string
}

// Records reads what is stored. What changes is put into commits as Entry and Switch.
type Records interface {
	Responses(context.Context) ([]Entry, error)
	ResponseSwitch(context.Context) (Switch, error)
}

// Options are what Responses are made of.
type Options struct {
	Records  Records
	Facts    fact.Log
	Commits  *commit.Writer
	Devices  *devices.Registry
	Settings *settings.Settings
	Commands *commands.Queue
	Now      func() time.Time
}

// Responses holds what rules keep on devices.
type Responses struct {
	o       Options
	entries *commit.Table[string, Entry]
	of      *commit.Table[string, []string] // ids of entries by device, in the order they came
	off     *commit.Table[string, Switch]
	// acted is when a response acted on a device in the last hour; the writer's alone.
	acted map[string][]time.Time
}

const theSwitch = "switch"

// Open reads what is kept, and how often each response has acted in the last hour.
func Open(ctx context.Context, o Options) (*Responses, error) {
	stored, err := o.Records.Responses(ctx)
	if err != nil {
		return nil, err
	}
	off, err := o.Records.ResponseSwitch(ctx)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(stored, func(a, b Entry) int {
		return cmp.Or(a.Since.Compare(b.Since), strings.Compare(a.ID, b.ID))
	})
	rows, of := map[string]Entry{}, map[string][]string{}
	for _, e := range stored {
		rows[e.ID] = e
		for _, id := range e.Devices {
			of[id] = append(of[id], e.ID)
		}
	}
	r := &Responses{o: o, entries: commit.NewTable(rows), of: commit.NewTable(of),
		off: commit.NewTable(map[string]Switch{theSwitch: off}), acted: map[string][]time.Time{}}
	latest, err := o.Facts.Facts(ctx, fact.Filter{Kind: fact.ResponseActed, Since: o.Now().Add(-time.Hour), Limit: 10_000})
	if err != nil {
		return nil, err
	}
	for _, f := range latest {
		var c fact.Responded
		if json.Unmarshal(f.Content, &c) == nil && !c.Over {
			for _, id := range c.Devices {
				key := actKey(f.Rule, c.Number, id)
				r.acted[key] = append(r.acted[key], f.At)
			}
		}
	}
	o.Settings.Lay(layering.FromResponse, r.over)
	return r, nil
}

func key(rule, subject string, n int) string { return fmt.Sprintf("%s %s %d", rule, subject, n) }

func actKey(rule string, n int, device string) string {
	return fmt.Sprintf("%s %d %s", rule, n, device)
}

// over gives a device what entries keep on it.
func (r *Responses) over(tx *commit.Tx, d devices.Device, m *model.Model) []layering.Part {
	get, ids := r.entries.Get, []string(nil)
	if tx != nil {
		get = func(id string) (Entry, bool) { return r.entries.In(tx, id) }
		ids, _ = r.of.In(tx, d.ID)
	} else {
		ids, _ = r.of.Get(d.ID)
	}
	var out []layering.Part
	for _, id := range ids {
		e, ok := get(id)
		if !ok || !e.Gives() {
			continue
		}
		gives := layering.Settings{}
		for name, x := range e.Set {
			if p, ok := m.Property(name); ok && p.Role == model.Setting {
				if v, err := p.Check(x); err == nil {
					gives[name] = v
				}
			}
		}
		out = append(out, layering.Part{Origin: layering.Origin{Source: layering.FromResponse, Name: e.Rule}, Gives: gives})
	}
	return out
}

// Follow makes what a rule does by itself follow its alarm, in the commit in which the
// alarm changes. It implements alarms.Responses.
func (r *Responses) Follow(tx *commit.Tx, f alarms.Follow) error {
	off, _ := r.off.In(tx, theSwitch)
	for n := range f.Rule.Responses {
		x := &f.Rule.Responses[n]
		id := key(f.Rule.Name, f.Subject, n)
		e, has := r.entries.In(tx, id)
		switch {
		case x.Command != "":
			if !off.Off && (f.What == alarms.Rose && x.Moment() == rule.WhenRaised && !(f.Aside && x.Releases()) ||
				f.What == alarms.Returned && x.Moment() == rule.WhenReturned && f.Live) {
				r.give(tx, f, n, x)
			}
		case f.What == alarms.Returned:
			if has {
				r.end(tx, e, f, n, "")
			}
		case f.What == alarms.Gone:
			switch {
			case has && x.Releases():
				r.end(tx, e, f, n, "")
			case has:
				e.Left = f.Why
				r.put(tx, e)
			}
		case f.Aside && x.Releases():
			if has && e.Gives() {
				e.Released = r.o.Now()
				r.put(tx, e)
				r.tell(tx, f, n, e.Devices, fact.Responded{Does: x.Does(), Over: true, Why: "its alarm stands aside"})
			}
		case has && maps.Equal(e.Set, x.Set) && e.Left == "":
			if !e.Gives() && e.ReleasedBy == "" { // its alarm does not stand aside any more
				e.Released = time.Time{}
				r.put(tx, e)
				r.tell(tx, f, n, e.Devices, fact.Responded{Does: x.Does()})
			}
		case off.Off:
			if f.What == alarms.Rose && !has {
				r.refuse(tx, f, n, x, "all responses are stopped")
			}
		case f.Live:
			r.begin(tx, f, n, x)
		}
	}
	// What an earlier version of the rule had begun, and this one does not say any more.
	for n := len(f.Rule.Responses); n < rule.MostResponses && f.What == alarms.Edited; n++ {
		if e, has := r.entries.In(tx, key(f.Rule.Name, f.Subject, n)); has {
			r.end(tx, e, f, n, "")
		}
	}
	return nil
}

// begin has a response keep its settings.
func (r *Responses) begin(tx *commit.Tx, f alarms.Follow, n int, x *rule.Response) {
	ids := r.within(tx, f, n, x, func(m *model.Model) bool {
		for name := range x.Set {
			if p, ok := m.Property(name); ok && p.Role == model.Setting {
				return true
			}
		}
		return false
	})
	if len(ids) == 0 {
		return
	}
	id := key(f.Rule.Name, f.Subject, n)
	if old, has := r.entries.In(tx, id); has {
		r.drop(tx, old)
	}
	e := Entry{ID: id, Rule: f.Rule.Name, Subject: f.Subject, Alarm: f.Alarm, Set: x.Set, Devices: ids, Since: r.o.Now()}
	r.put(tx, e)
	for _, device := range ids {
		of, _ := r.of.In(tx, device)
		r.of.Set(tx, device, append(slices.Clone(of), id))
	}
	r.tell(tx, f, n, ids, fact.Responded{Does: x.Does()})
}

// within returns the devices on which a response acts now: those that can do it, and on
// which it has not acted too often in the last hour.
func (r *Responses) within(tx *commit.Tx, f alarms.Follow, n int, x *rule.Response, can func(*model.Model) bool) []string {
	if n < len(f.Missing) && f.Missing[n] != "" {
		r.refuse(tx, f, n, x, f.Missing[n])
		return nil
	}
	var ids, often []string
	now := r.o.Now()
	chosen := []string(nil)
	if n < len(f.Devices) {
		chosen = f.Devices[n]
	}
	for _, id := range chosen {
		d, ok := r.o.Devices.In(tx, id)
		if !ok || d.Status == devices.Retired || d.Status == devices.Suspended {
			continue
		}
		if _, m, err := r.o.Settings.Of(id); err != nil || !can(m) {
			continue
		}
		key := actKey(f.Rule.Name, n, id)
		at := slices.DeleteFunc(slices.Clone(r.acted[key]), func(t time.Time) bool { return now.Sub(t) >= time.Hour })
		if len(at) >= x.Most() {
			often = append(often, id)
			r.acted[key] = at
			continue
		}
		before := r.acted[key]
		r.acted[key] = append(at, now)
		tx.Undo(func() { r.acted[key] = before })
		ids = append(ids, id)
	}
	switch {
	case len(often) > 0:
		r.tell(tx, f, n, often, fact.HeldBack{Does: x.Does(), Why: fmt.Sprintf("it has done so %d times within an hour, which is the most that its rule allows", x.Most())})
	case len(ids) == 0:
		r.refuse(tx, f, n, x, "there is no device that it could act on")
	}
	return ids
}

func (r *Responses) refuse(tx *commit.Tx, f alarms.Follow, n int, x *rule.Response, why string) {
	r.tell(tx, f, n, nil, fact.HeldBack{Does: x.Does(), Why: why})
}

// tell tells what a response did, under the name of its rule.
func (r *Responses) tell(tx *commit.Tx, f alarms.Follow, n int, ids []string, c fact.Content) {
	switch x := c.(type) {
	case fact.Responded:
		x.Rule, x.Number, x.Devices = f.Rule.Name, n, ids
		c = x
	case fact.HeldBack:
		x.Rule, x.Number, x.Devices = f.Rule.Name, n, ids
		c = x
	}
	told := fact.New(r.o.Now(), c)
	told.Rule, told.Alarm = f.Rule.Name, f.Alarm
	if len(ids) == 1 {
		told.Device = ids[0]
	} else if !strings.Contains(f.Subject, "=") {
		told.Device = f.Subject
	} else {
		told.Group = f.Subject
	}
	tx.Tell(told)
}

// end takes an entry away.
func (r *Responses) end(tx *commit.Tx, e Entry, f alarms.Follow, n int, by string) {
	r.drop(tx, e)
	if e.Gives() {
		r.tell(tx, f, n, e.Devices, fact.Responded{Does: (&rule.Response{Set: e.Set}).Does(), Over: true})
	}
}

func (r *Responses) drop(tx *commit.Tx, e Entry) {
	tx.Put(commit.Delete{Record: e})
	r.entries.Drop(tx, e.ID)
	for _, device := range e.Devices {
		of, _ := r.of.In(tx, device)
		if of = slices.DeleteFunc(slices.Clone(of), func(id string) bool { return id == e.ID }); len(of) == 0 {
			r.of.Drop(tx, device)
		} else {
			r.of.Set(tx, device, of)
		}
	}
	tx.After(func() { r.o.Settings.Touch(e.Devices...) })
}

func (r *Responses) put(tx *commit.Tx, e Entry) {
	tx.Put(e)
	r.entries.Set(tx, e.ID, e)
	tx.After(func() { r.o.Settings.Touch(e.Devices...) })
}

// give gives the command of a response.
func (r *Responses) give(tx *commit.Tx, f alarms.Follow, n int, x *rule.Response) {
	input, err := json.Marshal(x.Input)
	if x.Input == nil || err != nil {
		input = nil
	}
	ids := r.within(tx, f, n, x, func(m *model.Model) bool { _, ok := m.Action(x.Command); return ok })
	var given []string
	for _, id := range ids {
		if err := r.o.Commands.GiveIn(tx, id, x.Command, input, commands.Expiry{}, "rule "+f.Rule.Name, f.Rule.Name); err != nil {
			r.tell(tx, f, n, []string{id}, fact.HeldBack{Does: x.Does(), Why: fault.From(err).Sentence})
			continue
		}
		given = append(given, id)
	}
	if len(given) > 0 {
		r.tell(tx, f, n, given, fact.Responded{Does: x.Does()})
	}
}

// List returns every entry, the newest first.
func (r *Responses) List() []Entry {
	var out []Entry
	for _, e := range r.entries.All() {
		out = append(out, e)
	}
	slices.SortFunc(out, func(a, b Entry) int { return cmp.Or(b.Since.Compare(a.Since), strings.Compare(a.ID, b.ID)) })
	return out
}

// Switch tells whether responses act.
func (r *Responses) Switch() Switch {
	s, _ := r.off.Get(theSwitch)
	return s
}

// Turn lets all responses act, or none. What they keep on devices stays, or is released.
func (r *Responses) Turn(ctx context.Context, off, release bool, why, by string) (Switch, error) {
	why = strings.TrimSpace(why)
	if wrong := value.Written(why, 400); wrong != "" {
		return Switch{}, fault.New(fault.Invalid, "the reason %s", wrong)
	}
	var out Switch
	err := r.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		was, _ := r.off.In(tx, theSwitch)
		out = was
		if was.Off != off {
			out = Switch{Off: off, By: by, At: r.o.Now(), Why: why}
			tx.Put(out)
			r.off.Set(tx, theSwitch, out)
			tx.Tell(fact.New(out.At, fact.ResponsesTurned{Off: off, Why: why}).By(by))
		}
		if !release {
			return nil
		}
		for _, e := range r.List() {
			if e, ok := r.entries.In(tx, e.ID); ok && e.Gives() {
				r.release(tx, e, by)
			}
		}
		return nil
	})
	return out, err
}

// Release takes what an entry gives off its devices, although the alarm may hold. It acts
// again when the alarm is raised anew.
func (r *Responses) Release(ctx context.Context, id, by string) (Entry, error) {
	var out Entry
	err := r.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		e, ok := r.entries.In(tx, id)
		if !ok {
			return Unknown(id)
		}
		if !e.Gives() && e.Left == "" {
			return fault.New(fault.Conflict, "%s was released already", id).On("response")
		}
		out = r.release(tx, e, by)
		return nil
	})
	return out, err
}

func (r *Responses) release(tx *commit.Tx, e Entry, by string) Entry {
	told := fact.New(r.o.Now(), fact.Responded{Rule: e.Rule, Does: (&rule.Response{Set: e.Set}).Does(), Over: true, Devices: e.Devices}).By(by)
	told.Rule, told.Alarm = e.Rule, e.Alarm
	if len(e.Devices) == 1 {
		told.Device = e.Devices[0]
	}
	tx.Tell(told)
	e.Released, e.ReleasedBy = r.o.Now(), by
	if e.Left != "" {
		r.drop(tx, e)
	} else {
		r.put(tx, e)
	}
	return e
}

// Unknown is the error about an entry that does not exist.
func Unknown(id string) error {
	return fault.New(fault.NotFound, "no response keeps anything under %q", id).Then("look at the list of responses").On("response")
}
