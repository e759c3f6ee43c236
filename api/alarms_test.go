package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"ullage/client"
)

// What people do about one alarm, and about many, over the API.
func TestActsOnAlarms(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for i := range 3 {
		b.Onboard(fmt.Sprintf("air-kilnside-%d", i), "cellar-air", map[string]string{"site": "Kilnside"})
	}
	b.Rule("rule: co2_high\nmodels: [cellar-air]\nraise: co2 > 1500\npriority: medium\nmessage: much\nlatch: true\nrespond_within: 10min\n")
	for i := range 3 {
		b.Keep(fmt.Sprintf("air-kilnside-%d", i), `{"co2":1700}`)
		b.Pass(time.Second)
	}
	list := func(query string) (out []client.Alarm) {
		t.Helper()
		resp, got := b.as("GET", "/api/v1/alarms"+query, "")
		if err := json.Unmarshal([]byte(got), &out); err != nil || resp.StatusCode != 200 {
			t.Fatalf("%s: %d %s", query, resp.StatusCode, got)
		}
		return out
	}
	as := list("")
	if len(as) != 3 || !as[0].Holds || !as[0].Waits || !as[0].MayAct || as[0].RespondBy == nil || as[0].RespondBy.Sub(as[0].RaisedAt) != 10*time.Minute {
		t.Fatalf("the alarms are %+v", as)
	}
	id := as[0].ID
	for _, c := range []struct {
		method, path, body string
		code               int
		says               string
	}{
		{"GET", "/" + id, "", 200, `"state":"unacknowledged"`},
		{"GET", "/01ARZ3NDEKTSV4RRFFQ69G5FAV", "", 404, "no alarm"},
		{"POST", "/" + id + "/shelve", `{}`, 422, "until a time"},
		{"POST", "/" + id + "/shelve", `{"for":"soon"}`, 422, "for: "},
		{"POST", "/" + id + "/shelve", `{"for":"2h","until":"2026-03-09T18:00:00Z"}`, 422, "both for and until"},
		{"POST", "/" + id + "/shelve", `{"for":"90d"}`, 422, "31 days at most"},
		{"POST", "/" + id + "/unshelve", ``, 409, "not shelved"},
		{"POST", "/" + id + "/shelve", `{"for":"2h","why":"the cell is changed"}`, 200, `"state":"shelved"`},
		{"POST", "/" + id + "/unshelve", ``, 200, `"state":"unacknowledged"`},
		{"POST", "/" + id + "/reset", ``, 409, "still holds"},
		{"POST", "/" + id + "/comments", `{"text":"  "}`, 422, "is empty"},
		{"POST", "/" + id + "/comments", `{"text":"the fan was off"}`, 200, `"comments":1`},
		{"POST", "/" + id + "/acknowledge", ``, 200, `"state":"acknowledged"`},
		{"POST", "/" + id + "/acknowledge", ``, 409, "engineer has acknowledged"},
	} {
		resp, got := b.as(c.method, "/api/v1/alarms"+c.path, c.body)
		if resp.StatusCode != c.code || !strings.Contains(got, c.says) {
			t.Errorf("%s %s %s: %d %s, want %d and %q", c.method, c.path, c.body, resp.StatusCode, got, c.code, c.says)
		}
	}
	ids, _ := json.Marshal([]string{as[0].ID, as[1].ID, as[2].ID, "01ARZ3NDEKTSV4RRFFQ69G5FAV"})
	resp, got := b.as("POST", "/api/v1/alarm-acts", fmt.Sprintf(`{"alarms":%s,"act":"shelve","for":"1h","text":"all of them"}`, ids))
	var done []client.AlarmActed
	if err := json.Unmarshal([]byte(got), &done); err != nil || resp.StatusCode != 200 || len(done) != 4 || done[0].State != "shelved" || done[2].State != "shelved" || !strings.Contains(done[3].Error, "no alarm") {
		t.Errorf("many at once: %d %s", resp.StatusCode, got)
	}
	if n := len(list("?state=shelved")); n != 3 {
		t.Errorf("%d are listed as shelved", n)
	}
	if n := len(list("?state=unacknowledged,acknowledged")); n != 0 {
		t.Errorf("%d are listed as not shelved", n)
	}
	is, other := as[0].Priority, "low"
	if is == other {
		other = "urgent"
	}
	if n, none := len(list("?priority="+is)), len(list("?priority="+other)); n != 3 || none != 0 {
		t.Errorf("%d are listed as %s and %d as %s, want all three and none", n, is, none, other)
	}
	if resp, got := b.as("GET", "/api/v1/alarms?priority=grave", ""); resp.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(got, "urgent, high, medium and low") {
		t.Errorf("a priority that is none: %d %s", resp.StatusCode, got)
	}
	if resp, got := b.as("GET", "/api/v1/alarms?state=asleep", ""); resp.StatusCode != http.StatusUnprocessableEntity || !strings.Contains(got, "no state of an alarm") {
		t.Errorf("a state that is none: %d %s", resp.StatusCode, got)
	}
	if resp, got := b.as("GET", "/api/v1/shelves", ""); resp.StatusCode != 200 || strings.Count(got, "all of them") != 3 {
		t.Errorf("the shelves: %d %s", resp.StatusCode, got)
	}
	if resp, got := b.as("GET", "/api/v1/handover?for=8h", ""); resp.StatusCode != 200 || strings.Count(got, `"state":"shelved"`) != 3 || !strings.Contains(got, "the fan was off") || !strings.Contains(got, `"raised":3`) {
		t.Errorf("the handover: %d %s", resp.StatusCode, got)
	}
	if resp, got := b.as("GET", "/api/v1/alarm-performance?span=24h", ""); resp.StatusCode != 200 || !strings.Contains(got, `"alarms":3`) || !strings.Contains(got, `"shelved":3`) {
		t.Errorf("the performance: %d %s", resp.StatusCode, got)
	}
	for _, path := range []string{"/api/v1/handover?for=900d", "/api/v1/alarm-performance?span=9000d"} {
		if resp, got := b.as("GET", path, ""); resp.StatusCode != http.StatusUnprocessableEntity {
			t.Errorf("%s: %d %s", path, resp.StatusCode, got)
		}
	}
}

