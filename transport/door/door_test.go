package door_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"ullage/app"
	"ullage/core/series"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/traffic"
	"ullage/test/rig"
	"ullage/transport/door"
)

const (
	tank = "tank-fennimore-07"
	hub  = "hub-fennimore"
)

type bench struct {
	*rig.Rig
	door   *door.Door
	tokens map[string]string
}

func newBench(t testing.TB, o app.Options, change func(*door.Limits)) *bench {
	t.Helper()
	b := &bench{Rig: rig.NewWith(t, o), tokens: map[string]string{}}
	b.door = b.DoorWith(b.Clock.Now, change)
	b.tokens[tank] = b.Onboard(tank, "tank-probe", nil)
	b.tokens[hub] = b.Onboard(hub, "cellar-hub", nil)
	return b
}

func (b *bench) admit(id, transport string) *door.Device {
	b.T.Helper()
	v, err := b.door.Admit(door.Claim{Transport: transport, Remote: "127.0.0.1:1", Device: id, Token: b.tokens[id]})
	b.Must(err)
	return v
}

// take sends a message and waits for its verdict.
func take(v *door.Device, name, body string) door.Verdict {
	done := make(chan door.Verdict, 1)
	v.Take(door.Message{Name: name, Body: []byte(body)}, func(o door.Verdict) { done <- o })
	return <-done
}

func TestAdmit(t *testing.T) {
	b := newBench(t, app.Options{}, nil)
	v := b.admit(tank, "mqtt")
	if v.ID != tank || v.Credential.Kind != devices.Token || v.Credential.ID == "" ||
		strings.Contains(b.tokens[tank][9:], v.Credential.ID) {
		t.Errorf("let in as %+v", v)
	}
	for _, c := range []struct {
		name  string
		claim door.Claim
		says  string
	}{
		{"nothing given", door.Claim{Missing: "no bearer token was given"}, "no bearer token was given"},
		{"unknown device", door.Claim{Device: "tank-nowhere-01", Token: b.tokens[tank]}, "there is no device"},
		{"another's token", door.Claim{Device: tank, Token: b.tokens[hub]}, "wrong bundle"},
		{"no id where one is wanted", door.Claim{Named: true, Token: b.tokens[tank]}, "no user name"},
		{"what the protocol wants", door.Claim{Device: tank, Token: b.tokens[tank], Check: func(id string) error { return fmt.Errorf("client id of %s", id) }}, "client id of " + tank},
	} {
		c.claim.Transport = "coap"
		_, err := b.door.Admit(c.claim)
		e := b.Traffic.Recent(traffic.Filter{Limit: 1})[0]
		if f := fault.From(err); rig.Code(err) != fault.Unauthenticated || f.Sentence != "not authorised" ||
			f.Ref == "" || f.Ref != e.Ref {
			t.Errorf("%s: the stranger hears %v, the ref in the traffic is %q", c.name, err, e.Ref)
		}
		if !strings.Contains(e.Reason, c.says) || e.Transport != "coap" {
			t.Errorf("%s: the traffic shows %+v, want %q", c.name, e, c.says)
		}
	}
	_, err := b.Devices.SetStatus(t.Context(), tank, devices.Suspended, "engineer")
	b.Must(err)
	if why, ok := v.MayStay(); ok || !strings.Contains(why, "suspended") {
		t.Errorf("a suspended device may stay: %v %q", ok, why)
	}
}

// A limit of a device holds for its sessions and requests together.
func TestLimitsHoldOverAllDoors(t *testing.T) {
	b := newBench(t, app.Options{}, func(l *door.Limits) { l.Rate, l.Connects, l.Sessions, l.Waits = 2, 3, 2, 1 })
	one, two, web := b.admit(tank, "mqtt"), b.admit(tank, "mqtt"), b.admit(tank, "http")
	other := b.admit(hub, "mqtt")
	for i := range 8 { // four seconds' worth may come at once
		v := []*door.Device{one, two}[i%2]
		if wait := v.Pace(); wait != 0 {
			t.Fatalf("message %d waits %s", i+1, wait)
		}
	}
	if err := web.Allow(); rig.Code(err) != fault.TooMany {
		t.Errorf("after what two sessions sent, a request gives %v, want too-many", err)
	}
	if wait := one.Pace(); wait != 500*time.Millisecond {
		t.Errorf("the ninth message waits %s, want 500ms", wait)
	}
	if err := other.Allow(); err != nil {
		t.Errorf("another device pays: %v", err)
	}
	b.Clock.Forward(10 * time.Second)
	if err := web.Allow(); err != nil {
		t.Errorf("later: %v", err)
	}
	for i, v := range []*door.Device{one, two, web, one} {
		if err := v.Connect(); (err != nil) != (i == 3) {
			t.Errorf("connection %d: %v", i+1, err)
		}
	}
	for i, v := range []*door.Device{one, web, two} {
		if err := v.Enter(); (err != nil) != (i == 2) {
			t.Errorf("session %d: %v", i+1, err)
		}
	}
	web.Leave()
	if err := two.Enter(); err != nil {
		t.Errorf("after one left: %v", err)
	}
	done, err := web.Await()
	b.Must(err)
	if _, err := one.Await(); rig.Code(err) != fault.TooMany {
		t.Errorf("a second wait gives %v, want too-many", err)
	}
	done()
	if _, err := one.Await(); err != nil {
		t.Errorf("after the first is over: %v", err)
	}
}

