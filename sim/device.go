package sim

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/eclipse/paho.golang/autopaho"
	"github.com/eclipse/paho.golang/paho"
	mqtt3 "github.com/eclipse/paho.mqtt.golang"
)

// link is how a simulated device reaches the service.
type link interface {
	// publish sends a message and returns when it is acknowledged.
	publish(ctx context.Context, name string, body []byte) error
	close()
}

// device is one simulated device while it plays.
type device struct {
	Unit
	world  World
	creds  Credentials
	log    *slog.Logger
	link   link
	client *http.Client

	mu       sync.Mutex
	applied  map[string]any
	revision int64
	done     map[string][]byte // replies by the id of the command, for those that come again
	changed  chan struct{}     // a setting that matters to the loop has changed
	mutedAt  time.Time         // the loop's alone
}

func newDevice(u Unit, w World, c Credentials, log *slog.Logger) *device {
	return &device{Unit: u, world: w, creds: c, log: log.With("device", u.ID), applied: map[string]any{}, done: map[string][]byte{}, changed: make(chan struct{}, 1),
		client: &http.Client{Timeout: 2 * time.Minute}}
}

// connect opens the device's link and asks for its settings.
func (d *device) connect(ctx context.Context) error {
	var err error
	switch d.Protocol {
	case MQTT5:
		err = dial5(ctx, d)
	case MQTT3:
		err = dial3(d)
	default:
		d.link = &httpLink{d}
		if d.Writable {
			go d.poll(ctx)
		}
		if d.commanded() {
			go d.pollCommands(ctx)
		}
	}
	if err != nil {
		return fmt.Errorf("%s: %w", d.ID, err)
	}
	said := map[string]any{"serial": fmt.Sprintf("TH-%06d", int(500000*(1+d.world.noise(d.ID, "serial", 0)))), "hw_rev": d.HwRev, "firmware": d.Firmware}
	if d.Of != nil {
		said = d.world.attributes(d.Unit)
	}
	about, err := json.Marshal(said)
	if err != nil {
		return err
	}
	return d.link.publish(ctx, "about", about)
}

type document struct {
	Revision int64          `json:"revision"`
	Settings map[string]any `json:"intended"`
}

// obey applies a settings document and reports what came of it.
func (d *device) obey(ctx context.Context, body []byte) {
	var doc document
	if err := json.Unmarshal(body, &doc); err != nil {
		d.log.Warn("the settings were not readable", "error", err)
		return
	}
	d.mu.Lock()
	refused := map[string]string{}
	for name, v := range doc.Settings {
		if reason, instead := d.Refuses(name, v); reason != "" {
			refused[name] = reason
			d.applied[name] = instead
			continue
		}
		d.applied[name] = v
	}
	d.revision = doc.Revision
	report, err := json.Marshal(map[string]any{"revision": doc.Revision, "applied": d.applied, "refused": refused})
	d.mu.Unlock()
	if err != nil {
		return
	}
	select {
	case d.changed <- struct{}{}:
	default:
	}
	if err := d.link.publish(ctx, "applied", report); err != nil && ctx.Err() == nil {
		d.log.Warn("the applied settings were not taken", "error", err)
	}
}

type order struct {
	ID      string         `json:"id"`
	Name    string         `json:"name"`
	Input   map[string]any `json:"input"`
	Expires time.Time      `json:"expires"`
}

// perform does what a command says and replies. A command that comes again is
// replied to again and not done twice.
func (d *device) perform(ctx context.Context, name string, body []byte) {
	var o order
	if err := json.Unmarshal(body, &o); err != nil || o.ID == "" {
		d.log.Warn("a command was not readable", "error", err)
		return
	}
	if d.world.Silent(d.Unit, time.Now()) {
		return // the story has it out of reach
	}
	d.mu.Lock()
	reply, again := d.done[o.ID]
	d.mu.Unlock()
	if !again {
		takes := d.takes(name)
		pause(ctx, takes)
		said := map[string]any{"id": o.ID}
		if output, why := d.does(name, o.Input); why != "" {
			said["error"] = why
		} else if output != nil {
			said["output"] = output
		}
		var err error
		if reply, err = json.Marshal(said); err != nil {
			return
		}
		d.mu.Lock()
		if len(d.done) > 100 {
			clear(d.done)
		}
		d.done[o.ID] = reply
		d.mu.Unlock()
	}
	if err := d.link.publish(ctx, "reply", reply); err != nil && ctx.Err() == nil {
		d.log.Warn("a reply was not taken", "error", err)
	}
}

