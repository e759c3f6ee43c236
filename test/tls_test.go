package test

import (
	"crypto/tls"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ullage/client"
	"ullage/test/service"
)

// The console over TLS, with clients that are not ours: its certificate is the one
// whose fingerprint is printed, a sign-in has a cookie of its own there, and the
// plain one stays where it was.
func TestConsoleOverTLS(t *testing.T) {
	t.Parallel()
	s, err := service.Start(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	crt := filepath.Join(s.Data, "tls", "console.crt")
	out, err := exec.Command("openssl", "x509", "-in", crt, "-noout", "-fingerprint", "-sha256").Output()
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.TrimSpace(string(out)); !strings.HasSuffix(got, "="+s.Certificate) || s.Certificate == "" {
		t.Errorf("openssl says %s, the service %s", got, s.Certificate)
	}
	head, err := exec.Command("curl", "-s", "-i", "--cacert", crt, "-H", "Content-Type: application/json", "-d",
		`{"person":"engineer","password":"`+service.Password+`"}`, s.TLS+"/api/v1/sign-in").Output()
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"HTTP/2 200", "set-cookie: __Host-ullage_session=", "; HttpOnly", "; Secure", "; SameSite=Strict", "Path=/"} {
		if !strings.Contains(string(head), want) {
			t.Errorf("the answer to a sign-in lacks %q:\n%s", want, head)
		}
	}
	if strings.Contains(string(head), "Domain=") {
		t.Errorf("the cookie has a domain:\n%s", head)
	}
	old := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{MaxVersion: tls.VersionTLS11, InsecureSkipVerify: true}}}
	if resp, err := old.Get(s.TLS + "/healthz"); err == nil {
		t.Errorf("TLS 1.1 was taken: %s", resp.Status)
	}
	if resp, err := http.Get(strings.Replace(s.TLS, "https", "http", 1) + "/healthz"); err != nil || resp.StatusCode != http.StatusBadRequest {
		t.Errorf("plain HTTP on the encrypted listener: %v %v", resp, err)
	}
}

// Whichever of its listeners begins first, the service speaks HTTP/2 over TLS, also in
// a stream, and HTTP/1.1 to whoever wants that.
func TestEveryStartSpeaksHTTP2(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	for i := range 6 {
		s, err := service.Start(data)
		ok(t, err)
		for _, c := range []struct{ flag, want string }{{"--http2", "2 200"}, {"--http1.1", "1.1 200"}} {
			out, err := exec.Command("curl", "-sk", "-o", "/dev/null", "-w", "%{http_version} %{http_code}", c.flag, s.TLS+"/healthz").Output()
			if err != nil || string(out) != c.want {
				t.Errorf("start %d with %s: %q %v, want %q", i+1, c.flag, out, err, c.want)
			}
		}
		live, _ := exec.Command("curl", "-skN", "--http2", "-m", "2", "-H", "Authorization: Bearer "+s.Token, s.TLS+"/api/v1/live").Output()
		if !strings.Contains(string(live), "event: whole") || !strings.Contains(string(live), "event: pulse") {
			t.Errorf("start %d: the stream over HTTP/2 says %q", i+1, live)
		}
		ok(t, s.Stop())
	}
}

// The command line takes no certificate that nobody vouches for, and from a
// sign-in on only the one that was compared.
func TestCommandLinePinsTheCertificate(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s, err := service.Start(data)
	if err != nil {
		t.Fatal(err)
	}
	run := func(in string, args ...string) (string, error) {
		c := exec.Command(service.Binary(), args...)
		c.Env = append(os.Environ(), "ULLAGE_LOGIN="+filepath.Join(data, "login.json"))
		c.Stdin = strings.NewReader(in)
		out, err := c.CombinedOutput()
		return string(out), err
	}
	out, err := run(service.Password+"\n", "login", s.TLS, "--password-stdin")
	if err == nil || !strings.Contains(out, s.Certificate) || !strings.Contains(out, "--fingerprint") {
		t.Errorf("a certificate of nobody was taken, or is not shown: %v %s", err, out)
	}
	wrong := strings.Repeat("AB", 32)
	if out, err = run(service.Password+"\n", "login", s.TLS, "--password-stdin", "--fingerprint", wrong); err == nil ||
		!strings.Contains(out, "another certificate") {
		t.Errorf("another certificate was taken: %v %s", err, out)
	}
	if out, err = run(service.Password+"\n", "login", s.TLS, "--password-stdin", "--fingerprint", s.Certificate); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if out, err = run("", "person", "list"); err != nil || !strings.Contains(out, "engineer") {
		t.Errorf("after the sign-in: %v %s", err, out)
	}
	if out, err = run(service.Password+"\n", "login", s.TLS, "--password-stdin", "--authority", filepath.Join(data, "tls", "console.crt")); err != nil {
		t.Errorf("with the certificate as an authority: %v %s", err, out)
	}
	if out, err = run(service.Password+"\n", "login", s.TLS, "--password-stdin", "--fingerprint", "12:34"); err == nil || !strings.Contains(out, "64 hexadecimal digits") {
		t.Errorf("no fingerprint: %v %s", err, out)
	}
	// A restart keeps it; another certificate at the same address is refused.
	if out, err = run(service.Password+"\n", "login", s.TLS, "--password-stdin", "--fingerprint", s.Certificate); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	at := strings.TrimPrefix(s.TLS, "https://")
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	again, err := service.Start(data, "--listen-tls", at)
	if err != nil {
		t.Fatal(err)
	}
	if again.Certificate != s.Certificate {
		t.Errorf("after a restart the certificate is %s, before %s", again.Certificate, s.Certificate)
	}
	if out, err = run("", "person", "list"); err != nil {
		t.Errorf("after a restart: %v %s", err, out)
	}
	again.Stop()
	other, err := service.Start(t.TempDir(), "--listen-tls", at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { other.Stop() })
	if out, err = run("", "person", "list"); err == nil || !strings.Contains(out, "shows another certificate") {
		t.Errorf("another service at the same address was believed: %v %s", err, out)
	}
}

