// Package docs carries the documents for users, so that a running service shows
// those of its own version.
package docs

import (
	"embed"
	"io/fs"
	"slices"
	"strings"
)

//go:embed *.md
var files embed.FS

// Document is one document.
type Document struct {
	Name  string // file name without its ending, as in rules
	Title string
	Text  string // Markdown
}

// first are the documents in the order in which a newcomer reads them; what is
// not named follows.
var first = []string{"running", "people", "onboarding", "devices", "sites", "models", "settings", "rules", "alarms", "expressions", "storage", "security", "performance"}

// All returns every document.
func All() ([]Document, error) {
	names, err := fs.Glob(files, "*.md")
	if err != nil {
		return nil, err
	}
	var out []Document
	for _, n := range names {
		b, err := files.ReadFile(n)
		if err != nil {
			return nil, err
		}
		d := Document{Name: strings.TrimSuffix(n, ".md"), Text: string(b)}
		title, _, _ := strings.Cut(d.Text, "\n")
		d.Title = strings.TrimPrefix(title, "# ")
		out = append(out, d)
	}
	place := func(d Document) int {
		if i := slices.Index(first, d.Name); i >= 0 {
			return i
		}
		return len(first)
	}
	slices.SortStableFunc(out, func(a, b Document) int { return place(a) - place(b) })
	return out, nil
}
