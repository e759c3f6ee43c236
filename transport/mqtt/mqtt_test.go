package mqtt_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/ingest"
	"ullage/fleet/wire"
	"ullage/store"
	"ullage/test/rig"
	"ullage/transport/mqtt"
)

const tank = "tank-fennimore-07"

// bench is a rig with an MQTT listener on loopback.
type bench struct {
	*rig.Rig
	server  *mqtt.Server
	address string
	token   string
}

func newBench(t testing.TB, change func(*ingest.Limits)) *bench {
	return newBenchOn(t, store.Options{}, change)
}

func newBenchOn(t testing.TB, o store.Options, change func(*ingest.Limits)) *bench {
	t.Helper()
	b := &bench{}
	var server atomic.Pointer[mqtt.Server] // the bus runs before there is a server
	b.Rig = rig.NewWith(t, o, func(i int, e event.Event) {
		if s := server.Load(); s != nil {
			s.Handle(i, e)
		}
	})
	limits := ingest.DefaultLimits()
	limits.Rate, limits.Connects = 0, 0
	if change != nil {
		change(&limits)
	}
	b.server = mqtt.NewServer(mqtt.Deps{Devices: b.Devices, Door: b.Door, Settings: b.Settings, Wire: b.Wire,
		Gate: devices.NewGate(30, time.Now), Limits: limits, Log: slog.New(slog.DiscardHandler), Now: time.Now})
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
	p.conn.SetWriteDeadline(time.Now().Add(5 * time.Second))
	p.conn.Write(b)
}

// next reads a packet; nil means that the connection has ended.
func (p *peer) next() *packets.Packet {
	p.t.Helper()
	p.conn.SetReadDeadline(time.Now().Add(5 * time.Second))
	first, err := p.r.ReadByte()
	if err != nil {
		if e, ok := err.(net.Error); ok && e.Timeout() {
			p.t.Fatal("nothing came within 5 s")
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
	pk.Connect = packets.ConnectParams{ProtocolName: []byte("MQTT"), Clean: true, Keepalive: 30, ClientIdentifier: clientID}
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
	pk := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish}, TopicName: topic, Payload: []byte(body), PacketID: id}
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

const readings = "ullage/" + tank + "/readings"

// both runs a test for MQTT 3.1.1 and 5.
func both(t *testing.T, f func(t *testing.T, version byte)) {
	for name, v := range map[string]byte{"3.1.1": 4, "5": 5} {
		t.Run(name, func(t *testing.T) { f(t, v) })
	}
}

func TestPublishIsStoredBeforeItIsAcknowledged(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBench(t, nil)
		p := b.enter(version)
		p.send(publish(7, readings, `{"ullage":30.5}`))
		if pk := p.want(packets.Puback); pk.PacketID != 7 || pk.ReasonCode != 0 {
			t.Fatalf("acknowledged with %+v", pk)
		}
		if ps := b.Points(tank, "ullage"); len(ps) != 1 || ps[0].Value != value.OfNumber(30.5) {
			t.Errorf("stored is %+v", ps)
		}
		p.send(publish(0, readings, `{"ullage":31}`))
		p.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingreq}})
		p.want(packets.Pingresp)
		for end := time.Now().Add(5 * time.Second); b.Device(tank).Latest["ullage"].Value != value.OfNumber(31); time.Sleep(5 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatal("QoS 0 was not stored")
			}
		}
	})
}

func TestPipelinedInOrder(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBench(t, nil)
		p := b.enter(version)
		const n = 400
		go func() {
			for i := 1; i <= n; i++ {
				body := fmt.Sprintf(`{"at":%q,"values":{"ullage":%d}}`, rig.Start.Add(time.Duration(i)*time.Millisecond).Format("2006-01-02T15:04:05.000Z"), i%300)
				if i%50 == 0 {
					body = `{"ullage":` // broken ones are acknowledged too, in their place
				}
				p.send(publish(uint16(i), readings, body))
			}
		}()
		for i := 1; i <= n; i++ {
			if pk := p.want(packets.Puback); pk.PacketID != uint16(i) {
				t.Fatalf("acknowledgement %d is of packet %d", i, pk.PacketID)
			}
		}
		if got := len(b.Points(tank, "ullage")); got != n-n/50 {
			t.Errorf("%d are stored", got)
		}
		if c := b.Store.Stats().Commits.Load(); c >= n {
			t.Errorf("%d commits; the next packets were not read while one was under way", c)
		}
	})
}

