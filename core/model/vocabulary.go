package model

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"ullage/core/value"
)

const standard = "https://www.w3.org/2022/wot/td/v1.1"

var (
	// placeholder is how a Thing Model leaves a value open (TD 1.1 section 10.3.4).
	placeholder = regexp.MustCompile(`\{\{([A-Za-z0-9_.-]{1,64})\}\}`)
	affordance  = regexp.MustCompile(`^/(properties|actions|events)/[^/]+$`)
)

// open reports whether a text stands for a value that is filled in later.
func (n *node) open() bool {
	return n.kind == '"' && placeholder.MatchString(n.text)
}

// judge holds a document against the vocabulary of the Thing Description
// (W3C WoT TD 1.1, sections 5 and 10): what its members are, and what they say
// of each other. Members that the standard does not name are left alone, as it
// asks.
type judge struct {
	model    bool // a Thing Model: nothing is required, and values may be open
	security map[string]bool
	wrong    *Findings
}

func (j *judge) add(at, format string, args ...any) { j.wrong.add(at, format, args...) }

// member describes what a member of some object has to be.
type member struct {
	key string
	is  func(j *judge, at string, n *node)
}

// members checks those that are there; of others nothing is said.
func (j *judge) members(at string, n *node, table []member) {
	for i, k := range n.keys {
		if plain(k, n.kids[i].kind) {
			continue
		}
		for _, m := range table {
			if m.key == k {
				m.is(j, at+"/"+escape(k), n.kids[i])
				break
			}
		}
	}
}

// plain reports whether a member is what it has to be wherever it stands. Most
// members are, and their places need not be written down.
func plain(key string, kind byte) bool {
	switch key {
	case "title", "description", "unit", "format", "contentEncoding", "contentMediaType":
		return kind == '"'
	case "readOnly", "writeOnly", "observable", "safe", "idempotent":
		return kind == 't'
	case "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum":
		return kind == '0'
	}
	return false
}

func wants(kind byte, what string) func(*judge, string, *node) {
	return func(j *judge, at string, n *node) {
		if n.kind != kind && !(j.model && n.open()) {
			j.add(at, "this is %s; the standard wants %s", n.words(), what)
		}
	}
}

var (
	isText   = wants('"', "text")
	isNumber = wants('0', "a number")
	isTruth  = wants('t', "true or false")
)

func isCount(j *judge, at string, n *node) {
	isNumber(j, at, n)
	if n.kind == '0' && (n.num < 0 || n.num != float64(int64(n.num)) || n.num > 1<<31) {
		j.add(at, "this is %s; the standard wants a whole number, 0 or more", n.text)
	}
}

func isURI(j *judge, at string, n *node) {
	isText(j, at, n)
	if n.kind != '"' || j.model && n.open() {
		return
	}
	if _, err := url.Parse(placeholder.ReplaceAllString(strings.NewReplacer("{", "", "}", "").Replace(n.text), "")); err != nil {
		j.add(at, "%q is no URI", value.Clip(n.text, 40))
	}
}

// isID wants a URI with its scheme, as an id is one for good.
func isID(j *judge, at string, n *node) {
	isURI(j, at, n)
	if n.kind == '"' && !n.open() {
		if u, err := url.Parse(n.text); err == nil && u.Scheme == "" {
			j.add(at, "%q is no URI with a scheme, like urn:tarn-hollow:probe-7", value.Clip(n.text, 40))
		}
	}
}

func isTime(j *judge, at string, n *node) {
	isText(j, at, n)
	if n.kind == '"' && !(j.model && n.open()) {
		if _, err := time.Parse(time.RFC3339Nano, n.text); err != nil {
			j.add(at, "%q is no RFC 3339 time with a zone, like 2026-03-01T10:00:00Z", value.Clip(n.text, 40))
		}
	}
}

func isTexts(j *judge, at string, n *node) {
	if n.kind == '[' {
		for i, k := range n.kids {
			isText(j, fmt.Sprintf("%s/%d", at, i), k)
		}
		return
	}
	isText(j, at, n)
}

