package test

import (
	"net/http"
	"strings"
	"testing"

	"ullage/test/browser"
	"ullage/test/service"
)

// TestFirstReadingAndDeletion shows the one reading of a device as a point, says
// which addresses lead nowhere, and deletes what it shows after it has counted it.
func TestFirstReadingAndDeletion(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	const tank = "tank-fennimore-07"
	device := onboard(t, s, tank, "tank-probe")
	req, err := http.NewRequest(http.MethodPost, "http://"+s.HTTP+"/device/v1/readings", strings.NewReader(`{"must_temp":21.5}`))
	ok(t, err)
	req.Header.Set("Authorization", "Bearer "+device.Token)
	resp, err := http.DefaultClient.Do(req)
	ok(t, err)
	resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		t.Fatalf("the reading is answered %s", resp.Status)
	}

	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.Go(s.Console+"/devices/"+tank))
	// The first chart is that of must_temp; what is drawn in the ink of a series is
	// counted. Its axes and its grid are lighter.
	const drawn = `(() => {
		const c = document.querySelector("figure canvas");
		if (!c) return -1;
		const ink = getComputedStyle(document.documentElement).getPropertyValue("--series").trim();
		const probe = document.createElement("canvas").getContext("2d");
		probe.fillStyle = ink; probe.fillRect(0, 0, 1, 1);
		const want = probe.getImageData(0, 0, 1, 1).data;
		const d = c.getContext("2d").getImageData(0, 0, c.width, c.height).data;
		let n = 0;
		for (let i = 0; i < d.length; i += 4)
			if (d[i + 3] > 200 && [0, 1, 2].every((k) => Math.abs(d[i + k] - want[k]) < 8)) n++;
		return n;
	})()`
	if err := p.Wait(drawn+" >= 12", within); err != nil {
		n, _ := browser.Eval[int](p, drawn)
		t.Errorf("the one reading is %d pixels, want a point: %v", n, err)
	}

	const menu = `[...document.querySelectorAll("button")].find((b) => b.innerText === "Device…")`
	if _, err := browser.Eval[any](p, menu+`.focus()`); err != nil {
		t.Fatal(err)
	}
	ok(t, p.Keys("Enter"))
	ok(t, p.Wait(`document.querySelector("[role=menuitem]")`, within))
	ok(t, p.ClickText("Delete readings"))
	ok(t, p.WaitText("This is everything", within))
	off, err := browser.Eval[bool](p, `[...document.querySelectorAll("[role=dialog] button")].at(-1).disabled`)
	if err != nil || !off {
		t.Errorf("everything can be deleted without its id: %v", err)
	}
	if _, err := browser.Eval[any](p, `(() => {
		const s = document.querySelector("#delete-metric");
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "must_temp");
		s.dispatchEvent(new Event("change", { bubbles: true }));
	})()`); err != nil {
		t.Fatal(err)
	}
	ok(t, p.Wait(`[...document.querySelectorAll("[role=dialog] button")].at(-1).innerText === "Delete 1 reading" && !document.querySelector("#delete-id")`, within))
	ok(t, p.Click("[role=dialog] button:last-of-type"))
	ok(t, p.WaitText("1 reading of "+tank+" is deleted", within))
	// In the span, or at all: the page may hear of the one before the other.
	ok(t, p.Wait(`!document.querySelector("figure canvas") && /No reading (in this span|has come yet)/.test(document.body.innerText)`, within))

	for path, says := range map[string]string{"/devices/nobody": "There is no device nobody", "/models/none": `there is no model "none"`,
		"/sites/nowhere": "There is no site nowhere", "/alarms/x/y": "There is no such page"} {
		ok(t, p.Go(s.Console+path))
		if err := p.WaitText(says, within); err != nil {
			t.Errorf("%s does not say %q: %v", path, says, err)
		}
	}
}
