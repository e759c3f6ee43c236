// Package device is a client library of the device contract (docs/devices.md):
// what firmware on Linux uses to speak with Ullage over MQTT 5, MQTT 3.1.1 or
// HTTP. It keeps what a device wants to say until the service has it on disk,
// obeys settings, performs commands, and connects again by itself.
//
// A Device is made with New, works while Run runs, and takes readings with Send
// at any time, connected or not.
package device

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/url"
	"sync"
	"time"
)

// Options say who the device is and what it can do.
type Options struct {
	// Server is where the service listens for devices: mqtt://host:port for MQTT
	// 5, mqtt3://host:port for MQTT 3.1.1, http://host:port; with TLS mqtts, mqtt3s
	// and https.
	Server string
	ID     string // id of the device
	Token  string // secret that it was onboarded with; empty for one with a certificate
	// TLS says whom the device trusts, and holds its certificate if it has one.
	TLS *tls.Config

	// About returns the attributes that the device reports about itself, with
	// each connection if they are others than last time; nil for none.
	About func() map[string]any
	// Obey applies intended settings and returns what came of it; nil for a device
	// without settings. Only the newest document is given, one at a time.
	Obey func(context.Context, Intended) Applied
	// Commands perform the actions of the model, by their names; a few may run at
	// once. A command that comes again is replied to again and not performed.
	Commands map[string]Action
	// Problem is told what the service refused; nil for only logging it.
	Problem func(Problem)

	// Spool is a file in which everything that the service does not have yet
	// outlives a restart of the device; empty for memory only.
	Spool string
	// SpoolBytes bounds what is kept, 16 MiB if it is zero. Where it is full the
	// oldest is lost, and Lost counts it.
	SpoolBytes int64
	// RetryFirst and RetryMost are the shortest and the longest wait before the
	// next attempt to connect or send: 1 s and 1 min if zero. Each wait is twice
	// the last one, less a random part of up to a half, so that a fleet does not
	// come back in one instant.
	RetryFirst, RetryMost time.Duration

	Log *slog.Logger     // nothing is logged if it is nil
	Now func() time.Time // time.Now if it is nil
}

// Intended is a settings document.
type Intended struct {
	Revision int64          `json:"revision"`
	Settings map[string]any `json:"intended"`
}

// Applied is what a device made of a settings document.
type Applied struct {
	// Settings are the values that are in force now.
	Settings map[string]any
	// Refused holds the reason for each setting that was not applied.
	Refused map[string]string
}

// Action performs a command. The output must be as the model says; an error is
// told to whoever gave the command. ErrNoReply leaves the command unanswered.
type Action func(ctx context.Context, input json.RawMessage) (output any, err error)

// ErrNoReply is returned by an Action that was not performed, and is to be given
// again until it expires.
var ErrNoReply = errors.New("no reply")

// Problem is what the service refused, and why (RFC 9457).
type Problem struct {
	Code     string    `json:"code"`
	Detail   string    `json:"detail"`
	Findings []Finding `json:"findings"`
}

// Finding is one place of a message that was refused.
type Finding struct {
	Pointer  string `json:"pointer"` // JSON pointer (RFC 6901)
	Sentence string `json:"sentence"`
}

// Device speaks for one device. It may be used by several goroutines.
type Device struct {
	o Options
	// dial connects. The first context bounds the attempt; the second is that of
	// what settings and commands lead to, which outlives a link.
	dial  func(attempt, life context.Context) (link, error)
	spool *spool
	log   *slog.Logger

	mu       sync.Mutex
	asleep   bool
	turn     chan struct{} // closed and renewed when asleep changes
	linked   bool
	up       chan struct{}     // closed while linked
	told     []byte            // attributes that the service has
	newest   *Intended         // waits to be obeyed
	obeying  bool              // somebody obeys
	replies  map[string][]byte // by the id of the command; nil while it is performed
	recent   []string          // ids of replies, the oldest first
	over     bool              // nothing new is begun
	handlers sync.WaitGroup
	slots    chan struct{} // of commands that are performed at once
}

