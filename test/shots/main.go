// Command shots makes the pictures of docs/screenshots from a running demo.
// Make runs it: make screenshots.
package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"flag"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"ullage/client"

	"ullage/test/browser"
	"ullage/test/service"
)

type shot struct {
	name   string
	path   string
	theme  string
	width  int64
	height int64
	after  func(*browser.Page) error
}

func main() {
	console := flag.String("console", "", "address of a running demo; empty starts one")
	password := flag.String("password", "", "its password")
	out := flag.String("out", filepath.Join(service.Root(), "docs", "screenshots"), "folder for the pictures")
	only := flag.String("only", "", "make only this one")
	flag.Parse()
	if err := run(*console, *password, *out, *only); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(console, password, out, only string) error {
	if console == "" {
		d, err := service.StartDemo()
		if err != nil {
			return err
		}
		defer d.Stop()
		console, password = d.Console, d.Password
		time.Sleep(45 * time.Second) // until the story has raised its live alarms
	}
	b, err := browser.Start()
	if err != nil {
		return err
	}
	defer b.Close()
	p, err := b.Open(console, 1280, 800)
	if err != nil {
		return err
	}
	defer p.Close()
	if err := p.SignIn("engineer", password); err != nil {
		return err
	}
	shots := []shot{
		{name: "fleet", path: "/"},
		{name: "query", path: "/query?metric=co2&group_by=site&then=max&span=7d", theme: "dark"},
		{name: "people", path: "/people/cellar-master", after: func(p *browser.Page) error {
			if err := p.ClickText("Change"); err != nil {
				return err
			}
			return p.WaitText("It reaches 12 of 48 devices")
		}},
		{name: "history", path: "/devices/tank-fennimore-07/history?span=6h&peers=1&different=1"},
		{name: "device", path: "/devices/tank-fennimore-07?span=24h"},
		{name: "map", path: "/?view=map"},
		{name: "activity", path: "/?view=activity&over=24h"},
		{name: "site", path: "/sites/Kilnside"},
		{name: "board", path: "/boards/fennimore-hall"},
		{name: "rule", path: "/rules/co2_high", after: func(p *browser.Page) error {
			if err := p.Wait(`document.querySelectorAll("[aria-label=Replay] canvas").length > 3`); err != nil {
				return err
			}
			if err := p.Type(`input[placeholder="0"]`, "120"); err != nil {
				return err
			}
			return p.Wait(`document.querySelectorAll("[aria-label=Replay] tbody tr").length === 2`)
		}},
		{name: "expression-help", path: "/?where=" + url.QueryEscape(`label.stage == "fermenting" and must_temp > 24`), after: func(p *browser.Page) error {
			if err := p.Type("input[role=combobox]", `label.stage == "fermentin" and must_tmp > 24`); err != nil {
				return err
			}
			time.Sleep(time.Second)
			if err := p.Click(`button[aria-label="Help on expressions"]`); err != nil {
				return err
			}
			return p.WaitText("Fermenting tanks")
		}},
		{name: "alarms", path: "/alarms"},
		{name: "traffic", path: "/traffic"},
		{name: "settings", path: "/settings"},
		{name: "service", path: "/service"},
		{name: "model-edit", path: "/models/tank-probe", after: func(p *browser.Page) error {
			// A change that is written and not published stays in the browser.
			if _, err := browser.Eval[any](p,
				`fetch("/api/v1/models/tank-probe/source").then((r) => r.text()).then((t) => {
				const m = JSON.parse(t);
				m.version.model = "1.3.0";
				m.properties.density.unit = "kg/L";
				m.properties.report_every.maximum = 1800;
				m.properties.max_temp.default = 30;
				m.properties.rssi.title = "Radio signal";
				const short = (s) => s.replace(/\[\s+([^[\]{}]{1,90}?)\s+\]/g, (_, x) => "[" + x.replace(/\s*\n\s*/g, " ") + "]");
				localStorage.setItem("ullage-draft-model-tank-probe", short(JSON.stringify(m, null, 2)));
				location.href = "/models/tank-probe/edit?show=change";
			})`); err != nil {
				return err
			}
			if err := p.WaitText("it needs version 2.0.0"); err != nil {
				return err
			}
			time.Sleep(time.Second)
			_, err := browser.Eval[any](p, `localStorage.removeItem("ullage-draft-model-tank-probe")`)
			return err
		}},
		// The last one: it makes a device.
		{name: "join", path: "/join", after: func(p *browser.Page) error {
			if err := pallet(console, password); err != nil {
				return err
			}
			return joinDevice(p)
		}},
	}
	for _, s := range shots {
		if only != "" && only != s.name {
			continue
		}
		if s.width == 0 {
			s.width, s.height = 1280, 800
		}
		if s.theme == "" {
			s.theme = "light"
		}
		if err := p.Size(s.width, s.height); err != nil {
			return err
		}
		if _, err := browser.Eval[any](p, fmt.Sprintf("localStorage.setItem('ullage-theme', %q)", s.theme)); err != nil {
			return err
		}
		if err := p.Go(console + s.path); err != nil {
			return err
		}
		time.Sleep(2500 * time.Millisecond)
		if s.after != nil {
			if err := s.after(p); err != nil {
				return err
			}
			time.Sleep(500 * time.Millisecond)
		}
		if err := p.Picture(filepath.Join(out, s.name+".png")); err != nil {
			return err
		}
		fmt.Println(s.name)
	}
	if only == "" || strings.HasPrefix(only, "cli") {
		if err := terminals(console, password, out, only); err != nil {
			return err
		}
	}
	for _, e := range p.Errors() {
		fmt.Fprintln(os.Stderr, "the page complains:", e)
	}
	return nil
}

// pallet lets three devices ask to join, one of them once more.
func pallet(console, password string) error {
	ctx := context.Background()
	cl := client.New(console, "")
	if _, err := cl.SignIn(ctx, "engineer", password); err != nil {
		return err
	}
	until := time.Now().Add(30 * 24 * time.Hour)
	k := client.JoinKey{Name: "fennimore-pallet", Model: "tank-probe", Device: "tank-{part2}-{last2}", Labels: map[string]string{"site": "Fennimore"}, Cap: 40, ExpiresAt: &until, Note: "forty probes for row C"}
	if _, err := cl.MakeJoinKey(ctx, k); err != nil {
		return err
	}
	labels, err := cl.JoinLabels(ctx, k.Name, []string{"TP-fennimore-81", "TP-fennimore-82", "TP-fennimore-83"})
	if err != nil {
		return err
	}
	s, err := cl.Service(ctx)
	if err != nil {
		return err
	}
	ask := func(l client.JoinLabel, nonce string) error {
		b, err := json.Marshal(map[string]string{"serial": l.Serial, "secret": l.Secret, "nonce": nonce})
		if err != nil {
			return err
		}
		r, err := http.Post("http://"+s.DeviceHTTP+"/device/v1/join", "application/json", bytes.NewReader(b))
		if err != nil {
			return err
		}
		return r.Body.Close()
	}
	first := rand.Text()
	if err := ask(labels[0], first); err != nil {
		return err
	}
	if _, err := cl.DecideJoins(ctx, client.JoinDecision{Where: `serial == "TP-fennimore-81"`, Admit: true}); err != nil {
		return err
	}
	if err := ask(labels[0], first); err != nil {
		return err
	}
	for _, l := range labels {
		if err := ask(l, rand.Text()); err != nil {
			return err
		}
	}
	return nil
}

// joinDevice onboards a device on the page Join, whose first message has a mistake.
func joinDevice(p *browser.Page) error {
	if _, err := browser.Eval[any](p, `(async () => {
		const set = (where, v, of) => {
			const e = document.querySelector(where);
			Object.getOwnPropertyDescriptor(of.prototype, "value").set.call(e, v);
			e.dispatchEvent(new Event(of === HTMLSelectElement ? "change" : "input", { bubbles: true }));
		};
		set("#join-id", "tank-kilnside-09", HTMLInputElement);
		set("#join-model", "tank-probe", HTMLSelectElement);
		set("[aria-label='Value of label site']", "Kilnside", HTMLInputElement);
		await new Promise((r) => setTimeout(r, 300));
		[...document.querySelectorAll("button")].find((b) => b.innerText === "Onboard it").click();
	})()`); err != nil {
		return err
	}
	if err := p.WaitText("Send it from here"); err != nil {
		return err
	}
	if err := p.ClickText("HTTP, plain"); err != nil {
		return err
	}
	command, err := browser.Eval[string](p, `[...document.querySelectorAll("code")].map((c) => c.innerText).find((c) => c.startsWith("curl"))`)
	if err != nil {
		return err
	}
	token, err := browser.Eval[string](p, `[...document.querySelectorAll("code")].map((c) => c.innerText).find((c) => /^[0-9a-f]{8}\./.test(c))`)
	if err != nil {
		return err
	}
	command = "TOKEN=" + token + "\n" + strings.Replace(command, `"must_temp":22`, `"must_temp":"hot"`, 1)
	if out, err := exec.Command("sh", "-c", command).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	if err := p.ClickText("The bundle"); err != nil {
		return err
	}
	return p.Wait(`document.querySelector("[data-step='first valid reading']")?.dataset.state === "failed"`)
}

// terminals pictures commands in a terminal window on a screen of its own.
func terminals(console, password, out, only string) error {
	cl := client.New(console, "")
	in, err := cl.SignIn(context.Background(), "engineer", password)
	if err != nil {
		return err
	}
	screen := exec.Command("Xvfb", ":97", "-screen", "0", "1280x1600x24")
	if err := screen.Start(); err != nil {
		return fmt.Errorf("starting Xvfb: %w", err)
	}
	defer func() { screen.Process.Kill(); screen.Wait() }()
	time.Sleep(time.Second)
	for _, c := range []struct {
		name    string
		rows    int
		command string
	}{
		{"cli", 84, "ullage cause list; ullage device list --health watch; ullage doctor hub-saltmarsh; " +
			"ullage expr explain --device tank-fennimore-07 'must_temp > set.max_temp - 3 and mean(must_temp over 1h) > 29'; " +
			"ullage query tank-fennimore-07 must_temp --span 12h --draw; ullage query tank-fennimore-07 must_temp --forecast 12h | tail -1; " +
			"ullage check examples/cellars; ullage model test examples/cellars/models/cellar-air.tm.json; ullage compare examples/cellars; ullage store stats"},
		{"cli-watch", 48, "ullage watch"},
	} {
		if only != "" && only != c.name {
			continue
		}
		// Each command stands before what it prints.
		var script strings.Builder
		for one := range strings.SplitSeq(c.command, "; ") {
			fmt.Fprintf(&script, "printf '$ %%s\n' %s; %s; ", quote(one), one)
		}
		script.WriteString("sleep 30")
		term := exec.Command("xterm", "-geometry", fmt.Sprintf("158x%d+0+0", c.rows), "-fa", "Monospace", "-fs", "8", "-bg", "#15181b",
			"-fg", "#e7e4dc", "-b", "12", "+sb", "-e", "bash", "-c", script.String())
		term.Env = append(os.Environ(), "DISPLAY=:97", "ULLAGE_URL="+console, "ULLAGE_TOKEN="+in.Token,
			"PATH="+filepath.Dir(service.Binary())+":"+os.Getenv("PATH"))
		if err := term.Start(); err != nil {
			return fmt.Errorf("xterm: %w", err)
		}
		time.Sleep(6 * time.Second)
		shoot := exec.Command("import", "-window", "root", "-crop", fmt.Sprintf("1280x%d+0+0", 16*c.rows+24), "+repage", filepath.Join(out, c.name+".png"))
		shoot.Env = append(os.Environ(), "DISPLAY=:97")
		if b, err := shoot.CombinedOutput(); err != nil {
			return fmt.Errorf("import: %w: %s", err, b)
		}
		term.Process.Kill()
		term.Wait()
		fmt.Println(c.name)
	}
	return nil
}

func quote(s string) string { return "'" + strings.ReplaceAll(s, "'", "'\\''") + "'" }
