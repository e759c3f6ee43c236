package model

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ullage/core/unit"
	"ullage/core/value"
	"ullage/core/version"
)

// Weight says what a change of a model means for what is in the field.
type Weight string

// The weights. A breaking change makes devices, rules or people wrong that
// were right; a careful one is felt but breaks nothing; a safe one is not felt.
const (
	Safe     Weight = "safe"
	Careful  Weight = "careful"
	Breaking Weight = "breaking"
)

// Change is one difference between two versions of a model.
type Change struct {
	Pointer  string `json:"pointer" doc:"JSON pointer to the place in the newer file, or in the older where it is gone"`
	Weight   Weight `json:"weight" enum:"safe,careful,breaking"`
	Sentence string `json:"sentence" doc:"What changes, and what it means in the field"`
}

// Comparison is what there is to say about two versions of a model.
type Comparison struct {
	Old     string   `json:"old" doc:"Name and version"`
	New     string   `json:"new" doc:"Name and version"`
	Weight  Weight   `json:"weight" doc:"That of the weightiest change" enum:"safe,careful,breaking"`
	Changes []Change `json:"changes"`
	// Needs is the least version that the newer one may carry.
	Needs string `json:"needs" doc:"The least version that the newer file may carry"`
	// Enough says whether it does.
	Enough bool `json:"enough" doc:"Whether it carries that version or a later one"`
}

// Compare classes every difference between two versions of a model, the
// weightiest first. A breaking change needs a new major version, any other a new
// minor one, and words for people a new patch (Semantic Versioning 2.0.0).
func Compare(old, next *Model) Comparison {
	c := &comparer{}
	if old.Name != next.Name {
		c.add("/ullage:name", Breaking,
			"it is called %s and was called %s: to Ullage that is another model, and no device moves to it", next.Name, old.Name)
	}
	for _, p := range old.Properties {
		at := "/properties/" + escape(p.Name)
		q, ok := next.Property(p.Name)
		if now, was := next.Called(p.Name); !ok && was && p.Role == Telemetry {
			to := "/properties/" + escape(now.Name)
			c.add(to+"/ullage:was", Breaking,
				"the metric %s is called %s: its history goes on, devices that send it as %s are refused in part, and rules over it must name it anew", p.Name, now.Name, p.Name)
			renamed := p
			renamed.Name = now.Name
			c.property(to, &renamed, now)
			continue
		}
		if !ok {
			c.removed(at, &p)
			continue
		}
		c.property(at, &p, q)
	}
	for i := range next.Properties {
		q := &next.Properties[i]
		if _, had := old.Property(q.Name); !had && !slices.ContainsFunc(q.Was, func(name string) bool {
			_, was := old.Property(name)
			return was
		}) {
			c.added("/properties/"+escape(q.Name), q)
		}
	}
	c.actions(old, next)
	c.events(old, next)
	if old.Interval != next.Interval {
		w, what := Careful, "they count as late sooner"
		if next.Interval > old.Interval {
			what = "a silence is noticed later"
		}
		c.add("/ullage:interval", w, "devices are expected every %s and were every %s: %s",
			value.Duration(next.Interval), value.Duration(old.Interval), what)
	}
	switch {
	case old.Additional && !next.Additional:
		c.add("/ullage:additional", Breaking, "telemetry that the model does not name is refused from now on")
	case !old.Additional && next.Additional:
		c.add("/ullage:additional", Careful, "telemetry that the model does not name is taken from now on")
	}
	if old.Title != next.Title || old.Description != next.Description {
		c.add("/title", Safe, "title or description are other words")
	}
	if len(c.changes) == 0 && !SameContent(old.Whole, next.Whole) && old.Version == next.Version {
		c.add("", Safe, "something differs that Ullage does not read")
	}
	slices.SortStableFunc(c.changes, func(a, b Change) int { return weigh(b.Weight) - weigh(a.Weight) })
	out := Comparison{Old: old.String(), New: next.String(), Weight: Safe, Changes: c.changes, Needs: old.Version,
		Enough: true}
	if len(c.changes) > 0 {
		out.Weight = c.changes[0].Weight
		out.Needs = after(old.Version, out.Weight)
		out.Enough = old.Name != next.Name || !older(next.Version, out.Needs)
	}
	if out.Changes == nil {
		out.Changes = []Change{}
	}
	return out
}

// SameContent reports whether two files say the same, whatever their spaces.
func SameContent(a, b []byte) bool {
	var x, y bytes.Buffer
	return json.Compact(&x, a) == nil && json.Compact(&y, b) == nil && bytes.Equal(x.Bytes(), y.Bytes())
}

func weigh(w Weight) int { return slices.Index([]Weight{Safe, Careful, Breaking}, w) }

type comparer struct{ changes []Change }

func (c *comparer) add(at string, w Weight, format string, args ...any) {
	c.changes = append(c.changes, Change{at, w, fmt.Sprintf(format, args...)})
}

