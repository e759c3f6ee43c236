package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"

	"github.com/gin-gonic/gin"

	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/transport/conns"
	"ullage/transport/door"
)

// maxJoin is the largest request to join, in bytes; that for a certificate is the most
// of it.
const maxJoin = 32 << 10

// maxRenew is the largest request for another token, in bytes.
const maxRenew = 1 << 10

// Join is what a device sends that wants to join.
type Join struct {
	Secret string `json:"secret"`
	Serial string `json:"serial"`
	Nonce  string `json:"nonce,omitempty"`
	CSR    string `json:"csr,omitempty"` // in PEM
}

// join lets a device join: 200 with what it needs from now on, or 202 while a person
// decides.
func (w *handler) join(c *gin.Context) {
	var in Join
	b, err := io.ReadAll(io.LimitReader(c.Request.Body, maxJoin+1))
	if err != nil || len(b) > maxJoin {
		refuse(c, fault.New(fault.TooLarge, "the request to join has more than %d bytes", maxJoin))
		return
	}
	if err := json.Unmarshal(b, &in); err != nil {
		why := "it is not JSON"
		var wrong *json.UnmarshalTypeError
		if errors.As(err, &wrong) {
			if why = "it is a " + wrong.Value; wrong.Field != "" {
				why = fmt.Sprintf("%s is a %s", value.Clip(wrong.Field, 40), wrong.Value)
			}
		}
		refuse(c, fault.New(fault.Invalid, "the request to join is no JSON object of texts: %s", why).
			Then(`send {"serial":"…","secret":"…","nonce":"…"}`))
		return
	}
	out, err := w.Door.Join(c.Request.Context(), "http", c.Request.RemoteAddr, door.Version(c.Request.TLS), door.Asking{Secret: in.Secret, Serial: in.Serial, Nonce: in.Nonce, CSR: []byte(in.CSR)})
	if err != nil {
		refuse(c, fault.From(err))
		return
	}
	if out.After > 0 {
		seconds := int(math.Ceil(out.After.Seconds()))
		c.Header("Retry-After", fmt.Sprint(seconds))
		c.JSON(202, gin.H{"state": "waiting", "detail": fmt.Sprintf("a person decides; ask again with the same nonce in %d s", seconds)})
		return
	}
	c.Header("Cache-Control", "no-store")
	c.Data(200, "application/json", out.Answer)
}

// renewToken gives a device another token for the one that it came with.
func (w *handler) renewToken(c *gin.Context) {
	var in struct {
		Nonce string `json:"nonce"`
	}
	b, err := io.ReadAll(io.LimitReader(c.Request.Body, maxRenew+1))
	if err != nil || len(b) > maxRenew {
		refuse(c, fault.New(fault.TooLarge, "the request for a token has more than %d bytes", maxRenew))
		return
	}
	if err := json.Unmarshal(b, &in); err != nil {
		refuse(c, fault.New(fault.Invalid, "the request for a token is no JSON object with a nonce").Then(`send {"nonce":"…"}, 16 random bytes in hexadecimal digits or Base64`))
		return
	}
	dev := caller(c)
	token, err := dev.RenewToken(c.Request.Context(), in.Nonce)
	if err != nil {
		refuse(c, fault.From(err))
		return
	}
	c.Header("Cache-Control", "no-store")
	c.JSON(200, gin.H{"device": dev.ID, "token": token})
}

// shown is what a device has shown in its connection.
func (w *handler) shown(c *gin.Context) door.Claim {
	claim := door.Claim{Transport: "http", Listener: conns.ListenerIn(c.Request.Context()), Remote: c.Request.RemoteAddr, TLS: door.Version(c.Request.TLS)}
	if c.Request.TLS != nil {
		w.Door.Shaken("http", c.Request.RemoteAddr, nil)
		claim.Certificates = c.Request.TLS.PeerCertificates
	}
	return claim
}

func isBase64(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || strings.ContainsRune("+/=\r\n\t ", r))
	})
}
