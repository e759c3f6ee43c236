package joining_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"ullage/core/join"
	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/joining"
	"ullage/fleet/noun"
	"ullage/test/rig"
)

var engineer = access.Whole("engineer")

func bench(t *testing.T) *rig.Rig { return rig.NewWith(t, rig.Joinable(t)) }

// made makes a join key and returns what makes an attempt of a serial with it.
func made(r *rig.Rig, change func(*join.Key)) (join.Key, func(serial string) joining.Asked) {
	r.T.Helper()
	until := r.Clock.Now().Add(24 * time.Hour)
	k := join.Key{Name: "fennimore-pallet", Model: "tank-probe", Cap: 5, ExpiresAt: &until, Approval: join.ByNobody,
		Device: "tank-{part2}-{part3}", Labels: map[string]string{"site": "Fennimore"}}
	if change != nil {
		change(&k)
	}
	k, _, err := r.Fleet.MakeJoinKey(r.T.Context(), engineer, k)
	r.Must(err)
	return k, func(serial string) joining.Asked {
		r.T.Helper()
		_, ls, err := r.Joining.Labels(k.Name, []string{serial})
		secret := "fennimore-pallet.AAAA"
		if err == nil {
			secret = ls[0].Secret
		}
		return joining.Asked{Secret: secret, Serial: serial, Nonce: nonce(), From: "192.0.2.7", Over: "http, TLS 1.3"}
	}
}

