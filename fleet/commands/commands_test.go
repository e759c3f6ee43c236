package commands_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/fleet/commands"
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

func give(r *rig.Rig, name, input string, e commands.Expiry) commands.Command {
	r.T.Helper()
	c, err := r.Commands.Give(r.T.Context(), tank, name, json.RawMessage(input), e, "mara")
	r.Must(err)
	return c
}

func reply(r *rig.Rig, device, body string) ingest.Outcome {
	return r.SendMessage(ingest.Message{Device: device, Kind: ingest.Reply, Body: []byte(body)})
}

func phase(r *rig.Rig, id string) commands.Phase {
	r.T.Helper()
	c, err := r.Commands.Get(r.T.Context(), tank, id)
	r.Must(err)
	return c.Phase
}

func TestWhatMayBeGiven(t *testing.T) {
	r := newRig(t)
	r.Onboard("bung-saltmarsh-112", "cask-bung", nil)
	for _, c := range []struct {
		device, name, input string
		code                fault.Code
		says                string
	}{
		{tank, "identify", ``, "", ""},
		{tank, "identify", `{}`, "", ""},
		{tank, "identify", `{"loud":true}`, fault.Invalid, "must be empty"},
		{tank, "zero_level", `{"reference_cm":30}`, "", ""},
		{tank, "zero_level", `{"reference_cm":900}`, fault.Invalid, "0 to 400 cm"},
		{tank, "zero_level", `{}`, fault.Invalid, "reference_cm"},
		{tank, "zero_level", ``, fault.Invalid, "reference_cm"},
		{tank, "zero_level", `{`, fault.Invalid, "not JSON"},
		{tank, "zero_levl", `{}`, fault.NotFound, "did you mean zero_level?"},
		{tank, "weigh", ``, fault.NotFound, "it has identify, zero_level"},
		{"bung-saltmarsh-112", "identify", ``, fault.NotFound, "has no command"},
		{"tank-nowhere-01", "identify", ``, fault.NotFound, "tank-nowhere-01"},
	} {
		_, err := r.Commands.Give(t.Context(), c.device, c.name, json.RawMessage(c.input), commands.Expiry{}, "mara")
		if rig.Code(err) != c.code || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s %s %s: %v, want %s with %q", c.device, c.name, c.input, err, c.code, c.says)
		}
	}
	if _, err := r.Devices.SetStatus(t.Context(), "bung-saltmarsh-112", "suspended", "mara"); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Commands.Give(t.Context(), "bung-saltmarsh-112", "identify", nil, commands.Expiry{}, "mara"); rig.Code(err) != fault.Conflict {
		t.Errorf("a suspended device gives %v", err)
	}
	for i := 3; ; i++ {
		if _, err := r.Commands.Give(t.Context(), tank, "identify", nil, commands.Expiry{}, "mara"); err != nil {
			if rig.Code(err) != fault.TooMany || i != 20 {
				t.Errorf("command %d gives %v", i, err)
			}
			break
		}
	}
}