// pollCommands asks for commands over HTTP.
func (d *device) pollCommands(ctx context.Context) {
	for ctx.Err() == nil {
		if d.world.Silent(d.Unit, time.Now()) {
			pause(ctx, 5*time.Second)
			continue
		}
		body, status, err := d.request(ctx, http.MethodGet, "commands?wait=30s", nil)
		var orders []json.RawMessage
		if err != nil || status != http.StatusOK || json.Unmarshal(body, &orders) != nil {
			pause(ctx, 5*time.Second)
			continue
		}
		for _, raw := range orders {
			var o order
			if json.Unmarshal(raw, &o) == nil {
				d.perform(ctx, o.Name, raw)
			}
		}
	}
}

func (d *device) settings() map[string]any {
	d.mu.Lock()
	defer d.mu.Unlock()
	return maps.Clone(d.applied)
}

// period is how often the device reports now.
func (d *device) period() time.Duration {
	if d.Of != nil {
		if name, unit := paced(d.Of); name != "" {
			if f, ok := d.settings()[name].(float64); ok && f > 0 {
				return max(time.Duration(f*float64(unit)), time.Second)
			}
		}
		return d.Every
	}
	if f, ok := d.settings()["report_every"].(float64); ok && f >= 1 {
		return time.Duration(f * float64(time.Second))
	}
	return d.Every
}

// poll asks for settings over HTTP and waits for the next revision.
func (d *device) poll(ctx context.Context) {
	for ctx.Err() == nil {
		d.mu.Lock()
		q := url.Values{}
		if d.revision > 0 {
			q = url.Values{"not": {fmt.Sprint(d.revision)}, "wait": {"30s"}}
		}
		d.mu.Unlock()
		body, status, err := d.request(ctx, http.MethodGet, "intended?"+q.Encode(), nil)
		switch {
		case err != nil:
			pause(ctx, 5*time.Second)
		case status == http.StatusOK:
			d.obey(ctx, body)
		case status != http.StatusNotModified:
			pause(ctx, 5*time.Second)
		}
	}
}

