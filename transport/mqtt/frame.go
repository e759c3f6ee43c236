package mqtt

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/mochi-mqtt/server/v2/packets"
)

// incoming are packets to read into; one is as large as some messages.
var incoming = sync.Pool{New: func() any { return new(packets.Packet) }}

// read reads one packet. The size is judged before memory is taken, and a
// panic of the codec becomes an error.
func (x *session) read() (pk *packets.Packet, err error) {
	first, err := x.r.ReadByte()
	if err != nil {
		return nil, err
	}
	pk = incoming.Get().(*packets.Packet)
	*pk = packets.Packet{ProtocolVersion: x.version}
	if err := pk.FixedHeader.Decode(first); err != nil {
		return nil, err
	}
	n, _, err := packets.DecodeLength(x.r)
	if err != nil {
		return nil, err
	}
	if x.dev == nil && n > maxConnect {
		return nil, fmt.Errorf("its first packet has %d bytes; a CONNECT has at most %d", n, maxConnect)
	}
	if n > x.srv.limits.Message+1024 {
		return pk, x.srv.o.Door.TooLarge(int64(n))
	}
	pk.FixedHeader.Remaining = n
	body := make([]byte, n)
	if _, err := io.ReadFull(x.r, body); err != nil {
		return nil, err
	}
	if err := strict(pk, x.version, body); err != nil {
		if pk.FixedHeader.Type == packets.Connect && len(body) > 6 {
			pk.ProtocolVersion = body[6]
		}
		return pk, err
	}
	if err := decode(pk, body); err != nil {
		return pk, err
	}
	detach(pk)
	return pk, nil
}

// detach copies the texts of a packet, which the codec leaves in the memory of
// the packet's body: whoever keeps a topic or a client id, such as the traffic,
// would keep the whole message.
func detach(pk *packets.Packet) {
	pk.TopicName = strings.Clone(pk.TopicName)
	pk.Properties.ContentType = strings.Clone(pk.Properties.ContentType)
	pk.Connect.ClientIdentifier = strings.Clone(pk.Connect.ClientIdentifier)
	for i := range pk.Filters {
		pk.Filters[i].Filter = strings.Clone(pk.Filters[i].Filter)
	}
}

func decode(pk *packets.Packet, body []byte) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = packets.ErrMalformedPacket
		}
	}()
	switch pk.FixedHeader.Type {
	case packets.Connect:
		return pk.ConnectDecode(body)
	case packets.Publish:
		return pk.PublishDecode(body)
	case packets.Puback:
		return pk.PubackDecode(body)
	case packets.Subscribe:
		return pk.SubscribeDecode(body)
	case packets.Unsubscribe:
		return pk.UnsubscribeDecode(body)
	case packets.Pingreq:
		return nil
	case packets.Disconnect:
		return pk.DisconnectDecode(body)
	}
	return packets.ErrProtocolViolation
}

func (x *session) reason(s string) string {
	if !x.reasons {
		return ""
	}
	if r := []rune(s); len(r) > reasonStringMaximum {
		return string(r[:reasonStringMaximum]) + "…"
	}
	return s
}

func (x *session) send(pk *packets.Packet) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.put(pk)
	x.flushOut()
}

func (x *session) flush() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.flushOut()
}

// put encodes a packet into the write buffer; the caller holds mu.
func (x *session) put(pk *packets.Packet) error {
	pk.ProtocolVersion = x.version
	pk.Mods.MaxSize = x.maxPacket
	if x.out == nil {
		x.out = buffers.Get().(*bytes.Buffer)
	}
	buf, before := x.out, x.out.Len()
	err := encode(pk, buf)
	if err == nil && x.tooLarge(buf.Len()-before) && pk.Properties.ReasonString != "" {
		// What the client cannot take is left out (MQTT 5.0, section 3.1.2.11.4).
		buf.Truncate(before)
		pk.Properties.ReasonString = ""
		err = encode(pk, buf)
	}
	if err != nil {
		x.srv.o.Log.Error("a packet could not be encoded", "type", pk.FixedHeader.Type, "error", err)
		buf.Truncate(before)
		return err
	}
	if x.tooLarge(buf.Len() - before) {
		// Nor may it be sent; without it the session makes no sense any more.
		buf.Truncate(before)
		x.dev.Note("connect", fmt.Sprintf("the device takes packets of %d bytes only, too few for an answer to it", x.maxPacket))
		x.conn.Close()
		return nil
	}
	if buf.Len() >= maxOut {
		x.flushOut()
	}
	return nil
}

func (x *session) tooLarge(n int) bool {
	return x.maxPacket > 0 && uint32(n) > x.maxPacket && x.dev != nil
}

func encode(pk *packets.Packet, buf *bytes.Buffer) (err error) {
	switch pk.FixedHeader.Type {
	case packets.Connack:
		err = pk.ConnackEncode(buf)
	case packets.Publish:
		err = pk.PublishEncode(buf)
	case packets.Puback:
		err = pk.PubackEncode(buf)
	case packets.Suback:
		err = pk.SubackEncode(buf)
	case packets.Unsuback:
		err = pk.UnsubackEncode(buf)
	case packets.Pingresp:
		err = pk.PingrespEncode(buf)
	case packets.Disconnect:
		err = pk.DisconnectEncode(buf)
	}
	return err
}

// note writes something about this connection to the traffic.
func (x *session) note(topic, reason string) {
	if x.dev == nil {
		x.srv.o.Door.Note(transport, x.remote, topic, reason)
		return
	}
	x.dev.Note(strings.TrimPrefix(topic, topicRoot+x.dev.ID+"/"), reason)
}
