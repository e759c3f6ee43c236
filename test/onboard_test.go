package test

import (
	"archive/zip"
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/client"
	"ullage/test/service"
)

// run runs a program and returns what it printed; it fails the test if the program
// does otherwise than it should.
func run(t *testing.T, dir string, works bool, name string, args ...string) string {
	t.Helper()
	c := exec.Command(name, args...)
	c.Dir = dir
	out, err := c.CombinedOutput()
	if (err == nil) != works {
		t.Errorf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
	return string(out)
}

// readingsOf counts what was kept of a device.
func readingsOf(t *testing.T, s *service.Service, id string) int {
	t.Helper()
	r, err := s.Client.Readings(t.Context(), id, "must_temp", client.Span{}, 100)
	ok(t, err)
	return len(r.Readings)
}

// The bundle of a device works as it is: in a shell, in Python, in C and in Go, with a
// token and with a certificate.
func TestBundleWorks(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	root := t.TempDir()
	for i, credential := range []string{"--token", "--cert"} {
		id := fmt.Sprintf("tank-fennimore-%02d", i+1)
		dir := filepath.Join(root, id)
		cli(t, s, "device", "create", id, "--model", "tank-probe", credential, "--out", dir)
		for name, secret := range map[string]bool{"ca.crt": false, "config.json": false, "ullage_config.h": true, map[bool]string{true: "device.key", false: "token"}[i == 1]: true} {
			info, err := os.Stat(filepath.Join(dir, name))
			ok(t, err)
			if secret && info.Mode().Perm() != 0o600 {
				t.Errorf("%s: %s can be read by others: %v", id, name, info.Mode())
			}
		}
		said := run(t, dir, true, "sh", "send.sh")
		if !strings.Contains(said, "sent over MQTT") || !strings.Contains(said, "sent over HTTP") {
			t.Errorf("%s: the shell says %s", id, said)
		}
		if n := readingsOf(t, s, id); n != 2 {
			t.Errorf("%s: after the shell there are %d readings, want 2", id, n)
		}
		if said := run(t, dir, true, "/usr/bin/python3", "send.py", "1"); !strings.Contains(said, "intended") || !strings.Contains(said, "sent") {
			t.Errorf("%s: Python says %s", id, said)
		}
		run(t, dir, true, "cc", "-Wall", "-Wextra", "-Werror", "send.c", "-lmosquitto", "-o", "send")
		if said := run(t, dir, true, "./send", "1"); !strings.Contains(said, "sent ") {
			t.Errorf("%s: C says %s", id, said)
		}
		if n := readingsOf(t, s, id); n != 4 {
			t.Errorf("%s: after Python and C there are %d readings, want 4", id, n)
		}
		if x, err := s.Client.Settings(t.Context(), id); err != nil || x.State != "applied" {
			t.Errorf("%s: settings are %s, %v; Python confirms them", id, x.State, err)
		}
		// The sample in Go stands within the module, where its package is.
		inside, err := os.MkdirTemp(service.Root(), "sample")
		ok(t, err)
		t.Cleanup(func() { os.RemoveAll(inside) })
		src, err := os.ReadFile(filepath.Join(dir, "send.go"))
		ok(t, err)
		ok(t, os.WriteFile(filepath.Join(inside, "main.go"), src, 0o600))
		bin := filepath.Join(dir, "go-sample")
		run(t, inside, true, "go", "build", "-o", bin, ".")
		c := exec.Command(bin)
		c.Dir = dir
		ok(t, c.Start())
		for end := time.Now().Add(within); readingsOf(t, s, id) < 5; time.Sleep(100 * time.Millisecond) {
			if time.Now().After(end) {
				t.Errorf("%s: nothing comes from Go", id)
				break
			}
		}
		c.Process.Signal(os.Interrupt)
		c.Wait()
	}
	// As a zip file too, and never over something that is there.
	file := filepath.Join(root, "tank.zip")
	cli(t, s, "device", "create", "tank-fennimore-09", "--model", "tank-probe", "--cert", "--out", file)
	b, err := os.ReadFile(file)
	ok(t, err)
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	ok(t, err)
	if len(z.File) < 9 {
		t.Errorf("the zip holds %d files", len(z.File))
	}
	if _, errs, code := s.CLI("", "device", "renew", "tank-fennimore-09", "--cert", "--out", file); code == 0 || !strings.Contains(errs, "already") {
		t.Errorf("over a bundle that is there: %d %s", code, errs)
	}
	if cs, err := s.Client.Credentials(t.Context(), "tank-fennimore-09"); err != nil || len(cs) != 1 || cs[0].Kind != "certificate" {
		t.Errorf("after that it has the credentials %+v, %v", cs, err)
	}
}

// told waits for a refusal in the traffic that says something.
func told(t *testing.T, s *service.Service, says string) client.TrafficEntry {
	t.Helper()
	return toldSince(t, s, says, time.Time{})
}

// toldSince waits for one that is not older than a moment.
func toldSince(t *testing.T, s *service.Service, says string, since time.Time) client.TrafficEntry {
	t.Helper()
	for end := time.Now().Add(within); ; time.Sleep(50 * time.Millisecond) {
		es, _, err := s.Client.Traffic(t.Context(), client.TrafficFilter{Refused: true, Limit: 50})
		ok(t, err)
		for _, e := range es {
			if strings.Contains(e.Reason, says) && !e.At.Before(since) {
				return e
			}
		}
		if time.Now().After(end) {
			t.Errorf("the traffic never tells %q; it tells %+v", says, es)
			return client.TrafficEntry{}
		}
	}
}

// Whoever does not get in hears nothing but a ref, and the engineer why.
func TestRefusalsOverTLS(t *testing.T) {
	t.Parallel()
	s := start(t, "--address-failures", "1000")
	cellars(t, s)
	root := t.TempDir()
	const id, other = "tank-fennimore-07", "tank-fennimore-08"
	dir, theirs := filepath.Join(root, id), filepath.Join(root, other)
	cli(t, s, "device", "create", id, "--model", "tank-probe", "--cert", "--out", dir)
	cli(t, s, "device", "create", other, "--model", "tank-probe", "--out", theirs)
	foreign := filepath.Join(root, "foreign")
	ok(t, os.Mkdir(foreign, 0o700))
	run(t, foreign, true, "openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", "key", "-out", "crt", "-subj", "/CN="+id, "-days", "2")
	ca, cert, key := filepath.Join(dir, "ca.crt"), filepath.Join(dir, "device.crt"), filepath.Join(dir, "device.key")
	port := func(at string) string { _, p, err := net.SplitHostPort(at); ok(t, err); return p }
	pub := func(works bool, as string, args ...string) string {
		t.Helper()
		return run(t, root, works, "mosquitto_pub", append([]string{"-h", "127.0.0.1", "-p", port(s.MQTTTLS), "-i", as, "-u", as, "-q", "1",
			"-t", "ullage/" + as + "/readings", "-m", `{"must_temp":21}`}, args...)...)
	}
	pub(true, id, "--cafile", ca, "--cert", cert, "--key", key)
	pub(true, id, "--cafile", ca, "--cert", cert, "--key", key, "-V", "5")
	curl := func(works bool, args ...string) string {
		t.Helper()
		return run(t, root, works, "curl", append([]string{"-sS", "--fail-with-body", "https://" + s.HTTPTLS + "/device/v1/intended"}, args...)...)
	}
	if said := curl(true, "--cacert", ca, "--cert", cert, "--key", key); !strings.Contains(said, `"revision"`) {
		t.Errorf("curl with a certificate is answered %s", said)
	}
	if said := run(t, root, true, "openssl", "s_client", "-connect", s.HTTPTLS, "-CAfile", ca, "-verify_return_error", "-brief"); !strings.Contains(said, "Verification: OK") {
		t.Errorf("openssl says %s", said)
	}
	for _, c := range []struct {
		what string
		do   func() string
		says string
	}{
		{"wrong CA", func() string {
			return pub(false, id, "--cafile", filepath.Join(foreign, "crt"), "--cert", cert, "--key", key)
		}, "flash ca.crt"},
		{"wrong CA over HTTP", func() string { return curl(false, "--cacert", filepath.Join(foreign, "crt")) }, "flash ca.crt"},
		{"a foreign certificate", func() string {
			return pub(false, id, "--cafile", ca, "--cert", filepath.Join(foreign, "crt"), "--key", filepath.Join(foreign, "key"))
		}, "authority that is not known here"},
		{"another's certificate", func() string { return pub(false, other, "--cafile", ca, "--cert", cert, "--key", key) }, "was the wrong bundle flashed"},
		{"nothing shown", func() string { return pub(false, id, "--cafile", ca) }, "neither a certificate nor a token"},
		{"a wrong token", func() string { return pub(false, other, "--cafile", ca, "-P", "12345678.wrong") }, "no token with this id"},
		{"an unknown id", func() string {
			return pub(false, "tank-nowhere-01", "--cafile", ca, "--cert", cert, "--key", key)
		}, `no device "tank-nowhere-01"`},
		{"a clock of 1970", func() string {
			return run(t, root, false, "openssl", "s_client", "-connect", s.HTTPTLS, "-CAfile", ca, "-attime", "1000", "-verify_return_error", "-brief")
		}, "its clock is right"},
		{"a certificate that is over", func() string {
			at := signedBy(t, s, id, root, "over", -48*time.Hour, -24*time.Hour)
			return pub(false, id, "--cafile", ca, "--cert", at+".crt", "--key", at+".key")
		}, "its certificate ended on"},
		{"a certificate that is to come", func() string {
			at := signedBy(t, s, id, root, "early", 24*time.Hour, 48*time.Hour)
			return pub(false, id, "--cafile", ca, "--cert", at+".crt", "--key", at+".key")
		}, "which is to come"},
		{"a certificate that nobody was given", func() string {
			at := signedBy(t, s, id, root, "unknown", -time.Hour, time.Hour)
			return pub(false, id, "--cafile", ca, "--cert", at+".crt", "--key", at+".key")
		}, "no device has it"},
		{"no TLS", func() string {
			c, err := net.Dial("tcp", s.MQTTTLS)
			ok(t, err)
			defer c.Close()
			c.Write([]byte("\x10\x0c\x00\x04MQTT\x04\x02\x00\x3c\x00\x00"))
			c.SetReadDeadline(time.Now().Add(2 * time.Second))
			c.Read(make([]byte, 10))
			return ""
		}, "does not speak TLS"},
		{"HTTP without TLS", func() string {
			return run(t, root, true, "curl", "-sS", "http://"+s.HTTPTLS+"/device/v1/time")
		}, "does not speak TLS"},
		{"old TLS", func() string {
			return curl(false, "--cacert", ca, "--tls-max", "1.1", "--ciphers", "DEFAULT@SECLEVEL=0")
		}, "TLS 1.2 and 1.3"},
	} {
		begun := time.Now()
		heard := c.do()
		e := toldSince(t, s, c.says, begun)
		for _, secret := range []string{"authority", "wrong bundle", "no device", other + "'s"} {
			if strings.Contains(heard, secret) {
				t.Errorf("%s: the stranger hears %q", c.what, heard)
			}
		}
		if e.Remote == "" || e.At.IsZero() {
			t.Errorf("%s: the traffic shows %+v", c.what, e)
		}
	}
	// What is revoked is out at once, open and resumed connections too.
	sub := exec.Command("mosquitto_sub", "-h", "127.0.0.1", "-p", port(s.MQTTTLS), "-i", id, "-u", id, "--cafile", ca, "--cert", cert, "--key", key, "-t", "ullage/"+id+"/intended", "-q", "1")
	ok(t, sub.Start())
	gone := make(chan error, 1)
	go func() { gone <- sub.Wait() }()
	for end := time.Now().Add(within); ; time.Sleep(50 * time.Millisecond) {
		if x, err := s.Client.Service(t.Context()); err == nil && x.Connected > 0 {
			break
		}
		if time.Now().After(end) {
			t.Fatal("mosquitto_sub does not connect")
		}
	}
	resume := resuming(t, s.HTTPTLS, ca, cert, key)
	if resumed, status := resume(); status != 200 {
		t.Errorf("before it is revoked: %d, resumed %v", status, resumed)
	}
	if resumed, status := resume(); !resumed || status != 200 {
		t.Errorf("a second connection: %d, resumed %v", status, resumed)
	}
	cs, err := s.Client.Credentials(t.Context(), id)
	ok(t, err)
	cli(t, s, "device", "renew", id, "--cert", "--keep", "--out", filepath.Join(root, "second"))
	begun := time.Now()
	cli(t, s, "device", "revoke", id, cs[0].ID)
	select {
	case <-gone:
		t.Logf("the open connection ended %s after the command began", time.Since(begun).Round(time.Millisecond))
	case <-time.After(within):
		t.Error("the open connection goes on")
		sub.Process.Kill()
	}
	if resumed, status := resume(); status != 401 {
		t.Errorf("with the revoked one: %d, resumed %v", status, resumed)
	}
	pub(false, id, "--cafile", ca, "--cert", cert, "--key", key)
	told(t, s, "the certificate was revoked on")
	second := filepath.Join(root, "second")
	pub(true, id, "--cafile", ca, "--cert", filepath.Join(second, "device.crt"), "--key", filepath.Join(second, "device.key"))
	cli(t, s, "device", "suspend", id)
	pub(false, id, "--cafile", ca, "--cert", filepath.Join(second, "device.crt"), "--key", filepath.Join(second, "device.key"))
	told(t, s, id+" is suspended")
	if strings.Contains(s.Log(), "PRIVATE KEY") {
		t.Error("the log holds a key")
	}
}

// signedBy makes a certificate of a device with the issuing key of a service, which holds
// from and until some time from now, and returns where it is.
func signedBy(t *testing.T, s *service.Service, id, dir, name string, from, until time.Duration) string {
	t.Helper()
	pair, err := tls.LoadX509KeyPair(filepath.Join(s.Data, "pki", "issuing.crt"), filepath.Join(s.Data, "pki", "issuing.key"))
	ok(t, err)
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	ok(t, err)
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: id}, NotBefore: time.Now().Add(from), NotAfter: time.Now().Add(until),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}, pair.Leaf, k.Public(), pair.PrivateKey)
	ok(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(k)
	ok(t, err)
	at := filepath.Join(dir, name)
	ok(t, os.WriteFile(at+".crt", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	ok(t, os.WriteFile(at+".key", pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))
	return at
}

// resuming returns a client that resumes its TLS session with each new connection.
func resuming(t *testing.T, at, ca, cert, key string) func() (resumed bool, status int) {
	t.Helper()
	pemOf, err := os.ReadFile(ca)
	ok(t, err)
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(pemOf)
	pair, err := tls.LoadX509KeyPair(cert, key)
	ok(t, err)
	config := &tls.Config{RootCAs: pool, Certificates: []tls.Certificate{pair}, ClientSessionCache: tls.NewLRUClientSessionCache(4), MinVersion: tls.VersionTLS12}
	return func() (bool, int) {
		t.Helper()
		c, err := tls.Dial("tcp", at, config)
		ok(t, err)
		defer c.Close()
		fmt.Fprintf(c, "GET /device/v1/intended HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", at)
		var b bytes.Buffer
		c.SetReadDeadline(time.Now().Add(within))
		b.ReadFrom(c)
		status := 0
		fmt.Sscanf(b.String(), "HTTP/1.1 %d", &status)
		return c.ConnectionState().DidResume, status
	}
}

// The user's own certificate is shown to devices, and another is taken up without a
// restart.
func TestOwnCertificateForDevices(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func() {
		t.Helper()
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		ok(t, err)
		der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "devices"},
			NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"devices.example.org"}}, &x509.Certificate{Subject: pkix.Name{CommonName: "devices"}}, k.Public(), k)
		ok(t, err)
		secret, err := x509.MarshalPKCS8PrivateKey(k)
		ok(t, err)
		for name, b := range map[string]*pem.Block{"key": {Type: "PRIVATE KEY", Bytes: secret}, "crt": {Type: "CERTIFICATE", Bytes: der}} {
			ok(t, os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(b), 0o600))
		}
	}
	write()
	s := start(t, "--device-tls-cert", filepath.Join(dir, "crt"), "--device-tls-key", filepath.Join(dir, "key"))
	shown := func() string {
		t.Helper()
		c, err := tls.Dial("tcp", s.MQTTTLS, &tls.Config{InsecureSkipVerify: true})
		ok(t, err)
		defer c.Close()
		return c.ConnectionState().PeerCertificates[0].SerialNumber.String()
	}
	first := shown()
	write()
	for end := time.Now().Add(within); shown() == first; time.Sleep(200 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the new certificate is never shown")
		}
	}
}

