package api_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/client"
	"ullage/core/person"
	"ullage/fleet/alarms"
	"ullage/fleet/noun"
)

// TestStreamsFollowAccess watches the live stream while labels and grants change.
func TestStreamsFollowAccess(t *testing.T) {
	t.Parallel()
	f := newForeign(t)
	f.token = f.let(person.Viewer)
	m := &mirror{}
	f.follow(t, m, "")
	has := func(want ...string) func() bool {
		return func() bool { return slices.Equal(m.names(), want) }
	}
	step := func(what string, f func() bool) {
		t.Helper()
		begun := time.Now()
		late := time.After(30 * time.Second)
		for !f() {
			select {
			case <-m.steps:
			case <-late:
				t.Fatalf("%s: the page has %v", what, m.names())
			}
		}
		if took := time.Since(begun); took > time.Second {
			t.Errorf("%s took %s, want it within a second", what, took)
		}
	}
	step("at the beginning", has(tank))
	ctx := t.Context()
	_, err := f.Devices.Label(ctx, "qqx-tank-1", map[string]string{"crew": "a"}, "engineer")
	f.Must(err)
	step("another device got the label", has("qqx-tank-1", tank))
	_, err = f.Devices.Label(ctx, "qqx-tank-1", map[string]string{"crew": "b"}, "engineer")
	f.Must(err)
	step("it lost the label", has(tank))
	f.Keep("qqx-tank-1", `{"must_temp": 17.125}`)
	f.Keep(tank, `{"must_temp": 25.5}`)
	put := func(grants ...person.Grant) {
		t.Helper()
		_, err := f.People.Put(ctx, person.Person{Name: "a-viewer", Grants: grants}, noun.If{}, "engineer")
		f.Must(err)
	}
	put(person.Grant{Role: person.Viewer, Access: `label.crew == "b"`})
	step("another grant", has("qqx-tank-1"))
	_, err = f.People.Teams.Put(ctx, person.Team{Name: "cellars", People: []string{"a-viewer"}, Grants: person.Grants{{Role: person.Viewer, Access: `label.crew == "a"`}}}, noun.If{}, "engineer")
	f.Must(err)
	step("a team's grant beside it", has("qqx-tank-1", tank))
	f.Must(f.People.Teams.Remove(ctx, "cellars", noun.If{}, "engineer"))
	step("without the team", has("qqx-tank-1"))
	// A hub that they see, and then do not, is named at the device behind it, and then not.
	mine, hub := person.Grant{Role: person.Viewer, Access: `label.crew == "a"`}, person.Grant{Role: person.Viewer, Access: `device.id == "qqx-hub"`}
	behind := func(want any) func() bool {
		return func() bool {
			m.mu.Lock()
			defer m.mu.Unlock()
			d, _ := m.devices[tank].(map[string]any)
			return d != nil && d["hub"] == want
		}
	}
	put(mine)
	step("a device behind a hub", behind(nil))
	put(mine, hub)
	step("its hub", behind("qqx-hub"))
	put(mine)
	step("not its hub any more", behind(nil))
	// Whoever sees all of them now, or not any more, is told so and begins anew: behind the
	// cursor of a stream of some devices comes the whole.
	all := []string{"qqx-hub", "qqx-tank-1", "qqx-valve-1", tank}
	for range 2 {
		for _, grant := range []person.Grant{{Role: person.Viewer}, mine} {
			heard := m.heard("happened")
			put(grant)
			select {
			case <-m.done:
			case <-time.After(30 * time.Second):
				t.Fatalf("with %v the stream goes on, and the page has %v", grant, m.names())
			}
			if m.heard("happened") == heard {
				t.Error("the stream ended and did not say that the access changed")
			}
			f.follow(t, m, "after=2")
			if grant.Access == "" {
				step("all of them", has(all...))
			} else {
				step("some of them", has(tank))
			}
		}
	}
	put()
	select {
	case <-m.done:
	case <-time.After(30 * time.Second):
		t.Error("the stream of somebody without grants goes on")
	}
	f.token = signIn(f.bench, "engineer") // for what ends the test
}

