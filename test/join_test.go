package test

import (
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ullage/client"
	"ullage/test/service"
)

// secretOf returns the secret of a serial, and keeps it for a look at what was told.
func secretOf(t *testing.T, s *service.Service, key, serial string) string {
	t.Helper()
	var ls []client.JoinLabel
	ok(t, json.Unmarshal([]byte(cli(t, s, "join-key", "labels", key, serial, "-o", "json")), &ls))
	return ls[0].Secret
}

// A pallet joins by itself, with nothing but curl on the device's side, and what it gets
// lets it in.
func TestJoinWithCurl(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	root := t.TempDir()
	serials := filepath.Join(root, "serials.csv")
	ok(t, os.WriteFile(serials, []byte("\ufeffserial;box\r\nTP-fennimore-91;1\r\nTP-fennimore-92;1\r\n"), 0o600))
	said := cli(t, s, "join-key", "make", "fennimore-pallet", "--model", "tank-probe", "--cap", "9", "--expires", "30d",
		"--serials", serials, "--device", "tank-{part2}-{last2}", "--label", "site=Fennimore")
	shared := strings.Fields(said[strings.Index(said, "fennimore-pallet."):])[0]
	ca := filepath.Join(root, "root.crt")
	run(t, root, true, "sh", "-c", "curl -sS http://"+s.HTTP+"/authority/root.crt | openssl x509 -inform DER -out "+ca)
	secret := secretOf(t, s, "fennimore-pallet", "TP-fennimore-91")
	join := func(status, serial, secret, nonce string) string {
		t.Helper()
		b, err := json.Marshal(map[string]string{"serial": serial, "secret": secret, "nonce": nonce})
		ok(t, err)
		out := run(t, root, true, "curl", "-sS", "-w", "\n%{http_code}", "--cacert", ca, "https://"+s.HTTPTLS+"/device/v1/join", "-d", string(b))
		if !strings.HasSuffix(out, "\n"+status) {
			t.Errorf("%s is answered %s, want %s", serial, out, status)
		}
		return out
	}
	const nonce = "8f3c1e0b5a7d42e69f10aa27b3c4d5e6"
	join("202", "TP-fennimore-91", secret, nonce)
	if out := cli(t, s, "join-request", "list"); !strings.Contains(out, "TP-fennimore-91") || !strings.Contains(out, "waiting") {
		t.Errorf("who asked is\n%s", out)
	}
	if out := cli(t, s, "join-request", "admit", "--where", `join_key == "fennimore-pallet" and not again`, "--dry-run"); !strings.Contains(out, "TP-fennimore-91") {
		t.Errorf("who would be let in is\n%s", out)
	}
	cli(t, s, "join-request", "admit", "TP-fennimore-91")
	var got struct {
		Device, Token, CA, HTTP string
		MQTT                    struct {
			Host, User string
			Port       int
			Client     string `json:"client_id"`
		}
		Topics map[string]string
	}
	body, _, _ := strings.Cut(join("200", "TP-fennimore-91", secret, nonce), "\n2")
	ok(t, json.Unmarshal([]byte(body), &got))
	own := filepath.Join(root, "ca.crt")
	ok(t, os.WriteFile(own, []byte(got.CA), 0o600))
	_, port, err := net.SplitHostPort(s.MQTTTLS)
	ok(t, err)
	run(t, root, true, "mosquitto_pub", "-h", got.MQTT.Host, "-p", port, "--cafile", own, "-i", got.MQTT.Client, "-u", got.MQTT.User, "-P", got.Token, "-q", "1",
		"-t", got.Topics["readings"], "-m", `{"must_temp":21.5}`)
	d, err := s.Client.Device(t.Context(), "tank-fennimore-91")
	if err != nil || d.Latest["must_temp"].Value != 21.5 || d.Labels["site"] != "Fennimore" {
		t.Errorf("the device is %+v, %v", d, err)
	}

	// What is wrong is told to whom it concerns.
	for _, c := range []struct{ status, serial, secret, device, engineer string }{
		{"401", "TP-fennimore-92", secret, "not authorised, ref ", "was the label of another device flashed?"},
		{"401", "TP-fennimore-92", "other-pallet.AAAA", "not authorised, ref ", "there is no join key other-pallet"},
		{"403", "TP-fennimore-77", shared, "is not on the list", "is not on the list"},
		{"202", "TP-fennimore-91", secret, "a person decides", ""},
	} {
		heard := join(c.status, c.serial, c.secret, "00112233445566778899aabbccddeeff")
		if !strings.Contains(heard, c.device) {
			t.Errorf("the device hears %s, want %q", heard, c.device)
		}
		if c.engineer != "" {
			told(t, s, c.engineer)
		}
	}
	cli(t, s, "join-key", "revoke", "fennimore-pallet", "--yes")
	if heard := join("403", "TP-fennimore-92", secretOf(t, s, "fennimore-pallet", "TP-fennimore-92"), nonce); !strings.Contains(heard, "was revoked on") {
		t.Errorf("with a revoked key the device hears %s", heard)
	}
	// Nothing that was shown stands anywhere.
	everything := s.Log() + cli(t, s, "journal", "list", "-o", "json") + cli(t, s, "join-request", "list", "-o", "json") + cli(t, s, "join-key", "list", "-o", "json")
	es, _, err := s.Client.Traffic(t.Context(), client.TrafficFilter{Limit: 200})
	ok(t, err)
	b, err := json.Marshal(es)
	ok(t, err)
	for _, x := range []string{secret[len("fennimore-pallet."):], shared[len("fennimore-pallet."):], got.Token, nonce} {
		if strings.Contains(everything+string(b), x) {
			t.Errorf("something that was shown is told: %s", x)
		}
	}
	if told := cli(t, s, "journal", "list", "-o", "json"); !strings.Contains(told, "though there is such a device already") {
		t.Errorf("the second join is not in the journal: %s", told)
	}
}

