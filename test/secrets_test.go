package test

import (
	"encoding/json"
	"fmt"
	"html"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/client"
	"ullage/test/service"
)

const radio = `{
  "@context": ["https://www.w3.org/2022/wot/td/v1.1", {"ullage": "urn:ullage:vocabulary:"}],
  "@type": "tm:ThingModel", "title": "Hall radio", "version": {"model": "1.0.0"},
  "ullage:name": "hall-radio", "ullage:interval": "60s",
  "properties": {
    "signal": {"type": "number", "readOnly": true, "unit": "dBm", "ullage:role": "telemetry"},
    "channel": {"type": "integer", "minimum": 1, "maximum": 13, "default": 6, "ullage:role": "setting"},
    "wifi_password": {"type": "string", "writeOnly": true, "minLength": 8, "maxLength": 63, "ullage:role": "setting"},
    "pin": {"type": "integer", "writeOnly": true, "minimum": 1000, "maximum": 999999999, "ullage:role": "setting"}
  }
}`

// TestSecretsStaySecret gives secrets in every way that there is, has devices take, report,
// refuse and leak them, and then looks for them in everything that the service tells and
// keeps. The device alone has them.
func TestSecretsStaySecret(t *testing.T) {
	t.Parallel()
	const ofLayer, ofDevice, ofMany, wrong = `lime"wash\vault-0417`, "quern-and-mortar", "many-a-mickle-9", "shor-7"
	const pin = 481516234
	dir := t.TempDir()
	s, err := service.Start(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { s.Kill() }()
	ctx := t.Context()
	file := filepath.Join(t.TempDir(), "hall-radio.tm.json")
	if err := os.WriteFile(file, []byte(radio), 0o600); err != nil {
		t.Fatal(err)
	}
	cli(t, s, "model", "publish", file)
	tokens := map[string]string{}
	for _, id := range []string{"radio-01", "radio-02", "radio-03"} {
		tokens[id] = onboard(t, s, id, "hall-radio").Token
	}
	layer := client.Layer{Name: "radios", Set: map[string]any{"wifi_password": ofLayer, "pin": pin}}
	seen, err := s.Client.PreviewLayers(ctx, client.LayerChange{Layer: &layer})
	if err != nil || seen.Devices != 3 {
		t.Fatalf("the preview: %+v, %v", seen, err)
	}
	if _, err := s.Client.Layers().Put(ctx, layer, ""); err != nil {
		t.Fatal(err)
	}
	if out, errs, code := s.CLI(ofDevice+"\n", "setting", "set", "radio-02", "--secret", "wifi_password", "--secret-stdin", "--wait", "0s"); code != 0 {
		t.Fatal(out, errs)
	}
	if out, errs, code := s.CLI(ofMany+"\n", "setting", "set", "--where", `device.id == "radio-03"`, "--secret", "wifi_password", "--secret-stdin", "--yes"); code != 0 {
		t.Fatal(out, errs)
	}
	// What is not allowed is not repeated.
	for _, set := range []map[string]any{{"wifi_password": wrong}, {"wifi_password": map[string]any{"a": wrong}}, {"pin": wrong}, {"pin": 4815.16}} {
		_, err := s.Client.ChangeSettings(ctx, "radio-01", client.SettingsChange{Set: set})
		if err == nil || strings.Contains(err.Error(), wrong) || strings.Contains(err.Error(), "4815") {
			t.Errorf("%v was answered with %v", set, err)
		}
		_, err = s.Client.Layers().Put(ctx, client.Layer{Name: "radios", Set: set}, "")
		if err == nil || strings.Contains(err.Error(), wrong) || strings.Contains(err.Error(), "4815") {
			t.Errorf("a layer with %v was answered with %v", set, err)
		}
	}
	device := func(id, method, path, body string) map[string]any {
		t.Helper()
		req, _ := http.NewRequestWithContext(ctx, method, "http://"+s.HTTP+"/device/v1/"+path, strings.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+tokens[id])
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		var out map[string]any
		b, _ := io.ReadAll(res.Body)
		if res.StatusCode >= 300 && path != "readings" {
			t.Fatalf("%s %s of %s: %d %s", method, path, id, res.StatusCode, b)
		}
		_ = json.Unmarshal(b, &out)
		return out
	}
	wants := map[string]string{"radio-01": ofLayer, "radio-02": ofDevice, "radio-03": ofMany}
	revision := map[string]any{}
	for id, want := range wants {
		until(t, id+" has its document", func() bool {
			doc := device(id, "GET", "intended", "")
			intended, _ := doc["intended"].(map[string]any)
			revision[id] = doc["revision"]
			return intended["wifi_password"] == want && intended["pin"] == float64(pin)
		})
	}
	state := func(id string) string {
		st, err := s.Client.Settings(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range st.Settings {
			if secret := x.Name != "channel"; secret != x.Secret || secret && x.Intended != "(secret)" {
				t.Errorf("%s of %s is told as %+v", x.Name, id, x)
			}
		}
		return st.State
	}
	quoted, _ := json.Marshal(ofLayer)
	// One tells its secrets back, one keeps them to itself, one refuses and blabs.
	device("radio-01", "POST", "applied", fmt.Sprintf(`{"revision":%.0f,"applied":{"channel":6,"wifi_password":%s,"pin":%d}}`, revision["radio-01"], quoted, pin))
	device("radio-02", "POST", "applied", fmt.Sprintf(`{"revision":%.0f,"applied":{"channel":6}}`, revision["radio-02"]))
	device("radio-03", "POST", "applied", fmt.Sprintf(`{"revision":%.0f,"applied":{"channel":6,"pin":%d},"refused":{"wifi_password":"no network takes %s"}}`, revision["radio-03"], pin, ofMany))
	for id, want := range map[string]string{"radio-01": "applied", "radio-02": "applied", "radio-03": "refused"} {
		if got := state(id); got != want {
			t.Errorf("%s is %s; it should be %s", id, got, want)
		}
	}
	device("radio-02", "POST", "readings", `{"signal":"the key is quern-and-mortar"}`)

	// The same once more changes nothing: no revision, no version.
	before, _ := s.Client.Settings(ctx, "radio-02")
	if _, err := s.Client.ChangeSettings(ctx, "radio-02", client.SettingsChange{Set: map[string]any{"wifi_password": ofDevice}}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.Layers().Put(ctx, layer, ""); err != nil {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	after, _ := s.Client.Settings(ctx, "radio-02")
	versions, err := s.Client.LayerVersions(ctx, "radios")
	if after.Revision != before.Revision || err != nil || len(versions) != 1 {
		t.Errorf("the same secrets made revision %d of %d and %d versions, %v", after.Revision, before.Revision, len(versions), err)
	}
	// A layer comes out sealed, and goes back as it came; nobody can give a sealed one to a device.
	folder := t.TempDir()
	out := cli(t, s, "layer", "show", "radios", "-o", "yaml")
	if !strings.Contains(out, "sealed:") {
		t.Errorf("the layer is written as\n%s", out)
	}
	_ = os.WriteFile(filepath.Join(folder, "radios.yaml"), []byte(out), 0o600)
	cli(t, s, "layer", "load", folder)
	if versions, err = s.Client.LayerVersions(ctx, "radios"); err != nil || len(versions) != 1 {
		t.Errorf("a layer that came back sealed made %d versions, %v", len(versions), err)
	}
	got, _, _ := s.Client.Layers().Get(ctx, "radios")
	if _, err := s.Client.ChangeSettings(ctx, "radio-02", client.SettingsChange{Set: map[string]any{"wifi_password": got.Set["wifi_password"]}}); err == nil {
		t.Error("a sealed secret was taken for a device")
	}
	if _, err := s.Client.Layers().Put(ctx, client.Layer{Name: "radios", Set: map[string]any{"pin": got.Set["wifi_password"]}}, ""); err == nil {
		t.Error("what was sealed for one setting was taken for another")
	}
	for _, asked := range []string{`set.wifi_password == "quern-and-mortar"`, `intended.pin > 3`} {
		if _, errs, code := s.CLI("", "device", "list", "--where", asked); code == 0 {
			t.Errorf("%s was answered", asked)
		} else if strings.Contains(errs, ofDevice) && !strings.Contains(asked, ofDevice) {
			t.Error(errs)
		}
	}

	// Every other way in.
	const byChange, byRollout = "by-hook-or-by-crook-77", "in-waves-and-ripples-88"
	if _, err := s.Client.ChangeLayers(ctx, client.LayerChange{Layer: &client.Layer{Name: "radios", Set: map[string]any{"wifi_password": byChange, "pin": pin}}}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.StartRollout(ctx, client.RolloutStart{Layer: client.Layer{Name: "radios", Set: map[string]any{"wifi_password": byRollout, "pin": pin}}}); err != nil {
		t.Fatal(err)
	}
	until(t, "the rollout has begun", func() bool {
		wifi := device("radio-01", "GET", "intended", "")["intended"].(map[string]any)["wifi_password"]
		return wifi == byRollout || wifi == byChange
	})
	wants["radio-01"] = byRollout

	hidden := []string{byChange, byRollout, ofLayer, strings.Trim(string(quoted), `"`), ofDevice, ofMany, fmt.Sprint(pin), wrong}
	look := func(where, text string) {
		t.Helper()
		for _, h := range hidden {
			if i := strings.Index(text, h); i >= 0 {
				t.Errorf("%s tells %q: …%s…", where, h, text[max(0, i-80):min(len(text), i+80)])
			}
		}
	}
	me, err := client.New(s.Console, "").SignIn(ctx, "engineer", service.Password)
	if err != nil {
		t.Fatal(err)
	}
	asked := 0
	for _, path := range []string{"devices", "devices/radio-01", "devices/radio-02/settings", "devices/radio-03/settings", "devices/radio-02/values", "devices/radio-02/description",
		"devices/radio-02/settings/wifi_password/explanation", "layers", "layers/radios", "layers/radios/versions", "layer-status?layer=radios", "layer-summaries", "journal?limit=500", "traffic?limit=500", "causes", "models/hall-radio",
		"as-of?at=" + time.Now().UTC().Format(time.RFC3339Nano), "boards", "service",
		"devices/radio-01/snapshot", "devices/radio-02/snapshot", "devices/radio-03/snapshot"} {
		req, _ := http.NewRequestWithContext(ctx, "GET", s.Console+"/api/v1/"+path, nil)
		req.Header.Set("Authorization", "Bearer "+me.Token)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode < 300 {
			asked++
		} else {
			t.Logf("%s: %d", path, res.StatusCode)
		}
		look(path, html.UnescapeString(string(b)))
	}
	if asked < 12 {
		t.Errorf("only %d questions were answered; that looks at little", asked)
	}
	look("the log", s.Log())
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	files := 0
	_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if err != nil {
			t.Error(err)
		}
		files++
		look(path, string(b))
		return nil
	})
	if files < 4 {
		t.Errorf("%d files were looked through", files)
	}
	// After a restart the devices still get them.
	if s, err = service.Start(dir); err != nil {
		t.Fatal(err)
	}
	for id, want := range wants {
		if id == "radio-01" {
			continue // its rollout goes on
		}
		if doc := device(id, "GET", "intended", ""); doc["intended"].(map[string]any)["wifi_password"] != want {
			t.Errorf("after a restart %s gets %v", id, doc)
		}
	}
}