// A key does what its role and access allow, shows its secret once, and ends what is
// open with it when it is removed.
func TestKeys(t *testing.T) {
	f := newForeign(t)
	ctx := t.Context()
	owner := client.New(f.server.URL, f.token)
	_, err := owner.SignIn(ctx, "engineer", "long-enough-1")
	f.Must(err)
	soon := f.Clock.Now().Add(time.Hour)
	made, err := owner.MakeKey(ctx, client.Key{Name: "press-hall", Grant: person.Grant{Role: person.Operator, Access: `label.crew == "a"`}, ExpiresAt: &soon})
	f.Must(err)
	program := client.New(f.server.URL, made.Secret)
	ds, err := program.Devices(ctx)
	if err != nil || len(ds) != 1 || ds[0].ID != tank {
		t.Errorf("the key sees %v, %v", ds, err)
	}
	if _, err := program.ChangeSettings(ctx, tank, client.SettingsChange{Set: map[string]any{"max_temp": 27.0}}); err != nil {
		t.Error(err)
	}
	told, err := owner.Journal(ctx, client.JournalFilter{Person: "key press-hall"})
	if err != nil || len(told.Items) == 0 || told.Items[0].From != "127.0.0.1" {
		t.Errorf("the journal tells of the key %+v, %v", told.Items, err)
	}
	if _, err := program.People().List(ctx, client.ListOptions{}); err == nil || !strings.Contains(err.Error(), "needs the role owner") {
		t.Errorf("the key lists people: %v", err)
	}
	k, _, err := owner.Keys().Get(ctx, "press-hall")
	if err != nil || k.UsedAt == nil || k.UsedFrom != "127.0.0.1" || k.MadeBy != "engineer" {
		t.Errorf("the key is %+v, %v", k, err)
	}
	if b, _ := json.Marshal(k); strings.Contains(string(b), made.Secret) || strings.Contains(f.log.String(), made.Secret) {
		t.Error("the secret is shown again")
	}
	if _, err := owner.MakeKey(ctx, client.Key{Name: "press-hall", Grant: person.Grant{Role: person.Viewer}}); err == nil || !strings.Contains(err.Error(), "already") {
		t.Errorf("a second key of a name: %v", err)
	}
	if _, err := owner.MakeKey(ctx, client.Key{Name: "all", Grant: person.Grant{Role: person.Owner}}); err == nil || !strings.Contains(err.Error(), "cannot be an owner") {
		t.Errorf("a key that is an owner: %v", err)
	}
	f.token = made.Secret
	m := &mirror{}
	f.follow(t, m, "")
	<-m.steps
	f.Restart(false)
	f.Must(f.People.RemoveKey(ctx, "press-hall", noun.If{}, "engineer"))
	if _, err := f.People.Who(made.Secret, ""); err == nil {
		t.Error("a removed key is known")
	}
	m.stop()
}

