// Package ingest takes what devices send, behind the door that all transports
// share. A message comes in with the device it is from, is decoded and checked against the device's
// model, stored, and only then answered for.
package ingest

import (
	"context"
	"encoding/hex"
	"fmt"
	"hash/fnv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"golang.org/x/time/rate"

	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/commands"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/logs"
	"ullage/fleet/models"
	"ullage/fleet/settings"
	"ullage/fleet/traffic"
)

// Kind is what a message is, by its topic or path below the device's own.
type Kind string

// The kinds of message that devices send so far. Those of events end in the
// name of the event.
const (
	Readings Kind = "readings"
	About    Kind = "about"
	Applied  Kind = "applied"
	Reply    Kind = "reply"
	Log      Kind = "log"
	Event    Kind = "event/"
)

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
	// By is the person who sends it as the device; empty for the device itself.
	By string
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
	// Arrived is when they came. The store keeps it until they are sealed.
	Arrived time.Time
	// Every is how often the device is expected to report; it says which roll-ups
	// are kept of a metric that is new. A minute if it is zero.
	Every time.Duration
	// Receipt identifies an untimed message, so that its redelivery is known
	// again after a restart. Zero for none.
	Receipt int64
	// Patient says that whoever sent it goes on meanwhile, so that the store may let
	// some milliseconds pass until others share the commit.
	Patient bool
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
	// Metrics lists the metrics of a device that have readings.
	Metrics(device string) []string
}

// Deriver computes telemetry from the readings of one message. Messages of one
// device come one at a time.
type Deriver interface {
	Derive(device string, m *model.Model, readings []value.Reading) []value.Reading
}

// Options are what an Intake is made of.
type Options struct {
	Store    Store
	Devices  *devices.Registry
	Models   *models.Catalogue
	Settings *settings.Settings
	Commands *commands.Queue
	Commits  *commit.Writer
	Traffic  *traffic.Log
	Bus      *event.Bus
	Derive   Deriver // nil for no derived telemetry
	Logs     *logs.Logs
	// Late counts readings of a device that came late; nil for nobody.
	Late func(device string, at time.Time, readings int)
	Now  func() time.Time
}

// Intake takes messages.
type Intake struct {
	o Options

	mu       sync.Mutex
	receipts map[string]*recent

	bounds bounds

	// pace spreads what devices tell about themselves. A whole fleet does so when
	// it has power again, and readings must find a free core then.
	pace *rate.Limiter

	readings atomic.Uint64
	messages atomic.Uint64
	refused  atomic.Uint64
}

// receiptWindow is how long a redelivery of an untimed message is recognised.
const receiptWindow = time.Hour

// How many about messages are read a second, and at once.
const (
	aboutRate  = 7000
	aboutBurst = 50
)

// New returns an Intake.
func New(o Options) *Intake {
	return &Intake{o: o, receipts: map[string]*recent{}, pace: rate.NewLimiter(aboutRate, aboutBurst)}
}

// Counts returns how many readings were stored, and how many messages came and
// were refused, whole or in part, since the start.
func (d *Intake) Counts() (readings, messages, refused uint64) {
	return d.readings.Load(), d.messages.Load(), d.refused.Load()
}

// Accept takes a message and calls done exactly once: before it returns if
// nothing needs to be stored, else from the store's writer after the commit.
// Messages of one device must come from one goroutine at a time to be stored
// in their order.
func (d *Intake) Accept(m Message, done func(Outcome)) {
	d.messages.Add(1)
	arrived := d.o.Now().UTC().Truncate(time.Millisecond)
	dev, err := d.o.Devices.Get(m.Device)
	if err != nil {
		done(Outcome{Err: fault.From(err)})
		return
	}
	name, isEvent := strings.CutPrefix(string(m.Kind), string(Event))
	switch {
	case m.Kind == Readings:
		d.acceptReadings(m, dev, arrived, done)
	case m.Kind == About:
		d.acceptAbout(m, dev, func(o Outcome) { done(d.finish(m, arrived, o)) })
	case m.Kind == Applied:
		d.o.Settings.Apply(m.Device, m.Body, func(r settings.Result, err error) {
			done(d.finish(m, arrived, Outcome{Kept: r.Kept, Refused: r.Refused, Err: fault.From(err)}))
		})
	case m.Kind == Reply:
		d.o.Commands.Reply(m.Device, m.Body, func(kept int, wrong []model.Finding, err error) {
			done(d.finish(m, arrived, Outcome{Kept: kept, Refused: wrong, Err: fault.From(err)}))
		})
	case m.Kind == Log:
		kept, wrong, err := d.o.Logs.Take(m.Device, m.Body)
		done(d.finish(m, arrived, Outcome{Kept: kept, Refused: wrong, Err: fault.From(err)}))
	case isEvent:
		d.acceptEvent(m, dev, name, arrived, func(o Outcome) { done(d.finish(m, arrived, o)) })
	default:
		sends := "a device sends readings, about, applied, reply, log and event/NAME"
		if near := value.Nearest(string(m.Kind), []string{string(Readings), string(About), string(Applied), string(Reply), string(Log)}); near != "" {
			sends = "did you mean " + near + "?"
		}
		done(d.finish(m, arrived, Outcome{Err: fault.New(fault.NotFound, "%q is not taken here", m.Kind).Then("%s", sends)}))
	}
}