func isWords(j *judge, at string, n *node) { // a text by language
	if n.kind != '{' {
		j.add(at, "this is %s; the standard wants an object of texts by language", n.words())
		return
	}
	for i, k := range n.keys {
		isText(j, at+"/"+escape(k), n.kids[i])
	}
}

// each wants an object, or a list, of one kind of thing.
func each(kind byte, least int, what string, is func(*judge, string, *node)) func(*judge, string, *node) {
	return func(j *judge, at string, n *node) {
		if n.kind != kind {
			j.add(at, "this is %s; the standard wants %s", n.words(), what)
			return
		}
		if len(n.kids) < least {
			j.add(at, "there is nothing in it; the standard wants at least one, or leave it out")
		}
		for i, k := range n.kids {
			name := fmt.Sprint(i)
			if kind == '{' {
				name = escape(n.keys[i])
			}
			is(j, at+"/"+name, k)
		}
	}
}

func isOneOf(words ...string) func(*judge, string, *node) {
	return func(j *judge, at string, n *node) {
		isText(j, at, n)
		if n.kind == '"' && !slices.Contains(words, n.text) && !(j.model && n.open()) {
			j.add(at, "%q is not known here; it is one of %s", value.Clip(n.text, 40), strings.Join(words, ", "))
		}
	}
}

func isObject(table *[]member) func(*judge, string, *node) {
	return func(j *judge, at string, n *node) {
		if n.kind != '{' {
			j.add(at, "this is %s; the standard wants an object", n.words())
			return
		}
		j.members(at, n, *table)
	}
}

// isNames is the list of security definitions that something uses.
func isNames(j *judge, at string, n *node) {
	isTexts(j, at, n)
	if n.kind == '[' && len(n.kids) == 0 {
		j.add(at, "nothing is named; name one of the security definitions")
	}
	for i, name := range texts(n) {
		where := at
		if n.kind == '[' {
			where = fmt.Sprintf("%s/%d", at, i)
		}
		if !j.security[name] && !(j.model && (placeholder.MatchString(name) || len(j.security) == 0)) {
			j.add(where, "there is no security definition %q", value.Clip(name, 40))
		}
	}
}

// texts returns a text, or the texts of a list.
func texts(n *node) []string {
	if n == nil {
		return nil
	}
	if n.kind == '"' {
		return []string{n.text}
	}
	var out []string
	for _, k := range n.kids {
		if k.kind == '"' {
			out = append(out, k.text)
		}
	}
	return out
}

// Forms.

var (
	rootOps = []string{"readallproperties", "writeallproperties", "readmultipleproperties",
		"writemultipleproperties", "observeallproperties", "unobserveallproperties", "queryallactions", "subscribeallevents", "unsubscribeallevents"}
	propertyOps = []string{"readproperty", "writeproperty", "observeproperty", "unobserveproperty"}
	actionOps   = []string{"invokeaction", "queryaction", "cancelaction"}
	eventOps    = []string{"subscribeevent", "unsubscribeevent"}
)

func forms(ops []string) func(*judge, string, *node) {
	is := func(j *judge, at string, n *node) {
		if n.kind != '{' {
			j.add(at, "this is %s; a form is an object", n.words())
			return
		}
		if n.get("href") == nil && !j.model {
			j.add(at, "the form has no href; say where it leads")
		}
		j.members(at, n, formMembers)
		op := n.get("op")
		for i, word := range texts(op) {
			where := at + "/op"
			if op.kind == '[' {
				where = fmt.Sprintf("%s/%d", where, i)
			}
			if !slices.Contains(ops, word) && !(j.model && placeholder.MatchString(word)) {
				j.add(where, "op %q does not belong here; it is one of %s", value.Clip(word, 40),
					strings.Join(ops, ", "))
			}
		}
	}
	return each('[', 1, "a list of forms", is)
}

var formMembers = []member{
	{"op", isTexts}, {"href", isURI}, {"contentType", isText}, {"contentCoding", isText}, {"subprotocol", isText},
	{"security", isNames}, {"scopes", isTexts},
}

// The tables are filled in init, because data schemas hold data schemas.
var (
	schemaMembers, propertyMembers, actionMembers, eventMembers, linkMembers, securityMembers, thingMembers []member
)

