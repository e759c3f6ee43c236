package device_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"ullage/app"
	"ullage/device"
	"ullage/fleet/commands"
	"ullage/fleet/event"
	"ullage/test/rig"
	"ullage/transport/door"
	"ullage/transport/mqtt"
	"ullage/transport/web"
)

const tank = "tank-fennimore-07"

// service is a whole service whose listeners can die and come back on the same
// addresses.
type service struct {
	*rig.Rig
	mqtt, http string
	token      string
	handler    atomic.Pointer[mqtt.Server]
	broker     *mqtt.Server
	web        *http.Server
	lns        []net.Listener
}

func newService(t testing.TB) *service {
	t.Helper()
	gin.SetMode(gin.TestMode)
	s := &service{mqtt: "127.0.0.1:0", http: "127.0.0.1:0"}
	s.Rig = rig.NewWith(t, app.Options{Handlers: []event.Handler{func(i int, e event.Event) {
		if b := s.handler.Load(); b != nil {
			b.Handle(i, e)
		}
	}}})
	s.token = s.Onboard(tank, "tank-probe", nil)
	s.open()
	t.Cleanup(s.die)
	return s
}

// open listens, on the addresses of last time.
func (s *service) open() {
	s.T.Helper()
	listen := func(at *string) net.Listener {
		var l net.Listener
		var err error
		for end := time.Now().Add(30 * time.Second); ; time.Sleep(10 * time.Millisecond) {
			if l, err = net.Listen("tcp", *at); err == nil || time.Now().After(end) {
				break
			}
		}
		s.Must(err)
		*at = l.Addr().String()
		return l
	}
	d := s.DoorWith(time.Now, func(l *door.Limits) { l.Rate, l.Connects = 0, 0 })
	log := slog.New(slog.DiscardHandler)
	s.broker = mqtt.NewServer(mqtt.Options{Door: d, Log: log, Now: time.Now})
	s.handler.Store(s.broker)
	s.web = &http.Server{Handler: web.New(web.Options{Door: d, Log: log, Now: time.Now})}
	s.lns = []net.Listener{listen(&s.mqtt), listen(&s.http)}
	go s.broker.Serve(s.lns[0])
	go s.web.Serve(s.lns[1])
}

// die ends every connection and stops listening.
func (s *service) die() {
	for _, l := range s.lns {
		l.Close()
	}
	s.handler.Store(nil)
	s.broker.Stop(time.Second)
	s.web.Close()
}

// servers are the three ways to reach the service.
func (s *service) servers() map[string]string {
	return map[string]string{"MQTT 5": "mqtt://" + s.mqtt, "MQTT 3.1.1": "mqtt3://" + s.mqtt,
		"HTTP": "http://" + s.http}
}

// each runs a test over every protocol.
func each(t *testing.T, f func(t *testing.T, s *service, o device.Options)) {
	for _, name := range []string{"MQTT 5", "MQTT 3.1.1", "HTTP"} {
		t.Run(name, func(t *testing.T) {
			s := newService(t)
			f(t, s, device.Options{Server: s.servers()[name], ID: tank, Token: s.token,
				RetryFirst: 20 * time.Millisecond, RetryMost: 200 * time.Millisecond})
		})
	}
}

// run runs a device until the test ends, or stop is called.
func run(t *testing.T, o device.Options) (d *device.Device, stop func()) {
	t.Helper()
	d, err := device.New(o)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { d.Run(ctx); close(done) }()
	var once sync.Once
	stop = func() {
		once.Do(func() {
			cancel()
			select {
			case <-done:
			case <-time.After(30 * time.Second):
				t.Error("the device does not stop")
			}
			if err := d.Close(); err != nil {
				t.Error(err)
			}
		})
	}
	t.Cleanup(stop)
	return d, stop
}

func flush(t *testing.T, d *device.Device) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	if err := d.Flush(ctx); err != nil {
		n, _ := d.Waiting()
		t.Fatalf("%d messages are still waiting: %v", n, err)
	}
}

func eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); !ok(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("not within 10 s: %s", what)
		}
	}
}

