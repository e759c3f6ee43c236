package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"ullage/client"
	"ullage/test/browser"
	"ullage/test/service"
)

// provider is a small OpenID Connect provider: whoever comes is who it says now.
type provider struct {
	*httptest.Server
	key *ecdsa.PrivateKey

	mu     sync.Mutex
	claims map[string]any       // of whoever comes
	wrong  func(map[string]any) // changes the ID token; nil for nothing
	asked  map[string]url.Values
}

func newProvider(t *testing.T) *provider {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	ok(t, err)
	p := &provider{key: key, asked: map[string]url.Values{}}
	m := http.NewServeMux()
	answer := func(w http.ResponseWriter, x any) {
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(x)
	}
	m.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize", "token_endpoint": p.URL + "/token",
			"jwks_uri": p.URL + "/keys", "userinfo_endpoint": p.URL + "/userinfo", "id_token_signing_alg_values_supported": []string{"ES256"}})
	})
	m.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: key.Public(), KeyID: "one", Algorithm: "ES256", Use: "sig"}}})
	})
	m.HandleFunc("/authorize", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		code := rand.Text()
		p.mu.Lock()
		p.asked[code] = q
		p.mu.Unlock()
		http.Redirect(w, r, q.Get("redirect_uri")+"?"+url.Values{"code": {code}, "state": {q.Get("state")}, "iss": {p.URL}}.Encode(), http.StatusFound)
	})
	m.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		q, known := p.asked[r.FormValue("code")]
		delete(p.asked, r.FormValue("code"))
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if id, secret, _ := r.BasicAuth(); !known || id != "ullage" || secret != "a-secret" || q.Get("code_challenge_method") != "S256" ||
			base64.RawURLEncoding.EncodeToString(sum[:]) != q.Get("code_challenge") || r.FormValue("redirect_uri") != q.Get("redirect_uri") {
			w.WriteHeader(http.StatusBadRequest)
			answer(w, map[string]any{"error": "invalid_grant"})
			return
		}
		claims := map[string]any{"iss": p.URL, "aud": "ullage", "sub": "7", "nonce": q.Get("nonce"), "iat": time.Now().Unix(),
			"exp": time.Now().Add(time.Minute).Unix()}
		for k, v := range p.claims {
			claims[k] = v
		}
		if p.wrong != nil {
			p.wrong(claims)
		}
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key, KeyID: "one"}}, nil)
		if err != nil {
			panic(err)
		}
		raw, err := jwt.Signed(signer).Claims(claims).Serialize()
		if err != nil {
			panic(err)
		}
		answer(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": raw})
	})
	m.HandleFunc("/userinfo", func(w http.ResponseWriter, _ *http.Request) { answer(w, map[string]any{"sub": "7"}) })
	p.Server = httptest.NewServer(m)
	t.Cleanup(p.Close)
	return p
}

func (p *provider) says(claims map[string]any, wrong func(map[string]any)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.claims, p.wrong = claims, wrong
}

