package mqtt

import (
	"bytes"
	"testing"

	"github.com/mochi-mqtt/server/v2/packets"
)

// TestNothingOfAPacketStaysInItsBody: what is kept of a packet must not keep the
// packet, which may be a thousand times as large.
func TestNothingOfAPacketStaysInItsBody(t *testing.T) {
	for _, c := range []struct {
		name string
		pk   packets.Packet
		put  func(*packets.Packet, *bytes.Buffer) error
		kept func(*packets.Packet) []string
		want []string
	}{
		{"publish", packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: 1}, PacketID: 7, TopicName: "ullage/tank-fennimore-07/readings",
			Properties: packets.Properties{ContentType: "application/json"}, Payload: []byte(`{"must_temp":21.5}`)},
			(*packets.Packet).PublishEncode, func(pk *packets.Packet) []string {
				return []string{pk.TopicName, pk.Properties.ContentType}
			},
			[]string{"ullage/tank-fennimore-07/readings", "application/json"}},
		{"connect", packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connect},
			Connect: packets.ConnectParams{ProtocolName: []byte("MQTT"), Clean: true,
				ClientIdentifier: "tank-fennimore-07"}},
			(*packets.Packet).ConnectEncode, func(pk *packets.Packet) []string {
				return []string{pk.Connect.ClientIdentifier}
			}, []string{"tank-fennimore-07"}},
		{"subscribe", packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Subscribe, Qos: 1}, PacketID: 7,
			Filters: packets.Subscriptions{{Filter: "ullage/tank-fennimore-07/intended", Qos: 1}}},
			(*packets.Packet).SubscribeEncode, func(pk *packets.Packet) []string {
				return []string{pk.Filters[0].Filter}
			}, []string{"ullage/tank-fennimore-07/intended"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.pk.ProtocolVersion = 5
			var buf bytes.Buffer
			if err := c.put(&c.pk, &buf); err != nil {
				t.Fatal(err)
			}
			body := buf.Bytes()[2:] // behind the type and a length of one byte
			pk := &packets.Packet{ProtocolVersion: 5, FixedHeader: c.pk.FixedHeader}
			pk.FixedHeader.Remaining = len(body)
			if err := decode(pk, body); err != nil {
				t.Fatal(err)
			}
			detach(pk)
			for i := range body {
				body[i] = 'x'
			}
			for i, got := range c.kept(pk) {
				if got != c.want[i] {
					t.Errorf("got %q, want %q", got, c.want[i])
				}
			}
		})
	}
}
