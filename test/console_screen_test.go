package test

import (
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/client"
	"ullage/test/browser"
	"ullage/test/service"
)

// A screen is let in with a code, once, to show one page; what that page asks is
// answered, and nothing else is, whatever the screen says.
func TestScreens(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	const tank, other = "tank-fennimore-07", "tank-fennimore-08"
	tell(t, onboard(t, s, tank, "tank-probe"), `{"must_temp":21.5,"ullage":30}`)
	tell(t, onboard(t, s, other, "tank-probe"), `{"must_temp":24.5,"ullage":31}`)
	b, err := browser.Start()
	ok(t, err)
	defer b.Close()

	hall := filepath.Join(t.TempDir(), "hall.yaml")
	ok(t, os.WriteFile(hall, []byte("board: hall\nparameters: [model]\ninstruments:\n  - instrument: trace\n    place: [0, 0, 6, 4]\n    metrics: [must_temp, ullage]\n    devices: must_temp < 50\n"+
		"  - instrument: bars\n    place: [6, 0, 6, 4]\n    metrics: [must_temp]\n  - instrument: tally\n    place: [0, 4, 4, 3]\n    count: must_temp > 3\n  - instrument: control\n    place: [4, 4, 3, 3]\n    setting: max_temp\n"+
		"  - {instrument: bars, place: [7, 4, 5, 3], metrics: [ullage], step: 1h}\n  - {instrument: strip, place: [0, 7, 6, 2], states: link, span: 7d}\n  - {instrument: roster, place: [0, 9, 12, 3], columns: [health, must_temp, label.site, ullage]}\n  - {instrument: strip, place: [6, 7, 6, 2], states: alarm, devices: must_temp < 50}\n"), 0o600))
	cli(t, s, "board", "load", hall)
	// Every kind of page works without a question being refused.
	pages := map[string]struct{ page, shows string }{
		"fleet":      {"/?by=site", "Least headspace"},
		"fleet-some": {"/?view=list&where=" + url.QueryEscape(`must_temp < 23`), tank},
		"alarms":     {"/alarms?view=all", "Alarms"},
		"device":     {"/devices/" + tank + "?span=6h", "must_temp"},
		"query":      {"/query?metric=must_temp&span=1h", tank},
		"made-board": {"/boards/made/model/tank-probe?span=6h", tank},
		"fleetboard": {"/boards/made/fleet", tank},
		"in-turn":    {"/boards/made/in-turn?span=6h&show=hall:4,made/model/tank-probe:4,none:4", tank},
		"own-board":  {"/boards/hall?at=" + url.QueryEscape("model=tank-probe"), tank},
	}
	one := func(t *testing.T, name string, c struct{ page, shows string }) {
		b, err := b.Apart()
		ok(t, err)
		defer b.Close()
		out := cli(t, s, "key", "make", "screen-"+name, "--role", "viewer", "--page", c.page)
		i := strings.Index(out, s.Console+"/screen#")
		if i < 0 {
			t.Fatalf("%s: no address is printed: %s", name, out)
		}
		link, _, _ := strings.Cut(out[i:], "\n")
		p, err := b.Open(link, 1280, 800)
		ok(t, err)
		ok(t, p.WaitText(c.shows))
		p.Forget() // that nobody was signed in before
		ok(t, p.Go(s.Console+c.page))
		ok(t, p.WaitText(c.shows))
		time.Sleep(1500 * time.Millisecond) // what is asked after the first drawing
		where, err := browser.Eval[string](p, `location.pathname + location.search`)
		ok(t, err)
		if path, _, _ := strings.Cut(c.page, "?"); !strings.HasPrefix(where, path) {
			t.Errorf("%s: the screen is at %s, want %s", name, where, c.page)
		}
		if name == "in-turn" {
			// One board follows the other; of one that does not exist it says so and goes on.
			for _, title := range []string{"tank probe", "hall", "tank probe"} {
				ok(t, p.Wait(`document.querySelector("h1")?.innerText.toLowerCase().startsWith("`+title+`")`))
			}
			ok(t, p.WaitText("there is no board \"none\""))
			p.Forget() // that it is not there
			ok(t, p.Wait(`document.querySelector("h1")?.innerText.toLowerCase().startsWith("hall")`))
		}
		if name == "own-board" {
			ok(t, p.Wait(`document.querySelector("[aria-label='tank-fennimore-07: on line 100 %']") && document.body.innerText.includes("No alarm in 1 d")`))
			ok(t, p.Wait(`[...document.querySelectorAll("figcaption")].some((f) => /mean of each 1 h: .* 30(\.5)? cm/.test(f.textContent) || f.textContent.includes("30.5 cm"))`))
		}
		quiet(t, p, name)
		text, err := browser.Eval[string](p, `document.body.innerText`)
		ok(t, err)
		if name == "fleet-some" && strings.Contains(text, other) {
			t.Errorf("a screen of some devices shows another: %s", text)
		}
		for _, offered := range []string{"Sign out", "Go to…", "Change a setting", "Acknowledge"} {
			if strings.Contains(text, offered) {
				t.Errorf("%s: a screen offers %q", name, offered)
			}
		}
		p.Close()
	}
	t.Run("pages", func(t *testing.T) {
		for name, c := range pages {
			// One after the other: their readings and their links would be late by the time that
			// all the other tests had their turn.
			t.Run(name, func(t *testing.T) { one(t, name, c) })
		}
	})

	// It shows a code of its own, and is let in from elsewhere.
	cli(t, s, "key", "make", "press-hall-screen", "--role", "viewer", "--page", "/devices/"+tank, "--access", `device.id == "`+tank+`"`, "--yes")
	p, err := b.Open(s.Console+"/screen", 1280, 800)
	ok(t, err)
	ok(t, p.Wait(`/^[0-9A-Z]{4}-[0-9A-Z]{4}$/.test(document.querySelector("[data-testid=code]")?.innerText)`))
	code, err := browser.Eval[string](p, `document.querySelector("[data-testid=code]").innerText`)
	ok(t, err)
	// What everybody in the hall can read lets nobody else in.
	if status, body := post(t, s.Console+"/api/v1/screen/enter", `{"code":"`+code+`"}`); status != 404 {
		t.Errorf("the code that a screen shows lets another in: %d %s", status, body)
	}
	cli(t, s, "key", "let-in", "press-hall-screen", strings.ToLower(strings.ReplaceAll(code, "-", " ")))
	ok(t, p.WaitText("must_temp"))

	// Another page, told from elsewhere, is shown at once.
	if out, errs, code := s.CLI("", "key", "page", "press-hall-screen", "/devices/"+other); code == 0 && !strings.Contains(out, "show") {
		t.Errorf("another page: %s %s", out, errs)
	}
	cli(t, s, "key", "page", "press-hall-screen", "/query?metric=must_temp&span=6h", "--yes")
	ok(t, p.Wait(`location.pathname === "/query"`))

	// Without its key it is out within a second, and asks to be let in again.
	cli(t, s, "key", "remove", "press-hall-screen", "--yes")
	ok(t, p.Wait(`location.pathname === "/screen"`))
	p.Close()
}