func nonce() string {
	var b [16]byte
	rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

func refused(t *testing.T, r *rig.Rig, what string, a joining.Asked, code fault.Code, says string) {
	t.Helper()
	out, err := r.Joining.Ask(t.Context(), a)
	if f := fault.From(err); f == nil || f.Code != code || !strings.Contains(f.Error(), says) {
		t.Errorf("%s: %+v, %v; want %s %q", what, out, err, code, says)
	}
}

func waits(t *testing.T, r *rig.Rig, a joining.Asked) join.Request {
	t.Helper()
	if out, err := r.Joining.Ask(t.Context(), a); err != nil || out.After == 0 || out.Given.Token != "" {
		t.Fatalf("%s gets %+v, %v; want to wait", a.Serial, out, err)
	}
	for _, x := range r.Joining.Requests() {
		if x.Serial == a.Serial {
			return x
		}
	}
	t.Fatalf("%s waits and is not listed", a.Serial)
	return join.Request{}
}

// joins fails unless an attempt gets a token that lets its device in.
func joins(t *testing.T, r *rig.Rig, a joining.Asked) joining.Answer {
	t.Helper()
	out, err := r.Joining.Ask(t.Context(), a)
	if err != nil || out.Given.Token == "" {
		t.Fatalf("%s gets %+v, %v", a.Serial, out, err)
	}
	if d, err := r.Devices.Authenticate(out.Device.ID, out.Given.Token); err != nil || d.ID != out.Device.ID {
		t.Fatalf("%s cannot get in with its token: %v", a.Serial, err)
	}
	return out
}

func TestByThemselves(t *testing.T) {
	r := bench(t)
	k, attempt := made(r, nil)
	a := attempt("TP-fennimore-91")
	first := joins(t, r, a)
	if first.Device.ID != "tank-fennimore-91" || first.Device.Labels["site"] != "Fennimore" || first.Device.Model != "tank-probe" {
		t.Errorf("it became %+v", first.Device)
	}
	// The reply was lost: the same again, also behind a restart, and nothing new.
	for _, restart := range []bool{false, true} {
		if restart {
			r.Restart(true)
		}
		if again := joins(t, r, a); again.Given.Token != first.Given.Token || len(r.Devices.Credentials("tank-fennimore-91")) != 1 {
			t.Error("the lost reply is another one")
		}
	}
	r.Clock.Forward(16 * time.Minute)
	refused(t, r, "the same nonce later", a, fault.NotAllowed, "make a new nonce")
	other := attempt("TP-fennimore-92")
	other.Nonce = a.Nonce
	refused(t, r, "the nonce of another", other, fault.NotAllowed, "this nonce came from another serial")

	// A second join waits, and the first works on.
	second := attempt("TP-fennimore-91")
	second.From = "192.0.2.99"
	if x := waits(t, r, second); !x.Again || !strings.Contains(x.Reason, "from another address now") {
		t.Errorf("the second join is %+v", x)
	}
	if _, err := r.Devices.Authenticate("tank-fennimore-91", first.Given.Token); err != nil {
		t.Errorf("the first credential does not work any more: %v", err)
	}
	if k, _ := r.Joining.Key(k.Name); k.Joined != 1 || k.Waiting != 1 {
		t.Errorf("the key counts %d joined and %d waiting", k.Joined, k.Waiting)
	}
	ids := []string{waits(t, r, second).ID}
	if n, err := r.Fleet.DecideJoins(t.Context(), engineer, ids, true, ""); n != 1 || err != nil {
		t.Fatalf("let in: %d, %v", n, err)
	}
	if _, err := r.Devices.Authenticate("tank-fennimore-91", first.Given.Token); err != nil {
		t.Errorf("let in, and not come yet, its first credential ended: %v", err)
	}
	joins(t, r, second)
	if _, err := r.Devices.Authenticate("tank-fennimore-91", first.Given.Token); err == nil {
		t.Error("the credential of before works on")
	}
	if r.Devices.Count() != 1 {
		t.Errorf("there are %d devices, want one", r.Devices.Count())
	}
	told := strings.Join(r.Journal(fact.DeviceJoined), "\n") + strings.Join(r.Journal(fact.JoinAskedFor), "\n")
	for _, says := range []string{"the serial TP-fennimore-91 joined as tank-fennimore-91 from 192.0.2.7 with the join key fennimore-pallet",
		"asked from 192.0.2.99 to join as tank-fennimore-91", "it works on as it is", "once more"} {
		if !strings.Contains(told, says) {
			t.Errorf("the journal does not say %q:\n%s", says, told)
		}
	}
}

func TestRefusals(t *testing.T) {
	r := bench(t)
	k, attempt := made(r, func(k *join.Key) { k.Serials = []string{"TP-fennimore-91", "TP-fennimore-92", "TP-odd"}; k.Cap = 1 })
	right := attempt("TP-fennimore-91")
	with := func(change func(*joining.Asked)) joining.Asked {
		a := right
		change(&a)
		return a
	}
	refused(t, r, "nothing", joining.Asked{}, fault.Unauthenticated, "no secret or no serial")
	refused(t, r, "no key", with(func(a *joining.Asked) { a.Secret = "other." + strings.Repeat("A", 43) }), fault.Unauthenticated, "there is no join key other")
	refused(t, r, "another's secret", with(func(a *joining.Asked) { a.Secret = attempt("TP-fennimore-92").Secret }), fault.Unauthenticated, "was the label of another device flashed?")
	refused(t, r, "no secret at all", with(func(a *joining.Asked) { a.Secret = "x" }), fault.Unauthenticated, "is no secret for joining")
	refused(t, r, "a serial that is none", with(func(a *joining.Asked) { a.Serial = "a b" }), fault.Unauthenticated, "is no serial")
	refused(t, r, "a short nonce", with(func(a *joining.Asked) { a.Nonce = "abcd" }), fault.Invalid, "has 2 bytes; 16 are the least")
	refused(t, r, "a nonce of zeros", with(func(a *joining.Asked) { a.Nonce = strings.Repeat("0", 32) }), fault.Invalid, "is not random")
	if _, _, err := r.Joining.Labels(k.Name, []string{"TP-odd"}); err == nil || !strings.Contains(err.Error(), "it has 2 parts") {
		t.Errorf("a serial with a part too few gets a label: %v", err)
	}
	_, unlisted := made(r, func(k *join.Key) { k.Name = "any-pallet" })
	a := unlisted("TP-fennimore-99")
	a.Secret = strings.Replace(a.Secret, "any-pallet", "fennimore-pallet", 1)
	refused(t, r, "the secret of another key", a, fault.Unauthenticated, "is not that of the serial")
	joins(t, r, right)
	refused(t, r, "the cap", attempt("TP-fennimore-92"), fault.NotAllowed, "the join key fennimore-pallet is used up")
	if r.Devices.Count() != 1 {
		t.Errorf("%d devices were made, want one", r.Devices.Count())
	}

	r.Clock.Forward(25 * time.Hour)
	refused(t, r, "expired", attempt("TP-fennimore-92"), fault.NotAllowed, "expired on 2026-")
	if _, err := r.Fleet.RevokeJoinKey(t.Context(), engineer, k.Name); err != nil {
		t.Fatal(err)
	}
	refused(t, r, "revoked", attempt("TP-fennimore-92"), fault.NotAllowed, "was revoked on")
	k.Cap = 9
	if _, err := r.Fleet.PutJoinKey(t.Context(), engineer, k, noun.If{}); err == nil || !strings.Contains(err.Error(), "was revoked, and stays so") {
		t.Errorf("a revoked key is changed: %v", err)
	}
	if err := r.Fleet.RemoveJoinKey(t.Context(), engineer, k.Name, noun.If{}); err != nil {
		t.Fatal(err)
	}
	refused(t, r, "removed", right, fault.Unauthenticated, "there is no join key fennimore-pallet")
	if len(r.Joining.Requests()) != 0 || r.Devices.Count() != 1 {
		t.Error("with the key goes its requests, and no device")
	}
}

// The shared secret is good where somebody looks, or has listed the serials.
func TestSharedSecret(t *testing.T) {
	r := bench(t)
	until := r.Clock.Now().Add(time.Hour)
	secrets := map[string]string{}
	for name, change := range map[string]func(*join.Key){"open": func(k *join.Key) { k.Approval = join.ByNobody },
		"listed": func(k *join.Key) { k.Approval, k.Serials = join.ByNobody, []string{"A-1"} }, "approved": func(*join.Key) {}} {
		k := join.Key{Name: name, Model: "tank-probe", Cap: 5, ExpiresAt: &until, Device: name + "-{serial}"}
		change(&k)
		_, secret, err := r.Fleet.MakeJoinKey(t.Context(), engineer, k)
		r.Must(err)
		secrets[name] = secret
	}
	ask := func(name, serial string) joining.Asked {
		return joining.Asked{Secret: secrets[name], Serial: serial, Nonce: nonce(), From: "192.0.2.7"}
	}
	refused(t, r, "open", ask("open", "A-1"), fault.Unauthenticated, "is that of the whole key open")
	joins(t, r, ask("listed", "A-1"))
	refused(t, r, "not listed", ask("listed", "A-2"), fault.NotAllowed, "the serial A-2 is not on the list")
	waits(t, r, ask("approved", "A-9"))
}

func TestAPersonDecides(t *testing.T) {
	r := bench(t)
	_, attempt := made(r, func(k *join.Key) { k.Approval = join.ByPerson; k.Cap = 2 })
	a, b := attempt("TP-fennimore-1"), attempt("TP-fennimore-2")
	one, two := waits(t, r, a), waits(t, r, b)
	refused(t, r, "more than the cap", attempt("TP-fennimore-3"), fault.NotAllowed, "lets 2 devices join")
	if r.Devices.Count() != 0 {
		t.Error("a device that waits was made")
	}
	if _, err := r.Fleet.DecideJoins(t.Context(), engineer, []string{one.ID, "0123456789ab"}, true, ""); fault.From(err).Code != fault.NotFound {
		t.Errorf("with one that is not there: %v", err)
	}
	if waits(t, r, a).State != join.Waiting {
		t.Error("half of a decision was carried out")
	}
	_, err := r.Fleet.DecideJoins(t.Context(), engineer, []string{one.ID}, true, "")
	r.Must(err)
	_, err = r.Fleet.DecideJoins(t.Context(), engineer, []string{two.ID}, false, "it is not ours")
	r.Must(err)
	refused(t, r, "refused", b, fault.NotAllowed, "TP-fennimore-2 was refused: it is not ours")
	refused(t, r, "refused, with a new nonce", attempt("TP-fennimore-2"), fault.NotAllowed, "was refused")
	// Who was let in is the one that asked: another nonce of the same serial is not.
	if x := waits(t, r, attempt("TP-fennimore-1")); x.ID == one.ID {
		t.Error("another attempt has the same id")
	}
	r.Restart(false)
	c := attempt("TP-fennimore-1")
	_, err = r.Fleet.DecideJoins(t.Context(), engineer, []string{waits(t, r, c).ID}, true, "")
	r.Must(err)
	joins(t, r, c)
	// Refused is not for good.
	_, err = r.Fleet.DecideJoins(t.Context(), engineer, []string{two.ID}, true, "")
	r.Must(err)
	joins(t, r, b)
	refused(t, r, "used up", attempt("TP-fennimore-3"), fault.NotAllowed, "is used up: 2 devices have joined")
}

// A request for a certificate stands in the place of a nonce.
func TestCertificates(t *testing.T) {
	r := bench(t)
	_, attempt := made(r, nil)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	r.Must(err)
	ask := func(serial, cn string) joining.Asked {
		a := attempt(serial)
		a.CSR, err = x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: cn}}, key)
		r.Must(err)
		return a
	}
	bad := attempt("TP-fennimore-1")
	bad.CSR = []byte("-----BEGIN CERTIFICATE REQUEST-----\nAAAA\n-----END CERTIFICATE REQUEST-----\n")
	refused(t, r, "no request", bad, fault.Invalid, "it is no request for a certificate")
	if rs := r.Joining.Requests(); len(rs) != 0 {
		t.Errorf("what cannot be made waits: %+v", rs)
	}
	refused(t, r, "foreign", ask("TP-fennimore-1", "hub-saltmarsh"), fault.Invalid, `is for the common name "hub-saltmarsh"`)
	a := ask("TP-fennimore-1", "TP-fennimore-1")
	out, err := r.Joining.Ask(t.Context(), a)
	if err != nil || len(out.Given.Chain) == 0 {
		t.Fatalf("%+v, %v", out, err)
	}
	if again, err := r.Joining.Ask(t.Context(), a); err != nil || string(again.Given.Chain) != string(out.Given.Chain) {
		t.Errorf("the lost reply is another one, %v", err)
	}
	if again := ask("TP-fennimore-1", "tank-fennimore-1"); !waits(t, r, again).Again {
		t.Error("another request for a certificate of the serial is no second join")
	}
}

