package mqtt_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/fleet/commands"
)

func TestCommandsReachTheDevice(t *testing.T) {
	both(t, func(t *testing.T, version byte) {
		b := newBench(t, nil)
		give := func(name, input string) commands.Command {
			c, err := b.Commands.Give(t.Context(), tank, name, json.RawMessage(input), commands.Expiry{}, "mara")
			b.Must(err)
			b.Settle()
			return c
		}
		heard := func(p *peer) (id string, input string) {
			t.Helper()
			pk := p.want(packets.Publish)
			var m struct {
				ID      string
				Input   json.RawMessage
				Expires time.Time
				Name    *string
			}
			if err := json.Unmarshal(pk.Payload, &m); err != nil || m.Name != nil || m.Expires.IsZero() ||
				pk.FixedHeader.Retain {
				t.Fatalf("not a command: %s %s", pk.TopicName, pk.Payload)
			}
			if pk.FixedHeader.Qos == 1 {
				p.send(puback(pk.PacketID))
			}
			return m.ID, string(m.Input)
		}
		before := give("zero_level", `{"reference_cm": 30}`) // while it was away
		p := b.enter(version)
		p.send(subscribe(1, 1, "ullage/"+tank+"/command/+"))
		p.want(packets.Suback)
		if id, input := heard(p); id != before.ID || input != `{"reference_cm":30}` {
			t.Errorf("after subscribing came %s %s", id, input)
		}
		live := give("identify", "")
		if id, input := heard(p); id != live.ID || input != `{}` {
			t.Errorf("while connected came %s %s", id, input)
		}
		p.send(publish(3, "ullage/"+tank+"/reply", `{"id":"`+live.ID+`"}`))
		p.want(packets.Puback)
		if c, err := b.Commands.Get(t.Context(), tank, live.ID); err != nil || c.Phase != commands.Done {
			t.Errorf("after the reply it is %s, %v", c.Phase, err)
		}
		// Subscribing again brings what was not replied to, and only that.
		p.send(subscribe(2, 0, "ullage/"+tank+"/command/#"))
		p.want(packets.Suback)
		if id, _ := heard(p); id != before.ID {
			t.Errorf("after subscribing again came %s", id)
		}
		// What the device did not subscribe to is not sent.
		p.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Unsubscribe, Qos: 1}, PacketID: 4,
			Filters: packets.Subscriptions{{Filter: "ullage/" + tank + "/command/+"},
				{Filter: "ullage/" + tank + "/command/#"}}})
		p.want(packets.Unsuback)
		give("identify", "")
		p.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingreq}})
		p.want(packets.Pingresp)
	})
}
