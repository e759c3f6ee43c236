package device

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// NewNonce makes what a device shows when it renews its token. Kept until the token is, it
// gives the same token again after a lost answer or a restart.
func NewNonce() string {
	b := make([]byte, 16)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// RenewToken asks the service, as in https://host:8443, for another token with the one that
// the device has. Keep the new one before it is used: the one before ends with its first use.
// The TLS configuration says whom the device trusts; nil trusts whom the system trusts.
func RenewToken(ctx context.Context, server, token, nonce string, trust *tls.Config) (string, error) {
	body, err := json.Marshal(map[string]string{"nonce": nonce})
	if err != nil {
		return "", err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(server, "/")+"/device/v1/token", bytes.NewReader(body))
	if err != nil {
		return "", err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "application/json")
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.TLSClientConfig = trust
	defer t.CloseIdleConnections()
	resp, err := (&http.Client{Transport: t, Timeout: time.Minute}).Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, answerMost))
	if err != nil {
		return "", err
	}
	if resp.StatusCode != http.StatusOK {
		p := Problem{Detail: fmt.Sprintf("the service answers %d", resp.StatusCode)}
		_ = json.Unmarshal(b, &p) // without a reason there is the status
		return "", &Refusal{p.Detail}
	}
	var out struct {
		Token string `json:"token"`
	}
	if err := json.Unmarshal(b, &out); err != nil || out.Token == "" {
		return "", fmt.Errorf("the service answers something else than a token")
	}
	return out.Token, nil
}