// The user's files are taken, and taken again when they are replaced.
func TestOwnFilesAreReloaded(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	crt, key := filepath.Join(dir, "c.pem"), filepath.Join(dir, "k.pem")
	request := func() {
		t.Helper()
		out, err := exec.Command("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "2",
			"-subj", "/CN=cellars.example.org", "-keyout", key, "-out", crt).CombinedOutput()
		if err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	request()
	s, err := service.Start(filepath.Join(dir, "data"), "--tls-cert", crt, "--tls-key", key)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	request()
	until(t, "the new certificate", func() bool {
		now, _, err := client.Certificate(t.Context(), s.TLS)
		return err == nil && now != s.Certificate
	})
}

// Who is not on this machine sees nothing about the service without a sign-in.
func TestPagesOfTheServiceAreGuarded(t *testing.T) {
	t.Parallel()
	s, err := service.Start(t.TempDir(), "--trusted-proxies", "127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	for _, path := range []string{"/metrics", "/api/openapi.json", "/api/openapi-3.0.yaml", "/api/docs", "/api/schemas/Device.json"} {
		for _, c := range []struct {
			from, token string
			want        int
		}{{"", "", 200}, {"192.0.2.7", "", 401}, {"192.0.2.7", "wrong", 401}, {"192.0.2.7", s.Token, 200}} {
			req, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, s.Console+path, nil)
			if c.from != "" {
				req.Header.Set("X-Forwarded-For", c.from)
			}
			if c.token != "" {
				req.Header.Set("Authorization", "Bearer "+c.token)
			}
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			resp.Body.Close()
			if resp.StatusCode != c.want {
				t.Errorf("%s from %q with %q: %d, want %d", path, c.from, c.token, resp.StatusCode, c.want)
			}
		}
	}
}