func TestSpeakingForOthers(t *testing.T) {
	b := newBench(t, app.Options{}, nil)
	v := b.admit(hub, "mqtt")
	for name, says := range map[string]string{
		"for/" + tank + "/readings":        "which names no hub",
		"for/tank-nowhere-01/readings":     "there is no such device",
		"for/":                             "there is no such device",
		"for/" + tank:                      "which names no hub",
		"for/" + hub + "/readings":         "which names no hub",
		"for/" + strings.Repeat("x", 5000): "there is no such device",
	} {
		got := take(v, name, `{"ullage":30}`)
		if got.Problem == nil || got.Problem.Code != fault.NotAllowed || !strings.Contains(got.Reason(), says) ||
			got.Again {
			t.Errorf("%.40s: %+v, want a refusal that says %q", name, got.Problem, says)
		}
		if len(got.Reason()) > 400 {
			t.Errorf("%.40s: the reason has %d bytes", name, len(got.Reason()))
		}
	}
	if n := len(b.Points(tank, "ullage")); n != 0 {
		t.Errorf("%d readings were stored", n)
	}
}

func TestVerdicts(t *testing.T) {
	b := newBench(t, app.Options{}, func(l *door.Limits) { l.Message = 100 })
	v := b.admit(tank, "mqtt")
	for _, c := range []struct {
		name, topic, body string
		kept              int
		says              string
	}{
		{"all kept", "readings", `{"ullage":30}`, 1, ""},
		{"one refused", "readings", `{"ullage":31,"must_temp":"hot"}`, 1, "; the other field was kept"},
		{"two kept", "readings", `{"ullage":31,"density":1010,"must_temp":"hot"}`, 2, "; the other 2 fields were kept"},
		{"none kept", "readings", `{"must_temp":"hot"}`, 0, "; nothing was kept"},
		{"no JSON", "readings", `{`, 0, "not JSON"},
		{"no such kind", "reading", `{}`, 0, `"reading" is not taken here; did you mean readings?`},
		{"nothing like a kind", "temperature", `{}`, 0, `"temperature" is not taken here; a device sends readings, about`},
		{"too large", "readings", `{"ullage":30` + strings.Repeat(" ", 100) + `}`, 0, "the message has 113 bytes; 100 are taken at most; send it in parts"},
	} {
		got := take(v, c.topic, c.body)
		if got.Kept != c.kept || !strings.Contains(got.Reason(), c.says) || (c.says == "") != (got.Problem == nil) ||
			got.Again {
			t.Errorf("%s: kept %d, %q; want %d, %q", c.name, got.Kept, got.Reason(), c.kept, c.says)
		}
	}
	b.Store.Close()
	if got := take(v, "readings", `{"ullage":32}`); !got.Again || got.Problem == nil {
		t.Errorf("what the service cannot keep: %+v, want it to be sent again", got)
	}
}

