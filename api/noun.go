package api

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"ullage/core/expr"
	"ullage/core/record"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// served says how things of one kind that people make are served: list, show, put
// and delete, with filter, order, pages and conditions. T is what the API, the
// client and the command line show, with its JSON names.
type served[T any] struct {
	word, words string // as in site, sites: of sentences and of the path
	tag         string // of the OpenAPI document
	name        func(T) string
	list        func(context.Context) ([]T, error)
	get         func(context.Context, string) (T, error)
	// tagOf is the tag of a state; record.Tag of the whole if it is nil.
	tagOf func(T) string
	// put and remove are nil where things cannot be changed this way.
	put    func(ctx context.Context, x T, cond noun.If) (noun.Saved[T], error)
	remove func(ctx context.Context, name string, cond noun.If) error
}

// Paged is the filter, the order and the place of a list.
type Paged struct {
	Where string `query:"where" maxLength:"65536" doc:"Only those for which this condition over their fields is true" example:"zone == \"UTC\""`
	Order string `query:"order" maxLength:"64" doc:"Field to order by, with - before it the other way round; by name where not given" example:"-devices"`
	After string `query:"after" maxLength:"2000" doc:"Where the last page ended; the next page's address is in its Link header"`
	Limit int    `query:"limit" minimum:"1" maximum:"10000" default:"1000" doc:"At most this many"`
}

type listed[T any] struct {
	Link  string `header:"Link" doc:"Address of the next page (RFC 8288), if there is one"`
	Count int    `header:"Ullage-Count" doc:"How many pass the filter on all pages"`
	Body  []T
}

type shown[T any] struct {
	ETag string `header:"ETag" doc:"Tag of this state, for If-Match"`
	Body T
}

type saved[T any] struct {
	Status   int
	Location string `header:"Location" doc:"Where it is, if it is new"`
	ETag     string `header:"ETag" doc:"Tag of the new state"`
	Changed  bool   `header:"Ullage-Changed" doc:"Whether anything is other than before"`
	Body     T
}

// Conditions are those of RFC 9110, section 13.
type Conditions struct {
	Match     string `header:"If-Match" doc:"Change it only in the state of this tag" maxLength:"2000"`
	NoneMatch string `header:"If-None-Match" doc:"With *, make it only if there is none" maxLength:"100"`
}

func (c Conditions) condition() noun.If {
	out := noun.If{New: strings.TrimSpace(c.NoneMatch) == "*"}
	for _, tag := range strings.Split(c.Match, ",") {
		if tag = strings.Trim(strings.TrimPrefix(strings.TrimSpace(tag), "W/"), `"`); tag != "" {
			out.Match = append(out.Match, tag)
		}
	}
	return out
}

// ThingNamed is the path of a thing.
type ThingNamed struct {
	Name string `path:"name" doc:"Its name" maxLength:"400"`
}