// Who has some devices changes no label by which they would lose or gain one, and
// makes nothing that concerns others.
func TestLimitedEngineers(t *testing.T) {
	f := newForeign(t)
	token := f.let(person.Engineer)
	for _, c := range []struct {
		method, path, body string
		want               int
		says               string
	}{
		{"POST", "/api/v1/devices/" + tank + "/labels", `{"labels":{"row":"3"}}`, 200, ""},
		{"POST", "/api/v1/devices/" + tank + "/labels", `{"labels":{"crew":"b"}}`, 403, "would not be within"},
		{"POST", "/api/v1/devices/" + tank + "/labels", `{"labels":{"crew":""}}`, 403, "would not be within"},
		{"POST", "/api/v1/devices/qqx-tank-1/labels", `{"labels":{"crew":"a"}}`, 404, "there is no device"},
		{"POST", "/api/v1/devices", `{"id":"tank-fennimore-08","model":"tank-probe"}`, 403, "would not be within"},
		{"POST", "/api/v1/devices", `{"id":"tank-fennimore-08","model":"tank-probe","labels":{"crew":"a"},"hub":"qqx-valve-1"}`, 422, "there is no device"},
		{"POST", "/api/v1/devices", `{"id":"qqx-tank-1","model":"tank-probe","labels":{"crew":"a"}}`, 409, "is not free"},
		{"POST", "/api/v1/devices", `{"id":"tank-fennimore-08","model":"tank-probe","labels":{"crew":"a"}}`, 200, `"id":"tank-fennimore-08"`},
		{"PUT", "/api/v1/sites/Kilnside", `{"site":"Kilnside"}`, 403, "for some of them"},
		{"DELETE", "/api/v1/rules/too_warm", ``, 403, "whose names begin with a_engineer_"},
		{"PUT", "/api/v1/rules/qqx_rule", `{"rule":"qqx_rule","models":["tank-probe"],"raise":"must_temp > 10","priority":"low","message":"x"}`, 403, "whose names begin with a_engineer_"},
		{"PUT", "/api/v1/rules/a_engineer_x", `{"rule":"a_engineer_x","models":["qqx-valve"],"raise":"qqx_flow > 10","priority":"low","message":"x"}`, 404, "there is no model"},
		{"PUT", "/api/v1/rules/a_engineer_x", `{"rule":"a_engineer_x","models":["tank-probe"],"raise":"raised(qqx_rule)","priority":"low","message":"x"}`, 422, "there is no rule qqx_rule"},
		{"PUT", "/api/v1/rules/a_engineer_hot", `{"rule":"a_engineer_hot","models":["tank-probe"],"raise":"must_temp > 20","priority":"low","message":"{device.id} is hot","access":"true"}`, 201, `"access":"label.crew == \"a\""`},
		{"GET", "/api/v1/store", ``, 403, "for some of them"},
		{"PATCH", "/api/v1/devices/" + tank, `{"hub":"qqx-valve-1"}`, 422, "there is no device"},
		{"POST", "/api/v1/settings", `{"where":"must_temp > 3","set":{"max_temp":27.5}}`, 200, `"devices":1`},
		{"POST", "/api/v1/settings", `{"devices":["qqx-tank-1"],"set":{"max_temp":27.5}}`, 404, "there is no device"},
		{"DELETE", "/api/v1/devices/" + tank + "/readings?dry_run=true&all=true", ``, 200, `"readings":1`},
	} {
		resp, body := f.call(c.method, c.path, c.body, "Authorization", "Bearer "+token)
		if resp.StatusCode != c.want || !strings.Contains(body, c.says) {
			t.Errorf("%s %s %s: %d %s\nwant %d with %q", c.method, c.path, c.body, resp.StatusCode, body, c.want, c.says)
		}
	}
	// Their rule is about what they reach, also with a group, and follows when that
	// changes; another's device raises nothing by it.
	f.Keep("qqx-tank-1", `{"must_temp": 31.5}`)
	f.Keep(tank, `{"must_temp": 24.75}`)
	f.Settle()
	hot := func() (out []string) {
		for _, a := range f.OpenAlarms() {
			if a.Rule == "a_engineer_hot" && a.State.Holds() {
				out = append(out, a.Device)
			}
		}
		slices.Sort(out)
		return out
	}
	if got := hot(); !slices.Equal(got, []string{tank}) {
		t.Errorf("their rule has raised alarms of %v, want %s", got, tank)
	}
	follow := func(access, want string, devices ...string) {
		t.Helper()
		_, err := f.People.Put(t.Context(), person.Person{Name: "a-engineer", Grants: person.Grants{{Role: person.Engineer, Access: access}}}, noun.If{}, "engineer")
		f.Must(err)
		for end := time.Now().Add(30 * time.Second); ; time.Sleep(10 * time.Millisecond) {
			r, err := f.Rig.Alarms.Rule("a_engineer_hot")
			f.Must(err)
			if f.Settle(); r.Access == want && slices.Equal(hot(), devices) {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("with %s the rule is for %s, and raised for %v; want %s for %v", access, r.Access, hot(), want, devices)
			}
			f.Keep("qqx-tank-1", `{"must_temp": 31.5}`)
			f.Keep(tank, `{"must_temp": 24.75}`)
		}
	}
	follow(`device.model == "tank-probe"`, `device.model == "tank-probe"`, "qqx-tank-1", tank)
	follow(`device.id == "qqx-tank-1"`, `device.id == "qqx-tank-1"`, "qqx-tank-1")
	follow("", "", "qqx-tank-1", tank)
	follow(`label.crew == "a"`, "", "qqx-tank-1", tank) // it was everybody's by then
	list, err := f.Rig.Alarms.List(t.Context(), alarms.Filter{Rule: "all_warm"})
	f.Must(err)
	if len(list) == 0 {
		t.Fatal("there is no alarm of the group")
	}
	if resp, body := f.call("POST", "/api/v1/alarms/"+list[0].ID+"/acknowledge", "", "Authorization", "Bearer "+token); resp.StatusCode != 403 {
		t.Errorf("a group of which they have a part is acknowledged: %d %s", resp.StatusCode, body)
	}
}
