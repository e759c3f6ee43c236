package api_test

import (
	"fmt"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"
	"ullage/core/person"
	"ullage/fleet/noun"
	"ullage/transport/conns"
)

func TestIdempotencyKey(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	body := `{"id":"tank-fennimore-09","model":"tank-probe"}`
	first, got := b.as("POST", "/api/v1/devices", body, "Idempotency-Key", "k1")
	if first.StatusCode != 200 || !strings.Contains(got, "token") {
		t.Fatalf("%d %s", first.StatusCode, got)
	}
	second, same := b.as("POST", "/api/v1/devices", body, "Idempotency-Key", "k1")
	if second.StatusCode != 200 || same != got || second.Header.Get("Ullage-Repeated") != "true" {
		t.Errorf("sent again it gives %d %s, want the first answer", second.StatusCode, same)
	}
	for name, c := range map[string]struct {
		body, key string
		status    int
	}{
		"without the key":       {body, "", 409},
		"another key":           {body, "k2", 409},
		"another request":       {strings.Replace(body, "09", "10", 1), "k1", 422},
		"a key that is a novel": {body, strings.Repeat("k", 300), 422},
	} {
		if resp, got := b.as("POST", "/api/v1/devices", c.body, "Idempotency-Key", c.key); resp.StatusCode != c.status {
			t.Errorf("%s: %d %s, want %d", name, resp.StatusCode, got, c.status)
		}
	}
	// Whoever is not signed in learns nothing by a key.
	if resp, got := b.call("POST", "/api/v1/devices", body, "Idempotency-Key", "k1"); resp.StatusCode != 401 ||
		strings.Contains(got, "token\":") {
		t.Errorf("a stranger gets %d %s", resp.StatusCode, got)
	}
	b.Clock.Forward(25 * time.Hour)
	if resp, _ := b.as("POST", "/api/v1/devices", body, "Idempotency-Key", "k1"); resp.StatusCode != 409 {
		t.Errorf("after a day the key is remembered: %d", resp.StatusCode)
	}
}

func TestIdempotencyKeyAtOnce(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	var wg sync.WaitGroup
	var mu sync.Mutex
	codes := map[int]int{}
	for range 8 {
		wg.Go(func() {
			resp, _ := b.as("POST", "/api/v1/devices", `{"id":"tank-fennimore-09","model":"tank-probe"}`,
				"Idempotency-Key", "k1")
			mu.Lock()
			codes[resp.StatusCode]++
			mu.Unlock()
		})
	}
	wg.Wait()
	if codes[200] == 0 || codes[200]+codes[409] != 8 {
		t.Errorf("answers %v, want the first one or that it is under way", codes)
	}
	if n := b.Devices.Count(); n != 1 {
		t.Errorf("%d devices, want 1", n)
	}
}

func TestStrangersDoNotPushKeysOut(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("it takes more strangers than a short run has time for")
	}
	b := newBench(t)
	body := `{"id":"tank-fennimore-09","model":"tank-probe"}`
	b.as("POST", "/api/v1/devices", body, "Idempotency-Key", "k1")
	for i := range 11_000 {
		b.call("POST", "/api/v1/devices", body, "Idempotency-Key", fmt.Sprint("stranger-", i))
	}
	if resp, got := b.as("POST", "/api/v1/devices", body, "Idempotency-Key", "k1"); resp.Header.Get("Ullage-Repeated") != "true" {
		t.Errorf("the key is forgotten: %d %s", resp.StatusCode, got)
	}
}

// What was answered is nothing for whoever is not let in any more, nor for another who
// comes over TLS with the same key.
func TestKeysAreOfTheirSession(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	body := `{"id":"tank-fennimore-09","model":"tank-probe"}`
	first, got := b.as("POST", "/api/v1/devices", body, "Idempotency-Key", "k1")
	if first.StatusCode != 200 {
		t.Fatalf("%d %s", first.StatusCode, got)
	}
	letMeIn := func(name string) string {
		_, err := b.People.Add(t.Context(), name, "long-enough-1", person.Engineer, "engineer")
		b.Must(err)
		return signIn(b, name)
	}
	h := conns.Forwarded(must(conns.Prefixes([]string{"192.0.2.1"})), b.server.Config.Handler)
	overTLS := func(cookie string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("POST", "/api/v1/devices", strings.NewReader(body))
		r.RemoteAddr, r.Host = "192.0.2.1:1", "localhost"
		for k, v := range map[string]string{"Content-Type": "application/json", "X-Forwarded-Proto": "https",
			"Cookie": "__Host-ullage_session=" + cookie, "Idempotency-Key": "k2"} {
			r.Header.Set(k, v)
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w
	}
	one, other := letMeIn("night-duty"), letMeIn("cellar-master")
	body = `{"id":"tank-fennimore-10","model":"tank-probe"}`
	if w := overTLS(one); w.Code != 200 {
		t.Fatalf("over TLS: %d %s", w.Code, w.Body)
	}
	if w := overTLS(one); w.Header().Get("Ullage-Repeated") != "true" {
		t.Errorf("the same again: %d %s", w.Code, w.Body)
	}
	if w := overTLS(other); w.Header().Get("Ullage-Repeated") != "" || strings.Contains(w.Body.String(), `"token"`) {
		t.Errorf("another with the same key is told %d %s", w.Code, w.Body)
	}
	b.Must(b.People.Remove(t.Context(), "night-duty", noun.If{}, "engineer"))
	if w := overTLS(one); w.Code != 401 || strings.Contains(w.Body.String(), `"token"`) {
		t.Errorf("who was taken away is told %d %s", w.Code, w.Body)
	}
}

func must[T any](x T, err error) T {
	if err != nil {
		panic(err)
	}
	return x
}
