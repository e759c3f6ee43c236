package test

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os/exec"
	"strings"
	"testing"

	"ullage/test/browser"
	"ullage/test/service"
)

// rows waits until a table has so many rows.
func rows(n int) string { return fmt.Sprintf(`document.querySelectorAll("tbody tr").length === %d`, n) }

// param waits until a parameter of the address has a value.
func param(name, value string) string {
	return fmt.Sprintf(`new URLSearchParams(location.search).get(%q) === %q`, name, value)
}

// quiet fails the test if the page has complained.
func quiet(t *testing.T, p *browser.Page, what string) {
	t.Helper()
	if es := p.Errors(); len(es) > 0 {
		t.Errorf("%s: the page complains of %q", what, es)
	}
	p.Forget()
}

// TestSitesRulesAndJournal works on what people make, by mouse and by keyboard.
func TestSitesRulesAndJournal(t *testing.T) {
	t.Parallel()
	s := fleet(t)
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))

	t.Run("the list of sites", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/sites"))
		ok(t, p.Wait(rows(6)))
		ok(t, p.WaitText("6 sites"))
		ok(t, p.ClickText("Devices"))
		ok(t, p.Wait(param("sort", "devices")))
		ok(t, p.Wait(`[...document.querySelectorAll("thead button")].some((b) => b.innerText.trim() === "Devices ↑")`))
		ok(t, p.ClickText("Devices ↑"))
		ok(t, p.Wait(`document.querySelector("tbody tr td").innerText === "Fennimore"`))
		ok(t, p.Type("input[role=combobox]", `zone == "UTC"`))
		ok(t, p.Wait(rows(1)))
		ok(t, p.Wait(param("where", `zone == "UTC"`)))
		ok(t, p.Go(s.Console+"/sites?where="+url.QueryEscape(`zone == "Asia/Tokyo"`)))
		ok(t, p.WaitText("No site is like that"))
		ok(t, p.ClickText("Show all of them"))
		ok(t, p.Wait(rows(6)))
		quiet(t, p, "the list")
	})

	t.Run("from the keyboard, there and back", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/sites"))
		ok(t, p.Wait(rows(6)))
		_, err := browser.Eval[any](p, `document.querySelector("tbody a").focus()`)
		ok(t, err)
		ok(t, p.Keys("ArrowDown", "ArrowDown"))
		ok(t, p.Wait(`document.activeElement.innerText === "Fennimore"`))
		ok(t, p.Keys("Enter"))
		ok(t, p.Wait(`location.pathname === "/sites/Fennimore" && document.querySelector("main img")?.naturalWidth > 0`))
		ok(t, p.WaitText("12 devices"))
		_, err = browser.Eval[any](p, `history.back()`)
		ok(t, err)
		ok(t, p.Wait(rows(6)))
		ok(t, p.Wait(`document.activeElement.innerText === "Fennimore"`))
		quiet(t, p, "there and back")
	})

	t.Run("who to call, and a device is put on the plan from the keyboard", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/sites/Fennimore"))
		ok(t, p.WaitText("+49 30 23125 014"))
		ok(t, p.Wait(`document.querySelectorAll("[aria-label=Devices] svg[aria-label*='on line for']").length === 12`))
		ok(t, p.ClickText("Place devices"))
		_, err := browser.Eval[any](p, `document.querySelector("[role=button][title=hub-fennimore]").focus()`)
		ok(t, err)
		ok(t, p.Keys("ArrowRight", "ArrowRight", "ArrowUp"))
		ok(t, p.ClickText("Save places"))
		ok(t, p.WaitText("The places on the plan of Fennimore are saved"))
		ok(t, p.Wait(`[...document.querySelectorAll("[title=hub-fennimore]")].some((e) => e.style.left === "62%" && e.style.top === "83%")`))
		if out := cli(t, s, "site", "show", "Fennimore", "-o", "json"); !strings.Contains(strings.Join(strings.Fields(out), ""), `"hub-fennimore":[62,83]`) {
			t.Errorf("the site is kept as %s", out)
		}
		ok(t, p.ClickText("Change"))
		ok(t, p.Wait(`document.querySelector("#site-call")`))
		ok(t, p.Type("#site-call", "press-duty, +49 30 23125 011, by day"))
		ok(t, p.ClickText("Save"))
		ok(t, p.WaitText("press-duty"))
		if out := cli(t, s, "site", "show", "Fennimore", "-o", "yaml"); !strings.Contains(out, "hub-fennimore:") || !strings.Contains(out, "who: press-duty") || !strings.Contains(out, "when: by day") {
			t.Errorf("the site is kept as %s", out)
		}
		quiet(t, p, "the page of a site")
		ok(t, p.Go(s.Console+"/sites"))
		ok(t, p.Wait(rows(6)))
	})

	t.Run("a site is made, changed, removed and put back", func(t *testing.T) {
		ok(t, p.ClickText("New site"))
		ok(t, p.Wait(`document.querySelector("#site-site")`))
		ok(t, p.Type("#site-site", "Weir House"))
		ok(t, p.Type("#site-zone", "Mars/Olympus"))
		ok(t, p.Type("#site-north", "47,5"))
		ok(t, p.Keys("Enter"))
		ok(t, p.WaitText("is no time zone that is known")) // and what was typed stays
		ok(t, p.Type("#site-zone", "Europe/Berlin"))
		ok(t, p.Keys("Enter"))
		ok(t, p.WaitText("write both or none"))
		ok(t, p.Type("#site-east", "8.25"))
		ok(t, p.Keys("Enter"))
		ok(t, p.Wait(`location.pathname === "/sites/Weir%20House"`))
		ok(t, p.WaitText("47.500° N, 8.250° E"))
		p.Forget() // the refusals
		ok(t, p.ClickText("Change"))
		ok(t, p.Wait(`document.querySelector("#site-note")`))
		ok(t, p.Type("#site-note", "mind the step"))
		ok(t, p.ClickText("Save"))
		ok(t, p.WaitText("mind the step"))
		ok(t, p.ClickText("Remove"))
		ok(t, p.WaitText("Remove Weir House?"))
		ok(t, p.ClickText("Remove it"))
		ok(t, p.Wait(`location.pathname === "/sites"`))
		ok(t, p.Wait(rows(6)))
		ok(t, p.ClickText("Undo"))
		ok(t, p.Wait(rows(7)))
		if out := cli(t, s, "site", "show", "Weir House"); !strings.Contains(out, "mind the step") {
			t.Errorf("put back it is %s", out)
		}
		cli(t, s, "site", "remove", "Weir House", "--yes")
		ok(t, p.Wait(rows(6))) // the page is told
		quiet(t, p, "a site")
	})

	t.Run("rules are switched", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/rules"))
		ok(t, p.Wait(rows(11)))
		const knob = `[role=switch][aria-label="must_too_warm is in force"]`
		ok(t, p.Click(knob))
		ok(t, p.Wait(`document.querySelector('`+knob+`').getAttribute("aria-checked") === "false"`))
		if out := cli(t, s, "rule", "show", "must_too_warm"); !strings.Contains(out, "disabled: true") {
			t.Errorf("switched off it is %s", out)
		}
		ok(t, p.ClickText("Undo"))
		ok(t, p.Wait(`document.querySelector('`+knob+`').getAttribute("aria-checked") === "true"`))
		quiet(t, p, "the rules")
	})

	t.Run("a rule is changed, with its mistakes in their places", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/rules/must_too_warm?as=text"))
		ok(t, p.Wait(`document.querySelector(".cm-content")?.innerText.includes("must_temp")`))
		edit(t, p, "must_temp >", "must_tmp >")
		ok(t, p.WaitText("did you mean must_temp?"))
		ok(t, p.Wait(`document.querySelector(".cm-lintRange-error")?.innerText === "must_tmp"`))
		edit(t, p, "must_tmp >", "must_temp + 1 >")
		ok(t, p.WaitText("right; not saved yet"))
		ok(t, p.ClickText("Put in force"))
		ok(t, p.WaitText("must_too_warm is in force"))
		if out := cli(t, s, "rule", "show", "must_too_warm"); !strings.Contains(out, "must_temp + 1 > set.max_temp") {
			t.Errorf("in force is %s", out)
		}
		// Somebody else changes it under an open page: nothing is overwritten.
		edit(t, p, "must_temp + 1 >", "must_temp + 2 >")
		ok(t, p.WaitText("right; not saved yet"))
		quiet(t, p, "the editor")
		cli(t, s, "rule", "save", "must_too_warm", "deadband=3")
		ok(t, p.WaitText("changed by somebody else while you were writing"))
		writing := func(what string) {
			t.Helper()
			ok(t, p.Wait(fmt.Sprintf(`document.querySelector(".cm-content").innerText.includes(%q)`, what)))
		}
		writing("must_temp + 2")
		ok(t, p.ClickText("Put in force"))
		ok(t, p.WaitText("changed by somebody else since it was read"))
		p.Forget() // the refusal
		writing("must_temp + 2")
		ok(t, p.ClickText("Take theirs"))
		writing("deadband: 3")
		writing("must_temp + 1")
		// Who goes on with their own text saves over what is now in force.
		edit(t, p, "must_temp + 1 >", "must_temp + 3 >")
		cli(t, s, "rule", "save", "must_too_warm", "deadband=2")
		ok(t, p.WaitText("changed by somebody else while you were writing"))
		ok(t, p.ClickText("Go on with mine"))
		ok(t, p.WaitText("right; not saved yet"))
		ok(t, p.ClickText("Put in force"))
		ok(t, p.Wait(`document.querySelector("main [role=status]").innerText === "in force"`))
		if out := cli(t, s, "rule", "show", "must_too_warm"); !strings.Contains(out, "must_temp + 3") ||
			!strings.Contains(out, "deadband: 3") {
			t.Errorf("in force is %s", out)
		}
		// What nobody is writing in follows; what is removed under a text can be made again.
		cli(t, s, "rule", "save", "must_too_warm", "deadband=1.5")
		writing("deadband: 1.5")
		edit(t, p, "must_temp + 3 >", "must_temp >")
		cli(t, s, "rule", "remove", "must_too_warm", "--yes")
		ok(t, p.WaitText("removed by somebody else"))
		p.Forget() // that it is not there
		ok(t, p.WaitText("right; not saved yet"))
		ok(t, p.ClickText("Put in force"))
		ok(t, p.Wait(`document.querySelector("main [role=status]").innerText === "in force"`))
		if out := cli(t, s, "rule", "show", "must_too_warm"); !strings.Contains(out, "raise: must_temp > set.max_temp") {
			t.Errorf("made again it is %s", out)
		}
		quiet(t, p, "a rule")
	})

	t.Run("the journal of the fleet", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/journal?kind=site+changed"))
		ok(t, p.WaitText("engineer removed the site Weir House"))
		ok(t, p.WaitText("engineer saved the site Weir House; note: nothing → mind the step"))
		ok(t, p.Go(s.Console+"/journal?where="+url.QueryEscape(`label.site == "Kilnside"`)))
		ok(t, p.WaitText("press-kilnside-1"))
		if text, err := browser.Eval[string](p, `document.querySelector("main ol").innerText`); err != nil || strings.Contains(text, "fennimore") {
			t.Errorf("the journal of Kilnside tells of Fennimore, %v", err)
		}
		quiet(t, p, "the journal")
	})

	t.Run("a document is found and leads to another", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/rules"))
		ok(t, p.Wait(rows(11)))
		ok(t, p.Insert("/document alarm rules")) // typed on before the palette is there
		ok(t, p.Wait(`document.querySelector("[cmdk-input]")?.value === "document alarm rules"`))
		ok(t, p.Wait(`document.querySelector("[cmdk-item][aria-selected=true]")?.innerText.includes("Alarm rules")`))
		ok(t, p.Keys("Enter"))
		ok(t, p.Wait(`location.pathname === "/documents/rules" && document.querySelector("article h1")?.innerText === "Alarm rules"`))
		ok(t, p.ClickText("expressions"))
		ok(t, p.Wait(`location.pathname === "/documents/expressions"`))
		quiet(t, p, "the documents")
	})

	t.Run("a page that fails comes back by itself", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/sites"))
		ok(t, p.Wait(rows(6)))
		_, err := browser.Eval[any](p,
			`(() => { const p = Intl.DateTimeFormat.prototype; window.kept = Object.getOwnPropertyDescriptor(p, "format"); Object.defineProperty(p, "format", { configurable: true, get() { throw new Error("broken for the test"); } }); })()`)
		ok(t, err)
		ok(t, p.ClickText("engineer"))
		_, err = browser.Eval[any](p,
			`(history.pushState({}, "", "/journal"), dispatchEvent(new PopStateEvent("popstate")))`)
		ok(t, err)
		ok(t, p.WaitText("This page has failed"))
		_, err = browser.Eval[any](p, `(() => { Object.defineProperty(Intl.DateTimeFormat.prototype, "format", window.kept); })()`)
		ok(t, err)
		ok(t, p.Wait(`document.querySelectorAll("main ol li").length > 3`))
		p.Forget()
	})
}

