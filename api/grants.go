package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/person"
	"ullage/core/record"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// maxReached is how many ids of devices a preview lists.
const maxReached = 1000

// grantRoutes serve teams and keys, and what accesses reach.
func (s *server) grantRoutes() {
	serve(s, served[person.Team]{word: "team", words: "teams", tag: "People",
		name: func(t person.Team) string { return t.Name },
		list: func(context.Context) ([]person.Team, error) { return s.People.Teams.List(), nil },
		get:  func(_ context.Context, name string) (person.Team, error) { return s.People.Teams.Get(name) },
		put: func(ctx context.Context, t person.Team, cond noun.If) (noun.Saved[person.Team], error) {
			return s.People.Teams.Put(ctx, t, cond, caller(ctx).Name)
		},
		remove: func(ctx context.Context, name string, cond noun.If) error {
			return s.People.Teams.Remove(ctx, name, cond, caller(ctx).Name)
		},
	})
	serve(s, served[person.Key]{word: "key", words: "keys", tag: "People",
		name: func(k person.Key) string { return k.Name },
		list: func(context.Context) ([]person.Key, error) { return s.People.Keys(), nil },
		get:  func(_ context.Context, name string) (person.Key, error) { return s.People.Key(name) },
		tagOf: func(k person.Key) string {
			k.UsedAt, k.UsedFrom, k.Screens = nil, "", 0
			return record.Tag(k)
		},
		remove: func(ctx context.Context, name string, cond noun.If) error {
			return s.People.RemoveKey(ctx, name, cond, caller(ctx).Name)
		},
	})
	type make struct{ Body person.Key }
	huma.Post(s.api, "/api/v1/keys", func(ctx context.Context, in *make) (*body[client.KeyMade], error) {
		k, secret, err := s.People.MakeKey(ctx, in.Body, caller(ctx).Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.KeyMade]{client.KeyMade{Key: k, Secret: secret}}, nil
	}, describe("make-key", "Make a key for a program; its secret is shown this once", "People"), func(o *huma.Operation) {
		o.Errors = append(o.Errors, http.StatusConflict)
	})
	type preview struct {
		Access string `query:"access" required:"true" maxLength:"4000" doc:"A condition over labels, device.id and device.model" example:"label.site == \"Fennimore\""`
	}
	huma.Get(s.api, "/api/v1/access/preview", func(ctx context.Context, in *preview) (*body[client.Reach], error) {
		a, err := person.NewAccess(in.Access)
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "%s", err).On("access"))
		}
		ids := s.People.Reached(a)
		out := client.Reach{Devices: ids, Count: len(ids), Of: s.Fleet.All(caller(ctx)), Labels: a.Labels()}
		switch {
		case out.Count == 0:
			out.Says = "It reaches no device now."
		case out.Count == out.Of && out.Of == 1:
			out.Says = "It reaches the one device that there is."
		case out.Count == out.Of:
			out.Says = fmt.Sprintf("It reaches all %d devices that there are.", out.Of)
		default:
			out.Says = fmt.Sprintf("It reaches %d of %d devices.", out.Count, out.Of)
		}
		if len(out.Devices) > maxReached {
			out.Devices = out.Devices[:maxReached]
		}
		if out.Devices == nil {
			out.Devices = []string{}
		}
		if out.Labels == nil {
			out.Labels = []string{}
		}
		return &body[client.Reach]{out}, nil
	}, describe("preview-access", "Which devices an access would reach", "People"))
	type explain struct {
		Person string `query:"person" maxLength:"70" doc:"Of this person, or of a key, as in key press-hall-screen; of whoever asks where not given"`
		Device string `query:"device" required:"true" maxLength:"63" doc:"For this device"`
	}
	huma.Get(s.api, "/api/v1/access/explain", func(ctx context.Context, in *explain) (*body[client.Explained], error) {
		c := caller(ctx)
		name := in.Person
		if name == "" {
			name = c.Name
		}
		if name != c.Name {
			if err := may(c.Name, c.Role(), "people", "Access of other people"); err != nil {
				return nil, s.failed(err)
			}
		}
		d, _, err := s.Fleet.Registered(c, in.Device)
		if d.ID == "" {
			return nil, s.failed(err)
		}
		grants, err := s.People.Explain(name, d)
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.Explained{Person: name, Device: d.ID, Grants: []client.GrantOn{}}
		by := ""
		for _, g := range grants {
			out.Grants = append(out.Grants, client.GrantOn{Given: client.Given{Role: g.Role, Access: g.Access, Team: g.Team},
				Reaches: g.Reaches, Why: g.Why})
			if g.Reaches && !person.Role(out.Role).Does(g.Role) {
				out.Role, by = string(g.Role), "a grant of their own"
				if g.Team != "" {
					by = "the team " + g.Team
				}
			}
		}
		out.Says = fmt.Sprintf("%s has no role for %s: none of their grants is for it.", name, d.ID)
		if out.Role != "" {
			out.Says = fmt.Sprintf("%s is %s for %s, by %s.", name, out.Role, d.ID, by)
		}
		return &body[client.Explained]{out}, nil
	}, describe("explain-access", "What somebody may do to a device, and by which grant", "People"), notFound)
}