// link is one connection to the service.
type link interface {
	// publish sends a message and returns when the service has it on disk. A
	// *Refusal is final; after any other error the message is to be sent again.
	publish(ctx context.Context, name string, body []byte) error
	lost() <-chan struct{}
	close()
}

// Refusal is a message that the service will never take.
type Refusal struct{ Reason string }

// Error returns the service's reason.
func (r *Refusal) Error() string { return r.Reason }

const (
	// atOnce is how many commands a device performs at once.
	atOnce = 4
	// remembered is how many replies are kept for commands that come again.
	remembered = 100
	// ackWait is how long an acknowledgement may take before the message is sent
	// again.
	ackWait = 30 * time.Second
	// connectWait bounds one attempt to connect.
	connectWait = 20 * time.Second
)

// New returns a Device. It opens the spool and does not connect: Run does.
func New(o Options) (*Device, error) {
	u, err := url.Parse(o.Server)
	if err != nil || u.Host == "" {
		return nil, fmt.Errorf("the server %q is no address; write it like mqtt://127.0.0.1:8883", o.Server)
	}
	if certified := o.TLS != nil && (len(o.TLS.Certificates) > 0 || o.TLS.GetClientCertificate != nil); o.ID == "" || o.Token == "" && !certified {
		return nil, errors.New("a device needs its id, and its token or a certificate")
	}
	d := &Device{o: o, log: o.Log, turn: make(chan struct{}), up: make(chan struct{}), replies: map[string][]byte{},
		slots: make(chan struct{}, atOnce)}
	switch u.Scheme {
	case "mqtt", "mqtts":
		d.dial = func(attempt, life context.Context) (link, error) { return dial5(attempt, life, d, u) }
	case "mqtt3", "mqtt3s":
		d.dial = func(attempt, life context.Context) (link, error) { return dial3(attempt, life, d, u) }
	case "http", "https":
		d.dial = func(attempt, life context.Context) (link, error) { return dialHTTP(attempt, life, d, u) }
	default:
		return nil,
			fmt.Errorf("the server %q is spoken to by no protocol that is known here; write mqtt, mqtt3 or http before ://", o.Server)
	}
	if d.log == nil {
		d.log = slog.New(slog.DiscardHandler)
	}
	d.log = d.log.With("device", o.ID)
	if d.o.Now == nil {
		d.o.Now = time.Now
	}
	if d.o.SpoolBytes <= 0 {
		d.o.SpoolBytes = 16 << 20
	}
	if d.o.RetryFirst <= 0 {
		d.o.RetryFirst = time.Second
	}
	if d.o.RetryMost <= 0 {
		d.o.RetryMost = time.Minute
	}
	if d.spool, err = openSpool(o.Spool, d.o.SpoolBytes); err != nil {
		return nil, err
	}
	return d, nil
}

// Run connects and goes on until ctx ends: it sends what is in the spool, takes
// settings and commands, and connects again when the link is lost. It returns
// when everything it started has ended; what was not sent stays in the spool.
func (d *Device) Run(ctx context.Context) {
	defer func() {
		d.mu.Lock()
		d.over = true
		d.mu.Unlock()
		d.handlers.Wait()
	}()
	tries := 0
	for ctx.Err() == nil {
		if !d.awake(ctx) {
			continue
		}
		attempt, cancel := context.WithTimeout(ctx, connectWait)
		l, err := d.dial(attempt, ctx)
		cancel()
		if err == nil {
			d.setLinked(true)
			err = d.serve(ctx, l, &tries)
			d.setLinked(false)
			l.close()
		}
		if ctx.Err() != nil || d.sleeping() {
			tries = 0
			continue
		}
		wait := d.retry(tries)
		tries++
		d.log.Debug("no link", "error", err, "again_in", wait)
		d.pause(ctx, wait, nil)
	}
}

// Close gives the spool back. Run must have returned.
func (d *Device) Close() error { return d.spool.close() }

// retry returns how long to wait before an attempt, after so many that failed.
func (d *Device) retry(tries int) time.Duration {
	wait := d.o.RetryMost
	if tries < 30 {
		wait = min(d.o.RetryFirst<<tries, d.o.RetryMost)
	}
	return wait - rand.N(wait/2+1)
}

