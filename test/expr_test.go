package test

import (
	"encoding/json"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/test/service"
)

// TestExpressionCommands drives the language through the binary and the API.
func TestExpressionCommands(t *testing.T) {
	t.Parallel()
	s := start(t)
	run := func(want int, args ...string) (string, string) {
		t.Helper()
		out, errs, code := s.CLI("", args...)
		if code != want {
			t.Errorf("%v ends with %d, want %d: %s%s", args, code, want, out, errs)
		}
		return out, errs
	}
	says := func(text string, parts ...string) {
		t.Helper()
		for _, p := range parts {
			if !strings.Contains(text, p) {
				t.Errorf("it does not say %q:\n%s", p, text)
			}
		}
	}
	cellars(t, s)
	made := onboard(t, s, "tank-fennimore-07", "tank-probe", "site=Fennimore", "tank=F7", "stage=fermenting")
	onboard(t, s, "air-kilnside-2", "cellar-air", "site=Kilnside")
	if out, err := shell(t, "TOKEN="+made.Token+"\n"+strings.Replace(made.TryHTTP, "curl", "curl -f", 1)); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	until(t, "the reading is there", func() bool {
		d, err := s.Client.Device(t.Context(), "tank-fennimore-07")
		return err == nil && d.Latest["must_temp"].Value != nil
	})

	out, _ := run(3, "expr", "check", `must_tmp > 30 and label.stage = "fermenting"`)
	says(out, "^^^^^^^^", "column 1: no metric must_tmp in any model; did you mean must_temp?",
		`write: must_temp > 30 and label.stage = "fermenting"`, "column 31: = compares with two signs: ==")
	out, _ = run(0, "expr", "check", "--for", "rule", "--model", "cellar-air", "mean(co2 over 600s)>set.co2_warn")
	says(out, "mean(co2 over 10min) > set.co2_warn", "cost", "1 window")
	out, _ = run(3, "expr", "check", "--file", filepath.Join(service.Root(), "examples", "cellars", "models",
		"tank-probe.tm.json"), "co2 > 3")
	says(out, "no metric co2 in tank-probe")
	run(2, "expr", "check", "--for", "nothing", "true")
	run(2, "expr", "check")
	out, _ = run(0, "expr", "format", `( must_temp>300'K' )`)
	says(out, "must_temp > 300 'K'\n")
	run(3, "expr", "format", "must_temp >")
	out, _ = run(0, "expr", "eval", "--device", "tank-fennimore-07", "must_temp")
	says(out, "22.0 °C")
	out, _ = run(0, "expr", "eval", "--device", "tank-fennimore-07", "--at", "2h", "must_temp > 3")
	says(out, "–", "never reported")
	_, errs := run(3, "expr", "eval", "--device", "tank-fennimore-07", "must_tmp > 3")
	says(errs, "^^^^^^^^", "mend what is marked")
	run(1, "expr", "eval", "--device", "nobody", "true")
	run(2, "expr", "eval", "--device", "tank-fennimore-07", "--at", "yesterday", "true")
	out, _ = run(0, "expr", "explain", "--device", "tank-fennimore-07",
		`must_temp > set.max_temp - 3 and label.stage == "fermenting"`)
	says(out, "├─ must_temp > set.max_temp - 3", "22.0 °C", "29.0 °C", "100 %", "└─ label.stage", "fermenting")
	out, _ = run(0, "expr", "functions", "rate")
	says(out, "rate(x over 10min)", "K/h")

	out, _ = run(0, "device", "list", "--where", `label.site == "Fennimore" and must_temp < 30`)
	says(out, "tank-fennimore-07")
	if strings.Contains(out, "air-kilnside-2") {
		t.Errorf("the filter lets pass\n%s", out)
	}
	out, errs = run(1, "device", "list", "--where", "label.flor == 3")
	says(out+errs, "to_number(label.flor)")
	for _, list := range []string{"alarm", "journal"} {
		run(0, list, "list", "--where", `device.model == "tank-probe"`)
	}
	run(0, "traffic", "--once", "--where", "must_temp > 3")
	out, _ = run(0, "__complete", "device", "list", "--where", "must_temp > set.ma")
	says(out, "must_temp > set.max_temp")
	out, _ = run(0, "rule", "show", "cellar_silent")
	says(out, "each: label.site")

	t.Run("whatever a script sends", func(t *testing.T) {
		call := func(path string, body any) (int, string) {
			t.Helper()
			b, err := json.Marshal(body)
			ok(t, err)
			req, err := http.NewRequest("POST", s.Console+path, strings.NewReader(string(b)))
			ok(t, err)
			req.Header.Set("Content-Type", "application/json")
			req.Header.Set("Authorization", "Bearer "+s.Token)
			begun := time.Now()
			res, err := http.DefaultClient.Do(req)
			ok(t, err)
			defer res.Body.Close()
			var answer json.RawMessage
			ok(t, json.NewDecoder(res.Body).Decode(&answer))
			if d := time.Since(begun); d > within {
				t.Errorf("%s takes %s", path, d)
			}
			return res.StatusCode, string(answer)
		}
		for name, c := range map[string]struct {
			source, says string
			status       int
		}{
			"a megabyte":      {strings.Repeat("x", 1<<20), "too large", 413},
			"half a megabyte": {strings.Repeat("x", 1<<19), "must have 65536 characters at most", 422},
			"parentheses":     {strings.Repeat("(", 10000) + strings.Repeat(")", 10000), "nested more than 100 deep", 200},
			"zero bytes":      {"must_temp\x00> 3", "has no meaning here", 200},
			"a long window":   {"mean(must_temp over 3650d) > 3", "every device would carry it in memory", 200},
			"a regular one":   {`must_temp > 3`, `"canonical":"must_temp > 3"`, 200},
			"a huge number":   {`must_temp > 1e400`, "larger than any number", 200},
			"nothing written": {``, "nothing is written here yet", 200},
		} {
			if status, answer := call("/api/v1/expressions/check", map[string]any{"source": c.source, "purpose": "rule",
				"cursor": len(c.source)}); status != c.status || !strings.Contains(answer, c.says) {
				t.Errorf("%s: %d %.300s", name, status, answer)
			}
		}
		if status, _ := call("/api/v1/expressions/check", map[string]any{"source": "true", "cursor": -5}); status != 422 {
			t.Errorf("a cursor before the text gives %d", status)
		}
		if status, answer := call("/api/v1/expressions/explain", map[string]any{"source": "true", "device": "nobody"}); status != 404 {
			t.Errorf("%d %s", status, answer)
		}
	})
}

