package mqtt

import (
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"
	"golang.org/x/time/rate"

	"ullage/fleet/traffic"
)

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
		ref := traffic.NewRef()
		e := traffic.Entry{At: s.o.Now(), Direction: traffic.Up, Transport: "mqtt", Remote: x.remote, Topic: "connect", Claimed: clip(user), Reason: why, Ref: ref}
		if s.o.Devices.Knows(user) {
			e.Device = user
		}
		wait, quiet := s.o.Gate.Failed(hostOf(x.remote))
		if quiet {
			time.Sleep(wait)
		} else {
			s.o.Traffic.Add(e)
		}
		x.connack(v3, v5, "not authorised, ref "+ref, false, "")
	}
	dev, err := s.o.Devices.Authenticate(user, string(c.Password))
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
		x.note("connect", fmt.Sprintf("it connected more than %d times within a minute; does another client use its id?", s.o.Limits.Connects))
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
	if s.o.Limits.Rate > 0 {
		x.limiter = rate.NewLimiter(rate.Limit(s.o.Limits.Rate), int(s.o.Limits.Rate*4))
	}
	resumed, err = s.enter(x, c.Clean)
	if err != nil {
		x.note("connect", fmt.Sprintf("it has %d sessions already; a third one was turned away", s.o.Limits.Sessions))
		x.connack(3, codeQuota, "too many sessions of this device", false, "")
		return false, false
	}
	note := ""
	if c.WillFlag {
		note = "its will is not used; Ullage judges a link by its readings"
	}
	s.o.Traffic.Add(traffic.Entry{At: s.o.Now(), Device: x.device, Direction: traffic.Up, Transport: "mqtt", Remote: x.remote, Topic: "connect", Note: note})
	return resumed, x.connack(0, codeSuccess, "", resumed, assigned) == nil
}

func (x *session) connack(v3, v5 byte, reason string, present bool, assigned string) error {
	pk := &packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}, SessionPresent: present}
	if x.version == 5 {
		pk.ReasonCode = v5
		pk.Properties = packets.Properties{
			ReasonString: reason, AssignedClientID: assigned,
			ReceiveMaximum: maxPipelined, MaximumPacketSize: uint32(x.srv.o.Limits.Message + 1024),
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
	x.flushOut()
	return nil
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
