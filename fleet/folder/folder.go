// Package folder brings a fleet folder, the text files that hold models, rules
// and sites, into the service: all of it or nothing.
package folder

import (
	"context"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"ullage/core/board"
	"ullage/core/check"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/record"
	"ullage/core/rule"
	"ullage/core/site"
	"ullage/fleet/alarms"
	"ullage/fleet/boards"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/layers"
	"ullage/fleet/models"
	"ullage/fleet/sites"
)

// Options are what a Loader is made of.
type Options struct {
	Models  *models.Catalogue
	Alarms  *alarms.Engine
	Devices *devices.Registry
	Sites   *sites.Sites
	Layers  *layers.Layers
	Boards  *boards.Boards
}

// Loader compares fleet folders with the service and loads them.
type Loader struct{ o Options }

// New returns a Loader.
func New(o Options) *Loader { return &Loader{o} }

// Item is one thing of the folder, or of the service, and what it is to the other.
type Item struct {
	Kind    string
	Name    string
	File    string // path below the folder; empty for what is in the service only
	State   string // new, changed, same, or service: there and not in the folder, and stays
	Version string
	Before  string
	Devices int
	// Weight and Changes tell what another version of a model means.
	Weight  string
	Changes []model.Change
	// Lines are the keys of a rule that differ, each as "raise: old → new".
	Lines []string
}

// Outcome is what loading did, or would do.
type Outcome struct {
	Items    []Item
	Changed  int
	Loaded   bool
	Findings []check.Finding
}

// MaxFiles and MaxBytes bound a folder.
const (
	MaxFiles = 2000
	MaxBytes = 32 << 20
)

// Load compares a folder with the service and, unless preview is true, puts
// what differs in force. Nothing is changed if anything is wrong: the error is
// a fault, or the Outcome has findings that are errors.
func (l *Loader) Load(ctx context.Context, files []check.File, preview, atOnce bool, by string) (Outcome, error) {
	out := Outcome{Items: []Item{}, Findings: []check.Finding{}}
	if len(files) > MaxFiles {
		return out, fault.New(fault.TooLarge, "the folder has %d files; %d are the most", len(files), MaxFiles)
	}
	report := check.Folder(append(slices.Clone(files), l.others(files)...))
	failed := false
	for _, f := range report.Findings {
		failed = failed || f.Severity == "error"
		out.Findings = append(out.Findings, f)
	}
	if failed {
		return out, nil
	}
	byName := map[string]string{}
	loading, err := readModels(files, byName)
	if err != nil {
		return out, err
	}
	changes, err := l.o.Models.Plan(loading)
	if err != nil {
		return out, err
	}
	for _, c := range changes {
		out.Items = append(out.Items, l.modelItem(c, byName[c.Model.Name]))
	}
	rules, err := l.rules(files, &out)
	if err != nil {
		return out, err
	}
	places, err := l.sites(files, &out)
	if err != nil {
		return out, err
	}
	upper, order, err := l.layers(files, &out)
	if err != nil {
		return out, err
	}
	pages, err := l.boards(files, &out)
	if err != nil {
		return out, err
	}
	l.only(files, changes, &out)
	slices.SortStableFunc(out.Items, func(a, b Item) int {
		return strings.Compare(a.Kind+" "+a.Name, b.Kind+" "+b.Name)
	})
	for _, i := range out.Items {
		if i.State == "new" || i.State == "changed" {
			out.Changed++
		}
	}
	if preview || out.Changed == 0 {
		return out, nil
	}
	proposals := []layers.Proposal{}
	for _, x := range upper {
		proposals = append(proposals, layers.Proposal{Layer: &x, Checked: true})
	}
	if err := l.o.Layers.AtOnce(atOnce, proposals...); err != nil {
		return out, err
	}
	if err := l.o.Alarms.SetRules(ctx, rules, by, func(tx *commit.Tx) error {
		l.o.Models.Stage(tx, changes, by)
		if err := l.o.Sites.Stage(tx, places, by); err != nil {
			return err
		}
		if err := l.o.Layers.Stage(tx, upper, by); err != nil {
			return err
		}
		if err := l.o.Boards.Stage(tx, pages, by); err != nil {
			return err
		}
		if order != nil {
			l.o.Layers.StageOrder(tx, order, by)
		}
		return nil
	}); err != nil {
		return out, err
	}
	out.Loaded = true
	return out, nil
}