// model returns the model of a device. That there is none is no fault of the
// device, which keeps its copy: the stored model cannot be read.
func (d *Intake) model(dev devices.Device) (*model.Model, error) {
	m, err := d.o.Models.Of(dev.Model, dev.Version)
	if err != nil {
		f := fault.New(fault.Internal, "the stored model %s@%s cannot be read", dev.Model, dev.Version).
			Then("publish that version again, or put a backup in place")
		f.Cause = err
		return nil, f
	}
	return m, nil
}

func (d *Intake) acceptAbout(m Message, dev devices.Device, done func(Outcome)) {
	mod, err := d.model(dev)
	if err != nil {
		done(Outcome{Err: fault.From(err)})
		return
	}
	kept, wrong, err := mod.About(m.Body)
	if err != nil || len(kept) == 0 {
		done(Outcome{Refused: wrong, Err: fault.From(err)})
		return
	}
	d.o.Devices.SetAttributes(m.Device, kept, func(err error) {
		if err != nil {
			done(Outcome{Err: fault.From(err)})
			return
		}
		done(Outcome{Kept: len(kept), Refused: wrong})
	})
}

// acceptEvent makes an event of the model a fact. Its time is that of its
// arrival.
func (d *Intake) acceptEvent(m Message, dev devices.Device, name string, arrived time.Time, done func(Outcome)) {
	mod, err := d.model(dev)
	if err != nil {
		done(Outcome{Err: fault.From(err)})
		return
	}
	data, wrong, err := mod.CheckEvent(name, m.Body)
	if err != nil || len(wrong) > 0 {
		done(Outcome{Refused: wrong, Err: fault.From(err)})
		return
	}
	receipt, known, err := d.redelivered(m, arrived)
	if err == nil && !known {
		if err = d.bounds.event(m.Device, arrived); err != nil {
			d.forget(m.Device, receipt)
		}
	}
	if err != nil || known {
		done(Outcome{Redelivered: known, Err: fault.From(err)})
		return
	}
	d.o.Commits.Go(func(tx *commit.Tx) error {
		tx.Tell(fact.New(arrived, fact.Event{Name: name, Data: data}).Of(m.Device))
		return nil
	}, func(err error) {
		if err != nil {
			d.forget(m.Device, receipt)
			done(Outcome{Err: fault.From(err)})
			return
		}
		d.o.Devices.Seen(m.Device)
		d.o.Bus.Publish(event.Sent{Device: m.Device, Name: name, Data: data, At: arrived})
		done(Outcome{Kept: 1})
	})
}

func (d *Intake) acceptReadings(m Message, dev devices.Device, arrived time.Time, done func(Outcome)) {
	mod, err := d.model(dev)
	if err != nil {
		done(d.finish(m, arrived, Outcome{Err: fault.From(err)}))
		return
	}
	if err := contentType(m.ContentType, m.Body); err != nil {
		done(d.finish(m, arrived, Outcome{Err: err}))
		return
	}
	var checked model.Checked
	if m.ContentType == senmlJSON || m.ContentType == senmlCBOR || m.ContentType == "" && mod.IsPack(m.Body) {
		checked, err = mod.Pack(m.Body, m.Device, arrived)
	} else {
		checked, err = mod.Readings(m.Body, arrived)
	}
	if err != nil {
		done(d.finish(m, arrived, Outcome{Err: fault.From(err)}))
		return
	}
	d.Additional(dev, mod, &checked)
	out := Outcome{Kept: len(checked.Readings), Refused: checked.Refused, Marked: checked.Marked}
	if len(checked.Readings) == 0 {
		done(d.finish(m, arrived, out))
		return
	}
	var receipt int64
	if checked.Untimed {
		var known bool
		if receipt, known, err = d.redelivered(m, arrived); err != nil || known {
			done(d.finish(m, arrived, Outcome{Redelivered: known, Err: fault.From(err)}))
			return
		}
	}
	if d.o.Derive != nil {
		checked.Readings = append(checked.Readings, d.o.Derive.Derive(m.Device, mod, checked.Readings)...)
	}
	err = d.o.Store.Append(Append{Device: m.Device, Readings: checked.Readings, Arrived: arrived, Every: mod.Interval,
		Receipt: receipt, Patient: m.Transport == "mqtt", Done: func(err error) {
			if err != nil {
				d.forget(m.Device, receipt)
				done(d.finish(m, arrived, Outcome{Err: fault.From(err)}))
				return
			}
			d.readings.Add(uint64(len(checked.Readings)))
			d.o.Devices.Seen(m.Device)
			d.late(m.Device, checked.Readings, mod.Interval, arrived)
			d.o.Bus.Publish(event.Readings{Device: m.Device, Readings: checked.Readings, Arrived: arrived})
			done(d.finish(m, arrived, out))
		}})
	if err != nil {
		d.forget(m.Device, receipt)
		done(d.finish(m, arrived, Outcome{Err: fault.From(err)}))
	}
}

