// Package door is what all doors for devices share: who is it, by which
// credential, speaking for whom, within which limits, and what it is told. The
// transports turn a protocol into calls of this package.
package door

import (
	"crypto/x509"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"ullage/fleet/commands"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/joining"
	"ullage/fleet/models"
	"ullage/fleet/settings"
	"ullage/fleet/traffic"
)

// Options are what a Door is made of: the use cases that it opens on.
type Options struct {
	Devices  *devices.Registry
	Intake   *ingest.Intake
	Settings *settings.Settings
	Commands *commands.Queue
	Traffic  *traffic.Log
	// Joining lets devices join by themselves; none do where it is nil.
	Joining *joining.Joining
	// Models and Ways are for what a device gets that has joined.
	Models *models.Catalogue
	Ways   func() Ways
	// Judge says what is wrong with the certificate of a device, the first, and those
	// that came with it; nil where none are taken.
	Judge func(shown []*x509.Certificate, now time.Time) error
	// Takes says which kinds of credential a listener takes, by its name; every kind
	// where it says nothing.
	Takes  map[string][]devices.Kind
	Limits Limits
	Log    *slog.Logger
	Now    func() time.Time
}

// Door lets devices in and takes what they send. All transports of a service
// share one.
type Door struct {
	o      Options
	gate   *gate
	hellos hellos

	mu    sync.Mutex
	lanes map[string]*lane // by device; only of those that were let in once
}

// New returns a Door.
func New(o Options) *Door {
	return &Door{o: o, gate: newGate(o.Limits.Failures, o.Now), lanes: map[string]*lane{}}
}

// Limits returns what the door keeps to.
func (d *Door) Limits() Limits { return d.o.Limits }

// lane is what all sessions and requests of one device have in common.
type lane struct {
	// order is held while a message is checked and put in line for the disk, so
	// that messages of one device are stored, and given their times, in one order
	// whichever way they come.
	order sync.Mutex
	pace  *rate.Limiter // of messages; nil for no limit

	mu       sync.Mutex
	connects *rate.Limiter // nil until the first connection
	sessions int
	waits    int
}

func (d *Door) lane(device string) *lane {
	d.mu.Lock()
	defer d.mu.Unlock()
	l := d.lanes[device]
	if l == nil {
		l = &lane{}
		if r := d.o.Limits.Rate; r > 0 {
			l.pace = rate.NewLimiter(rate.Limit(r), max(int(r*4), 1))
		}
		d.lanes[device] = l
	}
	return l
}

// Connect counts one connection of the device. It fails if there were too many
// within a minute.
func (v *Device) Connect() error {
	most := v.door.o.Limits.Connects
	if most == 0 {
		return nil
	}
	l := v.lane
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.connects == nil {
		l.connects = rate.NewLimiter(rate.Limit(float64(most)/60), most)
	}
	if l.connects.AllowN(v.door.o.Now(), 1) {
		return nil
	}
	return fault.New(fault.TooMany, "%s connected more than %d times within a minute; does another client use its id?",
		v.ID, most)
}

// Enter counts one session of the device; whoever entered must leave. It fails
// if the device has as many as it may.
func (v *Device) Enter() error {
	l, most := v.lane, v.door.o.Limits.Sessions
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.sessions >= most {
		return fault.New(fault.TooMany, "%s has %d sessions already; another one was turned away", v.ID, l.sessions)
	}
	l.sessions++
	return nil
}

// Leave ends one session.
func (v *Device) Leave() {
	v.lane.mu.Lock()
	v.lane.sessions--
	v.lane.mu.Unlock()
}

// Await counts one request that waits for news. It fails if the device waits for
// as many as it may; else done must be called when the waiting is over.
func (v *Device) Await() (done func(), err error) {
	l, most := v.lane, v.door.o.Limits.Waits
	l.mu.Lock()
	defer l.mu.Unlock()
	if most > 0 && l.waits >= most {
		return nil, fault.New(fault.TooMany, "%s has %d requests waiting already", v.ID, l.waits).
			Then("wait for the answer of one of them")
	}
	l.waits++
	return func() {
		l.mu.Lock()
		l.waits--
		l.mu.Unlock()
	}, nil
}

// Pace counts one message and returns how long the device has to be held back
// before it is taken. It is for transports that can stop reading, so that
// nothing is lost.
func (v *Device) Pace() time.Duration {
	if v.lane.pace == nil {
		return 0
	}
	now := v.door.o.Now()
	return v.lane.pace.ReserveN(now, 1).DelayFrom(now)
}

// Allow counts one message, or fails if the device sends too many. It is for
// transports that can only answer.
func (v *Device) Allow() error {
	if v.lane.pace == nil || v.lane.pace.AllowN(v.door.o.Now(), 1) {
		return nil
	}
	return fault.New(fault.TooMany, "%s sends more than %g messages a second", v.ID, v.door.o.Limits.Rate).
		Then("put several readings into one message")
}

// TooLarge is the refusal of a message of so many bytes; -1 if nobody knows how
// many.
func (d *Door) TooLarge(size int64) *fault.Error {
	most := d.o.Limits.Message
	said := fmt.Sprintf("%d", size)
	if size < 0 {
		said = fmt.Sprintf("more than %d", most)
	}
	return fault.New(fault.TooLarge, "the message has %s bytes; %d are taken at most", said, most).
		Then("send it in parts")
}

// Note writes a refusal into the traffic that is of a connection and of no
// device, or of what happened before the device was known.
func (d *Door) Note(transport, remote, topic, reason string) {
	d.o.Traffic.Add(traffic.Entry{At: d.o.Now(), Direction: traffic.Up, Transport: transport, Remote: remote,
		Topic: topic, Reason: reason})
}
