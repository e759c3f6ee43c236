package ingest_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/app"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/traffic"
	"ullage/store"
	"ullage/test/rig"
)

func TestReadingsAreDurableAndSeen(t *testing.T) {
	r := rig.New(t)
	r.Onboard("tank-fennimore-07", "tank-probe", nil)
	o := r.Send("tank-fennimore-07", `{"must_temp":"hot","ullage":31.5,"battery":3.8}`)
	if o.Err != nil || o.Kept != 2 || len(o.Refused) != 1 || len(o.Marked) != 1 {
		t.Fatalf("the outcome is %+v", o)
	}
	ps := r.Points("tank-fennimore-07", "battery")
	if len(ps) != 1 || ps[0].Value != value.OfNumber(3.8) || ps[0].Quality != value.BeyondRange ||
		!ps[0].At.Equal(rig.Start) {
		t.Errorf("stored is %+v", ps)
	}
	d := r.Device("tank-fennimore-07")
	if d.Latest["ullage"].Value != value.OfNumber(31.5) || d.Status != devices.Active || d.Link != "online" {
		t.Errorf("the device now is %+v", d)
	}
	es := r.Traffic.Recent(traffic.Filter{Device: "tank-fennimore-07"})
	if len(es) != 1 || !es[0].Refusal() || !strings.Contains(es[0].Refused[0].Sentence,
		"the model wants a number in °C") {
		t.Errorf("the traffic shows %+v", es)
	}
}

func TestRefusedWhole(t *testing.T) {
	r := rig.New(t)
	r.Onboard("tank-fennimore-07", "tank-probe", nil)
	for _, c := range []struct {
		m    ingest.Message
		code fault.Code
	}{
		{ingest.Message{Kind: ingest.Readings, Body: []byte(`{"must_temp":`)}, fault.Invalid},
		{ingest.Message{Kind: ingest.Readings, Body: []byte(`{"must_temp":1}`), ContentType: "application/cbor"}, fault.Invalid},
		{ingest.Message{Kind: "weather", Body: []byte(`{}`)}, fault.NotFound},
		{ingest.Message{Kind: ingest.Applied, Body: []byte(`{"applied":{}}`)}, fault.Invalid},
		{ingest.Message{Kind: ingest.About, Body: []byte(`[]`)}, fault.Invalid},
	} {
		c.m.Device = "tank-fennimore-07"
		o := r.SendMessage(c.m)
		if o.Err == nil || o.Err.Code != c.code || o.Kept != 0 {
			t.Errorf("%s %s gives %+v, want %s", c.m.Kind, c.m.Body, o, c.code)
		}
	}
	if _, messages, refused := r.Intake.Counts(); messages != 5 || refused != 5 {
		t.Errorf("%d messages, %d refused", messages, refused)
	}
	if d := r.Device("tank-fennimore-07"); d.Health != "watch" || d.Refusals != 5 {
		t.Errorf("after five refusals it is %s, %v", d.Health, d.Reasons)
	}
	if as := r.OpenAlarms(); len(as) != 1 || as[0].Rule != "repeated_refusals" {
		t.Errorf("open alarms are %+v", as)
	}
	r.Pass(2 * time.Hour)
	if as := r.OpenAlarms(); len(as) != 1 || as[0].State.Holds() {
		t.Errorf("two quiet hours later %+v", as)
	}
}

func TestRedelivery(t *testing.T) {
	r := rig.New(t)
	r.Onboard("bung-saltmarsh-112", "cask-bung", nil)
	send := func(body string, id uint16, dup bool) ingest.Outcome {
		r.Clock.Forward(time.Second)
		return r.SendMessage(ingest.Message{Device: "bung-saltmarsh-112", Kind: ingest.Readings, Body: []byte(body),
			PacketID: id, Dup: dup})
	}
	count := func() int { return len(r.Points("bung-saltmarsh-112", "battery")) }
	send(`{"battery":2.6}`, 7, false)
	if o := send(`{"battery":2.6}`, 7, true); !o.Redelivered || o.Err != nil || count() != 1 {
		t.Errorf("the redelivery gives %+v, and %d readings are stored", o, count())
	}
	if o := send(`{"battery":2.6}`, 8, true); o.Redelivered || count() != 2 {
		t.Errorf("a redelivery of something lost on the way was not stored: %+v", o)
	}
	if o := send(`{"battery":2.6}`, 7, false); o.Redelivered || count() != 3 {
		t.Errorf("a new message with an old packet id was not stored: %+v", o)
	}
	r.Restart(true)
	if o := send(`{"battery":2.6}`, 7, true); !o.Redelivered || count() != 3 {
		t.Errorf("after a restart the redelivery gives %+v, and %d are stored", o, count())
	}
	timed := `{"at":"2026-03-09T13:00:00Z","battery":2.7}`
	send(timed, 9, false)
	send(timed, 9, true)
	if count() != 4 {
		t.Errorf("a timed message counts %d times", count()-3)
	}
}

func TestLastToArriveWins(t *testing.T) {
	r := rig.New(t)
	r.Onboard("bung-saltmarsh-112", "cask-bung", nil)
	for _, v := range []string{"2.7", "2.8", "2.75"} {
		r.Keep("bung-saltmarsh-112", `{"at":"2026-03-09T13:00:00.123Z","battery":`+v+`}`)
	}
	ps := r.Points("bung-saltmarsh-112", "battery")
	if len(ps) != 1 || ps[0].Value != value.OfNumber(2.75) || ps[0].At.Nanosecond() != 123_000_000 {
		t.Errorf("stored is %+v", ps)
	}
}

