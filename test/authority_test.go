package test

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/test/service"
)

// ports returns addresses on loopback that nobody listens on.
func ports(t *testing.T, n int) []string {
	t.Helper()
	var out []string
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		ok(t, err)
		defer l.Close()
		out = append(out, l.Addr().String())
	}
	return out
}

// The keys are exported, a drill says whether a service would come back, and both
// certificates of the authority are renewed while devices go on.
func TestAuthority(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	data := filepath.Join(root, "data")
	at := ports(t, 2)
	flags := []string{"--mqtt-tls", at[0], "--device-http-tls", at[1]}
	s, err := service.Start(data, flags...)
	ok(t, err)
	stopped := false
	stop := func() {
		if !stopped {
			stopped = true
			ok(t, s.Stop())
		}
	}
	defer stop()
	passphrase := s.Passphrase()
	cellars(t, s)
	bundle := func(id string) string { return filepath.Join(root, id) }
	cli(t, s, "device", "create", "tank-fennimore-91", "--model", "tank-probe", "--cert", "--out", bundle("tank-fennimore-91"))
	cli(t, s, "join-key", "make", "fennimore-pallet", "--model", "tank-probe", "--cap", "5", "--expires", "30d")
	sends := func(id string) {
		t.Helper()
		if said := run(t, bundle(id), true, "sh", "send.sh"); !strings.Contains(said, "sent over MQTT") || !strings.Contains(said, "sent over HTTP") {
			t.Errorf("%s says %s", id, said)
		}
	}
	sends("tank-fennimore-91")
	backup, keys := filepath.Join(root, "b.tar"), filepath.Join(root, "keys.age")
	cli(t, s, "store", "backup", backup)
	if said := cli(t, s, "authority", "show", "--data", data); !strings.Contains(said, "never") {
		t.Errorf("before the export it says %s", said)
	}
	said := cli(t, s, "authority", "export", keys, "--data", data)
	_, secret, _ := strings.Cut(said, "(shown this once): ")
	secret, _, _ = strings.Cut(secret, "\n")
	if _, errs, code := s.CLI("", "authority", "export", keys, "--data", data); code == 0 || !strings.Contains(errs, "none is overwritten") {
		t.Errorf("over an export that is there: %d %s", code, errs)
	}
	b, err := os.ReadFile(keys)
	ok(t, err)
	if !strings.HasPrefix(string(b), "age-encryption.org/v1\n") || strings.Contains(string(b), "PRIVATE KEY") {
		t.Error("the export is no encrypted file")
	}
	drill := func(passphrase string) (string, string, int) {
		return s.CLI(passphrase+"\n", "authority", "drill", backup, keys, "--passphrase-stdin")
	}
	if out, errs, code := drill(secret); code != 0 || !strings.Contains(out, "1 device, 2 readings") && !strings.Contains(out, "1 device,") || !strings.Contains(out, "1 certificates of devices, 1 join key") {
		t.Errorf("the drill: %d %s %s", code, out, errs)
	}
	if _, errs, code := drill("another passphrase"); code != 1 || !strings.Contains(errs, "would not come back") || !strings.Contains(errs, "the passphrase is another") {
		t.Errorf("with another passphrase: %d %s", code, errs)
	}

	if _, errs, code := s.CLI("wrong\n", "authority", "renew", "--data", data, "--passphrase-stdin"); code != 1 || !strings.Contains(errs, "does not open with this passphrase") {
		t.Errorf("with a wrong passphrase: %d %s", code, errs)
	}
	renew := func(more ...string) {
		t.Helper()
		out, errs, code := s.CLI(passphrase+"\n", append([]string{"authority", "renew", "--data", data, "--passphrase-stdin"}, more...)...)
		if code != 0 {
			t.Fatalf("renewed: %d %s", code, errs)
		}
		if _, next, fresh := strings.Cut(out, "(shown this once): "); fresh {
			passphrase, _, _ = strings.Cut(next, "\n")
		}
		stop()
		s, err = service.Start(data, flags...)
		ok(t, err)
		stopped = false
	}
	renew()
	sends("tank-fennimore-91")
	renew("--root")
	sends("tank-fennimore-91") // it trusts the root of before alone, and its certificate is of the one before
	cli(t, s, "device", "create", "tank-fennimore-92", "--model", "tank-probe", "--cert", "--out", bundle("tank-fennimore-92"))
	sends("tank-fennimore-92")
	ca, err := os.ReadFile(filepath.Join(bundle("tank-fennimore-92"), "ca.crt"))
	ok(t, err)
	if n := strings.Count(string(ca), "BEGIN CERTIFICATE"); n != 2 {
		t.Errorf("a new bundle trusts %d roots, want both", n)
	}
	// Whoever trusts the new root alone is content too.
	one := filepath.Join(root, "new.crt")
	run(t, root, true, "sh", "-c", "curl -sS http://"+s.HTTP+"/authority/root.crt | openssl x509 -inform DER -out "+one)
	for _, trusted := range []string{one, filepath.Join(bundle("tank-fennimore-91"), "ca.crt")} {
		if said := run(t, root, true, "openssl", "s_client", "-connect", at[1], "-CAfile", trusted, "-verify_return_error", "-brief"); !strings.Contains(said, "Verification: OK") {
			t.Errorf("openssl with %s says %s", filepath.Base(trusted), said)
		}
	}
	if said := cli(t, s, "authority", "show", "--data", data); !strings.Contains(said, "never") || !strings.Contains(said, "of before") {
		t.Errorf("after the renewal it says %s", said)
	}
	// Others judge certificates of before and of now by the lists of their own issuers.
	judged := func(id string, good bool) string {
		t.Helper()
		return run(t, bundle(id), good, "sh", "-c", `curl -sS http://`+s.HTTP+`/authority/revoked.pem > ../lists.pem
			cat ca.crt ../tank-fennimore-91/ca.crt > ../roots.pem
			openssl verify -crl_check -CRLfile ../lists.pem -CAfile ../roots.pem -untrusted device.crt device.crt 2>&1`)
	}
	for _, id := range []string{"tank-fennimore-91", "tank-fennimore-92"} {
		judged(id, true)
		cs, err := s.Client.Credentials(t.Context(), id)
		ok(t, err)
		cli(t, s, "device", "revoke", id, cs[0].ID)
		time.Sleep(1100 * time.Millisecond) // a list is made once a second at most
		if said := judged(id, false); !strings.Contains(said, "certificate revoked") {
			t.Errorf("openssl says of the revoked certificate of %s: %s", id, said)
		}
	}
	if lists, err := os.ReadFile(filepath.Join(root, "lists.pem")); err != nil || strings.Count(string(lists), "BEGIN X509 CRL") != 3 {
		t.Errorf("there should be a list of each of three issuers: %v %s", err, lists)
	}
}
