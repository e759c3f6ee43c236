package mqtt_test

import (
	"bufio"
	"bytes"
	"io"
	"log/slog"
	"net"
	"sync/atomic"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/app"
	"ullage/fleet/event"
	"ullage/store"
	"ullage/test/rig"
	"ullage/transport/door"
	"ullage/transport/mqtt"
)

// bench is a rig with an MQTT listener on loopback.
type bench struct {
	*rig.Rig
	server  *mqtt.Server
	address string
	token   string
}

func newBench(t testing.TB, change func(*door.Limits)) *bench {
	return newBenchOn(t, store.Options{}, change)
}

func newBenchOn(t testing.TB, o store.Options, change func(*door.Limits)) *bench {
	t.Helper()
	b := &bench{}
	var server atomic.Pointer[mqtt.Server] // the bus runs before there is a server
	b.Rig = rig.NewWith(t, app.Options{Store: o, Handlers: []event.Handler{func(i int, e event.Event) {
		if s := server.Load(); s != nil {
			s.Handle(i, e)
		}
	}}})
	d := b.DoorWith(time.Now, func(l *door.Limits) {
		l.Rate, l.Connects = 0, 0
		if change != nil {
			change(l)
		}
	})
	b.server = mqtt.NewServer(mqtt.Options{Door: d, Log: slog.New(slog.DiscardHandler), Now: time.Now})
	server.Store(b.server)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	b.Must(err)
	b.address = l.Addr().String()
	go b.server.Serve(l)
	t.Cleanup(func() { l.Close(); b.server.Stop(2 * time.Second) })
	b.token = b.Onboard(tank, "tank-probe", nil)
	return b
}

// peer is a client that speaks packet by packet.
type peer struct {
	t       testing.TB
	conn    net.Conn
	r       *bufio.Reader
	version byte
}

func (b *bench) dial(version byte) *peer {
	b.T.Helper()
	conn, err := net.Dial("tcp", b.address)
	b.Must(err)
	b.T.Cleanup(func() { conn.Close() })
	return &peer{b.T, conn, bufio.NewReader(conn), version}
}

func (p *peer) send(pk packets.Packet) {
	p.t.Helper()
	pk.ProtocolVersion = p.version
	var buf bytes.Buffer
	var err error
	switch pk.FixedHeader.Type {
	case packets.Connect:
		err = pk.ConnectEncode(&buf)
	case packets.Publish:
		err = pk.PublishEncode(&buf)
	case packets.Puback:
		err = pk.PubackEncode(&buf)
	case packets.Subscribe:
		err = pk.SubscribeEncode(&buf)
	case packets.Unsubscribe:
		err = pk.UnsubscribeEncode(&buf)
	case packets.Pingreq:
		err = pk.PingreqEncode(&buf)
	case packets.Disconnect:
		err = pk.DisconnectEncode(&buf)
	}
	if err != nil {
		p.t.Fatal(err)
	}
	p.raw(buf.Bytes())
}

func (p *peer) raw(b []byte) {
	p.conn.SetWriteDeadline(time.Now().Add(30 * time.Second))
	p.conn.Write(b)
}

// next reads a packet; nil means that the connection has ended.
func (p *peer) next() *packets.Packet {
	p.t.Helper()
	p.conn.SetReadDeadline(time.Now().Add(30 * time.Second))
	first, err := p.r.ReadByte()
	if err != nil {
		if e, ok := err.(net.Error); ok && e.Timeout() {
			p.t.Fatal("nothing came within 30 s")
		}
		return nil
	}
	pk := &packets.Packet{ProtocolVersion: p.version}
	if err := pk.FixedHeader.Decode(first); err != nil {
		p.t.Fatal(err)
	}
	n, _, err := packets.DecodeLength(p.r)
	if err != nil {
		p.t.Fatal(err)
	}
	pk.FixedHeader.Remaining = n
	body := make([]byte, n)
	if _, err := io.ReadFull(p.r, body); err != nil {
		return nil
	}
	switch pk.FixedHeader.Type {
	case packets.Connack:
		err = pk.ConnackDecode(body)
	case packets.Publish:
		err = pk.PublishDecode(body)
	case packets.Puback:
		err = pk.PubackDecode(body)
	case packets.Suback:
		err = pk.SubackDecode(body)
	case packets.Unsuback:
		err = pk.UnsubackDecode(body)
	case packets.Disconnect:
		err = pk.DisconnectDecode(body)
	}
	if err != nil {
		p.t.Fatal(err)
	}
	return pk
}

// want reads a packet of a type.
func (p *peer) want(kind byte) *packets.Packet {
	p.t.Helper()
	pk := p.next()
	if pk == nil || pk.FixedHeader.Type != kind {
		p.t.Fatalf("got %+v, want a packet of type %d", pk, kind)
	}
	return pk
}

func connectPacket(user, password, clientID string) packets.Packet {
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connect}}
	pk.Connect = packets.ConnectParams{ProtocolName: []byte("MQTT"), Clean: true, Keepalive: 30,
		ClientIdentifier: clientID}
	if user != "" {
		pk.Connect.UsernameFlag, pk.Connect.Username = true, []byte(user)
	}
	if password != "" {
		pk.Connect.PasswordFlag, pk.Connect.Password = true, []byte(password)
	}
	return pk
}

// enter connects as the tank.
func (b *bench) enter(version byte) *peer {
	b.T.Helper()
	p := b.dial(version)
	p.send(connectPacket(tank, b.token, tank))
	if pk := p.want(packets.Connack); pk.ReasonCode != 0 {
		b.T.Fatalf("not let in: %d %s", pk.ReasonCode, pk.Properties.ReasonString)
	}
	return p
}

func publish(id uint16, topic, body string) packets.Packet {
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: topic,
		Payload: []byte(body), PacketID: id}
	if id > 0 {
		pk.FixedHeader.Qos = 1
	}
	return pk
}

func subscribe(id uint16, qos byte, filters ...string) packets.Packet {
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Subscribe, Qos: 1}, PacketID: id}
	for _, f := range filters {
		pk.Filters = append(pk.Filters, packets.Subscription{Filter: f, Qos: qos})
	}
	return pk
}

// both runs a test for MQTT 3.1.1 and 5.
func both(t *testing.T, f func(t *testing.T, version byte)) {
	for name, v := range map[string]byte{"3.1.1": 4, "5": 5} {
		t.Run(name, func(t *testing.T) { f(t, v) })
	}
}

func (b *bench) enterAs(version byte, clientID string) *peer {
	b.T.Helper()
	p := b.dial(version)
	p.send(connectPacket(tank, b.token, clientID))
	if pk := p.want(packets.Connack); pk.ReasonCode != 0 {
		b.T.Fatalf("not let in: %d", pk.ReasonCode)
	}
	return p
}