func TestStrangersHearLittle(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBench(t, nil)
		other := b.Onboard("tank-fennimore-08", "tank-probe", nil)
		for _, c := range []struct{ user, password, client, says string }{
			{"tank-nowhere-01", b.token, "tank-nowhere-01", "there is no device"},
			{tank, "nonsense", tank, "no Ullage token"},
			{tank, other, tank, "wrong bundle"},
			{tank, "", tank, "no token"},
			{tank, b.token, "mosq-4711", "client id"},
			{"", b.token, tank, "no user name"},
		} {
			p := b.dial(version)
			p.send(connectPacket(c.user, c.password, c.client))
			pk := p.want(packets.Connack)
			if pk.ReasonCode == 0 {
				t.Errorf("%+v was let in", c)
				continue
			}
			es := b.Wire.Recent(wire.Filter{Limit: 1})
			if len(es) == 0 || !strings.Contains(es[0].Reason, c.says) || es[0].Ref == "" {
				t.Errorf("%+v: the wire shows %+v", c, es)
				continue
			}
			if told := pk.Properties.ReasonString; version == 5 && told != "not authorised, ref "+es[0].Ref {
				t.Errorf("the stranger was told %q, the ref is %s", told, es[0].Ref)
			}
			if c.password != "" && strings.Contains(fmt.Sprint(es[0]), c.password) {
				t.Error("the wire shows what was given as a password")
			}
			if p.next() != nil {
				t.Error("the connection goes on")
			}
		}
	})
}

func TestOnlyItsOwnTopics(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBench(t, nil)
		b.Onboard("tank-fennimore-08", "tank-probe", nil)
		p := b.enter(version)
		p.send(subscribe(1, 0, "ullage/"+tank+"/problem"))
		p.want(packets.Suback)
		for i, topic := range []string{"ullage/tank-fennimore-08/readings", "readings", "ullage/" + tank, "$SYS/x"} {
			p.send(publish(uint16(10+i), topic, `{"ullage":30}`))
			pk := p.want(packets.Puback)
			if version == 5 && (pk.ReasonCode != 0x87 || !strings.Contains(pk.Properties.ReasonString, "publishes under ullage/"+tank)) {
				t.Errorf("%s: %d %q", topic, pk.ReasonCode, pk.Properties.ReasonString)
			}
			problem := p.want(packets.Publish)
			if problem.TopicName != "ullage/"+tank+"/problem" || !strings.Contains(string(problem.Payload), "publishes under") {
				t.Errorf("the problem is %s %s", problem.TopicName, problem.Payload)
			}
		}
		if n := len(b.Points("tank-fennimore-08", "ullage")); n != 0 {
			t.Errorf("the neighbour has %d readings", n)
		}
		filters := []string{"ullage/#", "#", "+/" + tank + "/intended", "ullage/tank-fennimore-08/intended", "ullage/" + tank, "ullage/" + tank + "/a#", "$share/g/ullage/" + tank + "/intended"}
		p.send(subscribe(2, 1, filters...))
		ack := p.want(packets.Suback)
		for i, code := range ack.ReasonCodes {
			if code < 0x80 {
				t.Errorf("the filter %s was granted", filters[i])
			}
		}
	})
}

func TestBadDataIsAcknowledgedAndExplained(t *testing.T) {
	b := newBench(t, nil)
	p := b.enter(5)
	p.send(publish(1, readings, `{"must_temp":"hot","ullage":30}`))
	if pk := p.want(packets.Puback); pk.ReasonCode != 0 || pk.Properties.ReasonString != `must_temp is text ("hot"); the model wants a number in °C; the other 1 fields were kept` {
		t.Errorf("partly kept: %d %q", pk.ReasonCode, pk.Properties.ReasonString)
	}
	p.send(publish(2, readings, `{"must_temp":`))
	if pk := p.want(packets.Puback); pk.ReasonCode != 0x99 || !strings.Contains(pk.Properties.ReasonString, "not JSON") {
		t.Errorf("no JSON: %d %q", pk.ReasonCode, pk.Properties.ReasonString)
	}
	q := b.enterAs(4, tank+"/second")
	q.send(subscribe(1, 0, "ullage/"+tank+"/+"))
	q.want(packets.Suback)
	q.want(packets.Publish) // the time
	q.want(packets.Publish) // the settings
	q.send(publish(3, readings, `{"must_tmp":1}`))
	q.want(packets.Puback)
	var problem struct{ Detail string }
	if pk := q.want(packets.Publish); json.Unmarshal(pk.Payload, &problem) != nil || !strings.Contains(problem.Detail, "did you mean must_temp?") {
		t.Errorf("the problem is %s", pk.Payload)
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

func revision(t testing.TB, pk *packets.Packet) int {
	t.Helper()
	var doc struct {
		Revision int
		Settings map[string]any
	}
	if err := json.Unmarshal(pk.Payload, &doc); err != nil || len(doc.Settings) != 4 || pk.TopicName != "ullage/"+tank+"/intended" {
		t.Fatalf("not a whole settings document: %s %s", pk.TopicName, pk.Payload)
	}
	return doc.Revision
}

func puback(id uint16) packets.Packet {
	return packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Puback}, PacketID: id}
}