func (d *device) request(ctx context.Context, method, path string, body []byte) ([]byte, int, error) {
	req, err := http.NewRequestWithContext(ctx, method, "http://"+d.creds.HTTP+"/device/v1/"+path, bytes.NewReader(body))
	if err != nil {
		return nil, 0, err
	}
	req.Header.Set("Authorization", "Bearer "+d.creds.Tokens[d.ID])
	req.Header.Set("Content-Type", "application/json")
	resp, err := d.client.Do(req)
	if err != nil {
		return nil, 0, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	return b, resp.StatusCode, err
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

type httpLink struct{ d *device }

func (l *httpLink) publish(ctx context.Context, name string, body []byte) error {
	switch {
	case name == "reply":
		name = "replies"
	case strings.HasPrefix(name, "event/"):
		name = "events/" + strings.TrimPrefix(name, "event/")
	}
	for {
		answer, status, err := l.d.request(ctx, http.MethodPost, name, body)
		switch {
		case err != nil:
			return err
		case status == http.StatusTooManyRequests, status >= 500:
			pause(ctx, time.Second)
			if ctx.Err() != nil {
				return ctx.Err()
			}
		case status >= 300:
			return fmt.Errorf("refused with %d: %s", status, bytes.TrimSpace(answer))
		default:
			return nil
		}
	}
}

func (l *httpLink) close() {}

// link5 speaks MQTT 5 with paho.golang, which connects again by itself.
type link5 struct {
	d  *device
	cm atomic.Pointer[autopaho.ConnectionManager]
}

// dial5 sets the device's link before it connects: settings may come at once.
func dial5(ctx context.Context, d *device) error {
	u, err := url.Parse("mqtt://" + d.creds.MQTT)
	if err != nil {
		return err
	}
	l := &link5{d: d}
	d.link = l
	intended, command := "ullage/"+d.ID+"/intended", "ullage/"+d.ID+"/command/"
	cfg := autopaho.ClientConfig{
		ServerUrls: []*url.URL{u}, KeepAlive: 60, CleanStartOnInitialConnection: true, SessionExpiryInterval: 3600,
		ConnectUsername: d.ID, ConnectPassword: []byte(d.creds.Tokens[d.ID]),
		ReconnectBackoff: func(attempt int) time.Duration { // the first attempt counts too
			if attempt == 0 {
				return 0
			}
			return 5 * time.Second
		},
		OnConnectionUp: func(cm *autopaho.ConnectionManager, _ *paho.Connack) {
			if _, err := cm.Subscribe(ctx, &paho.Subscribe{Subscriptions: []paho.SubscribeOptions{{Topic: intended, QoS: 1}, {Topic: command + "+", QoS: 1}}}); err != nil && ctx.Err() == nil {
				d.log.Warn("the subscription failed", "error", err)
			}
		},
		OnConnectError: func(err error) {
			if ctx.Err() == nil {
				d.log.Debug("no connection", "error", err)
			}
		},
		ClientConfig: paho.ClientConfig{ClientID: d.ID, OnPublishReceived: []func(paho.PublishReceived) (bool, error){
			func(p paho.PublishReceived) (bool, error) {
				body := slices.Clone(p.Packet.Payload)
				if name, ok := strings.CutPrefix(p.Packet.Topic, command); ok {
					go d.perform(ctx, name, body)
				} else {
					go d.obey(ctx, body)
				}
				return true, nil
			}}},
	}
	cm, err := autopaho.NewConnection(ctx, cfg)
	if err != nil {
		return err
	}
	l.cm.Store(cm)
	wait, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if err := cm.AwaitConnection(wait); err != nil {
		return fmt.Errorf("no MQTT 5 connection to %s within 20 s; see why with: ullage traffic %s", d.creds.MQTT, d.ID)
	}
	return nil
}

func (l *link5) publish(ctx context.Context, name string, body []byte) error {
	cm := l.cm.Load()
	for ; cm == nil; cm = l.cm.Load() {
		if pause(ctx, 5*time.Millisecond); ctx.Err() != nil {
			return ctx.Err()
		}
	}
	if err := cm.AwaitConnection(ctx); err != nil {
		return err
	}
	resp, err := cm.Publish(ctx, &paho.Publish{Topic: "ullage/" + l.d.ID + "/" + name, QoS: 1, Payload: body,
		Properties: &paho.PublishProperties{ContentType: "application/json"}})
	if resp != nil && resp.ReasonCode >= 0x80 && resp.Properties != nil {
		return fmt.Errorf("refused with 0x%02X: %s", resp.ReasonCode, resp.Properties.ReasonString)
	}
	return err
}

func (l *link5) close() {
	bye, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if cm := l.cm.Load(); cm != nil {
		cm.Disconnect(bye)
	}
}

// link3 speaks MQTT 3.1.1 with paho.mqtt.golang.
type link3 struct {
	d *device
	c mqtt3.Client
}

func dial3(d *device) error {
	o := mqtt3.NewClientOptions().AddBroker("tcp://" + d.creds.MQTT).SetClientID(d.ID).SetUsername(d.ID).SetPassword(d.creds.Tokens[d.ID]).
		SetProtocolVersion(4).SetCleanSession(true).SetAutoReconnect(true).SetMaxReconnectInterval(10 * time.Second).SetOrderMatters(false).
		SetConnectTimeout(10 * time.Second)
	o.SetOnConnectHandler(func(c mqtt3.Client) {
		c.Subscribe("ullage/"+d.ID+"/intended", 1, func(_ mqtt3.Client, m mqtt3.Message) { go d.obey(context.Background(), slices.Clone(m.Payload())) })
		c.Subscribe("ullage/"+d.ID+"/command/+", 1, func(_ mqtt3.Client, m mqtt3.Message) {
			go d.perform(context.Background(), m.Topic()[strings.LastIndexByte(m.Topic(), '/')+1:], slices.Clone(m.Payload()))
		})
	})
	l := &link3{d, mqtt3.NewClient(o)}
	d.link = l
	if t := l.c.Connect(); !t.WaitTimeout(20*time.Second) || t.Error() != nil {
		return fmt.Errorf("no MQTT 3.1.1 connection to %s (%v); see why with: ullage traffic %s", d.creds.MQTT, t.Error(), d.ID)
	}
	return nil
}

func (l *link3) publish(ctx context.Context, name string, body []byte) error {
	t := l.c.Publish("ullage/"+l.d.ID+"/"+name, 1, false, body)
	select {
	case <-t.Done():
		return t.Error()
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (l *link3) close() { l.c.Disconnect(200) }
