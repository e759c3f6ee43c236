package test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/client"
	"ullage/test/browser"
	"ullage/test/service"
)

// pick chooses an option of a select, as a person does.
func pick(selector, option string) string {
	return fmt.Sprintf(`(() => { const s = document.querySelector(%q);
		const i = s ? [...s.options].findIndex((o) => o.value === %q || o.text === %[2]q) : -1;
		if (i < 0) return false;
		if (s.multiple) s.options[i].selected = true;
		else Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, s.options[i].value);
		s.dispatchEvent(new Event("change", { bubbles: true })); return true })()`, selector, option)
}

// press sends a key to what has the focus.
func press(key string, shift bool) string {
	return fmt.Sprintf(`(document.activeElement.dispatchEvent(new KeyboardEvent("keydown", { key: %q, shiftKey: %t, bubbles: true })), true)`, key, shift)
}

// An engineer makes a board from nothing: instruments are put on it, moved by keyboard,
// undone, saved, and there after a reload; a draft survives too.
func TestABoardFromNothing(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	send := airs(t, s, "air-kilnside-1", "air-kilnside-2")
	send("air-kilnside-1", 640)
	send("air-kilnside-2", 720)
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/boards"))
	ok(t, p.WaitText("Kilnside"))
	quiet(t, p, "the boards")
	ok(t, p.ClickText("New board"))
	ok(t, p.Type("#board-title", "Press Hall"))
	ok(t, p.ClickText("Begin"))
	ok(t, p.Wait(`location.pathname === "/boards/press-hall"`))
	ok(t, p.Wait(pick(`[aria-label="Add an instrument"]`, "bars")))
	ok(t, p.Wait(pick("#i-metric", "co2")))
	ok(t, p.WaitText("air-kilnside-2"))
	ok(t, p.WaitText("720"))
	ok(t, p.Wait(pick(`[aria-label="Add an instrument"]`, "note")))
	ok(t, p.Type("#i-text", "**Leave the hall** <img src=x onerror=\"document.title='run'\"><script>document.title='run'</script> [go](javascript:alert(1))"))
	ok(t, p.WaitText("Leave the hall"))

	// The note goes beside the bars: up and to the right by the arrow keys, wider with Shift.
	ok(t, p.Wait(`(() => { const x = document.querySelectorAll('[role=group][tabindex="0"]')[1]; x?.focus(); return document.activeElement === x })()`))
	for range 4 {
		ok(t, p.Wait(press("ArrowRight", false)))
	}
	for range 5 {
		ok(t, p.Wait(press("ArrowUp", false)))
	}
	ok(t, p.Wait(press("ArrowRight", true)))
	ok(t, p.ClickText("Undo"))
	ok(t, p.ClickText("Redo"))
	quiet(t, p, "changing a board")
	// The page is left without saving, and the draft is there again.
	ok(t, p.Go(s.Console+"/boards/press-hall?change=yes"))
	ok(t, p.WaitText("a draft of this browser"))
	ok(t, p.ClickText("Save"))
	ok(t, p.WaitText("The board is saved"))
	b, _, err := s.Client.Boards().Get(t.Context(), "press-hall")
	ok(t, err)
	if len(b.Instruments) != 2 || fmt.Sprint(b.Instruments[0].Place, b.Instruments[1].Place) != "[0 0 4 5] [4 0 5 3]" {
		t.Errorf("it is saved as %+v", b.Instruments)
	}
	ok(t, p.Go(s.Console+"/boards/press-hall"))
	ok(t, p.WaitText("Leave the hall"))
	ok(t, p.Wait(`document.title !== "run" && !document.querySelector("main img, main script") && !document.querySelector("a[href^=javascript]")`))
	// Live: what a device sends is on the board at once.
	send("air-kilnside-2", 915)
	ok(t, p.WaitText("915"))
	quiet(t, p, "a board")

	// Another hand has changed it as a file; an instrument that no model has is refused.
	file := filepath.Join(t.TempDir(), "press-hall.yaml")
	ok(t, os.WriteFile(file, []byte("board: press-hall\ntitle: Press hall\ninstruments:\n  - instrument: figure\n    place: [0, 0, 3, 3]\n    metrics: [co3]\n"), 0o600))
	if _, out, code := s.CLI("", "board", "load", file); code == 0 || !strings.Contains(out, "no model has the metric co3; did you mean co2?") {
		t.Errorf("a metric that no model has: %d %s", code, out)
	}
	ok(t, os.WriteFile(file, []byte("board: press-hall\ntitle: Press hall\ndevices: label.site == \"Kilnside\"\ninstruments:\n  - instrument: figure\n    place: [0, 0, 3, 3]\n    metrics: [co2]\n    aggregate: max\n"), 0o600))
	cli(t, s, "board", "load", file)
	ok(t, p.WaitText("max of 2 devices"))
	// Two change it at once: the second sees that, and nothing of theirs is lost.
	ok(t, p.ClickText("Change"))
	// What was shown is still known.
	ok(t, p.Wait(`document.querySelector("[aria-label='Add an instrument']") && document.querySelector("main").innerText.includes("max of 2 devices")`))
	ok(t, p.Wait(pick(`[aria-label="Add an instrument"]`, "alarms")))
	ok(t, p.WaitText("a draft of this browser"))
	ok(t, os.WriteFile(file, []byte("board: press-hall\ntitle: Theirs\ninstruments:\n  - instrument: alarms\n    place: [0, 0, 3, 3]\n"), 0o600))
	cli(t, s, "board", "load", file)
	ok(t, p.WaitText("Somebody else has changed this board"))
	ok(t, p.ClickText("Save"))
	ok(t, p.WaitText("was changed by somebody else since it was read"))
	p.Forget() // the refusal, in the log of the browser
	ok(t, p.ClickText("Save mine over it"))
	ok(t, p.WaitText("The board is saved"))
	if b, _, err := s.Client.Boards().Get(t.Context(), "press-hall"); err != nil || len(b.Instruments) != 2 || b.Title != "Press hall" {
		t.Errorf("mine over theirs is %+v, %v", b, err)
	}
	// Each change is a version, and one goes back to an earlier one.
	if out := cli(t, s, "board", "history", "press-hall"); !strings.Contains(out, "took out") || strings.Count(out, "\n") != 6 {
		t.Errorf("its history is\n%s", out)
	}
	ok(t, p.ClickText("Versions"))
	ok(t, p.WaitText("title: Theirs → Press hall"))
	ok(t, p.ClickText("Take this one"))
	ok(t, p.WaitText("Go back to this version?"))
	ok(t, p.ClickText("Go back to it"))
	ok(t, p.WaitText("is as it was"))
	if b, _, err := s.Client.Boards().Get(t.Context(), "press-hall"); err != nil || b.Title != "Theirs" {
		t.Errorf("gone back to, it is %+v, %v", b, err)
	}
	// In turn with another one, each for some seconds; the readings of an instrument are a table.
	ok(t, p.Go(s.Console+"/boards"))
	ok(t, p.ClickText("Show in turn…"))
	ok(t, p.Wait(`document.querySelectorAll("[role=dialog] input[type=checkbox]").length > 2`))
	ok(t, p.Wait(`(() => { const x = [...document.querySelectorAll("[role=dialog] input[type=checkbox]")]; x[1].click(); x[0].click(); return true })()`))
	ok(t, p.Type("#turn-seconds", "3"))
	ok(t, p.ClickText("Show them"))
	ok(t, p.Wait(`location.search.includes("made%2Ffleet%3A3%2Cpress-hall%3A3") && document.querySelector("h1")?.textContent.includes("The whole fleet")`))
	ok(t, p.Wait(`document.querySelector("h1")?.textContent.includes("Theirs") && getComputedStyle(document.querySelector("header")).display === "none"`))
	ok(t, p.Wait(`document.querySelector("h1")?.textContent.includes("The whole fleet")`))
	ok(t, p.Wait(`(async () => { const a = document.querySelector("a[aria-label$='as CSV']"); const r = a && await fetch(a.href); const text = r ? await r.text() : ""; return text.startsWith("time") || text.includes("air-kilnside-1") })()`))
	quiet(t, p, "boards in turn")
	if out := cli(t, s, "board", "check", "press-hall"); !strings.Contains(out, "still there") {
		t.Errorf("the check says %s", out)
	}
}

