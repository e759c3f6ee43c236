package model

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"ullage/core/unit"
	"ullage/core/value"
	"ullage/core/yamldoc"
)

// MaxAffordances is how many properties, and how many actions and events, a
// model may have.
const MaxAffordances = 1000

var (
	modelName    = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)
	propertyName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)
	// anyName is what a property, action or event of a model from elsewhere may
	// be called. Each is a segment of a topic.
	anyName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]{0,62}$`)
	semver  = regexp.MustCompile(`^(0|[1-9]\d*)\.(0|[1-9]\d*)\.(0|[1-9]\d*)(-[0-9A-Za-z.-]+)?(\+[0-9A-Za-z.-]+)?$`)
)

// Parse reads a Thing Model that stands alone. The error is of type Findings
// and names every place that is wrong.
func Parse(src []byte) (*Model, error) { return Read(src, nil) }

// Read reads a Thing Model; find leads to the models that it extends, imports
// or is composed of. The error is of type Findings and names every place that
// is wrong.
func Read(src []byte, find Finder) (*Model, error) {
	src = yamldoc.Unmarked(src)
	n, bad := read(src)
	if bad != nil {
		return nil, Findings{*bad}
	}
	m := &Model{Source: json.RawMessage(bytes.Clone(src)), byName: map[string]int{}, groups: map[string]bool{}}
	m.Whole = m.Source
	var others *resolver
	if n.kind == '{' && n.needsResolving() {
		whole, r := resolve(n, find)
		if len(r.wrong) > 0 {
			return nil, r.wrong.sorted()
		}
		n, m.Whole, m.Composed, others = whole, whole.json(false), true, r
	}
	var wrong Findings
	(&judge{model: true, wrong: &wrong}).document(n)
	if len(wrong) > 0 && others != nil {
		if theirs := others.itself(); len(theirs) > 0 {
			return nil, theirs.sorted()
		}
	}
	if n.kind != '{' {
		return nil, wrong
	}
	m.doc = n
	m.identity(n, &wrong)
	m.properties(n, &wrong)
	m.interactions(n, &wrong)
	for i, pointer := range texts(n.get("tm:optional")) {
		if n.at(pointer) == nil {
			wrong.add(fmt.Sprintf("/tm:optional/%d", i), "there is no %s in this model", pointer)
		}
	}
	ours(n, "", thingTerms, &wrong)
	m.Open = open(n)
	if len(m.Open) > 0 {
		m.warn("", "%s not filled in yet; give values when it is loaded, or let each device's labels and attributes fill them in", nounOf(len(m.Open), "placeholder is", "placeholders are")+": "+strings.Join(m.Open, ", "))
	}
	if len(wrong) > 0 {
		return nil, wrong.sorted()
	}
	return m, nil
}

func nounOf(n int, one, many string) string {
	if n == 1 {
		return "a " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

func (m *Model) warn(at, format string, args ...any) {
	m.Warnings = append(m.Warnings, Finding{at, fmt.Sprintf(format, args...)})
}

// identity reads what the model is called, and its version. A model written
// for Ullage says both; of one from elsewhere they follow from what there is.
func (m *Model) identity(n *node, wrong *Findings) {
	m.Title, m.Description = n.str("title"), n.str("description")
	m.Name = n.str("ullage:name")
	m.Version = n.get("version").str("model")
	m.Additional = n.truth("ullage:additional")
	switch {
	case n.get("ullage:name") != nil:
		m.native = true
		if !modelName.MatchString(m.Name) {
			wrong.add("/ullage:name",
				"a model is named in small letters, digits and hyphens, like tank-probe; this one is %q", m.Name)
		}
		if m.Title == "" {
			wrong.add("/title", "the title is missing; write what people call this device")
		}
		if !semver.MatchString(m.Version) {
			wrong.add("/version/model", `a model carries a semantic version, like "version": {"model": "1.0.0"}`)
		}
	default:
		id := n.str("id")
		if m.Name = slug(m.Title); m.Name == "" {
			m.Name = slug(id[strings.LastIndexAny(id, ":/")+1:])
		}
		if m.Name == "" && m.Title != "" {
			// A title in a script without small Latin letters is a title all the same.
			sum := sha256.Sum256([]byte(m.Title))
			m.Name = "model-" + hex.EncodeToString(sum[:4])
		}
		if m.Name == "" {
			wrong.add("/ullage:name",
				"nothing says what this model is called; write \"ullage:name\", or at least a title")
		}
		if m.Title == "" {
			m.Title = m.Name
		}
		if m.Version == "" || !semver.MatchString(m.Version) {
			m.Version = "0.0.0"
		}
	}
	m.Interval = 5 * time.Minute
	if v := n.get("ullage:interval"); v != nil {
		d, err := value.ParseDuration(v.text)
		if v.kind != '"' || err != nil || d <= 0 {
			wrong.add("/ullage:interval",
				"%q is not how long a device may take between readings; write it like 60s or 15min", value.Clip(v.text, 40))
		} else {
			m.Interval = d.Std()
		}
	}
	m.log(n, wrong)
}

// MaxLogLines and MaxLogKeep bound what is kept of the log of a device.
const (
	MaxLogLines = 100_000
	MaxLogKeep  = 366 * 24 * time.Hour
)

// log reads how much of the log of a device is kept.
func (m *Model) log(n *node, wrong *Findings) {
	if v := n.get("ullage:log_lines"); v != nil {
		lines, err := strconv.Atoi(v.text)
		if v.kind != '0' || err != nil || lines < 1 || lines > MaxLogLines {
			wrong.add("/ullage:log_lines", "this is how many lines of its log are kept of a device: a whole number up to %d", MaxLogLines)
		} else {
			m.LogLines = lines
		}
	}
	if v := n.get("ullage:log_keep"); v != nil {
		d, err := value.ParseDuration(v.text)
		if v.kind != '"' || err != nil || d.Std() < time.Hour || d.Std() > MaxLogKeep {
			wrong.add("/ullage:log_keep", "%q is not how long lines of a log are kept; write it like 7d, an hour at least and 366d at most", value.Clip(v.text, 40))
		} else {
			m.LogKeep = d.Std()
		}
	}
}

func (m *Model) properties(n *node, wrong *Findings) {
	props := n.get("properties")
	if props == nil {
		return
	}
	if len(props.keys) > MaxAffordances {
		wrong.add("/properties", "the model has %d properties; %d are the most", len(props.keys), MaxAffordances)
		return
	}
	optional := texts(n.get("tm:optional"))
	m.Properties = make([]Property, 0, len(props.keys))
	judged := *wrong
	for i, name := range props.keys {
		at := "/properties/" + escape(name)
		if slices.ContainsFunc(judged, func(f Finding) bool {
			return f.Pointer == at || strings.HasPrefix(f.Pointer, at+"/")
		}) {
			continue // what it means is not to be guessed
		}
		m.property(name, at, props.kids[i], slices.Contains(optional, at), wrong)
	}
	for i := range m.Properties {
		p := &m.Properties[i]
		if _, twice := m.byName[p.Name]; twice {
			wrong.add("/properties/"+escape(p.Path[0]), "two properties come out as %s; rename one", p.Name)
		}
		m.byName[p.Name] = i
		if p.Derived != "" {
			m.derived++
		}
	}
	was := map[string]string{}
	for i := range m.Properties {
		p := &m.Properties[i]
		for _, name := range p.Was {
			at := "/properties/" + strings.Join(escaped(p.Path), "/properties/") + "/ullage:was"
			_, is := m.byName[name]
			switch other := was[name]; {
			case !anyName.MatchString(name):
				wrong.add(at, "%q is no name of a metric", value.Clip(name, 40))
			case is:
				wrong.add(at, "%s cannot have been called %s: there is a property of that name", p.Name, name)
			case other != "":
				wrong.add(at, "both %s and %s say that they were called %s", other, p.Name, name)
			}
			was[name] = p.Name
		}
	}
}

// maxWas is how many names before a metric may have.
const maxWas = 8

func escaped(path []string) []string {
	out := make([]string, len(path))
	for i, step := range path {
		out[i] = escape(step)
	}
	return out
}

// Called returns the property that was called so in a version before, if any.
func (m *Model) Called(name string) (*Property, bool) {
	for i := range m.Properties {
		if slices.Contains(m.Properties[i].Was, name) {
			return &m.Properties[i], true
		}
	}
	return nil, false
}

// property reads one property and, of an object, its members.
func (m *Model) property(name, at string, n *node, optional bool, wrong *Findings) {
	p := Property{Name: name, Path: []string{name}, Decimals: -1, Optional: optional}
	if !anyName.MatchString(name) {
		wrong.add(at, "telemetry, attributes and settings are named in small letters, digits and underscores, starting with a letter")
	} else if !propertyName.MatchString(name) {
		m.warn(at, "the name does not fit expressions as it is; write value(%q) in them", name)
	} else if name == memberAt || name == memberEvery {
		wrong.add(at, "%s is no name for a value: in a message it gives the time of the others", name)
	}
	role := n.get("ullage:role")
	switch {
	case role == nil && !n.truth("readOnly"):
		p.Role = Setting
	case role == nil:
		p.Role = Telemetry
	case slices.Contains([]string{"telemetry", "attribute", "setting"}, role.text):
		p.Role = Role(role.text)
	default:
		wrong.add(at+"/ullage:role", "%q is no role; it is telemetry, attribute or setting", role.text)
	}
	m.leaf(p, at, n, role != nil || m.native, wrong)
}

// leaf finishes a property from its data schema; an object becomes one
// property for each of its members.
func (m *Model) leaf(p Property, at string, n *node, must bool, wrong *Findings) {
	s := schemaOf(n)
	p.Schema = s
	p.Title, p.Description, p.Unit = s.Title, s.Description, s.Unit
	p.Min, p.Max, p.MinLength, p.MaxLength = s.Minimum, s.Maximum, s.MinLength, s.MaxLength
	ours(n, at, propertyTerms, wrong)
	p.additions(n, at, wrong)
	p.Secret = p.Role == Setting && s.WriteOnly && !p.KeptByService
	switch kind := s.kind(); kind {
	case "number", "integer":
		p.Kind, p.Integer = value.Number, kind == "integer"
	case "string":
		p.Kind = value.Text
	case "boolean":
		p.Kind = value.Bool
	case "object":
		if len(p.Path) == 4 {
			wrong.add(at, "objects are stored member by member, four deep at most")
			return
		}
		m.members(p, at, n, s, wrong)
		return
	case "":
		if must {
			wrong.add(at+"/type", "the type is missing; it is number, integer, string, boolean or object")
			return
		}
		m.warn(at, "nothing says what type %s is, so it is not stored", p.Name)
		return
	default:
		m.warn(at, "%s is %s, which is checked and not stored", p.Name, s.words())
	}
	if p.Unit != "" {
		if p.Kind != value.Number {
			wrong.add(at+"/unit", "only numbers have a unit")
		}
		if _, err := unit.Lookup(p.Unit); err != nil && !must {
			m.warn(at+"/unit", "%s; it is shown as it stands and not converted", err)
		} else if err != nil {
			wrong.add(at+"/unit", "%s", err)
		}
	}
	for i, e := range s.Enum {
		if t, ok := e.(string); ok {
			p.Enum = append(p.Enum, t)
		} else if p.Kind == value.Text {
			wrong.add(fmt.Sprintf("%s/enum/%d", at, i), "an enumeration lists texts")
		}
	}
	p.strict = s.Const != nil || len(s.OneOf) > 0 || s.Above != nil || s.Below != nil || s.MultipleOf != nil ||
		s.Pattern != nil ||
		s.Format != "" || s.Encoding != "" || p.Kind == value.Number && len(s.Enum) > 0 || p.Kind == value.None
	if p.Tells == "" {
		p.Tells = p.guessed()
	} else if p.Kind != value.Number {
		wrong.add(at+"/ullage:tells", "only a number tells how a battery or a signal is")
	}
	m.theDefault(&p, at, n, wrong)
	m.Properties = append(m.Properties, p)
}

// theDefault reads and checks the default of a property.
func (m *Model) theDefault(p *Property, at string, n *node, wrong *Findings) {
	d := n.get("default")
	if d == nil || p.Kind == value.None || d.open() {
		return
	}
	v, err := p.Check(d.any())
	switch {
	case p.Secret:
		wrong.add(at+"/default", "%s is a secret (writeOnly), and everybody reads a model; give it by a layer", p.Name)
	case err != nil:
		wrong.add(at+"/default", "the default %s", err)
	case p.OutOfRange(v):
		wrong.add(at+"/default", "the default %s is not %s", p.Say(v), p.RangeWords())
	default:
		p.Default = v
	}
}

// members reads the members of an object as properties of their own.
func (m *Model) members(p Property, at string, n *node, s *Schema, wrong *Findings) {
	props := n.get("properties")
	if props == nil {
		m.warn(at, "%s is an object, and nothing says what is in it, so it is not stored", p.Name)
		return
	}
	m.groups[p.Name] = true
	for i, key := range props.keys {
		sub := p
		sub.Name, sub.Path = p.Name+"_"+key, append(slices.Clone(p.Path), key)
		sub.Usual, sub.Accept, sub.Default, sub.Enum, sub.Decimals = nil, nil, value.Value{}, nil, -1
		sub.Optional = p.Optional || !slices.Contains(s.Required, key)
		if !anyName.MatchString(key) {
			wrong.add(at+"/properties/"+escape(key),
				"telemetry, attributes and settings are named in small letters, digits and underscores, starting with a letter")
			continue
		}
		m.leaf(sub, at+"/properties/"+escape(key), props.kids[i], false, wrong)
	}
}

// kind returns the type of a schema, from its values where it does not say.
func (s *Schema) kind() string {
	if s.Type != "" {
		return s.Type
	}
	values := s.Enum
	if s.Const != nil {
		values = []any{s.Const}
	}
	for _, o := range s.OneOf {
		if k := o.kind(); k != "" {
			values = append(values, map[string]any{"number": 1.0, "integer": 1.0, "string": "", "boolean": true}[k])
		}
	}
	kind := ""
	for _, v := range values {
		k := map[byte]string{'n': "number", 't': "string", 'b': "boolean"}[kindByte(v)]
		if kind != "" && k != kind {
			return "" // now this, now that
		}
		kind = k
	}
	return kind
}

func kindByte(v any) byte {
	switch v.(type) {
	case float64:
		return 'n'
	case string:
		return 't'
	case bool:
		return 'b'
	}
	return 0
}

// The terms that stand under the prefix, by where they may.
var (
	thingTerms    = []string{"name", "interval", "additional", "log_lines", "log_keep"}
	propertyTerms = []string{"role", "decimals", "usual", "accept", "kept_by_service", "retention", "rollup_retention", "was",
		"derived", "tells", "component"}
	actionTerms = []string{"component", "renews"}
)

// ours refuses a term under Ullage's prefix that Ullage does not know: it is a
// slip, and would do nothing.
func ours(n *node, at string, terms []string, wrong *Findings) {
	for _, k := range n.keys {
		term, is := strings.CutPrefix(k, "ullage:")
		if !is || slices.Contains(terms, term) {
			continue
		}
		hint := "here there are " + strings.Join(terms, ", ")
		if near := value.Nearest(term, terms); near != "" {
			hint = "did you mean ullage:" + near + "?"
		}
		wrong.add(at+"/"+escape(k), "Ullage knows no %s; %s", k, hint)
	}
}

// additions reads what Ullage adds to a data schema.
func (p *Property) additions(n *node, at string, wrong *Findings) {
	if d := n.get("ullage:decimals"); d != nil {
		if p.Decimals = int(d.num); d.kind != '0' || d.num != float64(p.Decimals) || p.Decimals < 0 || p.Decimals > 15 {
			wrong.add(at+"/ullage:decimals", "a number shows between 0 and 15 decimals, not %s", d.text)
		}
	}
	p.Usual = span(n, "ullage:usual", at, wrong)
	p.Accept = span(n, "ullage:accept", at, wrong)
	if a := p.Accept; a != nil && (p.Min != nil && *p.Min < a.Low || p.Max != nil && *p.Max > a.High) {
		wrong.add(at+"/ullage:accept", "the accept span must hold everything between minimum and maximum")
	}
	if u, a := p.Usual, p.Accept; u != nil && (p.Min != nil && u.High < *p.Min || p.Max != nil && u.Low > *p.Max ||
		a != nil && (u.High < a.Low || u.Low > a.High)) {
		wrong.add(at+"/ullage:usual", "the usual range lies outside what the model allows")
	}
	if h := n.get("ullage:kept_by_service"); h != nil {
		if p.KeptByService = h.yes; h.kind != 't' {
			wrong.add(at+"/ullage:kept_by_service", "this is %s; write true or false", h.words())
		} else if p.KeptByService && p.Role != Setting {
			wrong.add(at+"/ullage:kept_by_service", "only a setting can be kept by the service")
		}
	}
	for term, keep := range map[string]*time.Duration{"ullage:retention": &p.Retention,
		"ullage:rollup_retention": &p.RollupRetention} {
		r := n.get(term)
		if r == nil {
			continue
		}
		d, err := value.ParseDuration(r.text)
		switch {
		case r.kind != '"' || err != nil || d.Std() < 24*time.Hour:
			wrong.add(at+"/"+term, "%q is not how long readings are kept; write it like 30d or 365d, one day at least",
				value.Clip(r.text, 40))
		case p.Role != Telemetry:
			wrong.add(at+"/"+term, "only telemetry has a history to keep")
		default:
			*keep = d.Std()
		}
	}
	if w := n.get("ullage:was"); w != nil {
		names := texts(w)
		if w.kind == '"' {
			names = []string{w.text}
		}
		switch {
		case len(names) == 0 || len(names) > maxWas:
			wrong.add(at+"/ullage:was", "this is what the metric was called before, such as \"must_temperature\", or a list of at most %d such names", maxWas)
		case p.Role != Telemetry:
			wrong.add(at+"/ullage:was", "only telemetry has a history that goes on under another name")
		default:
			p.Was = names
		}
	}
	if c := component(n, at, wrong); c != "" {
		p.Component = c
	}
	if t := n.get("ullage:tells"); t != nil {
		switch p.Tells = Tells(t.text); {
		case t.kind != '"' || !slices.Contains([]Tells{Battery, Signal, Neither}, p.Tells):
			wrong.add(at+"/ullage:tells", "this is what telemetry tells of the device itself: battery, signal or neither")
		case p.Role != Telemetry:
			wrong.add(at+"/ullage:tells", "only telemetry tells how a battery or a signal is over time")
		}
	}
	if d := n.get("ullage:derived"); d != nil {
		switch {
		case d.kind != '"' || strings.TrimSpace(d.text) == "":
			wrong.add(at+"/ullage:derived",
				"this is the expression that the telemetry is computed by, like tank_depth - ullage")
		case p.Role != Telemetry:
			wrong.add(at+"/ullage:derived", "only telemetry is derived")
		default:
			p.Derived = d.text
		}
	}
}

func span(n *node, key, at string, wrong *Findings) *Span {
	s := n.get(key)
	if s == nil {
		return nil
	}
	if s.kind != '[' || len(s.kids) != 2 || s.kids[0].kind != '0' || s.kids[1].kind != '0' ||
		s.kids[0].num > s.kids[1].num {
		wrong.add(at+"/"+key, "a span is two numbers, the lower first, like [24, 29]")
		return nil
	}
	return &Span{s.kids[0].num, s.kids[1].num}
}

// component reads what of a device an affordance belongs to.
func component(n *node, at string, wrong *Findings) string {
	c := n.get("ullage:component")
	switch {
	case c == nil:
		return ""
	case c.kind != '"' || !instanceName.MatchString(c.text):
		wrong.add(at+"/ullage:component",
			"this is what of the device it belongs to, such as \"left\": letters, digits and underscores, starting with a letter")
		return ""
	}
	return c.text
}

// interactions reads actions and events.
func (m *Model) interactions(n *node, wrong *Findings) {
	optional := texts(n.get("tm:optional"))
	for _, group := range []string{"actions", "events"} {
		members := n.get(group)
		if members == nil {
			continue
		}
		if len(members.keys) > MaxAffordances {
			wrong.add("/"+group, "the model has %d %s; %d are the most", len(members.keys), group, MaxAffordances)
			continue
		}
		for i, name := range members.keys {
			at, x := "/"+group+"/"+escape(name), members.kids[i]
			if !anyName.MatchString(name) {
				wrong.add(at, "commands and events are named in small letters, digits and underscores, because the name is part of a topic")
				continue
			}
			may := slices.Contains(optional, at)
			if group == "actions" {
				ours(x, at, actionTerms, wrong)
				if r := x.get("ullage:renews"); r != nil && (r.kind != 't' || r.yes && x.get("input") != nil) {
					wrong.add(at+"/ullage:renews", "this is true for a command that has a device renew what lets it in; such a command has no input")
				}
				m.Actions = append(m.Actions, Action{Name: name, Title: x.str("title"),
					Description: x.str("description"), Input: schemaOf(x.get("input")), Output: schemaOf(x.get("output")), Safe: x.truth("safe"), Idempotent: x.truth("idempotent"), Optional: may,
					Component: component(x, at, wrong), Renews: x.truth("ullage:renews")})
			} else {
				m.Events = append(m.Events, Event{Name: name, Title: x.str("title"), Description: x.str("description"),
					Data: schemaOf(x.get("data")), Optional: may})
			}
		}
	}
	slices.SortFunc(m.Actions, func(a, b Action) int { return strings.Compare(a.Name, b.Name) })
	slices.SortFunc(m.Events, func(a, b Event) int { return strings.Compare(a.Name, b.Name) })
}

// open lists the placeholders of a document, each once, in their order.
func open(n *node) []string {
	var out []string
	var walk func(*node)
	walk = func(n *node) {
		if n.kind == '"' {
			if strings.Contains(n.text, "{{") {
				for _, f := range placeholder.FindAllStringSubmatch(n.text, -1) {
					if !slices.Contains(out, f[1]) {
						out = append(out, f[1])
					}
				}
			}
			return
		}
		for _, k := range n.kids {
			walk(k)
		}
	}
	walk(n)
	return out
}

// fill replaces the placeholders of a tree and returns what stands there then.
// A text that is nothing but a placeholder becomes a number or a truth where
// its value is one.
func fill(n *node, values map[string]string) *node {
	for i, k := range n.kids {
		n.kids[i] = fill(k, values)
	}
	if n.kind != '"' || !strings.Contains(n.text, "{{") {
		return n
	}
	if f := placeholder.FindStringSubmatch(n.text); f != nil && f[0] == n.text {
		v, ok := values[f[1]]
		if !ok {
			return n
		}
		if num, err := strconv.ParseFloat(v, 64); err == nil && json.Valid([]byte(v)) {
			return &node{kind: '0', text: v, num: num}
		}
		if v == "true" || v == "false" {
			return &node{kind: 't', yes: v == "true"}
		}
		return textNode(v)
	}
	return textNode(placeholder.ReplaceAllStringFunc(n.text, func(s string) string {
		if v, ok := values[s[2:len(s)-2]]; ok {
			return v
		}
		return s
	}))
}

// Fill puts values in the place of a Thing Model's placeholders and returns
// the model so written. Placeholders without a value stay; a value without a
// placeholder is a finding.
func Fill(src []byte, values map[string]string) ([]byte, error) {
	n, bad := read(src)
	if bad != nil {
		return nil, Findings{*bad}
	}
	there := open(n)
	var wrong Findings
	for name := range values {
		if !slices.Contains(there, name) {
			hint := "there is none in this model"
			if len(there) > 0 {
				hint = "there is " + strings.Join(there, ", ")
			}
			wrong.add("", "the model has no placeholder {{%s}}; %s", value.Clip(name, 40), hint)
		}
	}
	if len(wrong) > 0 {
		return nil, wrong.sorted()
	}
	return fill(n, values).json(true), nil
}
