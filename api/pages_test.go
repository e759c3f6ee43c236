package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"ullage/client"
)

// Whoever follows the pages of a log reads each of its entries once, also when
// something is added meanwhile.
func TestPagesOfTheJournal(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for i := range 7 {
		b.Onboard(fmt.Sprintf("tank-%d", i), "tank-probe", nil)
	}
	read := func(path string) (es []client.JournalEntry, next string) {
		t.Helper()
		resp, got := b.as("GET", path, "")
		if err := json.Unmarshal([]byte(got), &es); err != nil || resp.StatusCode != http.StatusOK {
			t.Fatalf("%s gives %d %s, %v", path, resp.StatusCode, got, err)
		}
		next, _, _ = strings.Cut(strings.TrimPrefix(resp.Header.Get("Link"), "<"), ">")
		return es, next
	}
	all, next := read("/api/v1/journal?limit=1000")
	if len(all) < 7 || next != "" {
		t.Fatalf("all at once are %d, with %q behind them; want 7 or more and nothing", len(all), next)
	}
	var paged []client.JournalEntry
	pages := 0
	for path := "/api/v1/journal?limit=3"; path != ""; pages++ {
		es, next := read(path)
		if paged, path = append(paged, es...), next; pages == 0 {
			b.Onboard("tank-late", "tank-probe", nil) // stands before what is read
		}
		if next != "" && !strings.Contains(next, "limit=3") {
			t.Fatalf("the next page is %s, without the limit", next)
		}
	}
	if want := (len(all) + 2) / 3; pages != want {
		t.Errorf("%d entries came on %d pages, want %d", len(all), pages, want)
	}
	if got, want := fmt.Sprint(paged), fmt.Sprint(all); got != want {
		t.Errorf("by pages the journal is\n%s, want\n%s", got, want)
	}
	if es, next := read(fmt.Sprintf("/api/v1/journal?limit=%d", len(all)+1)); len(es) != len(all)+1 || next != "" {
		t.Errorf("a page that just holds all has %d entries and %q behind it, want %d and nothing", len(es), next,
			len(all)+1)
	}
}

func TestModelsAreAList(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", nil)
	resp, got := b.as("GET", "/api/v1/models?order=-devices&limit=1&where=version+!%3D+%220%22", "")
	var ms []client.Model
	if err := json.Unmarshal([]byte(got), &ms); err != nil || len(ms) != 1 || ms[0].Name != "tank-probe" ||
		ms[0].Devices != 1 {
		t.Errorf("the first by devices is %.200s, %v; want tank-probe with one device", got, err)
	}
	if n, link := resp.Header.Get("Ullage-Count"), resp.Header.Get("Link"); n == "" || (n == "1") != (link == "") {
		t.Errorf("the list says %q models and leads on to %q", n, link)
	}
	resp, _ = b.as("GET", "/api/v1/models/tank-probe", "")
	if tag := resp.Header.Get("ETag"); tag == "" {
		t.Errorf("a model has no ETag")
	}
}
