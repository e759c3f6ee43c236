package mqtt_test

import (
	"strings"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/fleet/traffic"
)

// TestKeepAlive: a session ends 1.5 keep alives after its last packet, neither sooner because an
// earlier packet's time has passed, nor later because a packet has begun.
func TestKeepAlive(t *testing.T) {
	const keep, wait = time.Second, 1500 * time.Millisecond
	for _, c := range []struct {
		name  string
		pings int    // one each 600 ms
		part  []byte // then a packet that is never whole
	}{{"silence from the start", 0, nil}, {"pings past the first deadline", 4, nil}, {"a packet that is never whole", 3, []byte{0x30, 40, 0}}} {
		t.Run(c.name, func(t *testing.T) {
			both(t, func(t *testing.T, version byte) {
				t.Parallel()
				b := newBench(t, nil)
				p := b.dial(version)
				pk := connectPacket(tank, b.token, tank)
				pk.Connect.Keepalive = uint16(keep / time.Second)
				last := time.Now()
				p.send(pk)
				p.want(packets.Connack)
				for range c.pings {
					time.Sleep(600 * time.Millisecond)
					last = time.Now()
					p.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingreq}})
					p.want(packets.Pingresp)
				}
				p.raw(c.part)
				if version == 5 {
					if pk := p.want(packets.Disconnect); pk.ReasonCode != packets.ErrKeepAliveTimeout.Code {
						t.Errorf("it was told %#x", pk.ReasonCode)
					}
				}
				if pk := p.next(); pk != nil {
					t.Fatalf("the connection goes on with %+v", pk)
				}
				if took := time.Since(last); took < wait {
					t.Errorf("it ended after %s, before its time", took)
				}
				if e := b.Traffic.Recent(traffic.Filter{Limit: 1})[0]; !strings.Contains(e.Reason+e.Note, "nothing came for 1.5s") {
					t.Errorf("the traffic says %+v", e)
				}
			})
		})
	}
}
