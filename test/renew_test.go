package test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/device"
)

// renewingModel is a probe whose command has it renew its token.
const renewingModel = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel","title":"Probe that renews",
"version":{"model":"1.0.0"},"ullage:name":"renewing-probe","ullage:interval":"1min",
"properties":{"must_temp":{"type":"number","unit":"Cel","readOnly":true,"ullage:role":"telemetry"}},
"actions":{"renew_token":{"title":"Renew the token","ullage:renews":true},"identify":{}}}`

// A device is told by a command to renew its token; curl stands for its firmware.
func TestTokenRenewedByACommand(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	dir := t.TempDir()
	file := filepath.Join(dir, "renewing-probe.tm.json")
	ok(t, os.WriteFile(file, []byte(renewingModel), 0o600))
	cli(t, s, "model", "publish", file)
	const id = "tank-fennimore-71"
	o := onboard(t, s, id, "renewing-probe", "site=Fennimore")
	other := onboard(t, s, "tank-fennimore-07", "tank-probe", "site=Fennimore")
	tell(t, other, `{"must_temp":21}`)
	tell(t, o, `{"must_temp":21}`)

	// What it is given by the command it keeps, and comes in with from then on.
	token := make(chan string, 1)
	var dev *device.Device
	renew := func(ctx context.Context, _ json.RawMessage) (any, error) {
		t, err := device.RenewToken(ctx, "http://"+s.HTTP, o.Token, device.NewNonce(), nil)
		if err == nil {
			token <- t
		}
		return nil, err
	}
	dev, err := device.New(device.Options{ID: id, Server: "mqtt://" + s.MQTT, Token: o.Token, Commands: map[string]device.Action{"renew_token": renew}})
	ok(t, err)
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	go dev.Run(ctx)
	ok(t, dev.AwaitLink(ctx))
	var fresh string
	go func() {
		fresh = <-token
		time.Sleep(500 * time.Millisecond) // the reply goes out by the old one
		post := func(path, token, body string) (int, string) {
			req, err := http.NewRequest("POST", "http://"+s.HTTP+path, strings.NewReader(body))
			ok(t, err)
			req.Header.Set("Authorization", "Bearer "+token)
			resp, err := http.DefaultClient.Do(req)
			ok(t, err)
			defer resp.Body.Close()
			b, err := io.ReadAll(resp.Body)
			ok(t, err)
			return resp.StatusCode, string(b)
		}
		if status, says := post("/device/v1/readings", fresh, `{"must_temp":22}`); status != 202 && status != 200 && status != 204 {
			t.Errorf("with the new token: %d %s", status, says)
		}
		for body, want := range map[string]string{`{"nonce":"00"}`: "16 are the least", `[]`: "no JSON object with a nonce", strings.Repeat("x", 2000): "more than 1024 bytes"} {
			if status, says := post("/device/v1/token", fresh, body); status < 400 || !strings.Contains(says, want) {
				t.Errorf("%.20s: %d %s, want %q", body, status, says, want)
			}
		}
	}()
	out := cli(t, s, "device", "renew", id, "--tell")
	if !strings.Contains(out, id+" has renewed its token and came in with it") {
		t.Errorf("the command says %s", out)
	}
	for end := time.Now().Add(within); ; time.Sleep(50 * time.Millisecond) {
		cs, err := s.Client.Credentials(t.Context(), id)
		ok(t, err)
		if len(cs) == 2 && cs[0].RevokedAt == nil && cs[1].RevokedAt != nil {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("the credentials are %+v", cs)
		}
	}
	// Neither token is told to anybody.
	told := cli(t, s, "journal", "-o", "json") + cli(t, s, "traffic", id, "--since", "1h", "-o", "json") + s.Log()
	for _, secret := range []string{o.Token, fresh} {
		if _, secret, _ = strings.Cut(secret, "."); secret == "" || strings.Contains(told, secret) {
			t.Error("a token stands in the journal, in the traffic or in the log")
		}
	}
	if !strings.Contains(told, "it has a new token") {
		t.Error("the traffic does not tell of the renewal")
	}
	// A model without such a command, and what does not go together.
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"device", "renew", "tank-fennimore-07", "--tell"}, "no command of tank-probe has a device renew"},
		{[]string{"device", "renew", id, "--tell", "--keep"}, "leave --keep, --cert, --csr and --out out"},
	} {
		if _, errs, code := s.CLI("", c.args...); code == 0 || !strings.Contains(errs, c.says) {
			t.Errorf("%v: %d %s", c.args, code, errs)
		}
	}
}