// others are the models and rules of the service that the folder does not
// have, as files: what is loaded has to fit them.
func (l *Loader) others(files []check.File) []check.File {
	var out []check.File
	mine := map[string]bool{}
	for _, f := range files {
		if check.IsRule(f.Path) {
			if r, err := rule.Read(f.Data); err == nil {
				mine["rule "+r.Name] = true
			}
		}
		if check.IsLayer(f.Path) {
			if x, err := layering.ParseLayer(f.Data); err == nil {
				mine["layer "+x.Name] = true
			}
		}
		if check.IsModel(f.Path) {
			mine["model "+check.NameInside(f.Data)] = true
		}
	}
	for _, m := range l.o.Models.List() {
		if !mine["model "+m.Name] {
			out = append(out, check.File{Path: "service/" + m.Name + ".tm.json", Data: m.Whole})
		}
	}
	for _, x := range l.o.Layers.Ordered() {
		if !mine["layer "+x.Name] {
			out = append(out, check.File{Path: "service/layers/" + x.Name + ".yaml", Data: x.YAML()})
		}
	}
	for _, r := range l.o.Alarms.Rules() {
		if !mine["rule "+r.Name] {
			out = append(out, check.File{Path: "service/rules/" + r.Name + ".yaml", Data: r.YAML()})
		}
	}
	return out
}

// readModels reads the models of a folder, with the files they refer to.
func readModels(files []check.File, at map[string]string) ([]models.File, error) {
	sources := map[string][]byte{}
	for _, f := range files {
		if check.IsModel(f.Path) || check.IsPart(f.Path) {
			sources[f.Path] = f.Data
		}
	}
	var out []models.File
	for _, f := range files {
		if !check.IsModel(f.Path) {
			continue
		}
		src := f.Data
		if !strings.HasSuffix(f.Path, ".json") && !strings.HasSuffix(f.Path, ".jsonld") {
			var err error
			if src, err = model.FromYAML(src); err != nil {
				return nil, err
			}
		}
		parts := map[string]json.RawMessage{}
		find := check.Finder(sources, f.Path)
		m, err := model.Read(src, func(href, from string) ([]byte, string, bool) {
			b, where, ok := find(href, from)
			if ok {
				parts[path.Base(href)] = b
			}
			return b, where, ok
		})
		if err != nil {
			return nil, err
		}
		at[m.Name] = f.Path
		out = append(out, models.File{Model: m, Parts: parts})
	}
	return out, nil
}

func (l *Loader) modelItem(c models.Change, file string) Item {
	i := Item{Kind: "model", Name: c.Model.Name, File: file, Version: c.Model.Version, Before: c.Before}
	switch c.State {
	case models.New:
		i.State = "new"
	case models.Newer:
		i.State = "changed"
	default:
		i.State = "same"
	}
	if c.Comparison != nil {
		i.Weight, i.Changes = string(c.Comparison.Weight), c.Comparison.Changes
	}
	for _, d := range l.o.Devices.List() {
		if d.Model == i.Name && d.Status != devices.Retired {
			i.Devices++
		}
	}
	return i
}

// rules returns the rules that differ from those in force.
func (l *Loader) rules(files []check.File, out *Outcome) ([]rule.Rule, error) {
	var set []rule.Rule
	for _, f := range files {
		if !check.IsRule(f.Path) {
			continue
		}
		r, err := rule.Parse(f.Data)
		if err != nil {
			return nil, err
		}
		i := Item{Kind: "rule", Name: r.Name, File: f.Path, State: "new"}
		if old, err := l.o.Alarms.Rule(r.Name); err == nil {
			i.State = "same"
			r.Author, r.Access = old.Author, old.Access // a folder does not say them
			if !old.Same(r) {
				i.State, i.Lines = "changed", difference(string(old.YAML()), string(r.YAML()))
			}
		}
		if i.State != "same" {
			set = append(set, *r)
		}
		out.Items = append(out.Items, i)
	}
	return set, nil
}

// sites returns the sites that differ from those of the service, or have another
// picture.
func (l *Loader) sites(files []check.File, out *Outcome) ([]sites.Loaded, error) {
	var set []sites.Loaded
	for _, f := range files {
		if !check.IsSite(f.Path) {
			continue
		}
		s, err := site.Parse(f.Data)
		if err != nil {
			return nil, err
		}
		picture, _ := check.Plan(files, f.Path, s)
		next := sites.Loaded{Site: *s, Picture: picture}
		x, plan, err := l.o.Sites.Ready(next)
		if err != nil {
			return nil, err
		}
		i := Item{Kind: "site", Name: s.Name, File: f.Path, State: "new"}
		if old, err := l.o.Sites.Get(s.Name); err == nil {
			i.State, i.Lines = "same", record.Difference(old, x)
			if plan != nil && !l.o.Sites.HasPlan(*plan) {
				i.Lines = append(i.Lines, "plan: another picture")
			}
			if len(i.Lines) > 0 {
				i.State = "changed"
			}
		}
		if i.State != "same" {
			set = append(set, next)
		}
		out.Items = append(out.Items, i)
	}
	return set, nil
}

