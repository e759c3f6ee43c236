package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	mqtt3 "github.com/eclipse/paho.mqtt.golang"

	"ullage/client"
	"ullage/test/service"
)

// build makes the binary once, if make has not.
func TestMain(m *testing.M) {
	cmd := exec.Command("go", "build", "-o", service.Binary(), "./cmd/ullage")
	cmd.Dir = service.Root()
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "the binary cannot be built: %s\n", out)
		os.Exit(1)
	}
	code := m.Run()
	closeBrowser()
	os.Exit(code)
}

func start(t testing.TB, flags ...string) *service.Service {
	t.Helper()
	s, err := service.Start(t.TempDir(), flags...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Stop(); err != nil {
			t.Errorf("the service did not stop well: %v\n%s", err, s.Log())
		}
	})
	return s
}

// cli runs a command that must succeed and returns what it printed.
func cli(t testing.TB, s *service.Service, args ...string) string {
	t.Helper()
	out, errs, code := s.CLI("", args...)
	if code != 0 {
		t.Fatalf("ullage %s: exit code %d: %s", strings.Join(args, " "), code, errs)
	}
	return out
}

// cellars loads the scenario's models and rules through the command line.
func cellars(t testing.TB, s *service.Service) {
	t.Helper()
	root := filepath.Join(service.Root(), "examples", "cellars")
	cli(t, s, "model", "publish", filepath.Join(root, "models"))
	cli(t, s, "rule", "load", filepath.Join(root, "rules"))
	cli(t, s, "site", "load", filepath.Join(root, "sites"))
}

// onboard makes a device through the command line and returns its token.
func onboard(t testing.TB, s *service.Service, id, model string, labels ...string) client.Onboarded {
	t.Helper()
	args := []string{"device", "create", id, "--model", model, "-o", "json"}
	for _, l := range labels {
		args = append(args, "--label", l)
	}
	var o client.Onboarded
	if err := json.Unmarshal([]byte(cli(t, s, args...)), &o); err != nil {
		t.Fatal(err)
	}
	return o
}

func shell(t testing.TB, command string) (string, error) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	out, err := exec.CommandContext(ctx, "bash", "-c", command).CombinedOutput()
	return string(out), err
}

// until waits for something to become true.
func until(t testing.TB, what string, f func() bool) {
	t.Helper()
	for end := time.Now().Add(within); time.Now().Before(end); time.Sleep(30 * time.Millisecond) {
		if f() {
			return
		}
	}
	t.Fatalf("after %s still not: %s", within, what)
}

