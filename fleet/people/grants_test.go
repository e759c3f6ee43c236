package people_test

import (
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"ullage/core/person"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
	"ullage/fleet/people"
	"ullage/test/rig"
)

func letIn(r *rig.Rig, name string, role person.Role) {
	r.T.Helper()
	_, err := r.People.Add(r.T.Context(), name, "correct-horse", role, "engineer")
	r.Must(err)
}

// An owner is left, also where the role comes from a team.
func TestTheLastOwnerStays(t *testing.T) {
	r := rig.New(t)
	ctx := t.Context()
	letIn(r, "engineer", person.Owner)
	letIn(r, "night-duty", person.Viewer)
	put := func(name string, grants ...person.Grant) error {
		_, err := r.People.Put(ctx, person.Person{Name: name, Grants: grants}, noun.If{}, "engineer")
		return err
	}
	team := func(people []string, grants ...person.Grant) error {
		_, err := r.People.Teams.Put(ctx, person.Team{Name: "cellars", People: people, Grants: grants}, noun.If{}, "engineer")
		return err
	}
	owner := person.Grant{Role: person.Owner}
	for _, c := range []struct {
		what string
		do   func() error
		kept bool
	}{
		{"demoting the last owner", func() error { return put("engineer", person.Grant{Role: person.Viewer}) }, true},
		{"removing the last owner", func() error { return r.People.Remove(ctx, "engineer", noun.If{}, "engineer") }, true},
		{"taking all grants", func() error { return put("engineer") }, true},
		{"an owner by a team", func() error { return team([]string{"night-duty"}, owner) }, false},
		{"demoting one of two", func() error { return put("engineer", person.Grant{Role: person.Viewer}) }, false},
		{"emptying the team", func() error { return team(nil, owner) }, true},
		{"the team's grant", func() error { return team([]string{"night-duty"}, person.Grant{Role: person.Viewer}) }, true},
		{"removing the team", func() error { return r.People.Teams.Remove(ctx, "cellars", noun.If{}, "night-duty") }, true},
		{"removing who is in it", func() error { return r.People.Remove(ctx, "night-duty", noun.If{}, "night-duty") }, true},
		{"an owner again", func() error { return put("engineer", owner) }, false},
		{"removing the team then", func() error { return r.People.Teams.Remove(ctx, "cellars", noun.If{}, "engineer") }, false},
		{"an owner who cannot sign in", func() error { return put("cellar-master", owner) }, false},
		{"does not count", func() error { return put("engineer", person.Grant{Role: person.Viewer}) }, true},
	} {
		err := c.do()
		if (err != nil) != c.kept || c.kept && !fault.Is(err, fault.Conflict) {
			t.Errorf("%s: %v, want it refused: %v", c.what, err, c.kept)
		}
	}
}

func TestTeams(t *testing.T) {
	r := rig.New(t)
	ctx := t.Context()
	letIn(r, "engineer", person.Owner)
	letIn(r, "night-duty", person.Viewer)
	if _, err := r.People.Teams.Put(ctx, person.Team{Name: "cellars", People: []string{"nobody"}}, noun.If{}, "engineer"); !fault.Is(err, fault.Invalid) {
		t.Errorf("a team of somebody who does not exist: %v", err)
	}
	_, err := r.People.Teams.Put(ctx, person.Team{Name: "cellars", People: []string{"night-duty"}, Grants: person.Grants{{Role: person.Operator}}}, noun.If{}, "engineer")
	r.Must(err)
	if role := r.Access.Caller("night-duty", "").Role(); role != person.Operator {
		t.Errorf("with the team they are %q, want operator", role)
	}
	p, err := r.People.One("night-duty")
	if err != nil || len(p.Teams) != 1 || p.Role != person.Operator || p.Limited {
		t.Errorf("shown is %+v, %v", p, err)
	}
	r.Restart(true)
	if role := r.Access.Caller("night-duty", "").Role(); role != person.Operator {
		t.Errorf("after a restart they are %q, want operator", role)
	}
	r.Must(r.People.Remove(ctx, "night-duty", noun.If{}, "engineer"))
	team, err := r.People.Teams.Get("cellars")
	if err != nil || len(team.People) != 0 {
		t.Errorf("the team has %v, %v, want nobody", team.People, err)
	}
	if role := r.Access.Caller("night-duty", "").Role(); role != "" {
		t.Errorf("somebody who was removed is %q", role)
	}
}

