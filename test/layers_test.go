package test

import (
	"encoding/json"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"ullage/test/service"
)

// layers says what each room of the house may import of the others. The first
// pattern that fits a package counts; "" is the standard library and modules
// of others, which are judged below.
var layers = []struct{ room, may string }{
	{`^core/value$`, ``},
	{`^core/unit$`, `^core/value$`},
	{`^core/stats$`, ``},
	{`^core/version$`, ``},
	{`^core/expr$`, `^core/(value|unit|version)$`},
	{`^core/record$`, `^core/(value|unit|expr)$`},
	{`^core/`, `^core/`},
	{`^fleet/(fault|event|traffic|fact)$`, `^(core/|fleet/fault$)`},
	{`^fleet/commit$`, `^fleet/(fault|fact)$`},
	{`^fleet/`, `^(core/|fleet/)`},
	{`^store$`, `^(core/|fleet/)`},
	{`^transport/conns$`, ``},
	{`^transport/problem$`, `^(core/model|fleet/fault)$`},
	{`^transport/door$`, `^(core/|fleet/|transport/(problem|conns)$)`},
	{`^transport/`, `^(core/value|fleet/(fault|event|commands)|transport/(door|problem|conns))$`},
	{`^client$`, `^(core/|fleet/traffic$)`},
	{`^docs$`, ``},
	{`^api$`, `^(core/|fleet/|client$|docs$|transport/(problem|conns)$)`},
	{`^device$`, ``},
	{`^sim$`, `^(core/|client$|device$)`},
	{`^console$`, ``},
	{`^examples/`, ``},
	{`^pki$`, `^(core/value|fleet/(devices|fault))$`},
	{`^app$`, `^(core/|fleet/|store$|transport/|api$)`},
	{`^server$`, `^(core/|fleet/|store$|transport/|api$|app$|console$|pki$)`},
	{`^cli$`, `^(core/|client$|server$|sim$|api$|examples/|fleet/fault$)`},
	{`^cmd/`, `^cli$`},
}

// impure are the things that core must not touch: network, disk, clock,
// storage, interface.
var impure = regexp.MustCompile(`^(net|net/.*|os|os/.*|log|log/.*|database/.*|syscall|gorm\.io/.*|github\.com/gin-gonic/.*|github\.com/danielgtaylor/.*|modernc\.org/.*|github\.com/spf13/.*)$`)

// protocols are what fleet must not know.
var protocols = regexp.MustCompile(`^(net/http|gorm\.io/.*|github\.com/gin-gonic/.*|github\.com/danielgtaylor/.*|github\.com/mochi-mqtt/.*|modernc\.org/.*|github\.com/spf13/.*)$`)

func TestLayers(t *testing.T) {
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	cmd.Dir = service.Root()
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	rooms := 0
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); err != nil {
			t.Fatal(err)
		}
		name := strings.TrimPrefix(p.ImportPath, "ullage/")
		if strings.HasPrefix(name, "test") {
			continue
		}
		may := ""
		known := false
		for _, l := range layers {
			if known = regexp.MustCompile(l.room).MatchString(name); known {
				may = l.may
				break
			}
		}
		if !known {
			t.Errorf("%s is a room that the layers do not know; give it a line here and in CONTRIBUTING.md", name)
		}
		rooms++
		for _, i := range p.Imports {
			inner, own := strings.CutPrefix(i, "ullage/")
			switch {
			case own && (may == "" || !regexp.MustCompile(may).MatchString(inner)):
				t.Errorf("%s imports %s", name, inner)
			case strings.HasPrefix(name, "core/") && impure.MatchString(i) && i != "net/url" &&
				i != "net/netip": // those two only read texts
				t.Errorf("%s imports %s; core only computes", name, i)
			case strings.HasPrefix(name, "fleet/") && protocols.MatchString(i):
				t.Errorf("%s imports %s; fleet knows no protocol and no storage", name, i)
			}
		}
	}
	if rooms < 20 {
		t.Errorf("only %d rooms were found", rooms)
	}
}

// TestCoreHasNoClock looks for calls that would make core depend on when it runs.
func TestCoreHasNoClock(t *testing.T) {
	cmd := exec.Command("grep", "-rnE", `time\.(Now|Since|Until|After|Sleep|NewTimer|NewTicker)\(|\bgo func`, "core",
		"--include=*.go")
	cmd.Dir = service.Root()
	out, _ := cmd.Output()
	if len(out) > 0 {
		t.Errorf("core asks for the time or starts a goroutine:\n%s", out)
	}
}
