package api

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/oauth2"

	"ullage/client"
	"ullage/core/person"
	"ullage/fleet/fault"
	"ullage/fleet/people"
	"ullage/transport/conns"
)

// SignOn lets people in whom a provider of identities vouches for: OpenID Connect
// Core 1.0, by the code flow with PKCE (RFC 7636).
type SignOn struct {
	Issuer, Client, Secret string
	// Label is what the button says behind Sign in with.
	Label string
	// NameClaim holds what somebody is called, and Claim the values that decide what
	// they may do: each is looked for exactly.
	NameClaim, Claim string
	Grants           map[string]person.Role // by value
	Teams            map[string]string      // by value

	Log *slog.Logger
	Now func() time.Time

	mu       sync.Mutex
	provider *oidc.Provider
	begun    map[string]begun // by state
}

// begun is a sign-on on its way.
type begun struct {
	verifier, nonce string
	binding         [sha256.Size]byte // of the cookie of the browser that began it
	until           time.Time
}

const (
	signOnLife   = 10 * time.Minute
	maxSignOns   = 1000 // on their way
	providerWait = 10 * time.Second
)

// ParseSignOnGrants reads which values give what, as in
// "crew=operator, owners-of-casks=team casks".
func ParseSignOnGrants(list string) (grants map[string]person.Role, teams map[string]string, err error) {
	grants, teams = map[string]person.Role{}, map[string]string{}
	for part := range strings.SplitSeq(list, ",") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		i := strings.LastIndexByte(part, '=')
		if i <= 0 {
			return nil, nil, fmt.Errorf("%q is no value with what it gives; write it like crew=operator or crew=team cellars", part)
		}
		v, gives := strings.TrimSpace(part[:i]), strings.TrimSpace(part[i+1:])
		if team, ok := strings.CutPrefix(gives, "team "); ok {
			teams[v] = strings.TrimSpace(team)
			continue
		}
		if g := (person.Grant{Role: person.Role(gives)}); g.Check() != nil {
			return nil, nil, fmt.Errorf("%q gives %q, which is no role; there are viewer, operator, engineer, owner, and team NAME", v, gives)
		}
		grants[v] = person.Role(gives)
	}
	return grants, teams, nil
}

func (o *SignOn) client() context.Context {
	return oidc.ClientContext(context.Background(), &http.Client{Timeout: providerWait})
}

// config finds the provider out, when it is first needed.
func (o *SignOn) config(base string) (*oidc.Provider, *oauth2.Config, error) {
	o.mu.Lock()
	p := o.provider
	o.mu.Unlock()
	if p == nil {
		var err error
		if p, err = oidc.NewProvider(o.client(), o.Issuer); err != nil {
			return nil, nil, err
		}
		o.mu.Lock()
		o.provider = p
		o.mu.Unlock()
	}
	return p, &oauth2.Config{ClientID: o.Client, ClientSecret: o.Secret, Endpoint: p.Endpoint(),
		RedirectURL: base + "/api/v1/sign-on/return", Scopes: []string{oidc.ScopeOpenID, "profile", "groups"}}, nil
}

