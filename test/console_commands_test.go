package test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ullage/client"
	"ullage/test/service"
)

// A command for many devices is given from the list: who gets it is shown first, two have it
// at a time, what they reply comes up by itself, and the rest is withdrawn.
func TestACommandForMany(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	tokens := map[string]string{}
	for _, id := range []string{"tank-fennimore-01", "tank-fennimore-02", "tank-fennimore-03", "tank-fennimore-04"} {
		o, err := s.Client.CreateDevice(t.Context(), client.NewDevice{ID: id, Model: "tank-probe", Labels: map[string]string{"site": "Fennimore"}})
		ok(t, err)
		tokens[id] = o.Token
	}
	airs(t, s, "air-fennimore-1")
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/?view=list"))
	ok(t, p.WaitText("tank-fennimore-04"))
	ok(t, p.ClickText("Give a command…"))
	ok(t, p.Wait(`(() => { const l = document.querySelector("[role=dialog] select");
		const i = l ? [...l.options].findIndex((o) => o.text.includes("tank-probe") && o.text.toLowerCase().includes("zero")) : -1;
		if (i < 0) return false;
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(l, String(i));
		l.dispatchEvent(new Event("change", { bubbles: true })); return true })()`))
	ok(t, p.Type("#input-reference_cm", "30"))
	ok(t, p.Type("[role=dialog] input[inputmode=numeric]:not(#input-reference_cm)", "2"))
	ok(t, p.ClickText("See who gets it"))
	ok(t, p.WaitText("1 device left out: cellar-air"))
	quiet(t, p, "giving a command to many")
	ok(t, p.ClickText("Give it to 4 devices"))
	ok(t, p.Wait(`location.pathname.startsWith("/commands/")`))
	ok(t, p.WaitText("2 waiting"))
	ok(t, p.WaitText("2 come after these"))

	// One of the two replies over HTTP, and the third has its turn.
	js, err := s.Client.CommandJobs(t.Context())
	ok(t, err)
	cs, err := s.Client.Commands(t.Context(), client.CommandFilter{Job: js[0].ID, Open: true})
	ok(t, err)
	first := cs.Items[len(cs.Items)-1].Device
	out, err := shell(t, fmt.Sprintf(`curl -sS -H 'Authorization: Bearer %s' http://%s/device/v1/commands`, tokens[first], s.HTTP))
	ok(t, err)
	var got []struct{ ID, Name string }
	ok(t, json.Unmarshal([]byte(out), &got))
	if len(got) != 1 || got[0].Name != "zero_level" {
		t.Fatalf("%s is given %s", first, out)
	}
	_, err = shell(t, fmt.Sprintf(`curl -sS -H 'Authorization: Bearer %s' -d '{"id":"%s","output":{"offset_cm":-0.7}}' http://%s/device/v1/replies`, tokens[first], got[0].ID, s.HTTP))
	ok(t, err)
	ok(t, p.WaitText("1 done"))
	ok(t, p.WaitText("1 come after these"))
	ok(t, p.WaitText("−0.7"))
	quiet(t, p, "a command for many")
	if out := cli(t, s, "command", "results", js[0].ID, "-o", "csv"); strings.Count(out, "\n") != 4 || !strings.Contains(out, "-0.7") {
		t.Errorf("as CSV it is\n%s", out)
	}
	ok(t, p.ClickText("Withdraw…"))
	ok(t, p.ClickText("Withdraw it for 3 devices"))
	ok(t, p.WaitText("2 withdrawn"))
	ok(t, p.WaitText("withdrawn by engineer"))
	j, err := s.Client.CommandJob(t.Context(), js[0].ID, 0)
	ok(t, err)
	if j.EndedAt == nil || j.Given != 3 || j.Counts["done"] != 1 {
		t.Errorf("in the end it is %+v", j)
	}

	// A list that has become another one meanwhile is not what was agreed to.
	would, err := s.Client.GiveMany(t.Context(), client.ManyCommands{Where: `label.site == "Fennimore"`, NewCommand: client.NewCommand{Name: "identify"}, Preview: true})
	ok(t, err)
	if would.Devices != 4 || !slices.Contains(would.Some, first) {
		t.Errorf("identify would go to %+v", would)
	}
	cli(t, s, "device", "suspend", first)
	_, err = s.Client.GiveMany(t.Context(), client.ManyCommands{Where: `label.site == "Fennimore"`, NewCommand: client.NewCommand{Name: "identify"}, Tag: would.Tag})
	if err == nil || !strings.Contains(err.Error(), "others by now") {
		t.Errorf("with an old tag: %v", err)
	}
}