// Two sessions and HTTP at once: what is stored of each door stays in its order,
// untimed readings get times that never go back, and all of them are told in the
// order in which they were stored.
func TestOneOrderOverAllDoors(t *testing.T) {
	var mu sync.Mutex
	var told []time.Time
	b := newBench(t, app.Options{Handlers: []event.Handler{func(_ int, e event.Event) {
		if r, ok := e.(event.Readings); ok && r.Device == tank {
			mu.Lock()
			told = append(told, r.Arrived)
			mu.Unlock()
		}
	}}}, func(l *door.Limits) { l.Rate = 0 })
	const each = 200
	var wg sync.WaitGroup
	for n, transport := range []string{"mqtt", "mqtt", "http"} {
		v := b.admit(tank, transport)
		wg.Add(1)
		go func() {
			defer wg.Done()
			answered := make(chan door.Verdict, each)
			for i := range each {
				b.Clock.Forward(time.Millisecond)
				body := fmt.Sprintf(`{"ullage":%d}`, n*each+i)
				if n == 2 { // one door sends times, the others' interleave with it
					body = fmt.Sprintf(`{"at":%q,"density":%d}`,
						rig.Start.Add(-time.Hour+time.Duration(each-i)*time.Second).Format(time.RFC3339), 1000+i)
				}
				v.Take(door.Message{Name: "readings", Body: []byte(body)}, func(o door.Verdict) { answered <- o })
			}
			for range each {
				if o := <-answered; o.Problem != nil {
					t.Errorf("door %d: %s", n, o.Reason())
				}
			}
		}()
	}
	wg.Wait()
	b.Settle()
	mu.Lock()
	defer mu.Unlock()
	if len(told) != 3*each {
		t.Errorf("%d messages were told, want %d", len(told), 3*each)
	}
	for i := 1; i < len(told); i++ {
		if told[i].Before(told[i-1]) {
			t.Fatalf("message %d came at %s, the one before it at %s", i, told[i], told[i-1])
		}
	}
	if n := len(b.Points(tank, "density")); n != each {
		t.Errorf("%d readings with times are stored, want %d", n, each)
	}
	points := b.Points(tank, "ullage")
	last := map[int]float64{}
	for _, p := range points {
		x := p.Value.Num
		door := int(x) / each
		if x < last[door] {
			t.Errorf("door %d: %g is stored behind %g", door, x, last[door])
		}
		last[door] = x
	}
	if len(points) == 0 || b.Device(tank).Latest["ullage"].Value != points[len(points)-1].Value {
		t.Errorf("the latest is %v, stored last is %v", b.Device(tank).Latest["ullage"], points[len(points)-1])
	}
}

// Whatever comes, a message is answered once, nothing of a neighbour changes,
// and a refusal is one sentence of bounded length that holds no token.
// The parameters of a content type, and how it is written, do no harm.
func TestContentTypes(t *testing.T) {
	b := newBench(t, app.Options{}, nil)
	v := b.admit(hub, "mqtt")
	for content, kept := range map[string]int{"": 1, "application/json": 1, "application/json;charset=UTF-8": 1, "Application/JSON ; charset=utf-8": 1,
		"text/plain; charset=utf-8": 1, "application/xml": 0, "application/cbor": 0} {
		done := make(chan door.Verdict, 1)
		v.Take(door.Message{Name: "readings", Body: []byte(`{"cpu_temp":41}`), ContentType: content}, func(o door.Verdict) { done <- o })
		if got := <-done; got.Kept != kept || (kept == 0) != (got.Problem != nil) {
			t.Errorf("%q: %d kept, %s; want %d", content, got.Kept, got.Reason(), kept)
		}
	}
}

func FuzzTake(f *testing.F) {
	for _, s := range []struct{ name, body, content string }{
		{"readings", `{"ullage":30}`, "application/json"}, {"readings", `[{"n":"ullage","v":30}]`, "application/senml+json"},
		{"readings", "\xa1\x66ullage\x18\x1e", "application/cbor"}, {"about", `{"serial":"x"}`, ""}, {"applied", `{"revision":1,"applied":{}}`, ""},
		{"reply", `{"id":"x"}`, ""}, {"event/", `{}`, ""}, {"event/spilt", `{"litres":1}`, ""}, {"for/" + tank + "/readings", `{"ullage":1}`, ""},
		{"for//", "", ""}, {"../readings", "{}", ""}, {"", "", "text/plain"},
	} {
		f.Add(s.name, []byte(s.body), s.content, true, uint16(7))
	}
	b := newBench(f, app.Options{}, func(l *door.Limits) { l.Rate, l.Message = 0, 4096 })
	v := b.admit(hub, "mqtt")
	f.Fuzz(func(t *testing.T, name string, body []byte, content string, dup bool, packet uint16) {
		done := make(chan door.Verdict, 2)
		v.Take(door.Message{Name: name, Body: body, ContentType: content, Dup: dup,
			PacketID: packet}, func(o door.Verdict) {
			done <- o
		})
		select {
		case o := <-done:
			if o.Problem != nil && (len(o.Reason()) > 4000 || strings.Contains(o.Reason(), b.tokens[hub])) {
				t.Errorf("the reason is %q", o.Reason())
			}
			if name == "readings" && o.Problem == nil && o.Kept == 0 && !o.Redelivered {
				t.Errorf("%q %q: nothing was kept and no reason is given", name, body)
			}
		case <-time.After(30 * time.Second):
			t.Fatal("never answered")
		}
		select {
		case <-done:
			t.Error("answered twice")
		default:
		}
		err := b.Store.Readings(t.Context(), tank, "ullage", time.Time{},
			rig.Start.AddDate(1, 0, 0), func(p series.Point) error {
				return fmt.Errorf("the neighbour has the reading %v", p)
			})
		if err != nil {
			t.Error(err)
		}
	})
}
