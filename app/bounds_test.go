package app_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/fleet/alarms"
	"ullage/fleet/fact"
	"ullage/fleet/ingest"
	"ullage/test/rig"
)

const loose = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel",
	"title":"Loose probe","version":{"model":"1.0.0"},"ullage:name":"loose-probe","ullage:interval":"1min","ullage:additional":true,
	"properties":{"must_temp":{"type":"number","unit":"Cel","readOnly":true,"ullage:role":"telemetry"}},
	"events":{"muted":{"data":{"type":"object","properties":{"minutes":{"type":"integer"}}}}}}`

// However many names a device makes up, only so many become series.
func TestAdditionalMetricsAreBounded(t *testing.T) {
	r := rig.New(t)
	_, _, err := r.Models.Publish(t.Context(), []byte(loose), nil, "tester")
	r.Must(err)
	for _, id := range []string{"loose-1", "loose-2"} {
		r.Onboard(id, "loose-probe", nil)
	}
	kept := 0
	for i := range 60 {
		var parts []string
		for k := range 10 {
			parts = append(parts, fmt.Sprintf(`"x_%d":%d`, i*10+k, k))
		}
		o := r.Send("loose-1", `{"must_temp":20,`+strings.Join(parts, ",")+`}`)
		kept += o.Kept
		if i == 59 && (len(o.Refused) != 10 || !strings.Contains(o.Refused[0].Sentence, "200 metrics already")) {
			t.Errorf("at the end refused are %v, want all ten with the limit", o.Refused)
		}
		if i == 30 {
			r.Restart(true) // what it has is counted on
		}
	}
	if got := len(r.Store.Metrics("loose-1")); got != ingest.MaxAdditional+1 || kept != 200+60 {
		t.Errorf("it has %d metrics and %d readings were kept, want 201 and 260", got, kept)
	}
	if o := r.Send("loose-2", `{"x_900":1}`); o.Kept != 1 {
		t.Errorf("another device meets %+v, want its reading kept", o)
	}
	r.Restart(false)
	if as := open(r, alarms.TooManyMetrics); len(as) != 0 {
		t.Errorf("after a restart stand %+v, want none until it is tried again", as)
	}
	r.Send("loose-1", `{"x_999":1}`)
	r.Watch(t.Context())
	r.Settle()
	as := open(r, alarms.TooManyMetrics)
	if len(as) != 1 || !strings.Contains(as[0].Message, "loose-1 sends more than 200 metrics") {
		t.Fatalf("the alarms are %+v, want one about loose-1", as)
	}
	r.Clock.Forward(2 * time.Hour)
	r.Watch(t.Context())
	r.Settle()
	if back := r.Journal(fact.AlarmReturned); len(back) != 1 {
		t.Errorf("two hours later it returned %q, want once", back)
	}
}

// Events are entries of the journal, so there are so many an hour.
func TestEventsAreBounded(t *testing.T) {
	r := rig.New(t)
	_, _, err := r.Models.Publish(t.Context(), []byte(loose), nil, "tester")
	r.Must(err)
	r.Onboard("loose-1", "loose-probe", nil)
	refused := ""
	for i := range 700 {
		m := ingest.Message{Device: "loose-1", Kind: "event/muted", Body: fmt.Appendf(nil, `{"minutes":%d}`, i)}
		if o := r.SendMessage(m); o.Err != nil {
			refused = o.Err.Error()
		}
	}
	r.Settle()
	if got := len(r.Journal(fact.EventSent)); got > 600 || got < 500 || !strings.Contains(refused, "600 events within an hour") {
		t.Errorf("%d events are told and the rest is refused with %q, want at most 600 and why", got, refused)
	}
}
