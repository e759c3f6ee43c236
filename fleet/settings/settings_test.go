package settings_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"ullage/core/value"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/test/rig"
)

const tank = "tank-fennimore-07"

func newRig(t *testing.T) *rig.Rig {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	return r
}

func report(r *rig.Rig, body string) ingest.Outcome {
	return r.SendMessage(ingest.Message{Device: tank, Kind: ingest.Applied, Body: []byte(body)})
}

func TestDocumentIsAlwaysWhole(t *testing.T) {
	r := newRig(t)
	doc, err := r.Settings.Document(tank)
	r.Must(err)
	b, err := json.Marshal(doc)
	r.Must(err)
	if want := `{"revision":1,"intended":{"display_unit":"Cel","max_temp":32,"report_every":10,"stir_at":28}}`; string(b) != want {
		t.Errorf("the document is %s, want %s", b, want)
	}
	_, err = r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": 30.0}, nil, "mara")
	r.Must(err)
	doc, err = r.Settings.Document(tank)
	r.Must(err)
	if doc.Revision != 2 || len(doc.Intended) != 4 || doc.Intended["max_temp"] != value.OfNumber(30) {
		t.Errorf("after a change it is %+v", doc)
	}
}

func TestRevisionsOnlyWhereSomethingChanged(t *testing.T) {
	r := newRig(t)
	set := func(v map[string]any, unset ...string) int64 {
		s, err := r.Settings.Set(t.Context(), tank, v, unset, "mara")
		r.Must(err)
		return s.Revision
	}
	for i, c := range []struct {
		got, want int64
		what      string
	}{
		{set(map[string]any{"max_temp": 30.0}), 2, "a change"},
		{set(map[string]any{"max_temp": 30.0}), 2, "the same again"},
		{set(map[string]any{"stir_at": 28.0}), 2, "setting the default"},
		{set(nil, "stir_at"), 2, "taking the default off"},
		{set(nil, "max_temp"), 3, "taking off"},
		{set(nil, "max_temp"), 3, "taking off what is not set"},
	} {
		if c.got != c.want {
			t.Errorf("%d, %s: revision %d, want %d", i, c.what, c.got, c.want)
		}
	}
}

func TestSetRefusesTheWholeChange(t *testing.T) {
	r := newRig(t)
	_, err := r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": 30.0, "stir_at": 99.0, "max_tmp": 1.0},
		[]string{"nope"}, "mara")
	f := fault.From(err)
	if f == nil || f.Code != fault.Invalid || len(f.Findings) != 3 ||
		!strings.Contains(f.Error(), "between 10 and 35 °C") {
		t.Errorf("it gives %v", err)
	}
	if s, _, _ := r.Settings.Of(tank); s.Revision != 1 || len(s.Override) != 0 {
		t.Errorf("part of it was kept: %+v", s)
	}
	if _, err := r.Settings.Set(t.Context(), "tank-nowhere-01", nil, nil, "mara"); rig.Code(err) != fault.NotFound {
		t.Errorf("an unknown device: %v", err)
	}
}

func TestAppliedAndRefused(t *testing.T) {
	r := newRig(t)
	r.Keep(tank, `{"ullage":30}`)
	if o := report(r, `{"revision":1,"applied":{"max_temp":32,"report_every":10,"stir_at":26,"display_unit":"Cel"},"refused":{"stir_at":"above 26 °C while sealed"}}`); o.Err != nil || o.Kept != 4 {
		t.Fatalf("the report gives %+v", o)
	}
	s, _, err := r.Settings.Of(tank)
	r.Must(err)
	d := s.Drift()
	if !s.Confirmed() || len(d) != 1 || d[0].Name != "stir_at" || d[0].Reason != "above 26 °C while sealed" ||
		s.DriftSince.IsZero() {
		t.Errorf("state %+v, drift %+v", s, d)
	}
	if got := r.Journal(fact.SettingRefused); len(got) != 1 ||
		!strings.Contains(got[0], "stir_at stayed 26 instead of 28: above 26 °C while sealed") {
		t.Errorf("the journal tells %q", got)
	}
	if h := r.Device(tank).Health; h != "sound" {
		t.Errorf("fresh drift makes it %s", h)
	}
	r.Keep(tank, `{"ullage":30}`)
	for range 16 {
		r.Pass(time.Minute)
		r.Keep(tank, `{"ullage":30}`)
	}
	if dev := r.Device(tank); dev.Health != "watch" || dev.Drifting[0] != "stir_at" {
		t.Errorf("after 16 minutes of drift it is %s, %v", dev.Health, dev.Reasons)
	}
	_, err = r.Settings.Set(t.Context(), tank, map[string]any{"stir_at": 25.0}, nil, "mara")
	r.Must(err)
	r.Settle()
	if dev := r.Device(tank); dev.Health != "sound" || len(dev.Drifting) != 0 {
		t.Errorf("with a new revision on its way it is %s, %v", dev.Health, dev.Drifting)
	}
	report(r, `{"revision":2,"applied":{"max_temp":32,"report_every":10,"stir_at":25,"display_unit":"Cel"}}`)
	if got := r.Journal(fact.SettingApplied); len(got) != 1 || got[0] != "it applied revision 2" {
		t.Errorf("the journal tells %q", got)
	}
	r.Restart(false)
	if s, _, _ := r.Settings.Of(tank); !s.Confirmed() || len(s.Drift()) != 0 || s.Revision != 2 {
		t.Errorf("after a restart %+v", s)
	}
}