// layers returns the layers that differ from those of the service, and the order of all of
// them where that is another one; what the folder's order does not name stands on top.
func (l *Loader) layers(files []check.File, out *Outcome) ([]layering.Layer, []string, error) {
	var set []layering.Layer
	var named []string
	there := l.o.Layers.Names()
	for _, f := range files {
		if check.IsLayerOrder(f.Path) {
			o, err := layering.ParseOrder(f.Data)
			if err != nil {
				return nil, nil, err
			}
			named = o.Order
		}
		if !check.IsLayer(f.Path) {
			continue
		}
		x, err := layering.ParseLayer(f.Data)
		if err != nil {
			return nil, nil, err
		}
		i := Item{Kind: "layer", Name: x.Name, File: f.Path, State: "new"}
		if old, err := l.o.Layers.Get(x.Name); err == nil {
			i.State, *x = "same", x.For(old)
			if record.Tag(old) != record.Tag(*x) {
				i.State, i.Lines = "changed", difference(string(old.Shown().YAML()), string(x.Shown().YAML()))
			}
		} else {
			there = append(there, x.Name)
		}
		if i.State != "same" {
			set = append(set, *x)
		}
		out.Items = append(out.Items, i)
	}
	if named == nil {
		return set, nil, nil
	}
	order := slices.Clone(named)
	for _, name := range there {
		if !slices.Contains(order, name) {
			order = append(order, name)
		}
	}
	if slices.Equal(order, l.o.Layers.Names()) {
		return set, nil, nil
	}
	i := Item{Kind: "layer", Name: "order", File: "layers/order.yaml", State: "new"}
	stay := slices.DeleteFunc(slices.Clone(order), func(n string) bool { return !slices.Contains(l.o.Layers.Names(), n) })
	if !slices.Equal(stay, l.o.Layers.Names()) { // those that are there stand otherwise
		i.State, i.Lines = "changed", []string{"order: " + strings.Join(l.o.Layers.Names(), ", ") + " → " + strings.Join(order, ", ")}
	}
	out.Items = append(out.Items, i)
	return set, order, nil
}

// boards returns the boards that differ from those of the service.
func (l *Loader) boards(files []check.File, out *Outcome) ([]board.Board, error) {
	var set []board.Board
	for _, f := range files {
		if !check.IsBoard(f.Path) {
			continue
		}
		x, err := board.Parse(f.Data)
		if err != nil {
			return nil, err
		}
		i := Item{Kind: "board", Name: x.Name, File: f.Path, State: "new"}
		if old, err := l.o.Boards.Get(x.Name); err == nil {
			i.State = "same"
			if record.Tag(old) != record.Tag(*x) {
				i.State, i.Lines = "changed", difference(string(old.YAML()), string(x.YAML()))
			}
		}
		if i.State != "same" {
			set = append(set, *x)
		}
		out.Items = append(out.Items, i)
	}
	return set, nil
}

// difference lists the keys of two rules that are not the same.
func difference(a, b string) []string {
	keys := func(s string) (order []string, by map[string]string) {
		by = map[string]string{}
		for _, line := range strings.Split(s, "\n") {
			if k, v, ok := strings.Cut(line, ":"); ok && !strings.HasPrefix(line, " ") {
				order, by[k] = append(order, k), strings.TrimSpace(v)
			} else if n := len(order); n > 0 {
				by[order[n-1]] = strings.TrimSpace(by[order[n-1]] + " " + strings.TrimSpace(line))
			}
		}
		return order, by
	}
	order, was := keys(a)
	next, is := keys(b)
	for _, k := range next {
		if !slices.Contains(order, k) {
			order = append(order, k)
		}
	}
	var out []string
	for _, k := range order {
		if was[k] != is[k] {
			out = append(out, fmt.Sprintf("%s: %s → %s", k, or(was[k]), or(is[k])))
		}
	}
	return out
}

func or(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

// only lists what the service has and the folder has not.
func (l *Loader) only(files []check.File, changes []models.Change, out *Outcome) {
	for _, m := range l.o.Models.List() {
		if !slices.ContainsFunc(changes, func(c models.Change) bool { return c.Model.Name == m.Name }) {
			out.Items = append(out.Items, Item{Kind: "model", Name: m.Name, State: "service", Before: m.Version})
		}
	}
	for _, r := range l.o.Alarms.Rules() {
		if !slices.ContainsFunc(out.Items, func(i Item) bool { return i.Kind == "rule" && i.Name == r.Name }) {
			out.Items = append(out.Items, Item{Kind: "rule", Name: r.Name, State: "service"})
		}
	}
	for _, name := range l.o.Layers.Names() {
		if !slices.ContainsFunc(out.Items, func(i Item) bool { return i.Kind == "layer" && i.Name == name }) {
			out.Items = append(out.Items, Item{Kind: "layer", Name: name, State: "service"})
		}
	}
	for _, x := range l.o.Boards.List() {
		if !slices.ContainsFunc(out.Items, func(i Item) bool { return i.Kind == "board" && i.Name == x.Name }) {
			out.Items = append(out.Items, Item{Kind: "board", Name: x.Name, State: "service"})
		}
	}
	for _, s := range l.o.Sites.List() {
		if !slices.ContainsFunc(out.Items, func(i Item) bool { return i.Kind == "site" && i.Name == s.Name }) {
			out.Items = append(out.Items, Item{Kind: "site", Name: s.Name, State: "service"})
		}
	}
}
