package model

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"ullage/core/value"
)

// Finder returns the Thing Model, in JSON, that a link leads to, and whether
// there is one. From is the href by which the asking file itself was found,
// empty for the file that is being read: relative links count from there.
type Finder func(href, from string) (src []byte, at string, found bool)

// resolver writes out what a model extends, imports and is composed of.
type resolver struct {
	find  Finder
	files map[string]*node // read, by where they were found
	whole map[string]*node // those written out whole; nil while that is under way
	asked [][2]string      // where each file is, and the place that asked for it first
	chain []string         // what is being resolved now, to notice loops
	left  int              // values that may still be written out
	wrong Findings
}

// resolve returns the whole model that n stands for: tm:extends, tm:ref and
// tm:submodel written out (W3C WoT TD 1.1, section 10.3). Findings point into n.
func resolve(n *node, find Finder) (*node, *resolver) {
	if find == nil {
		find = func(string, string) ([]byte, string, bool) { return nil, "", false }
	}
	r := &resolver{find: find, files: map[string]*node{}, whole: map[string]*node{}, left: MaxMembers - n.size()}
	return r.document(n, "", n), r
}

// needsResolving says whether there is anything to write out.
func (n *node) needsResolving() bool {
	if n.get("tm:ref") != nil {
		return true
	}
	if rel := n.str("rel"); rel == "tm:extends" || rel == "tm:submodel" {
		return true
	}
	return slices.ContainsFunc(n.kids, (*node).needsResolving)
}

func (r *resolver) enter(what string) bool {
	if slices.Contains(r.chain, what) || len(r.chain) > 16 {
		return false
	}
	r.chain = append(r.chain, what)
	return true
}

func (r *resolver) leave() { r.chain = r.chain[:len(r.chain)-1] }

func (r *resolver) loop(what string) string {
	i := max(slices.Index(r.chain, what), 0)
	return strings.Join(append(slices.Clone(r.chain[i:]), what), " → ")
}

// file reads what a link leads to.
func (r *resolver) file(href, from, at string) (*node, string) {
	src, where, ok := r.find(href, from)
	if !ok {
		hint := "put that file beside this one, or load that model first"
		if strings.Contains(href, "://") {
			name, _, _ := strings.Cut(path.Base(href), "?")
			hint = fmt.Sprintf("nothing is fetched from elsewhere: save it beside this file as %s, or load it first",
				value.Clip(name, 100))
		}
		r.wrong.add(at, "there is no model at %s; %s", value.Clip(href, 160), hint)
		return nil, ""
	}
	if n := r.files[where]; n != nil {
		return n, where
	}
	n, bad := read(src)
	if bad != nil {
		r.wrong.add(at, "%s is itself wrong: %s", path.Base(where), Findings{*bad}.Error())
		return nil, ""
	}
	r.files[where] = n
	r.asked = append(r.asked, [2]string{where, at})
	return n, where
}

// itself finds the files that are wrong already by themselves. It is asked when
// the whole is wrong: what a sound one takes over is judged there.
func (r *resolver) itself() (out Findings) {
	for _, x := range r.asked {
		var wrong Findings
		(&judge{model: true, wrong: &wrong}).document(r.files[x[0]])
		if len(wrong) > 0 {
			out.add(x[1], "%s is itself wrong: %s", path.Base(x[0]), wrong.sorted()[:1].Error())
		}
	}
	return out
}

// own are the members that say which model this is; a child does not inherit them.
var own = []string{"id", "ullage:name", "version", "links", "created", "modified", "$comment"}

// document resolves a document that was found at from. Top is where findings
// point to: only those of the file that is read have a place in it.
func (r *resolver) document(n *node, from string, top *node) *node {
	out := n.clone()
	links := n.get("links")
	var keep []*node
	var submodels []*node
	var base *node
	if links != nil {
		for i, l := range links.kids {
			at := ""
			if n == top {
				at = fmt.Sprintf("/links/%d/href", i)
			}
			switch l.str("rel") {
			case "tm:extends":
				if base != nil {
					r.wrong.add(strings.TrimSuffix(at, "href")+"rel",
						"a model extends one other; import the rest with tm:ref")
				}
				base = r.other(l.str("href"), from, at)
			case "tm:submodel":
				submodels = append(submodels, r.submodel(l, from, at))
			default:
				keep = append(keep, l)
			}
		}
		out.remove("links")
		if len(keep) > 0 {
			out.set("links", list(keep...))
		}
	}
	// References are written out in the child alone: the parent's are resolved. They
	// may lead to what the document has from its parent.
	all := n
	if base != nil {
		all = base.clone().merge(n.clone())
	}
	out = r.refs(out, from, "", n == top, all)
	if base != nil {
		for _, k := range own {
			base.remove(k)
		}
		r.narrowed(base, out, n == top)
		context, optional := contexts(base.get("@context"), out.get("@context")), union(texts(base.get("tm:optional")),
			texts(out.get("tm:optional")))
		out = base.merge(out)
		out.set("@context", context)
		if optional != nil {
			out.set("tm:optional", optional)
		}
	}
	for _, s := range submodels {
		if s != nil {
			r.compose(out, s, n == top)
		}
	}
	return out
}

