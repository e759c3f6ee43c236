package test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/eclipse/paho.golang/paho"

	"ullage/client"
	"ullage/test/service"
)

// mine returns a copy of the scenario's fleet folder with some texts replaced.
func mine(t *testing.T, changes ...string) string {
	t.Helper()
	root := filepath.Join(service.Root(), "examples", "cellars")
	dir := t.TempDir()
	for _, sub := range []string{"models", "rules"} {
		entries, err := os.ReadDir(filepath.Join(root, sub))
		ok(t, err)
		ok(t, os.MkdirAll(filepath.Join(dir, sub), 0o700))
		for _, e := range entries {
			b, err := os.ReadFile(filepath.Join(root, sub, e.Name()))
			ok(t, err)
			ok(t, os.WriteFile(filepath.Join(dir, sub, e.Name()),
				[]byte(strings.NewReplacer(changes...).Replace(string(b))), 0o600))
		}
	}
	return dir
}

func wants(t *testing.T, what, out string, code, wantCode int, says ...string) {
	t.Helper()
	if code != wantCode {
		t.Errorf("%s ends with %d, want %d:\n%s", what, code, wantCode, out)
	}
	for _, s := range says {
		if !strings.Contains(out, s) {
			t.Errorf("%s does not say %q:\n%s", what, s, out)
		}
	}
}

// TestModelTestCommand tries the examples beside the scenario's models.
func TestModelTestCommand(t *testing.T) {
	t.Parallel()
	s := start(t)
	out, errs, code := s.CLI("", "model", "test", filepath.Join(service.Root(), "examples/cellars/models"))
	wants(t, "model test", out+errs, code, 0, "ok    a full reading", "18 examples passed, 0 failed")
	dir := mine(t, "must_depth: 288.8", "must_depth: 200")
	out, errs, code = s.CLI("", "model", "test", filepath.Join(dir, "models", "tank-probe.tm.json"))
	wants(t, "model test", out+errs, code, 3, "FAIL  a full reading", "must_depth is 288.8; expected 200",
		"1 example came out another way")
	out, errs, code = s.CLI("", "check", dir)
	wants(t, "check", out+errs, code, 3, "tank-probe.examples.yaml:3:", "must_depth is 288.8; expected 200")
	out, errs, code = s.CLI("", "schema", "rule")
	wants(t, "schema", out+errs, code, 0, `"title": "Alarm rule for Ullage"`)
	out, errs, code = s.CLI(`{"cask_temp":12.4}`, "model", "new", "cask-lid")
	wants(t, "model new", out+errs, code, 0, `"ullage:name": "cask-lid"`, `"unit": "Cel"`)
}