func TestKeysEnd(t *testing.T) {
	r := rig.New(t)
	ctx := t.Context()
	soon := r.Clock.Now().Add(time.Hour)
	k, secret, err := r.People.MakeKey(ctx, person.Key{Name: "report", Grant: person.Grant{Role: person.Viewer}, ExpiresAt: &soon}, "engineer")
	r.Must(err)
	if !strings.HasPrefix(secret, "ullage-key-") || k.MadeBy != "engineer" {
		t.Errorf("the key is %+v", k)
	}
	r.Restart(true)
	s, err := r.People.Who(secret, "192.0.2.7")
	if err != nil || s.Person != people.CallerOfKey("report") || !s.Key {
		t.Fatalf("who is it: %+v, %v", s, err)
	}
	r.Settle()
	r.Restart(true)
	if k, err := r.People.Key("report"); err != nil || k.UsedFrom != "192.0.2.7" {
		t.Errorf("its use after a restart: %+v, %v", k, err)
	}
	past := r.Clock.Now().Add(-time.Hour)
	if _, _, err := r.People.MakeKey(ctx, person.Key{Name: "late", Grant: person.Grant{Role: person.Viewer}, ExpiresAt: &past}, "engineer"); !fault.Is(err, fault.Invalid) {
		t.Errorf("a key that has run out already: %v", err)
	}
	for _, wrong := range []string{"ullage-key-", "ullage-key-x", secret + "x", strings.ToUpper(secret)} {
		if _, err := r.People.Who(wrong, ""); !fault.Is(err, fault.Unauthenticated) {
			t.Errorf("%q gives %v", wrong, err)
		}
	}
	ended := make(chan struct{})
	stop := r.People.OnEnd(s, func() { close(ended) })
	defer stop()
	r.Must(r.People.RemoveKey(ctx, "report", noun.If{}, "engineer"))
	select {
	case <-ended:
	case <-time.After(30 * time.Second):
		t.Error("what was open with the key goes on")
	}
	_, secret, err = r.People.MakeKey(ctx, person.Key{Name: "report", Grant: person.Grant{Role: person.Viewer}, ExpiresAt: &soon}, "engineer")
	r.Must(err)
	r.Clock.Forward(2 * time.Hour)
	if _, err := r.People.Who(secret, ""); err == nil || !strings.Contains(err.Error(), "has run out") {
		t.Errorf("a key that has run out: %v", err)
	}
}

func TestExplain(t *testing.T) {
	r := rig.New(t)
	letIn(r, "engineer", person.Owner)
	letIn(r, "cask-owner", person.Viewer)
	r.Onboard("bung-1", "cask-bung", map[string]string{"owner": "cask-owner"})
	_, err := r.People.Put(t.Context(), person.Person{Name: "cask-owner", Grants: person.Grants{
		{Role: person.Viewer, Access: `label.owner == "cask-owner" and device.model == "cask-bung"`},
		{Role: person.Operator, Access: `label.row == "3"`}}}, noun.If{}, "engineer")
	r.Must(err)
	d, err := r.Devices.Get("bung-1")
	r.Must(err)
	on, err := r.People.Explain("cask-owner", d)
	r.Must(err)
	if len(on) != 2 || !on[0].Reaches || on[0].Why != "label.owner is cask-owner, device.model is cask-bung" ||
		on[1].Reaches || on[1].Why != "label.row is missing, and grants nothing" {
		t.Errorf("explained is %+v", on)
	}
	if _, err := r.People.Explain("nobody", d); !fault.Is(err, fault.NotFound) {
		t.Errorf("of nobody: %v", err)
	}
	if owners := r.People.Owners(); len(owners) != 1 || owners[0] != "engineer" {
		t.Errorf("the owners are %v", owners)
	}
}