// A device reports through a service that dies and comes back: nothing is lost,
// nothing comes twice, and the order stays.
func TestServiceDiesAndReturns(t *testing.T) {
	each(t, func(t *testing.T, s *service, o device.Options) {
		o.About = func() map[string]any { return map[string]any{"serial": "TH-000007"} }
		d, _ := run(t, o)
		at := rig.Start.Add(-2 * time.Hour)
		send := func(n int) {
			for range n {
				at = at.Add(time.Second)
				if err := d.Send(at, map[string]any{"ullage": float64(at.Second()), "battery": 3.4}); err != nil {
					t.Fatal(err)
				}
			}
		}
		send(50)
		flush(t, d)
		for range 3 {
			s.die()
			send(1500) // more than one message may carry
			eventually(t, "the loss is noticed", func() bool {
				return strings.HasPrefix(o.Server, "http") || !d.Linked()
			})
			s.open()
			send(20)
			flush(t, d)
		}
		if err := d.Event("spilt", map[string]any{}); err != nil {
			t.Fatal(err)
		}
		flush(t, d) // the model has no such event, so it is refused and not sent for ever
		s.Settle()
		ps := s.Points(tank, "ullage")
		if want := 50 + 3*1520; len(ps) != want {
			t.Errorf("%d readings are stored, want %d", len(ps), want)
		}
		for i, p := range ps {
			if want := rig.Start.Add(-2*time.Hour + time.Duration(i+1)*time.Second); !p.At.Equal(want) {
				t.Fatalf("reading %d is of %s, want %s", i, p.At, want)
			}
		}
		if n := d.Lost(); n != 0 {
			t.Errorf("%d messages were lost", n)
		}
		if got := s.Device(tank).Attributes["serial"].Text; got != "TH-000007" {
			t.Errorf("the serial number is %q", got)
		}
	})
}

func TestObeysAndPerforms(t *testing.T) {
	each(t, func(t *testing.T, s *service, o device.Options) {
		var zeroed atomic.Int32
		o.Obey = func(_ context.Context, in device.Intended) device.Applied {
			out := device.Applied{Settings: in.Settings, Refused: map[string]string{}}
			if x, _ := in.Settings["stir_at"].(float64); x > 26 {
				out.Settings["stir_at"], out.Refused["stir_at"] = 26.0, "above 26 °C while the tank is sealed"
			}
			return out
		}
		o.Commands = map[string]device.Action{
			"zero_level": func(_ context.Context, input json.RawMessage) (any, error) {
				zeroed.Add(1)
				var in struct {
					At float64 `json:"reference_cm"`
				}
				if err := json.Unmarshal(input, &in); err != nil || in.At != 31 {
					return nil, fmt.Errorf("the input was %s", input)
				}
				return map[string]any{"offset_cm": -0.4}, nil
			},
			"identify": func(context.Context, json.RawMessage) (any, error) { return nil, errors.New("the lamp is broken") },
		}
		run(t, o)
		eventually(t, "the first settings are confirmed", func() bool {
			st, _, _ := s.Settings.Of(tank)
			return st.Confirmed()
		})
		_, err := s.Settings.Set(t.Context(), tank, map[string]any{"stir_at": 30.0}, nil, "engineer")
		s.Must(err)
		eventually(t, "the refusal is known", func() bool {
			st, _, _ := s.Settings.Of(tank)
			return st.Refused["stir_at"] == "above 26 °C while the tank is sealed"
		})
		give := func(name, input string) commands.Command {
			t.Helper()
			c, err := s.Commands.Give(t.Context(), tank, name, json.RawMessage(input), commands.Expiry{}, "engineer")
			s.Must(err)
			eventually(t, name+" is replied to", func() bool {
				c, err = s.Commands.Get(t.Context(), tank, c.ID)
				return err == nil && !c.Phase.Open()
			})
			return c
		}
		if c := give("zero_level", `{"reference_cm":31}`); c.Phase != commands.Done ||
			!strings.Contains(string(c.Output), "-0.4") {
			t.Errorf("zero_level ended as %+v", c)
		}
		if c := give("identify", `{}`); c.Phase != commands.Failed || !strings.Contains(c.Error, "the lamp is broken") {
			t.Errorf("identify ended as %+v", c)
		}
		if n := zeroed.Load(); n != 1 {
			t.Errorf("the level was zeroed %d times, want once", n)
		}
	})
}

