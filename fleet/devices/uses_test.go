package devices_test

import (
	"strings"
	"testing"
	"time"

	"ullage/core/health"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/test/rig"
)

// How a credential is used is known at once, and behind a restart.
func TestUses(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	c := r.Devices.Credentials(tank)[0].ID
	if u := r.Devices.UseOf(c); !u.At.IsZero() {
		t.Errorf("before it came in it is used %+v", u)
	}
	r.Devices.Used(tank, c, "192.0.2.7", "mqtt, TLS 1.3")
	want := devices.Use{Credential: c, At: r.Clock.Now(), From: "192.0.2.7", Over: "mqtt, TLS 1.3"}
	if u := r.Devices.UseOf(c); u != want {
		t.Errorf("it is used %+v, want %+v", u, want)
	}
	r.Must(r.Devices.SaveUses(t.Context()))
	r.Clock.Forward(time.Minute)
	r.Devices.Used(tank, c, "192.0.2.7", "mqtt, TLS 1.3") // too soon to be stored again
	r.Must(r.Devices.SaveUses(t.Context()))
	r.Restart(false)
	if u := r.Devices.UseOf(c); !u.At.Equal(want.At) || u.From != want.From || u.Over != want.Over {
		t.Errorf("behind a crash it is used %+v, want %+v", u, want)
	}
}

// Two that use one credential are known by the address that goes to and fro; one device
// that moves is not.
func TestTwoAddressesAtOnce(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	c := r.Devices.Credentials(tank)[0].ID
	use := func(from string, after time.Duration) {
		r.Clock.Forward(after)
		r.Devices.Used(tank, c, from, "mqtt")
	}
	shared := func() bool {
		r.Settle()
		_, _, ok := r.Devices.Shared(tank, r.Clock.Now())
		return ok
	}
	use("192.0.2.1", 0)
	use("192.0.2.2", time.Minute)
	use("192.0.2.2", time.Minute)
	if shared() {
		t.Error("a device that moved once is two")
	}
	use("192.0.2.1", 20*time.Minute)
	if shared() {
		t.Error("a device that came back later is two")
	}
	use("192.0.2.2", time.Minute)
	use("192.0.2.1", time.Minute)
	if !shared() {
		t.Error("to and fro within minutes is one")
	}
	for range 5 {
		use("192.0.2.1", time.Minute)
		use("192.0.2.2", time.Minute)
	}
	r.Settle()
	if told := r.Journal(fact.CredentialTwice); len(told) != 1 || !strings.Contains(told[0], "192.0.2.1 and 192.0.2.2") {
		t.Errorf("the journal tells %q, want once an hour", told)
	}
	if d, _ := r.Present.Get(tank); !strings.Contains(strings.Join(d.Reasons, ";"), "one credential from two addresses") {
		t.Errorf("its health says %v", d.Reasons)
	}
	_, err := r.Devices.Rotate(t.Context(), tank, false, "mara")
	r.Must(err)
	if shared() {
		t.Error("with a new credential it is shared still")
	}
}

// A certificate that ends is told of once before and once when it has.
func TestEnds(t *testing.T) {
	r := rig.NewWith(t, rig.Joinable(t))
	r.Onboard(tank, "tank-probe", nil)
	r.Clock.Forward(time.Second)
	_, err := r.Devices.Renew(t.Context(), tank, devices.Wanted{Kind: devices.Certificate}, true, "mara")
	r.Must(err)
	told := func() []string {
		t.Helper()
		r.Must(r.Devices.WarnOfEnds(t.Context()))
		r.Settle()
		return r.Journal(fact.CredentialEnding)
	}
	end := r.Devices.Credentials(tank)[0].ExpiresAt
	if at := r.Devices.Ends(tank, r.Clock.Now()); !at.IsZero() {
		t.Errorf("with a token beside it ends at %s", at)
	}
	ids := r.Devices.Credentials(tank)
	for _, c := range ids {
		if c.Kind == devices.Token {
			r.Must(r.Devices.Revoke(t.Context(), tank, c.ID, "mara"))
		}
	}
	if at := r.Devices.Ends(tank, r.Clock.Now()); !at.Equal(end) || len(told()) != 0 {
		t.Errorf("it ends at %s, want %s; told is %v", at, end, told())
	}
	r.Clock.Forward(end.Add(-health.EndsSoon + time.Hour).Sub(r.Clock.Now()))
	if one, again := told(), told(); len(one) != 1 || len(again) != 1 || !strings.Contains(one[0], "and it has no other") {
		t.Errorf("told is %q and then %q, want once", one, again)
	}
	r.Pass(time.Second)
	if d, _ := r.Present.Get(tank); !strings.Contains(strings.Join(d.Reasons, ";"), "its certificate ends in 29d") {
		t.Errorf("its health says %v", d.Reasons)
	}
	r.Clock.Forward(31 * 24 * time.Hour)
	if over := told(); len(over) != 2 || len(told()) != 2 || !strings.Contains(strings.Join(over, ";"), "has ended") {
		t.Errorf("told is %q, want that it has ended too", over)
	}
	_, err = r.Devices.Renew(t.Context(), tank, devices.Wanted{}, false, "mara")
	r.Must(err)
	r.Pass(time.Second)
	if d, _ := r.Present.Get(tank); strings.Contains(strings.Join(d.Reasons, ";"), "certificate") {
		t.Errorf("with a new one its health says %v", d.Reasons)
	}
}

func TestReplace(t *testing.T) {
	r := rig.New(t)
	token := r.Onboard(tank, "tank-probe", map[string]string{"site": "Fennimore"})
	r.Send(tank, `{"must_temp":21}`)
	given, err := r.Devices.Replace(t.Context(), tank, "TP-30412", devices.Wanted{}, "mara")
	r.Must(err)
	if _, err := r.Devices.Authenticate(tank, token); err == nil {
		t.Error("the hardware of before is let in")
	}
	if d, err := r.Devices.Authenticate(tank, given.Token); err != nil || d.Labels["site"] != "Fennimore" {
		t.Errorf("the new one is %+v, %v", d, err)
	}
	if told := r.Journal(fact.HardwareReplaced); len(told) != 1 || !strings.Contains(told[0], "mara replaced the hardware of tank-fennimore-07, by TP-30412") {
		t.Errorf("the journal tells %q", told)
	}
	if _, err := r.Devices.Replace(t.Context(), tank, "a\nb", devices.Wanted{}, "mara"); rig.Code(err) != fault.Invalid {
		t.Errorf("a serial of two lines: %v", err)
	}
	_, err = r.Devices.SetStatus(t.Context(), tank, devices.Retired, "mara")
	r.Must(err)
	if _, err := r.Devices.Replace(t.Context(), tank, "", devices.Wanted{}, "mara"); rig.Code(err) != fault.Conflict {
		t.Errorf("a retired device is replaced: %v", err)
	}
}