func secretText() string {
	var b [32]byte
	rand.Read(b[:])
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// begin returns where to send a browser, and the cookie that binds it to the answer.
func (o *SignOn) begin(base string) (to, cookie string, err error) {
	_, c, err := o.config(base)
	if err != nil {
		return "", "", err
	}
	cookie = secretText()
	state, x := secretText(), begun{oauth2.GenerateVerifier(), secretText(), sha256.Sum256([]byte(cookie)), o.Now().Add(signOnLife)}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.begun == nil {
		o.begun = map[string]begun{}
	}
	for s, x := range o.begun {
		if o.Now().After(x.until) {
			delete(o.begun, s)
		}
	}
	if len(o.begun) >= maxSignOns {
		return "", "", fault.New(fault.TooMany, "too many people are signing on at once").Then("try again in a moment")
	}
	o.begun[state] = x
	return c.AuthCodeURL(state, oidc.Nonce(x.nonce), oauth2.S256ChallengeOption(x.verifier)), cookie, nil
}

// Reasons of a sign-on that failed, as the console knows them.
const (
	signOnStale    = "stale"    // it took too long, or began in another browser
	signOnProvider = "provider" // the provider did not vouch, or could not be asked
	signOnGroup    = "group"    // none of their values gives anything
	signOnName     = "name"     // their name cannot be used here
)

type signOnError struct {
	reason string
	cause  error
}

func (e *signOnError) Error() string { return e.reason + ": " + e.cause.Error() }

// finish returns whom the provider vouches for.
func (o *SignOn) finish(ctx context.Context, base, state, code, cookie string) (people.SignOn, error) {
	fail := func(reason string, err error) (people.SignOn, error) {
		return people.SignOn{}, &signOnError{reason, err}
	}
	o.mu.Lock()
	x, ok := o.begun[state]
	delete(o.begun, state) // it counts once
	o.mu.Unlock()
	sum := sha256.Sum256([]byte(cookie))
	if !ok || o.Now().After(x.until) || subtle.ConstantTimeCompare(sum[:], x.binding[:]) != 1 {
		return fail(signOnStale, fmt.Errorf("no such sign-on is on its way in this browser"))
	}
	p, c, err := o.config(base)
	if err != nil {
		return fail(signOnProvider, err)
	}
	ctx, cancel := context.WithTimeout(oidc.ClientContext(ctx, &http.Client{Timeout: providerWait}), providerWait)
	defer cancel()
	token, err := c.Exchange(ctx, code, oauth2.VerifierOption(x.verifier))
	if err != nil {
		return fail(signOnProvider, err)
	}
	raw, ok := token.Extra("id_token").(string)
	if !ok {
		return fail(signOnProvider, fmt.Errorf("the provider sent no ID token"))
	}
	id, err := p.VerifierContext(ctx, &oidc.Config{ClientID: o.Client, Now: o.Now}).Verify(ctx, raw)
	if err != nil {
		return fail(signOnProvider, err)
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(x.nonce)) != 1 {
		return fail(signOnProvider, fmt.Errorf("the ID token is of another sign-on"))
	}
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return fail(signOnProvider, err)
	}
	if claims[o.Claim] == nil || claims[o.NameClaim] == nil { // some providers say it only when asked
		if info, err := p.UserInfo(ctx, oauth2.StaticTokenSource(token)); err == nil && info.Subject == id.Subject {
			more := map[string]any{}
			if info.Claims(&more) == nil {
				for _, k := range []string{o.Claim, o.NameClaim} {
					if claims[k] == nil {
						claims[k] = more[k]
					}
				}
			}
		}
	}
	name, _ := claims[o.NameClaim].(string)
	out := people.SignOn{Subject: id.Issuer + "|" + id.Subject, Name: strings.ToLower(strings.TrimSpace(name))}
	for _, team := range o.Teams {
		out.Of = append(out.Of, team)
	}
	for _, v := range texts(claims[o.Claim]) {
		if r, ok := o.Grants[v]; ok && (out.Role == "" || r.Does(out.Role)) {
			out.Role = r
		}
		if team, ok := o.Teams[v]; ok && !slices.Contains(out.Teams, team) {
			out.Teams = append(out.Teams, team)
		}
	}
	if out.Role == "" && len(out.Teams) == 0 {
		return fail(signOnGroup, fmt.Errorf("none of the values of %s gives %s anything", o.Claim, out.Name))
	}
	return out, nil
}

func texts(v any) (out []string) {
	switch v := v.(type) {
	case string:
		return []string{v}
	case []any:
		for _, x := range v {
			if s, ok := x.(string); ok {
				out = append(out, s)
			}
		}
	}
	return out
}

// Asked by a browser: where it is, what it has, and whether it came over TLS.
type visited struct {
	address, base, cookie string
	secure                bool
}

// signOnCookie binds the answer of the provider to the browser that asked. It comes
// back with a link from the provider, so that it is not strict.
const signOnCookie = "ullage_sign_on"

// Visit is the part of a request that a sign-on needs.
type Visit struct{ visited }

// Resolve implements huma.Resolver.
func (v *Visit) Resolve(ctx huma.Context) []error {
	v.address, v.secure = ctx.RemoteAddr(), secure(ctx)
	u := url.URL{Scheme: "http", Host: ctx.Host()}
	if v.secure {
		u.Scheme = "https"
	}
	v.base = u.String()
	if c, err := huma.ReadCookie(ctx, signOnCookie); err == nil {
		v.cookie = c.Value
	}
	return nil
}

