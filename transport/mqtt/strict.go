package mqtt

import (
	"encoding/binary"

	"github.com/mochi-mqtt/server/v2/packets"
)

// The codec takes what MQTT forbids in some places. strict judges the body of a
// packet by the book before the codec sees it: MQTT 3.1.1 (sections 3.8 to 3.14)
// and MQTT 5.0 (sections 2.2.2, 3.1.2.11, 3.8 to 3.14).
func strict(pk *packets.Packet, version byte, body []byte) error {
	b := reader{rest: body}
	switch pk.FixedHeader.Type {
	case packets.Connect:
		return strictConnect(&b)
	case packets.Pingreq:
		if len(body) > 0 {
			return broken("a PINGREQ has no body")
		}
	case packets.Puback:
		if b.uint16() == 0 {
			return broken("the packet id of a PUBACK is 0")
		}
		if len(b.rest) > 0 && version != 5 {
			return broken("a PUBACK has a packet id and nothing else")
		}
		if b.byte(); len(b.rest) > 0 {
			return b.properties()
		}
	case packets.Disconnect:
		if len(body) > 0 && version != 5 {
			return broken("a DISCONNECT has no body")
		}
		if b.byte(); len(b.rest) > 0 {
			return b.properties()
		}
	case packets.Publish:
		b.bytes() // the topic
		if pk.FixedHeader.Qos > 0 && b.uint16() == 0 {
			return broken("the packet id of a PUBLISH is 0")
		}
		if version == 5 {
			return b.properties()
		}
	case packets.Subscribe, packets.Unsubscribe:
		return strictFilters(&b, version, pk.FixedHeader.Type == packets.Subscribe)
	}
	return nil
}

func strictFilters(b *reader, version byte, options bool) error {
	if b.uint16() == 0 {
		return broken("the packet id is 0")
	}
	if version == 5 {
		if err := b.properties(); err != nil {
			return err
		}
	}
	if len(b.rest) == 0 {
		return broken("it names no filter")
	}
	for len(b.rest) > 0 {
		if n := len(b.bytes()); n == 0 || b.bad {
			return broken("a filter is empty or cut off")
		}
		if !options {
			continue
		}
		o := b.byte()
		reserved := byte(0xfc)
		if version == 5 {
			reserved = 0xc0
		}
		switch {
		case b.bad:
			return broken("a filter has no options")
		case o&reserved != 0 || o&3 == 3 || version == 5 && o>>4&3 == 3:
			return broken("the options of a filter use reserved bits")
		}
	}
	return nil
}

// strictConnect judges what the codec passes over in a CONNECT of MQTT 5.
func strictConnect(b *reader) error {
	b.bytes() // the name of the protocol
	version := b.byte()
	flags := b.byte()
	b.uint16() // keep alive
	if b.bad {
		return broken("the CONNECT is cut off")
	}
	if version != 5 {
		return nil
	}
	if err := b.properties(); err != nil {
		return err
	}
	b.bytes() // client id
	if flags&4 != 0 {
		return b.properties() // of the will
	}
	return nil
}

// broken is the error of a packet that breaks the protocol.
func broken(why string) error {
	return packets.Code{Code: codeProtocolError, Reason: why}
}

// reader takes a packet apart; beyond its end everything is zero, and bad.
type reader struct {
	rest []byte
	bad  bool
}

func (r *reader) take(n int) []byte {
	if n > len(r.rest) {
		r.rest, r.bad = nil, true
		return nil
	}
	out := r.rest[:n]
	r.rest = r.rest[n:]
	return out
}

func (r *reader) byte() byte {
	if b := r.take(1); len(b) == 1 {
		return b[0]
	}
	return 0
}

func (r *reader) uint16() uint16 {
	if b := r.take(2); len(b) == 2 {
		return binary.BigEndian.Uint16(b)
	}
	return 0
}

// bytes takes bytes, or a text, behind their length.
func (r *reader) bytes() []byte { return r.take(int(r.uint16())) }

// length takes a variable byte integer (MQTT 5.0, section 1.5.5).
func (r *reader) length() int {
	n := 0
	for shift := 0; shift < 28; shift += 7 {
		b := r.byte()
		n |= int(b&0x7f) << shift
		if b < 0x80 {
			return n
		}
	}
	r.bad = true
	return 0
}

// Kinds of the values of properties (MQTT 5.0, table 2-4).
const (
	oneByte = iota + 1
	twoBytes
	fourBytes
	variable
	textOrBytes
	twoTexts
)

var propertyKinds = map[byte]int{1: oneByte, 2: fourBytes, 3: textOrBytes, 8: textOrBytes, 9: textOrBytes, 11: variable,
	17: fourBytes, 18: textOrBytes, 19: twoBytes, 21: textOrBytes, 22: textOrBytes, 23: oneByte, 24: fourBytes, 25: oneByte,
	26: textOrBytes, 28: textOrBytes, 31: textOrBytes, 33: twoBytes, 34: twoBytes, 35: twoBytes, 36: oneByte, 37: oneByte,
	38: twoTexts, 39: fourBytes, 40: oneByte, 41: oneByte, 42: oneByte}

const (
	propAuthMethod     = 21
	propReceiveMaximum = 33
	propTopicAlias     = 35
	propUser           = 38
	propMaximumPacket  = 39
)

// maxUserProperties is how many user properties one packet may have; nothing
// reads them.
const maxUserProperties = 32

// properties takes the properties of a packet: each at most once but for those
// of users, and none with a value that is a protocol error.
func (r *reader) properties() error {
	p := reader{rest: r.take(r.length())}
	if r.bad {
		return broken("the properties are cut off")
	}
	var seen [64]bool
	users := 0
	for len(p.rest) > 0 {
		id := p.byte()
		kind, known := propertyKinds[id]
		if !known {
			return broken("a property is none that MQTT has")
		}
		if id == propUser {
			if users++; users > maxUserProperties {
				return broken("it has more than 32 user properties")
			}
		} else if seen[id] {
			return broken("a property stands there twice")
		}
		seen[id] = true
		zero := false
		switch kind {
		case oneByte:
			p.byte()
		case twoBytes:
			zero = p.uint16() == 0
		case fourBytes:
			zero = p.uint16() == 0
			zero = p.uint16() == 0 && zero
		case variable:
			zero = p.length() == 0
		case textOrBytes:
			p.bytes()
		case twoTexts:
			p.bytes()
			p.bytes()
		}
		switch {
		case p.bad:
			return broken("the properties are cut off")
		case id == propAuthMethod:
			return packets.Code{Code: codeAuthMethod, Reason: "there are no authentication methods here; a device shows its user name and password"}
		case zero && (id == propReceiveMaximum || id == propMaximumPacket || id == propTopicAlias):
			return broken("a property that may not be 0 is 0")
		}
	}
	return nil
}
