package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ullage/client"
	"ullage/sim"
	"ullage/test/browser"
	"ullage/test/service"
)

// fleetFigures measures with many devices, each connected and reporting.
func fleetFigures(dir string, count int) ([]figure, error) {
	data := filepath.Join(dir, fmt.Sprint("fleet-", count))
	s, err := serve(data)
	if err != nil {
		return nil, err
	}
	rules, err := filepath.Glob(filepath.Join(service.Root(), "examples", "cellars", "rules", "*.yaml"))
	if err != nil {
		return nil, err
	}
	if _, errs, code := s.CLI("", append([]string{"rule", "load"}, rules...)...); code != 0 {
		return nil, fmt.Errorf("the rules: %s", errs)
	}
	fmt.Printf("onboarding %d devices …\n", count)
	var creds sim.Credentials
	if err := sim.Onboard(context.Background(), s.Client, sim.Fleet(count), &creds, func() {}); err != nil {
		return nil, err
	}
	extra, err := s.Client.CreateDevice(context.Background(), client.NewDevice{ID: "tank-bench-1", Model: "tank-probe"})
	if err != nil {
		return nil, err
	}
	path := filepath.Join(dir, "credentials.json")
	if err := sim.WriteCredentials(path, creds); err != nil {
		return nil, err
	}
	if err := s.Stop(); err != nil {
		return nil, err
	}
	fmt.Println("starting with them …")
	begun := time.Now()
	if s, err = service.Start(data, "--device-rate", "0", "--device-connects", "0"); err != nil {
		return nil, err
	}
	started := time.Since(begun)
	defer s.Stop()

	fmt.Println("connecting them …")
	creds.MQTT, creds.HTTP = s.MQTT, s.HTTP
	if err := sim.WriteCredentials(path, creds); err != nil {
		return nil, err
	}
	args := []string{"sim", "--credentials", path, "--count", fmt.Sprint(count), "--for", "200s"}
	if count <= 1000 {
		args = append(args, "--history", "10min")
	}
	live := exec.Command(service.Binary(), args...)
	var told bytes.Buffer
	live.Stdout, live.Stderr = &told, &told
	if err := live.Start(); err != nil {
		return nil, err
	}
	ended := false
	end := func() {
		if !ended {
			ended = true
			live.Process.Signal(os.Interrupt)
			live.Wait()
		}
	}
	defer end()
	connected := 0
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		if v, err := s.Client.Service(context.Background()); err == nil {
			if connected = v.Connected; connected >= count*99/100 {
				break
			}
		}
	}
	time.Sleep(time.Duration(min(45, 15*count/1000)) * time.Second) // everybody has reported live
	v, err := s.Client.Service(context.Background())
	if err != nil {
		return nil, err
	}
	memory, err := resident(s.PID)
	if err != nil {
		return nil, err
	}
	busy, err := cpu(s.PID)
	if err != nil {
		return nil, err
	}
	lists, err := listTimes(s)
	if err != nil {
		return nil, err
	}
	fmt.Println("opening pages …")
	p, closeAll, err := signedIn(s)
	if err != nil {
		return nil, err
	}
	defer closeAll()
	loads, err := pageLoads(s, p, count)
	if err != nil {
		return nil, err
	}
	watched, err := cpu(s.PID)
	if err != nil {
		return nil, err
	}
	shown, err := toThePage(s, p, extra)
	if err != nil {
		return nil, err
	}
	if _, errs, code := s.CLI("", "site", "load", filepath.Join(service.Root(), "examples", "cellars", "sites")); code != 0 {
		return nil, fmt.Errorf("the sites: %s", errs)
	}
	frame, err := mapFrame(s, p)
	if err != nil {
		return nil, err
	}
	end()
	late := 0
	for line := range strings.Lines(told.String()) {
		if strings.Contains(line, "a message was not taken") &&
			!strings.Contains(line, "canceled") { // those of its own end
			late++
		}
	}
	out := []figure{
		{fmt.Sprintf("service start with %d devices, until it answers", count), started.Round(time.Millisecond).String(), target(count, "1 s", "1.5 s"), ""},
		{fmt.Sprintf("resident memory with %d devices, %d over MQTT, %.0f readings/s", count, connected, *v.PerSecond), fmt.Sprintf("%d MB", memory>>20), target(count, "200 MB", "400 MB"), ""},
		{"  share of a core without a page, median of five times 6 s", fmt.Sprintf("%.0f %%", busy.median), target(count, "", "25 %"), busy.String()},
		{"  and with the fleet page open", fmt.Sprintf("%.0f %%", watched.median), target(count, "", "40 %"), watched.String()},
		{"  messages that devices had to keep and send again", fmt.Sprint(late), "0", ""},
		{fmt.Sprintf("fleet page with %d devices, until interactive, median of %d", count, len(loads)), loads[len(loads)/2].Round(time.Millisecond).String(), target(count, "0.8 s", "2 s"), ""},
		{fmt.Sprintf("from a reading published to the device's page, p50 of %d", len(shown)), median(shown).Round(time.Millisecond).String(), "", ""},
		{"  p95", shown[len(shown)*95/100].Round(time.Millisecond).String(), "200 ms", ""},
		{fmt.Sprintf("map of %d devices while it is dragged: script of a frame, mean", count), fmt.Sprintf("%.1f ms", frame.script), "under 8 ms", ""},
	}
	return append(out, lists...), nil
}

