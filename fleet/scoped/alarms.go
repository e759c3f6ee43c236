package scoped

import (
	"context"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"ullage/core/model"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/fleet/access"
	"ullage/fleet/alarms"
	"ullage/fleet/asof"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// groups returns the alarms of groups that a caller sees, as "rule key=value": those
// of which they see any device.
func (f *Fleet) groups(c access.Caller) []string {
	ids, all := c.Devices(person.Viewer)
	if all {
		return nil
	}
	seen := map[string]bool{}
	rules := f.o.Alarms.Rules()
	for _, id := range ids {
		d, err := f.o.Devices.Get(id)
		if err != nil {
			continue
		}
		for i := range rules {
			key, grouped := strings.CutPrefix(rules[i].Each, "label.")
			if v := d.Labels[key]; grouped && v != "" && rules[i].Names(d.Model) {
				seen[rules[i].Name+" "+key+"="+v] = true
			}
		}
	}
	return append([]string{}, slices.Sorted(maps.Keys(seen))...)
}

// seesGroup reports whether the caller sees all devices of a group alarm, and so its
// figures.
func (f *Fleet) seesGroup(c access.Caller, a alarms.Alarm) bool {
	if c.MayAll(person.Viewer) {
		return true
	}
	r, err := f.o.Alarms.Rule(a.Rule)
	key, v, _ := strings.Cut(a.Group, "=")
	if err != nil {
		return false
	}
	for _, d := range f.o.Devices.List() {
		if d.Labels[key] == v && r.Names(d.Model) && !c.Sees(d.ID) {
			return false
		}
	}
	return true
}

// blurred leaves out of a group alarm what is computed from devices that the caller
// does not see.
func (f *Fleet) blurred(c access.Caller, a alarms.Alarm) alarms.Alarm {
	if a.Group == "" || f.seesGroup(c, a) {
		return a
	}
	out := alarms.Alarm{ID: a.ID, Rule: a.Rule, Group: a.Group, Priority: a.Priority, State: a.State, Times: a.Times,
		RaisedAt: a.RaisedAt, ReturnedAt: a.ReturnedAt, AcknowledgedAt: a.AcknowledgedAt, AcknowledgedBy: a.AcknowledgedBy,
		CameUpAt: a.CameUpAt, RespondBy: a.RespondBy, Latches: a.Latches, Aside: a.Aside, ShelvedUntil: a.ShelvedUntil, ShelvedBy: a.ShelvedBy}
	out.Message = "An alarm about " + a.Group + "; its figures are of more devices than you see"
	return out
}

// Alarms returns stored alarms, the newest first.
func (f *Fleet) Alarms(ctx context.Context, c access.Caller, where string, x alarms.Filter) ([]alarms.Alarm, error) {
	var err error
	if _, x.Among, err = f.Among(c, where); err != nil {
		return nil, err
	}
	if x.Among != nil && strings.TrimSpace(where) == "" {
		x.Groups = f.groups(c)
	}
	list, err := f.o.Alarms.List(ctx, x)
	for i := range list {
		list[i] = f.blurred(c, list[i])
	}
	return list, err
}

// Groups returns the open alarms of groups.
func (f *Fleet) Groups(c access.Caller) []alarms.Alarm {
	all := f.o.Alarms.Groups()
	if c.MayAll(person.Viewer) {
		return all
	}
	seen := f.groups(c)
	var out []alarms.Alarm
	for _, a := range all {
		if slices.Contains(seen, a.Rule+" "+a.Group) {
			out = append(out, f.blurred(c, a))
		}
	}
	return out
}

// AlarmCounts counts the alarms of each rule that are open, and that were raised
// since a time.
func (f *Fleet) AlarmCounts(ctx context.Context, c access.Caller, since time.Time) ([]alarms.Count, error) {
	_, among, err := f.Among(c, "")
	if err != nil {
		return nil, err
	}
	return f.o.Alarms.Counts(ctx, since, alarms.Filter{Among: among, Groups: f.groups(c)})
}

// Alarm returns one alarm that the caller sees, open or not.
func (f *Fleet) Alarm(ctx context.Context, c access.Caller, id string) (alarms.Alarm, error) {
	list, err := f.Alarms(ctx, c, "", alarms.Filter{ID: id})
	if err == nil && len(list) == 0 {
		err = alarms.Unknown(id)
	}
	if err != nil {
		return alarms.Alarm{}, err
	}
	return list[0], nil
}

// serves returns an error unless the caller may do something about an alarm. About that
// of a group may who may do so for all devices.
func (f *Fleet) serves(ctx context.Context, c access.Caller, id string) error {
	if c.MayAll(person.Operator) {
		return nil
	}
	a, err := f.Alarm(ctx, c, id)
	switch {
	case err != nil:
		return err
	case a.Group != "":
		return f.everywhere(c, person.Operator)
	}
	return f.reach(c, person.Operator, a.Device)
}

// Act is something that a person does about an alarm.
type Act struct {
	Verb  string    // acknowledge, shelve, unshelve, reset or comment
	Until time.Time // of shelve
	Text  string    // why something is shelved, or the comment
}

// Act does something about an alarm.
func (f *Fleet) Act(ctx context.Context, c access.Caller, id string, act Act) (alarms.Alarm, error) {
	if err := f.serves(ctx, c, id); err != nil {
		return alarms.Alarm{}, err
	}
	switch act.Verb {
	case "acknowledge":
		return f.o.Alarms.Acknowledge(ctx, id, c.Name)
	case "shelve":
		return f.o.Alarms.Shelve(ctx, id, act.Until, act.Text, c.Name)
	case "unshelve":
		return f.o.Alarms.Unshelve(ctx, id, c.Name)
	case "reset":
		return f.o.Alarms.Reset(ctx, id, c.Name)
	case "comment":
		return f.o.Alarms.Comment(ctx, id, act.Text, c.Name)
	}
	return alarms.Alarm{}, fault.New(fault.Invalid, "%q is nothing that is done about an alarm", act.Verb).Then("there are acknowledge, shelve, unshelve, reset and comment")
}

// Suppressed counts the open alarms that the alarm of a group keeps aside on its members.
func (f *Fleet) Suppressed(ctx context.Context, c access.Caller, a alarms.Alarm) (int, error) {
	if a.Group == "" || !a.State.Holds() {
		return 0, nil
	}
	if r, err := f.o.Alarms.Rule(a.Rule); err != nil || len(r.Suppresses) == 0 {
		return 0, nil
	}
	list, err := f.Alarms(ctx, c, "", alarms.Filter{Open: true, Suppressor: a.Rule + " " + a.Group, Limit: 10_000})
	return len(list), err
}

// Shelves returns what is shelved on what the caller sees, that which ends first first.
func (f *Fleet) Shelves(ctx context.Context, c access.Caller) ([]alarms.Shelf, error) {
	all, err := f.o.Alarms.Shelves(ctx)
	if err != nil {
		return nil, err
	}
	slices.SortFunc(all, func(a, b alarms.Shelf) int { return a.Until.Compare(b.Until) })
	if c.MayAll(person.Viewer) {
		return all, nil
	}
	groups := f.groups(c)
	return slices.DeleteFunc(all, func(s alarms.Shelf) bool {
		return !c.Sees(s.Subject) && !slices.Contains(groups, s.Rule+" "+s.Subject)
	}), nil
}

// Rules returns the rules that concern a device which the caller sees, by name.
func (f *Fleet) Rules(c access.Caller) []rule.Rule {
	all := f.o.Alarms.Rules()
	if c.MayAll(person.Viewer) {
		return all
	}
	seen := map[string]bool{}
	for _, m := range f.Models(c) {
		seen[m.Name] = true
	}
	foreign := f.words(c)
	var out []rule.Rule
	for _, r := range all {
		if slices.ContainsFunc(r.Models, func(m string) bool { return seen[m] }) {
			if r.Author != c.Name {
				r = veiled(r, seen, foreign)
			}
			out = append(out, r)
		}
	}
	return out
}

// words returns the texts that name what is foreign: ids, names and labels that no device
// which the caller sees has, models of which they see none, their attributes, and the rules
// about those alone.
func (f *Fleet) words(c access.Caller) map[string]bool {
	foreign, own := map[string]bool{}, map[string]bool{}
	for _, d := range f.o.Devices.List() {
		into := foreign
		if c.Sees(d.ID) {
			into = own
		}
		into[d.ID], into[d.Name] = true, true
		for k, v := range d.Labels {
			into[k], into[v] = true, true
		}
	}
	seen := map[string]bool{}
	for _, m := range f.Models(c) {
		seen[m.Name] = true
	}
	for _, m := range f.o.Models.List() {
		into := foreign
		if seen[m.Name] {
			into = own
		}
		into[m.Name] = true
		for _, p := range m.Properties {
			if p.Role == model.Attribute {
				into[p.Name] = true
			}
		}
	}
	for _, r := range f.o.Alarms.Rules() {
		if !slices.ContainsFunc(r.Models, func(m string) bool { return seen[m] }) {
			foreign[r.Name] = true
		}
	}
	for w := range own {
		delete(foreign, w)
	}
	delete(foreign, "")
	return foreign
}

// plainWord is what may be an id or the value of a label in a sentence.
var plainWord = regexp.MustCompile(`[\p{L}\p{N}][\p{L}\p{N}_-]*`)

var quoted = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)