// TestTheWholeWay goes from a model to a confirmed setting with the command
// line, mosquitto's clients and curl.
func TestTheWholeWay(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	if out := cli(t, s, "model", "list"); !strings.Contains(out, "tank-probe") || !strings.Contains(out, "1.2.0") {
		t.Errorf("the models are\n%s", out)
	}
	o := onboard(t, s, "tank-fennimore-07", "tank-probe", "site=Fennimore", "tank=F7", "stage=fermenting")
	host, port, _ := strings.Cut(s.MQTT, ":")

	// The commands that onboarding prints work as they are.
	for _, command := range []string{o.TryMQTT, o.TryHTTP} {
		if out, err := shell(t, "TOKEN="+o.Token+"\n"+command); err != nil {
			t.Fatalf("%s: %v %s", command, err, out)
		}
	}
	var d client.Device
	if err := json.Unmarshal([]byte(cli(t, s, "device", "show", "tank-fennimore-07", "-o", "json")), &d); err != nil {
		t.Fatal(err)
	}
	if d.Latest["must_temp"].Value != 22.0 || d.Status != "active" || d.Link != "online" {
		t.Errorf("after the first readings the device is %+v", d)
	}
	if out := cli(t, s, "query", "tank-fennimore-07", "must_temp", "--span", "1h"); !strings.Contains(out, "22") {
		t.Errorf("the history is\n%s", out)
	}

	// Both versions of MQTT, with clients we did not write.
	for i, version := range []string{"311", "5"} {
		command := fmt.Sprintf(`mosquitto_pub -V %s -h %s -p %s -i tank-fennimore-07/v%s -u tank-fennimore-07 -P '%s' -q 1 -t ullage/tank-fennimore-07/readings -m '{"must_temp":%d}'`,
			map[string]string{"311": "mqttv311", "5": "mqttv5"}[version], host, port, version, o.Token, 24+i)
		if out, err := shell(t, command); err != nil {
			t.Fatalf("MQTT %s: %v %s", version, err, out)
		}
	}
	if d, err := s.Client.Device(t.Context(), "tank-fennimore-07"); err != nil || d.Latest["must_temp"].Value != 25.0 {
		t.Errorf("after both versions must_temp is %+v, %v", d.Latest["must_temp"], err)
	}

	// A setting goes out to a subscriber and is confirmed.
	heard := filepath.Join(t.TempDir(), "intended.txt")
	listen := fmt.Sprintf(`mosquitto_sub -V mqttv5 -h %s -p %s -i tank-fennimore-07 -u tank-fennimore-07 -P '%s' -q 1 -C 2 -W 15 -t ullage/tank-fennimore-07/intended > %s`, host, port, o.Token, heard)
	done := make(chan error, 1)
	go func() { _, err := shell(t, listen); done <- err }()
	until(t, "the subscriber has the first document", func() bool {
		b, _ := os.ReadFile(heard)
		return strings.Contains(string(b), `"revision":1`)
	})
	out := cli(t, s, "setting", "set", "tank-fennimore-07", "max_temp=24.5", "--wait", "0s")
	if !strings.Contains(out, "pending") {
		t.Errorf("the setting on its way shows as\n%s", out)
	}
	if err := <-done; err != nil {
		t.Fatalf("the subscriber: %v", err)
	}
	if b, _ := os.ReadFile(heard); !strings.Contains(string(b),
		`{"revision":2,"intended":{"display_unit":"Cel","max_temp":24.5,"report_every":10,"stir_at":28}}`) {
		t.Errorf("the subscriber heard %s", b)
	}
	applied := fmt.Sprintf(`curl -sS -H 'Authorization: Bearer %s' -H 'Content-Type: application/json' -d '{"revision":2,"applied":{"display_unit":"Cel","max_temp":24.5,"report_every":10,"stir_at":26},"refused":{"stir_at":"above 26 °C while sealed"}}' http://%s/device/v1/applied`, o.Token, s.HTTP)
	if out, err := shell(t, applied); err != nil || !strings.Contains(out, `"kept":4`) {
		t.Fatalf("the confirmation: %v %s", err, out)
	}
	out = cli(t, s, "setting", "show", "tank-fennimore-07")
	if !strings.Contains(out, "partly refused") || !strings.Contains(out, "refused: above 26 °C while sealed") {
		t.Errorf("the settings show as\n%s", out)
	}

	// The new limit is below the temperature: the alarm rises without a delay.
	rule := strings.NewReplacer("on_delay: 10min\n", "", "off_delay: 5min\n",
		"").Replace(read(t, "examples/cellars/rules/must_too_warm.yaml"))
	path := filepath.Join(t.TempDir(), "rule.yaml")
	os.WriteFile(path, []byte(rule), 0o600)
	cli(t, s, "rule", "load", path)
	send := func(v float64) {
		command := fmt.Sprintf(`curl -sS -H 'Authorization: Bearer %s' -d '{"must_temp":%g}' http://%s/device/v1/readings`, o.Token, v, s.HTTP)
		if out, err := shell(t, command); err != nil || !strings.Contains(out, `"kept":1`) {
			t.Fatalf("curl: %v %s", err, out)
		}
	}
	// What stands already is raised as of now.
	out = cli(t, s, "alarm", "list")
	if !strings.Contains(out, "unacknowledged") || !strings.Contains(out, "F7: must at 25.0 °C, limit 24.5 °C") {
		t.Errorf("the alarms are\n%s", out)
	}
	var as []client.Alarm
	if err := json.Unmarshal([]byte(cli(t, s, "alarm", "list", "-o", "json")), &as); err != nil || len(as) != 1 {
		t.Fatalf("%d alarms, %v", len(as), err)
	}
	if out := cli(t, s, "alarm", "acknowledge", as[0].ID); !strings.Contains(out, "acknowledged") ||
		!strings.Contains(out, "Open the jacket valve") {
		t.Errorf("acknowledging says\n%s", out)
	}
	send(20)
	for end := time.Now().Add(within); ; time.Sleep(50 * time.Millisecond) { // it is judged behind the answer
		if out = cli(t, s, "alarm", "list"); strings.Contains(out, "No alarm is open") {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("5 s after it returned\n%s", out)
		}
	}
	out = cli(t, s, "journal", "list", "--device", "tank-fennimore-07")
	for _, kind := range []string{"alarm raised", "alarm acknowledged", "alarm returned", "setting changed",
		"setting refused", "status changed"} {
		if !strings.Contains(out, kind) {
			t.Errorf("the journal has no %q:\n%s", kind, out)
		}
	}
}

