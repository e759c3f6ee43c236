package devices_test

import (
	"fmt"
	"strings"
	"testing"

	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/test/rig"
)

// Two tokens that come out with the same id do not take one another's place.
func TestTokensAlike(t *testing.T) {
	r := rig.New(t)
	bits := []byte(strings.Repeat("the same of both", 3))[:devices.TokenBytes]
	ctx := t.Context()
	r.Onboard(tank, "tank-probe", nil)
	r.Onboard("tank-fennimore-08", "tank-probe", nil)
	one, err := r.Devices.Renew(ctx, tank, devices.Wanted{Bits: bits}, true, "mara")
	r.Must(err)
	if _, err := r.Devices.Renew(ctx, "tank-fennimore-08", devices.Wanted{Bits: bits}, true, "mara"); rig.Code(err) != fault.Conflict {
		t.Errorf("a token with the id of another one: %v", err)
	}
	if _, err := r.Devices.Authenticate(tank, one.Token); err != nil {
		t.Errorf("the first one works no more: %v", err)
	}
}

// A device renews its token: the same nonce gives the same one, the one that it came with ends
// when the new one is used, and not before, also behind a crash.
func TestRenewToken(t *testing.T) {
	r := rig.NewWith(t, rig.Joinable(t))
	token := r.Onboard(tank, "tank-probe", nil)
	first, _, _ := strings.Cut(token, ".")
	const nonce = "4f1c0a77e2b9d3861f5508c2aa91be40"
	for nonce, says := range map[string]string{"": "missing", "short": "neither", "00112233445566": "16 are the least"} {
		if _, err := r.Devices.RenewToken(t.Context(), tank, first, nonce); rig.Code(err) != fault.Invalid || !strings.Contains(err.Error(), says) {
			t.Errorf("the nonce %q: %v", nonce, err)
		}
	}
	one, err := r.Devices.RenewToken(t.Context(), tank, first, nonce)
	r.Must(err)
	again, err := r.Devices.RenewToken(t.Context(), tank, first, nonce)
	r.Must(err)
	if one.Token == token || again.Token != one.Token || len(r.Devices.Credentials(tank)) != 2 {
		t.Errorf("the same nonce gives %q and %q; it has %d credentials", one.ID, again.ID, len(r.Devices.Credentials(tank)))
	}
	// Another nonce: the first answer was lost for good, and what it held ends.
	two, err := r.Devices.RenewToken(t.Context(), tank, first, "5f1c0a77e2b9d3861f5508c2aa91be40")
	r.Must(err)
	works := func(token string) bool { _, err := r.Devices.Authenticate(tank, token); return err == nil }
	if !works(token) || works(one.Token) || !works(two.Token) {
		t.Errorf("of the old one, the lost one and the new one work %t, %t, %t", works(token), works(one.Token), works(two.Token))
	}
	r.Restart(false)
	r.Devices.Used(tank, two.ID, "192.0.2.7", "https")
	r.Settle()
	if works(token) || !works(two.Token) {
		t.Errorf("once the new one is used, the old one works %t, and the new one %t", works(token), works(two.Token))
	}
	r.Restart(false)
	if works(token) || !works(two.Token) {
		t.Error("behind a crash the old one works again, or the new one does not")
	}
	// What a person gave beside them is no business of the device.
	last := two.ID
	for i := range devices.OwnRenewals {
		x, err := r.Devices.RenewToken(t.Context(), tank, last, fmt.Sprintf("%02d1c0a77e2b9d3861f5508c2aa91be40", 70+i))
		if err == nil {
			last = x.ID
			continue
		}
		if i != devices.OwnRenewals-3 || rig.Code(err) != fault.TooMany {
			t.Errorf("renewal %d within the hour: %v", i+4, err)
		}
		return
	}
	t.Error("it renews without end")
}