// veiled leaves out of a rule what names models and devices that are not seen.
func veiled(r rule.Rule, models, foreign map[string]bool) rule.Rule {
	r.Models = slices.DeleteFunc(slices.Clone(r.Models), func(m string) bool { return !models[m] })
	r.Author, r.Access = "", ""
	r.Suppresses = nil
	for _, part := range []*string{&r.Devices, &r.Raise, &r.Clear, &r.Suppress, &r.Message, &r.Cause, &r.Response} {
		*part = veil(*part, foreign)
	}
	return r
}

// veil puts … in the place of foreign words in a text.
func veil(text string, foreign map[string]bool) string {
	text = quoted.ReplaceAllStringFunc(text, func(q string) string {
		if foreign[strings.Trim(q, `"`)] {
			return `"…"`
		}
		return q
	})
	for w := range foreign {
		if strings.ContainsRune(w, ' ') {
			text = strings.ReplaceAll(text, w, "…")
		}
	}
	return plainWord.ReplaceAllStringFunc(text, func(w string) string {
		if foreign[w] {
			return "…"
		}
		return w
	})
}

// Rule returns one of the rules that the caller sees.
func (f *Fleet) Rule(c access.Caller, name string) (rule.Rule, error) {
	if c.MayAll(person.Viewer) {
		return f.o.Alarms.Rule(name)
	}
	for _, r := range f.Rules(c) {
		if r.Name == name {
			return r, nil
		}
	}
	return rule.Rule{}, alarms.NoRule(name)
}