// edit replaces a text in the editor of the page.
func edit(t *testing.T, p *browser.Page, from, to string) {
	t.Helper()
	a, err := json.Marshal([2]string{from, to})
	ok(t, err)
	changed, err := browser.Eval[bool](p, fmt.Sprintf(`(() => {
		const [from, to] = %s;
		const content = document.querySelector(".cm-content");
		const view = (content.cmTile ?? content.cmView)?.view ?? content.cmView?.rootView?.view;
		const at = view.state.doc.toString().indexOf(from);
		if (at >= 0) view.dispatch({ changes: { from: at, to: at + from.length, insert: to } });
		return at >= 0;
	})()`, a))
	if err != nil || !changed {
		t.Fatalf("%q is not in the text, %v", from, err)
	}
}

// TestOnboardingInTheConsole onboards a device, hears it, names it, and takes it
// out of service, without leaving the console.
func TestOnboardingInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	cli(t, s, "device", "create", "hub-fennimore", "--model", "cellar-hub")
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.ClickText("Join"))
	ok(t, p.Wait(`document.querySelectorAll("#join-model option").length === 7`))
	ok(t, p.Type("#join-id", "Tank 8"))
	ok(t, p.WaitText("small letters, digits and hyphens, at most 63"))
	ok(t, p.Type("#join-id", "hub-fennimore"))
	ok(t, p.WaitText("there is a device of that id already"))
	ok(t, p.Type("#join-id", "tank-fennimore-08"))
	_, err := browser.Eval[any](p, `(() => { const s = document.querySelector("#join-model");
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "tank-probe"); s.dispatchEvent(new Event("change", { bubbles: true })); })()`)
	ok(t, err)
	ok(t, p.Type("#join-name", "Der achte Tank 第八"))
	ok(t, p.Type(`[aria-label="Value of label site"]`, "Fennimore"))
	ok(t, p.Type("#join-hub", "hub-nowhere"))
	ok(t, p.ClickText("Onboard it"))
	ok(t, p.WaitText("could be the hub of tank-fennimore-08"))
	p.Forget()
	ok(t, p.Type("#join-hub", "hub-fennimore"))
	ok(t, p.ClickText("Onboard it"))
	ok(t, p.WaitText("it has not been heard yet"))
	step := func(name, state string) string {
		return fmt.Sprintf(`document.querySelector("[data-step='%s']")?.dataset.state === %q`, name, state)
	}
	ok(t, p.Wait(step("reached us", "waiting")))
	// The bundle is in the answer that the page has; it is a zip file.
	if zipped, err := browser.Eval[bool](p, `(() => { let got = ""; const made = URL.createObjectURL; URL.createObjectURL = (b) => { got = b.type; return made(b); };
		[...document.querySelectorAll("button")].find((b) => b.innerText === "Download the bundle").click(); return got === "application/zip"; })()`); err != nil || !zipped {
		t.Errorf("the bundle is not given as a zip file, %v", err)
	}
	ok(t, p.ClickText("HTTP, plain"))
	command, err := browser.Eval[string](p,
		`[...document.querySelectorAll("code")].map((c) => c.innerText).find((c) => c.startsWith("curl"))`)
	ok(t, err)
	token, err := browser.Eval[string](p, `[...document.querySelectorAll("code")].map((c) => c.innerText).find((c) => /^[0-9a-f]{8}\./.test(c))`)
	ok(t, err)
	if strings.Contains(command, token) {
		t.Errorf("the command would leave the token in the history of the shell: %s", command)
	}
	command = "TOKEN=" + token + "\n" + command
	if out, err := exec.Command("sh", "-c", command).CombinedOutput(); err != nil || !strings.Contains(string(out), "kept") {
		t.Fatalf("%s gives %s, %v", command, out, err)
	}
	ok(t, p.WaitText("it has been heard"))
	for _, name := range []string{"reached us", "encrypted", "known", "first message", "first valid reading"} {
		ok(t, p.Wait(step(name, "done")))
	}
	ok(t, p.Wait(step("settings confirmed", "waiting")))
	ok(t, p.ClickText("it has been heard; look at it"))
	ok(t, p.Wait(`document.querySelector("h1")?.innerText.startsWith("Der achte Tank 第八 tank-fennimore-08")`))
	ok(t, p.Wait(`document.querySelector('main a[href="/devices/hub-fennimore"]')`))

	menu := func(entry string) {
		t.Helper()
		// By the keyboard: what comes live may move a button away from under a mouse.
		ok(t, p.Wait(`(() => { const x = document.querySelector("button[aria-haspopup=menu]:not(header *)"); x?.focus(); return Boolean(x) && document.activeElement === x })()`))
		ok(t, p.Keys("Enter"))
		ok(t, p.Wait(`document.querySelector("[role=menu]")`))
		ok(t, p.ClickText(entry))
	}
	t.Run("named otherwise, and back", func(t *testing.T) {
		menu("Name, labels and hub")
		ok(t, p.Wait(`document.querySelector("#device-name")`))
		ok(t, p.Type("#device-name", "North tank"))
		ok(t, p.ClickText("One more label"))
		ok(t, p.Type(`[aria-label="Key of label 2"]`, "row"))
		ok(t, p.Type(`[aria-label="Value of label row"]`, "B"))
		ok(t, p.ClickText("Save"))
		ok(t, p.Wait(`document.querySelector("h1").innerText.includes("North tank") && document.querySelector("h1").innerText.includes("row B")`))
		ok(t, p.ClickText("Undo"))
		ok(t, p.Wait(`document.querySelector("h1").innerText.includes("第八") && !document.querySelector("h1").innerText.includes("row B")`))
		quiet(t, p, "naming it")
	})
	t.Run("found by its name", func(t *testing.T) {
		ok(t, p.Insert("/"))
		ok(t, p.Wait(`document.querySelector("[cmdk-input]")`))
		ok(t, p.Insert("achte"))
		ok(t, p.Wait(`document.querySelector("[cmdk-item][aria-selected=true]")?.innerText.includes("tank-fennimore-08")`))
		ok(t, p.Keys("Escape"))
	})
	t.Run("a new token is shown once", func(t *testing.T) {
		menu("New credential")
		ok(t, p.WaitText("stop working at once"))
		ok(t, p.ClickText("Give it a new token"))
		ok(t, p.WaitText("given this once and not kept"))
		ok(t, p.ClickText("Done"))
		ok(t, p.Wait(`!document.body.innerText.includes("given this once and not kept")`))
		if out, _ := exec.Command("sh", "-c", command).CombinedOutput(); !strings.Contains(string(out), "not authorised") {
			t.Errorf("with the old token: %s", out)
		}
	})
	t.Run("suspended, let in, retired", func(t *testing.T) {
		menu("Suspend")
		ok(t, p.WaitText("It is cut off at once"))
		ok(t, p.ClickText("Suspend it"))
		ok(t, p.Wait(`document.querySelector("h1 + p").innerText.startsWith("suspended")`))
		menu("Let it in again")
		ok(t, p.Wait(`!document.querySelector("h1 + p").innerText.startsWith("suspended")`))
		menu("Retire")
		ok(t, p.Wait(`document.querySelector("#retire-id")`))
		disabled, err := browser.Eval[bool](p,
			`[...document.querySelectorAll("button")].find((b) => b.innerText === "Retire it").disabled`)
		if err != nil || !disabled {
			t.Errorf("it can be retired without a word, %v", err)
		}
		ok(t, p.Type("#retire-id", "tank-fennimore-08"))
		ok(t, p.ClickText("Retire it"))
		ok(t, p.Wait(`document.querySelector("h1 + p").innerText.startsWith("retired")`))
		quiet(t, p, "its status")
	})
}

// TestPageCodeIsLight counts what comes over the line before the first page shows.
func TestPageCodeIsLight(t *testing.T) {
	s := start(t)
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.WaitText("No device is onboarded yet"))
	kB, err := browser.Eval[float64](p,
		`performance.getEntriesByType("resource").filter((r) => /\.(js|css)$/.test(new URL(r.name).pathname)).reduce((n, r) => n + r.encodedBodySize, 0) / 1000`)
	ok(t, err)
	t.Logf("%.0f kB of code", kB)
	if kB < 20 || kB > 250 {
		t.Errorf("%.0f kB of code come before the first page shows, want 250 at most", kB)
	}
}