// Whoever may do so at once, one serial is one device and the cap is the cap.
func TestAtOnce(t *testing.T) {
	r := bench(t)
	k, attempt := made(r, func(k *join.Key) { k.Cap = 8 })
	var wg sync.WaitGroup
	for i := range 64 {
		a := attempt(fmt.Sprintf("TP-fennimore-%d", i%16))
		wg.Go(func() { _, _ = r.Joining.Ask(t.Context(), a) })
	}
	wg.Wait()
	k, _ = r.Joining.Key(k.Name)
	if k.Joined != 8 || r.Devices.Count() != 8 {
		t.Errorf("%d joined, %d devices; want 8", k.Joined, r.Devices.Count())
	}
	for _, d := range r.Devices.List() {
		if n := len(r.Devices.Credentials(d.ID)); n != 1 {
			t.Errorf("%s has %d credentials", d.ID, n)
		}
	}
}

func TestAsksTooOften(t *testing.T) {
	r := bench(t)
	_, attempt := made(r, func(k *join.Key) { k.Approval = join.ByPerson })
	a := attempt("TP-fennimore-1")
	for range 20 {
		waits(t, r, a)
	}
	refused(t, r, "the 21st", a, fault.TooMany, "asks more than 20 times a minute")
	r.Clock.Forward(30 * time.Second)
	waits(t, r, a)
}

