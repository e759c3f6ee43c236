package mqtt_test

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/transport/door"
)

// packet puts a packet together byte by byte.
func packet(first byte, body ...[]byte) []byte {
	all := bytes.Join(body, nil)
	out := []byte{first}
	for n := len(all); ; {
		b := byte(n & 0x7f)
		if n >>= 7; n > 0 {
			out = append(out, b|0x80)
			continue
		}
		return append(append(out, b), all...)
	}
}

func text(s string) []byte { return append(binary.BigEndian.AppendUint16(nil, uint16(len(s))), s...) }

func properties(b ...byte) []byte { return append([]byte{byte(len(b))}, b...) }

// hello is a CONNECT with properties.
func (b *bench) hello(version byte, props []byte, clientID string) []byte {
	head := append(text("MQTT"), version, 0xc2, 0, 60)
	if version == 5 {
		head = append(head, props...)
	}
	return packet(0x10, head, text(clientID), text(tank), text(b.token))
}

// What MQTT calls an error ends the session, with the reason for those that
// hear one.
func TestByTheBook(t *testing.T) {
	b := newBench(t, nil)
	filter := text("ullage/" + tank + "/intended")
	for _, c := range []struct {
		name    string
		version byte
		bytes   []byte
		code    byte // of the DISCONNECT of MQTT 5
		says    string
	}{
		{"SUBSCRIBE with packet id 0", 5, packet(0x82, []byte{0, 0, 0}, filter, []byte{1}), 0x82, "packet id is 0"},
		{"SUBSCRIBE with packet id 0", 4, packet(0x82, []byte{0, 0}, filter, []byte{1}), 0, ""},
		{"SUBSCRIBE without a filter", 5, packet(0x82, []byte{0, 1, 0}), 0x82, "no filter"},
		{"SUBSCRIBE without a filter", 4, packet(0x82, []byte{0, 1}), 0, ""},
		{"SUBSCRIBE with an empty filter", 5, packet(0x82, []byte{0, 1, 0}, text(""), []byte{1}), 0x82, "empty"},
		{"SUBSCRIBE without options", 4, packet(0x82, []byte{0, 1}, filter), 0, ""},
		{"reserved bits of options", 5, packet(0x82, []byte{0, 1, 0}, filter, []byte{0xc1}), 0x82, "reserved"},
		{"retain handling 3", 5, packet(0x82, []byte{0, 1, 0}, filter, []byte{0x31}), 0x82, "reserved"},
		{"QoS 3", 4, packet(0x82, []byte{0, 1}, filter, []byte{3}), 0, ""},
		{"options of MQTT 5 in 3.1.1", 4, packet(0x82, []byte{0, 1}, filter, []byte{0x21}), 0, ""},
		{"UNSUBSCRIBE with packet id 0", 5, packet(0xa2, []byte{0, 0, 0}, filter), 0x82, "packet id is 0"},
		{"UNSUBSCRIBE without a filter", 5, packet(0xa2, []byte{0, 1, 0}), 0x82, "no filter"},
		{"PINGREQ with a body", 5, packet(0xc0, []byte{1}), 0x82, "no body"},
		{"PINGREQ with a body", 4, packet(0xc0, []byte{1}), 0, ""},
		{"PUBLISH with packet id 0", 5, packet(0x32, text(readings), []byte{0, 0, 0}, []byte("{}")), 0x82, "packet id"},
		{"a property twice", 5, packet(0x32, text(readings), []byte{0, 1}, properties(1, 0, 1, 0), []byte("{}")), 0x82, "twice"},
		{"a property of no packet", 5, packet(0x32, text(readings), []byte{0, 1}, properties(99, 0), []byte("{}")), 0x82, "none that MQTT has"},
		{"properties beyond the end", 5, packet(0x32, text(readings), []byte{0, 1, 0x7f, 1}), 0x82, "cut off"},
		{"topic alias 0", 5, packet(0x32, text(readings), []byte{0, 1}, properties(35, 0, 0), []byte("{}")), 0x82, "may not be 0"},
		{"DISCONNECT with a body", 4, packet(0xe0, []byte{1}), 0, ""},
		{"AUTH", 5, packet(0xf0, []byte{0, 0}), 0x82, ""},
	} {
		p := b.dial(c.version)
		p.raw(b.hello(c.version, properties(), ""))
		if pk := p.want(packets.Connack); pk.ReasonCode != 0 {
			t.Fatalf("%s: not let in: %+v", c.name, pk)
		}
		p.raw(c.bytes)
		pk := p.next()
		switch {
		case c.version == 4 && pk != nil:
			t.Errorf("%s in 3.1.1 is answered with %+v, want the connection closed", c.name, pk)
		case c.version == 5 && (pk == nil || pk.FixedHeader.Type != packets.Disconnect || pk.ReasonCode != c.code || !strings.Contains(pk.Properties.ReasonString, c.says)):
			t.Errorf("%s is answered with %+v, want DISCONNECT %#x that says %q", c.name, pk, c.code, c.says)
		case pk != nil && p.next() != nil:
			t.Errorf("%s: the connection goes on", c.name)
		}
	}
	for _, c := range []struct {
		name  string
		props []byte
		code  byte
	}{
		{"receive maximum 0", properties(33, 0, 0), 0x82},
		{"maximum packet size 0", properties(39, 0, 0, 0, 0), 0x82},
		{"a property twice", properties(17, 0, 0, 0, 1, 17, 0, 0, 0, 1), 0x82},
		{"an authentication method", properties(append([]byte{21}, text("SCRAM-SHA-1")...)...), 0x8c},
	} {
		p := b.dial(5)
		p.raw(b.hello(5, c.props, ""))
		if pk := p.want(packets.Connack); pk.ReasonCode != c.code || pk.Properties.ReasonString == "" {
			t.Errorf("CONNECT with %s is answered with %+v, want %#x and why", c.name, pk, c.code)
		}
		if p.next() != nil {
			t.Errorf("CONNECT with %s: the connection goes on", c.name)
		}
	}
}