func TestReplies(t *testing.T) {
	r := newRig(t)
	r.Onboard("tank-fennimore-08", "tank-probe", nil)
	did, could, odd := give(r, "zero_level", `{"reference_cm":30}`, commands.Expiry{}), give(r, "identify", "",
		commands.Expiry{}), give(r, "zero_level", `{"reference_cm":31}`, commands.Expiry{})
	for _, c := range []struct {
		device, body string
		code         fault.Code
		kept, wrong  int
	}{
		{tank, `{"id":"` + did.ID + `","output":{"offset_cm":-0.7}}`, "", 1, 0},
		{tank, `{"id":"` + did.ID + `","error":"again"}`, "", 0, 0}, // a second reply changes nothing
		{tank, `{"id":"` + could.ID + `","error":"the lamp is broken"}`, "", 1, 0},
		{tank, `{"id":"` + odd.ID + `","output":{"offset_cm":"much"}}`, "", 1, 1},
		{"tank-fennimore-08", `{"id":"` + odd.ID + `"}`, fault.NotFound, 0, 0}, // somebody else's
		{tank, `{"id":"nothing"}`, fault.NotFound, 0, 0},
		{tank, `{"id":""}`, fault.Invalid, 0, 0},
		{tank, `{"id":"x","output":{},"error":"both"}`, fault.Invalid, 0, 0},
		{tank, `[]`, fault.Invalid, 0, 0},
	} {
		o := reply(r, c.device, c.body)
		code := fault.Code("")
		if o.Err != nil {
			code = o.Err.Code
		}
		if code != c.code || o.Kept != c.kept || len(o.Refused) != c.wrong {
			t.Errorf("%s from %s gives %+v", c.body, c.device, o)
		}
	}
	cs, err := r.Commands.List(t.Context(), commands.Filter{Device: tank})
	r.Must(err)
	got := []string{}
	for _, c := range cs {
		got = append(got, fmt.Sprintf("%s %s %s%s", c.Name, c.Phase, c.Output, c.Error))
	}
	want := `zero_level done |identify failed the lamp is broken|zero_level done {"offset_cm":-0.7}`
	if strings.Join(got, "|") != want {
		t.Errorf("the commands are %q, want %q", strings.Join(got, "|"), want)
	}
	if js := r.Journal(fact.CommandReplied); len(js) != 3 || !strings.Contains(js[1], "could not identify: the lamp is broken") {
		t.Errorf("the journal says %q", js)
	}
	if len(r.Commands.Waiting(tank)) != 0 {
		t.Error("commands wait after every one was replied to")
	}
}

func TestExpiry(t *testing.T) {
	r := newRig(t)
	short := give(r, "identify", "", commands.Expiry{})
	long := give(r, "identify", "", commands.Expiry{After: time.Hour})
	sleeping := give(r, "identify", "", commands.Expiry{NextContact: true})
	r.Pass(59 * time.Second)
	if p := phase(r, short.ID); p != commands.Waiting {
		t.Errorf("a second before its end it is %s", p)
	}
	r.Pass(2 * time.Second)
	if p := phase(r, short.ID); p != commands.Expired {
		t.Errorf("after its end it is %s", p)
	}
	r.Restart(true)
	r.Pass(25 * 24 * time.Hour)
	if a, b := phase(r, long.ID), phase(r, sleeping.ID); a != commands.Expired || b != commands.Waiting {
		t.Errorf("after weeks they are %s and %s", a, b)
	}
	// The sleeper comes, and has a minute from there.
	m, open := r.Commands.HandOver(tank, sleeping.ID)
	if !open || m.Expires.Sub(r.Clock.Now()) != commands.Usually {
		t.Errorf("handed over: %+v, %v", m, open)
	}
	r.Settle()
	r.Restart(true) // that it was sent outlives a crash
	r.Pass(61 * time.Second)
	if p := phase(r, sleeping.ID); p != commands.Expired {
		t.Errorf("a minute after the contact it is %s", p)
	}
	// A reply that comes too late still tells what happened.
	if o := reply(r, tank, `{"id":"`+sleeping.ID+`"}`); o.Err != nil || phase(r, sleeping.ID) != commands.Done {
		t.Errorf("a late reply gives %+v", o)
	}
	if js := r.Journal(fact.CommandReplied); len(js) != 1 || !strings.Contains(js[0], "after it was expired") {
		t.Errorf("the journal says %q", js)
	}
}