func init() {
	words := []member{{"@type", isTexts}, {"title", isText}, {"titles", isWords}, {"description", isText},
		{"descriptions", isWords}}
	schemaMembers = append([]member{
		{"type", isOneOf("boolean", "integer", "number", "string", "object", "array", "null")},
		{"unit", isText}, {"readOnly", isTruth}, {"writeOnly", isTruth}, {"format", isText}, {"pattern", isPattern},
		{"contentEncoding", isText}, {"contentMediaType", isText},
		{"minimum", isNumber}, {"maximum", isNumber}, {"exclusiveMinimum", isNumber}, {"exclusiveMaximum", isNumber}, {"multipleOf", isStep},
		{"minLength", isCount}, {"maxLength", isCount}, {"minItems", isCount}, {"maxItems", isCount},
		{"enum", isEnum}, {"required", isTexts},
		{"oneOf", each('[', 1, "a list of data schemas", isSchema)},
		{"properties", each('{', 0, "an object of data schemas", isSchema)},
		{"items", func(j *judge, at string, n *node) {
			if n.kind == '[' {
				each('[', 0, "", isSchema)(j, at, n)
				return
			}
			isSchema(j, at, n)
		}},
	}, words...)
	interaction := func(ops []string) []member {
		return append([]member{{"forms", forms(ops)},
			{"uriVariables", each('{', 0, "an object of data schemas", isSchema)}}, words...)
	}
	propertyMembers = []member{{"forms", forms(propertyOps)},
		{"uriVariables", each('{', 0, "an object of data schemas", isSchema)}, {"observable", isTruth}}
	actionMembers = append(interaction(actionOps), member{"input", isSchema}, member{"output", isSchema},
		member{"safe", isTruth}, member{"idempotent", isTruth}, member{"synchronous", isTruth})
	eventMembers = append(interaction(eventOps), member{"data", isSchema}, member{"subscription", isSchema},
		member{"cancellation", isSchema}, member{"dataResponse", isSchema})
	linkMembers = []member{{"href", isURI}, {"type", isText}, {"rel", isText}, {"anchor", isURI}, {"sizes", isText},
		{"hreflang", isTexts}, {"instanceName", isText}}
	securityMembers = append([]member{{"proxy", isURI},
		{"in", isOneOf("header", "query", "body", "cookie", "uri", "auto")}, {"name", isText},
		{"qop", isOneOf("auth", "auth-int")}, {"authorization", isURI}, {"token", isURI}, {"refresh", isURI}, {"scopes", isTexts}, {"flow", isText}, {"identity", isText}}, words...)
	thingMembers = append([]member{
		{"id", isID}, {"base", isURI}, {"support", isURI}, {"created", isTime}, {"modified", isTime}, {"profile", isTexts},
		{"properties", each('{', 0, "an object of properties", isProperty)},
		{"actions", each('{', 0, "an object of actions", interactionOf(&actionMembers))},
		{"events", each('{', 0, "an object of events", interactionOf(&eventMembers))},
		{"forms", forms(rootOps)},
		{"links", each('[', 0, "a list of links", isLink)},
		{"security", isNames},
		{"securityDefinitions", each('{', 1, "an object of security definitions", isSecurity)},
		{"schemaDefinitions", each('{', 1, "an object of data schemas", isSchema)},
		{"uriVariables", each('{', 0, "an object of data schemas", isSchema)},
		{"tm:optional", isTexts},
	}, words...)
}

func interactionOf(table *[]member) func(*judge, string, *node) {
	is := isObject(table)
	return func(j *judge, at string, n *node) {
		is(j, at, n)
		j.needsForms(at, n)
	}
}

func isProperty(j *judge, at string, n *node) {
	isSchema(j, at, n)
	if n.kind == '{' {
		j.members(at, n, propertyMembers)
		j.needsForms(at, n)
	}
}

func (j *judge) needsForms(at string, n *node) {
	if n.kind == '{' && !j.model && n.get("forms") == nil {
		j.add(at, "there is no form, so nobody knows how to reach it")
	}
}

