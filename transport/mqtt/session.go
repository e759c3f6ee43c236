package mqtt

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"golang.org/x/time/rate"

	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/wire"
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
)

// downTopics are what a device can subscribe to, below its own prefix.
var downTopics = []string{"intended", "problem", "time"}

type session struct {
	srv        *Server
	conn       net.Conn
	r          *bufio.Reader
	remote     string
	device     string
	credential string
	clientID   string
	version    byte
	keep       time.Duration
	expiry     time.Duration
	maxPacket  uint32
	reasons    bool // the client wants reason strings
	limiter    *rate.Limiter
	drain      bool            // the rest of a message that is too large is still to come
	subs       map[string]byte // filter to granted QoS; the reader's alone once in

	acks  chan *slot
	pokes chan struct{}
	quit  chan struct{} // closed when the session is to end
	gone  chan struct{} // closed when it has ended
	once  sync.Once

	mu       sync.Mutex // of everything below, and of writing
	w        *bufio.Writer
	granted  map[string]byte // QoS by down topic
	inFlight uint16          // packet id of the intended document on its way
	again    bool            // a newer one waits for that
	sent     int64           // revision that was sent last; 0 asks for any to be sent
	nextID   uint16
	last     *packets.Packet // a DISCONNECT that goes out after the last acknowledgement
}

// slot is one message that waits for its commit. Slots are answered in the
// order in which the messages came.
type slot struct {
	id      uint16
	qos     byte
	outcome ingest.Outcome
	done    chan struct{}
}

// serve speaks with one connection until it ends.
func (s *Server) serve(conn net.Conn) {
	x := &session{srv: s, conn: conn, r: bufio.NewReaderSize(conn, 4096), w: bufio.NewWriterSize(conn, 2048),
		remote: conn.RemoteAddr().String(), subs: map[string]byte{}, granted: map[string]byte{},
		acks: make(chan *slot, maxPipelined), pokes: make(chan struct{}, 1), quit: make(chan struct{}), gone: make(chan struct{}), nextID: 1}
	defer close(x.gone)
	conn.SetDeadline(s.Now().Add(s.Limits.Hello))
	pk, err := x.read()
	if err != nil {
		if !errors.Is(err, io.EOF) {
			x.note("connect", fmt.Sprintf("it did not say hello as MQTT does: %s", plainly(err)))
		}
		return
	}
	if pk.FixedHeader.Type != packets.Connect {
		x.note("connect", "its first packet was no CONNECT")
		return
	}
	resumed, ok := x.connect(pk)
	if !ok {
		return
	}
	defer s.leave(x)
	conn.SetDeadline(time.Time{})
	written := make(chan struct{})
	go func() { defer close(written); x.answer() }()
	if resumed {
		x.grant()
		x.poke()
	}
	x.loop()
	x.end(codeSuccess, "")
	<-written
	if x.drain {
		// Closing with a body still under way would reset the connection, and
		// the device would never read why.
		conn.SetReadDeadline(time.Now().Add(time.Second))
		io.CopyN(io.Discard, x.r, maxDrained)
	}
}

