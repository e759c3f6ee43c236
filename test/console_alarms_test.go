package test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/client"
	"ullage/test/browser"
	"ullage/test/service"
)

// airs onboards some monitors, and returns what sends a reading of one.
func airs(t *testing.T, s *service.Service, ids ...string) func(id string, co2 int) {
	t.Helper()
	tokens := map[string]string{}
	for _, id := range ids {
		o, err := s.Client.CreateDevice(t.Context(), client.NewDevice{ID: id, Model: "cellar-air",
			Labels: map[string]string{"site": "Kilnside", "row": "press hall"}})
		ok(t, err)
		tokens[id] = o.Token
	}
	return func(id string, co2 int) {
		t.Helper()
		out, err := shell(t, fmt.Sprintf(`curl -sS -H 'Authorization: Bearer %s' -d '{"co2":%d}' http://%s/device/v1/readings`, tokens[id], co2, s.HTTP))
		if err != nil || !strings.Contains(out, `"kept":1`) {
			t.Fatalf("curl: %v %s", err, out)
		}
	}
}

// An operator goes through the alarms with the keys alone: marks, acknowledges, shelves,
// says something, and opens one.
func TestAlarmsByKeyboard(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	send := airs(t, s, "air-kilnside-1", "air-kilnside-2", "air-kilnside-3")
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/alarms"))
	ok(t, p.WaitText("No alarm is open"))
	for i, id := range []string{"air-kilnside-1", "air-kilnside-2", "air-kilnside-3"} {
		send(id, 1600+i)
	}
	count := func(n int) string {
		return fmt.Sprintf(`document.querySelectorAll('ul[aria-label=Alarms] > li').length === %d`, n)
	}
	ok(t, p.Wait(count(3))) // by itself
	// The keys begin at the first, the newest of them.
	ok(t, p.Keys("ArrowDown", "ArrowDown"))
	ok(t, p.Insert("a"))
	ok(t, p.WaitText("acknowledged by engineer"))
	ok(t, p.Insert("x"))
	ok(t, p.Keys("ArrowUp")) // what is acknowledged stands behind what is not
	ok(t, p.Insert("x"))
	ok(t, p.WaitText("2 marked"))
	ok(t, p.Insert("s"))
	ok(t, p.WaitText("Shelve 2 alarms"))
	ok(t, p.Type("#shelve-why", "the cells are changed"))
	ok(t, p.ClickText("Shelve for 2h"))
	ok(t, p.WaitText("2 alarms shelved for 2h"))
	ok(t, p.Wait(count(1)))
	ok(t, p.WaitText("1 unacknowledged, 2 aside"))
	ok(t, p.ClickText("Aside 2"))
	ok(t, p.WaitText("by engineer: the cells are changed"))
	ok(t, p.ClickText("Undo"))
	ok(t, p.WaitText("No alarm stands aside"))
	ok(t, p.ClickText("Calling"))
	ok(t, p.Wait(count(3)))

	ok(t, p.Keys("ArrowDown"))
	ok(t, p.Insert("c"))
	ok(t, p.Type("#comment", "the fan was off"))
	ok(t, p.ClickText("Say it"))
	ok(t, p.WaitText("1 comment"))
	ok(t, p.Insert("o"))
	ok(t, p.Wait(`location.pathname.startsWith("/alarms/01")`))
	ok(t, p.WaitText("said of co2_high: the fan was off"))
	ok(t, p.Wait(`document.querySelector("[aria-label='Around it'] canvas")`))
	ok(t, p.WaitText("Others at Kilnside within 15 min"))
	quiet(t, p, "the alarms")

	// In maintenance, nobody is called.
	ok(t, p.Go(s.Console+"/maintenance"))
	ok(t, p.ClickText("Plan maintenance"))
	ok(t, p.Type("#maintenance-name", "Cell Change"))
	ok(t, p.Type(`[aria-label="Devices in maintenance"]`, `label.site == "Kilnside"`))
	ok(t, p.ClickText("4 h"))
	ok(t, p.Wait(`!document.querySelector("[role=dialog] button[type=submit]").disabled`))
	ok(t, p.ClickText("Save"))
	ok(t, p.WaitText("3 devices out of service now"))
	for end := time.Now().Add(within); ; time.Sleep(100 * time.Millisecond) {
		if out := cli(t, s, "alarm", "list", "--state", "out of service"); strings.Count(out, "out of service") == 3 {
			break
		} else if time.Now().After(end) {
			t.Fatalf("the alarms are\n%s", cli(t, s, "alarm", "list"))
		}
	}
	ok(t, p.ClickText("End"))
	ok(t, p.WaitText("No maintenance is planned"))
	quiet(t, p, "maintenance")
}