// TestFolderCommands brings the scenario's folder into a service, sees what a
// change would do, and moves devices to it.
func TestFolderCommands(t *testing.T) {
	t.Parallel()
	s := start(t)
	root := filepath.Join(service.Root(), "examples", "cellars")
	out, errs, code := s.CLI("", "compare", root)
	wants(t, "compare", out+errs, code, 0, "tank-probe          new", "31 changes; nothing was changed")
	out, errs, code = s.CLI("", "load", root)
	wants(t, "load", out+errs, code, 0, "31 changes put in force")
	out, errs, code = s.CLI("", "load", root)
	wants(t, "load again", out+errs, code, 0, "Nothing to change")
	for _, id := range []string{"tank-kilnside-01", "tank-kilnside-02", "tank-fennimore-07"} {
		site := "Kilnside"
		if strings.Contains(id, "fennimore") {
			site = "Fennimore"
		}
		onboard(t, s, id, "tank-probe", "site="+site)
	}
	cli(t, s, "setting", "set", "tank-kilnside-01", "max_temp=39", "--wait", "0s")

	next := mine(t, `"1.2.0"`, `"2.0.0"`, "\"minimum\": 15,\n      \"maximum\": 40,",
		"\"minimum\": 15,\n      \"maximum\": 36,", "on_delay: 10min", "on_delay: 12min")
	out, errs, code = s.CLI("", "load", next)
	wants(t, "load without an answer", out+errs, code, 2, "nobody is there to answer", "--yes", "breaking",
		"on_delay: 10min → 12min")
	out, errs, code = s.CLI("", "load", next, "--yes")
	wants(t, "load", out+errs, code, 0, "1.2.0 → 2.0.0")
	out, errs, code = s.CLI("", "model", "list")
	wants(t, "model list", out+errs, code, 0, "1.2.0 (3), 2.0.0 (0)")
	out, errs, code = s.CLI("", "model", "move", "tank-probe", "--where", `label.site == "Kilnside"`, "--dry-run")
	wants(t, "a preview", out+errs, code, 0, "2 devices would move to tank-probe 2.0.0",
		"tank-kilnside-01  1.2.0  –     max_temp", "breaking  the maximum of max_temp")
	out, errs, code = s.CLI("", "model", "move", "tank-probe", "--where", `label.site == "Kilnside"`)
	wants(t, "without an answer", out+errs, code, 2, "say --yes")
	out, errs, code = s.CLI("", "model", "move", "tank-probe", "--where", `label.site == "Kilnside"`, "--yes")
	wants(t, "a move", out+errs, code, 0, "2 devices moved")
	out, errs, code = s.CLI("", "model", "list")
	wants(t, "model list", out+errs, code, 0, "1.2.0 (1), 2.0.0 (2)")
	out, errs, code = s.CLI("", "model", "move", "tank-probe@1.2.0", "--device", "tank-kilnside-02")
	wants(t, "one back", out+errs, code, 0, "1 device moved to tank-probe 1.2.0")
	out, errs, code = s.CLI("", "load", mine(t, `"Cask bung"`, `"Bung"`, `co2 > `, `co3 > `), "--yes")
	wants(t, "a folder with a mistake", out+errs, code, 3, "no metric co3", "nothing was loaded")
	out, errs, code = s.CLI("", "load", mine(t, `"Cask bung"`, `"Bung"`), "--yes")
	wants(t, "another content under a version", out+errs, code, 1, "is published already", "give this file version")
}

var shellBlock = regexp.MustCompile("(?s)```sh\n(.*?)```")

// TestPageLines pastes every line of the page for firmware authors into a shell.
func TestPageLines(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	for _, model := range []string{"tank-probe", "cellar-air", "press-scale"} {
		page := cli(t, s, "model", "page", model, "--format", "markdown", "--device", model+"-9")
		o := onboard(t, s, model+"-9", model)
		tried := 0
		for _, block := range shellBlock.FindAllStringSubmatch(page, -1) {
			for _, line := range strings.Split(strings.TrimSpace(block[1]), "\n") {
				if strings.HasPrefix(line, "ullage ") || strings.HasPrefix(line, "export ") {
					continue
				}
				run := line
				if strings.Contains(line, "mosquitto_sub") {
					run += " -W 2 -E" // subscribe, and leave
				}
				id := ""
				if strings.Contains(line, "command") || strings.Contains(line, "COMMAND") {
					m, err := s.Client.Model(t.Context(), model)
					ok(t, err)
					a := m.Actions[len(m.Actions)-1]
					c, err := s.Client.Give(t.Context(), model+"-9", client.NewCommand{Name: a.Name, Input: a.Example},
						0)
					ok(t, err)
					id = c.ID
				}
				out, err := shell(t, "export TOKEN='"+o.Token+"' COMMAND="+id+"; "+run)
				if err != nil || strings.Contains(out, "refused") || strings.Contains(out, `"status":4`) {
					t.Errorf("%s\n%v: %s", line, err, out)
				}
				tried++
			}
		}
		for _, path := range []string{"/commands?wait=30s", "/replies"} {
			if !strings.Contains(page, path) {
				t.Errorf("the page of %s has no line for %s", model, path)
			}
		}
		if model == "cellar-air" && !strings.Contains(page, "/event/muted") {
			t.Error("the page has no line for the event")
		}
		if tried < 14 {
			t.Errorf("the page of %s has only %d lines to paste", model, tried)
		}
		out := cli(t, s, "device", "show", model+"-9")
		if !strings.Contains(out, "online") {
			t.Errorf("after every line was pasted the device is:\n%s", out)
		}
	}
	html := cli(t, s, "model", "page", filepath.Join(service.Root(), "examples/cellars/models/tank-probe.tm.json"))
	for _, says := range []string{"<!doctype html>", "mosquitto_pub -h 127.0.0.1 -p 1883", "must_depth",
		"reference_cm, a number from 0 to 400 cm"} {
		if !strings.Contains(html, says) {
			t.Errorf("the page of a file does not say %s", says)
		}
	}
}