// late counts readings that came more than five intervals, and five minutes, after they were
// taken.
func (d *Intake) late(device string, rs []value.Reading, every time.Duration, arrived time.Time) {
	if d.o.Late == nil {
		return
	}
	n := 0
	before := arrived.Add(-max(5*every, 5*time.Minute))
	for i := range rs {
		if rs[i].At.Before(before) {
			n++
		}
	}
	d.o.Late(device, arrived, n)
}

// Hold waits until a message of a kind may be read. Whoever sees to the order of
// a device's messages calls it before, so that its readings do not wait too.
func (d *Intake) Hold(k Kind) {
	if k == About {
		_ = d.pace.Wait(context.Background()) // it fails for contexts that end, and for more than a burst
	}
}

// Refuse counts and shows a message that the door refuses unread.
func (d *Intake) Refuse(m Message, why *fault.Error) Outcome {
	d.messages.Add(1)
	return d.finish(m, d.o.Now().UTC().Truncate(time.Millisecond), Outcome{Err: why})
}

// finish writes the message to the traffic and counts refusals.
func (d *Intake) finish(m Message, arrived time.Time, o Outcome) Outcome {
	e := traffic.Entry{
		At: arrived, Device: m.Device, Direction: traffic.Up, Transport: m.Transport, Remote: m.Remote,
		Topic: string(m.Kind), Body: shown(m.Body), Size: len(m.Body), Kept: o.Kept, Refused: o.Refused, Marked: o.Marked, By: m.By,
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
	d.o.Traffic.Add(e)
	if e.Refusal() && (o.Err == nil || !o.Err.Code.Ours()) {
		d.refused.Add(1)
		d.o.Bus.Publish(event.Refused{Device: m.Device, At: arrived})
	}
	return o
}

// shown is a message as the traffic shows it: as text, or byte by byte.
func shown(body []byte) string {
	if utf8.Valid(body) {
		return string(body)
	}
	return "0x" + hex.EncodeToString(body[:min(len(body), 1024)])
}

const (
	senmlJSON = "application/senml+json"
	senmlCBOR = "application/senml+cbor"
	plainCBOR = "application/cbor"
)

// contentType judges what the transport says that the body is.
func contentType(ct string, body []byte) *fault.Error {
	if cbor := model.IsCBOR(body); len(body) > 0 && (ct == plainCBOR || ct == senmlCBOR) != cbor &&
		(strings.Contains(ct, "cbor") || strings.Contains(ct, "json")) {
		return fault.New(fault.Invalid, "the message is not what its content type %s says", ct).
			Then("send it with the type it has, or with none")
	}
	switch ct {
	case "", senmlJSON, senmlCBOR, plainCBOR, "application/json", "application/octet-stream",
		"text/plain", "application/x-www-form-urlencoded":
		return nil
	}
	return fault.New(fault.Invalid, "content type %q is not read", ct).
		Then("send application/json, application/cbor, application/senml+json or application/senml+cbor")
}

// redelivered gives an untimed message its receipt, and tells whether it was
// taken before. A receipt of 0 says that the transport tells no deliveries apart.
func (d *Intake) redelivered(m Message, arrived time.Time) (receipt int64, known bool, err error) {
	if m.PacketID == 0 {
		return 0, false, nil
	}
	receipt = receiptOf(m)
	if m.Dup {
		if known, err = d.known(m.Device, receipt, arrived); err != nil || known {
			return receipt, known, err
		}
	}
	d.remember(m.Device, receipt)
	return receipt, false, nil
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

func (d *Intake) known(device string, receipt int64, now time.Time) (bool, error) {
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
	known, err := d.o.Store.HasReceipt(device, receipt, now.Add(-receiptWindow))
	if err != nil {
		return false, fmt.Errorf("looking for a redelivery: %w", err)
	}
	return known, nil
}

func (d *Intake) remember(device string, receipt int64) {
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

func (d *Intake) forget(device string, receipt int64) {
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