// connect judges a CONNECT and answers it.
func (x *session) connect(pk *packets.Packet) (resumed, ok bool) {
	s, c := x.srv, &pk.Connect
	x.version = pk.ProtocolVersion
	x.maxPacket = pk.Properties.MaximumPacketSize
	x.reasons = pk.Properties.RequestProblemInfo != 0 || !pk.Properties.RequestProblemInfoFlag
	if x.version != 4 && x.version != 5 {
		x.note("connect", fmt.Sprintf("it speaks MQTT protocol level %d; 3.1.1 (4) and 5 are served", x.version))
		x.version = 4
		x.connack(1, codeVersion, "MQTT 3.1.1 and 5 are served", false, "")
		return false, false
	}
	if code := pk.ConnectValidate(); code.Code != 0 {
		x.note("connect", "its CONNECT breaks the protocol: "+code.Reason)
		x.connack(2, codeProtocolError, code.Reason, false, "")
		return false, false
	}
	user := string(c.Username)
	refuse := func(v3, v5 byte, why string) {
		ref := wire.NewRef()
		e := wire.Entry{At: s.Now(), Direction: wire.Up, Transport: "mqtt", Remote: x.remote, Topic: "connect", Claimed: clip(user), Reason: why, Ref: ref}
		if s.Devices.Knows(user) {
			e.Device = user
		}
		wait, quiet := s.Gate.Failed(hostOf(x.remote))
		if quiet {
			time.Sleep(wait)
		} else {
			s.Wire.Add(e)
		}
		x.connack(v3, v5, "not authorised, ref "+ref, false, "")
	}
	dev, err := s.Devices.Authenticate(user, string(c.Password))
	if err != nil {
		refuse(5, codeNotAuthorised, err.Error())
		return false, false
	}
	if user == "" {
		refuse(5, codeNotAuthorised, "no user name was given; it is the device id, here "+dev.ID)
		return false, false
	}
	x.device = dev.ID
	x.credential, _, _ = strings.Cut(string(c.Password), ".")
	x.clientID = c.ClientIdentifier
	assigned := ""
	if x.clientID == "" {
		x.clientID, assigned = dev.ID, dev.ID
	}
	if x.clientID != dev.ID && !strings.HasPrefix(x.clientID, dev.ID+"/") {
		refuse(2, codeClientID, fmt.Sprintf("its client id is %q; it must be %s or begin with %s/", clip(x.clientID), dev.ID, dev.ID))
		return false, false
	}
	if !s.mayConnect(dev.ID) {
		x.note("connect", fmt.Sprintf("it connected more than %d times within a minute; does another client use its id?", s.Limits.Connects))
		x.connack(3, codeConnectionRate, "too many connections; wait a minute", false, "")
		return false, false
	}
	x.keep = time.Duration(c.Keepalive) * time.Second
	if x.version == 5 {
		x.expiry = time.Duration(pk.Properties.SessionExpiryInterval) * time.Second
	} else if !c.Clean {
		x.expiry = maxSessionExpiry
	}
	x.expiry = min(x.expiry, maxSessionExpiry)
	if s.Limits.Rate > 0 {
		x.limiter = rate.NewLimiter(rate.Limit(s.Limits.Rate), int(s.Limits.Rate*4))
	}
	resumed, err = s.enter(x, c.Clean)
	if err != nil {
		x.note("connect", fmt.Sprintf("it has %d sessions already; a third one was turned away", s.Limits.Sessions))
		x.connack(3, codeQuota, "too many sessions of this device", false, "")
		return false, false
	}
	note := ""
	if c.WillFlag {
		note = "its will is not used; Ullage judges a link by its readings"
	}
	s.Wire.Add(wire.Entry{At: s.Now(), Device: x.device, Direction: wire.Up, Transport: "mqtt", Remote: x.remote, Topic: "connect", Note: note})
	return resumed, x.connack(0, codeSuccess, "", resumed, assigned) == nil
}

func (x *session) connack(v3, v5 byte, reason string, present bool, assigned string) error {
	pk := &packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}, SessionPresent: present}
	if x.version == 5 {
		pk.ReasonCode = v5
		pk.Properties = packets.Properties{
			ReasonString: reason, AssignedClientID: assigned,
			ReceiveMaximum: maxPipelined, MaximumPacketSize: uint32(x.srv.Limits.Message + 1024),
			MaximumQosFlag: true, MaximumQos: 1, RetainAvailableFlag: true,
			SubIDAvailableFlag: true, SharedSubAvailableFlag: true,
		}
		if v5 == 0 {
			pk.Properties.SessionExpiryInterval = uint32(x.expiry / time.Second)
			pk.Properties.SessionExpiryIntervalFlag = true
		}
	} else {
		pk.ReasonCode = v3
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if err := x.put(pk); err != nil {
		return err
	}
	return x.w.Flush()
}

