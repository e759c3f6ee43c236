package devices_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ullage/core/geo"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/test/rig"
)

const tank = "tank-fennimore-07"

func TestCreateRefuses(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", map[string]string{"site": "Fennimore"})
	for _, c := range []struct {
		id, model string
		labels    map[string]string
		code      fault.Code
		says      string
	}{
		{"Tank 7", "tank-probe", nil, fault.Invalid, "small letters"},
		{"", "tank-probe", nil, fault.Invalid, "no device id"},
		{strings.Repeat("a", 64), "tank-probe", nil, fault.Invalid, "at most 63"},
		{"tank-1", "tank-prob", nil, fault.NotFound, "cask-bung, cellar-air"},
		{tank, "tank-probe", nil, fault.Conflict, "already"},
		{"tank-1", "tank-probe", map[string]string{"Site": "x"}, fault.Invalid, "label name"},
		{"tank-1", "tank-probe", map[string]string{"site": "a\nb"}, fault.Invalid, "one line"},
	} {
		if _, _, err := r.Devices.Create(t.Context(), devices.New{ID: c.id, Model: c.model, Labels: c.labels}, "mara"); rig.Code(err) != c.code || !strings.Contains(err.Error(), c.says) {
			t.Errorf("creating %q as %q gives %v, want %s that says %q", c.id, c.model, err, c.code, c.says)
		}
	}
	if n := len(r.Devices.List()); n != 1 {
		t.Errorf("there are %d devices", n)
	}
}

func TestTokens(t *testing.T) {
	r := rig.New(t)
	token := r.Onboard(tank, "tank-probe", nil)
	other := r.Onboard("tank-fennimore-08", "tank-probe", nil)
	changed := token[:len(token)-1] + map[bool]string{true: "A", false: "B"}[token[len(token)-1] != 'A']
	for _, c := range []struct{ name, claimed, token, says string }{
		{"right", tank, token, ""},
		{"right without a claim", "", token, ""},
		{"unknown id", "tank-nowhere-01", token, "there is no device"},
		{"no token", tank, "", "no token"},
		{"a password", tank, "secret", "no Ullage token"},
		{"wrong secret", tank, changed, "the rest is wrong"},
		{"unknown credential", tank, "00000000.x", "no token with this id"},
		{"another's token", tank, other, "wrong bundle"},
	} {
		d, err := r.Devices.Authenticate(c.claimed, c.token)
		if c.says == "" && (err != nil || d.ID != tank) {
			t.Errorf("%s: %v", c.name, err)
		}
		if c.says != "" && (rig.Code(err) != fault.Unauthenticated || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %v, want %q", c.name, err, c.says)
		}
		if err != nil && c.token != "" && strings.Contains(err.Error(), c.token) && len(c.token) > 10 {
			t.Errorf("%s: the error shows the token", c.name)
		}
	}
	newer, err := r.Devices.Rotate(t.Context(), tank, false, "mara")
	r.Must(err)
	if _, err := r.Devices.Authenticate(tank, token); err == nil || !strings.Contains(err.Error(), "revoked on 2026-03-09") {
		t.Errorf("the old token: %v", err)
	}
	third, err := r.Devices.Rotate(t.Context(), tank, true, "mara")
	r.Must(err)
	r.Restart(false)
	for _, tok := range []string{newer, third} {
		if _, err := r.Devices.Authenticate(tank, tok); err != nil {
			t.Errorf("a kept token after a restart: %v", err)
		}
	}
	if _, err := r.Devices.Authenticate(tank, token); err == nil {
		t.Error("after a restart the revoked token works")
	}
	if _, err := r.Devices.Rotate(t.Context(), "nobody", false, "mara"); rig.Code(err) != fault.NotFound {
		t.Errorf("a token for nobody: %v", err)
	}
}

