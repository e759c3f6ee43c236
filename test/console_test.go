package test

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"ullage/client"
	"ullage/core/waves"
	"ullage/test/browser"
	"ullage/test/service"
)

var (
	browserOnce sync.Once
	chromium    *browser.Browser
	browserErr  error

	// A service's pages share cookies and a window.
	apartMu sync.Mutex
	apart   = map[*service.Service]*browser.Browser{}
)

func closeBrowser() {
	if chromium != nil {
		chromium.Close()
	}
}

// open opens the console of a service in the one browser of this package.
func open(t testing.TB, s *service.Service, path string) *browser.Page {
	t.Helper()
	if _, err := os.Stat(filepath.Join(service.Root(), "console", "dist", "index.html")); err != nil {
		t.Fatal("the console is not built; run: make build")
	}
	browserOnce.Do(func() { chromium, browserErr = browser.Start() })
	if browserErr != nil {
		t.Fatal(browserErr)
	}
	apartMu.Lock()
	b := apart[s]
	if b == nil {
		var err error
		if b, err = chromium.Apart(); err != nil {
			apartMu.Unlock()
			t.Fatal(err)
		}
		if apart[s] = b; !strings.Contains(t.Name(), "/") {
			t.Cleanup(b.Close)
		}
	}
	apartMu.Unlock()
	p, err := b.Open(s.Console+path, 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	return p
}

func ok(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// fleet starts a service with the simulated fleet playing live against it.
func fleet(t testing.TB) *service.Service {
	t.Helper()
	s := start(t)
	populate(t, s)
	return s
}

// populate gives a service the simulated fleet, which runs until the test ends.
func populate(t testing.TB, s *service.Service) {
	t.Helper()
	cellars(t, s)
	creds := filepath.Join(t.TempDir(), "fleet.json")
	if out, errs, code := s.CLI("", "sim", "--onboard", "--credentials", creds, "--history", "2h", "--live=false"); code != 0 {
		t.Fatalf("%d %s %s", code, out, errs)
	}
	live := exec.Command(service.Binary(), "sim", "--credentials", creds, "--for", "6min")
	ok(t, live.Start())
	t.Cleanup(func() { live.Process.Signal(os.Interrupt); live.Wait() })
	until(t, "devices are connected", func() bool {
		v, err := s.Client.Service(t.Context())
		return err == nil && v.Connected >= 37
	})
}

func TestConsole(t *testing.T) {
	t.Parallel()
	s := fleet(t)
	p := open(t, s, "/")

	t.Run("a wrong password is explained", func(t *testing.T) {
		ok(t, p.Wait(`document.querySelector("input[name=password]")`))
		ok(t, p.Type("input[name=password]", "not-this-one"))
		ok(t, p.Click("button[type=submit]"))
		ok(t, p.WaitText("name or password is wrong"))
	})
	ok(t, p.Go(s.Console+"/"))
	ok(t, p.SignIn("engineer", service.Password))

	t.Run("the fleet", func(t *testing.T) {
		ok(t, p.Wait(`document.querySelectorAll('section[aria-label=Vessels] li').length === 48`))
		ok(t, p.WaitText("48 devices at 6 sites"))
		ok(t, p.WaitText("Least headspace"))
		ok(t, p.Go(s.Console+"/?view=list&sort=-id&where="+
			url.QueryEscape(`label.site == "Fennimore" and device.model == "tank-probe"`)))
		ok(t, p.Wait(`document.querySelectorAll('tbody tr').length === 7`))
		first, err := browser.Eval[string](p, `document.querySelector("tbody tr td").innerText`)
		if err != nil || first != "tank-fennimore-07" {
			t.Errorf("sorted by id downwards the first is %q, %v", first, err)
		}
		ok(t, p.Go(s.Console+"/?where="+url.QueryEscape(`must_temp > 300`)))
		ok(t, p.WaitText("No device is like that"))
		ok(t, p.ClickText("Show all"))
		ok(t, p.Wait(`document.querySelectorAll('section[aria-label=Vessels] li').length === 48`))
	})

	t.Run("a list shows the columns that are chosen", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/?view=list&cols=site,must_temp,label.stage&sort=-must_temp&where="+
			url.QueryEscape(`has(must_temp)`)))
		ok(t, p.Wait(`[...document.querySelectorAll("thead th")].map((h) => h.innerText.trim()).join() === "Device,Site,must temp ↓,stage"`))
		ok(t, p.Wait(`document.querySelector("tbody tr")?.cells[2].innerText.includes("°C")`))
		cells, err := browser.Eval[[]string](p,
			`[...document.querySelectorAll("tbody tr")].map((r) => r.cells[2].innerText)`)
		if err != nil || len(cells) < 5 || !strings.HasSuffix(cells[0], "°C") {
			t.Errorf("the temperatures are %q, %v", cells, err)
		}
		number := func(s string) (f float64) {
			fmt.Sscan(strings.TrimSuffix(s, "°C"), &f)
			return f
		}
		for i := 1; i < len(cells); i++ {
			if number(cells[i-1]) < number(cells[i]) {
				t.Errorf("not sorted: %q before %q", cells[i-1], cells[i])
			}
		}
	})

	t.Run("the filter completes what is typed and explains what is wrong", func(t *testing.T) {
		const box = "input[role=combobox]"
		listed := func(n int) string {
			return fmt.Sprintf(`document.querySelectorAll('section[aria-label=Vessels] li').length === %d`, n)
		}
		field := func(want string) string {
			b, _ := json.Marshal(want)
			return `document.querySelector("` + box + `").value === ` + string(b)
		}
		ok(t, p.Go(s.Console+"/"))
		ok(t, p.Wait(listed(48)))
		// A word finds the condition that is meant; down and enter take it over.
		time.Sleep(1100 * time.Millisecond) // labels are a second old at most
		ok(t, p.Type(box, "kilns"))
		ok(t, p.Wait(`document.querySelector("[role=option]")?.innerText.includes('label.site == "Kilnside"')`))
		time.Sleep(300 * time.Millisecond) // what the place of the cursor asks has come too
		ok(t, p.Keys("ArrowDown"))
		ok(t, p.Wait(`document.querySelector("[role=option][aria-selected=true]")?.innerText.includes('label.site == "Kilnside"')`))
		ok(t, p.Keys("Enter"))
		ok(t, p.Wait(field(`label.site == "Kilnside"`)))
		ok(t, p.Wait(listed(7)))
		ok(t, p.Wait(`new URLSearchParams(location.search).get("where") === 'label.site == "Kilnside"'`))
		// Tab takes the first candidate, here the setting of the same dimension.
		ok(t, p.Type(box, "must_temp > set.ma"))
		ok(t, p.Wait(`document.querySelector("[role=option]")?.innerText.includes("max_temp")`))
		ok(t, p.Keys("Tab"))
		ok(t, p.Wait(field("must_temp > set.max_temp")))
		// What is wrong is underlined and said; the list stays as it was.
		ok(t, p.Type(box, `label.site == "Kilnside" and must_tmp > 3`))
		ok(t, p.WaitText("no metric must_tmp in any model; did you mean must_temp?"))
		if wave, err := browser.Eval[string](p, `document.querySelector(".decoration-wavy").innerText`); err != nil || wave != "must_tmp" {
			t.Errorf("underlined is %q, %v", wave, err)
		}
		if invalid, err := browser.Eval[string](p, `document.querySelector("`+box+`").getAttribute("aria-invalid")`); err != nil || invalid != "true" {
			t.Errorf("aria-invalid is %q, %v", invalid, err)
		}
		ok(t, p.ClickText("write must_temp"))
		ok(t, p.Wait(field(`label.site == "Kilnside" and must_temp > 3`)))
		warm, err := s.Client.DevicesWhere(t.Context(), `label.site == "Kilnside" and must_temp > 3`)
		if err != nil || len(warm) == 0 || len(warm) >= 7 {
			t.Fatalf("%d warm tanks, %v", len(warm), err)
		}
		ok(t, p.Wait(listed(len(warm))))
		// Escape closes the candidates, then empties the field.
		ok(t, p.Keys("Escape", "Escape"))
		ok(t, p.Wait(field("")))
		ok(t, p.Wait(listed(48)))
		ok(t, p.Click(`button[aria-label="Help on expressions"]`))
		ok(t, p.WaitText("Fermenting tanks that are close to their limit"))
		if found, err := p.Accessible(read(t, "test/corpora/node_modules/axe-core/axe.min.js")); err != nil || len(found) > 0 {
			t.Errorf("with the help open: %v %v", found, err)
		}
		ok(t, p.ClickText(`not has(label.stage) and device.model == "tank-probe"`))
		ok(t, p.WaitText("No device is like that"))
	})

	t.Run("the other lists take the same filter", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/traffic?where="+url.QueryEscape(`label.site == "Kilnside"`)))
		ok(t, p.Wait(`document.querySelectorAll("ol li").length > 3`))
		if others, err := browser.Eval[int](p,
			`[...document.querySelectorAll("ol li button")].filter((b) => !b.innerText.includes("kilnside")).length`); err != nil || others != 0 {
			t.Errorf("%d messages of other sites, %v", others, err)
		}
		ok(t, p.Go(s.Console+"/alarms?where="+url.QueryEscape(`device.id == "nobody"`)))
		ok(t, p.WaitText("No alarm is like that"))
	})

	t.Run("the rules of a device are explained part by part", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/devices/tank-fennimore-07/rules"))
		ok(t, p.WaitText("must_temp > set.max_temp"))
		ok(t, p.Wait(`(document.querySelector("main li button[aria-expanded=false]")?.click(), document.querySelector("main li table"))`))
		ok(t, p.WaitText("Raises the alarm when"))
		ok(t, p.WaitText("32.0 °C"))
	})

	t.Run("a setting changed here reaches the device and its confirmation appears without a reload", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/devices/tank-fennimore-07"))
		cell := `document.querySelector('[data-setting=max_temp]')`
		ok(t, p.Wait(cell+`?.dataset.state === "applied"`))
		_, err := browser.Eval[any](p, `(window.notReloaded = true)`)
		ok(t, err)
		ok(t, p.ClickText("Change a setting"))
		ok(t, p.Wait(`document.querySelector("#setting-max_temp")`))
		ok(t, p.Type("#setting-max_temp", "99"))
		ok(t, p.ClickText("Send to the device"))
		ok(t, p.WaitRefused("between 15 and 40 °C"))
		ok(t, p.Type("#setting-max_temp", "30.5"))
		ok(t, p.ClickText("Send to the device"))
		ok(t, p.Wait(cell+`?.dataset.state === "applied" && `+cell+`.innerText.includes("30.5")`))
		if still, err := browser.Eval[bool](p, `window.notReloaded === true`); err != nil || !still {
			t.Errorf("the page was loaded again: %v", err)
		}
		st, err := s.Client.Settings(t.Context(), "tank-fennimore-07")
		if err != nil || st.State != "applied" || st.Applied != st.Revision {
			t.Errorf("the service says %+v, %v", st, err)
		}
		ok(t, p.ClickText("Undo"))
		ok(t, p.Wait(cell+`?.dataset.state === "applied" && `+cell+`.innerText.includes("32.0")`))
		// Typing 99 was refused by the service, which the browser notes.
		p.Forget()
	})

	t.Run("a command is given, replied to, and refused where it cannot be", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/devices/tank-fennimore-07"))
		ok(t, p.WaitText("Blink the lamp"))
		ok(t, p.ClickText("Blink the lamp"))
		ok(t, p.Wait(`document.querySelector("[data-phase=done]")?.innerText.includes("identify")`))
		ok(t, p.ClickText("Zero the level…"))
		ok(t, p.ClickText("Send to the device"))
		ok(t, p.WaitRefused("reference_cm is needed"))
		ok(t, p.Type("#input-reference_cm", "900"))
		ok(t, p.ClickText("Send to the device"))
		ok(t, p.WaitRefused("0 to 400 cm"))
		ok(t, p.Type("#input-reference_cm", "30"))
		ok(t, p.ClickText("Send to the device"))
		ok(t, p.Wait(`document.querySelector("[data-phase=done]")?.innerText.includes("offset cm")`))
		ok(t, p.Go(s.Console+"/devices/tank-coldharbour-02"))
		ok(t, p.WaitText("Zero the level…"))
		ok(t, p.ClickText("Zero the level…"))
		ok(t, p.Type("#input-reference_cm", "30"))
		ok(t, p.ClickText("Send to the device"))
		ok(t, p.WaitText("the echo is lost in foam"))
		p.Forget() // 900 was refused by the service, which the browser notes
	})

	t.Run("a refusal shows with the device's reason", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/devices/tank-kilnside-01"))
		ok(t, p.WaitText("refused: above 26 °C while the tank is sealed"))
	})

	t.Run("readings come in by themselves", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/devices/air-alder-bank-1?span=1h"))
		ok(t, p.Wait(`document.querySelector("figure canvas")`))
		at := `document.querySelector("h3").parentElement.innerText`
		before, err := browser.Eval[string](p, at)
		ok(t, err)
		ok(t, p.Wait(at+` !== `+fmt.Sprintf("%q", before)))
	})

	t.Run("history is zoomed, moved, compared and exported, and the URL carries it", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/devices/tank-fennimore-07/history?span=1h"))
		ok(t, p.Wait(`document.querySelectorAll("[data-metric] canvas").length === 7`))
		span := func() (width float64) {
			t.Helper()
			w, err := browser.Eval[float64](p,
				`(([a, b]) => (Date.parse(b) - Date.parse(a)) / 60000)(new URLSearchParams(location.search).get("span").split(".."))`)
			ok(t, err)
			return w
		}
		ok(t, p.Click(`button[aria-label="Closer"]`))
		ok(t, p.Wait(`location.search.includes("..") || location.search.includes("%2E%2E")`))
		if w := span(); w != 30 {
			t.Errorf("closer shows %v minutes of an hour", w)
		}
		ok(t, p.Click(`button[aria-label="Earlier"]`))
		ok(t, p.Click(`button[aria-label="Wider"]`))
		if w := span(); w != 60 {
			t.Errorf("wider shows %v minutes", w)
		}
		_, err := browser.Eval[any](p, `document.querySelector("[aria-label^=Charts]").focus()`)
		ok(t, err)
		ok(t, p.Keys("ArrowLeft"))
		before, err := browser.Eval[string](p, `location.search`)
		ok(t, err)
		ok(t, p.Go(s.Console+"/devices/tank-fennimore-07/history"+before))
		ok(t, p.Wait(`document.querySelectorAll("[data-metric] canvas").length === 7`))
		ok(t, p.Go(s.Console+"/devices/tank-fennimore-07/history?span=1h&with=tank-fennimore-03&hide=rssi,battery"))
		ok(t, p.Wait(`document.querySelectorAll("[data-metric] canvas").length === 5 && document.querySelector("[data-metric]").innerText.includes("tank-fennimore-03")`))
		rows, err := browser.Eval[float64](p,
			`fetch(document.querySelector("a[download]").href).then((r) => r.text()).then((t) => t.trim().split("\n").length)`)
		if err != nil || rows < 5*60 {
			t.Errorf("the export of an hour has %v rows, %v", rows, err)
		}
		ok(t, p.Go(s.Console+"/devices/tank-fennimore-07/history?span=2001-01-01T00:00:00Z..2001-01-02T00:00:00Z"))
		ok(t, p.WaitText("No reading in this span"))
	})

	t.Run("one metric of many devices is asked for, and the URL carries the question", func(t *testing.T) {
		// It opens with what is nearest to a limit, site by site.
		ok(t, p.Go(s.Console+"/query"))
		ok(t, p.Wait(`document.querySelectorAll("[data-line]").length > 0 && new URLSearchParams(location.search).get("group_by") === "site"`))
		ok(t, p.Go(s.Console+"/query?metric=battery"))
		ok(t, p.Wait(`document.querySelectorAll("[data-line]").length > 0`))
		ok(t, p.Type("input[aria-label=Metric]", "co2"))
		ok(t, p.Wait(`document.querySelectorAll("[data-line]").length === 9 && document.querySelector("figure canvas")`))
		ok(t, p.Go(s.Console+"/query?metric=co2&group_by=site&then=max&span=1h&where="+
			url.QueryEscape(`label.site in ("Kilnside", "Fennimore")`)))
		ok(t, p.Wait(`document.querySelectorAll("[data-line]").length === 2 && document.querySelector("[data-line=Kilnside]").innerText.includes("3 devices")`))
		ok(t, p.Go(s.Console+"/query?metric=co3"))
		ok(t, p.WaitText("No device has reported co3"))
	})

	t.Run("charts open where the data is", func(t *testing.T) {
		onboard(t, s, "tank-fennimore-90", "tank-probe")
		at := time.Now().UTC().AddDate(0, 0, -10)
		file := filepath.Join(t.TempDir(), "old.csv")
		ok(t, os.WriteFile(file, fmt.Appendf(nil, "device,metric,at,value\ntank-fennimore-90,must_temp,%s,21\ntank-fennimore-90,must_temp,%s,22\n", at.Format(time.RFC3339), at.Add(time.Minute).Format(time.RFC3339)), 0o600))
		cli(t, s, "import", file)
		for _, page := range []string{"", "/history"} {
			ok(t, p.Go(s.Console+"/devices/tank-fennimore-90"+page))
			ok(t, p.Wait(`document.querySelectorAll("[data-metric=must_temp] canvas").length === 1`))
		}
		ok(t, p.Go(s.Console+"/devices/tank-fennimore-90"))
		ok(t, p.WaitText("Nothing since"))
	})

	t.Run("the service tells how much room there is, and gives a backup", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/"))
		ok(t, p.Wait(`document.querySelector("header button[aria-haspopup]")`))
		ok(t, p.Click("header button[aria-haspopup]"))
		ok(t, p.Wait(`[...document.querySelectorAll("[role=menuitem]")].find((x) => x.innerText === "Service") && document.activeElement.closest("[role=menu]")`))
		// The menu loses an arrow that comes before it has moved by the last one.
		const marked = `document.activeElement.innerText`
		for at := ""; at != "Service"; {
			was := at
			ok(t, p.Keys("ArrowDown"))
			ok(t, p.Wait(`document.activeElement.matches("[role^=menuitem]") && `+marked+` !== `+quoted(was)))
			now, err := browser.Eval[string](p, marked)
			ok(t, err)
			at = now
		}
		ok(t, p.Keys("Enter"))
		ok(t, p.Wait(`location.pathname === "/service"`))
		ok(t, p.WaitText("Room on the disk"))
		ok(t, p.WaitText("for how long is known once a day of readings is in chunks"))
		ok(t, p.ClickText("By device"))
		ok(t, p.Wait(`location.search === "?by=device"`))
		head, err := browser.Eval[string](p,
			`fetch(document.querySelector("a[download]").href).then((r) => r.text().then((b) => r.headers.get("content-type") + " " + (b.length > 20000) + " " + b.includes("telemetry.db")))`)
		if err != nil || head != "application/x-tar true true" {
			t.Errorf("the backup is %q, %v", head, err)
		}
	})

	t.Run("an alarm rises, is acknowledged and goes", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/alarms"))
		o, err := s.Client.CreateDevice(t.Context(), client.NewDevice{ID: "air-kilnside-9", Model: "cellar-air",
			Labels: map[string]string{"site": "Kilnside", "row": "press hall"}})
		ok(t, err)
		send := func(co2 int) {
			command := fmt.Sprintf(`curl -sS -H 'Authorization: Bearer %s' -d '{"co2":%d}' http://%s/device/v1/readings`, o.Token, co2, s.HTTP)
			if out, err := shell(t, command); err != nil || !strings.Contains(out, `"kept":1`) {
				t.Fatalf("curl: %v %s", err, out)
			}
		}
		send(6100)
		ok(t, p.WaitText("CO₂ at 6\u2009100 ppm, leave the room"))
		ok(t, p.Click(`button[aria-label="Acknowledge co2_evacuate on air-kilnside-9"]`))
		ok(t, p.WaitText("acknowledged by engineer"))
	})

	t.Run("the traffic shows what passes and what was refused", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/traffic?refused=yes"))
		ok(t, p.WaitText("Nothing was refused"))
		command := fmt.Sprintf(`curl -sS -H 'Authorization: Bearer nonsense' -d '{}' http://%s/device/v1/readings`,
			s.HTTP)
		if out, err := shell(t, command); err != nil || !strings.Contains(out, "not authorised, ref ") {
			t.Fatalf("curl: %v %s", err, out)
		}
		ok(t, p.WaitText("no Ullage token"))
		ok(t, p.Go(s.Console+"/traffic?device=tank-fennimore-07"))
		ok(t, p.Wait(`document.querySelectorAll("ol li").length >= 2`))
	})

	t.Run("the palette goes to a device", func(t *testing.T) {
		ok(t, p.ClickText("Go to…\n/"))
		ok(t, p.Wait(`document.querySelector("[cmdk-input]")`))
		ok(t, p.Type("[cmdk-input]", "bung-saltmarsh-112\r"))
		ok(t, p.Wait(`location.pathname === "/devices/bung-saltmarsh-112"`))
	})

	t.Run("a device that does not exist", func(t *testing.T) {
		ok(t, p.Go(s.Console+"/devices/nobody"))
		ok(t, p.WaitText("There is no device nobody"))
	})

	for _, e := range p.Errors() {
		t.Errorf("the page complains: %s", e)
	}
}

