package api_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"ullage/api"
	"ullage/transport/conns"
)

// What every address of the API does.
func TestMethodsAndParameters(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", nil)
	for _, c := range []struct {
		method, path string
		status       int
		says, allow  string
	}{
		{"DELETE", "/api/v1/devices", 405, "is not taken at /api/v1/devices; there is ", "GET"},
		{"PATCH", "/api/v1/sign-in", 405, "there is GET, POST", "GET, POST"},
		{"HEAD", "/api/v1/devices", 200, "", ""},
		{"HEAD", "/api/v1/devices/" + tank, 200, "", ""},
		{"HEAD", "/api/v1/devices/none", 404, "", ""},
		{"HEAD", "/healthz", 200, "", ""},
		{"GET", "/api/v1/devices?modle=tank-probe", 422, "did you mean model?", ""},
		{"GET", "/api/v1/devices?x=1", 422, "there are ", ""},
		{"GET", "/api/v1/service?x=1", 422, "there are none here", ""},
		{"GET", "/api/v1/alarms?limit=5&befor=1", 422, "did you mean before?", ""},
		{"GET", "/api/v1/nothing?x=1", 404, "there is nothing", ""},
	} {
		resp, got := b.as(c.method, c.path, "")
		if resp.StatusCode != c.status || !strings.Contains(got, c.says) || !strings.Contains(resp.Header.Get("Allow"), c.allow) {
			t.Errorf("%s %s gives %d %q with Allow %q; want %d %q with %q", c.method, c.path, resp.StatusCode, got,
				resp.Header.Get("Allow"), c.status, c.says, c.allow)
		}
		if c.method == "HEAD" && got != "" {
			t.Errorf("HEAD %s has a body: %q, want none", c.path, got)
		}
	}
}

// A name that leads here and is not ours belongs to somebody else's page.
func TestHosts(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	h := api.New(api.Options{App: b.API(), Names: []string{"cellars.example"}})
	for host, want := range map[string]int{"127.0.0.1:8460": 200, "localhost": 200, "LOCALHOST.:8460": 200, "[::1]:8460": 200, "10.0.0.7": 200,
		"cellars.example": 200, "Cellars.Example:8460": 200, "evil.example": 403, "127.0.0.1.evil.example": 403, "localhost.evil.example": 403} {
		r := httptest.NewRequest("GET", "/healthz", nil)
		r.Host = host
		w := httptest.NewRecorder()
		if h.ServeHTTP(w, r); w.Code != want {
			t.Errorf("for the host %s it answers %d %s, want %d", host, w.Code, w.Body, want)
		}
	}
}

// Only a proxy that is trusted says who the client is.
func TestForwarded(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	trusted, err := conns.Prefixes([]string{"10.1.0.0/16", "127.0.0.1"})
	b.Must(err)
	h := conns.Forwarded(trusted, api.New(api.Options{App: b.API()}))
	seen := conns.Forwarded(trusted, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.RemoteAddr) }))
	for _, c := range []struct{ remote, forwarded, proto, address, secure string }{
		{"127.0.0.1:1", "203.0.113.9", "https", "203.0.113.9:0", "Secure"},
		{"127.0.0.1:1", "192.0.2.6, 203.0.113.9, 10.1.2.3", "https", "203.0.113.9:0", "Secure"},
		{"127.0.0.1:1", "nonsense", "http", "127.0.0.1:1", ""},
		{"127.0.0.1:1", "", "", "127.0.0.1:1", ""},
		{"192.0.2.1:1", "203.0.113.9", "https", "192.0.2.1:1", ""},
	} {
		ask := func(h http.Handler) *httptest.ResponseRecorder {
			r := httptest.NewRequest("POST", "/api/v1/sign-in", strings.NewReader(`{"person":"engineer","password":"long-enough-1"}`))
			r.RemoteAddr, r.Host = c.remote, "localhost"
			r.Header.Set("Content-Type", "application/json")
			if c.forwarded != "" {
				r.Header.Set("X-Forwarded-For", c.forwarded)
			}
			r.Header.Set("X-Forwarded-Proto", c.proto)
			w := httptest.NewRecorder()
			h.ServeHTTP(w, r)
			return w
		}
		if got := ask(seen).Body.String(); got != c.address {
			t.Errorf("%+v comes from %s, want %s", c, got, c.address)
		}
		w := ask(h)
		if cookie := w.Header().Get("Set-Cookie"); w.Code != 200 || strings.Contains(cookie, "Secure") != (c.secure != "") {
			t.Errorf("%+v gives %d with the cookie %q, want it %q", c, w.Code, cookie, c.secure)
		}
	}
}

// A stream ends with its session, and there are not too many of one person.
func TestStreamsEnd(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	open := func() (*http.Response, func()) {
		t.Helper()
		ctx, stop := context.WithCancel(t.Context())
		r, err := http.NewRequestWithContext(ctx, "GET", b.server.URL+"/api/v1/live", nil)
		b.Must(err)
		r.Header.Set("Authorization", "Bearer "+b.token)
		resp, err := http.DefaultClient.Do(r)
		b.Must(err)
		return resp, func() { stop(); resp.Body.Close() }
	}
	var all []func()
	for i := range 64 {
		resp, end := open()
		if all = append(all, end); resp.StatusCode != 200 {
			t.Fatalf("stream %d gives %d, want it open", i, resp.StatusCode)
		}
	}
	if resp, end := open(); resp.StatusCode != 429 {
		t.Errorf("one more gives %d, want 429", resp.StatusCode)
	} else {
		end()
	}
	for _, end := range all[1:] {
		end()
	}
	resp, end := open()
	defer end()
	for i := 0; resp.StatusCode == 429 && i < 50; i++ { // until the others are seen to have ended
		time.Sleep(20 * time.Millisecond)
		end()
		resp, end = open()
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for buf := make([]byte, 4096); ; {
			if _, err := resp.Body.Read(buf); err != nil {
				return
			}
		}
	}()
	if resp, got := b.as("POST", "/api/v1/sign-out", ""); resp.StatusCode/100 != 2 {
		t.Fatalf("signing out gives %d %s", resp.StatusCode, got)
	}
	select {
	case <-ended:
	case <-time.After(30 * time.Second):
		t.Error("after its session the stream still goes on")
	}
	all[0]()
}