// Boards are there by themselves, can be made somebody's own, fill the screen, and are on a
// phone; whoever sees some devices sees those on them.
func TestMadeBoards(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	send := airs(t, s, "air-kilnside-1", "air-kilnside-2")
	send("air-kilnside-1", 640)
	onboard(t, s, "tank-fennimore-07", "tank-probe", "site=Fennimore")
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	for _, at := range []string{"fleet", "site/Kilnside", "model/cellar-air", "device/air-kilnside-1"} {
		ok(t, p.Go(s.Console+"/boards/made/"+at))
		ok(t, p.Wait(`document.querySelectorAll("[data-instrument]").length > 4`))
		ok(t, p.WaitText("air-kilnside-1"))
		quiet(t, p, "the board of "+at)
	}
	// One crosshair stands in all traces at the same time.
	ok(t, p.Wait(`(async () => {
		const over = [...document.querySelectorAll(".u-over")];
		if (over.length < 2) return false;
		const r = over[0].getBoundingClientRect();
		for (const type of ["mouseenter", "mousemove"]) over[0].dispatchEvent(new MouseEvent(type, { bubbles: true, view: window, clientX: r.left + 120, clientY: r.top + 20 }));
		await new Promise((done) => setTimeout(done, 100));
		return [...document.querySelectorAll(".u-cursor-x")].filter((x) => x.style.transform.startsWith("translate(120px")).length >= 2;
	})()`))
	// On paper it is light, and dark again after it.
	printed, err := browser.Eval[string](p, `(() => {
		localStorage.setItem("ullage-theme", "dark");
		const now = () => document.documentElement.dataset.theme;
		document.documentElement.dataset.theme = "dark";
		window.dispatchEvent(new Event("beforeprint"));
		const on = now();
		window.dispatchEvent(new Event("afterprint"));
		const out = on + " " + now();
		localStorage.removeItem("ullage-theme");
		return out;
	})()`)
	if ok(t, err); printed != "light dark" {
		t.Errorf("the theme on paper and after it is %s", printed)
	}
	ok(t, p.ClickText("Full screen"))
	ok(t, p.Wait(`new URLSearchParams(location.search).get("full") === "yes"`))
	ok(t, p.Wait(`getComputedStyle(document.querySelector("header")).display === "none"`))
	ok(t, p.ClickText("Leave full screen"))
	ok(t, p.ClickText("Make it mine…"))
	ok(t, p.Type("#board-title", "Monitor One"))
	ok(t, p.ClickText("Make it"))
	ok(t, p.Wait(`location.pathname.startsWith("/boards/") && location.pathname.includes("monitor-one")`))
	bs, err := s.Client.Boards().List(context.Background(), client.ListOptions{})
	ok(t, err)
	if len(bs) == 0 || bs[len(bs)-1].Made {
		t.Errorf("the boards are %+v", bs)
	}
	// What is chosen at the top is in the address.
	ok(t, p.Go(s.Console+"/boards/made/fleet?at=site%3DFennimore&span=today"))
	ok(t, p.WaitText("tank-fennimore-07"))
	ok(t, p.Wait(`!document.querySelector("main").innerText.includes("air-kilnside-1")`))

	if out := cli(t, s, "board", "make", "site", "Kilnside", "--name", "kilnside"); !strings.Contains(out, "board: kilnside") || !strings.Contains(out, "instrument: trace") {
		t.Errorf("as a file it is\n%s", out)
	}
	if _, out, code := s.CLI("", "board", "make", "site", "Nowhere"); code == 0 || !strings.Contains(out, "no site") {
		t.Errorf("a site that is not there: %d %s", code, out)
	}
}