// TestAccessible runs axe-core on every page, in both themes.
func TestAccessible(t *testing.T) {
	t.Parallel()
	axe := read(t, "test/corpora/node_modules/axe-core/axe.min.js")
	s := fleet(t)
	p := open(t, s, "/")
	check := func(page string) {
		t.Helper()
		found, err := p.Accessible(axe)
		ok(t, err)
		for _, f := range found {
			t.Errorf("%s: %s", page, f)
		}
	}
	ok(t, p.Wait(`document.querySelector("input[name=password]")`))
	check("sign-in")
	ok(t, p.SignIn("engineer", service.Password))
	layer := "paced"
	began, err := s.Client.StartRollout(t.Context(), client.RolloutStart{Layer: client.Layer{Name: layer, Set: map[string]any{"report_every": 12.0}},
		Plan: client.WavePlan{Waves: []waves.Size{{Count: 3}}}})
	ok(t, err)
	roll := began.ID
	turn := func(theme string) { // as the menu does
		_, err := browser.Eval[any](p, fmt.Sprintf("(document.documentElement.dataset.theme = %q, dispatchEvent(new Event('theme')))", theme))
		ok(t, err)
		time.Sleep(50 * time.Millisecond)
	}
	for path, ready := range map[string]string{
		"/":                                 `document.querySelectorAll('section[aria-label=Vessels] li').length === 48`,
		"/?view=list":                       `document.querySelectorAll("tbody tr").length === 48`,
		"/devices/air-kilnside-2":           `document.querySelector("figure canvas")`,
		"/devices/tank-kilnside-01":         `document.querySelector("[data-setting=stir_at]")`,
		"/devices/air-kilnside-2/history":   `document.querySelectorAll("[data-metric] canvas").length === 4`,
		"/devices/air-kilnside-2/traffic":   `document.querySelectorAll("ol li").length > 0`,
		"/devices/tank-kilnside-01/journal": `document.querySelector("tbody tr")`,
		"/alarms":                           `document.querySelector("main li") || document.body.innerText.includes("No alarm")`,
		"/models":                           `document.querySelectorAll("tbody tr").length === 6`,
		"/models/tank-probe":                `document.body.innerText.includes("set.tank_depth")`,
		"/models/tank-probe/edit":           `document.querySelector(".cm-content") && document.body.innerText.includes("as it is published")`,
		"/models/new?from=message":          `document.querySelector("textarea")`,
		"/query?metric=must_temp":           `document.querySelectorAll("[data-line]").length === 18 && document.querySelector("figure canvas")`,
		"/service?by=metric":                `document.body.innerText.includes("Room on the disk")`,
		"/traffic":                          `document.querySelectorAll("ol li").length > 0`,
		"/people":                           `document.querySelectorAll("tbody tr").length === 1`,
		"/people/engineer":                  `document.body.innerText.includes("Sign-ins")`,
		"/you":                              `document.querySelector("#you-old")`,
		"/sites":                            `document.querySelectorAll("tbody tr").length === 6`,
		"/sites/Fennimore":                  `document.querySelector("main img")?.complete`,
		"/rules":                            `document.querySelectorAll("tbody tr").length === 11`,
		"/rules/must_too_warm":              `document.querySelector("[aria-label=Metric]") && document.querySelector("[aria-label=Replay] table")`,
		"/rules/must_too_warm?as=text&beside=now": `document.querySelector(".cm-content") && document.body.innerText.includes("Nearest to the limit")`,
		"/settings/" + layer:                      `document.querySelector("#layer-set-report_every") && document.body.innerText.includes("Versions")`,
		"/rollouts/" + roll:                       `document.querySelectorAll("[aria-label=Waves] li").length === 2`,
		"/settings":                               `document.querySelector("main ol li, main code")`,
		"/maintenance":                            `document.body.innerText.includes("No maintenance is planned")`,
		"/journal":                                `document.querySelectorAll("ol li").length > 10`,
		"/documents/devices":                      `document.querySelector("article table")`,
		"/join":                                   `document.querySelectorAll("#join-model option").length === 7`,
		"/nowhere":                                `document.body.innerText.includes("no such page")`,
	} {
		ok(t, p.Go(s.Console+path))
		ok(t, p.Wait(ready))
		for _, theme := range []string{"light", "dark"} {
			turn(theme)
			check(theme + " " + path)
		}
	}
	ok(t, p.Go(s.Console+"/devices/tank-kilnside-01"))
	ok(t, p.Wait(`document.querySelector("[data-setting=stir_at]")`))
	ok(t, p.ClickText("Change a setting"))
	ok(t, p.Wait(`document.querySelector("#setting-stir_at")`))
	check("the settings dialog")
	ok(t, p.Keys("Escape"))
	ok(t, p.ClickText("Zero the level…"))
	ok(t, p.Wait(`document.querySelector("#input-reference_cm")`))
	check("the dialog of a command")
}

