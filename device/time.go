package device

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Time asks the time-only port of a service what time it is. The answer is signed over a
// nonce, by a certificate that the one in ca (PEM) has signed; a device that has no clock
// yet sets it by this before it trusts any other certificate.
func Time(ctx context.Context, address string, ca []byte) (time.Time, error) {
	nonce := rand.Text()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"?nonce="+url.QueryEscape(nonce), nil)
	if err != nil {
		return time.Time{}, err
	}
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		return time.Time{}, err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(io.LimitReader(resp.Body, 16<<10))
	if err != nil {
		return time.Time{}, err
	}
	if resp.StatusCode != http.StatusOK {
		return time.Time{}, fmt.Errorf("the service answers %s", resp.Status)
	}
	return CheckTime(string(text), nonce, ca)
}

// CheckTime returns the time of a signed answer, if it is to this nonce and by whom ca
// (PEM) trusts. When the certificates hold is not looked at: that is what the time is
// needed for.
func CheckTime(signed, nonce string, ca []byte) (time.Time, error) {
	block, _ := pem.Decode(ca)
	if block == nil {
		return time.Time{}, errors.New("ca holds no certificate in PEM")
	}
	root, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return time.Time{}, err
	}
	s, err := jose.ParseSigned(signed, []jose.SignatureAlgorithm{jose.ES256})
	if err != nil {
		return time.Time{}, fmt.Errorf("the answer is no signed time: %w", err)
	}
	header, err := headerOf(signed)
	if err != nil {
		return time.Time{}, err
	}
	signer, err := x509.ParseCertificate(header)
	if err != nil {
		return time.Time{}, fmt.Errorf("the answer holds no certificate: %w", err)
	}
	if err := signer.CheckSignatureFrom(root); err != nil {
		return time.Time{}, fmt.Errorf("the answer is signed by somebody that ca does not trust: %w", err)
	}
	b, err := s.Verify(signer.PublicKey)
	if err != nil {
		return time.Time{}, fmt.Errorf("the answer is not signed as it says: %w", err)
	}
	var out struct {
		Now   time.Time `json:"now"`
		Nonce string    `json:"nonce"`
	}
	if err := json.Unmarshal(b, &out); err != nil || out.Nonce != nonce {
		return time.Time{}, errors.New("the answer is to another question")
	}
	return out.Now, nil
}

// headerOf returns the certificate in the header of a JWS, in DER.
func headerOf(signed string) ([]byte, error) {
	part, _, _ := strings.Cut(signed, ".")
	text, err := base64.RawURLEncoding.DecodeString(part)
	var h struct {
		X5C []string `json:"x5c"`
	}
	if err == nil {
		err = json.Unmarshal(text, &h)
	}
	if err != nil || len(h.X5C) == 0 {
		return nil, errors.New("the answer names no certificate in its header")
	}
	return base64.StdEncoding.DecodeString(h.X5C[0])
}