// A screen's cookie is good for what its stored page asks, to the letter.
func TestScreenAsksForNothingElse(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	const tank, other = "tank-fennimore-07", "tank-fennimore-08"
	onboard(t, s, tank, "tank-probe")
	onboard(t, s, other, "tank-probe")
	let := func(page string) func(method, path string) int {
		t.Helper()
		name := "screen-" + strings.ToLower(strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
				return r
			}
			return -1
		}, page))[:min(20, len(page)-4)]
		cli(t, s, "key", "make", name, "--role", "viewer", "--page", page)
		m, err := s.Client.MakeCode(t.Context(), name)
		ok(t, err)
		resp, err := http.Post(s.Console+"/api/v1/screen/enter", "application/json", strings.NewReader(`{"code":"`+m.Code+`"}`))
		ok(t, err)
		io.Copy(io.Discard, resp.Body)
		resp.Body.Close()
		if resp.StatusCode != 200 || len(resp.Cookies()) != 1 {
			t.Fatalf("entering: %d with %d cookies", resp.StatusCode, len(resp.Cookies()))
		}
		c := resp.Cookies()[0]
		if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode {
			t.Errorf("the cookie is %+v", c)
		}
		if status, _ := post(t, s.Console+"/api/v1/screen/enter", `{"code":"`+m.Code+`"}`); status != 404 {
			t.Errorf("the code works twice: %d", status)
		}
		return func(method, path string) int {
			req, err := http.NewRequest(method, s.Console+path, nil)
			ok(t, err)
			req.AddCookie(c)
			resp, err := http.DefaultClient.Do(req)
			ok(t, err)
			resp.Body.Close()
			return resp.StatusCode
		}
	}
	now := time.Now().UTC()
	at := func(back time.Duration) string { return now.Add(-back).Format(time.RFC3339) }
	device := let("/devices/" + tank + "?span=6h")
	board := let("/boards/made/device/" + tank)
	turns := let("/boards/made/in-turn?show=made/device/" + tank + ":20,made/model/press-scale")
	query := let("/query?metric=must_temp&span=24h&where=" + url.QueryEscape(`device.id == "`+tank+`"`))
	where := url.QueryEscape(`device.id == "` + tank + `"`)
	for _, c := range []struct {
		ask          func(method, path string) int
		method, path string
		want         int
	}{
		{board, "GET", "/api/v1/activity?span=1441min&off=200&where=" + where, 200},
		{board, "GET", "/api/v1/activity?span=1500min&off=200&where=" + where, 403},
		{board, "GET", "/api/v1/activity?span=1441min&off=200", 403},
		{board, "GET", "/api/v1/activity?span=1441min&off=200&where=" + url.QueryEscape(`device.id == "`+other+`"`), 403},
		{board, "GET", "/api/v1/alarms?all=true&limit=500&where=" + where, 200},
		{board, "GET", "/api/v1/alarms?all=true&limit=500", 403},
		{board, "GET", "/api/v1/alarms?all=true&limit=500&rule=co2_high&where=" + where, 403},
		{device, "GET", "/api/v1/me", 200},
		{device, "GET", "/api/v1/devices/" + tank + "/settings?units=own", 200},
		{device, "GET", "/api/v1/devices/" + other + "/settings", 403},
		{device, "GET", "/api/v1/devices/" + tank + "/history?metric=must_temp&steps=360&from=" + at(6*time.Hour) + "&to=" + at(0), 200},
		{device, "GET", "/api/v1/devices/" + tank + "/history?metric=must_temp&steps=360&from=" + at(30*time.Hour) + "&to=" + at(24*time.Hour), 403},
		{device, "GET", "/api/v1/devices/" + tank + "/history?metric=must_temp&steps=360&from=" + at(12*time.Hour) + "&to=" + at(0), 403},
		{device, "GET", "/api/v1/devices/" + tank + "/history?metric=must_temp&from=" + at(6*time.Hour) + "&to=" + at(0), 403},
		{device, "GET", "/api/v1/devices/" + tank, 403},
		{device, "GET", "/api/v1/devices", 403},
		{device, "GET", "/api/v1/devices/" + tank + "/readings?metric=must_temp", 403},
		{device, "GET", "/api/v1/alarms?device=" + tank, 200},
		{device, "GET", "/api/v1/alarms?device=" + tank + "&all=true", 403},
		{device, "GET", "/api/v1/alarms", 403},
		{device, "GET", "/api/v1/journal", 403},
		{device, "GET", "/api/v1/traffic", 403},
		{device, "GET", "/api/v1/live?only=traffic", 403},
		{device, "GET", "/api/v1/live?where=true", 403},
		{device, "GET", "/api/v1/live?only=matching&where=true", 403},
		{device, "GET", "/api/v1/export?metric=must_temp", 403},
		{device, "GET", "/api/v1/models/tank-probe/source", 403},
		{device, "GET", "/api/v1/sessions", 403},
		{device, "GET", "/api/v1/me/preferences", 403},
		{device, "POST", "/api/v1/sign-out", 403},
		{query, "GET", "/api/v1/query?metric=must_temp&steps=400&aggregate=mean&where=" + where + "&span=" + at(24*time.Hour) + ".." + at(0), 200},
		{query, "GET", "/api/v1/query?metric=battery&steps=400&aggregate=mean&where=" + where + "&span=" + at(24*time.Hour) + ".." + at(0), 403},
		{query, "GET", "/api/v1/query?metric=must_temp&steps=400&aggregate=mean&span=" + at(24*time.Hour) + ".." + at(0), 403},
		{query, "GET", "/api/v1/query?metric=must_temp&steps=400&aggregate=mean&where=" + where + "&span=" + at(72*time.Hour) + ".." + at(48*time.Hour), 403},
		{query, "GET", "/api/v1/query?metric=must_temp&steps=400&aggregate=max&where=" + where + "&span=" + at(24*time.Hour) + ".." + at(0), 403},
		{query, "GET", "/api/v1/query?metric=must_temp&steps=400&aggregate=mean&where=" + where + "&span=24h", 403},
		{query, "GET", "/api/v1/query?metric=must_temp&steps=400&aggregate=mean&where=" + where + "&group_by=site&span=" + at(24*time.Hour) + ".." + at(0), 403},
		{query, "GET", "/api/v1/models", 403},
		{turns, "GET", "/api/v1/made-board?kind=device&of=" + tank, 200},
		{turns, "GET", "/api/v1/made-board?kind=fleet&of=", 403},
		{turns, "GET", "/api/v1/made-board?kind=device&of=" + other, 403},
		{turns, "GET", "/api/v1/made-board?kind=model&of=press-scale", 200},
		{turns, "GET", "/api/v1/live?only=matching&each=" + url.QueryEscape(`device.id == "`+tank+`"`) + "&each=" + url.QueryEscape(`device.model == "press-scale"`), 200},
		{turns, "GET", "/api/v1/live?only=matching&each=" + url.QueryEscape(`device.id == "`+tank+`"`) + "&each=true", 403},
		{turns, "GET", "/api/v1/devices/" + other + "/settings", 403},
		{turns, "GET", "/api/v1/alarms", 403},
		{board, "GET", "/api/v1/made-board?kind=device&of=" + tank, 200},
		{board, "GET", "/api/v1/made-board?kind=device&of=" + other, 403},
		{board, "GET", "/api/v1/made-board?kind=fleet", 403},
		{board, "GET", "/api/v1/boards/hall", 403},
		{board, "GET", "/api/v1/boards", 403},
		{board, "GET", "/api/v1/query?metric=must_temp&steps=240&aggregate=mean&where=" + where + "&span=" + at(24*time.Hour) + ".." + at(0), 200},
		{board, "GET", "/api/v1/query?metric=must_temp&steps=240&aggregate=mean&where=true&span=" + at(24*time.Hour) + ".." + at(0), 403},
		{board, "GET", "/api/v1/query?metric=nothing&steps=240&aggregate=mean&where=" + where + "&span=" + at(24*time.Hour) + ".." + at(0), 403},
		{board, "GET", "/api/v1/query?metric=must_temp&steps=240&aggregate=mean&where=" + where + "&span=" + at(72*time.Hour) + ".." + at(48*time.Hour), 403},
		{board, "GET", "/api/v1/live?only=matching&each=" + url.QueryEscape("must_temp > 20"), 403},
		{board, "GET", "/api/v1/devices/" + tank + "/settings", 200},
		{board, "GET", "/api/v1/devices/" + other + "/settings", 403},
		{board, "GET", "/api/v1/causes", 403},
		{board, "GET", "/api/v1/as-of?at=" + at(time.Hour), 403},
		{query, "GET", "/api/v1/alarms", 403},
	} {
		if got := c.ask(c.method, c.path); got != c.want {
			t.Errorf("%s %s is answered %d, want %d", c.method, c.path, got, c.want)
		}
	}
	// Guessing codes is slowed down, and who is slowed down is not let in by luck.
	last := 0
	for range 40 {
		last, _ = post(t, s.Console+"/api/v1/screen/enter", `{"code":"0000-0000"}`)
	}
	if last != 429 {
		t.Errorf("the fortieth wrong code is answered %d, want 429", last)
	}
}

