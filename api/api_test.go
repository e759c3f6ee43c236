package api_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/gin-gonic/gin"

	"ullage/api"
	"ullage/app"
	"ullage/client"
	"ullage/core/person"
	"ullage/test/rig"
	"ullage/test/service"
)

const tank = "tank-fennimore-07"

type bench struct {
	*rig.Rig
	server *httptest.Server
	client *client.Client
	token  string
	log    bytes.Buffer
}

func newBench(t *testing.T) *bench {
	gin.SetMode(gin.TestMode)
	b := &bench{}
	b.Rig = rig.NewWith(t, app.Options{Log: slog.New(slog.NewTextHandler(&b.log, nil))})
	_, err := b.People.Add(t.Context(), "engineer", "long-enough-1", person.Owner, "")
	b.Must(err)
	page := fstest.MapFS{
		"index.html":         {Data: []byte(`<script nonce="__NONCE__"></script>`)},
		"assets/app-1.js":    {Data: []byte("plain")},
		"assets/app-1.js.br": {Data: []byte("brotli")},
	}
	b.server = httptest.NewServer(api.New(api.Options{App: b.API(), Version: "1.2.3", Started: rig.Start, MQTT: func() int {
		return 0
	},
		MQTTAt: "127.0.0.1:1883", HTTPAt: "127.0.0.1:8461", Console: page}))
	t.Cleanup(b.server.Close)
	b.client = client.New(b.server.URL, "")
	s, err := b.client.SignIn(t.Context(), "engineer", "long-enough-1")
	b.Must(err)
	b.token = s.Token
	return b
}

