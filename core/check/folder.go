package check

import (
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/rule"
	"ullage/core/value"
)

// File is one file of a fleet folder, with its path below the folder.
type File struct {
	Path string
	Data []byte
}

// Finding is one thing wrong in a fleet folder.
type Finding struct {
	File     string `json:"file" doc:"Path below the folder"`
	Line     int    `json:"line" doc:"From 1"`
	Column   int    `json:"column" doc:"From 1"`
	Severity string `json:"severity" enum:"error,warning"`
	Kind     string `json:"kind" enum:"file,model,rule,site,layer,board,expression,reference"`
	Sentence string `json:"sentence" doc:"What is wrong and what would be right"`
	Suggest  string `json:"suggest,omitempty" doc:"What to write there instead"`
}

// Report is what there is to say about a fleet folder.
type Report struct {
	Models   int       `json:"models"`
	Rules    int       `json:"rules"`
	Sites    int       `json:"sites"`
	Layers   int       `json:"layers"`
	Boards   int       `json:"boards"`
	Examples int       `json:"examples"`
	Findings []Finding `json:"findings"`
}

// Add counts what another report has looked at too, and takes its findings over.
func (r *Report) Add(o Report) {
	r.Models, r.Rules, r.Sites, r.Layers, r.Boards = r.Models+o.Models, r.Rules+o.Rules, r.Sites+o.Sites, r.Layers+o.Layers, r.Boards+o.Boards
	r.Findings = append(r.Findings, o.Findings...)
}

// Errors returns how many findings are no warnings.
func (r *Report) Errors() int {
	n := 0
	for _, f := range r.Findings {
		if f.Severity == "error" {
			n++
		}
	}
	return n
}

// IsModel reports whether a path is that of a Thing Model, in JSON or YAML.
func IsModel(p string) bool {
	return strings.HasSuffix(p, ".tm.json") || strings.HasSuffix(p, ".tm.jsonld") || strings.HasSuffix(p, ".tm.yaml") || strings.HasSuffix(p, ".tm.yml")
}

// IsPart reports whether a path may be that of a file which models refer to, and
// that is no model of the folder itself.
func IsPart(p string) bool {
	return !IsModel(p) && (strings.HasSuffix(p, ".json") || strings.HasSuffix(p, ".jsonld"))
}

// IsRule reports whether a path is that of a rule.
func IsRule(p string) bool {
	return !IsModel(p) && !IsExamples(p) && (strings.HasSuffix(p, ".yaml") || strings.HasSuffix(p, ".yml")) &&
		path.Base(path.Dir(p)) == "rules"
}

// IsExamples reports whether a path is that of the examples beside a model.
func IsExamples(p string) bool {
	return strings.HasSuffix(p, ".examples.yaml") || strings.HasSuffix(p, ".examples.yml")
}

// Finder leads from a model to the others of a fleet folder, by their paths
// below it: links count from the file they stand in, and of one that leads
// elsewhere the last name is looked for in the whole folder. Files in YAML are
// turned into JSON.
func Finder(files map[string][]byte, asking string) model.Finder {
	return func(href, from string) ([]byte, string, bool) {
		if from == "" {
			from = asking
		}
		at := path.Join(path.Dir(from), href)
		src, ok := files[at]
		if !ok || strings.Contains(href, "://") {
			at = path.Join(path.Dir(from), path.Base(href)) // beside it, before anywhere else
			src, ok = files[at]
		}
		if !ok {
			for _, p := range slices.Sorted(maps.Keys(files)) {
				if path.Base(p) == path.Base(href) {
					at, src, ok = p, files[p], true
					break
				}
			}
		}
		if ok && !strings.HasSuffix(at, "json") && !strings.HasSuffix(at, ".jsonld") {
			var err error
			if src, err = model.FromYAML(src); err != nil {
				return []byte("{"), at, true // its own check says what is wrong
			}
		}
		return src, at, ok
	}
}

