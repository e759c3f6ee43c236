// Package ingest is the one door behind every transport. A message comes in
// with the device it is from, is decoded and checked against the device's
// model, stored, and only then answered for.
package ingest

import (
	"fmt"
	"hash/fnv"
	"sync"
	"sync/atomic"
	"time"

	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/models"
	"ullage/fleet/settings"
	"ullage/fleet/wire"
)

// Kind is what a message is, by its topic or path below the device's own.
type Kind string

// The kinds of message that devices send so far.
const (
	Readings Kind = "readings"
	About    Kind = "about"
	Applied  Kind = "applied"
)

// Kinds lists them.
var Kinds = []Kind{Readings, About, Applied}

// MaxMessage is the largest message taken, in bytes, unless configured.
const MaxMessage = 256 << 10

// Message is one message of a known device.
type Message struct {
	Device      string
	Kind        Kind
	Body        []byte
	ContentType string // as the transport gave it; may be empty
	Transport   string // "mqtt" or "http"
	Remote      string
	// Dup says the transport marks it as a redelivery; PacketID is then that of
	// the first delivery. Both are zero where the transport has no such thing.
	Dup      bool
	PacketID uint16
}

// Outcome is what became of a message. It is given when the message is durable
// on disk, or will not be.
type Outcome struct {
	Kept        int
	Refused     []model.Finding
	Marked      []model.Finding
	Err         *fault.Error // nil unless the whole message was refused
	Redelivered bool         // known already and not stored again
}

// Append is what the store is asked to keep.
type Append struct {
	Device   string
	Readings []value.Reading
	// Receipt identifies an untimed message, so that its redelivery is known
	// again after a restart. Zero for none.
	Receipt int64
	// Done is called once, after the commit or its failure, in the order of
	// Append. It must be quick.
	Done func(error)
}

// Store keeps readings. Append does not wait for the commit. It fails at once,
// without calling Done, if the queue is full or the store is closed.
type Store interface {
	Append(Append) error
	// HasReceipt reports whether a message with that receipt was stored since a time.
	HasReceipt(device string, receipt int64, since time.Time) (bool, error)
}

// Deriver computes telemetry from the readings of one message. Messages of one
// device come one at a time.
type Deriver interface {
	Derive(device string, m *model.Model, readings []value.Reading) []value.Reading
}

// Door takes messages.
type Door struct {
	derive   Deriver
	store    Store
	devices  *devices.Registry
	models   *models.Catalogue
	settings *settings.Book
	wire     *wire.Log
	bus      *event.Bus
	now      func() time.Time

	mu       sync.Mutex
	receipts map[string]*recent

	readings atomic.Uint64
	messages atomic.Uint64
	refused  atomic.Uint64
}

// receiptWindow is how long a redelivery of an untimed message is recognised.
const receiptWindow = time.Hour

// New returns a Door.
func New(s Store, d *devices.Registry, m *models.Catalogue, b *settings.Book, w *wire.Log, bus *event.Bus, now func() time.Time) *Door {
	return &Door{store: s, devices: d, models: m, settings: b, wire: w, bus: bus, now: now, receipts: map[string]*recent{}}
}

// Computes tells by whom derived telemetry is computed; without it none is.
func (d *Door) Computes(by Deriver) { d.derive = by }

// Counts returns how many readings were stored, and how many messages came and
// were refused, whole or in part, since the start.
func (d *Door) Counts() (readings, messages, refused uint64) {
	return d.readings.Load(), d.messages.Load(), d.refused.Load()
}

// Accept takes a message and calls done exactly once: before it returns if
// nothing needs to be stored, else from the store's writer after the commit.
// Messages of one device must come from one goroutine at a time to be stored
// in their order.
func (d *Door) Accept(m Message, done func(Outcome)) {
	d.messages.Add(1)
	arrived := d.now().UTC().Truncate(time.Millisecond)
	dev, err := d.devices.Get(m.Device)
	if err != nil {
		done(Outcome{Err: fault.From(err)})
		return
	}
	switch m.Kind {
	case Readings:
		d.acceptReadings(m, dev, arrived, done)
		return
	case About:
		done(d.finish(m, arrived, d.acceptAbout(m, dev)))
	case Applied:
		kept, wrong, err := d.settings.Apply(m.Device, m.Body)
		done(d.finish(m, arrived, Outcome{Kept: kept, Refused: wrong, Err: fault.From(err)}))
	default:
		done(d.finish(m, arrived, Outcome{Err: fault.New(fault.NotFound, "%q is not taken here", m.Kind).
			Then("a device sends readings, about and applied")}))
	}
}

func (d *Door) acceptAbout(m Message, dev devices.Device) Outcome {
	mod, err := d.models.Of(dev.Model, dev.Version)
	if err != nil {
		return Outcome{Err: fault.From(err)}
	}
	kept, wrong, err := mod.About(m.Body)
	if err != nil {
		return Outcome{Err: fault.From(err)}
	}
	if len(kept) > 0 {
		if err := d.devices.SetAttributes(m.Device, kept); err != nil {
			return Outcome{Err: fault.From(err)}
		}
	}
	return Outcome{Kept: len(kept), Refused: wrong}
}

