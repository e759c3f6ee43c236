package people_test

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ullage/app"
	"ullage/core/person"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/people"
	"ullage/store"
	"ullage/test/rig"
)

func TestSignIn(t *testing.T) {
	r := rig.New(t)
	if !r.People.Empty() {
		t.Fatal("somebody is there already")
	}
	password, err := r.People.Add(t.Context(), "engineer", "", person.Owner, "")
	r.Must(err)
	if len(password) < 16 {
		t.Errorf("the password %q is short", password)
	}
	secret, s, err := r.People.SignIn(t.Context(), "engineer", password, "", "console", "127.0.0.1")
	r.Must(err)
	if s.Person != "engineer" || strings.Contains(strings.Join(r.Journal("access"), " "), password) {
		t.Errorf("session %+v, journal %q", s, r.Journal("access"))
	}
	if got, err := r.People.Who(secret, ""); err != nil || got.Person != "engineer" {
		t.Errorf("who is %+v, %v", got, err)
	}
	r.Restart(false)
	if _, err := r.People.Who(secret, ""); err != nil {
		t.Errorf("after a restart: %v", err)
	}
	for _, bad := range []string{"", "x", secret + "x"} {
		if _, err := r.People.Who(bad, ""); rig.Code(err) != fault.Unauthenticated {
			t.Errorf("the secret %q gives %v", bad, err)
		}
	}
	r.Clock.Forward(people.SessionLife + time.Second)
	if _, err := r.People.Who(secret, ""); rig.Code(err) != fault.Unauthenticated ||
		!strings.Contains(err.Error(), "run out") {
		t.Errorf("a month later: %v", err)
	}
}

func TestSignOut(t *testing.T) {
	r := rig.New(t)
	_, err := r.People.Add(t.Context(), "engineer", "long-enough-1", person.Owner, "")
	r.Must(err)
	secret, s, err := r.People.SignIn(t.Context(), "engineer", "long-enough-1", "", "console", "127.0.0.1")
	r.Must(err)
	r.Must(r.People.SignOut(t.Context(), s))
	if _, err := r.People.Who(secret, ""); rig.Code(err) != fault.Unauthenticated {
		t.Errorf("after signing out: %v", err)
	}
}

func TestWrongPasswords(t *testing.T) {
	r := rig.New(t)
	_, err := r.People.Add(t.Context(), "engineer", "long-enough-1", person.Owner, "")
	r.Must(err)
	_, _, unknown := r.People.SignIn(t.Context(), "nobody", "long-enough-1", "", "console", "127.0.0.9")
	for i := range 10 {
		_, _, err := r.People.SignIn(t.Context(), "engineer", "wrong", "", "console", "127.0.0.1")
		if rig.Code(err) != fault.Unauthenticated || err.Error() != unknown.Error() {
			t.Fatalf("attempt %d gives %v; a wrong name gives %v", i, err, unknown)
		}
	}
	if _, _, err := r.People.SignIn(t.Context(), "engineer", "long-enough-1", "", "console", "127.0.0.1"); rig.Code(err) != fault.TooMany {
		t.Errorf("the eleventh attempt gives %v", err)
	}
	if _, _, err := r.People.SignIn(t.Context(), "engineer", "long-enough-1", "", "console", "127.0.0.2"); err != nil {
		t.Errorf("from another address: %v", err)
	}
	r.Clock.Forward(61 * time.Second)
	if _, _, err := r.People.SignIn(t.Context(), "engineer", "long-enough-1", "", "console", "127.0.0.1"); err != nil {
		t.Errorf("a minute later: %v", err)
	}
}