func TestReportsOfOldRevisionsAreNoDrift(t *testing.T) {
	r := newRig(t)
	_, err := r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": 30.0}, nil, "mara")
	r.Must(err)
	report(r, `{"revision":1,"applied":{"max_temp":32}}`)
	if s, _, _ := r.Settings.Of(tank); s.Confirmed() || len(s.Drift()) != 0 {
		t.Errorf("state %+v", s)
	}
}

func TestDriftLater(t *testing.T) {
	r := newRig(t)
	whole := `"report_every":10,"stir_at":28,"display_unit":"Cel"}}`
	report(r, `{"revision":1,"applied":{"max_temp":32,`+whole)
	report(r, `{"revision":1,"applied":{"max_temp":35,`+whole)
	if s, _, _ := r.Settings.Of(tank); len(s.Drift()) != 1 {
		t.Errorf("somebody turned the knob on the device, and drift is %v", s.Drift())
	}
	if o := report(r, `{"revision":1,"applied":{"max_temp":"warm","colour":1}}`); len(o.Refused) != 2 {
		t.Errorf("a report with mistakes gives %+v", o)
	}
}

func TestKeptByService(t *testing.T) {
	r := rig.New(t)
	r.Onboard("bung-saltmarsh-112", "cask-bung", nil)
	s, err := r.Settings.Set(t.Context(), "bung-saltmarsh-112", map[string]any{"battery_low": 2.6}, nil, "mara")
	r.Must(err)
	doc, err := r.Settings.Document("bung-saltmarsh-112")
	r.Must(err)
	if s.Revision != 1 || len(doc.Intended) != 0 {
		t.Errorf("a setting kept by the service went into the document: %+v", doc)
	}
	m, err := r.Models.Get("cask-bung")
	r.Must(err)
	if v := r.Settings.Effective("bung-saltmarsh-112", m, "battery_low"); v != value.OfNumber(2.6) {
		t.Errorf("in force is %v", v)
	}
}

func TestEffectiveBeforeAndAfterConfirmation(t *testing.T) {
	r := newRig(t)
	m, err := r.Models.Get("tank-probe")
	r.Must(err)
	_, err = r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": 30.0}, nil, "mara")
	r.Must(err)
	if v := r.Settings.Effective(tank, m, "max_temp"); v != value.OfNumber(30) {
		t.Errorf("before the first confirmation it is %v", v)
	}
	report(r, `{"revision":1,"applied":{"max_temp":32}}`)
	if v := r.Settings.Effective(tank, m, "max_temp"); v != value.OfNumber(32) {
		t.Errorf("the device runs on 32, and it is %v", v)
	}
	if v := r.Settings.Effective(tank, m, "no_such"); v.Known() {
		t.Errorf("a setting that does not exist is %v", v)
	}
}

func TestChangedWakes(t *testing.T) {
	r := newRig(t)
	_, err := r.Settings.Document(tank)
	r.Must(err)
	select {
	case <-r.Settings.Changed(tank, 99):
	default:
		t.Error("another revision than the device has does not wake it")
	}
	wait := r.Settings.Changed(tank, 1)
	select {
	case <-wait:
		t.Fatal("woken without a change")
	default:
	}
	_, err = r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": 30.0}, nil, "mara")
	r.Must(err)
	select {
	case <-wait:
	case <-time.After(30 * time.Second):
		t.Error("not woken by a change")
	}
}

func TestNewModelRevises(t *testing.T) {
	r := newRig(t)
	_, err := r.Settings.Document(tank)
	r.Must(err)
	m, err := r.Models.Get("tank-probe")
	r.Must(err)
	src := strings.Replace(string(m.Source), `"default": 28`, `"default": 27`, 1)
	_, changed, err := r.Models.Publish(t.Context(), []byte(strings.Replace(src, "1.2.0", "1.3.0", 1)), nil, "mara")
	r.Must(err)
	_, err = r.Devices.Move(t.Context(), tank, "1.3.0", "mara")
	r.Must(err)
	doc, err := r.Settings.Document(tank)
	r.Must(err)
	if !changed || doc.Revision != 2 || doc.Intended["stir_at"] != value.OfNumber(27) {
		t.Errorf("with another default the document is %+v", doc)
	}
}
