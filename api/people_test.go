package api_test

import (
	"context"
	"encoding/json"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/api"
	"ullage/client"
	"ullage/core/person"
	"ullage/fleet/fact"
	"ullage/fleet/people"
)

// operation is one of the document.
type operation struct{ id, method, path string }

// operations returns every operation that needs somebody, signing out last.
func operations(b *bench) (out []operation) {
	src, err := api.Document("x")
	b.Must(err)
	var doc struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	b.Must(json.Unmarshal(src, &doc))
	for path, ops := range doc.Paths {
		for method, op := range ops {
			out = append(out, operation{op.OperationID, strings.ToUpper(method), regexp.MustCompile(`\{\w+\}`).ReplaceAllString(path, "x")})
		}
	}
	slices.SortFunc(out, func(x, y operation) int {
		if (x.id == "sign-out") != (y.id == "sign-out") {
			return map[bool]int{true: 1, false: -1}[x.id == "sign-out"]
		}
		return strings.Compare(x.id, y.id)
	})
	return out
}

// as lets somebody in and returns their client.
func as(b *bench, name string, role person.Role) *client.Client {
	b.T.Helper()
	_, err := b.People.Add(b.T.Context(), name, "long-enough-1", role, "engineer")
	b.Must(err)
	c := client.New(b.server.URL, "")
	_, err = c.SignIn(b.T.Context(), name, "long-enough-1")
	b.Must(err)
	return c
}

// TestRolesAreKept calls every operation of the document as everybody: it is
// refused for want of a role if, and only if, the table says so.
func TestRolesAreKept(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	all := operations(b)
	for _, role := range person.Roles {
		_, err := b.People.Add(t.Context(), "a-"+string(role), "long-enough-1", role, "engineer")
		b.Must(err)
		s, err := client.New(b.server.URL, "").SignIn(t.Context(), "a-"+string(role), "long-enough-1")
		b.Must(err)
		refused := 0
		for _, op := range all {
			need, known := api.Needs(op.id)
			if !known {
				t.Errorf("%s has no role, so nobody may do it", op.id)
			}
			if need == "" {
				continue
			}
			// A stream is left as soon as it has begun.
			ctx, leave := context.WithTimeout(t.Context(), 30*time.Second)
			req, err := http.NewRequestWithContext(ctx, op.method, b.server.URL+op.path, nil)
			b.Must(err)
			req.Header.Set("Authorization", "Bearer "+s.Token)
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				t.Fatalf("%s: %v", op.id, err)
			}
			leave()
			resp.Body.Close()
			if resp.StatusCode == http.StatusUnauthorized {
				t.Fatalf("%s: %s is not signed in", op.id, role)
			}
			if got := resp.StatusCode == http.StatusForbidden; got == role.Does(need) {
				t.Errorf("%s, which needs %s, answers %d to %s", op.id, need, resp.StatusCode, role)
			} else if got {
				refused++
			}
		}
		if refused == 0 && role != person.Owner {
			t.Errorf("%s was refused nothing", role)
		}
	}
	if resp, body := b.call("PUT", "/api/v1/people/x", `{"person":"x","grants":[{"role":"owner"}]}`, "Authorization", "Bearer "+signIn(b, "a-engineer")); resp.StatusCode != 403 ||
		!strings.Contains(body, `needs the role owner; a-engineer is engineer`) {
		t.Errorf("an engineer who makes an owner is told %d %s", resp.StatusCode, body)
	}
}

func signIn(b *bench, name string) string {
	s, err := client.New(b.server.URL, "").SignIn(b.T.Context(), name, "long-enough-1")
	b.Must(err)
	return s.Token
}