func (d *Door) acceptReadings(m Message, dev devices.Device, arrived time.Time, done func(Outcome)) {
	mod, err := d.models.Of(dev.Model, dev.Version)
	if err != nil {
		done(d.finish(m, arrived, Outcome{Err: fault.From(err)}))
		return
	}
	if err := contentType(m.ContentType); err != nil {
		done(d.finish(m, arrived, Outcome{Err: err}))
		return
	}
	var checked model.Checked
	if m.ContentType == senmlJSON || m.ContentType == "" && mod.IsPack(m.Body) {
		checked, err = mod.Pack(m.Body, m.Device, arrived)
	} else {
		checked, err = mod.Readings(m.Body, arrived)
	}
	if err != nil {
		done(d.finish(m, arrived, Outcome{Err: fault.From(err)}))
		return
	}
	out := Outcome{Kept: len(checked.Readings), Refused: checked.Refused, Marked: checked.Marked}
	if len(checked.Readings) == 0 {
		done(d.finish(m, arrived, out))
		return
	}
	var receipt int64
	if checked.Untimed && m.PacketID != 0 {
		receipt = receiptOf(m)
		if m.Dup {
			known, err := d.known(m.Device, receipt, arrived)
			if err != nil {
				done(d.finish(m, arrived, Outcome{Err: fault.From(err)}))
				return
			}
			if known {
				done(d.finish(m, arrived, Outcome{Redelivered: true}))
				return
			}
		}
		d.remember(m.Device, receipt)
	}
	if err := d.devices.Seen(m.Device); err != nil {
		done(d.finish(m, arrived, Outcome{Err: fault.From(err)}))
		return
	}
	if d.derive != nil {
		checked.Readings = append(checked.Readings, d.derive.Derive(m.Device, mod, checked.Readings)...)
	}
	err = d.store.Append(Append{Device: m.Device, Readings: checked.Readings, Receipt: receipt, Done: func(err error) {
		if err != nil {
			d.forget(m.Device, receipt)
			done(d.finish(m, arrived, Outcome{Err: fault.From(err)}))
			return
		}
		d.readings.Add(uint64(len(checked.Readings)))
		d.bus.Publish(event.Readings{Device: m.Device, Readings: checked.Readings, Arrived: arrived})
		done(d.finish(m, arrived, out))
	}})
	if err != nil {
		d.forget(m.Device, receipt)
		done(d.finish(m, arrived, Outcome{Err: fault.From(err)}))
	}
}

// finish writes the message to the wire and counts refusals.
func (d *Door) finish(m Message, arrived time.Time, o Outcome) Outcome {
	e := wire.Entry{
		At: arrived, Device: m.Device, Direction: wire.Up, Transport: m.Transport, Remote: m.Remote,
		Topic: string(m.Kind), Body: string(m.Body), Size: len(m.Body), Kept: o.Kept, Refused: o.Refused, Marked: o.Marked,
	}
	if o.Redelivered {
		e.Note = "a redelivery of what was stored before; acknowledged, not stored again"
	}
	if o.Err != nil {
		e.Reason = o.Err.Error()
		if len(o.Err.Findings) > 0 {
			e.Refused = o.Err.Findings
		}
	}
	d.wire.Add(e)
	if e.Trouble() && (o.Err == nil || !o.Err.Code.Ours()) {
		d.refused.Add(1)
		d.bus.Publish(event.Refused{Device: m.Device, At: arrived})
	}
	return o
}

const senmlJSON = "application/senml+json"

func contentType(ct string) *fault.Error {
	switch ct {
	case "", senmlJSON, "application/json", "application/json; charset=utf-8", "application/octet-stream", "text/plain", "application/x-www-form-urlencoded":
		return nil
	}
	return fault.New(fault.Invalid, "content type %q is not read", ct).Then("send application/json or application/senml+json")
}

func receiptOf(m Message) int64 {
	h := fnv.New64a()
	h.Write([]byte{byte(m.PacketID >> 8), byte(m.PacketID)})
	h.Write(m.Body)
	if r := int64(h.Sum64()); r != 0 {
		return r
	}
	return 1
}

// recent holds the receipts of a device's latest untimed messages, so that the
// usual redelivery is recognised without asking the store.
type recent struct {
	items [64]int64
	next  int
}

func (d *Door) known(device string, receipt int64, now time.Time) (bool, error) {
	d.mu.Lock()
	r := d.receipts[device]
	if r != nil {
		for _, x := range r.items {
			if x == receipt {
				d.mu.Unlock()
				return true, nil
			}
		}
	}
	d.mu.Unlock()
	known, err := d.store.HasReceipt(device, receipt, now.Add(-receiptWindow))
	if err != nil {
		return false, fmt.Errorf("looking for a redelivery: %w", err)
	}
	return known, nil
}

func (d *Door) remember(device string, receipt int64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	r := d.receipts[device]
	if r == nil {
		r = &recent{}
		d.receipts[device] = r
	}
	r.items[r.next] = receipt
	r.next = (r.next + 1) % len(r.items)
}

func (d *Door) forget(device string, receipt int64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if r := d.receipts[device]; r != nil && receipt != 0 {
		for i, x := range r.items {
			if x == receipt {
				r.items[i] = 0
			}
		}
	}
}
