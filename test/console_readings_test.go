package test

import (
	"net/http"
	"os"
	"path/filepath"
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
	report(t, s, device.Token, `{"must_temp":21.5}`)

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
	if err := p.Wait(drawn + " >= 12"); err != nil {
		n, _ := browser.Eval[int](p, drawn)
		t.Errorf("the one reading is %d pixels, want a point: %v", n, err)
	}

	const menu = `[...document.querySelectorAll("button")].find((b) => b.innerText === "Device…")`
	if _, err := browser.Eval[any](p, menu+`.focus()`); err != nil {
		t.Fatal(err)
	}
	ok(t, p.Keys("Enter"))
	ok(t, p.Wait(`document.querySelector("[role=menuitem]")`))
	ok(t, p.ClickText("Delete readings"))
	ok(t, p.WaitText("This is everything"))
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
	ok(t, p.Wait(`[...document.querySelectorAll("[role=dialog] button")].at(-1).innerText === "Delete 1 reading" && !document.querySelector("#delete-id")`))
	ok(t, p.Click("[role=dialog] button:last-of-type"))
	ok(t, p.WaitText("1 reading of "+tank+" is deleted"))
	// In the span, or at all: the page may hear of the one before the other.
	ok(t, p.Wait(`!document.querySelector("figure canvas") && /No reading (in this span|has come yet)/.test(document.body.innerText)`))

	componentsOf(t, s, p)
	for path, says := range map[string]string{"/devices/nobody": "There is no device nobody", "/models/none": `There is no model "none"`,
		"/sites/nowhere": "There is no site nowhere", "/alarms/x/y": "There is no such page"} {
		ok(t, p.Go(s.Console+path))
		if err := p.WaitText(says); err != nil {
			t.Errorf("%s does not say %q: %v", path, says, err)
		}
	}
}

// report sends a message of readings over HTTP, as a device does.
func report(t *testing.T, s *service.Service, token, body string) {
	t.Helper()
	req, err := http.NewRequest(http.MethodPost, "http://"+s.HTTP+"/device/v1/readings", strings.NewReader(body))
	ok(t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	resp, err := http.DefaultClient.Do(req)
	ok(t, err)
	resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		t.Fatalf("the reading is answered %s", resp.Status)
	}
}

// componentsOf goes from a hub to the device behind it, to the one of its jackets that is poor, and
// to the readings of that alone; the span stays.
func componentsOf(t *testing.T, s *service.Service, p *browser.Page) {
	dir := t.TempDir()
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		ok(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	const head = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel",`
	write("jacket.tm.json", head+`"title":"Jacket","properties":{"flow":{"type":"number","unit":"L/min","readOnly":true,"ullage:role":"telemetry","ullage:usual":[2,8]},
		"target_temp":{"type":"number","unit":"Cel","default":4}},"actions":{"exercise":{"title":"Exercise"}}}`)
	tank := write("great-tank.tm.json", head+`"title":"Great tank","ullage:name":"great-tank","version":{"model":"1.0.0"},
		"links":[{"rel":"tm:submodel","href":"./jacket.tm.json","instanceName":"left"},{"rel":"tm:submodel","href":"./jacket.tm.json","instanceName":"right"}],
		"properties":{"must_temp":{"type":"number","unit":"Cel","readOnly":true,"ullage:role":"telemetry"}}}`)
	cli(t, s, "model", "publish", tank)
	cli(t, s, "rule", "load", write("flow.yaml", "rule: flow_low\nmodels: [great-tank]\nraise: right_flow < 1 'L/min'\npriority: high\nmessage: The right jacket is cold\n"))
	onboard(t, s, "hub-fennimore", "cellar-hub", "site=Fennimore")
	device := onboard(t, s, "great-1", "great-tank", "site=Fennimore")
	cli(t, s, "device", "hub", "great-1", "hub-fennimore")
	report(t, s, device.Token, `{"must_temp":19,"left_flow":5,"right_flow":0.2}`)
	until(t, "the components are told", func() bool {
		return strings.Contains(cli(t, s, "device", "show", "great-1"), "components left sound\n           right poor: high alarm flow_low")
	})
	ok(t, p.Go(s.Console+"/devices/hub-fennimore?span=6h"))
	ok(t, p.Wait(`(() => { const x = document.querySelector("[aria-label='Behind it'] li a"); if (!x?.textContent.includes("The right jacket is cold")) return false; x.click(); return true })()`))
	ok(t, p.Wait(`location.pathname === "/devices/great-1" && location.search === "?span=6h"`))
	ok(t, p.Wait(`(() => { const x = [...document.querySelectorAll("[aria-label=Components] button")]; if (x.length < 2 || !x[1].textContent.includes("poor")) return false; x[1].click(); return true })()`))
	ok(t, p.Wait(`[...document.querySelectorAll("[data-metric], [data-setting]")].map((x) => x.dataset.metric ?? x.dataset.setting).join() === "right_flow,right_target_temp"`))
	ok(t, p.WaitText("Right: Exercise"))
	ok(t, p.ClickText("History"))
	ok(t, p.Wait(`location.pathname.endsWith("/history") && location.search === "?span=6h&component=right" && document.querySelectorAll("main figure").length === 1`))
	quiet(t, p, "a component")
}
