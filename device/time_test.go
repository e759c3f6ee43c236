package device_test

import (
	"encoding/base64"
	"log/slog"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/device"
	"ullage/pki"
	"ullage/transport/web"
)

// A device whose clock is of 1970 learns the time from whom it trusts, and from nobody
// else.
func TestTime(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	open := func() *pki.Authority {
		a, _, err := pki.OpenAuthority(filepath.Join(t.TempDir(), "pki"), func() time.Time { return now })
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	a, other := open(), open()
	s := httptest.NewServer(web.NewTime(a.SignTime, slog.New(slog.DiscardHandler)))
	defer s.Close()
	if got, err := device.Time(t.Context(), s.URL+"/time", a.Root()); err != nil || !got.Equal(now) {
		t.Errorf("the time is %s, %v", got, err)
	}
	if _, err := device.Time(t.Context(), s.URL+"/time", other.Root()); err == nil || !strings.Contains(err.Error(), "does not trust") {
		t.Errorf("of another authority: %v", err)
	}
	const nonce = "0123456789abcdef"
	signed, err := a.SignTime(nonce)
	if err != nil {
		t.Fatal(err)
	}
	parts := strings.Split(signed, ".")
	later := base64.RawURLEncoding.EncodeToString([]byte(`{"now":"2036-03-01T12:00:00Z","nonce":"` + nonce + `"}`))
	for what, c := range map[string]struct{ signed, nonce, says string }{
		"another nonce":   {signed, "0123456789abcdeX", "another question"},
		"another time":    {parts[0] + "." + later + "." + parts[2], nonce, "not signed as it says"},
		"no signature":    {parts[0] + "." + parts[1] + ".", nonce, ""},
		"nothing":         {"", nonce, "no signed time"},
		"no certificate":  {base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"ES256"}`)) + "." + parts[1] + "." + parts[2], nonce, "names no certificate"},
		"without signing": {base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + parts[1] + ".", nonce, "no signed time"},
	} {
		if got, err := device.CheckTime(c.signed, c.nonce, a.Root()); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %s, %v; want %q", what, got, err, c.says)
		}
	}
	for path, says := range map[string]string{"/time": "the nonce has 0 characters", "/time?nonce=" + strings.Repeat("a", 200): "has 200 characters", "/device/v1/readings": "tells the time and nothing else"} {
		resp, err := s.Client().Get(s.URL + path)
		if err != nil {
			t.Fatal(err)
		}
		var b [500]byte
		n, _ := resp.Body.Read(b[:])
		resp.Body.Close()
		if resp.StatusCode < 400 || !strings.Contains(string(b[:n]), says) {
			t.Errorf("%s is answered %d %s, want %q", path, resp.StatusCode, b[:n], says)
		}
	}
}

func FuzzTime(f *testing.F) {
	f.Add("eyJhbGciOiJFUzI1NiJ9.e30.AA", "0123456789abcdef")
	f.Fuzz(func(t *testing.T, signed, nonce string) {
		a := []byte("-----BEGIN CERTIFICATE-----\nMIIBgDCCASWgAwIBAgIQDvfsZk/Oq7jCrKOoJwR\n-----END CERTIFICATE-----\n")
		if _, err := device.CheckTime(signed, nonce, a); err == nil {
			t.Fatal("it is believed")
		}
	})
}