// TestStalePageSaysSo stops the service under an open page.
func TestStalePageSaysSo(t *testing.T) {
	t.Parallel()
	s, err := service.Start(t.TempDir())
	ok(t, err)
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.WaitText("No device is onboarded yet"))
	ok(t, s.Stop())
	ok(t, p.WaitText("Not live"))
}

// TestPageInTheBackground: a page that nobody sees gives its stream back; what happened
// meanwhile is on it as soon as it is seen again.
func TestPageInTheBackground(t *testing.T) {
	t.Parallel()
	s := start(t)
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	ok(t, p.WaitText("No device is onboarded yet"))
	ok(t, p.Go(s.Console+"/models"))
	ok(t, p.WaitText("There is no model yet"))
	hide := func(hidden string) {
		t.Helper()
		_, err := browser.Eval[bool](p, `(Object.defineProperty(document, "hidden", { get: () => `+hidden+`, configurable: true }), document.dispatchEvent(new Event("visibilitychange")))`)
		ok(t, err)
	}
	hide("true")
	cellars(t, s)
	hide("false")
	ok(t, p.WaitText("tank-probe"))
}

// TestNarrowAndWide looks for a page that must be scrolled sideways.
func TestNarrowAndWide(t *testing.T) {
	t.Parallel()
	s := fleet(t)
	p := open(t, s, "/")
	ok(t, p.SignIn("engineer", service.Password))
	for _, path := range []string{"/", "/devices/tank-fennimore-07", "/alarms", "/traffic", "/models",
		"/models/tank-probe", "/models/tank-probe/edit", "/devices/tank-fennimore-07/history", "/query?metric=co2", "/service",
		"/sites", "/sites/High Orchard", "/people", "/people/engineer", "/you", "/rules", "/rules/cellar_silent", "/rules/co2_high", "/maintenance", "/journal", "/documents/devices", "/join"} {
		ok(t, p.Size(390, 844))
		ok(t, p.Go(s.Console+path))
		ok(t, p.Wait(`document.querySelector("h1")`))
		for _, size := range [][2]int64{{390, 844}, {1280, 800}, {3840, 2160}} {
			ok(t, p.Size(size[0], size[1]))
			time.Sleep(200 * time.Millisecond)
			over, err := browser.Eval[int](p,
				`document.documentElement.scrollWidth - document.documentElement.clientWidth`)
			if err != nil || over > 1 {
				t.Errorf("%s at %d px is %d px too wide, %v", path, size[0], over, err)
			}
		}
	}
}