func TestIntendedSettings(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBench(t, nil)
		p := b.enter(version)
		set := func(v float64) {
			_, err := b.Settings.Set(tank, map[string]any{"max_temp": v}, nil, "mara")
			b.Must(err)
			b.Bus.Settle()
		}
		p.send(subscribe(1, 1, "ullage/"+tank+"/intended"))
		p.want(packets.Suback)
		first := p.want(packets.Publish)
		if revision(t, first) != 1 || !first.FixedHeader.Retain || first.FixedHeader.Qos != 1 {
			t.Errorf("on subscribing: %+v", first.FixedHeader)
		}
		// While the first is on its way, later revisions wait and become one.
		set(30)
		set(29)
		set(28)
		p.send(puback(first.PacketID))
		second := p.want(packets.Publish)
		if got := revision(t, second); got != 4 {
			t.Errorf("after the acknowledgement revision %d came, want the newest", got)
		}
		p.send(puback(second.PacketID))
		set(27)
		third := p.want(packets.Publish)
		if got := revision(t, third); got != 5 {
			t.Errorf("revision %d came", got)
		}
		if s, _, _ := b.Settings.Of(tank); s.Confirmed() {
			t.Error("an acknowledgement counts as applied")
		}
		p.send(publish(9, "ullage/"+tank+"/applied", `{"revision":5,"settings":{"max_temp":27,"report_every":10,"stir_at":28,"display_unit":"Cel"}}`))
		p.want(packets.Puback)
		if s, _, _ := b.Settings.Of(tank); !s.Confirmed() {
			t.Errorf("the confirmation was not taken: %+v", s)
		}
		// Subscribing again sends it again.
		p.send(puback(third.PacketID))
		p.send(subscribe(2, 0, "ullage/"+tank+"/#"))
		p.want(packets.Suback)
		for range 2 {
			if pk := p.want(packets.Publish); strings.HasSuffix(pk.TopicName, "/intended") && revision(t, pk) != 5 {
				t.Error("not sent again")
			}
		}
	})
}

func TestResumedSessionGetsItsSettings(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBench(t, nil)
		hello := connectPacket(tank, b.token, tank)
		hello.Connect.Clean = false
		if version == 5 {
			hello.Properties.SessionExpiryInterval, hello.Properties.SessionExpiryIntervalFlag = 600, true
		}
		p := b.dial(version)
		p.send(hello)
		p.want(packets.Connack)
		p.send(subscribe(1, 1, "ullage/"+tank+"/intended"))
		p.want(packets.Suback)
		p.want(packets.Publish)
		p.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Disconnect}})
		p.next()
		_, err := b.Settings.Set(tank, map[string]any{"max_temp": 30.0}, nil, "mara")
		b.Must(err)
		for end := time.Now().Add(5 * time.Second); b.server.Connected() > 0 && time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		}
		q := b.dial(version)
		q.send(hello)
		if pk := q.want(packets.Connack); !pk.SessionPresent {
			t.Error("the session was not resumed")
		}
		if got := revision(t, q.want(packets.Publish)); got != 2 {
			t.Errorf("revision %d came", got)
		}
		clean := connectPacket(tank, b.token, tank)
		c := b.dial(version)
		c.send(clean)
		if pk := c.want(packets.Connack); pk.SessionPresent {
			t.Error("a clean start resumed a session")
		}
		for pk := q.next(); pk != nil; pk = q.next() {
			if pk.FixedHeader.Type == packets.Disconnect && pk.ReasonCode != 0x8E {
				t.Errorf("the older connection was ended with %d", pk.ReasonCode)
			}
		}
	})
}

