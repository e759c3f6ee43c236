package check

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"ullage/core/site"
)

// IsSite reports whether a path is that of a site.
func IsSite(p string) bool {
	return (strings.HasSuffix(p, ".yaml") || strings.HasSuffix(p, ".yml")) && path.Base(path.Dir(p)) == "sites" &&
		!IsModel(p) && !IsExamples(p)
}

// isPlan reports whether a path is that of a plan picture beside a site.
func isPlan(p string) bool {
	return slices.Contains([]string{".svg", ".png", ".jpg", ".jpeg"}, path.Ext(p)) && path.Base(path.Dir(p)) == "sites"
}

// Parts are the folders within a fleet folder that say by their names what is in
// them.
var Parts = []string{"models", "rules", "sites", "layers", "boards"}

// Belongs reports whether a file is part of a fleet folder; all others are left
// alone.
func Belongs(p string) bool {
	return IsModel(p) || IsRule(p) || IsExamples(p) || IsSite(p) || isPlan(p) || inLayers(p) || IsBoard(p)
}

// Overlooked says why a file is not read that looks as if it were part of a fleet folder; ""
// for all others.
func Overlooked(p string) string {
	if Belongs(p) || strings.HasPrefix(path.Base(p), ".") || !slices.Contains([]string{".yaml", ".yml", ".json", ".toml"}, strings.ToLower(path.Ext(p))) {
		return ""
	}
	switch dir := path.Base(path.Dir(p)); {
	case dir == "models":
		if strings.ToLower(path.Ext(p)) == ".json" { // what a model extends may be called so
			return ""
		}
		return "this file is not read: a model is called NAME.tm.json or NAME.tm.yaml, and examples NAME.examples.yaml"
	case slices.Contains(Parts, dir):
		return fmt.Sprintf("this file is not read: the files of %s end in .yaml", dir)
	case slices.Contains(Parts, dir+"s"):
		return fmt.Sprintf("this file is not read: %ss stand in a folder called %ss", dir, dir)
	}
	return ""
}

// Plan returns the picture that a site's file names, which stands beside it; nil
// if it names none. It is false if there is no such picture.
func Plan(files []File, at string, s *site.Site) ([]byte, bool) {
	if s.Plan == "" {
		return nil, true
	}
	want := path.Join(path.Dir(at), s.Plan)
	for _, f := range files {
		if f.Path == want {
			return f.Data, true
		}
	}
	return nil, false
}

func (c *folder) site(f File, files []File) {
	c.report.Sites++
	doc := parseYAML(f.Data)
	s, err := site.Parse(f.Data)
	if err != nil {
		at := place{1, 1}
		var of *site.Error
		if errors.As(err, &of) {
			at = doc.place("/" + of.Key)
		}
		sentence, at := takePlace(err.Error(), at)
		c.add(f.Path, at, "error", "site", "", "%s", sentence)
		return
	}
	if other, twice := c.siteAt[s.Name]; twice {
		c.add(f.Path, doc.place("/site"), "error", "reference", "", "%s is described in %s already; one file a site",
			s.Name, other)
		return
	}
	c.siteAt[s.Name] = f.Path
	picture, ok := Plan(files, f.Path, s)
	if !ok {
		c.add(f.Path, doc.place("/plan"), "error", "reference", "", "there is no picture %s beside this file", s.Plan)
		return
	}
	if picture != nil {
		if _, err := site.CheckPlan(picture); err != nil {
			c.add(path.Join(path.Dir(f.Path), s.Plan), place{1, 1}, "error", "site", "", "%s", err)
		}
	}
}
