package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/person"
	"ullage/core/record"
	"ullage/fleet/noun"
	"ullage/fleet/people"
	"ullage/transport/conns"
)

func (s *server) peopleRoutes() {
	serve(s, served[person.Person]{word: "person", words: "people", tag: "People",
		name: func(p person.Person) string { return p.Name },
		list: func(context.Context) ([]person.Person, error) { return s.People.Everybody(), nil },
		get:  func(_ context.Context, name string) (person.Person, error) { return s.People.One(name) },
		tagOf: func(p person.Person) string {
			p.Invited, p.Sessions, p.Role, p.Limited, p.Teams, p.SecondFactor = false, 0, "", false, nil, false
			return record.Tag(p)
		},
		put: func(ctx context.Context, p person.Person, cond noun.If) (noun.Saved[person.Person], error) {
			return s.People.Put(ctx, p, cond, caller(ctx).Name)
		},
		remove: func(ctx context.Context, name string, cond noun.If) error {
			return s.People.Remove(ctx, name, cond, caller(ctx).Name)
		},
	})
	huma.Post(s.api, "/api/v1/people/{name}/invitation", func(ctx context.Context, in *ThingNamed) (*body[client.Invitation], error) {
		secret, expires, err := s.People.Invite(ctx, in.Name, caller(ctx).Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Invitation]{client.Invitation{Person: in.Name, ExpiresAt: expires.UTC(), Secret: secret,
			Path: "/activate#" + secret}}, nil
	}, describe("invite-person", "Invite somebody to choose a password", "People"), notFound)
	s.grantRoutes()
	s.screenRoutes()
	s.factorRoutes()
	s.signOnRoutes()
	nobody := func(o *huma.Operation) {
		o.Security = []map[string][]string{}
		o.Errors = append(o.Errors, http.StatusNotFound, http.StatusTooManyRequests)
	}
	type invited struct{ Body client.InvitationSecret }
	huma.Post(s.api, "/api/v1/invitation", func(_ context.Context, in *invited) (*body[client.Invitation], error) {
		i, err := s.People.Invited(in.Body.Secret)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Invitation]{client.Invitation{Person: i.Person, ExpiresAt: i.ExpiresAt.UTC()}}, nil
	}, describe("invitation", "Whom an invitation is for", "Access"), nobody)
	type activate struct{ Body client.Activation }
	huma.Post(s.api, "/api/v1/activate", func(ctx context.Context, in *activate) (*body[client.Activated], error) {
		name, err := s.People.Activate(ctx, in.Body.Secret, in.Body.Password)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Activated]{client.Activated{Person: name}}, nil
	}, describe("activate", "Choose a password with an invitation", "Access"), nobody)
	huma.Post(s.api, "/api/v1/me/password", func(ctx context.Context, in *remote[client.PasswordChange]) (*struct{}, error) {
		if err := s.People.ChangePassword(ctx, by(ctx), in.Body.Old, in.Body.New, conns.HostOf(in.address)); err != nil {
			return nil, s.failed(err)
		}
		return nil, nil
	}, describe("change-password", "Choose another password", "Access"), func(o *huma.Operation) {
		o.Errors = append(o.Errors, http.StatusTooManyRequests)
	})
	type whose struct {
		Person string `query:"person" maxLength:"70" doc:"Of one person, or of the screens of a key, as in key press-hall-screen; an owner may ask for * too, which is everybody"`
	}
	huma.Get(s.api, "/api/v1/sessions", func(ctx context.Context, in *whose) (*body[[]client.Session], error) {
		of, err := s.whose(ctx, in.Person)
		if err != nil {
			return nil, s.failed(err)
		}
		out := []client.Session{}
		for _, x := range s.People.Sessions(of) {
			out = append(out, client.Session{ID: x.ID(), Person: x.Person, With: x.Label, SignedInAt: x.CreatedAt.UTC(),
				From: x.From, ExpiresAt: x.ExpiresAt.UTC(), This: x.Hash == by(ctx).Hash})
		}
		return &body[[]client.Session]{out}, nil
	}, describe("sessions", "Sign-ins that hold", "Access"))
	type one struct {
		ID string `path:"id" maxLength:"64" doc:"Of the session"`
	}
	huma.Delete(s.api, "/api/v1/sessions/{id}", func(ctx context.Context, in *one) (*struct{}, error) {
		of, err := s.whose(ctx, "*")
		if err != nil {
			of = by(ctx).Person
		}
		if err := s.People.End(ctx, in.ID, of, caller(ctx).Name); err != nil {
			return nil, s.failed(err)
		}
		return nil, nil
	}, describe("end-session", "End a sign-in", "Access"), notFound)
}

// whose returns the person whose sessions somebody asks for, "" for everybody.
func (s *server) whose(ctx context.Context, name string) (string, error) {
	c := caller(ctx)
	self := c.Name
	if name == "" || name == self {
		return self, nil
	}
	if err := may(self, c.Role(), "people", "Sign-ins of other people"); err != nil {
		return "", err
	}
	if name == "*" {
		return "", nil
	}
	if key, ok := strings.CutPrefix(name, people.CallerOfKey("")); ok {
		_, err := s.People.Key(key)
		return name, err
	}
	_, err := s.People.One(name)
	return name, err
}