// read reads one packet. The size is judged before memory is taken, and a
// panic of the codec becomes an error.
func (x *session) read() (pk *packets.Packet, err error) {
	first, err := x.r.ReadByte()
	if err != nil {
		return nil, err
	}
	pk = &packets.Packet{ProtocolVersion: x.version}
	if err := pk.FixedHeader.Decode(first); err != nil {
		return nil, err
	}
	n, _, err := packets.DecodeLength(x.r)
	if err != nil {
		return nil, err
	}
	if n > x.srv.Limits.Message+1024 {
		return pk, &tooLarge{n, x.srv.Limits.Message}
	}
	pk.FixedHeader.Remaining = n
	body := make([]byte, n)
	if _, err := io.ReadFull(x.r, body); err != nil {
		return nil, err
	}
	return pk, decode(pk, body)
}

type tooLarge struct{ size, limit int }

func (e *tooLarge) Error() string {
	return fmt.Sprintf("the message has %d bytes; %d are taken at most, so send it in parts", e.size, e.limit)
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
		if len(body) <= 2 {
			return packets.ErrProtocolViolationNoFilters
		}
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

// loop reads packets until the connection or the session ends.
func (x *session) loop() {
	for {
		if x.keep > 0 {
			x.conn.SetReadDeadline(time.Now().Add(x.keep * 3 / 2))
		}
		pk, err := x.read()
		select {
		case <-x.quit:
			return
		default:
		}
		if err != nil {
			x.broken(err)
			return
		}
		switch pk.FixedHeader.Type {
		case packets.Publish:
			if !x.publish(pk) {
				return
			}
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
			return
		default:
			x.note("connect", "it sent a second CONNECT")
			x.end(codeProtocolError, "a second CONNECT")
			return
		}
	}
}

// broken says on the wire why reading failed, where that is worth knowing.
func (x *session) broken(err error) {
	var large *tooLarge
	var timeout net.Error
	var code packets.Code
	switch {
	case errors.As(err, &large):
		x.drain = true
		x.note("readings", large.Error())
		x.problem(fault.New(fault.TooLarge, "%s", large.Error()))
		x.end(codeTooLarge, large.Error())
	case errors.As(err, &timeout) && timeout.Timeout():
		x.note("connect", fmt.Sprintf("nothing came for %s, which is 1.5 times its keep alive", x.keep*3/2))
		x.end(codeKeepAlive, "keep alive ran out")
	case errors.As(err, &code):
		x.note("connect", "it broke the protocol: "+code.Reason)
		x.end(codeMalformed, code.Reason)
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
	if x.limiter != nil {
		// Reading on waits, so that nothing is lost: the device's own window
		// and TCP hold it back.
		if r := x.limiter.Reserve(); r.Delay() > 0 {
			timer := time.NewTimer(r.Delay())
			select {
			case <-timer.C:
			case <-x.quit:
				timer.Stop()
				return false
			}
		}
	}
	sl := &slot{id: pk.PacketID, qos: qos, done: make(chan struct{})}
	select {
	case x.acks <- sl:
	case <-x.quit:
		return false
	}
	finish := func(o ingest.Outcome) {
		sl.outcome = o
		close(sl.done)
	}
	name, own := strings.CutPrefix(pk.TopicName, topicRoot+x.device+"/")
	if !own {
		why := fault.New(fault.NotAllowed, "%s publishes under %s%s/ only, not to %q", x.device, topicRoot, x.device, clip(pk.TopicName))
		x.note(clip(pk.TopicName), why.Error())
		finish(ingest.Outcome{Err: why})
		return true
	}
	body := pk.Payload
	if len(body) > x.srv.Limits.Message {
		large := &tooLarge{len(body), x.srv.Limits.Message}
		x.note(name, large.Error())
		finish(ingest.Outcome{Err: fault.New(fault.TooLarge, "%s", large.Error())})
		return true
	}
	x.srv.Door.Accept(ingest.Message{
		Device: x.device, Kind: ingest.Kind(name), Body: body, ContentType: pk.Properties.ContentType,
		Transport: "mqtt", Remote: x.remote, Dup: pk.FixedHeader.Dup, PacketID: pk.PacketID,
	}, finish)
	return true
}

// answer acknowledges messages in the order they came, each after its commit,
// and sends what the service has to say.
func (x *session) answer() {
	for {
		select {
		case sl := <-x.acks:
			select {
			case <-sl.done:
			default:
				x.flush()
				<-sl.done // the store answers every message, also when it fails
			}
			if !x.acknowledge(sl) {
				x.end(codeFor(sl.outcome.Err), sl.outcome.Err.Sentence)
				x.closing()
				return
			}
			if len(x.acks) == 0 {
				x.flush()
			}
		case <-x.pokes:
			x.intended()
			x.flush()
		case <-x.quit:
			// What was taken before the end is still answered for.
			for len(x.acks) > 0 {
				sl := <-x.acks
				<-sl.done
				if !x.acknowledge(sl) {
					break
				}
			}
			x.closing()
			return
		}
	}
}

func codeFor(e *fault.Error) byte {
	switch e.Code {
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
	o := sl.outcome
	if o.Err != nil && o.Err.Code.Ours() {
		return false
	}
	var problem *fault.Error
	code, reason := byte(codeSuccess), ""
	switch {
	case o.Err != nil:
		problem, reason, code = o.Err, o.Err.Error(), codePayloadInvalid
		if o.Err.Code == fault.NotAllowed || o.Err.Code == fault.NotFound {
			code = codeNotAuthorised
		}
	case len(o.Refused) > 0:
		problem = &fault.Error{Code: fault.Invalid, Findings: o.Refused,
			Sentence: fmt.Sprintf("%s; the other %d fields were kept", o.Refused[0].Sentence, o.Kept)}
		if o.Kept == 0 {
			problem.Sentence, code = o.Refused[0].Sentence+"; nothing was kept", codePayloadInvalid
		}
		reason = problem.Sentence
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if sl.qos == 1 {
		pk := &packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Puback}, PacketID: sl.id}
		if x.version == 5 {
			pk.ReasonCode = code
			pk.Properties.ReasonString = x.reason(reason)
		}
		x.put(pk)
	}
	if problem != nil {
		x.putProblem(problem)
	}
	return true
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

// problem tells the device what was refused, if it listens.
func (x *session) problem(e *fault.Error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.putProblem(e)
}

func (x *session) putProblem(e *fault.Error) {
	if _, listens := x.granted["problem"]; !listens {
		return
	}
	body, err := json.Marshal(map[string]any{
		"type": "about:blank", "title": string(e.Code), "detail": e.Error(), "findings": e.Findings,
	})
	if err == nil {
		x.putPublish("problem", body, 0, false)
	}
}

// intended sends the settings document, unless one is on its way.
func (x *session) intended() {
	x.mu.Lock()
	qos, listens := x.granted["intended"]
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
	doc, err := x.srv.Settings.Document(x.device)
	if err != nil {
		x.srv.Log.Error("settings are not readable", "device", x.device, "error", err)
		return
	}
	body, err := json.Marshal(doc)
	if err != nil {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if doc.Revision == x.sent {
		return // the news was of something else, such as a confirmation
	}
	x.sent = doc.Revision
	if id := x.putPublish("intended", body, qos, true); qos > 0 {
		x.inFlight = id
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
		TopicName: topicRoot + x.device + "/" + name, Payload: body}
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
		x.srv.Wire.Add(wire.Entry{At: x.srv.Now(), Device: x.device, Direction: wire.Down, Transport: "mqtt", Remote: x.remote, Topic: name,
			Body: string(body), Reason: fmt.Sprintf("the device takes packets of %d bytes only, so this was not sent", x.maxPacket)})
		return 0
	}
	x.put(pk)
	x.srv.Wire.Add(wire.Entry{At: x.srv.Now(), Device: x.device, Direction: wire.Down, Transport: "mqtt", Remote: x.remote, Topic: name, Body: string(body)})
	return pk.PacketID
}

func (x *session) subscribe(pk *packets.Packet) {
	codes := make([]byte, len(pk.Filters))
	reason := ""
	for i, f := range pk.Filters {
		if !x.mayReach(f.Filter) || len(x.subs) >= maxSubscriptions {
			codes[i] = 0x80
			if x.version == 5 {
				codes[i] = codeNotAuthorised
			}
			reason = fmt.Sprintf("%s subscribes under %s%s/ only, not to %q", x.device, topicRoot, x.device, clip(f.Filter))
			x.note("subscribe", reason)
			continue
		}
		x.subs[f.Filter] = min(f.Qos, 1)
		codes[i] = min(f.Qos, 1)
	}
	x.grant()
	ack := &packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Suback}, PacketID: pk.PacketID, ReasonCodes: codes}
	if x.version == 5 {
		ack.Properties.ReasonString = x.reason(reason)
	}
	x.mu.Lock()
	x.put(ack)
	if _, wants := x.granted["time"]; wants {
		if body, err := json.Marshal(map[string]any{"now": x.srv.Now().UTC().Format("2006-01-02T15:04:05.000Z07:00")}); err == nil {
			x.putPublish("time", body, 0, false)
		}
	}
	x.mu.Unlock()
	x.flush()
	for _, f := range pk.Filters {
		if match(f.Filter, topicRoot+x.device+"/intended") {
			x.mu.Lock()
			x.sent = 0
			x.mu.Unlock()
			x.poke()
		}
	}
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
	x.send(&packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Unsuback}, PacketID: pk.PacketID, ReasonCodes: codes})
}

