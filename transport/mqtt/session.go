package mqtt

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/transport/door"
)

// Reason codes of MQTT 5.0, section 2.4, that are used here.
const (
	codeSuccess         = 0x00
	codeMalformed       = 0x81
	codeProtocolError   = 0x82
	codeVersion         = 0x84
	codeClientID        = 0x85
	codeNotAuthorised   = 0x87
	codeUnavailable     = 0x88
	codeBusy            = 0x89
	codeShuttingDown    = 0x8B
	codeKeepAlive       = 0x8D
	codeAuthMethod      = 0x8C
	codeTakenOver       = 0x8E
	codeTooLarge        = 0x95
	codeQuota           = 0x97
	codePayloadInvalid  = 0x99
	codeQoS             = 0x9B
	codeConnectionRate  = 0x9F
	maxPipelined        = 512 // messages of one session that may wait for their commit
	maxSessionExpiry    = 7 * 24 * time.Hour
	writeWait           = 10 * time.Second
	topicRoot           = "ullage/"
	maxSubscriptions    = 50
	reasonStringMaximum = 400
	maxDrained          = 64 << 20
	maxConnect          = 4096 // bytes of a CONNECT, which a stranger sends
	maxFilter           = 256  // bytes of a filter
	maxKept             = 4    // sessions of one device that are kept while they are away
)

type session struct {
	srv       *Server
	raw       net.Conn // as it was accepted; conn is that, or TLS over it
	conn      net.Conn
	tls       *tls.ConnectionState // nil without encryption
	in        input
	r, quiet  *bufio.Reader
	remote    string
	dev       *door.Device // nil until it is let in
	clientID  string
	version   byte
	keep      time.Duration
	expiry    time.Duration
	maxPacket uint32
	order     uint64          // of its CONNECT among all: the newest of a client id stays
	reasons   bool            // the client wants reason strings
	drain     bool            // the rest of a message that is too large is still to come
	subs      map[string]byte // filter to granted QoS; the reader's alone once in

	quit    chan struct{} // closed when the session is to end
	written chan struct{} // closed when the last word is out
	gone    chan struct{} // closed when it has ended
	once    sync.Once
	todo    todo

	mu       sync.Mutex // of everything below, and of writing
	out      *bytes.Buffer
	writeBy  time.Time       // until when what is written must be taken
	heard    map[string]byte // filters to QoS, as of the last subscription
	told     map[string]bool // commands sent in this session, by id
	inFlight uint16          // packet id of the intended document on its way
	again    bool            // a newer one waits for that
	sent     int64           // revision that was sent last; 0 asks for any to be sent
	nextID   uint16
	last     *packets.Packet // a DISCONNECT that goes out after the last acknowledgement
}

// greet reads and judges the hello of a connection, and reports whether it may stay.
func (x *session) greet() bool {
	s := x.srv
	x.remote = x.conn.RemoteAddr().String()
	x.quit, x.written, x.gone = make(chan struct{}), make(chan struct{}), make(chan struct{})
	x.nextID = 1
	x.in.Conn, x.in.quit = x.conn, x.quit
	x.quiet = bufio.NewReaderSize(&x.in, quietBuffer)
	x.r = x.quiet
	x.conn.SetDeadline(s.o.Now().Add(s.limits.Hello))
	pk, err := x.read()
	var code packets.Code
	switch {
	case err == nil:
	case errors.Is(err, io.EOF):
		return false
	case errors.As(err, &code) && pk != nil && pk.FixedHeader.Type == packets.Connect && pk.ProtocolVersion == 5:
		x.note("connect", "its CONNECT breaks the protocol: "+code.Reason)
		x.version = 5
		x.connack(2, code.Code, code.Reason, false, "")
		return false
	default:
		x.note("connect", fmt.Sprintf("it did not say hello as MQTT does: %s", plainly(err)))
		return false
	}
	x.order = s.hellos.Add(1)
	if pk.FixedHeader.Type != packets.Connect {
		x.note("connect", "its first packet was no CONNECT")
		return false
	}
	resumed, ok := x.connect(pk)
	if !ok {
		return false
	}
	x.conn.SetDeadline(time.Time{})
	if resumed {
		x.grant()
		x.poke()
	}
	return true
}

