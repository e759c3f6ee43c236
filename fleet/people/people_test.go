package people_test

import (
	"strings"
	"testing"
	"time"

	"ullage/fleet/fault"
	"ullage/fleet/people"
	"ullage/test/rig"
)

func TestSignIn(t *testing.T) {
	r := rig.New(t)
	if !r.People.Empty() {
		t.Fatal("somebody is there already")
	}
	password, err := r.People.Add(t.Context(), "engineer", "", "")
	r.Must(err)
	if len(password) < 16 {
		t.Errorf("the password %q is short", password)
	}
	secret, s, err := r.People.SignIn(t.Context(), "engineer", password, "console", "127.0.0.1")
	r.Must(err)
	if s.Person != "engineer" || strings.Contains(strings.Join(r.Journal("access"), " "), password) {
		t.Errorf("session %+v, journal %q", s, r.Journal("access"))
	}
	if got, err := r.People.Who(secret); err != nil || got.Person != "engineer" {
		t.Errorf("who is %+v, %v", got, err)
	}
	r.Restart(false)
	if _, err := r.People.Who(secret); err != nil {
		t.Errorf("after a restart: %v", err)
	}
	for _, bad := range []string{"", "x", secret + "x"} {
		if _, err := r.People.Who(bad); rig.Code(err) != fault.Unauthenticated {
			t.Errorf("the secret %q gives %v", bad, err)
		}
	}
	r.Clock.Forward(people.SessionLife + time.Second)
	if _, err := r.People.Who(secret); rig.Code(err) != fault.Unauthenticated ||
		!strings.Contains(err.Error(), "run out") {
		t.Errorf("a month later: %v", err)
	}
}

func TestSignOut(t *testing.T) {
	r := rig.New(t)
	_, err := r.People.Add(t.Context(), "engineer", "long-enough-1", "")
	r.Must(err)
	secret, s, err := r.People.SignIn(t.Context(), "engineer", "long-enough-1", "console", "127.0.0.1")
	r.Must(err)
	r.Must(r.People.SignOut(t.Context(), s))
	if _, err := r.People.Who(secret); rig.Code(err) != fault.Unauthenticated {
		t.Errorf("after signing out: %v", err)
	}
}

func TestWrongPasswords(t *testing.T) {
	r := rig.New(t)
	_, err := r.People.Add(t.Context(), "engineer", "long-enough-1", "")
	r.Must(err)
	_, _, unknown := r.People.SignIn(t.Context(), "nobody", "long-enough-1", "console", "127.0.0.9")
	for i := range 10 {
		_, _, err := r.People.SignIn(t.Context(), "engineer", "wrong", "console", "127.0.0.1")
		if rig.Code(err) != fault.Unauthenticated || err.Error() != unknown.Error() {
			t.Fatalf("attempt %d gives %v; a wrong name gives %v", i, err, unknown)
		}
	}
	if _, _, err := r.People.SignIn(t.Context(), "engineer", "long-enough-1", "console", "127.0.0.1"); rig.Code(err) != fault.TooMany {
		t.Errorf("the eleventh attempt gives %v", err)
	}
	if _, _, err := r.People.SignIn(t.Context(), "engineer", "long-enough-1", "console", "127.0.0.2"); err != nil {
		t.Errorf("from another address: %v", err)
	}
	r.Clock.Forward(61 * time.Second)
	if _, _, err := r.People.SignIn(t.Context(), "engineer", "long-enough-1", "console", "127.0.0.1"); err != nil {
		t.Errorf("a minute later: %v", err)
	}
}

func TestAddRefuses(t *testing.T) {
	r := rig.New(t)
	for _, c := range [][2]string{{"Engineer", "long-enough-1"}, {"engineer", "short"}, {"", "long-enough-1"}} {
		if _, err := r.People.Add(t.Context(), c[0], c[1], ""); rig.Code(err) != fault.Invalid {
			t.Errorf("adding %q gives %v", c[0], err)
		}
	}
	_, err := r.People.Add(t.Context(), "engineer", "long-enough-1", "")
	r.Must(err)
	if _, err := r.People.Add(t.Context(), "engineer", "long-enough-1", ""); rig.Code(err) != fault.Conflict {
		t.Errorf("twice gives %v", err)
	}
}
