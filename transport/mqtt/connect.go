package mqtt

import (
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"

	"github.com/mochi-mqtt/server/v2/packets"

	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/transport/conns"
	"ullage/transport/door"
)

const transport = "mqtt" // as the traffic names it

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
	v3, v5 := byte(5), byte(codeNotAuthorised)
	var shown []*x509.Certificate
	if x.tls != nil {
		shown = x.tls.PeerCertificates
	}
	dev, err := s.o.Door.Admit(door.Claim{Transport: transport, Listener: conns.ListenerOf(x.conn), Remote: x.remote, Device: user, Named: true,
		Token: string(c.Password), Certificates: shown, TLS: door.Version(x.tls), Check: func(id string) error {
			if c.ClientIdentifier == "" || c.ClientIdentifier == id || strings.HasPrefix(c.ClientIdentifier, id+"/") {
				return nil
			}
			v3, v5 = 2, codeClientID
			return fault.New(fault.Unauthenticated, "its client id is %q; it must be %s or begin with %s/",
				value.Clip(c.ClientIdentifier, 100), id, id)
		}})
	if err != nil {
		x.connack(v3, v5, "not authorised, ref "+fault.From(err).Ref, false, "")
		return false, false
	}
	x.dev = dev
	x.clientID = c.ClientIdentifier
	assigned := ""
	if x.clientID == "" {
		x.clientID, assigned = dev.ID, dev.ID
	}
	if err := dev.Connect(); err != nil {
		x.note("connect", err.Error())
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
	resumed, err = s.enter(x, c.Clean)
	if err != nil {
		x.note("connect", err.Error())
		code, says := byte(codeQuota), "too many sessions of this device"
		switch {
		case errors.Is(err, errNewer):
			code, says = codeTakenOver, err.Error()
		case errors.Is(err, errStopping):
			code, says = codeShuttingDown, err.Error()
		}
		x.connack(3, code, says, false, "")
		return false, false
	}
	conns.Known(x.conn)
	note := ""
	if c.WillFlag {
		note = "its will is not used; Ullage judges a link by its readings"
	}
	dev.Arrived(note)
	return resumed, x.connack(0, codeSuccess, "", resumed, assigned) == nil
}

func (x *session) connack(v3, v5 byte, reason string, present bool, assigned string) error {
	pk := &packets.Packet{FixedHeader: packets.FixedHeader{Type: packets.Connack}, SessionPresent: present}
	if x.version == 5 {
		pk.ReasonCode = v5
		pk.Properties = packets.Properties{
			ReasonString: reason, AssignedClientID: assigned,
			ReceiveMaximum: maxPipelined, MaximumPacketSize: uint32(x.srv.limits.Message + 1024),
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
