package device

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/url"
	"strings"
	"sync"

	"github.com/eclipse/paho.golang/packets"
	"github.com/eclipse/paho.golang/paho"
	mqtt3 "github.com/eclipse/paho.mqtt.golang"
)

// keepAlive is how often an idle connection shows that it lives, in seconds.
const keepAlive = 60

// link5 speaks MQTT 5.
type link5 struct {
	client *paho.Client
	prefix string
}

func dial5(ctx, life context.Context, d *Device, u *url.URL) (link, error) {
	var conn net.Conn
	var err error
	if u.Scheme == "mqtts" {
		conn, err = (&tls.Dialer{Config: d.o.TLS}).DialContext(ctx, "tcp", u.Host)
	} else {
		conn, err = (&net.Dialer{}).DialContext(ctx, "tcp", u.Host)
	}
	if err != nil {
		return nil, err
	}
	l := &link5{prefix: "ullage/" + d.o.ID + "/"}
	l.client = paho.NewClient(paho.ClientConfig{Conn: packets.NewThreadSafeConn(conn), ClientID: d.o.ID,
		OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(p paho.PublishReceived) (bool, error) {
			if name, ok := strings.CutPrefix(p.Packet.Topic, l.prefix); ok {
				d.receive(life, name, bytes.Clone(p.Packet.Payload))
			}
			return true, nil
		}}})
	ack, err := l.client.Connect(ctx, &paho.Connect{ClientID: d.o.ID, CleanStart: true, KeepAlive: keepAlive,
		Username: d.o.ID, UsernameFlag: true, Password: []byte(d.o.Token), PasswordFlag: d.o.Token != ""})
	if err != nil {
		conn.Close()
		if ack != nil && ack.Properties != nil && ack.Properties.ReasonString != "" {
			return nil, fmt.Errorf("the service refused the connection: %s", ack.Properties.ReasonString)
		}
		return nil, err
	}
	sub := &paho.Subscribe{}
	for _, t := range d.topics() {
		sub.Subscriptions = append(sub.Subscriptions, paho.SubscribeOptions{Topic: l.prefix + t, QoS: 1})
	}
	if _, err := l.client.Subscribe(ctx, sub); err != nil {
		conn.Close()
		return nil, err
	}
	return l, nil
}

func (l *link5) publish(ctx context.Context, name string, body []byte) error {
	resp, err := l.client.Publish(ctx, &paho.Publish{Topic: l.prefix + name, QoS: 1, Payload: body,
		Properties: &paho.PublishProperties{ContentType: "application/json"}})
	if resp != nil && resp.ReasonCode >= 0x80 {
		reason := fmt.Sprintf("code 0x%02X", resp.ReasonCode)
		if resp.Properties != nil && resp.Properties.ReasonString != "" {
			reason = resp.Properties.ReasonString
		}
		return &Refusal{reason}
	}
	return err
}

func (l *link5) lost() <-chan struct{} { return l.client.Done() }

func (l *link5) close() { _ = l.client.Disconnect(&paho.Disconnect{}) }

// link3 speaks MQTT 3.1.1. There an acknowledgement says nothing about what was
// kept; the topic problem does.
type link3 struct {
	client mqtt3.Client
	prefix string
	gone   chan struct{}
	once   sync.Once
}

func dial3(ctx, life context.Context, d *Device, u *url.URL) (link, error) {
	scheme := "tcp://"
	if u.Scheme == "mqtt3s" {
		scheme = "ssl://"
	}
	l := &link3{prefix: "ullage/" + d.o.ID + "/", gone: make(chan struct{})}
	o := mqtt3.NewClientOptions().AddBroker(scheme + u.Host).SetClientID(d.o.ID).SetUsername(d.o.ID).
		SetPassword(d.o.Token).
		SetProtocolVersion(4).SetCleanSession(true).SetAutoReconnect(false).SetConnectRetry(false).
		SetOrderMatters(false).
		SetKeepAlive(keepAlive * 1e9).SetConnectTimeout(connectWait).SetWriteTimeout(ackWait).SetTLSConfig(d.o.TLS).
		SetConnectionLostHandler(func(mqtt3.Client, error) { l.over() })
	l.client = mqtt3.NewClient(o)
	if err := l.await(ctx, l.client.Connect); err != nil {
		l.client.Disconnect(0)
		return nil, err
	}
	filters := map[string]byte{}
	for _, t := range d.topics() {
		filters[l.prefix+t] = 1
	}
	heard := func(_ mqtt3.Client, m mqtt3.Message) {
		if name, ok := strings.CutPrefix(m.Topic(), l.prefix); ok {
			d.receive(life, name, bytes.Clone(m.Payload()))
		}
	}
	if err := l.await(ctx, func() mqtt3.Token { return l.client.SubscribeMultiple(filters, heard) }); err != nil {
		l.client.Disconnect(0)
		return nil, err
	}
	return l, nil
}

// await has the library do something and waits for its end, or that of ctx. The
// library may itself wait as long as its write time-out where the connection
// breaks at the wrong moment, so that it is not called here.
func (l *link3) await(ctx context.Context, do func() mqtt3.Token) error {
	end := make(chan error, 1)
	go func() {
		t := do()
		<-t.Done()
		end <- t.Error()
	}()
	select {
	case err := <-end:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (l *link3) publish(ctx context.Context, name string, body []byte) error {
	return l.await(ctx, func() mqtt3.Token { return l.client.Publish(l.prefix+name, 1, false, body) })
}

func (l *link3) lost() <-chan struct{} { return l.gone }

func (l *link3) close() {
	l.client.Disconnect(100)
	l.over()
}

func (l *link3) over() { l.once.Do(func() { close(l.gone) }) }