// TestInvited goes from an invitation to a sign-in, and on to the end of it.
func TestInvited(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	saved, err := b.client.People().Put(ctx, client.Person{Name: "night-duty", Grants: []client.Grant{{Role: person.Operator}}}, "")
	if err != nil || !saved.Created || !saved.Value.Invited || saved.Value.JoinedAt == nil {
		t.Fatalf("%+v, %v", saved, err)
	}
	first, err := b.client.Invite(ctx, "night-duty")
	b.Must(err)
	i, err := b.client.Invite(ctx, "night-duty")
	b.Must(err)
	if i.Path != "/activate#"+i.Secret || len(i.Secret) < 30 || i.ExpiresAt.Sub(b.Clock.Now()) != people.InvitationLife {
		t.Errorf("the invitation is %+v", i)
	}
	stranger := client.New(b.server.URL, "")
	wrong := func(secret, password, says string) {
		t.Helper()
		if _, err := stranger.Activate(ctx, secret, password); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("the password %q gives %v, want %q", password, err, says)
		}
	}
	wrong(first.Secret, "a-long-night", "not known")
	wrong("", "a-long-night", "not known")
	wrong(i.Secret+"x", "a-long-night", "not known")
	wrong(i.Secret, "night", "at least 10")
	wrong(i.Secret, "password123", "many people use")
	if _, body := b.call("POST", "/api/v1/invitation", `{"secret":"`+i.Secret+`"}`); !strings.Contains(body, `"person":"night-duty"`) || strings.Contains(body, i.Secret) {
		t.Errorf("the invitation is shown as %s", body)
	}
	if who, err := stranger.Activate(ctx, i.Secret, "a-long-night"); err != nil || who.Person != "night-duty" {
		t.Fatalf("%+v, %v", who, err)
	}
	wrong(i.Secret, "a-long-night", "not known") // once
	if strings.Contains(b.log.String(), i.Secret) || strings.Contains(b.log.String(), "a-long-night") {
		t.Errorf("the log tells a secret: %s", b.log.String())
	}

	night := client.New(b.server.URL, "")
	in, err := night.SignIn(ctx, "night-duty", "a-long-night")
	b.Must(err)
	if me, err := night.Me(ctx); err != nil || me.Role != "operator" {
		t.Errorf("me is %+v, %v", me, err)
	}
	// What they may do changes at once, and a change of it is told by whom.
	b.Must(func() error {
		_, err := b.client.People().Put(ctx, client.Person{Name: "night-duty", Grants: []client.Grant{{Role: person.Viewer}}}, "")
		return err
	}())
	if me, err := night.Me(ctx); err != nil || me.Role != "viewer" {
		t.Errorf("me is %+v, %v", me, err)
	}
	told := strings.Join(b.Journal(fact.Kind("person changed")), "\n")
	if !strings.Contains(told, "engineer") || !strings.Contains(told, "grants: operator → viewer") {
		t.Errorf("the journal tells %q", told)
	}

	// Another password ends the sign-ins elsewhere, and not this one.
	other := client.New(b.server.URL, "")
	_, err = other.SignIn(ctx, "night-duty", "a-long-night")
	b.Must(err)
	if err := night.ChangePassword(ctx, "a-wrong-night", "another-night"); err == nil || !strings.Contains(err.Error(), "wrong") {
		t.Errorf("with a wrong old password it is %v", err)
	}
	b.Must(night.ChangePassword(ctx, "a-long-night", "another-night"))
	if _, err := other.Me(ctx); err == nil {
		t.Error("the other sign-in goes on")
	}
	mine, err := night.Sessions(ctx, "")
	if err != nil || len(mine) != 1 || !mine[0].This || mine[0].Person != "night-duty" {
		t.Errorf("the sessions are %+v, %v", mine, err)
	}
	if _, err := night.Sessions(ctx, "*"); err == nil || !strings.Contains(err.Error(), "owner") {
		t.Errorf("a viewer is told of everybody's sessions: %v", err)
	}
	everybody, err := b.client.Sessions(ctx, "*")
	if err != nil || len(everybody) != 2 {
		t.Errorf("everybody's sessions are %+v, %v", everybody, err)
	}
	for _, x := range everybody {
		if x.Person == "engineer" {
			if err := night.EndSession(ctx, x.ID); err == nil {
				t.Error("a viewer ends the session of an owner")
			}
		}
	}

	// Whoever is taken away is out at once, with what they have open.
	live, err := http.NewRequest("GET", b.server.URL+"/api/v1/live", nil)
	b.Must(err)
	live.Header.Set("Authorization", "Bearer "+in.Token)
	resp, err := http.DefaultClient.Do(live)
	b.Must(err)
	defer resp.Body.Close()
	b.Must(b.client.People().Remove(ctx, "night-duty", ""))
	ended := make(chan struct{})
	go func() {
		for buf := make([]byte, 4096); ; {
			if _, err := resp.Body.Read(buf); err != nil {
				close(ended)
				return
			}
		}
	}()
	select {
	case <-ended:
	case <-time.After(30 * time.Second):
		t.Error("the live stream of somebody who is gone goes on")
	}
	if _, err := night.Me(ctx); err == nil {
		t.Error("somebody who is gone is signed in")
	}
	b.Restart(true)
	if _, _, err := b.People.SignIn(ctx, "night-duty", "another-night", "", "console", "127.0.0.1"); err == nil {
		t.Error("somebody who is gone signs in after a restart")
	}
}

// TestLastOwner stays, also where two go at the same time.
func TestLastOwner(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	says := "the last owner"
	if err := b.client.People().Remove(ctx, "engineer", ""); err == nil || !strings.Contains(err.Error(), says) {
		t.Errorf("the last owner goes: %v", err)
	}
	if _, err := b.client.People().Put(ctx, client.Person{Name: "engineer", Grants: []client.Grant{{Role: person.Engineer}}}, ""); err == nil || !strings.Contains(err.Error(), says) {
		t.Errorf("the last owner is none any more: %v", err)
	}
	// Somebody who was only invited cannot let others in.
	_, err := b.client.People().Put(ctx, client.Person{Name: "cellar-master", Grants: []client.Grant{{Role: person.Owner}}}, "")
	b.Must(err)
	if err := b.client.People().Remove(ctx, "engineer", ""); err == nil || !strings.Contains(err.Error(), says) {
		t.Errorf("the last owner who can sign in goes: %v", err)
	}
	second := as(b, "second", person.Owner)
	results := make(chan error, 2)
	go func() { results <- b.client.People().Remove(ctx, "engineer", "") }()
	go func() { results <- second.People().Remove(ctx, "second", "") }()
	wrong := 0
	for range 2 {
		if err := <-results; err != nil {
			wrong++
		}
	}
	left := 0
	for _, p := range b.People.Everybody() {
		if p.Role == person.Owner && !p.Invited {
			left++
		}
	}
	if wrong != 1 || left != 1 {
		t.Errorf("of two owners who go at once %d were refused and %d are left", wrong, left)
	}
}