// other returns the resolved model that a link leads to.
func (r *resolver) other(href, from, at string) *node {
	file, where := r.file(href, from, at)
	if file == nil {
		return nil
	}
	name := path.Base(where)
	if !r.enter(name) {
		r.wrong.add(at, "models extend each other in a loop: %s", r.loop(name))
		return nil
	}
	defer r.leave()
	if r.left -= file.size(); r.left < 0 {
		r.wrong.add(at, "the model is too large once everything in it is written out: more than %d values", MaxMembers)
		return nil
	}
	before := len(r.wrong)
	out := r.document(file, where, nil)
	for i := before; i < len(r.wrong); i++ {
		r.wrong[i] = Finding{at, "in " + name + ": " + strings.TrimPrefix(r.wrong[i].Sentence, "in "+name+": ")}
	}
	return out
}

// writtenOut returns a file with all that it takes over from others: a reference
// may lead to something that it inherits, or changes in part. While the file
// is being written out itself, it is what stands in it.
func (r *resolver) writtenOut(file *node, where, at string) *node {
	if !file.needsResolving() {
		return file
	}
	if n, begun := r.whole[where]; begun {
		if n == nil {
			return file
		}
		return n
	}
	if len(r.chain) > 8 {
		return file // deeper it is not followed as a whole
	}
	r.whole[where] = nil
	if r.left -= file.size(); r.left < 0 {
		r.wrong.add(at, "the model is too large once everything in it is written out: more than %d values", MaxMembers)
		return file
	}
	before := len(r.wrong)
	name := path.Base(where)
	out := r.document(file, where, nil)
	for i := before; i < len(r.wrong); i++ {
		r.wrong[i] = Finding{at, "in " + name + ": " + strings.TrimPrefix(r.wrong[i].Sentence, "in "+name+": ")}
	}
	r.whole[where] = out
	return out
}

// refs replaces every object with a tm:ref by what it refers to, under its own
// other members.
func (r *resolver) refs(n *node, from, at string, top bool, doc *node) *node {
	ref := n.get("tm:ref")
	if ref == nil {
		for i, k := range n.kids {
			name := fmt.Sprint(i)
			if n.kind == '{' {
				name = escape(n.keys[i])
			}
			if len(k.kids) > 0 {
				n.kids[i] = r.refs(k, from, at+"/"+name, top, doc)
			}
		}
		return n
	}
	where := ""
	if top {
		where = at + "/tm:ref"
	}
	patch := n.clone()
	patch.remove("tm:ref")
	href, pointer, hash := strings.Cut(ref.text, "#")
	if ref.kind != '"' || !hash {
		r.wrong.add(where, "tm:ref names a file and a place in it, like ./probe-base.tm.json#/properties/battery")
		return patch
	}
	source, place := doc, from
	if href != "" {
		if source, place = r.file(href, from, where); source == nil {
			return patch
		}
		source = r.writtenOut(source, place, where)
	}
	what := path.Base(place) + "#" + pointer
	if place == "" {
		what = "#" + pointer
	}
	if !r.enter(what) {
		r.wrong.add(where, "references lead in a loop: %s", r.loop(what))
		return patch
	}
	defer r.leave()
	target := source.at(pointer)
	if target == nil {
		r.wrong.add(where, "there is nothing at %s in %s", pointer, orThis(place))
		return patch
	}
	if r.left -= target.size(); r.left < 0 {
		r.wrong.add(where, "the model is too large once everything in it is written out: more than %d values",
			MaxMembers)
		return patch
	}
	resolved := r.refs(target.clone(), place, pointer, false, source)
	return resolved.merge(r.refs(patch, from, at, top, doc))
}

func orThis(place string) string {
	if place == "" {
		return "this file"
	}
	return path.Base(place)
}

// narrowed tells where a child says of an inherited affordance that it is of
// another type: what is written for the parent would be wrong for the child.
func (r *resolver) narrowed(base, child *node, top bool) {
	for _, group := range []string{"properties"} {
		for i, name := range child.get(group).names() {
			was, is := base.get(group).get(name).str1("type"), child.get(group).kids[i].str1("type")
			if was == "" || is == "" || was == is || was == "number" && is == "integer" {
				continue
			}
			at := ""
			if top {
				at = "/" + group + "/" + escape(name) + "/type"
			}
			r.wrong.add(at, "the model it extends says %s; a child may narrow that and not make it %s", was, is)
		}
	}
}

func (n *node) names() []string {
	if n == nil {
		return nil
	}
	return n.keys
}

func (n *node) str1(key string) string {
	if n == nil {
		return ""
	}
	return n.str(key)
}