// A label that decides who reaches a device is not given by a serial that anybody may
// have chosen.
func TestLabelsOfAccess(t *testing.T) {
	r := bench(t)
	_, err := r.People.Put(t.Context(), person.Person{Name: "cellar-master", Grants: person.Grants{{Role: person.Operator, Access: `label.site == "Fennimore"`}}}, noun.If{}, "engineer")
	r.Must(err)
	_, attempt := made(r, func(k *join.Key) { k.Labels = map[string]string{"site": "{part2}", "row": "{part3}"} })
	if d := joins(t, r, attempt("TP-Fennimore-B")).Device; d.Labels["site"] != "" || d.Labels["row"] != "B" {
		t.Errorf("an unlisted serial gives the labels %v", d.Labels)
	}
	_, listed := made(r, func(k *join.Key) {
		k.Name, k.Labels, k.Serials = "listed", map[string]string{"site": "{part2}"}, []string{"TP-Fennimore-C"}
	})
	if d := joins(t, r, listed("TP-Fennimore-C")).Device; d.Labels["site"] != "Fennimore" {
		t.Errorf("a listed serial gives the labels %v", d.Labels)
	}
}

// A key of somebody who is engineer for some devices makes those alone, and follows
// what they reach.
func TestAccessOfTheAuthor(t *testing.T) {
	r := bench(t)
	grant := func(access string) {
		t.Helper()
		_, err := r.People.Put(t.Context(), person.Person{Name: "cellar-master", Grants: person.Grants{{Role: person.Engineer, Access: access}}}, noun.If{}, "engineer")
		r.Must(err)
	}
	grant(`label.site == "Fennimore" or label.site == "Kilnside"`)
	r.Onboard("tank-fennimore-01", "tank-probe", map[string]string{"site": "Fennimore"})
	r.Settle()
	master := r.Access.Caller("cellar-master", "")
	until := r.Clock.Now().Add(time.Hour)
	k := join.Key{Name: "pallet", Model: "tank-probe", Cap: 9, ExpiresAt: &until, Approval: join.ByNobody, Labels: map[string]string{"site": "{part2}"}, Device: "tank-{last1}"}
	if _, _, err := r.Fleet.MakeJoinKey(t.Context(), master, k); err == nil || !strings.Contains(err.Error(), "cellar-master-pallet") {
		t.Errorf("another's name: %v", err)
	}
	k.Name, k.Serials = "cellar-master-pallet", []string{"TP-Fennimore-1", "TP-Kilnside-2", "TP-Saltmarsh-3", "TP-Kilnside-4"}
	_, _, err := r.Fleet.MakeJoinKey(t.Context(), master, k)
	r.Must(err)
	_, labels, err := r.Fleet.JoinLabels(master, k.Name, nil)
	r.Must(err)
	ask := func(i int) joining.Asked {
		return joining.Asked{Secret: labels[i].Secret, Serial: labels[i].Serial, Nonce: nonce(), From: "192.0.2.7"}
	}
	joins(t, r, ask(0))
	joins(t, r, ask(1))
	refused(t, r, "beyond the access", ask(2), fault.NotAllowed, "would not be among the devices")
	grant(`label.site == "Fennimore"`)
	r.Must(r.Fleet.Regranted(t.Context(), "cellar-master"))
	refused(t, r, "beyond what is left of it", ask(3), fault.NotAllowed, "would not be among the devices")
	_, err = r.People.Put(t.Context(), person.Person{Name: "night-duty", Grants: person.Grants{{Role: person.Engineer, Access: `label.site == "Saltmarsh"`}}}, noun.If{}, "engineer")
	r.Must(err)
	duty := r.Access.Caller("night-duty", "")
	if ks, rs := r.Fleet.JoinKeys(duty), r.Fleet.JoinRequests(duty); len(ks)+len(rs) != 0 {
		t.Errorf("somebody else sees %v and %v", ks, rs)
	}
	if _, err := r.Fleet.JoinKey(duty, k.Name); fault.From(err).Code != fault.NotFound {
		t.Errorf("somebody else asks for the key: %v", err)
	}
	if ks := r.Fleet.JoinKeys(master); len(ks) != 1 || ks[0].Where == "" {
		t.Errorf("its author sees %+v", ks)
	}
}

func TestWithoutMaster(t *testing.T) {
	r := rig.New(t)
	until := r.Clock.Now().Add(time.Hour)
	if _, _, err := r.Fleet.MakeJoinKey(t.Context(), engineer, join.Key{Name: "k", Model: "tank-probe", Cap: 1, ExpiresAt: &until}); err == nil {
		t.Error("a key was made that nothing can be made of")
	}
}