// grant works out which down topics the subscriptions cover, and at which QoS.
func (x *session) grant() {
	granted := map[string]byte{}
	for filter, qos := range x.subs {
		for _, name := range downTopics {
			if match(filter, topicRoot+x.device+"/"+name) {
				granted[name] = max(granted[name], qos)
			}
		}
	}
	x.mu.Lock()
	x.granted = granted
	x.mu.Unlock()
}

// mayReach reports whether a filter stays inside the device's own prefix.
func (x *session) mayReach(filter string) bool {
	rest, own := strings.CutPrefix(filter, topicRoot+x.device+"/")
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

// poke asks for the newest settings to be sent. Pokes that come while one
// waits are one.
func (x *session) poke() {
	select {
	case x.pokes <- struct{}{}:
	default:
	}
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
	x.w.Flush()
}

func (x *session) send(pk *packets.Packet) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.put(pk)
	x.w.Flush()
}

func (x *session) flush() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.w.Flush()
}

// put encodes a packet into the write buffer; the caller holds mu.
func (x *session) put(pk *packets.Packet) error {
	pk.ProtocolVersion = x.version
	pk.Mods.MaxSize = x.maxPacket
	var buf bytes.Buffer
	var err error
	switch pk.FixedHeader.Type {
	case packets.Connack:
		err = pk.ConnackEncode(&buf)
	case packets.Publish:
		err = pk.PublishEncode(&buf)
	case packets.Puback:
		err = pk.PubackEncode(&buf)
	case packets.Suback:
		err = pk.SubackEncode(&buf)
	case packets.Unsuback:
		err = pk.UnsubackEncode(&buf)
	case packets.Pingresp:
		err = pk.PingrespEncode(&buf)
	case packets.Disconnect:
		err = pk.DisconnectEncode(&buf)
	}
	if err != nil {
		x.srv.Log.Error("a packet could not be encoded", "type", pk.FixedHeader.Type, "error", err)
		return err
	}
	x.conn.SetWriteDeadline(time.Now().Add(writeWait))
	_, err = x.w.Write(buf.Bytes())
	return err
}

// note writes something about this connection to the wire.
func (x *session) note(topic, reason string) {
	x.srv.Wire.Add(wire.Entry{At: x.srv.Now(), Device: x.device, Direction: wire.Up, Transport: "mqtt", Remote: x.remote,
		Topic: strings.TrimPrefix(topic, topicRoot+x.device+"/"), Reason: reason})
}

func plainly(err error) string {
	var e net.Error
	if errors.As(err, &e) && e.Timeout() {
		return "nothing came in time"
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return "the connection ended in the middle of a packet"
	}
	return err.Error()
}

func hostOf(address string) string {
	if host, _, err := net.SplitHostPort(address); err == nil {
		return host
	}
	return address
}

func clip(s string) string {
	if r := []rune(s); len(r) > 100 {
		return string(r[:100]) + "…"
	}
	return s
}