// contexts joins two @context members.
func contexts(a, b *node) *node {
	out := list()
	for _, c := range []*node{a, b} {
		switch {
		case c == nil:
		case c.kind == '[':
			out.kids = append(out.kids, c.kids...)
		default:
			out.kids = append(out.kids, c)
		}
	}
	var once []*node
	for _, k := range out.kids {
		if !slices.ContainsFunc(once, k.same) {
			once = append(once, k)
		}
	}
	if len(once) == 1 {
		return once[0]
	}
	return list(once...)
}

func union(a, b []string) *node {
	if len(a)+len(b) == 0 {
		return nil
	}
	out := list()
	for i, s := range append(slices.Clone(a), b...) {
		if !slices.Contains(append(slices.Clone(a), b...)[:i], s) {
			out.kids = append(out.kids, textNode(s))
		}
	}
	return out
}

var instanceName = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_]{0,30}$`)

// submodel returns the affordances of a component, under its instance name.
func (r *resolver) submodel(l *node, from, at string) *node {
	instance := l.str("instanceName")
	whole := r.other(l.str("href"), from, at)
	if whole == nil {
		return nil
	}
	if instance == "" {
		instance = strings.ReplaceAll(slug(whole.str("title")), "-", "_")
	}
	if !instanceName.MatchString(instance) {
		r.wrong.add(strings.TrimSuffix(at, "href")+"instanceName",
			"%q is no name for a component; use letters, digits and underscores, starting with a letter", value.Clip(instance, 40))
		return nil
	}
	part := object()
	title := strings.ToUpper(instance[:1]) + strings.ReplaceAll(instance[1:], "_", " ")
	siblings := whole.get("properties").names()
	for _, group := range []string{"properties", "actions", "events"} {
		members := whole.get(group)
		if members == nil {
			continue
		}
		out := object()
		for i, name := range members.keys {
			m := members.kids[i]
			if m.kind == '{' {
				if t := m.str("title"); t != "" {
					m.set("title", textNode(title+": "+t))
				}
				if group != "events" {
					// A component of a component is named by both.
					m.set("ullage:component", textNode(strings.TrimSuffix(instance+"_"+m.str("ullage:component"), "_")))
				}
				if d := m.str("ullage:derived"); d != "" {
					m.set("ullage:derived", textNode(renamed(d, siblings, instance+"_")))
				}
			}
			out.set(instance+"_"+name, m)
		}
		part.set(group, out)
	}
	var optional []string
	for _, p := range texts(whole.get("tm:optional")) {
		group, name, ok := strings.Cut(strings.TrimPrefix(p, "/"), "/")
		if ok {
			optional = append(optional, "/"+group+"/"+instance+"_"+name)
		}
	}
	if o := union(nil, optional); o != nil {
		part.set("tm:optional", o)
	}
	part.set("@context", whole.get("@context"))
	return part
}

// compose puts the affordances of a component into a model.
func (r *resolver) compose(out, part *node, top bool) {
	for i, group := range part.keys {
		switch group {
		case "@context":
			out.set(group, contexts(out.get(group), part.kids[i]))
			continue
		case "tm:optional":
			out.set(group, union(texts(out.get(group)), texts(part.kids[i])))
			continue
		}
		members := out.get(group)
		if members == nil {
			members = object()
		}
		// What the model itself says of a part's affordance stands over it.
		joined := members
		for k, name := range part.kids[i].keys {
			if own := members.get(name); own != nil {
				joined.set(name, part.kids[i].kids[k].merge(own))
			} else {
				joined.set(name, part.kids[i].kids[k])
			}
		}
		out.set(group, joined)
	}
}

// nameOrText finds names in an expression, and the texts and units in which
// names are only letters.
var nameOrText = regexp.MustCompile(`"(?:[^"\\]|\\.)*"|'[^']*'|[A-Za-z_][A-Za-z0-9_]*(?:\.[A-Za-z_][A-Za-z0-9_]*)?`)

// renamed puts a prefix before the names of some properties in an expression.
func renamed(expression string, names []string, prefix string) string {
	return nameOrText.ReplaceAllStringFunc(expression, func(s string) string {
		scope, key, dotted := strings.Cut(s, ".")
		switch {
		case dotted && (scope == "set" || scope == "intended" || scope == "attr") && slices.Contains(names, key):
			return scope + "." + prefix + key
		case !dotted && slices.Contains(names, s):
			return prefix + s
		}
		return s
	})
}

var notSlug = regexp.MustCompile(`[^a-z0-9]+`)

// slug makes a name of a title: "Smart lamp" is smart-lamp.
func slug(title string) string {
	s := notSlug.ReplaceAllString(strings.ToLower(placeholder.ReplaceAllString(title, "")), "-")
	if s = strings.Trim(s, "-"); len(s) > 60 {
		s = strings.Trim(s[:60], "-")
	}
	return s
}