// call makes a request and returns status, headers and body.
func (b *bench) call(method, path, body string, headers ...string) (*http.Response, string) {
	b.T.Helper()
	req, err := http.NewRequest(method, b.server.URL+path, strings.NewReader(body))
	b.Must(err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	b.Must(err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	b.Must(err)
	return resp, string(raw)
}

func (b *bench) bearer() []string { return []string{"Authorization", "Bearer " + b.token} }

func TestEveryOperationNeedsSomebody(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	src, err := api.Document("x")
	b.Must(err)
	var doc struct {
		OpenAPI string
		Paths   map[string]map[string]struct{ OperationID string }
	}
	b.Must(json.Unmarshal(src, &doc))
	if !strings.HasPrefix(doc.OpenAPI, "3.1") || len(doc.Paths) < 15 {
		t.Fatalf("the document is OpenAPI %s with %d paths", doc.OpenAPI, len(doc.Paths))
	}
	n := 0
	for path, ops := range doc.Paths {
		for method, op := range ops {
			if role, known := api.Needs(op.OperationID); known && role == "" {
				continue
			}
			n++
			path := regexp.MustCompile(`\{\w+\}`).ReplaceAllString(path, "x")
			for _, h := range [][]string{nil, {"Authorization", "Bearer nonsense"},
				{"Cookie", "ullage_session=nonsense"}} {
				resp, body := b.call(strings.ToUpper(method), path, "", h...)
				if resp.StatusCode != 401 || resp.Header.Get("Content-Type") != "application/problem+json" ||
					!strings.Contains(body, `"code":"unauthenticated"`) {
					t.Errorf("%s %s with %v gives %d %s", method, path, h, resp.StatusCode, body)
				}
			}
		}
	}
	if n < 20 {
		t.Errorf("only %d operations were tried", n)
	}
}

// TestDocumentIsUpToDate compares with what the console's types are made from.
func TestDocumentIsUpToDate(t *testing.T) {
	now, err := api.Document("0.1.0-dev")
	if err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadFile(filepath.Join(service.Root(), "console", "src", "api", "openapi.json"))
	if err != nil {
		t.Fatal(err)
	}
	version := regexp.MustCompile(`"version":"[^"]*"`)
	if !bytes.Equal(version.ReplaceAll(bytes.TrimSpace(kept), nil), version.ReplaceAll(now, nil)) {
		t.Error("console/src/api is not made from this API; run: make types")
	}
}

// TestAnswersAreWhatTheDocumentSays decodes answers and checks that every
// member the schema requires is there.
func TestAnswersAreWhatTheDocumentSays(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", map[string]string{"site": "Fennimore"})
	b.Keep(tank, `{"must_temp":21.5,"ullage":30}`)
	src, err := api.Document("x")
	b.Must(err)
	type schema struct {
		Ref        string `json:"$ref"`
		Type       any
		Items      *schema
		Required   []string
		Properties map[string]*schema
	}
	var doc struct {
		Paths map[string]map[string]struct {
			Responses map[string]struct {
				Content map[string]struct{ Schema *schema }
			}
		}
		Components struct{ Schemas map[string]*schema }
	}
	b.Must(json.Unmarshal(src, &doc))
	var check func(where string, s *schema, v any)
	check = func(where string, s *schema, v any) {
		if s == nil || v == nil {
			return
		}
		if s.Ref != "" {
			s = doc.Components.Schemas[s.Ref[strings.LastIndex(s.Ref, "/")+1:]]
		}
		switch v := v.(type) {
		case map[string]any:
			for _, r := range s.Required {
				if _, ok := v[r]; !ok {
					t.Errorf("%s has no %s", where, r)
				}
			}
			for k, x := range v {
				p, ok := s.Properties[k]
				if !ok && len(s.Properties) > 0 {
					t.Errorf("%s has %s, which the document does not know", where, k)
				}
				check(where+"/"+k, p, x)
			}
		case []any:
			for i, x := range v {
				check(fmt.Sprintf("%s/%d", where, i), s.Items, x)
			}
		}
	}
	for path, real := range map[string]string{
		"/api/v1/devices": "/api/v1/devices", "/api/v1/devices/{id}": "/api/v1/devices/" + tank, "/api/v1/models": "/api/v1/models",
		"/api/v1/devices/{id}/settings": "/api/v1/devices/" + tank + "/settings", "/api/v1/service": "/api/v1/service", "/api/v1/journal": "/api/v1/journal",
		"/api/v1/traffic": "/api/v1/traffic", "/api/v1/devices/{id}/history": "/api/v1/devices/" + tank + "/history?metric=ullage", "/api/v1/me": "/api/v1/me",
		"/api/v1/devices/{id}/readings": "/api/v1/devices/" + tank + "/readings?metric=ullage",
	} {
		resp, body := b.call("GET", real, "", b.bearer()...)
		var v any
		if resp.StatusCode != 200 || json.Unmarshal([]byte(body), &v) != nil {
			t.Errorf("%s gives %d %s", real, resp.StatusCode, body)
			continue
		}
		check(path, doc.Paths[path]["get"].Responses["200"].Content["application/json"].Schema, v)
	}
}

func TestProblems(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for _, c := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"GET", "/api/v1/devices/nobody", "", 404, `"about":"device"`},
		{"GET", "/api/v1/models/nothing", "", 404, "there is cask-bung"},
		{"GET", "/api/v1/nothing", "", 404, "/api/docs"},
		{"GET", "/api", "", 404, "/api/docs"},
		{"POST", "/api/v1/devices", `{"id":"Tank 7","model":"tank-probe"}`, 422, "no device id"},
		{"POST", "/api/v1/devices", `{"model":"tank-probe"}`, 422, "id"},
		{"POST", "/api/v1/devices", `{"id":`, 400, "it ends too early"},
		{"POST", "/api/v1/models", `{"title":"x"}`, 422, "/@context"},
		{"PUT", "/api/v1/rules/a", `{"rule":"b","models":["tank-probe"],"raise":"must_temp > 3","priority":"low","message":"m"}`, 422, "make them the same"},
		{"PUT", "/api/v1/rules/a", `{"rule":"a","models":["tank-probe"],"raise":"must_temp >","priority":"low","message":"m"}`, 422, "column 12"},
		{"PUT", "/api/v1/rules/a", `{"rule":"a","models":["tank-probe"],"raise":"x > 3","priority":"loud","message":"m"}`, 422, "priority"},
		{"GET", "/api/v1/devices/nobody/history?metric=x", "", 404, "no device"},
		{"POST", "/api/v1/alarms/01ARZ3NDEKTSV4RRFFQ69G5FAV/acknowledge", "", 404, "no alarm"},
		{"GET", "/api/v1/journal?limit=0", "", 422, "limit"},
	} {
		resp, body := b.call(c.method, c.path, c.body, b.bearer()...)
		var p struct {
			Type, Title, Detail, Code string
			Status                    int
		}
		if err := json.Unmarshal([]byte(body), &p); err != nil {
			t.Errorf("%s %s gives %q", c.method, c.path, body)
			continue
		}
		if resp.StatusCode != c.status || p.Status != c.status || p.Type != "about:blank" || p.Code == "" ||
			resp.Header.Get("Content-Type") != "application/problem+json" || !strings.Contains(body, c.says) {
			t.Errorf("%s %s gives %d %s; want %d that says %q", c.method, c.path, resp.StatusCode, body, c.status,
				c.says)
		}
	}
}