// target chooses by the number of devices.
func target(count int, thousand, tenThousand string) string {
	t := thousand
	if count > 1000 {
		t = tenThousand
	}
	if t != "" {
		t = "under " + t
	}
	return t
}

// taken is how much of one core a process took, in percent, in several times.
type taken struct {
	median, least, most float64
	// stolen is how much of the machine its host gave to others meanwhile, in percent:
	// what is left does less in the time that is counted.
	stolen float64
}

func (l taken) String() string {
	return fmt.Sprintf("(%.0f–%.0f %%; %.0f %% of the machine were not there)", l.least, l.most, l.stolen)
}

// cpu returns how much of one core a process takes (Linux).
func cpu(pid int) (taken, error) {
	var shares []float64
	before, err := machine()
	if err != nil {
		return taken{}, err
	}
	for range 5 {
		a, err := ticks(pid)
		if err != nil {
			return taken{}, err
		}
		begun := time.Now()
		time.Sleep(6 * time.Second)
		z, err := ticks(pid)
		if err != nil {
			return taken{}, err
		}
		shares = append(shares, (z-a)/time.Since(begun).Seconds())
	}
	after, err := machine()
	if err != nil {
		return taken{}, err
	}
	slices.Sort(shares)
	return taken{shares[2], shares[0], shares[4], 100 * (after.stolen - before.stolen) / max(after.all-before.all, 1)}, nil
}

// ticks returns what a process has taken so far, in hundredths of a second (Linux).
func ticks(pid int) (float64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	f := strings.Fields(string(b[bytes.LastIndexByte(b, ')')+1:]))
	var user, system float64
	fmt.Sscan(f[11], &user)
	fmt.Sscan(f[12], &system)
	return user + system, nil
}

// machine returns the time of all cores so far, and what of it the host gave to
// others, in hundredths of a second (Linux).
func machine() (t struct{ all, stolen float64 }, err error) {
	b, err := os.ReadFile("/proc/stat")
	if err != nil {
		return t, err
	}
	first, _, _ := strings.Cut(string(b), "\n")
	for i, field := range strings.Fields(first) {
		var n float64
		if fmt.Sscan(field, &n); i <= 8 { // what follows is counted above already
			t.all += n
		}
		if i == 8 {
			t.stolen = n
		}
	}
	return t, nil
}