// The client's maximum packet size counts for every packet: a reason is left out
// to stay below it.
func TestMaximumPacketSize(t *testing.T) {
	b := newBench(t, nil)
	const most = 30
	p := b.dial(5)
	p.raw(b.hello(5, properties(39, 0, 0, 0, most), tank))
	p.want(packets.Connack)
	p.send(publish(7, readings, `{"colour":"red"}`))
	if pk := p.want(packets.Puback); pk.ReasonCode != 0x99 || pk.FixedHeader.Remaining+2 > most {
		t.Errorf("refused with %+v of %d bytes, want 0x99 in at most %d", pk, pk.FixedHeader.Remaining+2, most)
	}
	p.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Subscribe, Qos: 1}, PacketID: 8,
		Filters: packets.Subscriptions{{Filter: "elsewhere/#", Qos: 1}}})
	if pk := p.want(packets.Suback); len(pk.ReasonCodes) != 1 || pk.FixedHeader.Remaining+2 > most {
		t.Errorf("subscribed with %+v of %d bytes, want one code in at most %d", pk, pk.FixedHeader.Remaining+2, most)
	}
}

// A stranger's first packet is small.
func TestLargeConnect(t *testing.T) {
	b := newBench(t, nil)
	p := b.dial(5)
	p.raw([]byte{0x10, 0xff, 0xff, 0x0f}) // 257 kB follow
	if pk := p.next(); pk != nil {
		t.Errorf("answered with %+v, want the connection closed before anything of it is read", pk)
	}
}