// TestCheckCommand checks fleet folders without a service.
func TestCheckCommand(t *testing.T) {
	run := func(want int, args ...string) string {
		t.Helper()
		cmd := exec.Command(service.Binary(), append([]string{"check"}, args...)...)
		cmd.Env = []string{"HOME=" + t.TempDir(), "PATH=" + os.Getenv("PATH")}
		out, err := cmd.CombinedOutput()
		if code := cmd.ProcessState.ExitCode(); code != want {
			t.Errorf("check %v ends with %d, want %d: %v\n%s", args, code, want, err, out)
		}
		return string(out)
	}
	example := filepath.Join(service.Root(), "examples", "cellars")
	if out := run(0, example); !strings.Contains(out, "6 models, 11 rules, 5 layers, 2 boards and 6 sites: 0 mistakes, 1 warning") {
		t.Errorf("of the example it says\n%s", out)
	}
	folder := t.TempDir()
	ok(t, os.CopyFS(folder, os.DirFS(example)))
	ok(t, os.Remove(filepath.Join(folder, "layers", "hardware-b.yaml"))) // of which there is a warning
	ok(t, os.Remove(filepath.Join(folder, "layers", "order.yaml")))
	path := filepath.Join(folder, "rules", "must_too_warm.yaml")
	ok(t, os.WriteFile(path, []byte(strings.Replace(read(t, "examples/cellars/rules/must_too_warm.yaml"), "must_temp >", "must_tmp >", 1)), 0o600))
	out := run(3, folder)
	if !strings.Contains(out, path+":4:8: error: raise: no metric must_tmp in tank-probe 1.2.0; did you mean must_temp?\n    write: must_temp\n") {
		t.Errorf("of a mistake it says\n%s", out)
	}
	var report struct {
		Models   int
		Findings []struct{ File, Severity, Kind string }
	}
	out = run(3, folder, "-o", "json")
	if err := json.NewDecoder(strings.NewReader(out)).Decode(&report); err != nil || report.Models != 6 ||
		len(report.Findings) != 1 || report.Findings[0].File != "rules/must_too_warm.yaml" ||
		report.Findings[0].Kind != "expression" {
		t.Errorf("as JSON it is %+v, %v", report, err)
	}
	var log struct {
		Version string
		Runs    []struct {
			Results []struct {
				RuleID    string `json:"ruleId"`
				Level     string
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn int }
					}
				}
			}
		}
	}
	out = run(3, folder, "-o", "sarif")
	if err := json.NewDecoder(strings.NewReader(out)).Decode(&log); err != nil || log.Version != "2.1.0" ||
		len(log.Runs) != 1 || len(log.Runs[0].Results) != 1 {
		t.Fatalf("as SARIF it is %+v, %v", log, err)
	}
	if x := log.Runs[0].Results[0]; x.RuleID != "expression" || x.Level != "error" ||
		x.Locations[0].PhysicalLocation.ArtifactLocation.URI != "rules/must_too_warm.yaml" ||
		x.Locations[0].PhysicalLocation.Region.StartLine != 4 ||
		x.Locations[0].PhysicalLocation.Region.StartColumn != 8 {
		t.Errorf("its result is %+v", x)
	}
	run(2, filepath.Join(folder, "no-such-folder"))
	run(2, t.TempDir())
	run(2, folder, "-o", "picture")
}