// However many wrong passwords come at once, few are looked at, and right ones
// get in beside them: of another person, of the same one from where they usually
// are, and of the same address a moment later.
func TestManyWrongPasswordsAtOnce(t *testing.T) {
	var log lockedBuffer
	r := rig.NewWith(t, app.Options{Log: slog.New(slog.NewTextHandler(&log, nil))})
	for _, name := range []string{"engineer", "mara"} {
		_, err := r.People.Add(t.Context(), name, "long-enough-1", person.Owner, "")
		r.Must(err)
	}
	in := func(name, password, from string) error {
		_, _, err := r.People.SignIn(t.Context(), name, password, "", "console", from)
		return err
	}
	r.Must(in("engineer", "long-enough-1", "10.0.0.1"))
	var looked, turned atomic.Int32
	var each sync.WaitGroup
	for i := range 400 {
		each.Go(func() {
			from := fmt.Sprintf("10.9.%d.%d", i/100, i%100) // each from an address of its own
			if i%2 == 0 {
				from = "10.9.0.1"
			}
			switch rig.Code(in("engineer", "wrong-password", from)) {
			case fault.Unauthenticated:
				looked.Add(1)
			case fault.TooMany:
				turned.Add(1)
			default:
				t.Error("a wrong password is neither wrong nor one too many")
			}
		})
	}
	for _, c := range [][2]string{{"mara", "10.0.0.2"}, {"engineer", "10.0.0.1"}} {
		each.Go(func() {
			if err := in(c[0], "long-enough-1", c[1]); err != nil {
				t.Errorf("%s at %s meets %v while others guess, want to get in", c[0], c[1], err)
			}
		})
	}
	each.Wait()
	if n := looked.Load(); n > 45 || turned.Load() != 400-n {
		t.Errorf("%d passwords were looked at and %d turned away, want at most 45 and the rest", n, turned.Load())
	}
	r.Clock.Forward(30 * time.Second)
	if err := in("mara", "long-enough-1", "10.9.0.1"); err != nil {
		t.Errorf("at the address of the attack, a moment later: %v", err)
	}
	r.Settle()
	told := r.Journal(fact.SignInWrong)
	if len(told) == 0 || len(told) > 250 || !strings.Contains(strings.Join(told, "|"), "as engineer from 10.9.0.1 failed") {
		t.Errorf("the journal tells %d times, such as %q; want it once an address", len(told), told[:min(3, len(told))])
	}
	if !strings.Contains(log.String(), "a sign-in failed") || strings.Contains(log.String(), "wrong-password") {
		t.Errorf("the log does not tell of failed sign-ins, or tells passwords")
	}
	// What was typed for a name may be a password.
	_ = in("hunter-2-secret", "x", "10.0.0.9")
	r.Settle()
	if told := strings.Join(r.Journal(fact.SignInWrong), "|"); strings.Contains(told, "hunter") || !strings.Contains(told, "a name that nobody has") {
		t.Errorf("the journal tells of a name that nobody has as %q", told)
	}
}

// Whoever has to make room gets in while there is none.
func TestSignInOnAFullDisk(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	var log lockedBuffer
	r := rig.NewWith(t, app.Options{Log: slog.New(slog.NewTextHandler(&log, nil)), Store: store.Options{MaxRecordBytes: 600 << 10}})
	_, err := r.People.Add(t.Context(), "engineer", "long-enough-1", person.Owner, "")
	r.Must(err)
	for i := 0; ; i++ {
		if _, _, err := r.Devices.Create(t.Context(), devices.New{ID: fmt.Sprintf("tank-%d", i), Model: "tank-probe"}, "mara"); err != nil {
			break
		}
		if i == 20_000 {
			t.Fatal("the file never gets full")
		}
	}
	var secret string
	for range 200 { // some rows still fit into the last pages
		if secret, _, err = r.People.SignIn(t.Context(), "engineer", "long-enough-1", "", "console", "127.0.0.1"); err != nil {
			t.Fatalf("signing in gives %v, want to get in", err)
		}
		if strings.Contains(log.String(), "disk is full") {
			break
		}
	}
	if s, err := r.People.Who(secret, ""); err != nil || s.Person != "engineer" {
		t.Errorf("the session is of %+v, %v; want the engineer", s, err)
	}
	if !strings.Contains(log.String(), "disk is full") {
		t.Errorf("the log says %s, want that the disk is full", log.String())
	}
	s, _ := r.People.Who(secret, "")
	r.Must(r.People.SignOut(t.Context(), s))
	if _, err := r.People.Who(secret, ""); err == nil {
		t.Error("signed out, the session still holds")
	}
}

