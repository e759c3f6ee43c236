package contact_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/core/layering"
	"ullage/fleet/access"
	"ullage/fleet/contact"
	"ullage/fleet/devices"
	"ullage/fleet/traffic"
	"ullage/test/rig"
	"ullage/transport/door"
)

const tank = "tank-fennimore-07"

// facts are those of the tank as they are now.
func facts(r *rig.Rig) contact.Facts {
	d, _ := r.Present.Get(tank)
	_, m, _ := r.Fleet.Registered(access.Whole("engineer"), tank)
	st, _, err := r.Fleet.Settings(access.Whole("engineer"), tank)
	r.Must(err)
	return contact.Facts{Device: d, Model: m, Credentials: r.Devices.Credentials(tank), Settings: st,
		Messages:  r.Traffic.Recent(traffic.Filter{Device: tank, Limit: 100}),
		Strangers: r.Traffic.Recent(traffic.Filter{Refused: true, Limit: 100}), Now: r.Clock.Now()}
}

// way writes the steps as one line each, with the beginning of what they say.
func way(steps []contact.Step) string {
	var out []string
	for _, s := range steps {
		out = append(out, fmt.Sprintf("%s %s: %s", s.Name, s.State, s.Says))
	}
	return strings.Join(out, "\n")
}

func TestSteps(t *testing.T) {
	r := rig.New(t)
	token := r.Onboard(tank, "tank-probe", nil)
	step := func(name string) contact.Step {
		for _, s := range contact.Steps(facts(r)) {
			if s.Name == name {
				return s
			}
		}
		t.Fatalf("there is no step %s", name)
		return contact.Step{}
	}
	expect := func(when, name string, state contact.State, says string) {
		t.Helper()
		if s := step(name); s.State != state || !strings.Contains(s.Says, says) {
			t.Errorf("%s, %s is %s %q, want %s with %q\n%s", when, name, s.State, s.Says, state, says, way(contact.Steps(facts(r))))
		}
	}
	expect("at first", contact.Reached, contact.Waiting, "nothing has come")
	r.Clock.Forward(time.Second)
	r.Door.Note("mqtt", "192.0.2.7:4711", "handshake", "it gave up")
	expect("after somebody gave up", contact.Reached, contact.Waiting, "192.0.2.7:4711, who may be it")
	expect("after somebody gave up", contact.Known, contact.Waiting, "")

	claim := door.Claim{Transport: "mqtt", Remote: "192.0.2.7:4712", TLS: "TLS 1.3", Device: tank, Named: true, Token: "12345678.wrong"}
	if _, err := r.Door.Admit(claim); err == nil {
		t.Fatal("a wrong token is let in")
	}
	expect("with a wrong token", contact.Reached, contact.Done, "192.0.2.7:4712, over MQTT and TLS")
	expect("with a wrong token", contact.Encrypted, contact.Done, "TLS 1.3")
	expect("with a wrong token", contact.Known, contact.Failed, "no token with this id")
	expect("with a wrong token", contact.Message, contact.Waiting, "")

	claim.Token = token
	v, err := r.Door.Admit(claim)
	r.Must(err)
	v.Arrived("")
	expect("connected", contact.Known, contact.Done, "token ")
	expect("connected", contact.Message, contact.Waiting, "has sent nothing")
	take := func(body string) {
		done := make(chan door.Verdict, 1)
		v.Take(door.Message{Name: "readings", Body: []byte(body)}, func(x door.Verdict) { done <- x })
		<-done
		r.Clock.Forward(time.Second)
	}
	take(`{"must_temp":"hot","ullage":30}`)
	expect("with a text for a number", contact.Reading, contact.Failed, "must_temp is text")
	take(`{"must_temp":21}`)
	expect("with a reading", contact.Reading, contact.Done, "1 kept")
	expect("with a reading", contact.Confirmed, contact.Waiting, "no answer yet")
	done := make(chan door.Verdict, 1)
	st, _, err := r.Fleet.Settings(access.Whole("engineer"), tank)
	r.Must(err)
	v.Take(door.Message{Name: "applied", Body: applied(st.Revision, st.Intended)}, func(x door.Verdict) { done <- x })
	<-done
	for _, s := range contact.Steps(facts(r)) {
		if s.State != contact.Done {
			t.Errorf("in the end %s is %s: %s", s.Name, s.State, s.Says)
		}
	}
	// With another credential the way begins anew.
	r.Clock.Forward(time.Minute)
	_, err = r.Devices.Rotate(t.Context(), tank, false, "engineer")
	r.Must(err)
	expect("with another credential", contact.Reached, contact.Waiting, "nothing has come")
}

func applied(revision int64, s layering.Settings) []byte {
	var parts []string
	for name, v := range s {
		b, _ := v.MarshalJSON()
		parts = append(parts, fmt.Sprintf("%q:%s", name, b))
	}
	return fmt.Appendf(nil, `{"revision":%d,"applied":{%s}}`, revision, strings.Join(parts, ","))
}

func TestDiagnose(t *testing.T) {
	r := rig.New(t)
	token := r.Onboard(tank, "tank-probe", nil)
	about := func() string {
		var out []string
		for _, f := range contact.Diagnose(facts(r)) {
			out = append(out, f.About+" "+f.Says)
		}
		return strings.Join(out, "\n")
	}
	expect := func(when, says string) {
		t.Helper()
		if got := about(); !strings.Contains(got, says) {
			t.Errorf("%s it says\n%s\nwant %q", when, got, says)
		}
	}
	expect("never heard", "address nothing has come from it")
	claim := door.Claim{Transport: "http", Remote: "192.0.2.7:1", Device: tank, Token: "12345678.wrong"}
	r.Door.Admit(claim)
	expect("with a wrong token", "credential its last attempt to connect, from 192.0.2.7:1, was refused: the token does not match")
	claim.Token = token
	v, err := r.Door.Admit(claim)
	r.Must(err)
	take := func(body string) {
		done := make(chan door.Verdict, 1)
		v.Take(door.Message{Name: "readings", Body: []byte(body)}, func(x door.Verdict) { done <- x })
		<-done
		r.Clock.Forward(time.Second)
	}
	take(`{"at":"1970-01-01T00:00:09Z","ullage":30}`)
	expect("with the clock of 1970", "clock ")
	take(`{"ullage":"much"}`)
	expect("after a refusal", "refusal messages refused within the last hour, in whole or in part: 1")
	if strings.Contains(about(), "its last attempt to connect") {
		t.Errorf("what was mended is still told:\n%s", about())
	}
	r.Pass(2 * time.Hour)
	expect("silent", "link it is silent")
	_, err = r.Devices.SetStatus(t.Context(), tank, devices.Suspended, "engineer")
	r.Must(err)
	r.Pass(time.Second)
	expect("suspended", "status "+tank+" is suspended")
	for _, c := range r.Devices.Credentials(tank) {
		r.Must(r.Devices.Revoke(t.Context(), tank, c.ID, "engineer"))
	}
	expect("with nothing that works", "credential none of its credentials works")
	_, err = r.Devices.SetStatus(t.Context(), tank, devices.Retired, "engineer")
	r.Must(err)
	r.Pass(time.Second)
	if got := about(); got != "status "+tank+" is retired" {
		t.Errorf("retired it says\n%s", got)
	}
}
