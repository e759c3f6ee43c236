package test

import (
	"strings"
	"testing"

	"ullage/test/browser"
	"ullage/test/service"
)

// A start page: where somebody begins, and with only, all that there is; it says so
// when what it shows is old, and is live again by itself.
func TestStartPage(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s, err := service.Start(data)
	ok(t, err)
	t.Cleanup(func() { s.Stop() })
	cellars(t, s)
	onboard(t, s, "bung-high-orchard-21", "cask-bung")
	cli(t, s, "person", "invite", "cask-owner", "--role", "viewer")
	// Another link for somebody who exists changes nothing of what they may do.
	if _, errs, code := s.CLI("", "person", "invite", "cask-owner", "--role", "owner"); code == 0 || !strings.Contains(errs, "exists already") {
		t.Errorf("inviting somebody again with another role: %d %s", code, errs)
	}
	if x, _, err := s.Client.People().Get(t.Context(), "cask-owner"); err != nil || x.Role != "viewer" {
		t.Errorf("after that they are %s, %v", x.Role, err)
	}
	cli(t, s, "person", "invite", "cask-owner", "--role", "viewer")
	cli(t, s, "team", "save", "casks", "people=cask-owner")
	cli(t, s, "team", "start", "casks", "/query?metric=ullage&span=7d")
	i, err := s.Client.Invite(t.Context(), "cask-owner")
	ok(t, err)
	_, err = s.Client.Activate(t.Context(), i.Secret, "a-cask-of-oak")
	ok(t, err)
	at := func(p *browser.Page) string {
		t.Helper()
		where, err := browser.Eval[string](p, `location.pathname + location.search`)
		ok(t, err)
		return where
	}
	p := open(t, s, "/")
	ok(t, p.SignIn("cask-owner", "a-cask-of-oak"))
	ok(t, p.Wait(`location.pathname === "/query" && location.search.includes("metric=ullage")`))
	ok(t, p.Go(s.Console+"/models"))
	ok(t, p.WaitText("Models"))
	if got := at(p); got != "/models" {
		t.Errorf("another page is not reached: %s", got)
	}

	// Their own stands before that of the team, and is all there is.
	cli(t, s, "person", "start", "cask-owner", "/devices/bung-high-orchard-21?span=24h", "--only")
	ok(t, p.Go(s.Console+"/models"))
	ok(t, p.Wait(`location.pathname === "/devices/bung-high-orchard-21"`))
	ok(t, p.WaitText("bung-high-orchard-21"))
	nav, err := browser.Eval[bool](p, `document.querySelector("header nav, nav[aria-label=Pages]") !== null || document.body.innerText.includes("Go to…")`)
	ok(t, err)
	if nav {
		t.Error("there is a way to other pages")
	}
	port := host(t, s.Console)
	ok(t, s.Stop())
	ok(t, p.WaitText("Not live"))
	again, err := service.Start(data, "--listen", port)
	ok(t, err)
	t.Cleanup(func() { again.Stop() })
	ok(t, p.Wait(`!document.body.innerText.includes("Not live")`))
	if got := at(p); got != "/devices/bung-high-orchard-21?span=24h" {
		t.Errorf("after a restart of the service it shows %s", got)
	}

	for _, wrong := range []string{"https://elsewhere.example.org/", "//elsewhere.example.org/", "models", `/\elsewhere.example.org`} {
		if _, errs, code := again.CLI("", "person", "start", "cask-owner", wrong); code == 0 {
			t.Errorf("%s is a start page: %s", wrong, errs)
		}
	}
}