// live serves a session from its hello to its end.
func (x *session) live() {
	x.loop()
	x.end(codeSuccess, "")
	<-x.written
	if x.drain {
		// Closing with a body still under way would reset the connection, and
		// the device would never read why.
		x.conn.SetReadDeadline(time.Now().Add(time.Second))
		io.CopyN(io.Discard, x.r, maxDrained)
	}
	x.srv.leave(x)
	close(x.gone)
	x.srv.over(x.raw)
}

// A session is busy while packets follow each other within soon, once there were many. What a
// device says when it comes is less, so a fleet that comes keeps small stacks.
const (
	soon = 100 * time.Millisecond
	many = 64
)

// loop waits for packets and has them taken, until the connection or the session ends. It
// waits with a stack of two kilobytes: whatever needs more is done by other hands.
func (x *session) loop() {
	handled := make(chan bool, 1)
	take := x.take
	for row := 0; ; {
		x.fit()
		begun := time.Now()
		if x.keep > 0 {
			x.in.expect(begun.Add(x.keep * 3 / 2))
		}
		// end closes quit first and moves the deadline into the past after it:
		// asking between our own deadline and the read, no end is overlooked.
		if x.ended() {
			return
		}
		if _, err := x.r.Peek(1); err != nil {
			if !x.ended() {
				x.broken(err)
			}
			return
		}
		if row++; time.Since(begun) > soon {
			row = 0
		}
		// On its own stack a busy session saves two switches a packet.
		if busy := row > many; busy && !take() || !busy && !x.srv.hands.do(take, handled) {
			return
		}
	}
}

// take reads the packet that has begun to come, and handles it. It returns false if
// the session must end.
func (x *session) take() bool {
	if x.ended() {
		return false
	}
	pk, err := x.read()
	switch {
	case x.ended():
		return false
	case err != nil:
		x.broken(err)
		return false
	}
	ok := x.handle(pk)
	incoming.Put(pk)
	return ok
}

// handle takes one packet. It returns false if the session must end.
func (x *session) handle(pk *packets.Packet) bool {
	switch pk.FixedHeader.Type {
	case packets.Publish:
		return x.publish(pk)
	case packets.Puback:
		x.acknowledged(pk.PacketID)
	case packets.Subscribe:
		x.subscribe(pk)
	case packets.Unsubscribe:
		x.unsubscribe(pk)
	case packets.Pingreq:
		x.send(&packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Pingresp}})
	case packets.Disconnect:
		if x.version == 5 && pk.Properties.SessionExpiryIntervalFlag {
			x.expiry = min(time.Duration(pk.Properties.SessionExpiryInterval)*time.Second, maxSessionExpiry)
		}
		return false
	default:
		x.note("connect", "it sent a second CONNECT")
		x.end(codeProtocolError, "a second CONNECT")
		return false
	}
	return true
}

func (x *session) ended() bool {
	select {
	case <-x.quit:
		return true
	default:
		return false
	}
}

// broken says in the traffic why reading failed, where that is worth knowing.
func (x *session) broken(err error) {
	var large *fault.Error
	var timeout net.Error
	var code packets.Code
	switch {
	case errors.As(err, &large):
		x.drain = true
		if x.dev == nil {
			x.note("connect", large.Error())
			return
		}
		x.problem(x.dev.Refuse("readings", large).Problem)
		x.end(codeTooLarge, large.Error())
	case errors.As(err, &timeout) && timeout.Timeout():
		x.note("connect", fmt.Sprintf("nothing came for %s, which is 1.5 times its keep alive", x.keep*3/2))
		x.end(codeKeepAlive, "keep alive ran out")
	case errors.As(err, &code):
		x.note("connect", "it broke the protocol: "+code.Reason)
		x.end(code.Code, code.Reason)
	}
}