// tell sends readings of a device over HTTP.
func tell(t *testing.T, o client.Onboarded, body string) {
	t.Helper()
	req, err := http.NewRequest("POST", "http://"+o.HTTP+"/device/v1/readings", strings.NewReader(body))
	ok(t, err)
	req.Header.Set("Authorization", "Bearer "+o.Token)
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	ok(t, err)
	resp.Body.Close()
	if resp.StatusCode >= 300 {
		t.Fatalf("readings of %s are answered %d", o.ID, resp.StatusCode)
	}
}

// post sends JSON and returns status and body.
func post(t *testing.T, url, body string) (int, string) {
	t.Helper()
	resp, err := http.Post(url, "application/json", strings.NewReader(body))
	ok(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	ok(t, err)
	return resp.StatusCode, string(b)
}

// Units, zone and the first day of the week are followed by the pages.
func TestPreferencesInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	const tank = "tank-fennimore-07"
	tell(t, onboard(t, s, tank, "tank-probe", "site=Fennimore"), `{"must_temp":25,"ullage":30}`)
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/you"))
	ok(t, p.Wait(`document.querySelector("#prefer-temperature")`))
	choose := func(id, value string) {
		t.Helper()
		_, err := browser.Eval[any](p, `(() => { const e = document.getElementById(`+quoted(id)+`); Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(e, `+quoted(value)+`); e.dispatchEvent(new Event("change", { bubbles: true })); })()`)
		ok(t, err)
	}
	choose("prefer-temperature", "[degF]")
	ok(t, p.WaitText("Every temperature is shown in °F"))
	ok(t, p.Go(s.Console+"/devices/"+tank))
	ok(t, p.Wait(`document.querySelector("[data-metric=must_temp]")?.innerText.includes("77.0")`))
	ok(t, p.Wait(`document.querySelector("[data-setting=max_temp]")?.innerText.includes("89.6 °F")`))
	ok(t, p.Go(s.Console+"/you"))
	ok(t, p.Wait(`document.querySelector("#prefer-temperature")?.value === "[degF]"`))
	choose("prefer-zone", "named")
	ok(t, p.Type("#prefer-named", "Pacific/Kiritimati"))
	ok(t, p.Keys("Enter"))
	ok(t, p.WaitText("Times are shown as in Pacific/Kiritimati"))
	far, err := time.LoadLocation("Pacific/Kiritimati")
	ok(t, err)
	ok(t, p.Go(s.Console+"/devices/"+tank+"/journal"))
	ok(t, p.Wait(`[...document.querySelectorAll("[title]")].some((e) => e.title.includes(`+quoted(time.Now().In(far).Format("2 Jan 2006"))+`))`))
	ok(t, p.Go(s.Console+"/you"))
	ok(t, p.Wait(`document.querySelector("#prefer-zone")`))
	choose("prefer-week", "sunday")
	ok(t, p.WaitText("Weeks begin on sunday"))
	ok(t, p.ClickText("Undo"))
	ok(t, p.Wait(`document.querySelector("#prefer-week")?.value === "monday"`))
	quiet(t, p, "preferences")
}