func read(t testing.TB, path string) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(service.Root(), path))
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// TestGoClient publishes and subscribes with an MQTT client for Go.
func TestGoClient(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	o := onboard(t, s, "hub-saltmarsh", "cellar-hub")
	problems := make(chan string, 1)
	c := mqtt3.NewClient(mqtt3.NewClientOptions().AddBroker("tcp://" + s.MQTT).SetClientID("hub-saltmarsh").
		SetUsername("hub-saltmarsh").SetPassword(o.Token).SetProtocolVersion(4))
	if tok := c.Connect(); !tok.WaitTimeout(within) || tok.Error() != nil {
		t.Fatal(tok.Error())
	}
	defer c.Disconnect(100)
	if tok := c.Subscribe("ullage/hub-saltmarsh/problem", 0, func(_ mqtt3.Client, m mqtt3.Message) {
		problems <- string(m.Payload())
	}); !tok.WaitTimeout(within) || tok.Error() != nil {
		t.Fatal(tok.Error())
	}
	for _, body := range []string{`{"cpu_temp":51.5,"disk_free":60}`, `{"cpu_tmp":51.5}`} {
		if tok := c.Publish("ullage/hub-saltmarsh/readings", 1, false, body); !tok.WaitTimeout(within) ||
			tok.Error() != nil {
			t.Fatal(tok.Error())
		}
	}
	select {
	case p := <-problems:
		if !strings.Contains(p, "did you mean cpu_temp?") {
			t.Errorf("the problem is %s", p)
		}
	case <-time.After(within):
		t.Error("no problem was heard")
	}
	out := cli(t, s, "traffic", "hub-saltmarsh", "--once", "--refused")
	if !strings.Contains(out, "did you mean cpu_temp?") {
		t.Errorf("the traffic shows\n%s", out)
	}
}