// Certificates come and are renewed by EST, with strongSwan's client and with openssl,
// and the list of revoked ones is read by openssl.
func TestEST(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	root := t.TempDir()
	sh := func(works bool, script string) string {
		t.Helper()
		return run(t, root, works, "bash", "-c", "set -o pipefail; "+script)
	}
	cli(t, s, "join-key", "make", "hubs", "--model", "cellar-hub", "--cap", "5", "--expires", "30d", "--approval", "none", "--label", "site=Saltmarsh")
	sh(true, `curl -sS http://`+s.HTTP+`/.well-known/est/cacerts | base64 -d | openssl pkcs7 -inform DER -print_certs -out cas.pem
		openssl x509 -in cas.pem -out root.pem`)
	if kind := sh(true, `curl -sS -o /dev/null -D - http://`+s.HTTP+`/.well-known/est/cacerts`); !strings.Contains(kind, "application/pkcs7-mime") {
		t.Errorf("the certificates come as %s", kind)
	}
	if attributes := sh(true, `curl -sS http://`+s.HTTP+`/.well-known/est/csrattrs | base64 -d | openssl asn1parse -inform DER`); !strings.Contains(attributes, "prime256v1") {
		t.Errorf("the attributes are %s", attributes)
	}
	at := "https://" + s.HTTPTLS
	sh(true, "pki --estca --url "+at+" --cacert root.pem --caout estca.pem --outform pem && openssl x509 -in estca.pem -noout")
	const id = "hub-saltmarsh-91"
	secret := secretOf(t, s, "hubs", id)
	sh(true, `pki --gen --type ecdsa --size 256 --outform pem > key.pem && pki --req --in key.pem --type ecdsa --dn "CN=`+id+`" > req.der
		pki --est --url `+at+` --in req.der --cacert root.pem --cacert cas.pem --userpass "`+id+":"+secret+`" --outform pem > one.pem
		openssl verify -CAfile root.pem -untrusted cas.pem one.pem`)
	sh(true, `pki --est --url `+at+` --in req.der --cacert root.pem --cacert cas.pem --cert one.pem --key key.pem --outform pem > two.pem
		openssl verify -CAfile root.pem -untrusted cas.pem two.pem`)
	cs, err := s.Client.Credentials(t.Context(), id)
	if err != nil || len(cs) != 2 || cs[1].RevokedAt != nil {
		t.Fatalf("after the renewal its credentials are %+v, %v", cs, err)
	}
	// Renewed again, the one that it came with works on, and the one before ends.
	sh(true, `openssl req -new -key key.pem -subj /CN=`+id+` -outform DER | base64 -w0 > again.b64
		curl -sS --fail-with-body --cacert root.pem --cert two.pem --key key.pem -H 'Content-Type: application/pkcs10' --data-binary @again.b64 `+at+`/.well-known/est/simplereenroll | base64 -d | openssl pkcs7 -inform DER -print_certs -out three.pem
		openssl x509 -in three.pem -noout -subject`)
	cs, err = s.Client.Credentials(t.Context(), id)
	ok(t, err)
	works := 0
	for _, c := range cs {
		if c.RevokedAt == nil {
			works++
		}
	}
	if len(cs) != 3 || works != 2 {
		t.Errorf("of %d certificates %d work, want two of three", len(cs), works)
	}
	crl := `curl -sS http://` + s.HTTP + `/authority/issuing.crl | openssl crl -inform DER -CAfile cas.pem -out list.pem && `
	if said := sh(true, crl+`openssl crl -in list.pem -noout -text -CAfile cas.pem`); !strings.Contains(said, "verify OK") || strings.Count(said, "Serial Number:") != 1 {
		t.Errorf("the list of revoked certificates is %s", said)
	}
	verify := `openssl verify -crl_check -CRLfile list.pem -CAfile root.pem -untrusted cas.pem `
	sh(true, verify+"three.pem")
	if said := sh(false, verify+"one.pem"); !strings.Contains(said, "certificate revoked") {
		t.Errorf("openssl says of the first %s", said)
	}
	sh(true, `curl -sS -o /dev/null -w '%{http_code}' --cacert root.pem --cert one.pem --key key.pem `+at+`/device/v1/intended | grep 401`)

	// While a person decides, the client is told to come again; and then it has it.
	cli(t, s, "join-key", "make", "looked-at", "--model", "cellar-hub", "--cap", "5", "--expires", "30d")
	waits := secretOf(t, s, "looked-at", "hub-saltmarsh-92")
	ask := `curl -sS --http1.1 -D - -u "hub-saltmarsh-92:` + waits + `" --cacert root.pem --data-binary @wait.b64 -H 'Content-Type: application/pkcs10' ` + at + `/.well-known/est/simpleenroll`
	if said := sh(true, `openssl ecparam -name prime256v1 -genkey -noout -out w.pem && openssl req -new -key w.pem -subj /CN=hub-saltmarsh-92 -outform DER | base64 > wait.b64; `+ask); !strings.Contains(said, "202") || !strings.Contains(said, "Retry-After: 30") {
		t.Errorf("while it waits it hears %s", said)
	}
	cli(t, s, "join-request", "admit", "hub-saltmarsh-92")
	if said := sh(true, ask); !strings.Contains(said, "200 OK") {
		t.Errorf("let in it hears %s", said)
	}

	for _, c := range []struct{ what, script, says string }{
		{"nobody", `curl -sS --cacert root.pem --data-binary @wait.b64 ` + at + `/.well-known/est/simpleenroll`, "no serial and no secret"},
		{"a foreign name", `openssl req -new -key w.pem -subj /CN=tank-fennimore-07 -outform DER | base64 > f.b64; curl -sS -u "hub-9:` + secretOf(t, s, "hubs", "hub-9") + `" --cacert root.pem --data-binary @f.b64 ` + at + `/.well-known/est/simpleenroll`, "is for the common name"},
		{"a weak key", `openssl req -new -newkey rsa:1024 -nodes -keyout /dev/null -subj /CN=hub-9 -outform DER 2>/dev/null | base64 > r.b64; curl -sS -u "hub-9:` + secretOf(t, s, "hubs", "hub-9") + `" --cacert root.pem --data-binary @r.b64 ` + at + `/.well-known/est/simpleenroll`, "RSA key has 1024 bits"},
		{"no request", `curl -sS -u "hub-9:` + secretOf(t, s, "hubs", "hub-9") + `" --cacert root.pem --data-binary hello ` + at + `/.well-known/est/simpleenroll`, "request for a certificate"},
		{"renewing as another", `openssl req -new -key key.pem -subj /CN=tank-fennimore-07 -outform DER | base64 > o.b64; curl -sS --cacert root.pem --cert three.pem --key key.pem --data-binary @o.b64 ` + at + `/.well-known/est/simplereenroll`, "is for the common name"},
		{"renewing without", `curl -sS --cacert root.pem --data-binary @wait.b64 ` + at + `/.well-known/est/simplereenroll`, "not authorised"},
		{"too much", `head -c 100000 /dev/zero | curl -sS -u "hub-9:x.y" --cacert root.pem --data-binary @- ` + at + `/.well-known/est/simpleenroll`, "more than 32768 bytes"},
	} {
		if said := sh(true, c.script); !strings.Contains(said, c.says) {
			t.Errorf("%s hears %s, want %q", c.what, said, c.says)
		}
	}
	if ds, err := s.Client.Devices(t.Context()); err != nil || len(ds) != 2 {
		t.Errorf("there are %d devices, %v; want the two that joined", len(ds), err)
	}
}

