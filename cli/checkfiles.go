package cli

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"ullage/core/check"
)

// checkNamed checks what was named: folders as a whole, files against what stands
// around them, of which only what is wrong in them is told. Findings name their
// files as they can be opened from here.
func checkNamed(args []string) (check.Report, error) {
	out := check.Report{Findings: []check.Finding{}}
	for _, a := range args {
		r, err := checkOne(a)
		if err != nil {
			return out, err
		}
		out.Models, out.Rules, out.Sites = out.Models+r.Models, out.Rules+r.Rules, out.Sites+r.Sites
		out.Findings = append(out.Findings, r.Findings...)
	}
	return out, nil
}

func checkOne(arg string) (check.Report, error) {
	info, err := os.Stat(arg)
	if err != nil {
		return check.Report{}, usageError{fmt.Errorf("%s cannot be read: there is no such file or folder", arg)}
	}
	if info.IsDir() {
		files, err := fleetFolder(arg)
		if err != nil {
			return check.Report{}, err
		}
		r := check.Folder(files)
		for i := range r.Findings {
			r.Findings[i].File = filepath.Join(arg, filepath.FromSlash(r.Findings[i].File))
		}
		return r, nil
	}
	dir := filepath.Dir(arg)
	root, files := around(dir)
	rel, err := filepath.Rel(root, arg)
	if err != nil {
		return check.Report{}, err
	}
	rel = filepath.ToSlash(rel)
	as, ok := named(rel)
	if !ok {
		return check.Report{}, usageError{fmt.Errorf("%s is no file that is checked; models are .tm.json or .tm.yaml, rules and sites .yaml", arg)}
	}
	b, err := os.ReadFile(arg)
	if err != nil {
		return check.Report{}, wrong("%s cannot be read: %v", arg, err)
	}
	files = slices.DeleteFunc(files, func(f check.File) bool { return f.Path == rel || f.Path == as })
	all := check.Folder(append(files, check.File{Path: as, Data: b}))
	r := check.Report{}
	switch {
	case check.IsModel(as):
		r.Models = 1
	case check.IsRule(as):
		r.Rules = 1
	case check.IsSite(as):
		r.Sites = 1
	}
	for _, f := range all.Findings {
		if f.File == as {
			f.File = arg
			r.Findings = append(r.Findings, f)
		}
	}
	return r, nil
}

// named is the path under which a file that was named is checked: what it is
// follows from its name, of YAML that stands alone it is taken to be a rule.
func named(rel string) (string, bool) {
	if check.Belongs(rel) {
		return rel, true
	}
	switch ext := path.Ext(rel); ext {
	case ".json", ".jsonld":
		return strings.TrimSuffix(rel, ext) + ".tm.json", true
	case ".yaml", ".yml":
		return path.Join(path.Dir(rel), "rules", path.Base(rel)), true
	}
	return rel, false
}

// around finds the fleet folder that a folder belongs to, and reads it: the one
// that holds it, if it is one of its parts, or itself. What stands in no fleet
// folder is alone with the files beside it.
func around(dir string) (root string, files []check.File) {
	root = dir
	abs, err := filepath.Abs(dir)
	if err == nil && slices.Contains([]string{"rules", "sites", "models"}, filepath.Base(abs)) {
		root = filepath.Join(dir, "..")
	}
	for _, part := range []string{"rules", "models"} {
		if info, err := os.Stat(filepath.Join(root, part)); err == nil && info.IsDir() {
			files, _ = fleetFolder(root)
			return root, files
		}
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return dir, nil
	}
	for _, e := range entries {
		if !e.Type().IsRegular() || !check.IsModel(e.Name()) && !check.IsPart(e.Name()) && !check.IsSite(e.Name()) {
			continue
		}
		if b, err := os.ReadFile(filepath.Join(dir, e.Name())); err == nil && len(b) <= maxPart {
			files = append(files, check.File{Path: e.Name(), Data: b})
		}
	}
	return dir, files
}

// maxPart is the largest file that is looked at because a model refers to it.
const maxPart = 1 << 20

// linked finds what models refer to, by name.
var linked = regexp.MustCompile(`"?(?:href|tm:ref)"?\s*:\s*"?([^"\s#]+)`)

// parts reads the files beside models that they refer to and that are no models
// of the folder themselves, such as a plain .json.
func parts(root string, files []check.File) []check.File {
	have := map[string]bool{}
	for _, f := range files {
		have[f.Path] = true
	}
	var out []check.File
	left := slices.Clone(files)
	for len(left) > 0 { // what they refer to may refer to more
		f := left[0]
		if left = left[1:]; !check.IsModel(f.Path) && !check.IsPart(f.Path) {
			continue
		}
		for _, m := range linked.FindAllSubmatch(f.Data, 200) {
			href := string(m[1])
			if strings.Contains(href, "://") {
				href = path.Base(href)
			}
			rel := path.Join(path.Dir(f.Path), href)
			if have[rel] || !check.IsPart(rel) || strings.HasPrefix(rel, "..") {
				continue
			}
			have[rel] = true
			at := filepath.Join(root, filepath.FromSlash(rel))
			if i, err := os.Stat(at); err != nil || i.Size() > maxPart || !i.Mode().IsRegular() {
				continue
			}
			if b, err := os.ReadFile(at); err == nil {
				out, left = append(out, check.File{Path: rel, Data: b}), append(left, check.File{Path: rel, Data: b})
			}
		}
	}
	return out
}
