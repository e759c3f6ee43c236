package door

import (
	"context"
	"encoding/pem"
	"time"

	"ullage/core/bundle"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/joining"
	"ullage/fleet/traffic"
	"ullage/transport/conns"
)

// Ways are where devices find the service, and whom they trust.
type Ways struct {
	MQTT, HTTP string   // host:port over TLS; empty for off
	Time       string   // host:port that tells the time alone; empty for off
	CA         []byte   // in PEM
	CAs        [][]byte // the authority's certificates in DER, the root first
}

// Ways returns where devices find the service; the zero Ways where nobody has said.
func (d *Door) Ways() Ways {
	if d.o.Ways == nil {
		return Ways{}
	}
	return d.o.Ways()
}

// Asking is what a device shows that wants to join.
type Asking struct {
	Secret, Serial, Nonce string
	CSR                   []byte // a request for a certificate, in the place of a nonce
}

// Joined is what it gets.
type Joined struct {
	After       time.Duration // it waits for a person, and asks again after this, if it is not zero
	Answer      []byte        // all that it needs from now on, in JSON
	Certificate []byte        // in DER, where it has asked for one
}

// Join lets a device join. The traffic shows that it asked and what it was told, and
// never what it has shown. A stranger is told nothing but a ref.
func (d *Door) Join(ctx context.Context, transport, remote, tls string, in Asking) (Joined, error) {
	out, err := d.admitted(ctx, transport, remote, tls, joining.Asked{Secret: in.Secret, Serial: in.Serial, Nonce: in.Nonce, CSR: in.CSR})
	if err != nil || out.After > 0 {
		return Joined{After: out.After}, err
	}
	m, err := d.o.Models.Of(out.Device.Model, out.Device.Version)
	if err != nil {
		return Joined{}, err
	}
	ways := d.Ways()
	text, err := bundle.Joined(bundle.Bundle{Device: out.Device.ID, Model: m, MQTT: ways.MQTT, HTTP: ways.HTTP, Time: ways.Time, CA: ways.CA,
		Token: out.Given.Token, Chain: out.Given.Chain, At: d.o.Now(), Expires: out.Given.ExpiresAt})
	return Joined{Answer: text, Certificate: first(out.Given.Chain)}, err
}

// first returns the first certificate of a chain in PEM, in DER; nil for none.
func first(chain []byte) []byte {
	if block, _ := pem.Decode(chain); block != nil {
		return block.Bytes
	}
	return nil
}

func (d *Door) admitted(ctx context.Context, transport, remote, tls string, a joining.Asked) (joining.Answer, error) {
	a.From = conns.HostOf(remote)
	if a.Over = transport; tls != "" {
		a.Over += ", " + tls
	}
	e := traffic.Entry{At: d.o.Now(), Direction: traffic.Up, Transport: transport, Remote: remote, TLS: tls, Topic: "join",
		Claimed: value.Clip(a.Serial, 70)}
	out, err := d.join(ctx, a, tls)
	if err == nil {
		if e.Note = "it waits for a person"; out.After == 0 {
			e.Device, e.Note = out.Device.ID, "the serial "+a.Serial+" joined"
		}
		d.o.Traffic.Add(e)
		return out, nil
	}
	e.Reason = err.Error()
	f := fault.From(err)
	if f.Code == fault.Unauthenticated {
		e.Ref = traffic.NewRef()
		f = fault.New(fault.Unauthenticated, "not authorised")
		f.Ref = e.Ref
	}
	if wait, quiet := d.gate.failed(a.From); quiet {
		time.Sleep(wait)
	} else {
		d.o.Traffic.Add(e)
	}
	return joining.Answer{}, f
}

func (d *Door) join(ctx context.Context, a joining.Asked, tls string) (joining.Answer, error) {
	if d.o.Joining == nil {
		return joining.Answer{}, fault.New(fault.NotFound, "nobody joins this service by themselves")
	}
	if tls == "" && !conns.Loopback(a.From) {
		return joining.Answer{}, fault.New(fault.NotAllowed, "joining is over TLS only; use the port for devices over TLS")
	}
	return d.o.Joining.Ask(ctx, a)
}

// RenewToken gives a device another token for the one that it came with, which ends when the
// other is used first.
func (v *Device) RenewToken(ctx context.Context, nonce string) (token string, err error) {
	given, err := v.renewToken(ctx, nonce)
	e := traffic.Entry{At: v.door.o.Now(), Device: v.ID, Direction: traffic.Up, Transport: v.Transport, Remote: v.Remote, TLS: v.TLS, Topic: "renew"}
	if err != nil {
		e.Reason = err.Error()
	} else {
		e.Note = "it has a new token; the one that it came with ends when that is used"
	}
	v.door.o.Traffic.Add(e)
	return given.Token, err
}

func (v *Device) renewToken(ctx context.Context, nonce string) (devices.Given, error) {
	switch {
	case v.Credential.Kind != devices.Token:
		return devices.Given{}, fault.New(fault.NotAllowed, "%s came with a certificate, and a token is renewed with the present one", v.ID).
			Then("renew the certificate by EST, at /.well-known/est/simplereenroll")
	case v.TLS == "" && !conns.Loopback(conns.HostOf(v.Remote)):
		return devices.Given{}, fault.New(fault.NotAllowed, "a token is renewed over TLS only; use the port for devices over TLS")
	}
	return v.door.o.Devices.RenewToken(ctx, v.ID, v.Credential.ID, nonce)
}

// Reenroll gives a device another certificate, in DER, for the key in a request; what it came
// with holds on beside it, and nothing else does.
func (v *Device) Reenroll(ctx context.Context, csr []byte) (der []byte, err error) {
	if v.Credential.Kind != devices.Certificate {
		return nil, fault.New(fault.NotAllowed, "%s came with a token, and a certificate is renewed with the present one", v.ID).
			Then("join with a request for a certificate first")
	}
	given, err := v.door.o.Devices.Renew(ctx, v.ID, devices.Wanted{Kind: devices.Certificate, Request: csr, Beside: v.Credential.ID}, true, v.ID)
	e := traffic.Entry{At: v.door.o.Now(), Device: v.ID, Direction: traffic.Up, Transport: v.Transport, Remote: v.Remote, TLS: v.TLS, Topic: "renew"}
	if err != nil {
		e.Reason = err.Error()
	} else {
		e.Note = "it has a new certificate, until " + given.ExpiresAt.UTC().Format(time.RFC3339)
	}
	v.door.o.Traffic.Add(e)
	return first(given.Chain), err
}
