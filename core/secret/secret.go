// Package secret seals settings that nobody may read, such as the password of a
// network: what is kept, compared, listed and put into files is a text that only
// the service which made it can open.
package secret

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"ullage/core/value"
)

// Box seals and opens under one key: AES-256-GCM (NIST SP 800-38D) with a random
// nonce, so that equal secrets do not look equal. The name of the setting is
// authenticated with it: what was sealed for one cannot be passed off as another.
// A nil Box does neither.
type Box struct{ aead cipher.AEAD }

// NewBox makes a Box whose key is derived from the master key of a service (RFC 5869).
func NewBox(master []byte) (*Box, error) {
	key, err := hkdf.Key(sha256.New, master, nil, "ullage secret settings", 32)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Box{aead}, err
}

var (
	errNoKey   = errors.New("this service has no master key, so it keeps no secrets")
	errForeign = errors.New("it was sealed by another service, or for another setting; give the secret itself")
)

var text = base64.RawURLEncoding

// Seal returns v sealed for a setting.
func (b *Box) Seal(name string, v value.Value) (value.Value, error) {
	if b == nil {
		return value.Value{}, errNoKey
	}
	plain, err := v.MarshalJSON()
	if err != nil {
		return value.Value{}, err
	}
	nonce := make([]byte, b.aead.NonceSize(), b.aead.NonceSize()+len(plain)+b.aead.Overhead())
	rand.Read(nonce) // it never fails
	return value.OfText(value.SealedPrefix + text.EncodeToString(b.aead.Seal(nonce, nonce, plain, []byte(name)))), nil
}

// Open returns what was sealed for a setting. What is not sealed is returned as it is.
func (b *Box) Open(name string, v value.Value) (value.Value, error) {
	if !v.Sealed() {
		return v, nil
	}
	if b == nil {
		return value.Value{}, errNoKey
	}
	raw, err := text.DecodeString(strings.TrimPrefix(v.Text, value.SealedPrefix))
	if n := b.aead.NonceSize(); err == nil && len(raw) >= n {
		raw, err = b.aead.Open(nil, raw[:n], raw[n:], []byte(name))
	}
	var out value.Value
	if err != nil || out.UnmarshalJSON(raw) != nil {
		return value.Value{}, errForeign
	}
	return out, nil
}

// Renew seals v for a setting, and returns before instead where that holds the same
// already, so that what has not changed stays as it was. What is sealed must be of this
// Box.
func (b *Box) Renew(name string, before, v value.Value) (value.Value, error) {
	if v.Sealed() {
		_, err := b.Open(name, v)
		return v, err
	}
	if before.Sealed() {
		if old, err := b.Open(name, before); err == nil && old == v {
			return before, nil
		}
	}
	return b.Seal(name, v)
}

// Hide replaces in a text whatever is told of secrets, also as JSON writes it.
func Hide(s string, secrets ...value.Value) string {
	for _, v := range secrets {
		plain := v.String()
		if len(plain) < 4 || v.Sealed() { // what is this short would hide half of what is written
			continue
		}
		if b, err := v.MarshalJSON(); err == nil {
			s = strings.ReplaceAll(s, strings.Trim(string(b), `"`), value.Hidden)
		}
		s = strings.ReplaceAll(s, plain, value.Hidden)
	}
	return s
}

// String keeps the key out of whatever prints a Box.
func (b *Box) String() string { return fmt.Sprintf("secret.Box(%t)", b != nil) }
