package api

import (
	"context"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/person"
	"ullage/core/unit"
	"ullage/fleet/access"
	"ullage/fleet/commit"
	"ullage/fleet/fault"
	"ullage/fleet/people"
	"ullage/transport/conns"
	"ullage/transport/problem"
)

// The cookie of a session; over TLS another one, which browsers take from nobody
// but this host over TLS (RFC 6265bis, the prefix __Host-). One of the two
// addresses then does not put out the sign-in at the other.
const (
	cookieName       = "ullage_session"
	secureCookieName = "__Host-" + cookieName
)

func cookieOf(secure bool) string {
	if secure {
		return secureCookieName
	}
	return cookieName
}

// secure reports whether a request came over TLS, here or at a trusted proxy.
func secure(ctx huma.Context) bool { return ctx.TLS() != nil || conns.Secure(ctx.Context()) }

type sessionKey struct{}

// by returns the session of a request.
func by(ctx context.Context) people.Session {
	s, _ := ctx.Value(sessionKey{}).(people.Session)
	return s
}

type callerKey struct{}

// caller returns who makes a request; nobody, who may nothing, before it was found
// out who it is.
func caller(ctx context.Context) access.Caller {
	c, _ := ctx.Value(callerKey{}).(access.Caller)
	return c
}

func (s *server) authenticate(ctx huma.Context, next func(huma.Context)) {
	if open[ctx.Operation().OperationID] {
		next(ctx)
		return
	}
	secret := ""
	if scheme, token, ok := strings.Cut(ctx.Header("Authorization"), " "); ok && strings.EqualFold(scheme, "Bearer") {
		secret = strings.TrimSpace(token)
	} else if c, err := huma.ReadCookie(ctx, cookieOf(secure(ctx))); err == nil {
		secret = c.Value
	}
	from := conns.HostOf(ctx.RemoteAddr())
	session, err := s.People.Who(secret, from)
	if err != nil {
		ctx.SetHeader("WWW-Authenticate", "Bearer")
		s.deny(ctx, err)
		return
	}
	conns.KnownIn(ctx.Context())
	c := s.People.Caller(session, from)
	if err := may(c.Name, c.Role(), ctx.Operation().OperationID, ctx.Operation().Summary); err != nil {
		s.deny(ctx, err)
		return
	}
	if session.Screen() {
		if err := s.onlyPage(ctx, session); err != nil {
			s.deny(ctx, err)
			return
		}
	}
	ctx = huma.WithContext(ctx, commit.From(ctx.Context(), from))
	next(huma.WithValue(huma.WithValue(ctx, sessionKey{}, session), callerKey{}, c))
}

// deny answers instead of an operation.
func (s *server) deny(ctx huma.Context, err error) {
	d := problem.Of(fault.From(err))
	ctx.SetHeader("Content-Type", "application/problem+json")
	ctx.SetStatus(d.Status)
	s.api.Marshal(ctx.BodyWriter(), "application/json", d)
}

func (s *server) accessRoutes() {
	type signedIn struct {
		SetCookie []http.Cookie `header:"Set-Cookie"`
		Body      client.SignedIn
	}
	huma.Post(s.api, "/api/v1/sign-in", func(ctx context.Context, in *remote[client.SignIn]) (*signedIn, error) {
		label := "console"
		if in.Body.Token {
			label = "command line"
		}
		ctx = people.WithFamiliar(ctx, in.familiar)
		secret, session, err := s.People.SignIn(ctx, in.Body.Person, in.Body.Password, in.Body.Code, label, conns.HostOf(in.address))
		if err != nil {
			return nil, s.failed(err)
		}
		out := &signedIn{Body: s.signedIn(session)}
		if in.Body.Token {
			out.Body.Token, out.Body.Familiar = secret, s.People.Familiar(session.Person)
		} else {
			out.SetCookie = []http.Cookie{sessionCookie(secret, session.ExpiresAt, in.secure),
				familiarCookie(s.People.Familiar(session.Person), s.Now(), in.secure)}
		}
		return out, nil
	}, describe("sign-in", "Sign in", "Access"), func(o *huma.Operation) {
		o.Security = []map[string][]string{}
		o.Errors = append(o.Errors, http.StatusTooManyRequests)
	})
	huma.Post(s.api, "/api/v1/sign-out", func(ctx context.Context, in *overTLS) (*struct {
		SetCookie []http.Cookie `header:"Set-Cookie"`
	}, error) {
		if err := s.People.SignOut(ctx, by(ctx)); err != nil {
			return nil, s.failed(err)
		}
		c := sessionCookie("", time.Unix(0, 0), in.secure)
		c.MaxAge = -1
		return &struct {
			SetCookie []http.Cookie `header:"Set-Cookie"`
		}{[]http.Cookie{c}}, nil
	}, describe("sign-out", "End this session", "Access"))
	type myself struct {
		SetCookie []http.Cookie `header:"Set-Cookie"`
		Body      client.SignedIn
	}
	huma.Get(s.api, "/api/v1/me", func(ctx context.Context, in *overTLS) (*myself, error) {
		x := by(ctx)
		out := &myself{}
		if until, err := s.People.Prolong(ctx, x); err == nil && until.After(x.ExpiresAt) {
			x.ExpiresAt = until
			if in.cookie != "" {
				out.SetCookie = []http.Cookie{sessionCookie(in.cookie, until, in.secure)}
			}
		}
		out.Body = s.signedIn(x)
		return out, nil
	}, describe("me", "Who is signed in", "Access"))
	type start struct{ Body client.StartPage }
	huma.Put(s.api, "/api/v1/me/start", func(ctx context.Context, in *start) (*struct{}, error) {
		var page *person.Start
		if in.Body.Page != "" {
			page = &person.Start{Page: in.Body.Page, Only: in.Body.Only}
		}
		if err := s.People.SetStart(ctx, by(ctx).Person, page); err != nil {
			return nil, s.failed(err)
		}
		return nil, nil
	}, describe("put-start", "Choose the page with which one begins", "Access"), notFound)
	huma.Get(s.api, "/api/v1/me/preferences", func(ctx context.Context, _ *struct{}) (*body[client.Preferred], error) {
		return &body[client.Preferred]{s.preferred(by(ctx).Person)}, nil
	}, describe("preferences", "How one wants things shown, and what there is to choose from", "Access",
		"A unit of the same dimension that is not offered may be chosen as well."))
	type prefer struct{ Body person.Preferences }
	huma.Put(s.api, "/api/v1/me/preferences", func(ctx context.Context, in *prefer) (*body[client.Preferred], error) {
		if err := s.People.SetPreferences(ctx, by(ctx).Person, in.Body); err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Preferred]{s.preferred(by(ctx).Person)}, nil
	}, describe("put-preferences", "Choose how one wants things shown", "Access",
		"Units, zone and colours are of what is shown; nothing that is stored, sent or written to a file changes."), notFound)
}