// Folder checks what is in a fleet folder, each alone and against the others.
// Files that do not belong to it are left alone, and told where they look as if they did.
func Folder(files []File) Report {
	c := &folder{report: Report{Findings: []Finding{}}, models: map[string]*model.Model{}, modelAt: map[string]string{},
		ruleAt: map[string]string{}, siteAt: map[string]string{}, broken: map[string]bool{}}
	files = slices.Clone(files)
	c.files = map[string][]byte{}
	for _, f := range files {
		if IsModel(f.Path) || IsPart(f.Path) {
			c.files[f.Path] = f.Data
		}
	}
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	for _, f := range files {
		if IsModel(f.Path) {
			c.model(f)
		}
	}
	for _, f := range files {
		if IsRule(f.Path) {
			c.rule(f)
		}
		if IsSite(f.Path) {
			c.site(f, files)
		}
		if IsLayer(f.Path) {
			c.layer(f)
		}
		if IsBoard(f.Path) {
			c.board(f)
		}
		if why := Overlooked(f.Path); why != "" {
			c.add(f.Path, place{1, 1}, "warning", "file", "", "%s", why)
		}
	}
	for _, f := range files {
		if IsLayerOrder(f.Path) {
			c.layerOrder(f)
		}
	}
	c.against()
	c.boardsAgainst()
	for _, f := range files {
		if IsExamples(f.Path) {
			c.examples(f)
		}
	}
	slices.SortStableFunc(c.report.Findings, func(a, b Finding) int {
		if d := strings.Compare(a.File, b.File); d != 0 {
			return d
		}
		return (a.Line-b.Line)*10000 + a.Column - b.Column
	})
	return c.report
}

type folder struct {
	files   map[string][]byte // of models
	report  Report
	models  map[string]*model.Model
	modelAt map[string]string
	broken  map[string]bool // models that are there and wrong
	rules   []ruleFile
	ruleAt  map[string]string
	siteAt  map[string]string
	layers  []layerFile
	boards  []boardFile
}

type ruleFile struct {
	file File
	doc  document
	rule *rule.Rule
}

func (c *folder) add(file string, at place, severity, kind, suggest, format string, args ...any) {
	c.report.Findings = append(c.report.Findings, Finding{File: file, Line: max(at.line, 1), Column: max(at.column, 1),
		Severity: severity, Kind: kind, Sentence: fmt.Sprintf(format, args...), Suggest: suggest})
}

var nameInside = regexp.MustCompile(`"?ullage:name"?\s*:\s*"?([a-z0-9][a-z0-9-]{0,62})`)

// told finds a place that a sentence of a parser begins with.
var told = regexp.MustCompile(`^(?:line (\d+), column (\d+): |line (\d+): |\[(\d+):(\d+)\] )`)

func takePlace(sentence string, or place) (string, place) {
	m := told.FindStringSubmatch(sentence)
	if m == nil {
		return sentence, or
	}
	number := func(s ...string) int {
		for _, x := range s {
			if n, err := strconv.Atoi(x); err == nil {
				return n
			}
		}
		return 1
	}
	rest, _, _ := strings.Cut(sentence[len(m[0]):], "\n")
	return rest, place{number(m[1], m[3], m[4]), number(m[2], m[5])}
}

func (c *folder) model(f File) {
	c.report.Models++
	src := f.Data
	where := func(pointer string) place { return inJSON(f.Data, pointer) }
	if !strings.HasSuffix(f.Path, ".json") && !strings.HasSuffix(f.Path, ".jsonld") {
		doc := parseYAML(f.Data)
		where = doc.place
		var err error
		if src, err = model.FromYAML(f.Data); err != nil {
			c.modelFindings(f, err, where)
			return
		}
	}
	m, err := model.Read(src, Finder(c.files, f.Path))
	if err != nil {
		if name := nameInside.FindSubmatch(f.Data); name != nil {
			c.broken[string(name[1])] = true
		}
		c.modelFindings(f, err, where)
		return
	}
	for _, w := range m.Warnings {
		c.add(f.Path, where(w.Pointer), "warning", "model", "", "%s", w.Sentence)
	}
	c.derived(f, m, where)
	if other, twice := c.modelAt[m.Name]; twice {
		c.add(f.Path, where("/ullage:name"), "error", "reference", "",
			"%s is described in %s already; one file a model", m.Name, other)
		return
	}
	c.models[m.Name], c.modelAt[m.Name] = m, f.Path
}

