package mqtt_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/traffic"
	"ullage/store"
	"ullage/test/rig"
	"ullage/transport/door"
)

const tank = "tank-fennimore-07"

const readings = "ullage/" + tank + "/readings"

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
		for end := time.Now().Add(30 * time.Second); b.Device(tank).Latest["ullage"].Value != value.OfNumber(31); time.Sleep(5 * time.Millisecond) {
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
				body := fmt.Sprintf(`{"at":%q,"ullage":%d}`, rig.Start.Add(time.Duration(i)*time.Millisecond).
					Format("2006-01-02T15:04:05.000Z"), i%300)
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
			es := b.Traffic.Recent(traffic.Filter{Limit: 1})
			if len(es) == 0 || !strings.Contains(es[0].Reason, c.says) || es[0].Ref == "" {
				t.Errorf("%+v: the traffic shows %+v", c, es)
				continue
			}
			if told := pk.Properties.ReasonString; version == 5 && told != "not authorised, ref "+es[0].Ref {
				t.Errorf("the stranger was told %q, the ref is %s", told, es[0].Ref)
			}
			if c.password != "" && strings.Contains(fmt.Sprint(es[0]), c.password) {
				t.Error("the traffic shows what was given as a password")
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
			if version == 5 && (pk.ReasonCode != 0x87 || !strings.Contains(pk.Properties.ReasonString,
				"publishes under ullage/"+tank)) {
				t.Errorf("%s: %d %q", topic, pk.ReasonCode, pk.Properties.ReasonString)
			}
			problem := p.want(packets.Publish)
			if problem.TopicName != "ullage/"+tank+"/problem" || !strings.Contains(string(problem.Payload),
				"publishes under") {
				t.Errorf("the problem is %s %s", problem.TopicName, problem.Payload)
			}
		}
		if n := len(b.Points("tank-fennimore-08", "ullage")); n != 0 {
			t.Errorf("the neighbour has %d readings", n)
		}
		filters := []string{"ullage/#", "#", "+/" + tank + "/intended", "ullage/tank-fennimore-08/intended",
			"ullage/" + tank, "ullage/" + tank + "/a#", "$share/g/ullage/" + tank + "/intended"}
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
	if pk := p.want(packets.Puback); pk.ReasonCode != 0 ||
		pk.Properties.ReasonString != `must_temp is text ("hot"); the model wants a number in °C; the other field was kept` {
		t.Errorf("partly kept: %d %q", pk.ReasonCode, pk.Properties.ReasonString)
	}
	p.send(publish(2, readings, `{"must_temp":`))
	if pk := p.want(packets.Puback); pk.ReasonCode != 0x99 || !strings.Contains(pk.Properties.ReasonString,
		"not JSON") {
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
	if pk := q.want(packets.Publish); json.Unmarshal(pk.Payload, &problem) != nil ||
		!strings.Contains(problem.Detail, "did you mean must_temp?") {
		t.Errorf("the problem is %s", pk.Payload)
	}
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
		_, err := b.Devices.SetStatus(t.Context(), tank, devices.Suspended, "mara")
		b.Must(err)
		pk := p.next()
		if version == 5 {
			if pk == nil || pk.FixedHeader.Type != packets.Disconnect || pk.ReasonCode != 0x87 ||
				!strings.Contains(pk.Properties.ReasonString, "suspended") {
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
			p.send(publish(uint16(i), readings,
				fmt.Sprintf(`{"at":%q,"ullage":1,"must_temp":2,"battery":3,"rssi":-4}`,
					rig.Start.Add(-time.Duration(i)*time.Second).Format(time.RFC3339))))
			pk := p.next()
			if pk == nil || pk.FixedHeader.Type == packets.Disconnect {
				if version == 5 && (pk == nil || pk.ReasonCode != 0x97 ||
					!strings.Contains(pk.Properties.ReasonString, "disk is full")) {
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
		b := newBench(t, func(l *door.Limits) { l.Message = 1000 })
		p := b.enter(version)
		p.send(publish(1, readings, `{"ullage":30,"x":"`+strings.Repeat("y", 1500)+`"}`))
		if pk := p.want(packets.Puback); version == 5 && !strings.Contains(pk.Properties.ReasonString,
			"1000 are taken at most") {
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
		es := b.Traffic.Recent(traffic.Filter{Device: tank, Limit: 1})
		if len(es) != 1 || !strings.Contains(es[0].Reason, "send it in parts") {
			t.Errorf("the traffic shows %+v", es)
		}
	})
}

func TestHello(t *testing.T) {
	b := newBench(t, func(l *door.Limits) { l.Hello = 200 * time.Millisecond })
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
	if es := b.Traffic.Recent(traffic.Filter{Refused: true}); len(es) != 3 || !strings.Contains(es[0].Reason, "protocol level 3") {
		t.Errorf("the traffic shows %+v", es)
	}
}

func TestConnectRate(t *testing.T) {
	b := newBench(t, func(l *door.Limits) { l.Connects = 3 })
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
	b := newBench(t, func(l *door.Limits) { l.Rate = 20 })
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
	b := newBench(f, func(l *door.Limits) { l.Sessions = 100; l.Hello = time.Second })
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
		conn.SetReadDeadline(time.Now().Add(30 * time.Second))
		if _, err := io.Copy(io.Discard, conn); err != nil {
			if e, ok := err.(net.Error); ok && e.Timeout() {
				t.Errorf("the session hangs after %x", raw)
			}
		}
	})
}
