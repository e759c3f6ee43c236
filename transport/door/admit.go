package door

import (
	"crypto/sha256"
	"crypto/x509"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/traffic"
	"ullage/transport/conns"
)

// takes refuses a credential of a kind that the listener does not take.
func (d *Door) takes(c Claim, kind devices.Kind) error {
	kinds := d.o.Takes[c.Listener]
	if len(kinds) == 0 || slices.Contains(kinds, kind) {
		return nil
	}
	return fault.New(fault.Unauthenticated, "it showed a %s, and the listener %s takes a %s alone; give the device one, or use another port", kind, c.Listener, kinds[0])
}

// Credential is what a device was let in by.
type Credential struct {
	Kind devices.Kind
	ID   string // as the registry knows it; no secret
}

// Claim is what a stranger shows.
type Claim struct {
	Transport string // "mqtt" or "http"
	Listener  string // name of the one it came by; empty where listeners have none
	Remote    string // network address
	Device    string // id that it says it has; may be empty if Named is false
	Named     bool   // the protocol wants the id beside the credential
	Token     string
	// Certificates are what it showed in the TLS handshake, its own first; it has the
	// key of that.
	Certificates []*x509.Certificate
	TLS          string // version of the connection, such as TLS 1.3; empty without
	// Missing says what the protocol gave no credential in; empty if it gave one.
	Missing string
	// Check judges what else belongs to the protocol, such as a client id; nil for
	// nothing. Its error is the reason of the refusal.
	Check func(device string) error
}

// Device is a device that was let in, as one session or one request of it.
type Device struct {
	ID         string
	Credential Credential
	Transport  string
	Remote     string
	TLS        string

	door *Door
	lane *lane
	used atomic.Int64 // when it was noted that it uses its credential
}

// Refused counts those that were refused since the start, at the doors of this service.
func (d *Door) Refused() uint64 { return d.gate.total.Load() }

// Admit judges a claim. The error is what the stranger may hear and has a ref;
// the traffic shows the reason under that ref. Somebody who fails too often
// waits for it.
func (d *Door) Admit(c Claim) (*Device, error) {
	v, err := d.admit(c)
	if err == nil {
		return v, nil
	}
	ref := traffic.NewRef()
	if wait, quiet := d.gate.failed(conns.HostOf(c.Remote)); quiet {
		time.Sleep(wait)
	} else {
		e := traffic.Entry{At: d.o.Now(), Direction: traffic.Up, Transport: c.Transport, Remote: c.Remote, TLS: c.TLS,
			Topic: "connect", Claimed: value.Clip(c.Device, 100), Reason: err.Error(), Ref: ref}
		if d.o.Devices.Knows(c.Device) {
			e.Device = c.Device
		}
		d.o.Traffic.Add(e)
	}
	f := fault.New(fault.Unauthenticated, "not authorised")
	f.Ref = ref
	return nil, f
}

func (d *Door) admit(c Claim) (*Device, error) {
	dev, credential, err := d.identify(c)
	if err != nil {
		return nil, err
	}
	if err := d.takes(c, credential.Kind); err != nil {
		return nil, err
	}
	if c.Named && c.Device == "" && credential.Kind == devices.Token {
		return nil, fault.New(fault.Unauthenticated, "no user name was given; it is the device id, here %s", dev.ID)
	}
	if c.Check != nil {
		if err := c.Check(dev.ID); err != nil {
			return nil, err
		}
	}
	v := &Device{ID: dev.ID, Credential: credential, Transport: c.Transport,
		Remote: c.Remote, TLS: c.TLS, door: d, lane: d.lane(dev.ID)}
	v.use()
	return v, nil
}

// useEvery is how often a session notes that it goes on with its credential.
const useEvery = time.Minute

// use notes that the device uses its credential.
func (v *Device) use() {
	now := v.door.o.Now()
	if was := v.used.Load(); now.UnixNano()-was < int64(useEvery) && was != 0 || !v.used.CompareAndSwap(was, now.UnixNano()) {
		return
	}
	over := v.Transport
	if v.TLS != "" {
		over += ", " + v.TLS
	}
	v.door.o.Devices.Used(v.ID, v.Credential.ID, conns.HostOf(v.Remote), over)
}

// identify finds whose credential it is: a certificate, or else a token.
func (d *Door) identify(c Claim) (devices.Device, Credential, error) {
	if len(c.Certificates) > 0 && d.o.Judge != nil {
		if err := d.o.Judge(c.Certificates, d.o.Now()); err != nil {
			return devices.Device{}, Credential{}, err
		}
		dev, held, err := d.o.Devices.AuthenticateCertificate(c.Device, sha256.Sum256(c.Certificates[0].Raw))
		return dev, Credential{Kind: devices.Certificate, ID: held.ID}, err
	}
	if c.TLS != "" && c.Token == "" && d.o.Judge != nil {
		c.Missing = "neither a certificate nor a token was shown; give the device the one that its bundle holds"
	}
	if c.Missing != "" {
		return devices.Device{}, Credential{}, fault.New(fault.Unauthenticated, "%s", c.Missing)
	}
	dev, err := d.o.Devices.Authenticate(c.Device, c.Token)
	id, _, _ := strings.Cut(c.Token, ".")
	return dev, Credential{Kind: devices.Token, ID: strings.Clone(id)}, err
}

// MayStay reports whether the device may go on, and if not, why.
func (v *Device) MayStay() (why string, ok bool) {
	return v.door.o.Devices.MayStay(v.ID, v.Credential.ID)
}

// Arrived writes into the traffic that a session began.
func (v *Device) Arrived(note string) {
	v.door.o.Traffic.Add(traffic.Entry{At: v.door.o.Now(), Device: v.ID, Direction: traffic.Up, Transport: v.Transport,
		Remote: v.Remote, TLS: v.TLS, Topic: "connect", Note: note})
}

// Note writes into the traffic why something that the device did was refused.
func (v *Device) Note(topic, reason string) {
	v.door.o.Traffic.Add(traffic.Entry{At: v.door.o.Now(), Device: v.ID, Direction: traffic.Up, Transport: v.Transport,
		Remote: v.Remote, Topic: topic, Reason: reason})
}