func (s *server) signOnRoutes() {
	nobody := func(o *huma.Operation) { o.Security = []map[string][]string{} }
	huma.Get(s.api, "/api/v1/sign-in", func(context.Context, *struct{}) (*body[client.SignInWays], error) {
		out := client.SignInWays{}
		if s.SignOn != nil {
			out.SignOn = s.SignOn.Label
		}
		return &body[client.SignInWays]{out}, nil
	}, describe("sign-in-ways", "How one can sign in", "Access"), nobody)
	type redirect struct {
		Status    int
		Location  string        `header:"Location"`
		SetCookie []http.Cookie `header:"Set-Cookie"`
	}
	// They are for browsers, which are sent there and come back; a program has no use
	// for them.
	found := func(o *huma.Operation) {
		nobody(o)
		o.Hidden = true
		o.DefaultStatus = http.StatusFound
		o.Errors = append(o.Errors, http.StatusNotFound, http.StatusTooManyRequests)
	}
	failed := func(reason string) *redirect {
		return &redirect{Status: http.StatusFound, Location: "/?sign-on=" + reason}
	}
	huma.Get(s.api, "/api/v1/sign-on", func(_ context.Context, in *Visit) (*redirect, error) {
		if s.SignOn == nil {
			return nil, s.failed(fault.New(fault.NotFound, "nobody else vouches for people here").Then("sign in with a password"))
		}
		to, cookie, err := s.SignOn.begin(in.base)
		if fault.Is(err, fault.TooMany) {
			return nil, s.failed(err)
		}
		if err != nil {
			s.Log.Warn("the provider of identities cannot be asked", "issuer", s.SignOn.Issuer, "error", err)
			return failed(signOnProvider), nil
		}
		return &redirect{http.StatusFound, to, []http.Cookie{{Name: signOnCookie, Value: cookie, Path: "/api/v1/sign-on", HttpOnly: true,
			Secure: in.secure, SameSite: http.SameSiteLaxMode, MaxAge: int(signOnLife.Seconds())}}}, nil
	}, describe("sign-on", "Sign in with another's identity: a browser is sent there", "Access"), found)
	type back struct {
		Visit
		Code        string `query:"code" maxLength:"4000" doc:"What the provider says"`
		State       string `query:"state" maxLength:"200" doc:"Which sign-on it is about"`
		Error       string `query:"error" maxLength:"200" doc:"Why the provider does not vouch"`
		Description string `query:"error_description" maxLength:"2000" doc:"The same in words"`
		Issuer      string `query:"iss" maxLength:"500" doc:"The provider (RFC 9207)"`
		Session     string `query:"session_state" maxLength:"500" doc:"Not looked at"`
		Scope       string `query:"scope" maxLength:"500" doc:"Not looked at"`
	}
	huma.Get(s.api, "/api/v1/sign-on/return", func(ctx context.Context, in *back) (*redirect, error) {
		if s.SignOn == nil {
			return nil, s.failed(fault.New(fault.NotFound, "nobody else vouches for people here").Then("sign in with a password"))
		}
		gone := http.Cookie{Name: signOnCookie, Path: "/api/v1/sign-on", HttpOnly: true, Secure: in.secure, SameSite: http.SameSiteLaxMode, MaxAge: -1}
		who, err := s.SignOn.finish(ctx, in.base, in.State, in.Code, in.cookie)
		var secret string
		var x people.Session
		if err == nil {
			if secret, x, err = s.People.SignOn(ctx, who, conns.HostOf(in.address)); err != nil {
				err = &signOnError{signOnName, err}
			}
		}
		if err != nil {
			reason := signOnProvider
			if e, ok := err.(*signOnError); ok {
				reason = e.reason
			}
			s.Log.Warn("a sign-on failed", "address", conns.HostOf(in.address), "error", err)
			out := failed(reason)
			out.SetCookie = []http.Cookie{gone}
			return out, nil
		}
		return &redirect{http.StatusFound, "/", []http.Cookie{gone, sessionCookie(secret, x.ExpiresAt, in.secure)}}, nil
	}, describe("sign-on-return", "Where a browser comes back to from there", "Access"), found)
}
