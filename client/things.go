package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"ullage/core/geo"
)

// Things are the things of one noun that people make, such as sites and rules.
type Things[T any] struct {
	c     *Client
	words string // as in the path
	name  func(T) string
}

// Sites are the places where devices are.
func (c *Client) Sites() Things[Site] {
	return Things[Site]{c, "sites", func(s Site) string { return s.Name }}
}

// Maintenances say when devices are out of service.
func (c *Client) Maintenances() Things[Maintenance] {
	return Things[Maintenance]{c, "maintenances", func(m Maintenance) string { return m.Name }}
}

// Rules are the alarm rules.
func (c *Client) Rules() Things[Rule] {
	return Things[Rule]{c, "rules", func(r Rule) string { return r.Name }}
}

// Models are the models in their newest versions. Get takes NAME@VERSION too;
// they are made by PublishModel, not by Put.
func (c *Client) Models() Things[Model] {
	return Things[Model]{c, "models", func(m Model) string { return m.Name }}
}

// ListOptions narrow and order a list.
type ListOptions struct {
	Where string // a condition over the fields; everything if it is empty
	Order string // a field, with - before it the other way round; by name if empty
	Limit int    // 0 for all
}

// pageSize is how many things one request asks for.
const pageSize = 1000

// List returns the things that pass, page by page until there are no more.
func (t Things[T]) List(ctx context.Context, o ListOptions) ([]T, error) {
	q := url.Values{}
	filter(q, o.Where)
	if o.Order != "" {
		q.Set("order", o.Order)
	}
	out := []T{}
	for {
		ask := pageSize
		if o.Limit > 0 {
			ask = min(pageSize, o.Limit-len(out))
		}
		q.Set("limit", strconv.Itoa(ask))
		var page []T
		head, err := t.c.call(ctx, request{method: http.MethodGet, path: "/" + t.words + "?" + q.Encode()}, &page)
		if err != nil {
			return nil, err
		}
		out = append(out, page...)
		after := nextPage(head.Get("Link"), "after")
		if after == "" || o.Limit > 0 && len(out) >= o.Limit {
			return out, nil
		}
		q.Set("after", after)
	}
}

// nextPage returns where the next page begins, by a Link header (RFC 8288).
func nextPage(link, parameter string) string {
	address, rel, ok := strings.Cut(strings.TrimPrefix(link, "<"), ">")
	if !ok || !strings.Contains(rel, `rel="next"`) {
		return ""
	}
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return u.Query().Get(parameter)
}

func (t Things[T]) at(name string) string { return "/" + t.words + "/" + url.PathEscape(name) }

// Get returns a thing and the tag of its state, for Put and Remove.
func (t Things[T]) Get(ctx context.Context, name string) (x T, tag string, err error) {
	head, err := t.c.call(ctx, request{method: http.MethodGet, path: t.at(name)}, &x)
	return x, head.Get("ETag"), err
}

// Saved is a thing that was put, and what that did.
type Saved[T any] struct {
	Value   T
	Tag     string
	Created bool
	Changed bool // false if it was so already
}

// Put makes a thing, or changes the one of its name. With a tag it does so only
// in the state that has it, else the error is a Problem of status 412.
func (t Things[T]) Put(ctx context.Context, x T, tag string) (Saved[T], error) {
	out := Saved[T]{}
	r := request{method: http.MethodPut, path: t.at(t.name(x)), in: x}
	if tag != "" {
		r.header = http.Header{"If-Match": {tag}}
	}
	head, err := t.c.call(ctx, r, &out.Value)
	out.Tag, out.Created, out.Changed = head.Get("ETag"), head.Get("Location") != "", head.Get("Ullage-Changed") == "true"
	return out, err
}

// Remove takes a thing away, with a tag only in the state that has it.
func (t Things[T]) Remove(ctx context.Context, name, tag string) error {
	r := request{method: http.MethodDelete, path: t.at(name)}
	if tag != "" {
		r.header = http.Header{"If-Match": {tag}}
	}
	_, err := t.c.call(ctx, r, nil)
	return err
}

// PutPlan gives a site its plan picture; nil takes it away.
func (c *Client) PutPlan(ctx context.Context, site string, picture []byte) error {
	r := request{method: http.MethodDelete, path: c.Sites().at(site) + "/plan"}
	if picture != nil {
		r = request{method: http.MethodPut, path: r.path, in: picture,
			header: http.Header{"Content-Type": {"application/octet-stream"}}}
	}
	_, err := c.call(ctx, r, nil)
	return err
}

// PlaceDevice says where a device stands; nil takes that back.
func (c *Client) PlaceDevice(ctx context.Context, id string, at *geo.Position) (Device, error) {
	if at == nil {
		return send[Device](ctx, c, http.MethodDelete, device(id)+"/position", nil)
	}
	return send[Device](ctx, c, http.MethodPut, device(id)+"/position", at)
}

// ChangeDevice gives a device another name for people, or another hub.
func (c *Client) ChangeDevice(ctx context.Context, id string, ch DeviceChange) (Device, error) {
	return send[Device](ctx, c, http.MethodPatch, device(id), ch)
}