func (c *comparer) removed(at string, p *Property) {
	switch p.Role {
	case Telemetry:
		c.add(at, Breaking, "the metric %s is gone: devices that send it are refused in part, and rules over it do not fit any more", p.Name)
	case Setting:
		c.add(at, Breaking, "the setting %s is gone: devices are not told it any more, and rules over it do not fit any more", p.Name)
	default:
		c.add(at, Breaking, "the attribute %s is gone: devices that report it are refused in part", p.Name)
	}
}

func (c *comparer) added(at string, p *Property) {
	switch {
	case p.Role == Setting && !p.KeptByService:
		what := "it has no default, so nobody is told it until it is set"
		if p.Default.Known() {
			what = "every device gets a new revision with " + p.Say(p.Default)
		}
		c.add(at, Careful, "the setting %s is new: %s", p.Name, what)
	case p.Role == Setting:
		c.add(at, Safe, "the setting %s is new; it is kept by the service", p.Name)
	default:
		c.add(at, Safe, "the %s %s is new", wordOf(p.Role), p.Name)
	}
}

func (c *comparer) property(at string, p, q *Property) {
	if p.Role != q.Role {
		c.add(at+"/ullage:role", Breaking, "%s is %s and was %s", p.Name, roleOf(q.Role), roleOf(p.Role))
		return
	}
	if p.Kind != q.Kind {
		c.add(at+"/type", Breaking,
			"%s is %s and was %s: what devices send is refused, and history and rules do not fit any more", p.Name, q.Kind, p.Kind)
		return
	}
	switch {
	case !p.Integer && q.Integer:
		c.add(at+"/type", Breaking, "%s is a whole number only: devices that send fractions are refused", p.Name)
	case p.Integer && !q.Integer:
		c.add(at+"/type", Careful, "%s may have fractions from now on", p.Name)
	}
	c.unit(at, p, q)
	c.span(at, p, q)
	c.accept(at, p, q)
	c.texts(at, p, q)
	if p.Default != q.Default {
		c.add(at+"/default", Careful,
			"the default of %s is %s and was %s: devices without an override get a new revision", p.Name, say(q, q.Default), say(p, p.Default))
	}
	if p.KeptByService != q.KeptByService {
		c.add(at+"/ullage:kept_by_service", Breaking,
			"whether %s is kept by the service is other than it was: devices are told it, or not any more", p.Name)
	}
	if !sameSpan(p.Usual, q.Usual) {
		c.add(at+"/ullage:usual", Careful,
			"the usual range of %s is other than it was: headspace is measured from another middle", p.Name)
	}
	if p.Tells != q.Tells {
		c.add(at+"/ullage:tells", Safe, "what %s tells of the device itself is other than it was", p.Name)
	}
	if p.Component != q.Component {
		c.add(at+"/ullage:component", Safe, "%s belongs to another component of the device than it did", p.Name)
	}
	if p.Derived != q.Derived {
		c.add(at+"/ullage:derived", Careful, "%s is computed by %s and was %s: its history was computed the other way",
			p.Name, orSent(q.Derived), orSent(p.Derived))
	}
	if !slices.Equal(p.Was, q.Was) && p.Name == q.Name && len(p.Was) > 0 {
		c.add(at+"/ullage:was", Careful, "%s says of other names that it had them: its history goes on from those", p.Name)
	}
	if p.RollupRetention != q.RollupRetention {
		c.add(at+"/ullage:rollup_retention", Careful, "roll-ups of %s are kept %s and were kept %s", p.Name,
			kept(q.RollupRetention), kept(p.RollupRetention))
	}
	if p.Retention != q.Retention {
		c.add(at+"/ullage:retention", Careful, "readings of %s are kept %s and were kept %s", p.Name, kept(q.Retention),
			kept(p.Retention))
	}
	if p.strict || q.strict {
		c.rest(at, p.Name, p.Schema, q.Schema, p.Role == Setting)
	}
	if p.Decimals != q.Decimals || p.Title != q.Title || p.Description != q.Description {
		c.add(at, Safe, "%s is shown in another way: title, description or decimals", p.Name)
	}
}

func roleOf(r Role) string {
	if r == Attribute {
		return "an attribute"
	}
	if r == Telemetry {
		return "telemetry"
	}
	return "a setting"
}

func say(p *Property, v value.Value) string {
	if !v.Known() {
		return "nothing"
	}
	return p.Say(v)
}

func (c *comparer) unit(at string, p, q *Property) {
	if p.Unit == q.Unit {
		return
	}
	u, err1 := unit.Lookup(p.Unit)
	v, err2 := unit.Lookup(q.Unit)
	switch {
	case err1 == nil && err2 == nil && u.Same(v):
		c.add(at+"/unit", Safe, "the unit of %s is written %q and was %q; it is the same", p.Name, q.Unit, p.Unit)
	case err1 == nil && err2 == nil && u.Dimension == v.Dimension:
		c.add(at+"/unit", Breaking,
			"%s is in %s and was in %s: the same number from a device, and every stored one, means something else", p.Name, v.Name(), u.Name())
	default:
		c.add(at+"/unit", Breaking, "%s is in %s and was in %s, which is another quantity", p.Name, orNothing(q.Unit),
			orNothing(p.Unit))
	}
}