// A replay comes line by line, its summary last; what is wrong is said before anything.
func TestReplayOverTheAPI(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard("air-kilnside-1", "cellar-air", nil)
	b.Rule("rule: co2_high\nmodels: [cellar-air]\nraise: co2 > 1500\npriority: medium\nmessage: much\n")
	for i := range 40 {
		b.Keep("air-kilnside-1", fmt.Sprintf(`{"co2":%d}`, 1450+100*(i%2)))
		b.Pass(10 * time.Second)
	}
	resp, got := b.as("POST", "/api/v1/replays", `{"name":"co2_high","span":"1h","spans":true,"live":true}`)
	lines := strings.Split(strings.TrimSpace(got), "\n")
	var last client.ReplayLine
	if err := json.Unmarshal([]byte(lines[len(lines)-1]), &last); err != nil || resp.StatusCode != 200 || last.Summary == nil {
		t.Fatalf("it is %d %s", resp.StatusCode, got)
	}
	if s := last.Summary; s.This.Alarms != 20 || s.InForce == nil || s.InForce.Alarms != 20 || *s.Live != 20 || s.Differences != 0 || s.Devices != 1 {
		t.Errorf("the summary is %s", lines[len(lines)-1])
	}
	if !strings.HasPrefix(resp.Header.Get("Content-Type"), "application/x-ndjson") {
		t.Errorf("it is %s", resp.Header.Get("Content-Type"))
	}
	for body, says := range map[string]string{
		`{}`:                                   "neither a rule nor the name",
		`{"name":"nope"}`:                      "no rule",
		`{"name":"co2_high","span":"900d"}`:    "90 days at most",
		`{"name":"co2_high","where":"x = "}`:   "==",
		`{"name":"co2_high","devices":["no"]}`: "no device",
	} {
		if resp, got := b.as("POST", "/api/v1/replays", body); resp.StatusCode < 400 || resp.StatusCode >= 500 || !strings.Contains(got, says) {
			t.Errorf("%s: %d %s, want %q", body, resp.StatusCode, got, says)
		}
	}
	if resp, got := b.as("POST", "/api/v1/suggestions", `{"name":"co2_high","span":"1h"}`); resp.StatusCode != 200 || !strings.Contains(got, `"kind":"on_delay"`) {
		t.Errorf("suggestions: %d %s", resp.StatusCode, got)
	}
	if resp, got := b.as("GET", "/api/v1/rules/co2_high/versions", ""); resp.StatusCode != 200 || !strings.Contains(got, `"verb":"added"`) {
		t.Errorf("versions: %d %s", resp.StatusCode, got)
	}
}