// A list is made whole or not at all, goes on where it was interrupted, and each of its
// bundles lets its device in.
func TestListOfDevices(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		ok(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	count := func() int {
		t.Helper()
		x, err := s.Client.Service(t.Context())
		ok(t, err)
		return x.Devices
	}
	// As a spreadsheet writes it, with mistakes of every kind.
	bad := write("bad.csv", "\xef\xbb\xbfid;model;label.site;hub\r\nTank 1;tank-probe;Fennimore;\r\ntank-b1;tank-prob;;\r\ntank-b2;tank-probe;;hub-nowhere\r\ntank-b3;tank-probe;Fennimore;\r\ntank-b3;tank-probe;;\r\n")
	out, errs, code := s.CLI("", "device", "load", bad)
	if code != 3 || count() != 0 {
		t.Errorf("a list with mistakes ends with %d and %d devices: %s %s", code, count(), out, errs)
	}
	for _, says := range []string{"line 2: \"Tank 1\" is no device id", "line 3: there is no model", "line 4: there is no device \"hub-nowhere\"", "line 6: the id tank-b3 is on line 5 already", "Nothing was made"} {
		if !strings.Contains(out, says) {
			t.Errorf("of the mistakes it says\n%s\nwant %q", out, says)
		}
	}
	bundles := filepath.Join(dir, "bundles")
	cli(t, s, "device", "load", bad, "--skip-bad", "--out", bundles)
	if count() != 1 {
		t.Errorf("with --skip-bad there are %d devices, want 1", count())
	}
	for name, says := range map[string]string{"id,modell\n": "did you mean model?", "": "is empty", "model\nx\n": "no column id"} {
		if _, errs, code := s.CLI("", "device", "load", write("wrong.csv", name)); code == 0 || !strings.Contains(errs, says) {
			t.Errorf("%q ends with %d: %s", name, code, errs)
		}
	}
	if _, errs, code := s.CLI("", "device", "load", write("large.csv", "id,model\n"+strings.Repeat("tank-large-0000000001,tank-probe\n", 600_000))); code == 0 || !strings.Contains(errs, "cut it into several") {
		t.Errorf("a list of 19 MB ends with %d: %.200s", code, errs)
	}

	// Half of it is made, then all of it; what stands in the manifest is not made again.
	var half, all strings.Builder
	all.WriteString("id,model,label.site,credential\n")
	half.WriteString("id,model,label.site,credential\n")
	for i := range 40 {
		kind := map[bool]string{true: "certificate"}[i%4 == 0]
		line := fmt.Sprintf("tank-pallet-%02d,tank-probe,Fennimore,%s\n", i, kind)
		all.WriteString(line)
		if i < 20 {
			half.WriteString(line)
		}
	}
	pallet := filepath.Join(dir, "pallet")
	cli(t, s, "device", "load", write("half.csv", half.String()), "--out", pallet)
	if said := cli(t, s, "device", "load", write("all.csv", all.String()), "--out", pallet, "--dry-run"); !strings.Contains(said, "20 devices can be onboarded") || !strings.Contains(said, "20 made before") {
		t.Errorf("a dry run says %s", said)
	}
	cli(t, s, "device", "load", write("all.csv", all.String()), "--out", pallet)
	if count() != 41 {
		t.Errorf("there are %d devices, want 41", count())
	}
	manifest, err := os.ReadFile(filepath.Join(pallet, "manifest.csv"))
	ok(t, err)
	if lines := strings.Count(string(manifest), "\n"); lines != 41 || strings.Count(string(manifest), "id,model") != 1 {
		t.Errorf("the manifest has %d lines, want 41:\n%s", lines, manifest)
	}
	_, port, err := net.SplitHostPort(s.MQTTTLS)
	ok(t, err)
	for _, id := range []string{"tank-pallet-00", "tank-pallet-21"} {
		run(t, pallet, true, "unzip", "-q", id+".zip")
		args := []string{"-h", "127.0.0.1", "-p", port, "--cafile", "ca.crt", "-i", id, "-u", id, "-q", "1", "-t", "ullage/" + id + "/readings", "-m", `{"must_temp":21}`}
		if token, err := os.ReadFile(filepath.Join(pallet, id, "token")); err == nil {
			args = append(args, "-P", strings.TrimSpace(string(token)))
		} else {
			args = append(args, "--cert", "device.crt", "--key", "device.key")
		}
		run(t, filepath.Join(pallet, id), true, "mosquitto_pub", args...)
		if n := readingsOf(t, s, id); n != 1 {
			t.Errorf("%s: %d readings, want 1", id, n)
		}
	}
	if strings.Contains(string(manifest), "PRIVATE") || strings.Contains(s.Log(), "PRIVATE") {
		t.Error("a secret is where it does not belong")
	}
	// JSON Lines, whose hub comes before what it carries.
	cli(t, s, "device", "load", write("more.jsonl", `{"id":"hub-kilnside-8","model":"cellar-hub"}`+"\n"+`{"id":"valve-kilnside-8","model":"jacket-valve","hub":"hub-kilnside-8","labels":{"site":"Kilnside"}}`+"\n"), "--out", filepath.Join(dir, "more"))
	if d, err := s.Client.Device(t.Context(), "valve-kilnside-8"); err != nil || d.Hub != "hub-kilnside-8" || d.Labels["site"] != "Kilnside" {
		t.Errorf("of JSON Lines there is %+v, %v", d, err)
	}
}