func TestSecretsStayInside(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	const secret = "hunter2-and-more"
	_, body := b.call("POST", "/api/v1/sign-in", `{"person":"engineer","password":"`+secret+`"}`)
	_, invalid := b.call("POST", "/api/v1/sign-in", `{"person":"","password":["`+secret+`"]}`)
	o, err := b.client.CreateDevice(t.Context(), client.NewDevice{ID: tank, Model: "tank-probe"})
	b.Must(err)
	_, rest := b.call("GET", "/api/v1/devices/"+tank, "", b.bearer()...)
	_, journal := b.call("GET", "/api/v1/journal", "", b.bearer()...)
	for name, text := range map[string]string{"a refusal": body, "a validation": invalid, "the device": rest,
		"the journal": journal, "the log": b.log.String()} {
		for _, s := range []string{secret, o.Token, b.token} {
			if strings.Contains(text, s) {
				t.Errorf("%s shows a secret: %s", name, text)
			}
		}
	}
	for _, command := range []string{o.TryMQTT, o.TryHTTP} {
		if strings.Contains(command, o.Token) || !strings.Contains(command, `"$TOKEN"`) && !strings.Contains(command, `$TOKEN"`) {
			t.Errorf("the command to try holds the token, or does not ask for it: %s", command)
		}
	}
}

func TestCookieSession(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	resp, body := b.call("POST", "/api/v1/sign-in", `{"person":"engineer","password":"long-enough-1"}`)
	cookies := resp.Cookies()
	if resp.StatusCode != 200 || len(cookies) != 2 || !cookies[0].HttpOnly ||
		cookies[0].SameSite != http.SameSiteStrictMode || strings.Contains(body, cookies[0].Value) {
		t.Fatalf("signed in with %d %v %s", resp.StatusCode, cookies, body)
	}
	if c := cookies[1]; !c.HttpOnly || c.SameSite != http.SameSiteStrictMode || c.Path != "/api/v1/sign-in" || c.Value == "" {
		t.Errorf("what tells the browser apart is %+v", c)
	}
	cookie := []string{"Cookie", cookies[0].Name + "=" + cookies[0].Value}
	if resp, _ := b.call("GET", "/api/v1/me", "", cookie...); resp.StatusCode != 200 {
		t.Errorf("with the cookie: %d", resp.StatusCode)
	}
	cross := append(cookie, "Sec-Fetch-Site", "cross-site", "Origin", "http://elsewhere.example")
	if resp, body := b.call("POST", "/api/v1/devices", `{"id":"tank-1","model":"tank-probe"}`, cross...); resp.StatusCode != 403 || !strings.Contains(body, "another web site") {
		t.Errorf("from another site: %d %s", resp.StatusCode, body)
	}
	if resp, _ := b.call("POST", "/api/v1/sign-out", "", cookie...); resp.StatusCode >= 300 {
		t.Errorf("signing out: %d", resp.StatusCode)
	}
	if resp, _ := b.call("GET", "/api/v1/me", "", cookie...); resp.StatusCode != 401 {
		t.Errorf("after signing out: %d", resp.StatusCode)
	}
}

