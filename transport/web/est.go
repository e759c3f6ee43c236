package web

import (
	"encoding/asn1"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"math"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/smallstep/pkcs7"

	"ullage/fleet/fault"
	"ullage/transport/door"
)

// Enrollment over Secure Transport (RFC 7030, with the corrections of RFC 8951): how
// devices get certificates, and renew them, with clients that are not ours.

// est adds the operations of EST.
func (w *handler) est(r gin.IRouter) {
	g := r.Group("/.well-known/est")
	g.GET("/cacerts", w.caCerts)
	g.GET("/csrattrs", w.csrAttrs)
	g.POST("/simpleenroll", w.simpleEnroll)
	g.POST("/simplereenroll", w.simpleReenroll)
}

// encoded answers with DER in Base64 (RFC 8951, section 3.1). The header that says so is
// for clients of before.
func encoded(c *gin.Context, kind string, der []byte) {
	c.Header("Content-Transfer-Encoding", "base64")
	// Without line ends, which some clients do not read over (RFC 4648, section 3.1).
	c.Data(200, kind, []byte(base64.StdEncoding.EncodeToString(der)))
}

// caCerts gives the certificates of the authority (section 4.1).
func (w *handler) caCerts(c *gin.Context) {
	var all []byte
	for _, der := range w.Door.Ways().CAs {
		all = append(all, der...)
	}
	der, err := pkcs7.DegenerateCertificate(all)
	if err != nil || len(all) == 0 {
		refuse(c, fault.New(fault.NotFound, "this service has no authority that makes certificates"))
		return
	}
	encoded(c, "application/pkcs7-mime; smime-type=certs-only", der)
}

// csrAttributes asks for a key on P-256 and a signature of ECDSA with SHA-256 (section
// 4.5.2). Other keys are taken too.
var csrAttributes = func() []byte {
	p256, _ := asn1.Marshal(asn1.ObjectIdentifier{1, 2, 840, 10045, 3, 1, 7})
	key, _ := asn1.Marshal(struct {
		Type   asn1.ObjectIdentifier
		Values []asn1.RawValue `asn1:"set"`
	}{asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1}, []asn1.RawValue{{FullBytes: p256}}})
	signature, _ := asn1.Marshal(asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2})
	der, err := asn1.Marshal([]asn1.RawValue{{FullBytes: key}, {FullBytes: signature}})
	if err != nil {
		panic(err) // the parts are constants
	}
	return der
}()

func (w *handler) csrAttrs(c *gin.Context) { encoded(c, "application/csrattrs", csrAttributes) }

// authority publishes what others need to judge certificates of the service: those of
// the authority, and which are revoked.
func (w *handler) authority(c *gin.Context) {
	cas := w.Door.Ways().CAs
	switch name := c.Param("file"); {
	case name == "root.crt" && len(cas) > 0:
		c.Data(200, "application/pkix-cert", cas[0])
	case name == "issuing.crt" && len(cas) > 1:
		c.Data(200, "application/pkix-cert", cas[1])
	case (name == "issuing.crl" || name == "revoked.pem") && w.Revoked != nil:
		lists, err := w.Revoked()
		if err != nil {
			w.Log.Error("the list of revoked certificates could not be made", "error", err)
			refuse(c, fault.New(fault.Internal, "something in the service failed").Then("ask again in a moment"))
			return
		}
		if name == "issuing.crl" {
			c.Data(200, "application/pkix-crl", lists[0])
			return
		}
		var all []byte
		for _, der := range lists {
			all = append(all, pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: der})...)
		}
		c.Data(200, "application/x-pem-file", all)
	default:
		refuse(c, fault.New(fault.NotFound, "there is nothing at %s", c.Request.URL.Path).Then("there are /authority/root.crt, issuing.crt, issuing.crl and revoked.pem"))
	}
}

// csrIn reads a request for a certificate: Base64 of DER, as EST says; PEM and DER do no
// harm.
func csrIn(c *gin.Context) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(c.Request.Body, maxJoin+1))
	if err != nil || len(b) > maxJoin {
		return nil, fault.New(fault.TooLarge, "the request for a certificate has more than %d bytes", maxJoin)
	}
	return decodeCSR(b)
}

// decodeCSR returns the DER, or the PEM, that was sent.
func decodeCSR(b []byte) ([]byte, error) {
	if len(b) == 0 {
		return nil, fault.New(fault.Invalid, "no request for a certificate came").Then("send PKCS #10 in Base64")
	}
	text := string(b)
	if !isBase64(text) {
		return b, nil
	}
	der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil {
		return nil, fault.New(fault.Invalid, "the request for a certificate is not Base64 to its end").Then("send PKCS #10 in Base64")
	}
	return der, nil
}

// simpleEnroll lets a device join with the secret of its serial (section 4.2.1): the
// user name is the serial, and the password the secret.
func (w *handler) simpleEnroll(c *gin.Context) {
	serial, secret, ok := c.Request.BasicAuth()
	if !ok {
		c.Header("WWW-Authenticate", `Basic realm="join"`)
		refuse(c, fault.New(fault.Unauthenticated, "no serial and no secret were given").Then("send them as user name and password (HTTP Basic); a device that has a certificate renews it at simplereenroll"))
		return
	}
	csr, err := csrIn(c)
	if err != nil {
		refuse(c, fault.From(err))
		return
	}
	out, err := w.Door.Join(c.Request.Context(), "est", c.Request.RemoteAddr, door.Version(c.Request.TLS), door.Asking{Secret: secret, Serial: serial, CSR: csr})
	if err != nil {
		if f := fault.From(err); f.Code == fault.Unauthenticated {
			c.Header("WWW-Authenticate", `Basic realm="join"`)
		}
		refuse(c, fault.From(err))
		return
	}
	if out.After > 0 { // section 4.2.3
		seconds := int(math.Ceil(out.After.Seconds()))
		c.Header("Retry-After", fmt.Sprint(seconds))
		c.Data(202, "text/plain; charset=utf-8", []byte(fmt.Sprintf("a person decides; ask again with the same request in %d s\n", seconds)))
		return
	}
	enrolled(c, out.Certificate)
}

// enrolled answers with one certificate in DER (section 4.2.3).
func enrolled(c *gin.Context, certificate []byte) {
	der, err := pkcs7.DegenerateCertificate(certificate)
	if err != nil {
		refuse(c, fault.From(err))
		return
	}
	encoded(c, "application/pkcs7-mime; smime-type=certs-only", der)
}

// simpleReenroll renews the certificate by which the device has come (section 4.2.2).
func (w *handler) simpleReenroll(c *gin.Context) {
	claim := w.shown(c)
	if claim.Missing = "a certificate is renewed with the present one, and none was shown"; claim.TLS == "" {
		claim.Missing = "a certificate is renewed over TLS, with the present one"
	}
	dev, err := w.Door.Admit(claim)
	if err != nil {
		refuse(c, fault.From(err))
		return
	}
	if err := dev.Allow(); err != nil {
		refuse(c, fault.From(err))
		return
	}
	csr, err := csrIn(c)
	if err != nil {
		refuse(c, fault.From(err))
		return
	}
	certificate, err := dev.Reenroll(c.Request.Context(), csr)
	if err != nil {
		refuse(c, fault.From(err))
		return
	}
	enrolled(c, certificate)
}
