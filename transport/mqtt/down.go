package mqtt

import (
	"encoding/json"
	"fmt"
	"maps"
	"strings"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/core/value"
	"ullage/transport/problem"
)

// listens returns the QoS at which the device has subscribed to a topic below
// its own prefix; the caller holds mu.
func (x *session) listens(name string) (qos byte, ok bool) {
	for filter, q := range x.heard {
		if match(filter, topicRoot+x.dev.ID+"/"+name) {
			qos, ok = max(qos, q), true
		}
	}
	return qos, ok
}

// problem tells the device what was refused, if it listens.
func (x *session) problem(p *problem.Details) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.putProblem(p)
}

func (x *session) putProblem(p *problem.Details) {
	if _, listens := x.listens("problem"); !listens {
		return
	}
	if body, err := json.Marshal(p); err == nil {
		x.putPublish("problem", body, 0, false)
	}
}

// intended sends the settings document, unless one is on its way.
func (x *session) intended() {
	x.mu.Lock()
	qos, listens := x.listens("intended")
	if !listens {
		x.mu.Unlock()
		return
	}
	if x.inFlight != 0 {
		x.again = true
		x.mu.Unlock()
		return
	}
	x.mu.Unlock()
	body, revision, err := x.dev.Intended()
	if err != nil {
		x.srv.o.Log.Error("settings are not readable", "device", x.dev.ID, "error", err)
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if revision == x.sent {
		return // the news was of something else, such as a confirmation
	}
	x.sent = revision
	if id := x.putPublish("intended", body, qos, true); qos > 0 {
		x.inFlight = id
	}
}

// forget lets the settings document be sent once more, unless it is on its way.
func (x *session) forget() {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.inFlight == 0 {
		x.sent = 0
	}
}

// commands sends the commands that were not sent in this session yet. A device
// drops an id that it has seen.
func (x *session) commands() {
	for _, c := range x.dev.Waiting() {
		x.mu.Lock()
		qos, listens := x.listens("command/" + c.Name)
		send := listens && !x.told[c.ID]
		if send {
			if x.told == nil {
				x.told = map[string]bool{}
			}
			x.told[c.ID] = true
		}
		x.mu.Unlock()
		if !send {
			continue
		}
		m, open := x.dev.HandOver(c.ID)
		if !open {
			continue
		}
		m.Name = "" // the topic says it
		body, err := json.Marshal(m)
		if err != nil {
			return
		}
		x.mu.Lock()
		x.putPublish("command/"+c.Name, body, qos, false)
		x.mu.Unlock()
	}
}

// acknowledged takes a PUBACK of the device. It says that the document has
// arrived, not that it was applied.
func (x *session) acknowledged(id uint16) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if id != x.inFlight {
		return
	}
	x.inFlight = 0
	if x.again {
		x.again = false
		x.poke()
	}
}

// putPublish queues a message to the device; the caller holds mu.
func (x *session) putPublish(name string, body []byte, qos byte, retain bool) uint16 {
	pk := &packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Publish, Qos: qos, Retain: retain},
		TopicName: topicRoot + x.dev.ID + "/" + name, Payload: body}
	if qos > 0 {
		pk.PacketID = x.nextID
		if x.nextID++; x.nextID == 0 {
			x.nextID = 1
		}
	}
	if x.version == 5 {
		pk.Properties.ContentType = "application/json"
	}
	if x.maxPacket > 0 && uint32(len(body)+len(pk.TopicName)+40) > x.maxPacket {
		x.dev.Sent(name, body, fmt.Sprintf("the device takes packets of %d bytes only, so this was not sent",
			x.maxPacket))
		return 0
	}
	x.put(pk)
	x.dev.Sent(name, body, "")
	return pk.PacketID
}

func (x *session) subscribe(pk *packets.Packet) {
	codes := make([]byte, len(pk.Filters))
	reason := ""
	for i, f := range pk.Filters {
		_, again := x.subs[f.Filter]
		if len(f.Filter) > maxFilter || len(x.subs) >= maxSubscriptions && !again {
			codes[i] = 0x80
			if x.version == 5 {
				codes[i] = codeQuota
			}
			reason = fmt.Sprintf("a session has at most %d subscriptions, each of at most %d bytes", maxSubscriptions,
				maxFilter)
			x.note("subscribe", reason)
			continue
		}
		if !x.mayReach(f.Filter) {
			codes[i] = 0x80
			if x.version == 5 {
				codes[i] = codeNotAuthorised
			}
			reason = fmt.Sprintf("%s subscribes under %s%s/ only, not to %q", x.dev.ID, topicRoot, x.dev.ID,
				value.Clip(f.Filter, 100))
			x.note("subscribe", reason)
			continue
		}
		if x.subs == nil {
			x.subs = map[string]byte{}
		}
		x.subs[f.Filter] = min(f.Qos, 1)
		codes[i] = min(f.Qos, 1)
	}
	x.grant()
	ack := &packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: pk.PacketID,
		ReasonCodes: codes}
	if x.version == 5 {
		ack.Properties.ReasonString = x.reason(reason)
	}
	x.mu.Lock()
	x.put(ack)
	if _, wants := x.listens("time"); wants {
		x.putPublish("time", x.srv.o.Door.Time(), 0, false)
	}
	x.mu.Unlock()
	x.flush()
	x.mu.Lock()
	for _, f := range pk.Filters {
		if match(f.Filter, topicRoot+x.dev.ID+"/intended") {
			x.sent = 0
		}
	}
	clear(x.told) // what waits for a reply is sent again
	x.mu.Unlock()
	x.poke()
}

func (x *session) unsubscribe(pk *packets.Packet) {
	codes := make([]byte, len(pk.Filters))
	for i, f := range pk.Filters {
		if _, ok := x.subs[f.Filter]; !ok {
			codes[i] = 0x11 // no subscription existed
		}
		delete(x.subs, f.Filter)
	}
	x.grant()
	x.send(&packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Unsuback}, PacketID: pk.PacketID,
		ReasonCodes: codes})
}

// grant makes the subscriptions known to those that send.
func (x *session) grant() {
	heard := maps.Clone(x.subs)
	x.mu.Lock()
	x.heard = heard
	x.mu.Unlock()
}

// mayReach reports whether a filter stays inside the device's own prefix.
func (x *session) mayReach(filter string) bool {
	rest, own := strings.CutPrefix(filter, topicRoot+x.dev.ID+"/")
	if !own || rest == "" {
		return false
	}
	levels := strings.Split(rest, "/")
	for i, l := range levels {
		if strings.Contains(l, "#") && (l != "#" || i != len(levels)-1) || strings.Contains(l, "+") && l != "+" {
			return false
		}
	}
	return true
}

// match reports whether a topic filter matches a topic (MQTT 5.0 section 4.7).
func match(filter, topic string) bool {
	f, t := strings.Split(filter, "/"), strings.Split(topic, "/")
	for i, level := range f {
		if level == "#" {
			return true
		}
		if i >= len(t) || level != "+" && level != t[i] {
			return false
		}
	}
	return len(f) == len(t)
}