// ops is one word or a list of them.
type ops []string

func (o *ops) UnmarshalJSON(b []byte) error {
	if len(b) > 0 && b[0] == '"' {
		*o = ops{""}
		return json.Unmarshal(b, &(*o)[0])
	}
	return json.Unmarshal(b, (*[]string)(o))
}

type form struct {
	Op          ops      `json:"op"`
	Href        string   `json:"href"`
	Method      string   `json:"htv:methodName"`
	Topic       string   `json:"mqv:topic"`
	Packet      string   `json:"mqv:controlPacket"`
	ContentType string   `json:"contentType"`
	Subprotocol string   `json:"subprotocol"`
	Security    []string `json:"security"`
}

// TestThingDescriptionForms takes the forms of a device's Thing Description as
// they are written, with clients that know nothing of Ullage.
func TestThingDescriptionForms(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	o := onboard(t, s, "tank-kilnside-01", "tank-probe")
	var td struct {
		Properties map[string]struct {
			Type  string `json:"type"`
			Forms []form `json:"forms"`
		} `json:"properties"`
		Actions map[string]struct {
			Forms []form `json:"forms"`
		} `json:"actions"`
		Forms []form `json:"forms"`
		Links []struct{ Rel, Href, Type string }
	}
	if err := json.Unmarshal([]byte(cli(t, s, "device", "description", "tank-kilnside-01")), &td); err != nil {
		t.Fatal(err)
	}
	call := func(f form, token, body string) (int, string) {
		t.Helper()
		req, err := http.NewRequest(f.Method, f.Href, strings.NewReader(body))
		ok(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		if body != "" {
			req.Header.Set("Content-Type", f.ContentType)
		}
		resp, err := http.DefaultClient.Do(req)
		ok(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		ok(t, err)
		return resp.StatusCode, strings.TrimSpace(string(b))
	}
	readings := map[string]string{"tcp": `{"must_temp":21.5,"ullage":31}`, "http": `{"must_temp":22.5,"battery":3.4}`}
	about := `{"serial":"TH-204817","model_version":"1.2.0"}`
	used := map[string]bool{}
	for _, f := range td.Forms {
		body := readings["http"]
		if strings.HasSuffix(f.Href, "about") || strings.HasSuffix(f.Topic, "about") {
			body = about
		}
		switch {
		case f.Packet == "publish":
			if strings.HasSuffix(f.Topic, "readings") {
				body = readings["tcp"]
			}
			publish(t, f.Href, f.Topic, "tank-kilnside-01", o.Token, body)
			used["mqtt"] = true
		case f.Op[0] == "writemultipleproperties":
			if code, says := call(f, o.Token, body); code >= 300 {
				t.Errorf("%s %s: %d %s", f.Method, f.Href, code, says)
			}
			used["http"] = true
		}
	}
	if !used["mqtt"] || !used["http"] {
		t.Fatalf("the forms are %+v", td.Forms)
	}
	want := map[string]string{"must_temp": "22.5", "ullage": "31", "must_depth": "289", "serial": `"TH-204817"`,
		"max_temp": "32"}
	for name, value := range want {
		f := td.Properties[name].Forms[0]
		if code, says := call(f, s.Token, ""); code != 200 || says != value {
			t.Errorf("%s %s gives %d %s, want %s", f.Method, f.Href, code, says, value)
		}
	}
	write := td.Properties["max_temp"].Forms[1]
	if code, says := call(write, s.Token, "29.5"); code >= 300 || write.Op[0] != "writeproperty" {
		t.Errorf("%+v: %d %s", write, code, says)
	}
	if _, says := call(td.Properties["max_temp"].Forms[0], s.Token, ""); says != "29.5" {
		t.Errorf("after writing it is %s", says)
	}
	for body, wantCode := range map[string]int{`"hot"`: 422, `99`: 422, `{`: 422} {
		if code, says := call(write, s.Token, body); code != wantCode && code != 400 {
			t.Errorf("writing %s gives %d %s", body, code, says)
		}
	}
	all := td.Forms[0]
	if code, says := call(all, s.Token, ""); code != 200 || !strings.Contains(says, `"battery":3.4`) ||
		!strings.Contains(says, `"max_temp":29.5`) {
		t.Errorf("everything: %d %s", code, says)
	}
	// An action is performed by a device that speaks MQTT, and the caller gets
	// what it gives back.
	obey(t, td.Forms, "tank-kilnside-01", o.Token, map[string]string{"zero_level": `"output":{"offset_cm":1.5}`,
		"identify": `"error":"the lamp is broken"`})
	for _, c := range []struct {
		action, body string
		code         int
		says         string
	}{
		{"zero_level", `{"reference_cm":30}`, 200, `{"offset_cm":1.5}`},
		{"zero_level", `{"reference_cm":-3}`, 422, "0 to 400 cm"},
		{"identify", ``, 409, "the lamp is broken"},
	} {
		f := td.Actions[c.action].Forms[0]
		if code, says := call(f, s.Token, c.body); code != c.code || !strings.Contains(says, c.says) ||
			f.Op[0] != "invokeaction" {
			t.Errorf("%s %s %s gives %d %s, want %d %s", f.Method, f.Href, c.body, code, says, c.code, c.says)
		}
	}
	if code, says := call(form{Method: "GET", Href: td.Links[0].Href}, s.Token, ""); code != 200 || !strings.Contains(says, "tm:ThingModel") {
		t.Errorf("its type link gives %d %.80s", code, says)
	}
}

// obey connects as a device that performs commands until the test ends.
func obey(t *testing.T, forms []form, id, token string, replies map[string]string) {
	t.Helper()
	for _, f := range forms {
		if f.Packet != "publish" {
			continue
		}
		u, err := url.Parse(f.Href)
		ok(t, err)
		conn, err := net.Dial("tcp", u.Host)
		ok(t, err)
		var c *paho.Client
		c = paho.NewClient(paho.ClientConfig{Conn: conn, OnPublishReceived: []func(paho.PublishReceived) (bool, error){
			func(p paho.PublishReceived) (bool, error) {
				var m struct{ ID string }
				if err := json.Unmarshal(p.Packet.Payload, &m); err != nil {
					t.Errorf("%s: %s", p.Packet.Topic, p.Packet.Payload)
				}
				what := p.Packet.Topic[strings.LastIndexByte(p.Packet.Topic, '/')+1:]
				go c.Publish(t.Context(), &paho.Publish{Topic: "ullage/" + id + "/reply", QoS: 1,
					Payload: []byte(`{"id":"` + m.ID + `",` + replies[what] + `}`)})
				return true, nil
			}}})
		_, err = c.Connect(t.Context(), &paho.Connect{ClientID: id + "/hands", UsernameFlag: true, Username: id,
			PasswordFlag: true, Password: []byte(token), KeepAlive: 30, CleanStart: true})
		ok(t, err)
		_, err = c.Subscribe(t.Context(),
			&paho.Subscribe{Subscriptions: []paho.SubscribeOptions{{Topic: "ullage/" + id + "/command/+", QoS: 1}}})
		ok(t, err)
		t.Cleanup(func() { c.Disconnect(&paho.Disconnect{}) })
		return
	}
	t.Fatal("no form leads to the MQTT door")
}

// TestThingEvents hears of an event through the form of the Thing Description,
// and sees it in the journal.
func TestThingEvents(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	o := onboard(t, s, "air-kilnside-2", "cellar-air")
	var td struct {
		Events map[string]struct {
			Forms []form `json:"forms"`
		} `json:"events"`
	}
	ok(t, json.Unmarshal([]byte(cli(t, s, "device", "description", "air-kilnside-2")), &td))
	f := td.Events["muted"].Forms[0]
	ctx, cancel := context.WithTimeout(t.Context(), within)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", f.Href, nil)
	ok(t, err)
	req.Header.Set("Authorization", "Bearer "+s.Token)
	resp, err := http.DefaultClient.Do(req)
	ok(t, err)
	defer resp.Body.Close()
	if ct := resp.Header.Get("Content-Type"); f.Subprotocol != "sse" || resp.StatusCode != 200 ||
		!strings.HasPrefix(ct, "text/event-stream") {
		t.Fatalf("%+v gives %d %s", f, resp.StatusCode, ct)
	}
	for _, body := range []string{`{"minutes":500}`, `{"minutes":5}`} { // the first is refused, and not heard of
		req, err := http.NewRequest("POST", "http://"+o.HTTP+"/device/v1/events/muted", strings.NewReader(body))
		ok(t, err)
		req.Header.Set("Authorization", "Bearer "+o.Token)
		resp, err := http.DefaultClient.Do(req)
		ok(t, err)
		resp.Body.Close()
	}
	for lines := bufio.NewScanner(resp.Body); lines.Scan(); {
		if data, isData := strings.CutPrefix(lines.Text(), "data: "); isData {
			if data != `{"minutes":5}` {
				t.Errorf("heard of %s", data)
			}
			if out := cli(t, s, "journal", "list", "--kind", "event"); !strings.Contains(out, `sent the event muted {"minutes":5}`) {
				t.Errorf("the journal says:\n%s", out)
			}
			return
		}
	}
	t.Fatal("nothing was heard of the event")
}

// publish sends one message with QoS 1 as a form of the MQTT binding says.
func publish(t *testing.T, href, topic, user, password, body string) {
	t.Helper()
	u, err := url.Parse(href)
	ok(t, err)
	conn, err := net.Dial("tcp", u.Host)
	ok(t, err)
	c := paho.NewClient(paho.ClientConfig{Conn: conn})
	ctx, cancel := context.WithTimeout(t.Context(), within)
	defer cancel()
	_, err = c.Connect(ctx, &paho.Connect{ClientID: user, UsernameFlag: true, Username: user, PasswordFlag: true,
		Password: []byte(password), KeepAlive: 30, CleanStart: true})
	ok(t, err)
	if _, err := c.Publish(ctx, &paho.Publish{Topic: topic, QoS: 1, Payload: []byte(body)}); err != nil {
		t.Errorf("%s: %v", topic, err)
	}
	ok(t, c.Disconnect(&paho.Disconnect{}))
}

// TestSimulatedModel plays devices of a model before there is hardware.
func TestSimulatedModel(t *testing.T) {
	t.Parallel()
	s := start(t)
	file := filepath.Join(t.TempDir(), "cask-lid.tm.yaml")
	ok(t, os.WriteFile(file, []byte(`"@context": [https://www.w3.org/2022/wot/td/v1.1, {ullage: "urn:ullage:vocabulary:"}]
"@type": tm:ThingModel
title: Cask lid
version: {model: 1.0.0}
ullage:name: cask-lid
ullage:interval: 2s
properties:
  cask_temp: {type: number, unit: Cel, readOnly: true, minimum: -5, maximum: 40, "ullage:role": telemetry, "ullage:usual": [11, 15], "ullage:decimals": 1}
  lid: {type: object, readOnly: true, required: [open], properties: {open: {type: boolean}, turns: {type: integer, minimum: 0, maximum: 9}}}
  mode: {type: string, readOnly: true, enum: [idle, busy]}
  warm: {type: boolean, readOnly: true, "ullage:derived": "cask_temp > 13"}
  serial: {type: string, readOnly: true, "ullage:role": attribute}
  report_every: {type: integer, unit: s, minimum: 1, maximum: 60, default: 1, "ullage:role": setting}
actions:
  turn: {input: {type: object, properties: {times: {type: integer, minimum: 1, maximum: 9}}, required: [times]}, output: {type: object, properties: {turns: {type: integer}}}}
`), 0o600))
	turned := make(chan string, 1)
	go func() { // they obey commands while they play
		for end := time.Now().Add(within); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
			c, err := s.Client.Give(t.Context(), "cask-lid-sim-02",
				client.NewCommand{Name: "turn", Input: map[string]any{"times": 3}}, 5*time.Second)
			if err == nil {
				turned <- c.Phase + " " + string(c.Output)
				return
			}
		}
		turned <- "never taken"
	}()
	out, errs, code := s.CLI("", "sim", "--model", file, "--count", "4", "--for", "6s", "--credentials",
		filepath.Join(t.TempDir(), "c.json"))
	if got := <-turned; !strings.HasPrefix(got, `done {"turns":`) {
		t.Errorf("the command came to %s", got)
	}
	wants(t, "sim", out+errs, code, 0, "The fleet is live.")
	ds, err := s.Client.Devices(t.Context())
	ok(t, err)
	if len(ds) != 4 {
		t.Fatalf("%d devices", len(ds))
	}
	for _, d := range ds {
		temp, isNumber := d.Latest["cask_temp"].Value.(float64)
		_, hasOpen := d.Latest["lid_open"]
		_, hasWarm := d.Latest["warm"]
		if !isNumber || temp < 11 || temp > 15 || !hasOpen || !hasWarm || d.Refusals != 0 || d.Applied == 0 ||
			d.Reported != "" || !strings.HasPrefix(fmt.Sprint(d.Attributes["serial"]), "SIM-") {
			t.Errorf("%s: %+v, attributes %v, refusals %d, applied %d, reported %q", d.ID, d.Latest, d.Attributes,
				d.Refusals, d.Applied, d.Reported)
		}
	}
}

// TestBackfillCommand computes the past of a metric that a newer version derives.
func TestBackfillCommand(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	o := onboard(t, s, "valve-kilnside-01", "jacket-valve")
	var body bytes.Buffer
	body.WriteByte('[')
	for i := range 500 {
		if i > 0 {
			body.WriteByte(',')
		}
		fmt.Fprintf(&body, `{"at":%q,"opening":%d}`, time.Now().Add(time.Duration(i-600)*time.Minute).UTC().
			Format(time.RFC3339), i%100)
	}
	body.WriteByte(']')
	req, err := http.NewRequest("POST", "http://"+o.HTTP+"/device/v1/readings", &body)
	ok(t, err)
	req.Header.Set("Authorization", "Bearer "+o.Token)
	resp, err := http.DefaultClient.Do(req)
	ok(t, err)
	resp.Body.Close()
	next := mine(t, `"1.1.0"`, `"1.2.0"`, `"properties": {
    "opening"`, `"properties": {
    "closed": {"type": "number", "unit": "%", "readOnly": true, "ullage:role": "telemetry", "ullage:derived": "100 - opening"},
    "opening"`)
	cli(t, s, "model", "publish", filepath.Join(next, "models", "jacket-valve.tm.json"), "--move")
	out, errs, code := s.CLI("", "model", "backfill", "jacket-valve")
	wants(t, "backfill", out+errs, code, 0, "500 readings of 1 device computed")
	d, err := s.Client.Device(t.Context(), "valve-kilnside-01")
	ok(t, err)
	if d.ModelVersion != "1.2.0" || d.Latest["closed"].Value != 1.0 {
		t.Errorf("after it: %s, %+v", d.ModelVersion, d.Latest["closed"])
	}
}