// serve sends what there is over a link until it is lost, the device sleeps or
// ctx ends.
func (d *Device) serve(ctx context.Context, l link, tries *int) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-l.lost():
			cancel()
		case <-ctx.Done():
		}
	}()
	if err := d.about(ctx, l); err != nil {
		return err
	}
	failed := 0
	for {
		if d.sleeping() {
			return nil
		}
		news := d.spool.changed()
		m, n := d.spool.head()
		if n == 0 {
			*tries = 0 // everything got through, so the next loss begins anew
			if !d.pause(ctx, -1, news) {
				return errLost
			}
			continue
		}
		err := d.publish(ctx, l, m.name, m.body)
		if ctx.Err() != nil {
			return errLost
		}
		if err != nil {
			wait := d.retry(failed)
			failed++
			d.log.Debug("a message was not taken and is kept", "message", m.name, "error", err, "again_in", wait)
			if !d.pause(ctx, wait, nil) {
				return errLost
			}
			continue
		}
		failed = 0
		*tries = 0
		d.spool.drop(n)
	}
}

var errLost = errors.New("the link was lost")

// publish sends a message. A refusal is told, and counts as sent.
func (d *Device) publish(ctx context.Context, l link, name string, body []byte) error {
	ctx, cancel := context.WithTimeout(ctx, ackWait)
	defer cancel()
	err := l.publish(ctx, name, body)
	var r *Refusal
	if errors.As(err, &r) {
		d.log.Warn("a message was refused", "message", name, "reason", r.Reason)
		return nil
	}
	return err
}

func (d *Device) about(ctx context.Context, l link) error {
	if d.o.About == nil {
		return nil
	}
	body, err := json.Marshal(d.o.About())
	if err != nil {
		return fmt.Errorf("the attributes of %s cannot be written as JSON: %w", d.o.ID, err)
	}
	d.mu.Lock()
	known := bytes.Equal(body, d.told)
	d.mu.Unlock()
	if known {
		return nil
	}
	if err := d.publish(ctx, l, "about", body); err != nil {
		return err
	}
	d.mu.Lock()
	d.told = body
	d.mu.Unlock()
	return nil
}

// pause waits for a time, or for ever if it is negative, or until news comes or
// the device falls asleep. It returns false if ctx ended.
func (d *Device) pause(ctx context.Context, wait time.Duration, news <-chan struct{}) bool {
	d.mu.Lock()
	turn := d.turn
	d.mu.Unlock()
	var over <-chan time.Time
	if wait >= 0 {
		t := time.NewTimer(wait)
		defer t.Stop()
		over = t.C
	}
	select {
	case <-ctx.Done():
		return false
	case <-over:
	case <-news:
	case <-turn:
	}
	return true
}

// Sleep closes the link, as a radio that is switched off. What is sent meanwhile
// waits in the spool.
func (d *Device) Sleep() { d.sleep(true) }

// Wake opens the link again.
func (d *Device) Wake() { d.sleep(false) }

func (d *Device) sleep(on bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.asleep != on {
		d.asleep = on
		close(d.turn)
		d.turn = make(chan struct{})
	}
}

func (d *Device) sleeping() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.asleep
}

// awake waits until the device may connect; false if ctx ended or the device
// turned over.
func (d *Device) awake(ctx context.Context) bool {
	d.mu.Lock()
	asleep, turn := d.asleep, d.turn
	d.mu.Unlock()
	if !asleep {
		return true
	}
	select {
	case <-ctx.Done():
	case <-turn:
	}
	return false
}

func (d *Device) setLinked(on bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.linked = on
	if on {
		close(d.up)
	} else {
		d.up = make(chan struct{})
	}
}

// AwaitLink waits until the device is connected, or ctx ends.
func (d *Device) AwaitLink(ctx context.Context) error {
	d.mu.Lock()
	up := d.up
	d.mu.Unlock()
	select {
	case <-up:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Linked reports whether the device is connected now.
func (d *Device) Linked() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.linked
}