// serve adds the operations of a noun.
func serve[T any](s *server, n served[T]) {
	path, id := "/api/v1/"+n.words, strings.ReplaceAll(n.word, " ", "-")
	fields := record.Fields[T]()
	s.nouns[id] = fields
	doc := s.api.OpenAPI()
	if !slices.ContainsFunc(doc.Tags, func(t *huma.Tag) bool { return t.Name == n.tag }) {
		doc.Tags = append(doc.Tags, &huma.Tag{Name: n.tag,
			Description: "The " + n.words + " of the fleet: finding, making, changing and removing them."})
	}
	if n.tagOf == nil {
		n.tagOf = func(x T) string { return record.Tag(x) }
	}
	quoted := func(x T) string { return `"` + n.tagOf(x) + `"` }
	huma.Get(s.api, path, func(ctx context.Context, p *Paged) (*listed[T], error) {
		all, err := n.list(ctx)
		if err != nil {
			return nil, s.failed(err)
		}
		out, err := pageOf(all, *p, n.word, path, fields, n.name, s)
		if err != nil {
			return nil, s.failed(err)
		}
		return out, nil
	}, describe(n.words, "Every "+n.word, n.tag,
		"A condition over the fields of a "+n.word+" narrows the list; it comes in pages."))
	huma.Get(s.api, path+"/{name}", func(ctx context.Context, in *ThingNamed) (*shown[T], error) {
		x, err := n.get(ctx, in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &shown[T]{quoted(x), x}, nil
	}, describe(id, "One "+n.word, n.tag, "With an ETag, for a change that must not overwrite another's."), notFound)
	if n.put != nil {
		s.kept = append(s.kept, n.word)
		type put struct {
			ThingNamed
			Conditions
			Body T
		}
		huma.Put(s.api, path+"/{name}", func(ctx context.Context, in *put) (*saved[T], error) {
			if name := n.name(in.Body); in.Name != name {
				return nil, s.failed(fault.New(fault.Invalid, "the address says %s and the %s %s", in.Name, n.word,
					name).Then("make them the same"))
			}
			done, err := n.put(ctx, in.Body, in.condition())
			if err != nil {
				return nil, s.failed(err)
			}
			s.Settle()
			x, err := n.get(ctx, in.Name)
			if err != nil {
				return nil, s.failed(err)
			}
			out := &saved[T]{Status: http.StatusOK, ETag: quoted(x), Changed: done.Changed, Body: x}
			if done.Created {
				out.Status, out.Location = http.StatusCreated, path+"/"+url.PathEscape(in.Name)
			}
			return out, nil
		}, describe("put-"+id, "Make a "+n.word+", or change the one of that name", n.tag,
			"It is checked as a whole first, every mistake at once. With If-Match it fails where somebody else has changed it since."), conditional)
	}
	if n.remove != nil {
		type remove struct {
			ThingNamed
			Conditions
		}
		huma.Delete(s.api, path+"/{name}", func(ctx context.Context, in *remove) (*struct{}, error) {
			if err := n.remove(ctx, in.Name, in.condition()); err != nil {
				return nil, s.failed(err)
			}
			s.Settle()
			return nil, nil
		}, describe("remove-"+id, "Take a "+n.word+" away", n.tag,
			"The journal tells who did it and what it was."), notFound, conditional)
	}
}

func conditional(o *huma.Operation) {
	o.Errors = append(o.Errors, http.StatusPreconditionFailed)
	if o.Method == http.MethodPut {
		o.Responses = map[string]*huma.Response{"201": {Description: "It is new"}}
	}
}

// pageOf filters and orders a list and cuts one page out of it.
func pageOf[T any](all []T, p Paged, word, path string, fields []record.Field,
	name func(T) string, s *server) (*listed[T], error) {
	if strings.TrimSpace(p.Where) != "" {
		f, found := record.NewFilter(word, p.Where, fields)
		if f == nil {
			return nil, wrongWhere(found, fields)
		}
		now := s.Now()
		all = slices.DeleteFunc(all, func(x T) bool { return !f.Passes(x, now) })
	}
	o, err := orderBy(p.Order, fields)
	if err != nil {
		return nil, err
	}
	keys := make(map[string]string, len(all))
	for _, x := range all {
		keys[name(x)] = o.key(x)
	}
	slices.SortFunc(all, func(a, b T) int { return o.compare(keys[name(a)], name(a), keys[name(b)], name(b)) })
	out := &listed[T]{Count: len(all), Body: all}
	list := path + "?" + p.Where + "?" + p.Order
	if p.After != "" {
		c, ok := readCursor(p.After, list)
		if !ok {
			return nil, fault.New(fault.Invalid, "the place given with after is none of this list in this order").
				Then("begin without it, and follow the Link header")
		}
		i, _ := slices.BinarySearchFunc(all, c, func(x T, c cursor) int {
			return cmp.Or(o.compare(keys[name(x)], name(x), c.Key, c.Name), -1) // behind the last one
		})
		out.Body = all[i:]
	}
	if p.Limit > 0 && len(out.Body) > p.Limit {
		out.Body = out.Body[:p.Limit]
		last := name(out.Body[p.Limit-1])
		q := url.Values{"after": {cursor{keys[last], last}.write(list)}, "limit": {strconv.Itoa(p.Limit)}}
		for k, v := range map[string]string{"where": p.Where, "order": p.Order} {
			if v != "" {
				q.Set(k, v)
			}
		}
		out.Link = "<" + path + "?" + q.Encode() + `>; rel="next"`
	}
	return out, nil
}

func wrongWhere(found expr.Findings, fields []record.Field) error {
	return fault.New(fault.Invalid, "where: %s", found).Then("write a condition over the fields, like %s == \"x\"",
		fields[0].Name)
}

// order is what a list is ordered by; the zero order is by name.
type order struct {
	field *record.Field
	down  bool
}

func orderBy(src string, fields []record.Field) (order, error) {
	if src == "" {
		return order{}, nil
	}
	name, down := strings.CutPrefix(src, "-")
	var names []string
	for i := range fields {
		if fields[i].Name == name {
			return order{&fields[i], down}, nil
		}
		names = append(names, fields[i].Name)
	}
	f := fault.New(fault.Invalid, "there is no field %q to order by", value.Clip(name, 60)).
		Then("there are %s", strings.Join(names, ", "))
	if near := value.Nearest(name, names); near != "" {
		f = f.Then("did you mean %s?", near)
	}
	return order{}, f
}

func (o order) key(x any) string {
	if o.field == nil {
		return ""
	}
	return record.Sortable(o.field.Of(x))
}

// unknown is the key of what has no value: it stands last either way.
var unknown = record.Sortable(value.Value{})

func (o order) compare(a, aName, b, bName string) int {
	c := cmp.Compare(a, b)
	if o.down && a != unknown && b != unknown {
		c = -c
	}
	return cmp.Or(c, cmp.Compare(aName, bName))
}

// cursor is the place of the last thing on a page: its key in the order of the
// list, and its name. It holds also if the thing is gone meanwhile.
type cursor struct {
	Key  string `json:"k,omitempty"`
	Name string `json:"n"`
}

// write returns the cursor as text, with a check sum over it and the list that
// it is of: a cursor of another list would lead to a wrong place. It is no
// secret, and whoever computes one by hand sees nothing that the list would not
// show.
func (c cursor) write(list string) string {
	b, err := json.Marshal(c)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(append([]byte(list+"\n"), b...))
	return base64.RawURLEncoding.EncodeToString(append(sum[:6], b...))
}

func readCursor(s, list string) (cursor, bool) {
	b, err := base64.RawURLEncoding.DecodeString(s)
	var c cursor
	if err != nil || len(b) < 6 || json.Unmarshal(b[6:], &c) != nil || c.write(list) != s {
		return cursor{}, false
	}
	return c, true
}