// A listener takes the credentials that its row says, and none listens for devices from
// elsewhere without a name.
func TestListenersTakeWhatTheySay(t *testing.T) {
	t.Parallel()
	config := filepath.Join(t.TempDir(), "ullage.yaml")
	free, err := net.Listen("tcp", "127.0.0.1:0")
	ok(t, err)
	_, more, err := net.SplitHostPort(free.Addr().String())
	ok(t, err)
	free.Close()
	ok(t, os.WriteFile(config, []byte("listeners:\n  - {name: mqtt_tls, takes: [certificate]}\n  - {name: cellars, protocol: mqtt, address: 127.0.0.1:"+more+", tls: true, takes: [token]}\n"), 0o600))
	s := start(t, "--config", config)
	cellars(t, s)
	root := t.TempDir()
	dir := filepath.Join(root, "tank-fennimore-91")
	cli(t, s, "device", "create", "tank-fennimore-91", "--model", "tank-probe", "--out", dir)
	_, port, err := net.SplitHostPort(s.MQTTTLS)
	ok(t, err)
	send := []string{"-h", "127.0.0.1", "-p", port, "--cafile", filepath.Join(dir, "ca.crt"), "-i", "tank-fennimore-91", "-u", "tank-fennimore-91", "-q", "1",
		"-t", "ullage/tank-fennimore-91/readings", "-m", `{"must_temp":21}`}
	token, err := os.ReadFile(filepath.Join(dir, "token"))
	ok(t, err)
	run(t, root, false, "mosquitto_pub", append(send, "-P", strings.TrimSpace(string(token)))...)
	told(t, s, "it showed a token, and the listener mqtt_tls takes a certificate alone")
	other := slices.Clone(send)
	other[3] = more
	run(t, root, true, "mosquitto_pub", append(other, "-P", strings.TrimSpace(string(token)))...)
	run(t, root, true, "curl", "-sS", "--fail-with-body", "--cacert", filepath.Join(dir, "ca.crt"), "-H", "Authorization: Bearer "+strings.TrimSpace(string(token)), "https://"+s.HTTPTLS+"/device/v1/intended")
	cli(t, s, "device", "renew", "tank-fennimore-91", "--cert", "--out", filepath.Join(root, "again"))
	run(t, root, true, "mosquitto_pub", append(send, "--cert", filepath.Join(root, "again", "device.crt"), "--key", filepath.Join(root, "again", "device.key"))...)

	run(t, root, false, "mosquitto_pub", append(other, "--cert", filepath.Join(root, "again", "device.crt"), "--key", filepath.Join(root, "again", "device.key"))...)
	told(t, s, "it showed a certificate, and the listener cellars takes a token alone")

	for flags, says := range map[string]string{"--mqtt-tls 0.0.0.0:0": "names does not say under which name"} {
		other, err := service.Start(t.TempDir(), strings.Fields(flags)...)
		if err == nil {
			other.Kill()
			t.Errorf("a service starts with %s", flags)
		} else if !strings.Contains(err.Error(), says) {
			t.Errorf("with %s it says %v, want %q", flags, err, says)
		}
	}
}