func TestTwoSessionsAndNoThird(t *testing.T) {
	b := newBench(t, nil)
	b.enterAs(5, tank)
	b.enterAs(5, tank+"/b")
	p := b.dial(5)
	p.send(connectPacket(tank, b.token, tank+"/c"))
	if pk := p.want(packets.Connack); pk.ReasonCode != 0x97 {
		t.Errorf("a third session gets %d", pk.ReasonCode)
	}
}

func TestSuspendCutsTheConnection(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBench(t, nil)
		p := b.enter(version)
		_, err := b.Devices.SetStanding(tank, devices.Suspended, "mara")
		b.Must(err)
		pk := p.next()
		if version == 5 {
			if pk == nil || pk.FixedHeader.Type != packets.Disconnect || pk.ReasonCode != 0x87 || !strings.Contains(pk.Properties.ReasonString, "suspended") {
				t.Fatalf("it was told %+v", pk)
			}
			pk = p.next()
		}
		if pk != nil {
			t.Errorf("the connection goes on with %+v", pk)
		}
		q := b.dial(version)
		q.send(connectPacket(tank, b.token, tank))
		if pk := q.want(packets.Connack); pk.ReasonCode == 0 {
			t.Error("a suspended device was let in")
		}
	})
}

func TestFullDiskGivesNoAcknowledgement(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBenchOn(t, store.Options{MaxBytes: 90 << 10}, nil)
		p := b.enter(version)
		acknowledged := 0
		for i := 1; i < 20_000; i++ {
			p.send(publish(uint16(i), readings, fmt.Sprintf(`{"at":%q,"values":{"ullage":1,"must_temp":2,"battery":3,"rssi":-4}}`, rig.Start.Add(-time.Duration(i)*time.Second).Format(time.RFC3339))))
			pk := p.next()
			if pk == nil || pk.FixedHeader.Type == packets.Disconnect {
				if version == 5 && (pk == nil || pk.ReasonCode != 0x97 || !strings.Contains(pk.Properties.ReasonString, "disk is full")) {
					t.Errorf("it was told %+v", pk)
				}
				if n := len(b.Points(tank, "ullage")); n != acknowledged {
					t.Errorf("%d are stored, %d were acknowledged", n, acknowledged)
				}
				return
			}
			acknowledged++
		}
		t.Error("the disk never filled")
	})
}

func TestTooLarge(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBench(t, func(l *ingest.Limits) { l.Message = 1000 })
		p := b.enter(version)
		p.send(publish(1, readings, `{"ullage":30,"x":"`+strings.Repeat("y", 1500)+`"}`))
		if pk := p.want(packets.Puback); version == 5 && !strings.Contains(pk.Properties.ReasonString, "1000 are taken at most") {
			t.Errorf("just too large: %q", pk.Properties.ReasonString)
		}
		// The header alone announces 200 MB; nothing of that size may be set aside.
		p.raw([]byte{0x32, 0x80, 0x80, 0x80, 0x60})
		pk := p.next()
		if version == 5 && (pk == nil || pk.ReasonCode != 0x95) {
			t.Errorf("far too large: %+v", pk)
		}
		// With the body on its way too, the device still reads why.
		q := b.enterAs(version, tank+"/b")
		q.send(publish(2, readings, strings.Repeat("y", 3<<20)))
		if pk := q.next(); version == 5 && (pk == nil || pk.ReasonCode != 0x95) {
			t.Errorf("3 MB: %+v", pk)
		}
		es := b.Wire.Recent(wire.Filter{Device: tank, Limit: 1})
		if len(es) != 1 || !strings.Contains(es[0].Reason, "send it in parts") {
			t.Errorf("the wire shows %+v", es)
		}
	})
}

func TestHello(t *testing.T) {
	b := newBench(t, func(l *ingest.Limits) { l.Hello = 200 * time.Millisecond })
	p := b.dial(4)
	if p.next() != nil {
		t.Error("silence was answered")
	}
	q := b.dial(4)
	q.send(publish(1, readings, `{}`))
	if q.next() != nil {
		t.Error("a PUBLISH before the CONNECT was answered")
	}
	old := b.dial(4)
	pk := connectPacket(tank, b.token, tank)
	pk.Connect.ProtocolName = []byte("MQIsdp")
	old.version = 3
	old.send(pk)
	old.version = 4
	if pk := old.want(packets.Connack); pk.ReasonCode != 1 {
		t.Errorf("MQTT 3.1 gets %d", pk.ReasonCode)
	}
	if es := b.Wire.Recent(wire.Filter{Trouble: true}); len(es) != 3 || !strings.Contains(es[0].Reason, "protocol level 3") {
		t.Errorf("the wire shows %+v", es)
	}
}

