package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ullage/test/browser"
	"ullage/test/service"
)

// within is how long a page may take that is opened for the first time, beside all
// else that the machine has to do.
const within = browser.Patience

// TestPeopleInTheConsole invites somebody, chooses a password with the link, and
// sees what a viewer is offered; then more is, at once, and nothing after the end.
func TestPeopleInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	const tank = "tank-fennimore-07"
	onboard(t, s, tank, "tank-probe")
	owner := open(t, s, "/")
	ok(t, owner.SignIn("engineer", service.Password))
	ok(t, owner.Go(s.Console+"/people"))
	ok(t, owner.WaitText("1 person"))
	ok(t, owner.ClickText("Invite somebody"))
	ok(t, owner.Type("#person-name", "night-duty"))
	ok(t, owner.ClickText("Make the link"))
	ok(t, owner.WaitText("Give this link to night-duty"))
	link, err := browser.Eval[string](owner, `document.querySelector("[role=dialog] code").innerText`)
	ok(t, err)
	if !strings.HasPrefix(link, s.Console+"/activate#") {
		t.Fatalf("the link is %q", link)
	}
	ok(t, owner.ClickText("Done"))
	ok(t, owner.Wait(`document.querySelector("tbody")?.innerText.includes("invited")`))

	// A window of its own: a browser keeps one sign-in.
	other, err := browser.Start()
	ok(t, err)
	defer other.Close()
	p, err := other.Open(link, 1280, 800)
	ok(t, err)
	defer p.Close()
	ok(t, p.WaitText("You are invited as night-duty"))
	if at, err := browser.Eval[string](p, `location.href`); err != nil || strings.Contains(at, "#") {
		t.Errorf("the address still holds the secret: %s, %v", at, err)
	}
	ok(t, p.Type("input[name=password]", "password123"))
	ok(t, p.Type("input[name=again]", "password123"))
	ok(t, p.Click("button[type=submit]"))
	ok(t, p.WaitText("one that many people use"))
	ok(t, p.Type("input[name=password]", "a-long-night"))
	ok(t, p.Type("input[name=again]", "a-long-night"))
	ok(t, p.Click("button[type=submit]"))
	ok(t, p.WaitText("1 device"))

	offered := func(text string) bool {
		t.Helper()
		yes, err := browser.Eval[bool](p, `[...document.querySelectorAll("button, a")].some((b) => b.innerText.trim() === `+quoted(text)+`)`)
		ok(t, err)
		return yes
	}
	ok(t, p.Go(s.Console+"/devices/"+tank))
	ok(t, p.WaitText("report_every"))
	for _, text := range []string{"Device…", "Change a setting", "Join", "Blink the lamp"} {
		if offered(text) {
			t.Errorf("a viewer is offered %q", text)
		}
	}
	ok(t, p.Go(s.Console+"/people"))
	ok(t, p.WaitText("This page is for the role owner"))

	ok(t, p.Go(s.Console+"/devices/"+tank))
	ok(t, p.WaitText("report_every"))
	cli(t, s, "person", "grant", "night-duty", "--role", "operator")
	ok(t, p.Wait(`[...document.querySelectorAll("button")].some((b) => b.innerText === "Change a setting")`))
	if offered("Device…") || !offered("Blink the lamp") {
		t.Error("an operator is not offered what operators do")
	}
	// With an access that does not reach the device it is gone from the page that shows
	// it, which says who could change that; with one that does it is back.
	cli(t, s, "person", "grant", "night-duty", "--role", "operator", "--access", `label.site == "Kilnside"`, "--yes")
	cli(t, s, "person", "withdraw", "night-duty", "--role", "operator")
	ok(t, p.WaitText("engineer can let you see more"))
	// The pages of a site and of a rule say it as well, and none offers what they may not do; what is
	// about all devices is not asked for.
	for _, path := range []string{"/sites/nowhere", "/rules/none", "/models/none"} {
		ok(t, p.Go(s.Console+path))
		ok(t, p.WaitText("engineer can let you see more"))
		if has, err := browser.Eval[bool](p, `document.body.innerText.includes("ullage site save")`); err != nil || has {
			t.Errorf("%s offers an operator of some devices to make it (%v)", path, err)
		}
	}
	ok(t, p.Go(s.Console+"/service"))
	ok(t, p.WaitText("You see some of them; engineer can let you see more"))
	if offered("Download a backup") {
		t.Error("an operator is offered a backup, which is for owners")
	}
	ok(t, p.Go(s.Console+"/devices/"+tank))
	ok(t, p.WaitText("engineer can let you see more"))
	ok(t, owner.Go(s.Console+"/people/night-duty"))
	ok(t, owner.WaitText("It reaches no device now"))
	ok(t, owner.ClickText("Change"))
	ok(t, owner.Type("[role=dialog] input[role=combobox]", `must_temp > 3`))
	ok(t, owner.WaitText("may not say what somebody reaches"))
	ok(t, owner.Type("[role=dialog] input[role=combobox]", `device.id == "`+tank+`"`))
	ok(t, owner.Wait(`document.querySelector("[role=dialog]").innerText.includes("It reaches the one device that there is")`))
	ok(t, owner.ClickText("Save"))
	ok(t, p.Wait(`[...document.querySelectorAll("button")].some((b) => b.innerText === "Change a setting")`))
	ok(t, p.ClickText("What you may do here"))
	ok(t, p.WaitText("device.id is "+tank))
	// What is not about their devices is on an open page soon all the same.
	ok(t, p.Go(s.Console+"/boards"))
	ok(t, p.WaitText("Boards"))
	board := filepath.Join(t.TempDir(), "night.yaml")
	ok(t, os.WriteFile(board, []byte("board: night\ntitle: What the night looks at\ninstruments: [{instrument: alarms, place: [0, 0, 12, 6]}]\n"), 0o600))
	cli(t, s, "board", "load", board)
	ok(t, p.WaitText("What the night looks at"))
	// Who operates some devices does not onboard; who is engineer for some onboards theirs.
	ok(t, p.Go(s.Console+"/join"))
	ok(t, p.WaitText("This page is for the role engineer"))
	cli(t, s, "person", "grant", "night-duty", "--role", "engineer", "--access", `label.site == "Fennimore"`, "--yes")
	ok(t, p.Go(s.Console+"/join?model=tank-probe"))
	ok(t, p.Wait(`document.querySelector("#join-model")?.value === "tank-probe"`))
	ok(t, p.Type("#join-id", "tank-kilnside-08"))
	ok(t, p.Type("input[aria-label='Value of label site']", "Kilnside"))
	ok(t, p.ClickText("Onboard it"))
	ok(t, p.WaitText("would not be within what night-duty may change"))
	ok(t, p.Type("#join-id", "tank-fennimore-08"))
	ok(t, p.Type("input[aria-label='Value of label site']", "Fennimore"))
	ok(t, p.ClickText("Onboard it"))
	ok(t, p.Wait(`[...document.querySelectorAll("h2")].some((h) => h.innerText.includes("tank-fennimore-08"))`))
	cli(t, s, "person", "withdraw", "night-duty", "--role", "engineer")
	ok(t, owner.Go(s.Console+"/keys"))
	ok(t, owner.WaitText("There are no keys"))
	ok(t, owner.ClickText("New key"))
	ok(t, owner.Type("#key-name", "nightly-report"))
	ok(t, owner.ClickText("Make the key"))
	ok(t, owner.Wait(`document.querySelector("[role=dialog] code")?.innerText.startsWith("ullage-key-")`))
	ok(t, owner.ClickText("Done"))
	ok(t, owner.Wait(`document.querySelector("tbody")?.innerText.includes("nightly-report")`))
	ok(t, owner.Go(s.Console+"/teams"))
	ok(t, owner.WaitText("There are no teams"))
	ok(t, owner.ClickText("New team"))
	ok(t, owner.Type("#team-name", "cellars"))
	ok(t, owner.Click("[role=dialog] input[type=checkbox]"))
	ok(t, owner.ClickText("Save"))
	ok(t, owner.Wait(`document.querySelector("tbody")?.innerText.includes("cellars")`))

	ok(t, p.Go(s.Console+"/you"))
	ok(t, p.WaitText("this one"))
	cli(t, s, "person", "remove", "night-duty", "--yes")
	ok(t, p.Wait(`document.querySelector("input[name=password][autocomplete=current-password]") && !document.querySelector("#you-old")`))
}

func quoted(s string) string { return "`" + s + "`" }