func TestDueAgain(t *testing.T) {
	r := newRig(t)
	c := give(r, "identify", "", commands.Expiry{})
	due, next := r.Commands.Due(tank)
	if len(due) != 1 || !next.IsZero() {
		t.Fatalf("at first %v, %v", due, next)
	}
	r.Commands.HandOver(tank, c.ID)
	r.Settle()
	if due, next = r.Commands.Due(tank); len(due) != 0 || next.Sub(r.Clock.Now()) != 10*time.Second {
		t.Errorf("just after it was handed over %v, %v", due, next)
	}
	r.Clock.Forward(10 * time.Second)
	if due, _ = r.Commands.Due(tank); len(due) != 1 {
		t.Errorf("without a reply it does not come again: %v", due)
	}
	w, err := r.Commands.Withdraw(t.Context(), tank, c.ID, "mara")
	if err != nil || w.Phase != commands.Withdrawn {
		t.Errorf("withdrawn: %+v, %v", w, err)
	}
	if _, open := r.Commands.HandOver(tank, c.ID); open {
		t.Error("what was withdrawn is handed over")
	}
	if _, err := r.Commands.Withdraw(t.Context(), tank, c.ID, "mara"); rig.Code(err) != fault.Conflict {
		t.Errorf("withdrawn twice: %v", err)
	}
}

func TestAwait(t *testing.T) {
	r := newRig(t)
	c := give(r, "identify", "", commands.Expiry{})
	ended := make(chan commands.Command)
	go func() {
		x, _ := r.Commands.Await(context.Background(), c)
		ended <- x
	}()
	reply(r, tank, `{"id":"`+c.ID+`"}`)
	if x := <-ended; x.Phase != commands.Done {
		t.Errorf("it ended as %s", x.Phase)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if x, err := r.Commands.Await(ctx, give(r, "identify", "", commands.Expiry{})); err != nil || x.Phase != commands.Waiting {
		t.Errorf("without patience it is %s, %v", x.Phase, err)
	}
}

func TestParseExpiry(t *testing.T) {
	for s, want := range map[string]commands.Expiry{
		"": {}, "90s": {After: 90 * time.Second}, "next contact": {NextContact: true}, "next-contact": {NextContact: true}, "30d": {After: 720 * time.Hour},
	} {
		if got, err := commands.ParseExpiry(s); err != nil || got != want {
			t.Errorf("%q is %+v, %v", s, got, err)
		}
	}
	for _, s := range []string{"soon", "0s", "31d", "-5s"} {
		if got, err := commands.ParseExpiry(s); err == nil {
			t.Errorf("%q is %+v", s, got)
		}
	}
}

func TestEvents(t *testing.T) {
	r := rig.New(t)
	r.Onboard("air-kilnside-2", "cellar-air", nil)
	for _, c := range []struct {
		kind, body  string
		kept, wrong int
		says        string
	}{
		{"event/muted", `{"minutes":5}`, 1, 0, ""},
		{"event/muted", `{"minutes":500}`, 0, 1, ""},
		{"event/muted", ``, 0, 1, ""},
		{"event/muted", `{"minutes":`, 0, 0, "not JSON"},
		{"event/mutd", `{}`, 0, 0, "did you mean muted?"},
		{"event/", `{}`, 0, 0, "has no event"},
	} {
		o := r.SendMessage(ingest.Message{Device: "air-kilnside-2", Kind: ingest.Kind(c.kind), Body: []byte(c.body)})
		says := ""
		if o.Err != nil {
			says = o.Err.Error()
		}
		if o.Kept != c.kept || len(o.Refused) != c.wrong || !strings.Contains(says, c.says) ||
			(says == "") != (c.says == "") {
			t.Errorf("%s %s gives %+v", c.kind, c.body, o)
		}
	}
	again := ingest.Message{Device: "air-kilnside-2", Kind: "event/muted", Body: []byte(`{"minutes":6}`), PacketID: 7}
	if o := r.SendMessage(again); o.Kept != 1 {
		t.Fatalf("it gives %+v", o)
	}
	again.Dup = true
	if o := r.SendMessage(again); !o.Redelivered || o.Kept != 0 {
		t.Errorf("a redelivery gives %+v", o)
	}
	if js := r.Journal(fact.EventSent); strings.Join(js, "|") != `it sent the event muted {"minutes":5}|it sent the event muted {"minutes":6}` {
		t.Errorf("the journal says %q", js)
	}
}
