package test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/client"
	"ullage/test/service"
)

// Lines that are not run, each with the reason.
var notRun = map[string]string{
	"make ":               "builds and tests; whoever runs this test has done so",
	"export PATH":         "is done for all of them",
	"ullage login ":       "asks for a password at a terminal",
	"ullage serve ":       "goes on until it is stopped; the tests of TLS run it",
	"bin/ullage serve":    "goes on until it is stopped, on a folder that belongs to nobody here",
	"go ":                 "builds and tests",
	"ullage authority ":   "needs the data folder and a passphrase; the tests of the authority run them",
	"ullage store restor": "needs a folder of its own; the store's tests restore",
}

// Lines that go on until they are stopped, or wait for what does not come here.
var goesOn = []string{"ullage journal follow", "ullage watch", "ullage traffic ", "mosquitto_sub ", "wait=30s"}

// Lines that end with another code than 0, which the text around them says.
var endsWith = map[string]int{
	"expr check 'must_tmp":                         3,
	"command give tank-coldharbour-02 zero_level":  1,
	"ullage model compare /tmp/tank-probe.tm.json": 3,
	"ullage alarm reset":                           1, // it is not latched
}

var commandBlock = regexp.MustCompile("(?s)```(?:sh|bash)\n(.*?)```")

// Every command line of the README and of the documents runs as it stands against
// the demo.
func TestDocumentedCommands(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes half a minute")
	}
	free := func() string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		ok(t, err)
		defer l.Close()
		return l.Addr().String()
	}
	mqtt, web := free(), free()
	work := t.TempDir()
	d, err := service.StartDemo("--data", filepath.Join(work, "data"), "--history", "2d", "--listen", "127.0.0.1:0", "--listen-tls", "127.0.0.1:0", "--mqtt", mqtt,
		"--device-http", web, "--mqtt-tls", "127.0.0.1:0", "--device-http-tls", "127.0.0.1:0")
	ok(t, err)
	defer d.Stop()
	cl := client.New(d.Console, "")
	in, err := cl.SignIn(t.Context(), "engineer", d.Password)
	ok(t, err)
	bin := filepath.Join(work, "bin")
	ok(t, os.Mkdir(bin, 0o755))
	ok(t, os.Mkdir(filepath.Join(work, "tmp"), 0o755))
	ok(t, os.Symlink(service.Binary(), filepath.Join(bin, "ullage")))
	ok(t, os.CopyFS(filepath.Join(work, "examples", "cellars"), os.DirFS(filepath.Join(service.Root(), "examples", "cellars"))))
	ok(t, os.Chmod(filepath.Join(work, "examples", "cellars", "check.sh"), 0o755))
	copied := func(from, to string, change func(string) string) {
		t.Helper()
		b, err := os.ReadFile(filepath.Join(work, from))
		ok(t, err)
		ok(t, os.WriteFile(filepath.Join(work, to), []byte(change(string(b))), 0o600))
	}
	tanks := "examples/cellars/models/tank-probe.tm.json"
	newer := func(s string) string {
		return strings.Replace(strings.Replace(s, `"1.2.0"`, `"1.3.0"`, 1), `"maximum": 3600`, `"maximum": 7200`, 1)
	}
	copied(tanks, "tank-probe.tm.json", newer)
	copied(tanks, "new.tm.json", newer)
	copied(tanks, "old.tm.json", func(s string) string { return s })
	plans, err := filepath.Glob(filepath.Join(work, "examples", "cellars", "sites", "*.svg"))
	if err != nil || len(plans) == 0 {
		t.Fatalf("there is no plan among the examples: %v", err)
	}
	plan, err := os.ReadFile(plans[0])
	ok(t, err)
	ok(t, os.WriteFile(filepath.Join(work, "plan.png"), plan, 0o600)) // what it is is seen by its bytes
	env := append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "ULLAGE_URL="+d.Console, "ULLAGE_TOKEN="+in.Token,
		"ULLAGE_LOGIN="+filepath.Join(work, "login.json"), "HOME="+work)
	run := func(line string, most time.Duration) (string, int, bool) {
		ctx, cancel := context.WithTimeout(t.Context(), most)
		defer cancel()
		cmd := exec.CommandContext(ctx, "bash", "-c", line)
		cmd.Dir, cmd.Env = work, env
		cmd.WaitDelay = time.Second
		out, _ := cmd.CombinedOutput()
		return string(out), cmd.ProcessState.ExitCode(), ctx.Err() != nil
	}
	dev := struct {
		Token string `json:"token"`
	}{}
	out, _, _ := run("ullage device create doc-tank --model tank-probe -o json", within)
	ok(t, json.Unmarshal([]byte(out), &dev))
	env = append(env, "ID=doc-tank", "TOKEN="+dev.Token)
	out, _, _ = run("ullage device create doc-air --model cellar-air -o json", within)
	ok(t, json.Unmarshal([]byte(out), &dev))
	env = append(env, "AIR_TOKEN="+dev.Token)
	var alarms client.Page[client.Alarm]
	for end := time.Now().Add(90 * time.Second); len(alarms.Items) == 0 && time.Now().Before(end); time.Sleep(time.Second) {
		alarms, err = cl.Alarms(t.Context(), client.AlarmFilter{})
		ok(t, err)
	}
	if len(alarms.Items) == 0 {
		t.Fatal("the demo has no alarm")
	}
	here := strings.NewReplacer("/tmp/", work+"/tmp/", "-p 1883", "-p "+port(t, mqtt), "127.0.0.1:8461", web, "127.0.0.1:8460", host(t, d.Console),
		" ALARM", " "+alarms.Items[0].ID, "curl ", "curl -sS --fail-with-body ", "ullage load examples/cellars", "ullage load examples/cellars --yes",
		"--as-of 1min", "--as-of 1s", "--as-of 2026-11-24T03:00:00Z", "--as-of "+time.Now().UTC().Format(time.RFC3339),
		`site remove "High Orchard"`, `site remove "High Orchard" --yes`, "--for 30s", "--for 2s")
	files := []string{"README.md"}
	docs, err := filepath.Glob(filepath.Join(service.Root(), "docs", "*.md"))
	ok(t, err)
	for _, f := range docs {
		files = append(files, "docs/"+filepath.Base(f))
	}
	ran := 0
	for _, f := range files {
		b, err := os.ReadFile(filepath.Join(service.Root(), f))
		ok(t, err)
		for _, block := range commandBlock.FindAllStringSubmatch(string(b), -1) {
			for line := range strings.Lines(block[1]) {
				line = strings.TrimSpace(line)
				if line == "" || strings.HasPrefix(line, "#") || slices.ContainsFunc(keys(notRun), func(p string) bool { return strings.HasPrefix(line, p) }) {
					continue
				}
				if strings.Contains(line, "$COMMAND") {
					out, _, _ := run(`ullage command give doc-tank zero_level reference_cm=30 --wait 0s -o json`, within)
					var c struct{ ID string }
					ok(t, json.Unmarshal([]byte(out), &c))
					env = append(env, "COMMAND="+c.ID)
				}
				most := 2 * within
				waits := slices.ContainsFunc(goesOn, func(p string) bool { return strings.Contains(line, p) })
				if waits {
					most = 3 * time.Second
				}
				want := 0
				for part, code := range endsWith {
					if strings.Contains(line, part) {
						want = code
					}
				}
				out, code, late := run(here.Replace(line), most)
				ran++
				if late && waits {
					continue
				}
				if code != want || late || strings.Contains(out, "unknown flag") {
					t.Errorf("%s: %s\nends with %d, want %d, and says\n%s", f, line, code, want, out)
				}
			}
		}
	}
	if ran < 60 {
		t.Errorf("%d lines were run, want all of them, some 70", ran)
	}
}

func keys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	return out
}

func port(t *testing.T, address string) string {
	t.Helper()
	_, p, err := net.SplitHostPort(address)
	ok(t, err)
	return p
}

func host(t *testing.T, address string) string {
	t.Helper()
	u, err := url.Parse(address)
	ok(t, err)
	if u.Host == "" {
		t.Fatal(fmt.Sprint(address, " has no host"))
	}
	return u.Host
}