func TestStatus(t *testing.T) {
	r := rig.New(t)
	token := r.Onboard(tank, "tank-probe", nil)
	credential, _, _ := strings.Cut(token, ".")
	if d := r.Device(tank); d.Status != devices.Expected {
		t.Errorf("a new device is %s", d.Status)
	}
	r.Keep(tank, `{"ullage":30}`)
	for _, c := range []struct {
		to       devices.Status
		in, stay bool
		says     string
	}{{devices.Suspended, false, false, "suspended"}, {devices.Active, true, true, ""},
		{devices.Retired, false, false, "retired"}} {
		d, err := r.Devices.SetStatus(t.Context(), tank, c.to, "mara")
		if err != nil || d.Status != c.to {
			t.Fatalf("to %s: %+v, %v", c.to, d, err)
		}
		if _, err := r.Devices.Authenticate(tank, token); (err == nil) != c.in ||
			err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: getting in gives %v", c.to, err)
		}
		if _, ok := r.Devices.MayStay(tank, credential); ok != c.stay {
			t.Errorf("%s: may stay is %v", c.to, ok)
		}
	}
	if _, err := r.Devices.SetStatus(t.Context(), tank, devices.Active, "mara"); rig.Code(err) != fault.Conflict {
		t.Errorf("back from retirement: %v", err)
	}
	if got := strings.Join(r.Journal(fact.StatusChanged), "; "); !strings.Contains(got, "sent its first message") ||
		!strings.Contains(got, "mara suspended it; mara let it in again; mara retired it") {
		t.Errorf("the journal tells %q", got)
	}
}

// The index of sites says what a look at every device would.
func TestAtSite(t *testing.T) {
	r := rig.New(t)
	check := func(when string) {
		t.Helper()
		want := map[string][]string{}
		for _, d := range r.Devices.List() {
			if d.Status != devices.Retired && d.Labels["site"] != "" {
				want[d.Labels["site"]] = append(want[d.Labels["site"]], d.ID)
			}
		}
		for _, site := range []string{"Fennimore", "Saltmarsh", "Kilnside", "nowhere"} {
			if got := r.Devices.AtSite(site); !slices.Equal(got, want[site]) ||
				r.Devices.CountAtSite(site) != len(got) {
				t.Errorf("%s: at %s are %v, want %v", when, site, got, want[site])
			}
		}
	}
	random := rand.New(rand.NewPCG(4, 2))
	sites := []string{"Fennimore", "Saltmarsh", "Kilnside", ""}
	for i := range 12 {
		r.Onboard(fmt.Sprintf("tank-%d", i), "tank-probe", map[string]string{"site": "Fennimore"})
	}
	for range 60 {
		id := fmt.Sprintf("tank-%d", random.IntN(12))
		if random.IntN(10) == 0 {
			r.Devices.SetStatus(t.Context(), id, devices.Retired, "mara")
		} else {
			r.Devices.Label(t.Context(), id, map[string]string{"site": sites[random.IntN(4)]}, "mara")
		}
	}
	check("after changes")
	r.Restart(false)
	check("after a restart")
}

// TestPlace keeps where a device stands, also over a restart, and takes it back.
func TestPlace(t *testing.T) {
	r := rig.New(t)
	r.Onboard("bung-saltmarsh-112", "cask-bung", nil)
	at := &geo.Position{Latitude: 47.5592, Longitude: 8.3317}
	for range 2 { // the second says nothing new
		_, err := r.Devices.Place(t.Context(), "bung-saltmarsh-112", at, "tester")
		r.Must(err)
	}
	if n := len(r.Journal("device changed")); n != 1 {
		t.Errorf("the journal has %d entries about it, want 1", n)
	}
	if _, err := r.Devices.Place(t.Context(), "bung-saltmarsh-112", &geo.Position{}, "tester"); err == nil || !strings.Contains(err.Error(), "without a fix") {
		t.Errorf("0, 0 is taken: %v", err)
	}
	r.Restart(false)
	if d, err := r.Devices.Get("bung-saltmarsh-112"); err != nil || d.Position == nil || *d.Position != *at {
		t.Errorf("after the restart it stands at %v, %v", d.Position, err)
	}
	_, err := r.Devices.Place(t.Context(), "bung-saltmarsh-112", nil, "tester")
	r.Must(err)
	r.Restart(true)
	if d, _ := r.Devices.Get("bung-saltmarsh-112"); d.Position != nil {
		t.Errorf("it was taken back, and it stands at %s", d.Position)
	}
}

func TestLabels(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", map[string]string{"site": "Fennimore", "row": "B"})
	d, err := r.Devices.Label(t.Context(), tank, map[string]string{"row": "", "stage": "resting"}, "mara")
	if err != nil || len(d.Labels) != 2 || d.Labels["stage"] != "resting" || d.Labels["site"] != "Fennimore" {
		t.Errorf("labels are %v, %v", d.Labels, err)
	}
	r.Restart(false)
	if d, _ := r.Devices.Get(tank); len(d.Labels) != 2 {
		t.Errorf("after a restart they are %v", d.Labels)
	}
	if _, err := r.Devices.Label(t.Context(), tank, map[string]string{"a b": "c"}, "mara"); rig.Code(err) != fault.Invalid {
		t.Errorf("a bad name: %v", err)
	}
}