func TestConnectRate(t *testing.T) {
	b := newBench(t, func(l *ingest.Limits) { l.Connects = 3 })
	for i := range 4 {
		p := b.dial(5)
		p.send(connectPacket(tank, b.token, tank))
		if pk := p.want(packets.Connack); (pk.ReasonCode == 0x9F) != (i == 3) {
			t.Errorf("connection %d gets %d", i+1, pk.ReasonCode)
		}
		p.conn.Close()
	}
}

func TestMessageRateHoldsBack(t *testing.T) {
	b := newBench(t, func(l *ingest.Limits) { l.Rate = 20 })
	p := b.enter(4)
	begun := time.Now()
	for i := 1; i <= 100; i++ {
		p.send(publish(uint16(i), readings, `{"ullage":30}`))
	}
	for range 100 {
		p.want(packets.Puback)
	}
	if d := time.Since(begun); d < 800*time.Millisecond {
		t.Errorf("100 messages at 20 a second after a burst of 80 took %s", d)
	}
}

func TestQoS2AndUnsubscribe(t *testing.T) {
	b := newBench(t, nil)
	p := b.enter(5)
	p.send(subscribe(1, 2, "ullage/"+tank+"/problem"))
	if pk := p.want(packets.Suback); pk.ReasonCodes[0] != 1 {
		t.Errorf("QoS 2 was granted as %d", pk.ReasonCodes[0])
	}
	un := packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Unsubscribe, Qos: 1}, PacketID: 2,
		Filters: packets.Subscriptions{{Filter: "ullage/" + tank + "/problem"}, {Filter: "ullage/" + tank + "/time"}}}
	p.send(un)
	if pk := p.want(packets.Unsuback); !bytes.Equal(pk.ReasonCodes, []byte{0, 0x11}) {
		t.Errorf("unsubscribed with %v", pk.ReasonCodes)
	}
	two := publish(3, readings, `{"ullage":30}`)
	two.FixedHeader.Qos = 2
	p.send(two)
	if pk := p.want(packets.Disconnect); pk.ReasonCode != 0x9B {
		t.Errorf("QoS 2 gets %d", pk.ReasonCode)
	}
}

// TestBrokenPacketsHurtNobodyElse sends what breaks codecs, and checks that
// another session goes on.
func TestBrokenPacketsHurtNobodyElse(t *testing.T) {
	b := newBench(t, nil)
	good := b.enterAs(4, tank)
	for _, raw := range [][]byte{
		{0x82, 0x00}, {0x82, 0x05, 0x00, 0x01, 0x00, 0x00, 0x01}, {0x82, 0x06, 0x00, 0x01, 0x00, 0x00, 0x01, 0x61},
		{0x32, 0x01, 0x00}, {0x30, 0x03, 0x00, 0xff, 0x61}, {0xf0, 0x00}, {0x00, 0x00}, {0x36, 0x00}, {0x62, 0x02, 0x00, 0x01}, {0x10, 0x00},
		{0xff, 0xff, 0xff, 0xff, 0xff},
	} {
		p := b.enterAs(5, tank+"/bad")
		p.raw(raw)
		p.conn.(*net.TCPConn).CloseWrite()
		for p.next() != nil {
		}
	}
	good.send(publish(1, readings, `{"ullage":30}`))
	good.want(packets.Puback)
}

func FuzzSession(f *testing.F) {
	b := newBench(f, func(l *ingest.Limits) { l.Sessions = 100; l.Hello = time.Second })
	var hello bytes.Buffer
	pk := connectPacket(tank, b.token, tank)
	pk.ProtocolVersion = 5
	pk.ConnectEncode(&hello)
	f.Add([]byte{0x82, 0x00}, true)
	f.Add([]byte{0x32, 0x02, 0x00, 0x00}, true)
	f.Add(hello.Bytes(), false)
	f.Fuzz(func(t *testing.T, raw []byte, greeted bool) {
		conn, err := net.Dial("tcp", b.address)
		if err != nil {
			t.Skip(err)
		}
		defer conn.Close()
		if greeted {
			conn.Write(hello.Bytes())
		}
		conn.Write(raw)
		conn.(*net.TCPConn).CloseWrite()
		conn.SetReadDeadline(time.Now().Add(5 * time.Second))
		if _, err := io.Copy(io.Discard, conn); err != nil {
			if e, ok := err.(net.Error); ok && e.Timeout() {
				t.Errorf("the session hangs after %x", raw)
			}
		}
	})
}
