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
// around them, of which only what is wrong in them is told. Files of findings
// are below root: the folder, if one was named alone, else where this runs.
func checkNamed(args []string) (out check.Report, root string, err error) {
	out.Findings = []check.Finding{}
	for _, a := range args {
		r, folder, err := checkOne(a)
		if err != nil {
			return out, "", err
		}
		if root = folder; len(args) > 1 {
			for i := range r.Findings {
				r.Findings[i].File = filepath.ToSlash(filepath.Join(folder, r.Findings[i].File))
			}
			root = ""
		}
		out.Add(r)
	}
	return out, root, nil
}

// checkOne checks a folder or a file; its findings are below root.
func checkOne(arg string) (r check.Report, root string, err error) {
	info, err := os.Stat(arg)
	if err != nil {
		return r, "", usageError{fmt.Errorf("%s cannot be read: there is no such file or folder", arg)}
	}
	if info.IsDir() {
		files, err := fleetFolder(arg)
		if err != nil {
			return r, "", err
		}
		return check.Folder(files), arg, nil
	}
	top, files := around(filepath.Dir(arg))
	rel, err := filepath.Rel(top, arg)
	if err != nil {
		return r, "", err
	}
	rel = filepath.ToSlash(rel)
	as, ok := named(rel)
	if !ok {
		return r, "", usageError{fmt.Errorf("%s is no file that is checked; models are .tm.json or .tm.yaml, the others .yaml", arg)}
	}
	b, err := os.ReadFile(arg)
	if err != nil {
		return r, "", wrong("%s cannot be read: %v", arg, err)
	}
	files = slices.DeleteFunc(files, func(f check.File) bool { return f.Path == rel || f.Path == as })
	all := check.Folder(append(files, check.File{Path: as, Data: b}))
	r = check.Folder([]check.File{{Path: as, Data: b}}) // alone, for what it is
	r.Findings = []check.Finding{}
	for _, f := range all.Findings {
		if f.File == as {
			f.File = arg
			r.Findings = append(r.Findings, f)
		}
	}
	return r, "", nil
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
	if err == nil && slices.Contains(check.Parts, filepath.Base(abs)) {
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
		if !e.Type().IsRegular() || !check.Belongs(e.Name()) && !check.IsPart(e.Name()) {
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