// TestCommandLine calls commands in the wrong way and reads what they say.
func TestCommandLine(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	onboard(t, s, "tank-fennimore-07", "tank-probe", "site=Fennimore")
	bad := filepath.Join(t.TempDir(), "bad.tm.json")
	os.WriteFile(bad, []byte(`{"title": "x",`), 0o600)
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"device", "create"}, 2, "takes one device id"},
		{[]string{"device", "create", "x"}, 2, "--model is needed"},
		{[]string{"device", "create", "Tank 7", "--model", "tank-probe"}, 1, "no device id"},
		{[]string{"device", "create", "x", "--model", "tank-prob"}, 1, "there is no model"},
		{[]string{"device", "create", "x", "--model", "tank-probe", "--label", "site"}, 2, "site=Fennimore"},
		{[]string{"device", "show", "nobody"}, 1, "no device"},
		{[]string{"device", "retire", "tank-fennimore-07"}, 2, "--yes"},
		{[]string{"device", "list", "-o", "xml"}, 2, "table, json, yaml or csv"},
		{[]string{"setting", "set", "tank-fennimore-07", "max_temp"}, 2, "max_temp=30"},
		{[]string{"setting", "set", "tank-fennimore-07", "max_temp=hot"}, 1, "wants a number in °C"},
		{[]string{"setting", "set", "tank-fennimore-07", "max_temp=99"}, 1, "between 15 and 40 °C"},
		{[]string{"setting", "set", "tank-fennimore-07", "max_tmp=9"}, 1, "did you mean max_temp?"},
		{[]string{"query", "tank-fennimore-07", "must_temp", "--span", "soon"}, 2, "6h, 7d, today"},
		{[]string{"model", "publish", bad}, 1, "ends too early"},
		{[]string{"model", "publish", "/nowhere"}, 1, "no such file"},
		{[]string{"rule", "load", bad}, 3, "none of the rules was loaded"},
		{[]string{"alarm", "acknowledge", "01ARZ3NDEKTSV4RRFFQ69G5FAV"}, 1, "no alarm"},
		{[]string{"frobnicate"}, 2, "has no command"},
		{[]string{"device", "list", "--colour"}, 2, "unknown flag"},
		{[]string{"device", "list", "--url", "http://127.0.0.1:9"}, 5, "start one with ullage serve"},
		{[]string{"login", s.Console}, 2, "--password-stdin"},
	} {
		_, errs, code := s.CLI("", c.args...)
		if code != c.code || !strings.Contains(errs, c.says) {
			t.Errorf("ullage %s: exit code %d, %q; want %d and %q", strings.Join(c.args, " "), code, errs, c.code,
				c.says)
		}
	}
	// A folder with one bad file changes nothing.
	os.WriteFile(filepath.Join(filepath.Dir(bad), "another.tm.json"),
		[]byte(strings.Replace(moteModel, "1.0.0", "9.0.0", 1)), 0o600)
	if _, errs, code := s.CLI("", "model", "publish", filepath.Dir(bad)); code != 1 || !strings.Contains(errs, "nothing else was") {
		t.Errorf("a folder with a bad file: %d %q", code, errs)
	}
	if out := cli(t, s, "model", "list"); strings.Contains(out, "mote") {
		t.Errorf("part of a folder was loaded:\n%s", out)
	}
	_, errs, code := service.Run("", []string{"ULLAGE_URL=" + s.Console, "ULLAGE_TOKEN=nonsense"}, "device", "list")
	if code != 4 || !strings.Contains(errs, "ullage login") {
		t.Errorf("with a wrong token: %d %q", code, errs)
	}
	if _, errs, code := s.CLI("wrong-password\n", "login", s.Console, "--password-stdin"); code != 4 || !strings.Contains(errs, "name or password is wrong") {
		t.Errorf("with a wrong password: %d %q", code, errs)
	}
}

func TestOutputFormats(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	onboard(t, s, "tank-fennimore-07", "tank-probe", "site=Fennimore")
	var ds []client.Device
	if err := json.Unmarshal([]byte(cli(t, s, "device", "list", "-o", "json")), &ds); err != nil || len(ds) != 1 ||
		ds[0].Labels["site"] != "Fennimore" {
		t.Errorf("JSON: %+v, %v", ds, err)
	}
	for format, says := range map[string]string{"yaml": "id: tank-fennimore-07",
		"csv": "id,name,hub,model,model_version,", "table": "DEVICE"} {
		if out := cli(t, s, "device", "list", "-o", format); !strings.Contains(out, says) ||
			strings.Contains(out, "\x1b") {
			t.Errorf("%s:\n%s", format, out)
		}
	}
	for _, args := range [][]string{{"--help"}, {"sim", "--help"}, {"setting", "set", "--help"}, {"completion", "bash"},
		{"config", "show"}, {"--version"}, {"model", "show", "tank-probe"}, {"model", "source", "tank-probe"}, {"rule", "show", "co2_high"}, {"rule", "list"}, {"setting", "show", "tank-fennimore-07"}} {
		if out := cli(t, s, args...); len(out) < 10 {
			t.Errorf("ullage %v prints %q", args, out)
		}
	}
	if out, _, _ := s.CLI("", "__complete", "device", "show", "tank"); !strings.Contains(out, "tank-fennimore-07") {
		t.Errorf("completion gives %q", out)
	}
	if out := cli(t, s, "sim", "--help"); !strings.Contains(out, "Modbus") || !strings.Contains(out, "later") {
		t.Error("the help of sim does not say which protocols come later")
	}
}