// TestModelCompare says what a change would break before it is loaded, and the
// service refuses it.
func TestModelCompare(t *testing.T) {
	t.Parallel()
	s := start(t)
	cellars(t, s)
	onboard(t, s, "tank-fennimore-07", "tank-probe")
	src := read(t, "examples/cellars/models/tank-probe.tm.json")
	write := func(name string, changes ...string) string {
		t.Helper()
		path := filepath.Join(t.TempDir(), name)
		ok(t, os.WriteFile(path, []byte(strings.NewReplacer(changes...).Replace(src)), 0o600))
		return path
	}
	breaking := write("tank-probe.tm.json", `"must_temp": {`, `"must_temperature": {`, `"1.2.0"`, `"1.3.0"`)
	out, errs, code := s.CLI("", "model", "compare", breaking)
	for _, says := range []string{"breaking  /properties/must_temp", "the metric must_temp is gone",
		"the metric must_temperature is new", "1 device with this model", "must_too_warm, raise: column 1: no metric must_temp", "call for version 2.0.0 at least, which it does not carry"} {
		if code != 3 || !strings.Contains(out, says) {
			t.Errorf("it ends with %d and does not say %q:\n%s%s", code, says, out, errs)
		}
	}
	if _, errs, code := s.CLI("", "model", "publish", breaking); code != 1 || !strings.Contains(errs, "breaks what is in the field: the metric must_temp is gone") || !strings.Contains(errs, "give it version 2.0.0") {
		t.Errorf("loading it ends with %d: %s", code, errs)
	}
	safe := write("tank-probe.tm.json", `"Tank probe"`, `"Probe of a tank"`, `"1.2.0"`, `"1.2.1"`)
	if out, _, code := s.CLI("", "model", "compare",
		filepath.Join(service.Root(), "examples/cellars/models/tank-probe.tm.json"), safe, "-o", "json"); code != 0 ||
		!strings.Contains(out, `"weight": "safe"`) {
		t.Errorf("two files: %d %s", code, out)
	}
	if _, errs, code := s.CLI("", "model", "publish", safe); code != 0 {
		t.Errorf("loading it ends with %d: %s", code, errs)
	}
	if _, errs, code := s.CLI("", "model", "compare", write("x.tm.json", `"tank-probe"`, `"vat-probe"`)); code != 1 || !strings.Contains(errs, "there is no model vat-probe in the service yet") {
		t.Errorf("%d %s", code, errs)
	}
}
