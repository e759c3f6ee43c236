package test

import (
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ullage/test/service"
)

// A noun that people make is known by few files outside its own: what
// CONTRIBUTING.md promises, held to by the noun that came last. The label site,
// which devices have had before, is no part of it.
func TestANounTouchesFewPlaces(t *testing.T) {
	own := []string{"core/site/", "fleet/sites/", "core/check/sites.go", "fleet/scoped/sites.go", "store/sites.go", "api/sites.go",
		"cli/site.go", "console/src/pages/sites.tsx", "console/src/components/site-dialog.tsx"}
	made := []string{"console/src/api/schema.d.ts"} // by make types
	known := regexp.MustCompile(`\b(core/site|fleet/sites|siteKind|planKind|siteRoutes|siteCommand|siteThings|IsSite|IsPlan|Sites?Page)\b|[.&\s]Sites\b|/sites\b|"sites"`)
	list := exec.Command("git", "ls-files", "*.go", "*.ts", "*.tsx")
	list.Dir = service.Root()
	out, err := list.Output()
	ok(t, err)
	var files []string
	for _, f := range strings.Fields(string(out)) {
		mine := func(p string) bool { return strings.HasPrefix(f, p) }
		if strings.HasSuffix(f, "_test.go") || strings.HasPrefix(f, "test/") || strings.HasPrefix(f, "sim/") ||
			slices.ContainsFunc(own, mine) || slices.Contains(made, f) {
			continue
		}
		if known.MatchString(withoutComments(read(t, f))) {
			files = append(files, f)
		}
	}
	t.Logf("%d files outside its own know of sites:\n%s", len(files), strings.Join(files, "\n"))
	if len(files) > 18 {
		t.Errorf("%d files know of sites, want 18 at most", len(files))
	}
	if !slices.Contains(files, "app/app.go") {
		t.Error("app.go is not among them; the count counts nothing")
	}
}

// withoutComments leaves out the lines that are comments.
func withoutComments(src string) string {
	return regexp.MustCompile(`(?m)^\s*//.*$`).ReplaceAllString(src, "")
}