func isLink(j *judge, at string, n *node) {
	isObject(&linkMembers)(j, at, n)
	if n.kind == '{' && n.get("href") == nil {
		j.add(at, "the link has no href; say where it leads")
	}
}

// schemes are the security schemes of the standard; others carry a prefix.
var schemes = []string{"nosec", "auto", "combo", "basic", "digest", "apikey", "bearer", "psk", "oauth2"}

func isSecurity(j *judge, at string, n *node) {
	isObject(&securityMembers)(j, at, n)
	if n.kind != '{' {
		return
	}
	scheme := n.get("scheme")
	switch {
	case scheme == nil || scheme.kind != '"':
		j.add(at, "the scheme is missing; it is one of %s", strings.Join(schemes, ", "))
	case j.model && scheme.open():
	case !slices.Contains(schemes, scheme.text) && strings.Index(scheme.text, ":") < 1:
		j.add(at+"/scheme", "scheme %q is not known; it is one of %s, or one of a vocabulary with its prefix",
			value.Clip(scheme.text, 40), strings.Join(schemes, ", "))
	case scheme.text == "combo":
		one, all := n.get("oneOf"), n.get("allOf")
		if (one == nil) == (all == nil) {
			j.add(at, "a combo names either oneOf or allOf the other definitions")
		} else if list := texts(one); len(list) < 2 && len(texts(all)) < 2 {
			j.add(at, "a combo names at least two definitions")
		}
	}
}

func isStep(j *judge, at string, n *node) {
	isNumber(j, at, n)
	if n.kind == '0' && n.num <= 0 {
		j.add(at, "a number is a multiple of something above 0, not of %s", n.text)
	}
}

func isPattern(j *judge, at string, n *node) {
	isText(j, at, n)
	if n.kind == '"' && !n.open() {
		if _, err := regexp.Compile(n.text); err != nil {
			j.add(at, "the pattern %q cannot be read: %s", value.Clip(n.text, 40), err)
		}
	}
}

func isEnum(j *judge, at string, n *node) {
	if n.kind != '[' || len(n.kids) == 0 {
		j.add(at, "an enumeration lists at least one value")
		return
	}
	for i, k := range n.kids {
		if slices.ContainsFunc(n.kids[:i], k.same) {
			j.add(fmt.Sprintf("%s/%d", at, i), "this value is listed twice")
		}
	}
}

func isSchema(j *judge, at string, n *node) {
	if n.kind != '{' {
		j.add(at, "this is %s; the standard wants an object", n.words())
		return
	}
	before := len(*j.wrong)
	j.members(at, n, schemaMembers)
	if len(*j.wrong) > before {
		return // what follows would say the same once more
	}
	j.contradictions(at, n)
}

// contradictions finds what no value could meet.
func (j *judge) contradictions(at string, n *node) {
	for _, x := range [][2]string{{"minimum", "maximum"}, {"minLength", "maxLength"}, {"minItems", "maxItems"},
		{"exclusiveMinimum", "exclusiveMaximum"}, {"minimum", "exclusiveMaximum"}, {"exclusiveMinimum", "maximum"}} {
		low, high := n.get(x[0]), n.get(x[1])
		if low == nil || high == nil || low.kind != '0' || high.kind != '0' {
			continue
		}
		exclusive := strings.HasPrefix(x[0], "ex") || strings.HasPrefix(x[1], "ex")
		if low.num > high.num || exclusive && low.num == high.num {
			j.add(at+"/"+x[0], "the %s %s is above the %s %s", x[0], low.text, x[1], high.text)
		}
	}
	kind := n.str("type")
	fits := func(where string, v *node) {
		ok := true
		switch kind {
		case "boolean":
			ok = v.kind == 't'
		case "number":
			ok = v.kind == '0'
		case "integer":
			ok = v.kind == '0' && v.num == float64(int64(v.num))
		case "string":
			ok = v.kind == '"'
		case "object":
			ok = v.kind == '{'
		case "array":
			ok = v.kind == '['
		case "null":
			ok = v.kind == 'n'
		}
		if !ok && !(j.model && v.open()) {
			j.add(where, "this is %s; the type says %s", v.words(), kind)
		}
	}
	if e := n.get("enum"); e != nil {
		for i, v := range e.kids {
			fits(fmt.Sprintf("%s/enum/%d", at, i), v)
		}
	}
	for _, key := range []string{"const", "default"} {
		if v := n.get(key); v != nil {
			fits(at+"/"+key, v)
		}
	}
	if props := n.get("properties"); props != nil {
		for i, name := range texts(n.get("required")) {
			if props.get(name) == nil {
				j.add(fmt.Sprintf("%s/required/%d", at, i), "%q is required and not among the properties",
					value.Clip(name, 40))
			}
		}
	}
}