// A sign-in makes a session of its own whatever cookie came with it, another site
// makes no change with it, and a cookie of one listener does not count on the other.
func TestCookiesAgainstTheRunningService(t *testing.T) {
	t.Parallel()
	s, err := service.Start(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Stop() })
	tls := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	do := func(c *http.Client, method, url, body string, head ...string) *http.Response {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
		ok(t, err)
		req.Header.Set("Content-Type", "application/json")
		for i := 0; i < len(head); i += 2 {
			req.Header.Set(head[i], head[i+1])
		}
		resp, err := c.Do(req)
		ok(t, err)
		resp.Body.Close()
		return resp
	}
	const body = `{"person":"engineer","password":"` + service.Password + `"}`
	for _, l := range []struct {
		base, name, other string
		client            *http.Client
	}{{s.Console, "ullage_session", "__Host-ullage_session", http.DefaultClient}, {s.TLS, "__Host-ullage_session", "ullage_session", tls}} {
		planted := l.name + "=planted-by-somebody-else"
		in := do(l.client, "POST", l.base+"/api/v1/sign-in", body, "Cookie", planted)
		if len(in.Cookies()) != 2 || in.Cookies()[1].Path != "/api/v1/sign-in" || in.Cookies()[0].Value == "planted-by-somebody-else" || in.Cookies()[0].Name != l.name {
			t.Fatalf("%s: the sign-in sets %v", l.base, in.Cookies())
		}
		c := in.Cookies()[0]
		if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || c.Path != "/" || c.Domain != "" || c.Secure != (l.client == tls) {
			t.Errorf("%s: the cookie is %+v", l.base, c)
		}
		mine := l.name + "=" + c.Value
		for _, x := range []struct {
			what, method, path string
			head               []string
			want               int
		}{
			{"the planted one", "GET", "/api/v1/me", []string{"Cookie", planted}, 401},
			{"its own", "GET", "/api/v1/me", []string{"Cookie", mine}, 200},
			{"its own under the other name", "GET", "/api/v1/me", []string{"Cookie", l.other + "=" + c.Value}, 401},
			{"another site that changes", "PUT", "/api/v1/me/start", []string{"Cookie", mine, "Origin", "https://elsewhere.example.org"}, 403},
			{"another site, as browsers say it", "PUT", "/api/v1/me/start", []string{"Cookie", mine, "Sec-Fetch-Site", "cross-site"}, 403},
			{"another port of the same host", "PUT", "/api/v1/me/start", []string{"Cookie", mine, "Sec-Fetch-Site", "same-site", "Origin", "http://127.0.0.1:1"}, 403},
			{"the console itself", "PUT", "/api/v1/me/start", []string{"Cookie", mine, "Sec-Fetch-Site", "same-origin", "Origin", l.base}, 204},
			{"after signing out", "POST", "/api/v1/sign-out", []string{"Cookie", mine, "Sec-Fetch-Site", "same-origin"}, 204},
			{"the cookie then", "GET", "/api/v1/me", []string{"Cookie", mine}, 401},
		} {
			sent := ""
			if x.method == "PUT" {
				sent = `{"page":""}`
			}
			if got := do(l.client, x.method, l.base+x.path, sent, x.head...); got.StatusCode != x.want {
				t.Errorf("%s: %s gives %d, want %d", l.base, x.what, got.StatusCode, x.want)
			}
		}
	}
}

// A program comes with a key: remembered, or in the environment; it is out within a
// second once the key is taken away.
func TestCommandLineWithAKey(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	onboard(t, s, "air-kilnside-1", "cellar-air", "site=Kilnside")
	onboard(t, s, "tank-fennimore-07", "tank-probe", "site=Fennimore")
	out, errs, code := s.CLI("", "key", "make", "nightly-report", "--role", "viewer", "--access", `label.site == "Kilnside"`, "--expires", "90d")
	if code != 0 || !strings.Contains(errs, "It reaches 1 of 2 devices.") {
		t.Fatalf("%d %s %s", code, out, errs)
	}
	secret := strings.TrimSpace(out[strings.Index(out, "ullage-key-"):])
	run := func(env []string, in string, args ...string) (string, error) {
		c := exec.Command(service.Binary(), args...)
		c.Env = append(os.Environ(), env...)
		c.Stdin = strings.NewReader(in)
		b, err := c.CombinedOutput()
		return string(b), err
	}
	kept := []string{"ULLAGE_LOGIN=" + filepath.Join(t.TempDir(), "login.json")}
	if out, err := run(kept, secret+"\n", "login", s.Console, "--key-stdin"); err != nil || !strings.Contains(out, "with the key nightly-report (viewer)") || strings.Contains(out, secret) {
		t.Errorf("%v %s", err, out)
	}
	for _, env := range [][]string{kept, {"ULLAGE_URL=" + s.Console, "ULLAGE_TOKEN=" + secret, "ULLAGE_LOGIN=" + filepath.Join(t.TempDir(), "none.json")},
		{"ULLAGE_URL=" + s.TLS, "ULLAGE_FINGERPRINT=" + s.Certificate, "ULLAGE_TOKEN=" + secret, "ULLAGE_LOGIN=" + filepath.Join(t.TempDir(), "none.json")}} {
		out, err := run(env, "", "device", "list", "-o", "json")
		if err != nil || !strings.Contains(out, "air-kilnside-1") || strings.Contains(out, "fennimore") {
			t.Errorf("with %s: %v %s", env[0], err, out)
		}
		if out, err := run(env, "", "setting", "set", "air-kilnside-1", "co2_warn=1400"); err == nil || !strings.Contains(out, "needs the role operator") {
			t.Errorf("a viewer's key sets: %v %s", err, out)
		}
	}
	if out, err := run(kept, "ullage-key-wrong\n", "login", s.Console, "--key-stdin"); err == nil || !strings.Contains(out, "this key is not known") {
		t.Errorf("a wrong key: %v %s", err, out)
	}
	cli(t, s, "key", "remove", "nightly-report", "--yes")
	if out, err := run([]string{"ULLAGE_URL=" + s.Console, "ULLAGE_TOKEN=" + secret}, "", "device", "list"); err == nil || !strings.Contains(out, "this key is not known") {
		t.Errorf("a key that was taken away: %v %s", err, out)
	}
}