func TestProblemsAreTold(t *testing.T) {
	each(t, func(t *testing.T, s *service, o device.Options) {
		told := make(chan device.Problem, 10)
		o.Problem = func(p device.Problem) { told <- p }
		d, _ := run(t, o)
		if err := d.Send(time.Time{}, map[string]any{"must_temp": "hot", "ullage": 30}); err != nil {
			t.Fatal(err)
		}
		flush(t, d)
		select {
		case p := <-told:
			if p.Code != "invalid" || !strings.Contains(p.Detail, "must_temp is text") || len(p.Findings) != 1 ||
				p.Findings[0].Pointer != "/must_temp" {
				t.Errorf("the problem is %+v", p)
			}
		case <-time.After(30 * time.Second):
			t.Error("the device was not told")
		}
		if n := len(s.Points(tank, "ullage")); n != 1 {
			t.Errorf("%d readings of the other metric, want 1", n)
		}
	})
}

func TestSleepKeepsAndWakeSends(t *testing.T) {
	s := newService(t)
	d, _ := run(t, device.Options{Server: "mqtt://" + s.mqtt, ID: tank, Token: s.token})
	eventually(t, "it connects", d.Linked)
	d.Sleep()
	eventually(t, "it is off", func() bool { return !d.Linked() && s.broker.Connected() == 0 })
	for i := range 10 {
		if err := d.Send(rig.Start.Add(time.Duration(i)*time.Second), map[string]any{"ullage": 30}); err != nil {
			t.Fatal(err)
		}
	}
	if n, _ := d.Waiting(); n != 10 {
		t.Errorf("%d messages wait, want 10", n)
	}
	d.Wake()
	flush(t, d)
	if n := len(s.Points(tank, "ullage")); n != 10 {
		t.Errorf("%d are stored, want 10", n)
	}
}

// What is in the spool's file outlives the program, and what the service has
// does not come again.
func TestSpoolOutlivesTheProgram(t *testing.T) {
	s := newService(t)
	o := device.Options{Server: "mqtt://" + s.mqtt, ID: tank, Token: s.token,
		Spool: filepath.Join(t.TempDir(), "spool"), RetryFirst: 20 * time.Millisecond}
	d, stop := run(t, o)
	if err := d.Send(rig.Start, map[string]any{"ullage": 30}); err != nil {
		t.Fatal(err)
	}
	flush(t, d)
	s.die()
	eventually(t, "the loss is noticed", func() bool { return !d.Linked() })
	for i := range 100 {
		if err := d.Send(rig.Start.Add(time.Duration(i+1)*time.Second), map[string]any{"ullage": 31}); err != nil {
			t.Fatal(err)
		}
	}
	stop()
	s.open()
	d, _ = run(t, o)
	if n, _ := d.Waiting(); n > 100 {
		t.Errorf("%d messages wait after the restart, want 100 at most", n)
	}
	flush(t, d)
	if n := len(s.Points(tank, "ullage")); n != 101 {
		t.Errorf("%d are stored, want 101", n)
	}
}

func TestBadOptionsAndReadings(t *testing.T) {
	for server, says := range map[string]string{"": "is no address", "127.0.0.1:8883": "is no address",
		"coap://x": "no protocol that is known", "mqtt://h:1": "needs its id"} {
		if _, err := device.New(device.Options{Server: server, ID: map[bool]string{true: tank}[server == "coap://x"],
			Token: "12345678.x"}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want %q", server, err, says)
		}
	}
	d, err := device.New(device.Options{Server: "mqtt://127.0.0.1:1", ID: tank, Token: "12345678.secret"})
	if err != nil {
		t.Fatal(err)
	}
	for name, values := range map[string]map[string]any{
		"no values":                 {},
		"can be called":             {"at": 1},
		"cannot be written as JSON": {"x": func() {}},
		"are taken at most":         {"x": strings.Repeat("y", device.MaxMessage)},
	} {
		if err := d.Send(time.Time{}, values); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%v, want %q", err, name)
		} else if strings.Contains(err.Error(), "secret") {
			t.Error("the error shows the token")
		}
	}
	if err := d.Event("No Name", nil); err == nil {
		t.Error("an event without a proper name was kept")
	}
	if n, _ := d.Waiting(); n != 0 {
		t.Errorf("%d messages wait, want none", n)
	}
}
