package api_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/fleet/ingest"
)

// TestSnapshot: one file tells everything about a device over a span, and nothing that a
// device, a person or a reading has written becomes a part of the page.
func TestSnapshot(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", map[string]string{"site": "Fennimore", "note": "<b>7</b>"})
	for i := range 30 {
		b.Keep(tank, fmt.Sprintf(`{"must_temp":%d.5,"battery":3.4}`, 20+i%5))
		b.Pass(time.Minute)
	}
	b.Send(tank, `{"must_temp":"<script>hot</script>"}`)
	b.SendMessage(ingest.Message{Device: tank, Kind: ingest.About, Transport: "mqtt", Body: []byte(`{"firmware":"</style><script>2.4</script>"}`)})
	b.SendMessage(ingest.Message{Device: tank, Kind: ingest.Log, Transport: "mqtt", Body: []byte(`{"level":"warn","text":"radio <img src=x onerror=alert(2)> lost"}`)})
	_, err := b.Devices.Rename(t.Context(), tank, "Tank 7 <i>", "engineer")
	b.Must(err)
	b.Pass(time.Second)
	b.Settle()
	now := b.Clock.Now()
	page, err := b.client.Snapshot(t.Context(), tank, now.Add(-time.Hour), now.Add(time.Minute))
	b.Must(err)
	text := string(page)
	for _, want := range []string{tank, "Must temperature", "20.5 to 24.5, mean 22.5", "&lt;b&gt;7&lt;/b&gt;", "max_temp", "default of the model", "the model wants",
		"onboarded", "radio &lt;img", "Tank 7 &lt;i&gt;", `<path class="mean" d="M`} {
		if !strings.Contains(text, want) {
			t.Errorf("the snapshot does not tell %q", want)
		}
	}
	for _, not := range []string{"<script", "<img", "<b>7", "<i>", "</style><", "http://", "https://"} {
		if i := strings.Index(text, not); i >= 0 {
			t.Errorf("the snapshot has %q in it: %s", not, text[max(0, i-80):min(len(text), i+80)])
		}
	}
	resp, _ := b.call("GET", "/api/v1/devices/"+tank+"/snapshot", "", "Authorization", "Bearer "+b.token)
	if p := resp.Header.Get("Content-Security-Policy"); resp.StatusCode != 200 || !strings.Contains(p, "default-src 'none'") || !strings.HasPrefix(resp.Header.Get("Content-Disposition"), "attachment") {
		t.Errorf("it comes with %d and %v", resp.StatusCode, resp.Header)
	}
	for path, says := range map[string]string{"/api/v1/devices/tank-99/snapshot": "there is no device", "/api/v1/devices/" + tank + "/snapshot?from=2020-01-01T00:00:00Z": "92 days at most",
		"/api/v1/devices/" + tank + "/snapshot?from=2026-03-01T00:00:00Z&to=2026-02-01T00:00:00Z": "before it starts"} {
		if resp, body := b.call("GET", path, "", "Authorization", "Bearer "+b.token); resp.StatusCode < 400 || !strings.Contains(body, says) {
			t.Errorf("%s: %d %s, want %q", path, resp.StatusCode, body, says)
		}
	}
}