func orNothing(symbol string) string {
	if symbol == "" {
		return "no unit"
	}
	return unit.Display(symbol)
}

// span compares minimum and maximum.
func (c *comparer) span(at string, p, q *Property) {
	for _, x := range []struct {
		key      string
		old, new *float64
		narrower bool
	}{
		{"minimum", p.Min, q.Min, q.Min != nil && (p.Min == nil || *q.Min > *p.Min)},
		{"maximum", p.Max, q.Max, q.Max != nil && (p.Max == nil || *q.Max < *p.Max)},
	} {
		if x.old == nil && x.new == nil || x.old != nil && x.new != nil && *x.old == *x.new {
			continue
		}
		change := fmt.Sprintf("the %s of %s is %s and was %s", x.key, p.Name, limit(x.new), limit(x.old))
		switch {
		case !x.narrower:
			c.add(at+"/"+x.key, Safe, "%s, which leaves more room", change)
		case p.Role == Setting:
			c.add(at+"/"+x.key, Breaking, "%s: values that are set now may be refused", change)
		default:
			c.add(at+"/"+x.key, Careful, "%s: more readings are marked as beyond range", change)
		}
	}
}

func limit(f *float64) string {
	if f == nil {
		return "none"
	}
	return strconv.FormatFloat(*f, 'f', -1, 64)
}

func sameSpan(a, b *Span) bool {
	return a == b || a != nil && b != nil && *a == *b
}

func (c *comparer) accept(at string, p, q *Property) {
	if sameSpan(p.Accept, q.Accept) {
		return
	}
	if q.Accept == nil || p.Accept != nil && q.Accept.Low <= p.Accept.Low && q.Accept.High >= p.Accept.High {
		c.add(at+"/ullage:accept", Safe, "more values of %s are physically possible than before", p.Name)
		return
	}
	c.add(at+"/ullage:accept", Breaking, "values of %s are refused that were taken", p.Name)
}

func (c *comparer) texts(at string, p, q *Property) {
	gone, added := without(p.Enum, q.Enum), without(q.Enum, p.Enum)
	switch {
	case len(p.Enum) == 0 && len(q.Enum) > 0:
		c.add(at+"/enum", Breaking, "%s is one of %s only, and was any text", p.Name, strings.Join(q.Enum, ", "))
	case len(p.Enum) > 0 && len(q.Enum) == 0:
		c.add(at+"/enum", Careful, "%s is any text, and was one of %s", p.Name, strings.Join(p.Enum, ", "))
	default:
		if len(gone) > 0 {
			c.add(at+"/enum", Breaking, "%s is not %s any more: devices that send it are refused", p.Name,
				strings.Join(gone, " or "))
		}
		if len(added) > 0 && p.Role == Setting {
			c.add(at+"/enum", Careful, "%s can be %s: devices in the field may refuse that", p.Name,
				strings.Join(added, " or "))
		} else if len(added) > 0 {
			c.add(at+"/enum", Safe, "%s can be %s", p.Name, strings.Join(added, " or "))
		}
	}
	longer := func(a, b int) bool { return a == 0 || b > 0 && a >= b } // 0 is without end
	switch {
	case p.MaxLength == q.MaxLength && p.MinLength == q.MinLength:
	case longer(q.MaxLength, p.MaxLength) && q.MinLength <= p.MinLength:
		c.add(at+"/maxLength", Safe, "%s may be longer or shorter than before", p.Name)
	default:
		c.add(at+"/maxLength", Breaking, "texts of %s are refused that were taken: their length", p.Name)
	}
}

func without(a, b []string) []string {
	var out []string
	for _, x := range a {
		if !slices.Contains(b, x) {
			out = append(out, x)
		}
	}
	return out
}

// after returns the least version that a change of some weight asks for.
func after(version string, w Weight) string {
	n := numbers(version)
	switch {
	case w == Breaking && n[0] > 0:
		return fmt.Sprintf("%d.0.0", n[0]+1)
	case w == Safe:
		return fmt.Sprintf("%d.%d.%d", n[0], n[1], n[2]+1)
	}
	// Before 1.0.0 anything may change with a new minor number.
	return fmt.Sprintf("%d.%d.0", n[0], n[1]+1)
}

func older(a, b string) bool { return CompareVersions(a, b) < 0 }

// CompareVersions orders two versions of a model.
func CompareVersions(a, b string) int {
	c, _ := version.Compare(a, b) // models have no others
	return c
}

// numbers returns major, minor and patch.
func numbers(version string) (out [3]int) {
	version, _, _ = strings.Cut(version, "+")
	version, _, _ = strings.Cut(version, "-")
	for i, p := range strings.SplitN(version, ".", 3) {
		if i < 3 {
			out[i], _ = strconv.Atoi(p)
		}
	}
	return out
}

func wordOf(r Role) string {
	if r == Telemetry {
		return "metric"
	}
	return string(r)
}