func (c *folder) modelFindings(f File, err error, where func(string) place) {
	var wrong model.Findings
	if !errors.As(err, &wrong) {
		wrong = model.Findings{{Sentence: err.Error()}}
	}
	for _, w := range wrong {
		sentence, at := takePlace(w.Sentence, where(w.Pointer))
		c.add(f.Path, at, "error", "model", "", "%s", sentence)
	}
}

func (c *folder) rule(f File) {
	c.report.Rules++
	doc := parseYAML(f.Data)
	r, err := rule.Read(f.Data)
	if err != nil {
		loose, wrong, no := rule.Loose(f.Data)
		if no != nil || len(wrong) == 0 {
			c.ruleError(f, doc, err)
			return
		}
		c.ruleError(f, doc, wrong)
		r = loose // the rest of its mistakes are told too
	}
	if other, twice := c.ruleAt[r.Name]; twice && r.Name != "" {
		c.add(f.Path, doc.place("/rule"), "error", "reference", "", "%s is written in %s already; one file a rule",
			r.Name, other)
		return
	}
	c.ruleAt[r.Name] = f.Path
	c.rules = append(c.rules, ruleFile{f, doc, r})
}

func (c *folder) ruleError(f File, doc document, err error) {
	var all rule.Errors
	if !errors.As(err, &all) {
		at := place{1, 1}
		for _, key := range []string{"/on_delay", "/off_delay"} { // the decoder does not say which
			if n := doc.find(key); n != nil && n != doc.root &&
				strings.HasPrefix(err.Error(), strconv.Quote(n.GetToken().Value)+" ") {
				at = doc.place(key)
			}
		}
		sentence, at := takePlace(err.Error(), at)
		c.add(f.Path, at, "error", "rule", "", "%s", sentence)
		return
	}
	for _, wrong := range all {
		pointer := ""
		if wrong.Key != "" {
			pointer = "/" + wrong.Key
		}
		if wrong.Sentence != "" {
			c.add(f.Path, doc.place(pointer), "error", "rule", "", "%s", wrong.Sentence)
			continue
		}
		for _, x := range wrong.Findings {
			c.expression(f, doc, pointer, wrong.Piece, x)
		}
	}
}

// expression reports a finding of an expression at its place in the file.
func (c *folder) expression(f File, doc document, pointer, piece string, x expr.Finding) {
	text, column := "", x.Column
	if n := doc.find(pointer); n != nil {
		text = n.GetToken().Value
	}
	if piece != "" {
		if i := strings.Index(text, "{"+piece+"}"); i >= 0 {
			column += utf8.RuneCountInString(text[:i]) + 1
		}
	}
	if x.Line > 1 {
		column = 0
	}
	severity := "error"
	if x.Warning {
		severity = "warning"
	}
	c.add(f.Path, doc.within(pointer, text, column), severity, "expression", x.Suggest, "%s: %s",
		strings.TrimPrefix(pointer, "/"), x.Sentence)
}

// labels are the values of labels that the folder itself knows: its sites.
func (c *folder) labels() map[string][]string {
	if len(c.siteAt) == 0 {
		return nil
	}
	return map[string][]string{"site": slices.Sorted(maps.Keys(c.siteAt))}
}

