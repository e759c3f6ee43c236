package people

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
)

// A browser, or a command line, that somebody has signed in with is familiar: it is
// given a token, and its attempts with that are counted by themselves. So whoever
// tries passwords of a person, be it from their own address, keeps no one out who was
// there before (OWASP, Slow Down Online Guessing Attacks with Device Cookies).
//
// A token is a random id and a MAC of it, with what is kept of the password as the
// key: nothing of it is stored, and another password makes it void.

type familiarKey struct{}

// WithFamiliar returns a context in which a sign-in shows the token of a familiar
// place.
func WithFamiliar(ctx context.Context, token string) context.Context {
	return context.WithValue(ctx, familiarKey{}, token)
}

const familiarID = 16

func (p Password) familiarMAC(id []byte) []byte {
	m := hmac.New(sha256.New, p.Hash)
	m.Write([]byte("familiar\x00" + p.Person + "\x00"))
	m.Write(id)
	return m.Sum(nil)
}

// Familiar returns a token for the place that somebody has just signed in from; empty
// for whoever has no password.
func (g *Register) Familiar(name string) string {
	p, ok := g.passwords.Get(name)
	if !ok {
		return ""
	}
	id := make([]byte, familiarID, familiarID+sha256.Size)
	rand.Read(id)
	return base64.RawURLEncoding.EncodeToString(append(id, p.familiarMAC(id)...))
}

// familiar returns the id of the token that a sign-in of somebody shows; empty where
// it shows none, or one that is not theirs.
func (g *Register) familiar(ctx context.Context, name string) string {
	token, _ := ctx.Value(familiarKey{}).(string)
	if token == "" || len(token) > 200 {
		return ""
	}
	b, err := base64.RawURLEncoding.DecodeString(token)
	p, ok := g.passwords.Get(name)
	if err != nil || !ok || len(b) != familiarID+sha256.Size || !hmac.Equal(b[familiarID:], p.familiarMAC(b[:familiarID])) {
		return ""
	}
	return hex.EncodeToString(b[:familiarID])
}