// preferred returns how somebody wants things shown, with what they may choose.
func (s *server) preferred(name string) client.Preferred {
	out := client.Preferred{Choices: []client.UnitChoices{}}
	if p, ok := s.People.Find(name); ok && p.Preferences != nil {
		out.Preferences = *p.Preferences
	}
	choices := unit.Choices()
	for _, d := range slices.Sorted(maps.Keys(choices)) {
		x := client.UnitChoices{Dimension: d, Units: []client.UnitChoice{}}
		for _, symbol := range choices[d] {
			x.Units = append(x.Units, client.UnitChoice{Symbol: symbol, Display: unit.Display(symbol)})
		}
		out.Choices = append(out.Choices, x)
	}
	return out
}

func (s *server) signedIn(x people.Session) client.SignedIn {
	c := s.People.Caller(x, "")
	out := client.SignedIn{Person: x.Person, Role: string(c.Role()), ExpiresAt: x.ExpiresAt, Grants: []client.Given{},
		Everywhere: map[person.Role]bool{}, Owners: s.People.Owners(), SecondFactor: s.People.HasFactor(x.Person), Start: s.People.StartOf(x.Person)}
	if p, ok := s.People.Find(x.Person); ok {
		out.Preferences = p.Preferences
	}
	if x.Screen() {
		out.Screen = true
		if page, err := s.People.PageOf(x); err == nil {
			out.Start = &person.Start{Page: pageOfShown(page), Only: true}
		}
	}
	for _, r := range person.Roles {
		out.Everywhere[r] = c.MayAll(r)
	}
	for _, g := range s.People.GrantsOf(x.Person) {
		out.Grants = append(out.Grants, client.Given{Role: g.Role, Access: g.Access, Team: g.Team})
	}
	return out
}

func sessionCookie(secret string, until time.Time, secure bool) http.Cookie {
	return http.Cookie{Name: cookieOf(secure), Value: secret, Path: "/", Expires: until, HttpOnly: true, Secure: secure,
		SameSite: http.SameSiteStrictMode}
}

// familiarName is the cookie that tells a browser that somebody has signed in with.
const familiarName = "ullage_familiar"

// familiarCookie goes to the sign-in alone, and stays when a session ends.
func familiarCookie(token string, now time.Time, secure bool) http.Cookie {
	return http.Cookie{Name: familiarName, Value: token, Path: "/api/v1/sign-in", Expires: now.AddDate(1, 0, 0), HttpOnly: true,
		Secure: secure, SameSite: http.SameSiteStrictMode}
}

// overTLS is how a request came.
type overTLS struct {
	secure bool
	cookie string // of the session; empty where it came otherwise
}

// Resolve implements huma.Resolver.
func (o *overTLS) Resolve(ctx huma.Context) []error {
	o.secure = secure(ctx)
	if c, err := huma.ReadCookie(ctx, cookieOf(o.secure)); err == nil && ctx.Header("Authorization") == "" {
		o.cookie = c.Value
	}
	return nil
}

// remote is a request body with the address it came from.
type remote[T any] struct {
	address  string
	secure   bool
	familiar string // token of a browser that was signed in with
	Body     T
}

// Resolve implements huma.Resolver.
func (r *remote[T]) Resolve(ctx huma.Context) []error {
	r.address, r.secure = ctx.RemoteAddr(), secure(ctx)
	if c, err := huma.ReadCookie(ctx, familiarName); err == nil {
		r.familiar = c.Value
	}
	return nil
}