func TestClockRules(t *testing.T) {
	r := rig.New(t)
	r.Onboard("bung-saltmarsh-112", "cask-bung", nil)
	r.Send("bung-saltmarsh-112", `{"at":"2026-03-09T15:00:00Z","battery":2.6}`)
	r.Clock.Forward(time.Minute)
	r.Send("bung-saltmarsh-112", `{"at":"1970-01-01T00:01:00Z","battery":2.6}`)
	ps := r.Points("bung-saltmarsh-112", "battery")
	if len(ps) != 2 || ps[0].Quality != value.ClockAhead || !ps[0].At.Equal(rig.Start) ||
		ps[1].Quality != value.ClockNotSet || !ps[1].At.Equal(rig.Start.Add(time.Minute)) {
		t.Errorf("stored is %+v", ps)
	}
}

func TestAbout(t *testing.T) {
	r := rig.New(t)
	r.Onboard("tank-fennimore-07", "tank-probe", nil)
	o := r.SendMessage(ingest.Message{Device: "tank-fennimore-07", Kind: ingest.About,
		Body: []byte(`{"serial":"TH-1","firmware":"2.3.1","colour":"red"}`)})
	if o.Err != nil || o.Kept != 2 || len(o.Refused) != 1 {
		t.Errorf("the outcome is %+v", o)
	}
	if d := r.Device("tank-fennimore-07"); d.Attributes["firmware"] != value.OfText("2.3.1") {
		t.Errorf("attributes are %v", d.Attributes)
	}
	r.Restart(false)
	if d := r.Device("tank-fennimore-07"); d.Attributes["serial"] != value.OfText("TH-1") {
		t.Errorf("after a restart attributes are %v", d.Attributes)
	}
}

func TestBacklogDoesNotMakeADeviceOnline(t *testing.T) {
	r := rig.New(t)
	r.Onboard("hub-saltmarsh", "cellar-hub", nil)
	r.Keep("hub-saltmarsh", `{"backlog":1}`)
	r.Pass(10 * time.Minute)
	if d := r.Device("hub-saltmarsh"); d.Link != "silent" || d.Health != "dark" {
		t.Fatalf("after 10 minutes it is %s and %s", d.Link, d.Health)
	}
	r.Keep("hub-saltmarsh", fmt.Sprintf(`{"at":%q,"backlog":2}`, rig.Start.Add(2*time.Minute).Format(time.RFC3339)))
	if d := r.Device("hub-saltmarsh"); d.Link != "silent" {
		t.Errorf("an old reading makes it %s", d.Link)
	}
	r.Keep("hub-saltmarsh", `{"backlog":3}`)
	if d := r.Device("hub-saltmarsh"); d.Link != "online" || d.Health != "sound" {
		t.Errorf("a new reading makes it %s and %s", d.Link, d.Health)
	}
	if got := r.Journal("link changed"); len(got) != 3 || got[2] != "it is back" {
		t.Errorf("the journal tells %q", got)
	}
}

func TestSilenceAfterABacklogIsTold(t *testing.T) {
	r := rig.New(t)
	r.Onboard("hub-saltmarsh", "cellar-hub", nil)
	r.Keep("hub-saltmarsh", fmt.Sprintf(`{"at":%q,"backlog":2}`, rig.Start.Add(-6*time.Hour).Format(time.RFC3339)))
	r.Pass(2 * time.Minute)
	if got := r.Journal("link changed"); len(got) != 1 || got[0] != "it was heard for the first time" {
		t.Errorf("while more may come the journal tells %q", got)
	}
	r.Pass(2 * time.Minute)
	r.Keep("hub-saltmarsh", `{"backlog":3}`)
	if got := r.Journal("link changed"); len(got) != 3 || !strings.HasPrefix(got[1], "it fell silent") ||
		got[2] != "it is back" {
		t.Errorf("the journal tells %q", got)
	}
}

func TestFullDiskKeepsNothingAndForgetsNothing(t *testing.T) {
	r := rig.NewWith(t, app.Options{Store: store.Options{MaxBytes: 120 << 10}})
	r.Onboard("bung-saltmarsh-112", "cask-bung", nil)
	kept, full := 0, false
	for i := range 20_000 {
		m := ingest.Message{Device: "bung-saltmarsh-112", Kind: ingest.Readings, PacketID: uint16(i%60000 + 1),
			Body: fmt.Appendf(nil, `{"at":%q,"battery":2.6,"ullage":20,"pressure":101,"cask_temp":12}`,
				rig.Start.Add(-time.Duration(i)*time.Second).Format(time.RFC3339))}
		o := r.SendMessage(m)
		if o.Err != nil {
			if o.Err.Code != fault.Full {
				t.Fatalf("it is refused with %v", o.Err)
			}
			full = true
			break
		}
		kept++
	}
	if !full {
		t.Fatal("the disk never filled")
	}
	if n := len(r.Points("bung-saltmarsh-112", "battery")); n != kept {
		t.Errorf("%d are stored, %d were acknowledged", n, kept)
	}
	if _, _, refused := r.Intake.Counts(); refused != 0 {
		t.Errorf("our own failure was counted as %d refusals of the device", refused)
	}
}
