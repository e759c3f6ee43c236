package pki

import (
	"encoding/base64"
	"encoding/json"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Time is what a signed answer about the time holds.
type Time struct {
	Now   time.Time `json:"now"`
	Nonce string    `json:"nonce"` // as it was sent
}

// SignTime tells the time to a device that has sent a nonce: a JWS (RFC 7515) in its
// compact form, with ES256, by the issuing certificate, which stands in its header
// (x5c). A device without a clock cannot judge when that holds, but that the root has
// signed it.
func (a *Authority) SignTime(nonce string) (string, error) {
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: a.key},
		(&jose.SignerOptions{}).WithType("JOSE").WithHeader("x5c", []string{base64.StdEncoding.EncodeToString(a.issuing.Raw)}))
	if err != nil {
		return "", err
	}
	b, err := json.Marshal(Time{a.now().UTC().Truncate(time.Millisecond), nonce})
	if err != nil {
		return "", err
	}
	signed, err := s.Sign(b)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}