// A sign-on with a provider of identities: who gets in with what, who does not, and
// what a hostile browser may try.
func TestSignOn(t *testing.T) {
	p := newProvider(t)
	t.Setenv("ULLAGE_OIDC_SECRET", "a-secret")
	s := start(t, "--oidc-issuer", p.URL, "--oidc-client", "ullage", "--oidc-label", "the cellar's directory",
		"--oidc-grants", "crew=operator, makers=engineer, guests=team casks")
	ctx := t.Context()
	cellars(t, s)
	onboard(t, s, "bung-high-orchard-21", "cask-bung")
	onboard(t, s, "bung-high-orchard-22", "cask-bung")
	if _, err := s.Client.Teams().Put(ctx, client.Team{Name: "casks", Grants: []client.Grant{{Role: "viewer", Access: `device.id == "bung-high-orchard-21"`}}}, ""); err != nil {
		t.Fatal(err)
	}
	// visit is a browser of its own that signs on; it returns where it ends, and its client.
	visit := func() (*http.Client, string) {
		t.Helper()
		jar, err := cookiejar.New(nil)
		ok(t, err)
		c := &http.Client{Jar: jar}
		resp, err := c.Get(s.Console + "/api/v1/sign-on")
		ok(t, err)
		resp.Body.Close()
		return c, resp.Request.URL.RequestURI()
	}
	me := func(c *http.Client) (out client.SignedIn) {
		t.Helper()
		resp, err := c.Get(s.Console + "/api/v1/me")
		ok(t, err)
		defer resp.Body.Close()
		if resp.StatusCode == 200 {
			ok(t, json.NewDecoder(resp.Body).Decode(&out))
		}
		return out
	}
	for _, x := range []struct {
		what   string
		claims map[string]any
		wrong  func(map[string]any)
		ends   string
		role   string
	}{
		{"of the crew", map[string]any{"sub": "1", "preferred_username": "Night-Duty", "groups": []string{"others", "crew"}}, nil, "/", "operator"},
		{"of two groups", map[string]any{"sub": "1", "preferred_username": "night-duty", "groups": []string{"crew", "makers"}}, nil, "/", "engineer"},
		{"demoted there", map[string]any{"sub": "1", "preferred_username": "night-duty", "groups": "crew"}, nil, "/", "operator"},
		{"a guest", map[string]any{"sub": "2", "preferred_username": "cask-owner", "groups": []string{"guests"}}, nil, "/", "viewer"},
		{"of no group", map[string]any{"sub": "3", "preferred_username": "stranger", "groups": []string{"crews", "crew "}}, nil, "/?sign-on=group", ""},
		{"without groups", map[string]any{"sub": "3", "preferred_username": "stranger"}, nil, "/?sign-on=group", ""},
		{"with the name of somebody here", map[string]any{"sub": "4", "preferred_username": "engineer", "groups": "crew"}, nil, "/?sign-on=name", ""},
		{"with the name of somebody else there", map[string]any{"sub": "5", "preferred_username": "night-duty", "groups": "crew"}, nil, "/?sign-on=name", ""},
		{"with a name that is none", map[string]any{"sub": "6", "preferred_username": "../x", "groups": "crew"}, nil, "/?sign-on=name", ""},
		{"without a name", map[string]any{"sub": "6", "groups": "crew"}, nil, "/?sign-on=name", ""},
		{"for another service", map[string]any{"sub": "1", "preferred_username": "night-duty", "groups": "crew"}, func(c map[string]any) { c["aud"] = "another" }, "/?sign-on=provider", ""},
		{"from another issuer", map[string]any{"sub": "1", "preferred_username": "night-duty", "groups": "crew"}, func(c map[string]any) { c["iss"] = "https://id.example.org" }, "/?sign-on=provider", ""},
		{"run out", map[string]any{"sub": "1", "preferred_username": "night-duty", "groups": "crew"}, func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() }, "/?sign-on=provider", ""},
		{"of another sign-on", map[string]any{"sub": "1", "preferred_username": "night-duty", "groups": "crew"}, func(c map[string]any) { c["nonce"] = "another" }, "/?sign-on=provider", ""},
	} {
		p.says(x.claims, x.wrong)
		c, at := visit()
		if got := me(c); at != x.ends || got.Role != x.role {
			t.Errorf("%s: ends at %s as %q %q, want %s as %q", x.what, at, got.Person, got.Role, x.ends, x.role)
		}
	}
	p.says(map[string]any{"sub": "2", "preferred_username": "cask-owner", "groups": []string{"guests"}}, nil)
	guest, _ := visit()
	resp, err := guest.Get(s.Console + "/api/v1/devices")
	ok(t, err)
	var ds []client.Device
	ok(t, json.NewDecoder(resp.Body).Decode(&ds))
	resp.Body.Close()
	if len(ds) != 1 || ds[0].ID != "bung-high-orchard-21" {
		t.Errorf("the guest sees %d devices, want their cask", len(ds))
	}
	// Taken out of the group there, they are out of the team at the next sign-on.
	p.says(map[string]any{"sub": "2", "preferred_username": "cask-owner", "groups": []string{"crew"}}, nil)
	visit()
	if team, _, err := s.Client.Teams().Get(ctx, "casks"); err != nil || len(team.People) != 0 {
		t.Errorf("the team has %v, %v, want nobody", team.People, err)
	}

	// What comes back to another browser, or twice, signs nobody in.
	p.says(map[string]any{"sub": "1", "preferred_username": "night-duty", "groups": "crew"}, nil)
	jar, err := cookiejar.New(nil)
	ok(t, err)
	var back []string
	mine := &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if strings.Contains(r.URL.Path, "/sign-on/return") {
			back = append(back, r.URL.String())
			return http.ErrUseLastResponse
		}
		return nil
	}}
	resp, err = mine.Get(s.Console + "/api/v1/sign-on")
	ok(t, err)
	resp.Body.Close()
	if len(back) != 1 {
		t.Fatalf("the provider sent back to %v", back)
	}
	theirs, err := cookiejar.New(nil)
	ok(t, err)
	victim := &http.Client{Jar: theirs}
	resp, err = victim.Get(back[0])
	ok(t, err)
	resp.Body.Close()
	if got := resp.Request.URL.RequestURI(); got != "/?sign-on=stale" || me(victim).Person != "" {
		t.Errorf("another browser ends at %s as %q", got, me(victim).Person)
	}
	mine.CheckRedirect = nil
	resp, err = mine.Get(back[0])
	ok(t, err)
	resp.Body.Close()
	if me(mine).Person != "" {
		t.Error("what had come to another browser signed somebody in")
	}
	if strings.Contains(s.Log(), "a-secret") || strings.Contains(s.Log(), "code=") {
		t.Error("the log tells a secret")
	}

	// In a browser: the button, and the page.
	b, err := browser.Start()
	ok(t, err)
	defer b.Close()
	page, err := b.Open(s.Console, 1280, 800)
	ok(t, err)
	defer page.Close()
	ok(t, page.WaitText("Sign in with the cellar's directory"))
	ok(t, page.Go(s.Console+"/?sign-on=group"))
	ok(t, page.WaitText("Nothing that the provider says of you"))
	ok(t, page.WaitText("Sign in with the cellar's directory"))
	ok(t, page.Click(`a[href="/api/v1/sign-on"]`))
	ok(t, page.WaitText("2 devices"))
}

func TestSignOnIsChecked(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		flags []string
		says  string
	}{
		{[]string{"--oidc-issuer", "https://id.example.org"}, "oidc_client or oidc_grants is not"},
		{[]string{"--oidc-issuer", "id", "--oidc-client", "x", "--oidc-grants", "a=viewer"}, "is no address"},
		{[]string{"--oidc-issuer", "https://id.example.org", "--oidc-client", "x", "--oidc-grants", "a=boss"}, "is no role"},
		{[]string{"--oidc-issuer", "https://id.example.org", "--oidc-client", "x", "--oidc-grants", "a"}, "write it like"},
	} {
		if s, err := service.Start(t.TempDir(), c.flags...); err == nil {
			s.Stop()
			t.Errorf("%v is taken", c.flags)
		} else if !strings.Contains(err.Error(), c.says) {
			t.Errorf("%v: %v, want %q", c.flags, err, c.says)
		}
	}
}