// A list that is dropped on the page Join is looked at first, line by line, and made
// with its bundles to save.
func TestListInTheConsole(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/join?way=list"))
	ok(t, p.WaitText("Drop a list here"))
	drop := func(text string) {
		t.Helper()
		_, err := browser.Eval[any](p, `(() => { const d = new DataTransfer(); d.items.add(new File([`+quoted(text)+`], "pallet.csv", { type: "text/csv" }));
			const zone = [...document.querySelectorAll("div")].find((x) => x.className.includes("border-dashed"));
			zone.dispatchEvent(new DragEvent("drop", { dataTransfer: d, bubbles: true, cancelable: true })); })()`)
		ok(t, err)
	}
	drop("id,modell\nx,y\n")
	ok(t, p.WaitText("did you mean model?"))
	p.Forget() // the refusal
	drop("id;model;label.site\r\ntank-c1;tank-probe;Fennimore\r\nTank 2;tank-probe;\r\ntank-c3;tank-probe;Kilnside\r\n")
	ok(t, p.WaitText("2 devices can be onboarded, 2 of tank-probe; 1 line wrong"))
	ok(t, p.Wait(`document.querySelector("[data-testid=plan] tbody").innerText.includes('"Tank 2" is no device id')`))
	disabled := `[...document.querySelectorAll("button")].find((b) => b.innerText === "Onboard 2 devices").disabled`
	if yes, err := browser.Eval[bool](p, disabled); err != nil || !yes {
		t.Errorf("a list with a mistake can be onboarded, %v", err)
	}
	ok(t, p.Click(`[data-testid=plan] input[type=checkbox]`))
	ok(t, p.Wait(`!`+disabled))
	ok(t, p.ClickText("Onboard 2 devices"))
	ok(t, p.WaitText("Save pallet-1.zip (2)"))
	ok(t, p.ClickText("Save pallet-1.zip (2)"))
	ok(t, p.WaitText("Saved: pallet-1.zip"))
	ok(t, p.Wait(`document.querySelector("aside").innerText.includes("tank-c1") && document.querySelector("aside").innerText.includes("tank-c3")`))
	quiet(t, p, "a list")
}
