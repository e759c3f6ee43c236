// Package rig puts the use cases together on a real store in a temporary
// folder, with a clock that only moves when told to, for tests.
package rig

import (
	"io/fs"
	"log/slog"
	"sync"
	"testing"
	"time"

	"ullage/core/rule"
	"ullage/core/series"
	"ullage/examples/cellars"
	"ullage/fleet/alarms"
	"ullage/fleet/commands"
	"ullage/fleet/derived"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/journal"
	"ullage/fleet/models"
	"ullage/fleet/people"
	"ullage/fleet/present"
	"ullage/fleet/settings"
	"ullage/fleet/traffic"
	"ullage/store"
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

// Rig is a whole service without its doors.
type Rig struct {
	T           testing.TB
	Dir         string
	Options     store.Options
	Clock       *Clock
	Store       *store.Store
	Bus         *event.Bus
	Models      *models.Catalogue
	Devices     *devices.Registry
	Settings    *settings.Settings
	Commands    *commands.Queue
	Present     *present.Fleet
	Alarms      *alarms.Engine
	People      *people.Register
	Traffic     *traffic.Log
	Door        *ingest.Door
	Derivations *derived.Derivations
	handlers    []event.Handler
}

// New opens a rig with the six models of the scenario loaded.
func New(t testing.TB) *Rig { return NewWith(t, store.Options{}) }

// NewWith opens a rig on a store with options.
func NewWith(t testing.TB, o store.Options, handlers ...event.Handler) *Rig {
	t.Helper()
	r := &Rig{T: t, Dir: t.TempDir(), Options: o, Clock: &Clock{now: Start}, handlers: handlers}
	r.open()
	t.Cleanup(func() { r.Close() })
	files, err := fs.Glob(cellars.Files, "models/*.tm.json")
	r.Must(err)
	for _, f := range files {
		b, err := cellars.Files.ReadFile(f)
		r.Must(err)
		_, _, err = r.Models.Load(b, nil, "tester")
		r.Must(err)
	}
	return r
}

// Must fails the test on an error.
func (r *Rig) Must(err error) {
	r.T.Helper()
	if err != nil {
		r.T.Fatal(err)
	}
}

func (r *Rig) open() {
	r.T.Helper()
	log := slog.New(slog.DiscardHandler)
	now := r.Clock.Now
	var err error
	r.Store, err = store.Open(r.Dir, r.Options)
	r.Must(err)
	r.Bus = event.NewBus()
	r.Models, err = models.Open(r.Store.Records, r.Bus, now)
	r.Must(err)
	r.Devices, err = devices.Open(r.Store.Records, r.Models, r.Bus, now)
	r.Must(err)
	r.Settings, err = settings.Open(r.Store.Records, r.Devices, r.Models, r.Bus, now)
	r.Must(err)
	r.Present, err = present.Open(r.Devices, r.Models, r.Settings, r.Store.Telemetry, r.Store.Records, now, log)
	r.Must(err)
	r.Alarms, err = alarms.Open(r.Store.Records, r.Store.Telemetry, r.Devices, r.Models, r.Present, r.Bus, now, log)
	r.Must(err)
	r.People, err = people.Open(r.Store.Records, now)
	r.Must(err)
	r.Traffic = traffic.New(500, 50)
	r.Commands, err = commands.Open(r.Store.Records, r.Devices, r.Models, r.Bus, now)
	r.Must(err)
	r.Derivations = derived.Open(r.Devices, r.Models, r.Present, r.Store.Telemetry, r.Store.Telemetry, r.Bus, now, log)
	r.Door = ingest.New(ingest.Deps{Store: r.Store.Telemetry, Devices: r.Devices, Models: r.Models, Settings: r.Settings, Commands: r.Commands,
		Journal: r.Store.Records, Traffic: r.Traffic, Bus: r.Bus, Derive: r.Derivations, Now: now})
	r.Bus.Handle(r.Commands.Handle)
	r.Bus.Handle(r.Present.Handle)
	r.Bus.Handle(r.Alarms.Handle)
	for _, h := range r.handlers {
		r.Bus.Handle(h)
	}
	r.Bus.Start()
}

// Close stops everything gracefully.
func (r *Rig) Close() {
	if r.Store == nil {
		return
	}
	r.Bus.Stop()
	r.Alarms.Flush()
	r.Must(r.Store.Close())
	r.Store = nil
}

// Restart stops everything and opens it again on the same folder. A crash
// leaves out what a graceful stop would still have written.
func (r *Rig) Restart(crash bool) {
	r.T.Helper()
	r.Bus.Stop()
	if !crash {
		r.Alarms.Flush()
	}
	r.Must(r.Store.Close())
	r.open()
	r.Bus.Settle()
}

// Onboard makes a device and returns its token.
func (r *Rig) Onboard(id, model string, labels map[string]string) string {
	r.T.Helper()
	_, token, err := r.Devices.Create(id, model, labels, "tester")
	r.Must(err)
	r.Bus.Settle()
	return token
}

// Rule puts a rule in force from YAML.
func (r *Rig) Rule(yaml string) {
	r.T.Helper()
	x, err := rule.Parse([]byte(yaml))
	r.Must(err)
	_, err = r.Alarms.SetRule(*x, "tester")
	r.Must(err)
	r.Bus.Settle()
}

// Send sends a message of readings and waits for what becomes of it.
func (r *Rig) Send(device, body string) ingest.Outcome {
	return r.SendMessage(ingest.Message{Device: device, Kind: ingest.Readings, Body: []byte(body), Transport: "mqtt"})
}

// SendMessage sends a message and waits for what becomes of it.
func (r *Rig) SendMessage(m ingest.Message) ingest.Outcome {
	r.T.Helper()
	done := make(chan ingest.Outcome, 1)
	r.Door.Accept(m, func(o ingest.Outcome) { done <- o })
	select {
	case o := <-done:
		r.Bus.Settle()
		return o
	case <-time.After(20 * time.Second):
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
	r.Bus.Settle()
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

// Open returns the open alarms.
func (r *Rig) Open() []alarms.Alarm {
	r.T.Helper()
	as, err := r.Alarms.List(alarms.Filter{Open: true})
	r.Must(err)
	return as
}

// Journal returns the texts of one kind, the oldest first.
func (r *Rig) Journal(kind journal.Kind) []string {
	r.T.Helper()
	es, err := r.Store.Journal(journal.Filter{Kind: kind})
	r.Must(err)
	out := make([]string, len(es))
	for i, e := range es {
		out[len(es)-1-i] = e.Text
	}
	return out
}

// Points returns the stored readings of a metric.
func (r *Rig) Points(device, metric string) []series.Point {
	r.T.Helper()
	var out []series.Point
	r.Must(r.Store.Readings(device, metric, time.Time{}, Start.AddDate(10, 0, 0), func(p series.Point) error {
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
	r.open()
	r.Bus.Settle()
}