// TestBadStarts starts services that cannot run.
func TestBadStarts(t *testing.T) {
	t.Parallel()
	s := start(t)
	for name, c := range map[string]struct {
		flags []string
		says  string
	}{
		"the same folder": {[]string{"--data", s.Data}, "another Ullage is running on the data folder"},
		"a busy port":     {[]string{"--mqtt", s.MQTT}, "is taken by another program"},
		"an open port":    {[]string{"--listen", "0.0.0.0:0"}, "--listen-tls"},
		"a bad level":     {[]string{"--log-level", "loud"}, "debug, info, warn or error"},
	} {
		args := append([]string{"serve", "--data", t.TempDir(), "--listen", "127.0.0.1:0", "--mqtt", "127.0.0.1:0",
			"--device-http", "127.0.0.1:0", "--mqtt-tls", "", "--device-http-tls", "", "--listen-tls", ""}, c.flags...)
		_, errs, code := service.Run("", nil, args...)
		if code != 1 || !strings.Contains(errs, c.says) || strings.Count(strings.TrimSpace(errs), "\n") > 0 {
			t.Errorf("%s: exit code %d, %q", name, code, errs)
		}
	}
}

// TestSimulatedFleet onboards the fleet, tells some history through the front
// door, and sees settings obeyed and refused by devices in another process.
func TestSimulatedFleet(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	creds := filepath.Join(t.TempDir(), "fleet.json")
	out, errs, code := s.CLI("", "sim", "--onboard", "--credentials", creds, "--history", "6h", "--live=false")
	if code != 0 || !strings.Contains(out, "The fleet is live.") {
		t.Fatalf("exit code %d: %s %s", code, out, errs)
	}
	ds, err := s.Client.Devices(t.Context())
	if err != nil || len(ds) != 48 {
		t.Fatalf("%d devices, %v", len(ds), err)
	}
	refused := 0
	for _, d := range ds {
		if d.Refusals > 0 {
			t.Errorf("%s had %d refusals", d.ID, d.Refusals)
		}
		if len(d.Drifting) > 0 {
			refused++
		}
	}
	if refused != 3 {
		t.Errorf("%d devices refuse a setting, want three", refused)
	}
	h, err := s.Client.History(t.Context(), "tank-fennimore-07", "must_temp",
		client.Span{From: time.Now().Add(-7 * time.Hour), To: time.Now(), Step: time.Hour})
	count := 0
	for _, b := range h.Steps {
		count += b.Count
	}
	if err != nil || count != 360 {
		t.Errorf("six hours hold %d readings, %v; want 360", count, err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), within)
	defer cancel()
	live := exec.CommandContext(ctx, service.Binary(), "sim", "--credentials", creds, "--for", "25s")
	if err := live.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { live.Process.Signal(os.Interrupt); live.Wait() })
	until(t, "devices are connected", func() bool {
		v, err := s.Client.Service(t.Context())
		return err == nil && v.Connected >= 37
	})
	out = cli(t, s, "setting", "set", "valve-fennimore-01", "target_temp=19")
	if !strings.Contains(out, "confirmed by the device") {
		t.Errorf("over MQTT 3.1.1:\n%s", out)
	}
	if out = cli(t, s, "setting", "set", "tank-fennimore-07", "max_temp=30"); !strings.Contains(out, "confirmed by the device") {
		t.Errorf("over MQTT 5:\n%s", out)
	}
	if out = cli(t, s, "setting", "set", "press-kilnside-1", "cycle_limit=100"); !strings.Contains(out, "confirmed by the device") {
		t.Errorf("over HTTP:\n%s", out)
	}
	if out = cli(t, s, "setting", "set", "tank-kilnside-01", "stir_at=30"); !strings.Contains(out, "refused: above 26 °C while the tank is sealed") {
		t.Errorf("a refusal:\n%s", out)
	}
}