// document checks a whole Thing Model or Thing Description.
func (j *judge) document(n *node) {
	if n.kind != '{' {
		j.add("", "this is %s; a Thing Model is an object", n.words())
		return
	}
	j.security = map[string]bool{}
	if defs := n.get("securityDefinitions"); defs != nil {
		for _, k := range defs.keys {
			j.security[k] = true
		}
	}
	j.context(n)
	j.members("", n, thingMembers)
	isModel := slices.Contains(texts(n.get("@type")), "tm:ThingModel")
	switch {
	case j.model && !isModel:
		j.add("/@type", `a Thing Model has "@type": "tm:ThingModel"`)
	case !j.model && isModel:
		j.add("/@type", "this is a Thing Model; a Thing Description describes one device")
	}
	version := n.get("version")
	switch {
	case version == nil || j.model && version.open():
	case version.kind != '{':
		j.add("/version", "this is %s; the standard wants an object", version.words())
	case !j.model && version.str("instance") == "":
		j.add("/version", "the version of the instance is missing")
	}
	if !j.model {
		for _, key := range []string{"title", "security", "securityDefinitions"} {
			if n.get(key) == nil {
				j.add("/"+key, "the %s is missing", key)
			}
		}
	}
	j.links(n)
	optional := n.get("tm:optional")
	for i, pointer := range texts(optional) {
		where := fmt.Sprintf("/tm:optional/%d", i)
		if !affordance.MatchString(pointer) {
			j.add(where, "%q is no property, action or event; write it like /properties/status",
				value.Clip(pointer, 40))
		}
	}
}

func (j *judge) context(n *node) {
	c := n.get("@context")
	if c == nil {
		j.add("/@context", "the context must name %s", standard)
		return
	}
	found, prefix := false, false
	look := []*node{c}
	if c.kind == '[' {
		look = c.kids
	}
	for _, x := range look {
		found = found || x.kind == '"' && (x.text == standard ||
			!j.model && x.text == "https://www.w3.org/2019/wot/td/v1")
		prefix = prefix || x.str("ullage") == Namespace
	}
	if !found {
		j.add("/@context", "the context must name %s", standard)
	}
	if !prefix && j.model && n.uses("ullage:") {
		j.add("/@context", `the context must bind the prefix: {"ullage": %q}`, Namespace)
	}
}

// uses reports whether a member anywhere in n begins with a prefix.
func (n *node) uses(prefix string) bool {
	for _, k := range n.keys {
		if strings.HasPrefix(k, prefix) {
			return true
		}
	}
	for _, k := range n.kids {
		if len(k.kids) > 0 && k.uses(prefix) {
			return true
		}
	}
	return false
}

func (j *judge) links(n *node) {
	links := n.get("links")
	if links == nil {
		return
	}
	seen := map[string]bool{}
	for i, l := range links.kids {
		rel := l.str("rel")
		if (rel == "type" || rel == "tm:extends") && seen[rel] {
			what := map[string]string{"type": "a thing has one type",
				"tm:extends": "a model extends one other; import the rest with tm:ref"}[rel]
			j.add(fmt.Sprintf("/links/%d/rel", i), "there is a second link of rel %q; %s", rel, what)
		}
		seen[rel] = true
	}
}

// CheckThing checks a Thing Description, which describes one device, against
// the standard. It returns what is wrong with it, nothing for a sound one.
func CheckThing(src []byte) Findings {
	n, bad := read(src)
	if bad != nil {
		return Findings{*bad}
	}
	var wrong Findings
	j := &judge{wrong: &wrong}
	j.document(n)
	return wrong.sorted()
}
