package web_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"ullage/app"
	"ullage/core/value"
	"ullage/fleet/traffic"
	"ullage/store"
	"ullage/test/rig"
	"ullage/transport/door"
	"ullage/transport/problem"
	"ullage/transport/web"
)

const press = "press-kilnside-1"

type bench struct {
	*rig.Rig
	server *httptest.Server
	token  string
}

func newBench(t *testing.T, o store.Options, change func(*door.Limits)) *bench {
	gin.SetMode(gin.TestMode)
	b := &bench{Rig: rig.NewWith(t, app.Options{Store: o})}
	b.server = httptest.NewServer(web.New(web.Options{Door: b.DoorWith(b.Clock.Now, change), Log: slog.New(slog.DiscardHandler), Now: b.Clock.Now}))
	t.Cleanup(b.server.Close)
	b.token = b.Onboard(press, "press-scale", nil)
	return b
}

// call makes a request as the press and decodes the answer.
func (b *bench) call(method, path, body string, headers ...string) (int, map[string]any) {
	b.T.Helper()
	req, err := http.NewRequest(method, b.server.URL+path, strings.NewReader(body))
	b.Must(err)
	req.Header.Set("Authorization", "Bearer "+b.token)
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	b.Must(err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	b.Must(err)
	out := map[string]any{}
	if len(raw) > 0 {
		if err := json.Unmarshal(raw, &out); err != nil {
			b.T.Fatalf("%s %s answers %q", method, path, raw)
		}
	}
	if resp.StatusCode >= 400 && resp.Header.Get("Content-Type") != "application/problem+json" {
		b.T.Errorf("%s %s refuses with %s", method, path, resp.Header.Get("Content-Type"))
	}
	return resp.StatusCode, out
}

func TestReadings(t *testing.T) {
	b := newBench(t, store.Options{}, nil)
	for _, c := range []struct {
		name, body string
		status     int
		kept       float64
		says       string
	}{
		{"kept", `{"load":1200,"cycle":"pressing"}`, 200, 2, ""},
		{"partly", `{"load":"heavy","cycle":"pressing"}`, 200, 1, "wants a number in kg"},
		{"nothing kept", `{"load":"heavy"}`, 422, 0, "nothing was kept"},
		{"beyond range", `{"cycle":"rinsing"}`, 200, 1, "one of idle, filling, pressing, emptying"},
		{"no JSON", `{"load":`, 422, 0, "not JSON"},
		{"empty", ``, 422, 0, "empty"},
	} {
		status, answer := b.call("POST", "/device/v1/readings", c.body)
		kept, _ := answer["kept"].(float64)
		if all := fmt.Sprint(answer); status != c.status || kept != c.kept || !strings.Contains(all, c.says) {
			t.Errorf("%s: %d %v, want %d that says %q", c.name, status, answer, c.status, c.says)
		}
	}
	b.Settle()
	if ps := b.Points(press, "load"); len(ps) != 1 || ps[0].Value != value.OfNumber(1200) {
		t.Errorf("stored is %+v", ps)
	}
}

func TestRefusals(t *testing.T) {
	b := newBench(t, store.Options{}, nil)
	for _, c := range []struct {
		name, method, path string
		headers            []string
		status             int
		traffic            string
	}{
		{"no token", "POST", "/device/v1/readings", []string{"Authorization", ""}, 401, "no bearer token"},
		{"another scheme", "POST", "/device/v1/readings", []string{"Authorization", "Basic eDp5"}, 401, "no bearer token"},
		{"wrong token", "POST", "/device/v1/readings", []string{"Authorization", "Bearer 12345678.x"}, 401, "no token with this id"},
		{"no such path", "GET", "/device/v2/readings", nil, 404, ""},
		{"wrong method", "DELETE", "/device/v1/readings", nil, 405, ""},
		{"wrong content type", "POST", "/device/v1/readings", []string{"Content-Type", "application/xml"}, 422, "not read"},
		{"packed", "POST", "/device/v1/readings", []string{"Content-Encoding", "gzip"}, 422, "content encoding \"gzip\" is not read; send the message as it is"},
		{"a wait for nothing", "GET", "/device/v1/intended?wait=30s", nil, 422, ""},
		{"a misspelled wait", "GET", "/device/v1/intended?not=1&wiat=30s", nil, 422, ""},
		{"another misspelled wait", "GET", "/device/v1/commands?waits=30s", nil, 422, ""},
	} {
		status, answer := b.call(c.method, c.path, `{"load":1}`, c.headers...)
		if status != c.status {
			t.Errorf("%s: %d %v", c.name, status, answer)
		}
		if c.traffic != "" {
			es := b.Traffic.Recent(traffic.Filter{Limit: 1})
			if len(es) != 1 || !strings.Contains(es[0].Reason, c.traffic) {
				t.Errorf("%s: the traffic shows %+v", c.name, es)
			}
			if ref, _ := answer["ref"].(string); c.status == 401 &&
				(ref == "" || ref != es[0].Ref || answer["detail"] != "not authorised, ref "+ref) {
				t.Errorf("%s: the stranger was told %v, the ref is %s", c.name, answer, es[0].Ref)
			}
		}
	}
}

func TestTooLargeAndTooMany(t *testing.T) {
	b := newBench(t, store.Options{}, func(l *door.Limits) { l.Message, l.Rate = 200, 1 })
	if status, answer := b.call("POST", "/device/v1/readings", `{"load":1,"x":"`+strings.Repeat("y", 300)+`"}`); status != 413 || !strings.Contains(fmt.Sprint(answer), "in parts") {
		t.Errorf("too large: %d %v", status, answer)
	}
	req, _ := http.NewRequest("POST", b.server.URL+"/device/v1/readings",
		io.MultiReader(bytes.NewReader(bytes.Repeat([]byte(" "), 5000)))) // without a length
	req.Header.Set("Authorization", "Bearer "+b.token)
	resp, err := http.DefaultClient.Do(req)
	b.Must(err)
	resp.Body.Close()
	if resp.StatusCode != 413 {
		t.Errorf("too large in chunks: %d", resp.StatusCode)
	}
	last := 0
	for range 5 {
		last, _ = b.call("POST", "/device/v1/readings", `{"load":1}`)
	}
	if last != 429 {
		t.Errorf("too many: %d", last)
	}
}

func TestFullDisk(t *testing.T) {
	b := newBench(t, store.Options{MaxBytes: 90 << 10}, func(l *door.Limits) { l.Rate = 0 })
	for i := range 3000 {
		var parts []string
		for k := range 50 {
			parts = append(parts, fmt.Sprintf(`{"at":%q,"load":1}`, rig.Start.Add(-time.Duration(i*50+k)*time.Second).
				Format(time.RFC3339)))
		}
		status, answer := b.call("POST", "/device/v1/readings", "["+strings.Join(parts, ",")+"]")
		if status == 200 {
			continue
		}
		if status != 507 || !strings.Contains(fmt.Sprint(answer["detail"]), "the disk is full") {
			t.Errorf("a full disk gives %d %v", status, answer)
		}
		return
	}
	t.Error("the disk never filled")
}

func TestSettingsByLongPoll(t *testing.T) {
	b := newBench(t, store.Options{}, nil)
	status, doc := b.call("GET", "/device/v1/intended", "")
	if status != 200 || doc["revision"] != 1.0 {
		t.Fatalf("%d %v", status, doc)
	}
	if status, _ := b.call("GET", "/device/v1/intended?not=1", ""); status != 304 {
		t.Errorf("without a wait: %d", status)
	}
	for _, bad := range []string{"?not=one", "?not=1&wait=soon"} {
		if status, _ := b.call("GET", "/device/v1/intended"+bad, ""); status != 422 {
			t.Errorf("%s: %d", bad, status)
		}
	}
	type answer struct {
		status int
		doc    map[string]any
	}
	got := make(chan answer, 1)
	go func() {
		status, doc := b.call("GET", "/device/v1/intended?not=1&wait=30s", "")
		got <- answer{status, doc}
	}()
	time.Sleep(50 * time.Millisecond)
	_, err := b.Settings.Set(t.Context(), press, map[string]any{"cycle_limit": 120.0}, nil, "mara")
	b.Must(err)
	select {
	case a := <-got:
		if a.status != 200 || a.doc["revision"] != 2.0 || a.doc["intended"].(map[string]any)["cycle_limit"] != 120.0 {
			t.Errorf("the poll gives %d %v", a.status, a.doc)
		}
	case <-time.After(30 * time.Second):
		t.Fatal("the poll was not answered")
	}
	if status, answer := b.call("POST", "/device/v1/applied",
		`{"revision":2,"applied":{"cycle_limit":120,"report_every":60}}`); status != 200 || answer["kept"] != 2.0 {
		t.Errorf("applied: %d %v", status, answer)
	}
	if s, _, _ := b.Settings.Of(press); !s.Confirmed() || len(s.Drift()) != 0 {
		t.Errorf("state %+v", s)
	}
}

func TestAboutAndTime(t *testing.T) {
	b := newBench(t, store.Options{}, nil)
	if status, answer := b.call("POST", "/device/v1/about", `{"serial":"TH-9"}`); status != 200 ||
		answer["kept"] != 1.0 {
		t.Errorf("about: %d %v", status, answer)
	}
	if status, answer := b.call("GET", "/device/v1/time", ""); status != 200 ||
		answer["now"] != "2026-03-09T14:00:00.000Z" {
		t.Errorf("time: %d %v", status, answer)
	}
}

func TestEveryCodeHasAStatus(t *testing.T) {
	seen := map[int]bool{}
	for _, c := range []string{"invalid", "unauthenticated", "not-allowed", "not-found", "conflict", "too-large",
		"too-many", "disk-full", "overload", "internal"} {
		s := problem.Status(faultCode(c))
		if s < 400 || seen[s] {
			t.Errorf("%s has status %d", c, s)
		}
		seen[s] = true
	}
}
