package logs_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/core/logline"
	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/logs"
	"ullage/test/rig"
)

const hub = "hub-kilnside"

func write(r *rig.Rig, id, body string) ingest.Outcome {
	out := make(chan ingest.Outcome, 1)
	r.Intake.Accept(ingest.Message{Device: id, Kind: ingest.Log, Body: []byte(body), Transport: "mqtt"}, func(o ingest.Outcome) { out <- o })
	return <-out
}

func texts(t *testing.T, r *rig.Rig, f logs.Filter) string {
	t.Helper()
	if f.Limit == 0 {
		f.Limit = 100
	}
	ls, err := r.Logs.Find(t.Context(), f)
	r.Must(err)
	var out []string
	for _, l := range ls {
		out = append(out, fmt.Sprint(l.Number, " ", l.Level, " ", l.Text))
	}
	return strings.Join(out, "|")
}

func TestWhatIsFound(t *testing.T) {
	r := rig.New(t)
	r.Onboard(hub, "cellar-hub", map[string]string{"site": "Kilnside"})
	r.Onboard("hub-saltmarsh", "cellar-hub", map[string]string{"site": "Saltmarsh"})
	if o := write(r, hub, "boot\nWARN: no link\n{\"level\":\"error\",\"text\":\"Radio gone\"}\n{\"level\":\"error\"}"); o.Kept != 3 || len(o.Refused) != 1 || o.Refused[0].Pointer != "/3" {
		t.Fatalf("taken: %+v", o)
	}
	write(r, "hub-saltmarsh", "boot of another")
	for _, c := range []struct {
		f    logs.Filter
		want string
	}{
		{logs.Filter{}, "3 error Radio gone|2 warn WARN: no link|1 info boot"},
		{logs.Filter{Level: logline.Warn}, "3 error Radio gone|2 warn WARN: no link"},
		{logs.Filter{Text: "radio"}, "3 error Radio gone"},
		{logs.Filter{Text: "%"}, ""},
		{logs.Filter{Before: 2}, "1 info boot"},
		{logs.Filter{After: 1}, "2 warn WARN: no link|3 error Radio gone"},
		{logs.Filter{Limit: 1}, "3 error Radio gone"},
		{logs.Filter{From: r.Now().Add(time.Minute)}, ""},
		{logs.Filter{To: r.Now().Add(time.Minute), Limit: 1}, "3 error Radio gone"},
	} {
		c.f.Device = hub
		if got := texts(t, r, c.f); got != c.want {
			t.Errorf("%+v finds %q, want %q", c.f, got, c.want)
		}
	}
	// Whoever follows is told at once, and of nothing twice.
	ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
	defer stop()
	next := make(chan []logs.Line, 1)
	go func() {
		ls, _ := r.Logs.Follow(ctx, logs.Filter{Device: hub, After: 3, Limit: 10})
		next <- ls
	}()
	time.Sleep(20 * time.Millisecond)
	write(r, hub, "a fourth")
	if ls := <-next; len(ls) != 1 || ls[0].Text != "a fourth" {
		t.Errorf("who follows is told %v", ls)
	}
	// It is there after a restart, and gone when it is forgotten.
	r.Restart(false)
	if got := texts(t, r, logs.Filter{Device: hub, Limit: 1}); got != "4 info a fourth" {
		t.Errorf("after a restart: %q", got)
	}
	write(r, hub, "a fifth")
	r.Must(r.Logs.Forget(hub))
	if got := texts(t, r, logs.Filter{Device: hub}); got != "" {
		t.Errorf("forgotten, it is %q", got)
	}
	if got := texts(t, r, logs.Filter{Device: "hub-saltmarsh"}); got != "1 info boot of another" {
		t.Errorf("another one's is %q", got)
	}
	r.Access.Grant("master", person.Grants{{Role: person.Viewer, Access: `label.site == "Kilnside"`}})
	master := r.Access.Caller("master", "")
	for id, sees := range map[string]bool{hub: true, "hub-saltmarsh": false} {
		if _, err := r.Fleet.FindLog(t.Context(), master, logs.Filter{Device: id, Limit: 1}); (err == nil) != sees {
			t.Errorf("%s, to somebody who sees Kilnside: %v", id, err)
		}
	}
	if _, err := r.Fleet.FindLog(t.Context(), access.Caller{}, logs.Filter{Device: hub, Limit: 1}); err == nil {
		t.Error("nobody is told")
	}
}

// TestBounds: lines, age and rate are bounded, whatever a device sends.
func TestBounds(t *testing.T) {
	r := rig.New(t)
	r.Onboard(hub, "cellar-hub", nil)
	publishShortLog(t, r)
	r.Onboard("lid-1", "short-log", nil)
	for i := range 3 {
		if o := write(r, "lid-1", strings.Repeat(fmt.Sprintf("line of %d\n", i), 30)); o.Kept != 30 {
			t.Fatalf("kept %d: %v", o.Kept, o.Err)
		}
	}
	ls, err := r.Logs.Find(t.Context(), logs.Filter{Device: "lid-1", Limit: 1000})
	r.Must(err)
	if len(ls) != 40 || ls[0].Number != 90 || ls[39].Number != 51 {
		t.Errorf("%d lines are kept, from %d to %d; the model keeps 40", len(ls), ls[len(ls)-1].Number, ls[0].Number)
	}
	if b := r.Logs.Bound(hub); b != logs.Usual {
		t.Errorf("a model that says nothing keeps %+v", b)
	}
	// One that floods is refused, and its neighbours are not.
	flooded := false
	for range 10 {
		o := write(r, hub, strings.Repeat("flood\n", logline.MaxLines))
		flooded = flooded || o.Err != nil && o.Err.Code == fault.TooMany
	}
	if !flooded {
		t.Error("10,000 lines at once were taken")
	}
	if o := write(r, "lid-1", "calm"); o.Kept != 1 {
		t.Errorf("beside it: %+v", o)
	}
	if o := write(r, "lid-1", " \n "); o.Err == nil || o.Err.Code != fault.Invalid {
		t.Errorf("nothing at all: %+v", o)
	}
}

func publishShortLog(t *testing.T, r *rig.Rig) {
	t.Helper()
	src := `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel","title":"Lid","version":{"model":"1.0.0"},
		"ullage:name":"short-log","ullage:interval":"60s","ullage:log_lines":40,"ullage:log_keep":"1d","properties":{"x":{"type":"number","readOnly":true,"ullage:role":"telemetry"}}}`
	_, _, err := r.Models.Publish(t.Context(), []byte(src), nil, "mara")
	r.Must(err)
	for _, bad := range []string{`"ullage:log_lines":0`, `"ullage:log_lines":1e9`, `"ullage:log_lines":"40"`, `"ullage:log_lines":4.5`} {
		if _, _, err := r.Models.Publish(t.Context(), []byte(strings.Replace(src, `"ullage:log_lines":40`, bad, 1)), nil, "mara"); err == nil || !strings.Contains(err.Error(), "log") {
			t.Errorf("%s: %v", bad, err)
		}
	}
	if _, _, err := r.Models.Publish(t.Context(), []byte(strings.Replace(src, `"1d"`, `"5s"`, 1)), nil, "mara"); err == nil {
		t.Error("a log that is kept for five seconds was taken")
	}
}