// publish takes one PUBLISH. It returns false if the session must end.
func (x *session) publish(pk *packets.Packet) bool {
	qos := pk.FixedHeader.Qos
	if qos == 2 {
		x.note(pk.TopicName, "it published with QoS 2; QoS 0 and 1 are taken")
		x.end(codeQoS, "QoS 0 and 1 are taken")
		return false
	}
	if code := pk.PublishValidate(0); code.Code != 0 {
		x.note("connect", "it broke the protocol: "+code.Reason)
		x.end(code.Code, code.Reason)
		return false
	}
	if wait := x.dev.Pace(); wait > 0 {
		// Reading on waits, so that nothing is lost: the device's own window
		// and TCP hold it back.
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-x.quit:
			timer.Stop()
			return false
		}
	}
	sl := &slot{id: pk.PacketID, qos: qos}
	if !x.enqueue(sl) {
		return false
	}
	name, own := strings.CutPrefix(pk.TopicName, topicRoot+x.dev.ID+"/")
	if !own {
		x.ready(sl, x.dev.Refuse(value.Clip(pk.TopicName, 100),
			fault.New(fault.NotAllowed, "%s publishes under %s%s/ only, not to %q",
				x.dev.ID, topicRoot, x.dev.ID, value.Clip(pk.TopicName, 100))))
		return true
	}
	x.dev.Take(door.Message{Name: name, Body: pk.Payload, ContentType: pk.Properties.ContentType,
		Dup: pk.FixedHeader.Dup, PacketID: pk.PacketID}, func(v door.Verdict) { x.ready(sl, v) })
	return true
}

// codeFor says why the session ends where the service failed.
func codeFor(c fault.Code) byte {
	switch c {
	case fault.Full:
		return codeQuota
	case fault.Stopping:
		return codeShuttingDown
	case fault.Overload:
		return codeBusy
	}
	return codeUnavailable
}

// acknowledge answers one message. It returns false, without an answer, if the
// failure is the service's: the device must keep its copy.
func (x *session) acknowledge(sl *slot) bool {
	v := sl.verdict
	if v.Again {
		return false
	}
	code := byte(codeSuccess)
	if p := v.Problem; p != nil && v.Kept == 0 {
		if code = codePayloadInvalid; p.Code == fault.NotAllowed || p.Code == fault.NotFound {
			code = codeNotAuthorised
		}
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if sl.qos == 1 {
		pk := &packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Puback}, PacketID: sl.id}
		if x.version == 5 {
			pk.ReasonCode = code
			pk.Properties.ReasonString = x.reason(v.Reason())
		}
		x.put(pk)
	}
	if v.Problem != nil {
		x.putProblem(v.Problem)
	}
	return true
}

// end lets the session end. For MQTT 5 the reason goes out as a DISCONNECT.
func (x *session) end(code byte, reason string) {
	x.once.Do(func() {
		x.mu.Lock()
		if x.version == 5 && code != codeSuccess {
			pk := &packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Disconnect}, ReasonCode: code}
			pk.Properties.ReasonString = x.reason(reason)
			x.lastWord(pk)
		}
		x.mu.Unlock()
		close(x.quit)
		x.conn.SetReadDeadline(time.Now().Add(-time.Second))
		x.todo.mu.Lock()
		x.todo.over = true
		x.todo.wake()
		x.kick()
		x.todo.mu.Unlock()
	})
}

// lastWord keeps a DISCONNECT until the acknowledgements before it are out.
func (x *session) lastWord(pk *packets.Packet) { x.last = pk }

func (x *session) closing() {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.last != nil {
		x.put(x.last)
	}
	x.flushOut()
}