// listTimes asks for lists with filters as the command line does, and measures
// what comes over.
func listTimes(s *service.Service) ([]figure, error) {
	var out []figure
	for _, path := range []string{"/devices?brief=true&health=poor",
		"/devices?brief=true&where=" + url.QueryEscape("must_temp > 30"), "/models", "/alarms", "/journal?limit=50"} {
		var took []time.Duration
		size := 0
		for range 11 {
			req, err := http.NewRequest("GET", s.Console+"/api/v1"+path, nil)
			if err != nil {
				return nil, err
			}
			req.Header.Set("Authorization", "Bearer "+s.Token)
			begun := time.Now()
			resp, err := http.DefaultClient.Do(req)
			if err != nil {
				return nil, err
			}
			b, err := io.ReadAll(resp.Body)
			resp.Body.Close()
			if err != nil || resp.StatusCode != 200 {
				return nil, fmt.Errorf("%s is answered %s, %v", path, resp.Status, err)
			}
			took, size = append(took, time.Since(begun)), len(b)
		}
		name, _ := url.QueryUnescape(path)
		out = append(out, figure{"  GET " + name, median(took).Round(100 * time.Microsecond).String(), "under 100 ms",
			fmt.Sprintf("%d kB", (size+1023)>>10)})
	}
	return out, nil
}

// toThePage measures from when a device sends a value until a page shows it,
// which a browser tells; one machine, one clock.
func toThePage(s *service.Service, p *browser.Page, d client.Onboarded) ([]time.Duration, error) {
	conn, err := greet(s.MQTT, d.ID, d.Token)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if err := publishAll(conn, "ullage/"+d.ID+"/readings", []string{`{"must_temp":10}`}); err != nil {
		return nil, err
	}
	if err := p.Go(s.Console + "/devices/" + d.ID); err != nil {
		return nil, err
	}
	if err := p.WaitText("10.0"); err != nil {
		return nil, err
	}
	if _, err := browser.Eval[bool](p, `(() => {
		window.shown = {};
		const look = () => {
			const t = document.body.textContent;
			for (const m of t.matchAll(/(\d\d\.\d) ?°C/g)) window.shown[m[1]] ??= performance.timeOrigin + performance.now();
		};
		new MutationObserver(look).observe(document.body, { subtree: true, childList: true, characterData: true });
		return true;
	})()`); err != nil {
		return nil, err
	}
	var out []time.Duration
	for n := 1; n <= 60; n++ {
		value := fmt.Sprintf("%.1f", 11+float64(n)/10)
		begun := time.Now()
		if err := publishAll(conn, "ullage/"+d.ID+"/readings", []string{fmt.Sprintf(`{"must_temp":%s}`, value)}); err != nil {
			return nil, err
		}
		if err := p.Wait(fmt.Sprintf("window.shown[%q] > 0", value)); err != nil {
			return nil, fmt.Errorf("the page never showed %s: %w", value, err)
		}
		at, err := browser.Eval[float64](p, fmt.Sprintf("window.shown[%q]", value))
		if err != nil {
			return nil, err
		}
		out = append(out, time.Duration((at-float64(begun.UnixMicro())/1000)*float64(time.Millisecond)))
		time.Sleep(time.Duration(50+n*37%150) * time.Millisecond)
	}
	slices.Sort(out)
	return out, nil
}

// resident reads how much memory a process holds (Linux).
func resident(pid int) (int64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for _, line := range strings.Split(string(b), "\n") {
		var kb int64
		if _, err := fmt.Sscanf(line, "VmRSS: %d kB", &kb); err == nil {
			return kb << 10, nil
		}
	}
	return 0, fmt.Errorf("the memory of process %d is not told", pid)
}

// pageLoads measures from the navigation until every vessel is drawn and the
// page answers to input again.
func pageLoads(s *service.Service, p *browser.Page, count int) ([]time.Duration, error) {
	var out []time.Duration
	for range 7 {
		if err := p.Go(s.Console + "/"); err != nil {
			return nil, err
		}
		ms, err := browser.Eval[float64](p, fmt.Sprintf(`new Promise((done) => {
			const look = () => Number(document.querySelector('section[aria-label=Vessels]')?.dataset.devices) >= %d
				? setTimeout(() => done(performance.now()), 0) : setTimeout(look, 5);
			look();
		})`, count))
		if err != nil {
			return nil, err
		}
		out = append(out, time.Duration(ms*float64(time.Millisecond)))
	}
	slices.Sort(out)
	return out, nil
}
