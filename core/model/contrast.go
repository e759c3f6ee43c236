package model

import (
	"fmt"
	"reflect"
	"slices"
	"time"

	"ullage/core/value"
)

// actions compares commands: what may be sent, and what comes back.
func (c *comparer) actions(old, next *Model) {
	for _, a := range old.Actions {
		at := "/actions/" + escape(a.Name)
		b, ok := next.Action(a.Name)
		if !ok {
			c.add(at, Breaking, "the command %s is gone; who sends it will be refused", a.Name)
			continue
		}
		c.schema(at+"/input", "the input of "+a.Name, a.Input, b.Input, true)
		c.schema(at+"/output", "the output of "+a.Name, a.Output, b.Output, false)
	}
	for _, a := range next.Actions {
		if _, had := old.Action(a.Name); !had {
			c.add("/actions/"+escape(a.Name), Careful, "the command %s is new; devices in the field do not know it yet",
				a.Name)
		}
	}
}

func (c *comparer) events(old, next *Model) {
	find := func(m *Model, name string) *Event {
		for i := range m.Events {
			if m.Events[i].Name == name {
				return &m.Events[i]
			}
		}
		return nil
	}
	for _, a := range old.Events {
		b := find(next, a.Name)
		if b == nil {
			c.add("/events/"+escape(a.Name), Breaking, "the event %s is gone: devices that send it are refused", a.Name)
			continue
		}
		c.schema("/events/"+escape(a.Name)+"/data", "the data of "+a.Name, a.Data, b.Data, false)
	}
	for _, b := range next.Events {
		if find(old, b.Name) == nil {
			c.add("/events/"+escape(b.Name), Safe, "the event %s is new", b.Name)
		}
	}
}

// schema compares what the standard says of a value beyond what Property
// holds. Toward says that people send it to the device: then less room means
// that what they send today is refused.
func (c *comparer) schema(at, what string, old, next *Schema, toward bool) {
	switch {
	case old == nil && next == nil:
		return
	case old == nil && toward:
		w, then := Careful, "who sends nothing is still right"
		if len(next.Required) > 0 {
			w, then = Breaking, "who sends nothing is refused"
		}
		c.add(at, w, "%s is now %s: %s", what, next.words(), then)
		return
	case old == nil:
		c.add(at, Safe, "%s is now described: %s", what, next.words())
		return
	case next == nil:
		w := Breaking
		if !toward {
			w = Careful
		}
		c.add(at, w, "%s is gone; it was %s", what, old.words())
		return
	}
	if old.Type != next.Type {
		if old.Type != "integer" || next.Type != "number" {
			c.add(at+"/type", Breaking, "%s is %s and was %s", what, next.words(), old.words())
			return
		}
		c.add(at+"/type", Careful, "%s may have fractions from now on", what)
	}
	if old.Unit != next.Unit {
		c.add(at+"/unit", Breaking, "%s is in %s and was in %s", what, orNothing(next.Unit), orNothing(old.Unit))
	}
	c.members(at, what, old, next, toward)
	bounds := func(s *Schema) []any {
		return []any{s.Minimum, s.Maximum, s.Above, s.Below, s.MultipleOf, s.MinLength, s.MaxLength, s.MinItems,
			s.MaxItems, s.Const, s.Enum, s.Format, s.Encoding, fmt.Sprint(s.Pattern), len(s.OneOf)}
	}
	if reflect.DeepEqual(bounds(old), bounds(next)) {
		return
	}
	w, then := Careful, "other values are right than before"
	if toward {
		w, then = Breaking, "what is sent today may be refused"
		if wider(old, next) {
			w, then = Careful, "devices in the field may refuse what is new"
		}
	}
	c.add(at, w, "%s is %s and was %s: %s", what, next.words(), old.words(), then)
}

// members compares the members of an object and the items of a list.
func (c *comparer) members(at, what string, old, next *Schema, toward bool) {
	for _, f := range old.Fields {
		g := next.field(f.Name)
		if g == nil {
			c.add(at+"/properties/"+escape(f.Name), Breaking, "%s has no %s any more", what, f.Name)
			continue
		}
		c.schema(at+"/properties/"+escape(f.Name), f.Name+" of "+what, f.Schema, g, toward)
	}
	for _, g := range next.Fields {
		if old.field(g.Name) != nil {
			continue
		}
		if toward && slices.Contains(next.Required, g.Name) {
			c.add(at+"/properties/"+escape(g.Name), Breaking,
				"%s needs %s from now on: who does not send it is refused", what, g.Name)
		} else {
			c.add(at+"/properties/"+escape(g.Name), Careful, "%s may have %s", what, g.Name)
		}
	}
	for _, name := range next.Required {
		if old.field(name) != nil && !slices.Contains(old.Required, name) && toward {
			c.add(at+"/required", Breaking, "%s needs %s from now on: who does not send it is refused", what, name)
		}
	}
	if old.Each && next.Each {
		c.schema(at+"/items", "an item of "+what, old.Items[0], next.Items[0], toward)
	}
}

// rest is what a Property does not hold by itself.
func (s *Schema) rest() []any {
	return []any{s.Above, s.Below, s.MultipleOf, s.Const, s.Format, s.Encoding, fmt.Sprint(s.Pattern), len(s.OneOf)}
}

func (c *comparer) rest(at, what string, old, next *Schema, toward bool) {
	if reflect.DeepEqual(old.rest(), next.rest()) {
		return
	}
	w, then := Careful, "other readings are marked as beyond range"
	if toward {
		w, then = Breaking, "values that are set now may be refused"
	}
	c.add(at, w, "%s is %s and was %s: %s", what, next.words(), old.words(), then)
}

// wider reports whether next allows all that old allows, as far as minimum,
// maximum, lengths and enumerations tell.
func wider(old, next *Schema) bool {
	low := next.Minimum == nil || old.Minimum != nil && *next.Minimum <= *old.Minimum
	high := next.Maximum == nil || old.Maximum != nil && *next.Maximum >= *old.Maximum
	long := next.MaxLength == 0 || old.MaxLength > 0 && next.MaxLength >= old.MaxLength
	for _, e := range old.Enum {
		found := len(next.Enum) == 0
		for _, f := range next.Enum {
			found = found || reflect.DeepEqual(e, f)
		}
		if !found {
			return false
		}
	}
	return low && high && long && next.MinLength <= old.MinLength && (len(old.Enum) > 0 || len(next.Enum) == 0) &&
		reflect.DeepEqual(old.rest(), next.rest())
}

func orSent(expression string) string {
	if expression == "" {
		return "sent by the device"
	}
	return expression
}

func kept(d time.Duration) string {
	if d == 0 {
		return "as long as the service keeps them"
	}
	return value.Duration(d).String()
}
