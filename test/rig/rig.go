// Package rig puts the use cases together on a real store in a temporary
// folder, with a clock that only moves when told to, for tests.
package rig

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"ullage/app"
	"ullage/core/rule"
	"ullage/core/series"
	"ullage/examples/cellars"
	"ullage/fleet/alarms"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/present"
	"ullage/pki"
	"ullage/transport/door"
)

// Start is what a new rig's clock says.
var Start = time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)

// Clock is a clock for tests.
type Clock struct {
	mu  sync.Mutex
	now time.Time
}

// Now returns what the clock says.
func (c *Clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now
}

// Forward moves the clock.
func (c *Clock) Forward(d time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = c.now.Add(d)
}

// DoorWith returns a door of the rig with changed limits and another clock.
func (r *Rig) DoorWith(now func() time.Time, change func(*door.Limits)) *door.Door {
	limits := door.DefaultLimits()
	if change != nil {
		change(&limits)
	}
	return door.New(door.Options{Devices: r.Devices, Intake: r.Intake, Settings: r.Settings, Commands: r.Commands,
		Traffic: r.Traffic, Limits: limits, Log: r.Log, Now: now})
}

// Rig is a whole service without its doors.
type Rig struct {
	*app.App
	T       testing.TB
	Dir     string
	Clock   *Clock
	options app.Options
	open    bool
}

// New opens a rig with the six models of the scenario published.
func New(t testing.TB) *Rig { return NewWith(t, app.Options{}) }

// Joinable are options with which devices get certificates, and join by themselves. The
// authority is one for all tests of a package: its passphrase takes long on purpose.
func Joinable(t testing.TB) app.Options {
	t.Helper()
	a, err := authority()
	if err != nil {
		t.Fatal(err)
	}
	return app.Options{Master: []byte("a master key of the tests, 32 B."), Issuer: a, Judge: a.Judge}
}

var authority = sync.OnceValues(func() (*pki.Authority, error) {
	dir, err := os.MkdirTemp("", "authority")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	a, _, err := pki.OpenAuthority(filepath.Join(dir, "pki"), func() time.Time { return Start })
	return a, err
})

// NewWith opens a rig with options; its folder and its clock are the rig's own.
func NewWith(t testing.TB, o app.Options) *Rig {
	t.Helper()
	r := &Rig{T: t, Dir: t.TempDir(), options: o, Clock: &Clock{now: Start}}
	r.start()
	t.Cleanup(func() { r.Close() })
	files, err := fs.Glob(cellars.Files, "models/*.tm.json")
	r.Must(err)
	for _, f := range files {
		b, err := cellars.Files.ReadFile(f)
		r.Must(err)
		_, _, err = r.Models.Publish(t.Context(), b, nil, "tester")
		r.Must(err)
	}
	return r
}

// Times returns how often something is tried: less often in short runs, which are
// those under the race detector.
func Times(often, short int) int {
	if testing.Short() {
		return short
	}
	return often
}

// Must fails the test on an error.
func (r *Rig) Must(err error) {
	r.T.Helper()
	if err != nil {
		r.T.Fatal(err)
	}
}

func (r *Rig) start() {
	r.T.Helper()
	o := r.options
	o.Dir, o.Now = r.Dir, r.Clock.Now
	var err error
	r.App, err = app.New(context.Background(), o)
	r.Must(err)
	r.App.Start(false)
	r.open = true
}

// Close stops everything gracefully.
func (r *Rig) Close() {
	if r.open {
		r.open = false
		r.Must(r.App.Close())
	}
}

// Crash closes everything without what a graceful stop would still have stored.
func (r *Rig) Crash() {
	r.T.Helper()
	r.open = false
	r.Must(r.App.Crash())
}

// Restart stops everything and opens it again on the same folder. A crash
// leaves out what a graceful stop would still have written.
func (r *Rig) Restart(crash bool) {
	r.T.Helper()
	if crash {
		r.Crash()
	} else {
		r.Close()
	}
	r.Reopen()
}

// Onboard makes a device and returns its token.
func (r *Rig) Onboard(id, model string, labels map[string]string) string {
	r.T.Helper()
	_, token, err := r.Devices.Create(context.Background(), devices.New{ID: id, Model: model, Labels: labels}, "tester")
	r.Must(err)
	r.Settle()
	return token
}

// Rule puts a rule in force from YAML.
func (r *Rig) Rule(yaml string) {
	r.T.Helper()
	x, err := rule.Parse([]byte(yaml))
	r.Must(err)
	_, err = r.Alarms.SetRule(context.Background(), *x, "tester")
	r.Must(err)
	r.Settle()
}

// Send sends a message of readings and waits for what becomes of it, as over HTTP: of messages
// over MQTT nobody is known to wait, so each would wait until others share its commit.
func (r *Rig) Send(device, body string) ingest.Outcome {
	return r.SendMessage(ingest.Message{Device: device, Kind: ingest.Readings, Body: []byte(body), Transport: "http"})
}

// SendMessage sends a message and waits for what becomes of it.
func (r *Rig) SendMessage(m ingest.Message) ingest.Outcome {
	r.T.Helper()
	done := make(chan ingest.Outcome, 1)
	r.Intake.Accept(m, func(o ingest.Outcome) { done <- o })
	select {
	case o := <-done:
		r.Settle()
		return o
	case <-time.After(time.Minute):
		r.T.Fatal("the message was never answered")
		return ingest.Outcome{}
	}
}

// Keep sends a message of which everything must be kept.
func (r *Rig) Keep(device, body string) {
	r.T.Helper()
	if o := r.Send(device, body); o.Err != nil || len(o.Refused) > 0 {
		r.T.Fatalf("%s was not kept: %v %v", body, o.Err, o.Refused)
	}
}

// Pass lets time pass and tells everybody.
func (r *Rig) Pass(d time.Duration) {
	r.Clock.Forward(d)
	r.Bus.Publish(event.Tick{Now: r.Clock.Now()})
	r.Settle()
}

// Device returns a device now.
func (r *Rig) Device(id string) *present.Device {
	r.T.Helper()
	d, ok := r.Present.Get(id)
	if !ok {
		r.T.Fatalf("there is no device %s", id)
	}
	return d
}

// OpenAlarms returns the open alarms.
func (r *Rig) OpenAlarms() []alarms.Alarm {
	r.T.Helper()
	as, err := r.Alarms.List(context.Background(), alarms.Filter{Open: true})
	r.Must(err)
	return as
}

// Journal returns the texts of one kind, the oldest first.
func (r *Rig) Journal(kind fact.Kind) []string {
	r.T.Helper()
	fs, err := r.Facts.Facts(context.Background(), fact.Filter{Kind: kind})
	r.Must(err)
	out := make([]string, len(fs))
	for i, f := range fs {
		out[len(fs)-1-i] = f.Sentence()
	}
	return out
}

// Points returns the stored readings of a metric.
func (r *Rig) Points(device, metric string) []series.Point {
	r.T.Helper()
	var out []series.Point
	r.Must(r.Store.Readings(context.Background(), device, metric, time.Time{},
		Start.AddDate(10, 0, 0), func(p series.Point) error {
			out = append(out, p)
			return nil
		}))
	return out
}

// Code returns the code of a fault, or "".
func Code(err error) fault.Code {
	if err == nil {
		return ""
	}
	return fault.From(err).Code
}

// Reopen opens the folder again after the test has closed the store itself.
func (r *Rig) Reopen() {
	r.T.Helper()
	r.start()
	r.Settle()
}