type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

func TestAddRefuses(t *testing.T) {
	r := rig.New(t)
	for _, c := range [][2]string{{"Engineer", "long-enough-1"}, {"engineer", "short"}, {"", "long-enough-1"}} {
		if _, err := r.People.Add(t.Context(), c[0], c[1], person.Owner, ""); rig.Code(err) != fault.Invalid {
			t.Errorf("adding %q gives %v", c[0], err)
		}
	}
	_, err := r.People.Add(t.Context(), "engineer", "long-enough-1", person.Owner, "")
	r.Must(err)
	if _, err := r.People.Add(t.Context(), "engineer", "long-enough-1", person.Owner, ""); rig.Code(err) != fault.Conflict {
		t.Errorf("twice gives %v", err)
	}
}

// Somebody who was there before gets in beside any number of wrong passwords from
// their own address; with a token that is not theirs, or of a password before, they
// are counted as everybody.
func TestFamiliarPlaces(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing after the other: the race detector finds nothing new in it")
	}
	r := rig.New(t)
	for _, name := range []string{"engineer", "night-duty"} {
		_, err := r.People.Add(t.Context(), name, "long-enough-1", person.Owner, "")
		r.Must(err)
	}
	const here = "127.0.0.1"
	in := func(ctx context.Context, password string) error {
		_, _, err := r.People.SignIn(ctx, "engineer", password, "", "console", here)
		return err
	}
	r.Must(in(t.Context(), "long-enough-1"))
	mine, others := r.People.Familiar("engineer"), r.People.Familiar("night-duty")
	for range 40 {
		in(t.Context(), "wrong")
	}
	for what, c := range map[string]struct {
		token string
		want  fault.Code
	}{
		"no token":             {"", fault.TooMany},
		"their token":          {mine, ""},
		"somebody else's":      {others, fault.TooMany},
		"one that is cut":      {mine[:40], fault.TooMany},
		"one that is made up":  {strings.Repeat("A", len(mine)), fault.TooMany},
		"one that is no text":  {"\x00\xff", fault.TooMany},
		"one that is too long": {strings.Repeat("A", 10_000), fault.TooMany},
	} {
		if got := rig.Code(in(people.WithFamiliar(t.Context(), c.token), "long-enough-1")); got != c.want {
			t.Errorf("with %s it is %q, want %q", what, got, c.want)
		}
	}
	if err := r.People.Barred(here); rig.Code(err) != "" && rig.Code(err) != fault.TooMany {
		t.Errorf("the address is barred with %v", err)
	}
	// From a familiar place, too, so many and no more are tried.
	familiar := people.WithFamiliar(t.Context(), mine)
	for range 12 {
		in(familiar, "wrong")
	}
	if got := rig.Code(in(familiar, "long-enough-1")); got != fault.TooMany {
		t.Errorf("after twelve wrong ones from a familiar place it is %q, want %q", got, fault.TooMany)
	}
	r.Pass(2 * time.Minute)
	_, s, err := r.People.SignIn(familiar, "engineer", "long-enough-1", "", "console", here)
	r.Must(err)
	r.Must(r.People.ChangePassword(t.Context(), s, "long-enough-1", "another-one-2", here))
	for range 40 {
		in(t.Context(), "wrong")
	}
	if got := rig.Code(in(familiar, "another-one-2")); got != fault.TooMany {
		t.Errorf("with a token of the password before it is %q, want %q", got, fault.TooMany)
	}
}