// Of many connections with one client id that come at once the newest stays.
func TestRaceForAClientID(t *testing.T) {
	b := newBench(t, nil)
	const n = 40
	var each sync.WaitGroup
	peers := make([]*peer, n)
	for i := range n {
		peers[i] = b.dial(4)
	}
	var in atomic.Int32
	for _, p := range peers {
		each.Go(func() {
			p.raw(b.hello(4, nil, tank))
			if pk := p.next(); pk != nil && pk.FixedHeader.Type == packets.Connack && pk.ReasonCode == 0 {
				in.Add(1)
			}
		})
	}
	each.Wait()
	if in.Load() == 0 || b.server.Connected() != 1 {
		t.Errorf("%d of %d were let in and %d are left, want some and one", in.Load(), n, b.server.Connected())
	}
	last := b.dial(4)
	last.raw(b.hello(4, nil, tank))
	if pk := last.want(packets.Connack); pk.ReasonCode != 0 {
		t.Fatalf("the newest is refused with %d, want let in", pk.ReasonCode)
	}
	last.send(publish(7, readings, `{"ullage":31}`))
	last.want(packets.Puback)
	for end := time.Now().Add(30 * time.Second); b.server.Connected() != 1; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%d sessions are left, want 1", b.server.Connected())
		}
	}
}

// A device that takes nothing any more is no session any more.
func TestDeadWriter(t *testing.T) {
	b := newBench(t, nil)
	p := b.dial(4)
	p.raw(b.hello(4, nil, ""))
	p.want(packets.Connack)
	p.conn.(*net.TCPConn).SetLinger(0)
	p.conn.Close() // a reset: the next write fails
	for end := time.Now().Add(30 * time.Second); b.server.Connected() != 0; time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the session is still there")
		}
	}
}

// What is kept of sessions that are away is bounded, by device and by size.
func TestKeptSessionsAreBounded(t *testing.T) {
	b := newBench(t, func(l *door.Limits) { l.Sessions = 20 })
	connect := func(id string) *packets.Packet {
		p := b.dial(4)
		p.raw(packet(0x10, append(text("MQTT"), 4, 0xc0, 0, 60), text(id), text(tank), text(b.token)))
		pk := p.want(packets.Connack)
		p.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Subscribe, Qos: 1}, PacketID: 1,
			Filters: packets.Subscriptions{{Filter: "ullage/" + tank + "/command/+", Qos: 1}}})
		p.want(packets.Suback)
		p.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Disconnect}})
		if p.next() != nil {
			t.Fatal("the session goes on")
		}
		return pk
	}
	for i := range 10 {
		connect(fmt.Sprintf("%s/%d", tank, i))
	}
	kept := 0
	for i := 9; i >= 0; i-- { // those that are kept first: asking makes another one kept
		if connect(fmt.Sprintf("%s/%d", tank, i)).SessionPresent {
			kept++
		}
	}
	if kept != 4 {
		t.Errorf("%d sessions were kept, want 4", kept)
	}
	p := b.dial(5)
	p.raw(b.hello(5, properties(), ""))
	p.want(packets.Connack)
	p.send(packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Subscribe, Qos: 1}, PacketID: 1,
		Filters: packets.Subscriptions{{Filter: "ullage/" + tank + "/" + strings.Repeat("x", 60_000), Qos: 1}}})
	if pk := p.want(packets.Suback); pk.ReasonCodes[0] != 0x97 {
		t.Errorf("a filter of 60 kB is answered with %#x, want 0x97", pk.ReasonCodes[0])
	}
}

// FuzzPackets sends whatever bytes behind a CONNECT: the service goes on.
func FuzzPackets(f *testing.F) {
	b := newBench(f, nil)
	f.Add([]byte{0x82, 5, 0, 1, 0, 0, 0})
	f.Add(packet(0x32, text(readings), []byte{0, 1}, properties(1, 0), []byte("{}")))
	f.Add([]byte{0xc0, 0, 0xe0, 0})
	f.Fuzz(func(t *testing.T, rest []byte) {
		conn, err := net.Dial("tcp", b.address)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		p := &peer{t, conn, bufio.NewReader(conn), 5}
		p.raw(append(b.hello(5, properties(), fmt.Sprintf("%s/%d", tank, time.Now().UnixNano())), rest...))
		p.conn.(*net.TCPConn).CloseWrite()
		for p.next() != nil {
		}
	})
}