// What needs somebody is on the fleet's page, one line for each cause, and its first click
// leads to it. The faults are those of the demo.
func TestCausesAreFoundInThreeClicks(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts the demo")
	}
	d, err := service.StartDemo("--data", filepath.Join(t.TempDir(), "data"), "--history", "2d", "--listen", "127.0.0.1:0", "--listen-tls", "127.0.0.1:0", "--mqtt", "127.0.0.1:0",
		"--device-http", "127.0.0.1:0", "--mqtt-tls", "127.0.0.1:0", "--device-http-tls", "127.0.0.1:0")
	ok(t, err)
	defer d.Stop()
	p := open(t, &service.Service{Console: d.Console}, "/")
	ok(t, p.SignIn("engineer", d.Password))
	for _, c := range []struct{ line, kind, path, says string }{
		{"hub-saltmarsh is silent", "link", "/devices/hub-saltmarsh", "silent for"},
		{"F7: must at", "alarm", "/alarms/", "must too warm"},
		{"refuse the setting stir_at", "refused", "where=", "tank-coldharbour-0"},
		{"headspace on battery", "headspace", "/devices/bung-saltmarsh-112", "battery"},
		{"Alder Bank, fermentation hall: CO₂", "alarm", "/alarms/", "co2 high"},
		{"The clock of press-coldharbour-1", "clock", "/devices/press-coldharbour-1", "its clock is not set"},
	} {
		ok(t, p.Go(d.Console+"/"))
		ok(t, p.WaitText(c.line))
		ok(t, p.Wait(fmt.Sprintf(`(() => { const x = [...document.querySelectorAll("li[data-cause=%s] a")].find((a) => a.textContent.includes(%q)); x?.click(); return !!x })()`, c.kind, c.line)))
		ok(t, p.Wait(fmt.Sprintf(`location.href.includes(%q)`, c.path)))
		ok(t, p.WaitText(c.says))
	}
	ok(t, p.Go(d.Console+"/"))
	ok(t, p.WaitText("Needs somebody"))
	quiet(t, p, "the fleet with its causes")

	// The silent hub is the first of those that were not on line.
	ok(t, p.Go(d.Console+"/?view=activity&over=24h"))
	ok(t, p.Wait(`document.querySelector("[aria-label=Activity] tbody tr")?.textContent.includes("hub-saltmarsh")`))
	quiet(t, p, "activity")

	// The bung whose battery is near its end is the first in the queue of batteries, once there
	// are days enough, and what devices run is counted.
	env := []string{"ULLAGE_URL=" + d.Console, "ULLAGE_LOGIN=" + filepath.Join(t.TempDir(), "login.json")}
	rows := "device,metric,at,value\n"
	for day := 3; day < 30; day++ {
		rows += fmt.Sprintf("bung-saltmarsh-112,battery,%s,%.3f\n", time.Now().AddDate(0, 0, -day).UTC().Format(time.RFC3339), 2.572+0.0264*float64(day))
	}
	file := filepath.Join(t.TempDir(), "battery.csv")
	ok(t, os.WriteFile(file, []byte(rows), 0o600))
	for _, args := range [][]string{{"login", d.Console, "--person", "engineer", "--password-stdin"}, {"import", file}} {
		if out, errs, code := service.Run(d.Password+"\n", env, args...); code != 0 {
			t.Fatalf("%v: %s%s", args, out, errs)
		}
	}
	ok(t, p.ClickText("Batteries and signal"))
	ok(t, p.WaitText("known after eight days")) // of the others
	ok(t, p.Wait(`/bung-saltmarsh-112.*in \d+ days?/.test(document.querySelector("[aria-label='Batteries and signal'] tbody tr")?.textContent)`))
	ok(t, p.ClickText("site"))
	ok(t, p.Wait(`location.search.includes("by-upkeep=site") && document.querySelector("[aria-label='Batteries and signal'] tbody tr")?.textContent.includes("Alder Bank")`))
	quiet(t, p, "batteries")
	ok(t, p.ClickText("Versions"))
	ok(t, p.Wait(`[...document.querySelectorAll("[aria-label=Versions] h2")].map((h) => h.textContent).join().startsWith("tank-probe,cellar-air")`))
	ok(t, p.ClickText("2.3.1"))
	ok(t, p.Wait(`location.search.includes("attr.firmware") && document.querySelectorAll("main tbody tr").length === 18`))
	quiet(t, p, "versions")

	// A chart, pressed, says where the reading of that time is from, and begins a rule with the
	// value at that height as its limit.
	for _, c := range []struct{ path, says string }{
		{"/query?metric=co2&group_by=site&then=max&span=24h", "the max of mean of co2 of "},
		{"/boards/made/device/tank-fennimore-07", "with its limit here"},
		{"/devices/tank-fennimore-07", "with its limit here"},
	} {
		ok(t, p.Go(d.Console+c.path))
		ok(t, p.Wait(fmt.Sprintf(`(() => {
			if (document.body.innerText.includes(%q)) return true;
			const o = document.querySelector(".u-over"), r = o?.getBoundingClientRect();
			if (!o || document.querySelector("[aria-label$='at a time']")) return false;
			const at = { bubbles: true, clientX: r.left + r.width * 0.98, clientY: r.top + 20, button: 0 };
			o.dispatchEvent(new PointerEvent("pointerdown", at));
			o.dispatchEvent(new PointerEvent("pointerup", at));
			return false;
		})()`, c.says)))
	}
	ok(t, p.WaitText("taken"))
	ok(t, p.Wait(`(() => { const x = [...document.querySelectorAll("button")].find((b) => /^above (2[5-9]|3\d)/.test(b.textContent)); x?.click(); return !!x })()`))
	ok(t, p.Wait(`location.pathname === "/rules/new"`))
	ok(t, p.Wait(`[...document.querySelectorAll("input, textarea, .cm-content")].some((x) => /^must_temp > [23]\d.* 'Cel'/.test(x.value ?? x.innerText))`))
	quiet(t, p, "a rule from a chart")

	// In a table of devices the course of a metric stands beside its value.
	ok(t, p.Go(d.Console+"/boards/made/model/press-scale"))
	ok(t, p.Wait(`(() => { [...document.querySelectorAll("[data-instrument]")].at(-1)?.scrollIntoView(); const x = document.querySelector("main table path[stroke='var(--series)']"); return x?.closest("td").innerText.includes(" kg") })()`))
	quiet(t, p, "a table with courses")

	// On the map each site has its place, and leads to its devices.
	ok(t, p.Go(d.Console+"/?view=map"))
	ok(t, p.WaitText("Needs somebody"))
	ok(t, p.Wait(`[...document.querySelectorAll("[aria-label^='Map of 48 devices'] a")].some((a) => a.textContent.includes("Saltmarsh"))`))
	quiet(t, p, "the map")
	ok(t, p.Click("[aria-label=Closer]"))
	ok(t, p.Wait(`[...document.querySelectorAll("button")].some((b) => b.textContent === "all")`))
	ok(t, p.Wait(`(() => { const x = [...document.querySelectorAll("[aria-label^='Map of'] a")].find((a) => a.getAttribute("aria-label").includes("devices,")); x?.click(); return !!x })()`))
	ok(t, p.Wait(`location.search.includes("view=list") && location.search.includes("label.site")`))

	// A device is put on the map by its pin, and taken back.
	ok(t, p.Go(d.Console+"/?view=map"))
	ok(t, p.ClickText("Place a device…"))
	ok(t, p.Type("[aria-label='Device to place']", "tank-fennimore-07"))
	ok(t, p.WaitText("47.58800, 8.26200: drag its pin"))
	ok(t, p.Wait(`(() => { const x = document.querySelector("[aria-label^='Pin of tank-fennimore-07']"); x?.focus(); return document.activeElement === x && Boolean(x) })()`))
	ok(t, p.Keys("ArrowRight", "ArrowUp"))
	ok(t, p.Wait(`!document.body.innerText.includes("47.58800, 8.26200") && /47\.58\d+, 8\.26\d+: drag its pin/.test(document.body.innerText)`))
	ok(t, p.ClickText("Put it here"))
	ok(t, p.WaitText(" stands there now"))
	ok(t, p.WaitText("At its site"))
	quiet(t, p, "placing a device")
	ok(t, p.ClickText("Undo"))
	ok(t, p.WaitText(" has no position of its own"))

	// A hub is asked for its log, and its reply stands there line by line.
	ok(t, p.Go(d.Console+"/devices/hub-kilnside/log"))
	ok(t, p.ClickText("Pull the log…"))
	ok(t, p.Type("#input-lines", "3"))
	ok(t, p.Keys("Enter"))
	ok(t, p.Wait(`document.querySelector("pre[aria-label='Reply to pull_log']")?.textContent.split("\n").length === 3`))
	quiet(t, p, "the log of a hub")

	// From the tank that is too warm it is two clicks to what was different.
	ok(t, p.Go(d.Console+"/devices/tank-fennimore-07/history?span=6h"))
	ok(t, p.ClickText("What was different?"))
	// At some hours one of the others warms up a little as well, by the day's course.
	ok(t, p.Wait(`/did the same in must_temp, so it is this device|must_temp.*; [1-3] of 13 peers did the same in must_temp/.test(document.body.innerText)`))
	ok(t, p.Wait(`location.search.includes("different=1")`))
	ok(t, p.Click("input[type=checkbox]"))
	ok(t, p.WaitText("13 peers"))
	quiet(t, p, "what was different")

	// The fleet as it was four hours ago: the hub was silent already, and the air at Alder Bank
	// was not over its limit yet.
	ok(t, p.Go(d.Console+"/?asof="+time.Now().Add(-4*time.Hour).UTC().Format(time.RFC3339)))
	ok(t, p.Wait(`document.querySelector("[aria-label='Open then']")?.textContent.includes("hub-saltmarsh was silent")`))
	ok(t, p.Wait(`document.querySelector("[aria-label='Open then']").textContent.includes("must too warm, tank-fennimore-07")`))
	if open, err := browser.Eval[string](p, `document.querySelector("[aria-label='Open then']").textContent`); err != nil || strings.Contains(open, "air-alder-bank-1") {
		t.Errorf("four hours ago there was open: %s, %v", open, err)
	}
	ok(t, p.ClickText("an hour earlier"))
	ok(t, p.Wait(`decodeURIComponent(location.search).includes("asof=")`))
	quiet(t, p, "the fleet as it was")
	ok(t, p.ClickText("Back to now"))
	ok(t, p.WaitText("Needs somebody"))

	// One crosshair stands in all that has a time axis: the strips say what was then, and where
	// it rests the plan shows it. The trace compares, and goes on into what probably comes.
	point := func(chart int, at float64) string {
		return fmt.Sprintf(`(() => { const o = document.querySelectorAll(".u-over")[%d]; if (!o) return false; o.scrollIntoView({ block: "center" });
			const b = o.getBoundingClientRect();
			for (const t of ["mouseenter", "mousemove"]) o.dispatchEvent(new MouseEvent(t, { clientX: b.left + b.width * %g, clientY: b.top + b.height / 2, bubbles: true }));
			return true })()`, chart, at)
	}
	ok(t, p.Go(d.Console+"/boards/fennimore-hall"))
	ok(t, p.WaitText("in 12 h probably"))
	ok(t, p.WaitText("1 d before"))
	ok(t, p.Wait(`/\d °C/.test(document.querySelector("[data-instrument=plan]")?.textContent) && /\d ppm/.test(document.querySelector("[data-instrument=plan]").textContent)`))
	ok(t, p.Wait(point(0, 0.5)+` && [...document.querySelectorAll("[data-instrument=strip] span")].some((x) => x.textContent === "off" && x.ariaHidden === "true")`))
	ok(t, p.Wait(`document.querySelector("[data-instrument=plan]")?.textContent.includes("as of ")`))
	quiet(t, p, "a board under the crosshair")
	ok(t, p.Go(d.Console+"/devices/tank-fennimore-07/history?span=1h"))
	ok(t, p.WaitText("sys: started"))
	ok(t, p.Wait(point(0, 0.2)+` && document.querySelector("[aria-label='Log on the same time axis']").textContent.includes("Nothing was written before that")`))
	quiet(t, p, "the log under the traces")

	// The board of a device as it was an hour ago has the values of then.
	then := time.Now().Add(-time.Hour).UTC().Format(time.RFC3339)
	ok(t, p.Go(d.Console+"/boards/made/device/tank-fennimore-07?asof="+then))
	ok(t, p.WaitText("As it was at"))
	ok(t, p.Wait(`document.querySelectorAll("[data-instrument=dial] [role=img]").length > 0`))
	quiet(t, p, "a board as it was")
	ok(t, p.ClickText("Back to now"))
	ok(t, p.Wait(`!location.search.includes("asof")`))
}