// A rule is changed in a form while the replay beside it tells what that would have done,
// and the deadband is dragged.
func TestRuleFormAndReplay(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	send := airs(t, s, "air-kilnside-1")
	for i := range 20 {
		send("air-kilnside-1", 1450+100*(i%2))
	}
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/rules/co2_high"))
	ok(t, p.Wait(`document.querySelector("[aria-label=Replay] table")?.innerText.includes("as in force")`))
	cell := func(row, col int) string {
		v, err := browser.Eval[string](p, fmt.Sprintf(`document.querySelectorAll("[aria-label=Replay] tbody tr")[%d].children[%d].innerText`, row, col))
		ok(t, err)
		return v
	}
	if got := cell(0, 1); got != "10" {
		t.Errorf("in force it would have raised %s", got)
	}
	ok(t, p.Wait(`document.querySelector(".u-over")`))
	_, err := browser.Eval[any](p, `(() => { const o = document.querySelector(".u-over"); const r = o.getBoundingClientRect(); o.setPointerCapture = () => {};
		const to = (kind, y) => o.dispatchEvent(new PointerEvent(kind, { bubbles: true, clientX: r.left + 50, clientY: y, pointerId: 1 }));
		let y = 0;
		for (y = r.top + 1; y < r.bottom; y++) { to("pointermove", y); if (o.style.cursor) break; }
		y += 5;
		to("pointerdown", y); for (let i = 0; i <= 60; i++) to("pointermove", y + i); to("pointerup", y + 60); })()`)
	ok(t, err)
	ok(t, p.WaitText("right; not saved yet"))
	ok(t, p.Wait(`document.querySelectorAll("[aria-label=Replay] tbody tr").length === 2`))
	if before, after := cell(0, 1), cell(1, 1); before != "10" || after != "1" {
		t.Errorf("with a deadband it is %s instead of %s", after, before)
	}
	ok(t, p.Click(`[role=radio]`))
	ok(t, p.ClickText("Text"))
	ok(t, p.Wait(`document.querySelector(".cm-content")?.innerText.includes("priority: urgent")`))
	if text, err := browser.Eval[string](p, `document.querySelector(".cm-content").innerText`); err != nil || !strings.Contains(text, "deadband: ") || !strings.Contains(text, "raise: co2 > set.co2_warn") {
		t.Errorf("the text is %q, %v", text, err)
	}
	ok(t, p.ClickText("Form"))
	ok(t, p.ClickText("Try on one reading…"))
	ok(t, p.Type(`[role=dialog] input`, "1700"))
	ok(t, p.WaitText("It would be raised."))
	ok(t, p.ClickText("Close"))
	ok(t, p.ClickText("Put in force"))
	ok(t, p.WaitText("co2_high is in force"))
	if out := cli(t, s, "rule", "show", "co2_high"); !strings.Contains(out, "deadband: ") || !strings.Contains(out, "priority: urgent") {
		t.Errorf("in force is\n%s", out)
	}
	ok(t, p.ClickText("Versions"))
	ok(t, p.WaitText("priority: medium → urgent"))
	ok(t, p.ClickText("Take this one"))
	ok(t, p.WaitText("right; not saved yet"))
	quiet(t, p, "the rule")
}