// A second factor: a code works once, recovery codes once each, wrong ones are
// counted, and an owner takes it off for somebody who has lost it.
func TestSecondFactor(t *testing.T) {
	r := rig.New(t)
	ctx := t.Context()
	letIn(r, "engineer", person.Owner)
	letIn(r, "night-duty", person.Operator)
	in := func(code, from string) (people.Session, error) {
		_, s, err := r.People.SignIn(ctx, "night-duty", "correct-horse", code, "console", from)
		return s, err
	}
	s, err := in("", "192.0.2.1")
	r.Must(err)
	other, err := in("", "192.0.2.2")
	r.Must(err)
	if _, err := r.People.BeginFactor(ctx, s, "wrong", "192.0.2.1"); !fault.Is(err, fault.Unauthenticated) {
		t.Errorf("with a wrong password: %v", err)
	}
	if _, err := r.People.ConfirmFactor(ctx, s, "123456", "192.0.2.1"); !fault.Is(err, fault.Conflict) {
		t.Errorf("without having begun: %v", err)
	}
	setup, err := r.People.BeginFactor(ctx, s, "correct-horse", "192.0.2.1")
	r.Must(err)
	if !strings.HasPrefix(setup.URI, "otpauth://totp/Ullage:night-duty?") || !strings.HasPrefix(setup.Picture, "data:image/png;base64,") {
		t.Errorf("the setup is %.80s %.40s", setup.URI, setup.Picture)
	}
	code := func() string {
		c, err := totp.GenerateCode(setup.Secret, r.Clock.Now())
		r.Must(err)
		return c
	}
	if _, err := in("", "192.0.2.1"); err != nil {
		t.Errorf("before it is confirmed it counts: %v", err)
	}
	if _, err := r.People.ConfirmFactor(ctx, s, "000000", "192.0.2.1"); !fault.Is(err, fault.Unauthenticated) {
		t.Errorf("a wrong code: %v", err)
	}
	codes, err := r.People.ConfirmFactor(ctx, s, code(), "192.0.2.1")
	r.Must(err)
	if len(codes) != 10 {
		t.Fatalf("%d recovery codes, want 10", len(codes))
	}
	if len(r.People.Sessions("night-duty")) != 1 {
		t.Errorf("other sign-ins go on: %v, %v", other.ID(), r.People.Sessions("night-duty"))
	}
	for _, c := range []struct {
		what, code string
		after      time.Duration
		right      bool
	}{
		{"none", "", 0, false},
		{"the one that confirmed it", code(), 0, false},
		{"a wrong one", "123456", 0, false},
		{"the next one", "now", 30 * time.Second, true},
		{"the same again", "now", 0, false},
		{"the one after, with a space", "spaced", 30 * time.Second, true},
		{"a recovery code", codes[3], 0, true},
		{"the same again", codes[3], 0, false},
		{"another, in capitals and without hyphens", strings.ToUpper(strings.ReplaceAll(codes[4], "-", "")), 0, true},
	} {
		r.Clock.Forward(c.after)
		switch c.code {
		case "now":
			c.code = code()
		case "spaced":
			c.code = code()[:3] + " " + code()[3:]
		}
		if _, err := in(c.code, "192.0.2.1"); (err == nil) != c.right {
			t.Errorf("%s: %v, want it right: %v", c.what, err, c.right)
		}
	}
	r.Restart(true)
	if _, err := in(codes[3], "192.0.2.1"); err == nil {
		t.Error("a used recovery code works after a restart")
	}
	refused := error(nil)
	for range 40 {
		if _, refused = in("111111", "192.0.2.9"); fault.Is(refused, fault.TooMany) {
			break
		}
	}
	if !fault.Is(refused, fault.TooMany) {
		t.Errorf("after forty wrong codes: %v", refused)
	}
	r.Clock.Forward(2 * time.Minute)
	if err := r.People.RemoveFactor(ctx, "engineer", "engineer"); !fault.Is(err, fault.Conflict) {
		t.Errorf("of somebody without one: %v", err)
	}
	r.Must(r.People.RemoveFactor(ctx, "night-duty", "engineer"))
	if n := len(r.People.Sessions("night-duty")); n != 0 {
		t.Errorf("%d sign-ins hold after it was taken off by another", n)
	}
	if _, err := in("", "192.0.2.1"); err != nil {
		t.Errorf("without the factor: %v", err)
	}
	told := strings.Join(r.Journal(fact.FactorChanged), "\n")
	for _, want := range []string{"night-duty set up a second factor", "night-duty used a recovery code; 9 are left", "engineer took the second factor of night-duty off"} {
		if !strings.Contains(told, want) {
			t.Errorf("the journal lacks %q:\n%s", want, told)
		}
	}
	if strings.Contains(told, setup.Secret) || strings.Contains(told, codes[0]) {
		t.Error("the journal tells a secret")
	}
}
