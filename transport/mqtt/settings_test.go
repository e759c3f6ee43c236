package mqtt_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
)

func revision(t testing.TB, pk *packets.Packet) int {
	t.Helper()
	var doc struct {
		Revision int
		Intended map[string]any
	}
	if err := json.Unmarshal(pk.Payload, &doc); err != nil || len(doc.Intended) != 4 ||
		pk.TopicName != "ullage/"+tank+"/intended" {
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
			_, err := b.Settings.Set(t.Context(), tank, map[string]any{"max_temp": v}, nil, "mara")
			b.Must(err)
			b.Settle()
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
		// It was acknowledged and not confirmed: after a minute it comes again.
		p.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingreq}})
		p.want(packets.Pingresp)
		b.Pass(61 * time.Second)
		second = p.want(packets.Publish)
		if got := revision(t, second); got != 4 {
			t.Errorf("revision %d came again, want 4", got)
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
		p.send(publish(9, "ullage/"+tank+"/applied",
			`{"revision":5,"applied":{"max_temp":27,"report_every":10,"stir_at":28,"display_unit":"Cel"}}`))
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
		_, err := b.Settings.Set(t.Context(), tank, map[string]any{"max_temp": 30.0}, nil, "mara")
		b.Must(err)
		for end := time.Now().Add(30 * time.Second); b.server.Connected() > 0 &&
			time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
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

// A session can be taken over in the very moment in which it begins to read.
func TestTakenOverAtOnce(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBench(t, nil)
		hello := connectPacket(tank, b.token, tank)
		hello.Connect.Keepalive = 60
		for range 300 {
			p := b.dial(version)
			p.send(hello)
			p.want(packets.Connack)
		}
	})
}