func TestHistoryThroughTheClient(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", nil)
	for i := range 120 {
		b.Keep(tank, fmt.Sprintf(`{"at":%q,"must_temp":%d}`, rig.Start.Add(-time.Duration(120-i)*time.Minute).
			Format(time.RFC3339), i%10))
	}
	h, err := b.client.History(t.Context(), tank, "must_temp", client.Span{From: rig.Start.Add(-2 * time.Hour),
		To: rig.Start, Step: 10 * time.Minute})
	if err != nil || len(h.Steps) != 12 || h.Step != "10min" {
		t.Fatalf("%d steps of %s, %v", len(h.Steps), h.Step, err)
	}
	for _, k := range h.Steps {
		if k.Count != 10 || k.Min != 0 || k.Max != 9 || k.Mean != 4.5 || k.Last != 9.0 {
			t.Errorf("step %+v", k)
		}
	}
	rs, err := b.client.Readings(t.Context(), tank, "must_temp", client.Span{From: rig.Start.Add(-2 * time.Hour),
		To: rig.Start}, 50)
	if err != nil || len(rs.Readings) != 50 || !rs.More {
		t.Errorf("%d readings, more %v, %v", len(rs.Readings), rs.More, err)
	}
	for _, bad := range []client.Span{{From: rig.Start, To: rig.Start.Add(-time.Hour)},
		{From: rig.Start.AddDate(-1, 0, 0), To: rig.Start, Step: time.Second}} {
		if _, err := b.client.History(t.Context(), tank, "must_temp", bad); err == nil {
			t.Errorf("%+v was answered", bad)
		}
	}
	if h, err := b.client.History(t.Context(), tank, "rssi", client.Span{}); err != nil || h.Steps == nil ||
		len(h.Steps) != 0 {
		t.Errorf("a metric without readings gives %+v, %v", h, err)
	}
}

func TestLiveStream(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", nil)
	req, _ := http.NewRequestWithContext(t.Context(), "GET", b.server.URL+"/api/v1/live", nil)
	req.Header.Set("Authorization", "Bearer "+b.token)
	resp, err := http.DefaultClient.Do(req)
	b.Must(err)
	defer resp.Body.Close()
	lines := make(chan string, 100)
	go func() {
		buf := make([]byte, 64<<10)
		for {
			n, err := resp.Body.Read(buf)
			if n > 0 {
				lines <- string(buf[:n])
			}
			if err != nil {
				close(lines)
				return
			}
		}
	}()
	expect := func(what string) {
		t.Helper()
		seen := ""
		for end := time.After(30 * time.Second); ; {
			select {
			case s := <-lines:
				if seen += s; strings.Contains(seen, what) {
					return
				}
			case <-end:
				t.Fatalf("the stream never told %q, only %s", what, seen)
			}
		}
	}
	expect(`"id":"` + tank + `"`)
	b.Keep(tank, `{"ullage":33.25}`)
	expect(`"value":33.25`)
	expect(`event: pulse`)
}

func TestConsoleFiles(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	resp, body := b.call("GET", "/devices/"+tank, "")
	csp := resp.Header.Get("Content-Security-Policy")
	m := regexp.MustCompile(`'nonce-([^']+)'`).FindStringSubmatch(csp)
	if resp.StatusCode != 200 || m == nil || !strings.Contains(body, m[1]) || strings.Contains(csp, "unsafe") ||
		strings.Contains(body, "__NONCE__") {
		t.Errorf("a deep link gives %d %q with %q", resp.StatusCode, body, csp)
	}
	_, again := b.call("GET", "/", "")
	if again == body {
		t.Error("the nonce is the same twice")
	}
	resp, body = b.call("GET", "/assets/app-1.js", "", "Accept-Encoding", "gzip, br")
	if body != "brotli" || resp.Header.Get("Content-Encoding") != "br" ||
		!strings.Contains(resp.Header.Get("Cache-Control"), "immutable") {
		t.Errorf("an asset gives %q with %v", body, resp.Header)
	}
	if _, body = b.call("GET", "/assets/app-1.js", "", "Accept-Encoding", "identity"); body != "plain" {
		t.Errorf("without compression it gives %q", body)
	}
	if resp, _ = b.call("GET", "/assets/gone.js", ""); resp.StatusCode != 404 {
		t.Errorf("an unknown asset gives %d", resp.StatusCode)
	}
	for path, says := range map[string]string{"/healthz": "ok", "/readyz": "ready", "/api/docs": "create-device",
		"/api/docs.css": "--ground"} {
		if resp, body := b.call("GET", path, ""); resp.StatusCode != 200 || !strings.Contains(body, says) {
			t.Errorf("%s gives %d", path, resp.StatusCode)
		}
	}
}