// against checks the rules against the models and against each other.
func (c *folder) against() {
	var names []string
	var all []*rule.Rule
	for _, r := range c.rules {
		names = append(names, r.rule.Name)
		all = append(all, r.rule)
	}
	for _, r := range c.rules {
		var of []*model.Model
		for i, name := range r.rule.Models {
			m := c.models[name]
			if m == nil {
				if !c.broken[name] {
					at := r.doc.place(fmt.Sprintf("/models/%d", i))
					near := value.Nearest(name, c.modelNames())
					hint := ""
					if near != "" {
						hint = "; did you mean " + near + "?"
					}
					c.add(r.file.Path, at, "error", "reference", near, "there is no model %s in this folder%s", name,
						hint)
				}
				continue
			}
			of = append(of, m)
		}
		around := Around{Rules: names, Labels: c.labels()}
		if len(of) == 0 { // nothing to check it against but itself
			if err := r.rule.Check(); err != nil {
				c.ruleError(r.file, r.doc, err)
			}
			continue
		}
		if r.rule.Each != "" {
			if len(of) == len(r.rule.Models) {
				_, compiled, err := GroupRule(r.rule, of, around)
				c.compiled(r, compiled, err)
			}
			continue
		}
		seen := map[string]bool{} // the same mistake for several models is told once
		for _, m := range of {
			compiled, err := r.rule.For(expr.NewPlan(around.With(Schema(m))))
			key := ""
			if err != nil {
				key = err.Error()
			}
			if !seen[key] {
				seen[key] = true
				c.compiled(r, compiled, err)
			}
		}
	}
	models := make([]*model.Model, 0, len(c.models))
	for _, name := range c.modelNames() {
		if m := c.models[name]; m != nil {
			models = append(models, m)
		}
	}
	for _, r := range c.rules {
		if len(r.rule.Responses) == 0 || len(models) == 0 || len(c.broken) > 0 || r.rule.Check() != nil {
			continue
		}
		if err := Responses(r.rule, models, Around{Rules: names, Labels: c.labels()}); err != nil {
			c.ruleError(r.file, r.doc, err)
		}
	}
	c.layersAgainst(models, all, names)
	if loop := Loop(all, nil, models); loop != "" {
		for _, r := range c.rules {
			if len(r.rule.Responses) > 0 && strings.HasPrefix(loop, r.rule.Name+" ") {
				c.add(r.file.Path, r.doc.place("/responses"), "error", "reference", "", "it would raise and return by what it does itself: %s", loop)
			}
		}
	}
	if circle := Cycle(all); circle != nil {
		for _, r := range c.rules {
			if r.rule.Name == circle[0] {
				c.add(r.file.Path, r.doc.place("/raise"), "error", "reference", "",
					"rules ask about each other in a circle: %s", strings.Join(circle, " asks "))
			}
		}
	}
}

func (c *folder) compiled(r ruleFile, compiled *rule.Compiled, err error) {
	if err != nil {
		c.ruleError(r.file, r.doc, err)
		return
	}
	for _, w := range compiled.Warnings {
		if w.Sentence != "" {
			c.add(r.file.Path, r.doc.place("/"+w.Key), "warning", "rule", "", "%s", w.Sentence)
		}
		for _, x := range w.Findings {
			c.expression(r.file, r.doc, "/"+w.Key, w.Piece, x)
		}
	}
}

func (c *folder) modelNames() []string {
	var out []string
	for n := range c.models {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

// NameInside returns the name that a model's file says it has, "" where it does
// not say.
func NameInside(src []byte) string {
	if m := nameInside.FindSubmatch(src); m != nil {
		return string(m[1])
	}
	return ""
}

// Text checks one model that is being written, with its places. Read reads it,
// in JSON. The model is nil while it is wrong.
func Text(f File, read func(src []byte) (*model.Model, error)) (*model.Model, []Finding) {
	c := &folder{report: Report{Findings: []Finding{}}, broken: map[string]bool{}}
	src := f.Data
	where := func(pointer string) place { return inJSON(f.Data, pointer) }
	var err error
	if !strings.HasSuffix(f.Path, ".json") {
		where = parseYAML(f.Data).place
		if src, err = model.FromYAML(f.Data); err != nil {
			c.modelFindings(f, err, where)
			return nil, c.report.Findings
		}
	}
	m, err := read(src)
	if err != nil {
		c.modelFindings(f, err, where)
		return nil, c.report.Findings
	}
	for _, w := range m.Warnings {
		c.add(f.Path, where(w.Pointer), "warning", "model", "", "%s", w.Sentence)
	}
	c.derived(f, m, where)
	if c.report.Errors() > 0 {
		return nil, c.report.Findings
	}
	return m, c.report.Findings
}