// The time of the plain port is signed, as openssl sees it with nothing but ca.crt.
func TestTimeOnly(t *testing.T) {
	t.Parallel()
	s := start(t, "--time-only", "127.0.0.1:0")
	root := t.TempDir()
	said := run(t, root, true, "bash", "-c", `set -e -o pipefail
		curl -sS http://`+s.HTTP+`/authority/root.crt | openssl x509 -inform DER -out root.pem
		curl -sS "http://`+s.Time+`/time?nonce=0123456789abcdef" > jws
		cut -d. -f1 jws | tr '_-' '/+' | python3 -c 'import sys,base64,json; h=json.loads(base64.b64decode(sys.stdin.read().strip()+"==")); assert h["alg"]=="ES256"; sys.stdout.buffer.write(base64.b64decode(h["x5c"][0]))' > signer.der
		openssl x509 -inform DER -in signer.der -out signer.pem
		openssl verify -no_check_time -CAfile root.pem signer.pem
		openssl x509 -in signer.pem -noout -pubkey > key.pem
		python3 -c '
import base64
h, p, s = open("jws").read().strip().split(".")
raw = base64.urlsafe_b64decode(s + "==")
def whole(b):
    b = b.lstrip(b"\0")
    b = (b"\0" if b[0] > 127 else b"") + b
    return b"\x02" + bytes([len(b)]) + b
both = whole(raw[:32]) + whole(raw[32:])
open("signature", "wb").write(b"\x30" + bytes([len(both)]) + both)
open("signed", "w").write(h + "." + p)
print(base64.urlsafe_b64decode(p + "==").decode())'
		openssl dgst -sha256 -verify key.pem -signature signature signed`)
	if !strings.Contains(said, "Verified OK") || !strings.Contains(said, `"nonce":"0123456789abcdef"`) {
		t.Errorf("openssl says %s", said)
	}
}