// Facts returns what happened, the newest first. Whoever does not see all devices
// sees what is about those that they see.
func (f *Fleet) Facts(ctx context.Context, c access.Caller, where string, x fact.Filter) ([]fact.Fact, error) {
	var err error
	if _, x.Among, err = f.Among(c, where); err != nil {
		return nil, err
	}
	out, err := f.o.Facts.Facts(ctx, x)
	return f.told(c, out), err
}

// FactsAfter returns what happened behind a number, in order.
func (f *Fleet) FactsAfter(ctx context.Context, c access.Caller, number int64, limit int) ([]fact.Fact, error) {
	_, among, err := f.Among(c, "")
	if err != nil {
		return nil, err
	}
	out, err := f.o.Facts.FactsAfter(ctx, number, limit, among)
	return f.told(c, out), err
}

// told leaves out of facts about a device what names others: the hub that carries it.
func (f *Fleet) told(c access.Caller, fs []fact.Fact) []fact.Fact {
	if c.MayAll(person.Viewer) {
		return fs
	}
	for i := range fs {
		if fs[i].Kind == fact.ChangedKind("device") && strings.Contains(string(fs[i].Content), "hub: ") {
			fs[i].Content = fact.New(fs[i].At, fact.Changed{Noun: "device", Name: fs[i].Device, Done: fact.Saved, Fields: []string{"hub"}}).Content
		}
	}
	return fs
}

// Happened returns the facts since a count, and the count to ask with next time.
func (f *Fleet) Happened(c access.Caller, since uint64) ([]fact.Fact, uint64) {
	fs, next, _ := f.o.News.After(since)
	if c.MayAll(person.Viewer) {
		return fs, next
	}
	out := fs[:0:0]
	for _, x := range fs {
		if x.Device != "" && c.Sees(x.Device) {
			out = append(out, x)
		}
	}
	return out, next
}

// HappenedSoFar is the count to ask Happened with from now on.
func (f *Fleet) HappenedSoFar() uint64 { return f.o.News.Count() }

// Happening returns a channel that is closed when something happens.
func (f *Fleet) Happening() <-chan struct{} { return f.o.News.Changed() }

// AsOf returns a device, or a group such as site=Kilnside, as of a time.
func (f *Fleet) AsOf(ctx context.Context, c access.Caller, id string, when time.Time) (asof.Device, error) {
	if !c.MayAll(person.Viewer) && !c.Sees(id) {
		if when.After(f.o.AsOf.Now()) { // what is wrong with the time is said first, as for any device
			return f.o.AsOf.Device(ctx, id, when)
		}
		return asof.Device{}, asof.Unknown(id)
	}
	return f.o.AsOf.Device(ctx, id, when)
}

// AllAsOf returns every device as of a time, and for whoever sees all of them every
// group with an open alarm.
func (f *Fleet) AllAsOf(ctx context.Context, c access.Caller, when time.Time, metrics []string) ([]asof.Device, error) {
	return f.o.AsOf.Fleet(ctx, when, metrics, seeing(c))
}
